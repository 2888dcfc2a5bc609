"""Where manners come from: the workshop's own folder first, then those that came with the application."""

from pathlib import Path

from ivory_table.core.manner import SHIPPED, Manner, read_manner, shipped


class Manners:
    """Manners by id. A file of the workshop's own folder hides a shipped one of the same name."""

    def __init__(self, folder: Path | None = None) -> None:
        self.folder = folder

    def names(self) -> tuple[str, ...]:
        own = sorted(f.stem for f in self.folder.glob("*.toml")) if self.folder and self.folder.is_dir() else []
        return tuple(dict.fromkeys([*SHIPPED, *own]))

    def get(self, manner_id: str) -> Manner:
        """Raises ValueError that names the file and what is wrong in it."""
        file = self.folder / f"{manner_id}.toml" if self.folder else None
        if file is None or not file.is_file():
            return shipped(manner_id)
        try:
            found = read_manner(file.read_text("utf-8"))
        except (OSError, UnicodeDecodeError) as wrong:
            raise ValueError(f"The manner file {file.name} cannot be read: {wrong}.") from None
        except ValueError as wrong:
            raise ValueError(f"The manner file {file.name} has a mistake: {wrong}") from None
        if found.id != manner_id:
            raise ValueError(f"The manner file {file.name} says its id is '{found.id}'; both must be the same.")
        return found
