"""Where manners come from: the workshop's own folder, what was taught here, what came with the application."""

from collections.abc import Callable
from pathlib import Path

from ivory_table.core.manner import SHIPPED, Manner, read_manner, shipped
from ivory_table.core.plate import UNTAUGHT
from ivory_table.core.teach.teaching import Teaching


class Manners:
    """Manners by id: a file of the workshop's own folder hides one that was taught, and that a shipped one.

    `taught` finds what was taught here; `all_taught` its ids.
    """

    def __init__(
        self,
        folder: Path | None = None,
        taught: Callable[[str], Teaching | None] = lambda _: None,
        all_taught: Callable[[], tuple[str, ...]] = tuple,
    ) -> None:
        self.folder, self.taught, self._all_taught = folder, taught, all_taught

    def files(self) -> tuple[str, ...]:
        """The ids of the workshop's own files."""
        return tuple(sorted(f.stem for f in self.folder.glob("*.toml"))) if self.folder and self.folder.is_dir() else ()

    def names(self) -> tuple[str, ...]:
        return tuple(dict.fromkeys([*SHIPPED, UNTAUGHT, *self._all_taught(), *self.files()]))

    def get(self, manner_id: str) -> Manner:
        """Raises ValueError that names the file and what is wrong in it."""
        file = self.folder / f"{manner_id}.toml" if self.folder else None
        if file is None or not file.is_file():
            found = self.taught(manner_id)
            return shipped(manner_id) if found is None else found.manner()
        try:
            read = read_manner(file.read_text("utf-8"))
        except (OSError, UnicodeDecodeError) as wrong:
            raise ValueError(f"The manner file {file.name} cannot be read: {wrong}.") from None
        except ValueError as wrong:
            raise ValueError(f"The manner file {file.name} has a mistake: {wrong}") from None
        if read.id != manner_id:
            raise ValueError(f"The manner file {file.name} says its id is '{read.id}'; both must be the same.")
        return read
