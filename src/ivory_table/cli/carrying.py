"""Carry a workshop away and bring it back: `backup`, `restore`, `export`, `import`."""

from pathlib import Path
from typing import Annotated

import typer

from ivory_table.cli.ending import SETTINGS, Data, ends, workshop_in
from ivory_table.runs.doubts import Refused
from ivory_table.stations import carried
from ivory_table.store import copies
from ivory_table.store.trouble import Unknown


def backup(
    file: Annotated[Path, typer.Argument(help="The copy to write, such as workshop.zip.")], data: Data = SETTINGS.data
) -> None:
    """Copy a workshop into one file, while it is in use or not."""
    if not (data / "workshop.db").is_file():
        ends(f"There is no workshop in {data}. Give its folder with --data.")
    try:
        made = copies.backup(data, file)
    except (copies.BadCopy, OSError) as wrong:
        ends(f"No copy was made: {wrong}")
    print(f"{file}: {made.runs} runs, checked.")


def restore(
    file: Annotated[Path, typer.Argument(help="A copy made by `backup`, or one of the folder `copies`.")],
    data: Data = SETTINGS.data,
    replace: Annotated[bool, typer.Option("--replace", help="Put a workshop that is there aside.")] = False,
) -> None:
    """Bring a copy back. The server must not be running."""
    try:
        found, aside = copies.restore(file, data, replace=replace)
    except copies.BadCopy as wrong:
        ends(str(wrong))
    except OSError as wrong:
        ends(f"It could not be written: {wrong.strerror}.")
    workshop_in(data).close()
    print(f"{data}: {found.runs} runs, as of {found.made_at:%Y-%m-%d %H:%M}.")
    if aside is not None:
        print(f"What was there before is in {aside}.")


def export_(
    file: Annotated[Path, typer.Argument(help="The file to write, such as workshop.zip.")],
    data: Data = SETTINGS.data,
    machine: Annotated[str | None, typer.Option(help="One machine alone, by its id.")] = None,
) -> None:
    """Carry set-up, runs, logbook and taught manners away as JSON in one file."""
    if not (data / "workshop.db").is_file():
        ends(f"There is no workshop in {data}. Give its folder with --data.")
    try:
        runs = carried.carry(workshop_in(data), file, machine)
    except Unknown as nobody:
        ends(str(nobody).strip("'\""))
    except OSError as wrong:
        ends(f"{file} cannot be written: {wrong.strerror}.")
    print(f"{file}: {runs} runs.")


def import_(
    file: Annotated[Path, typer.Argument(help="A file that `export` wrote, here or elsewhere.")],
    data: Data = SETTINGS.data,
) -> None:
    """Add what another workshop carried away; what is here stays, and no run comes twice."""
    if not file.is_file():
        ends(f"There is no file {file}.")
    try:
        found = carried.bring_all(workshop_in(data), file, "–")
    except Refused as wrong:
        ends(str(wrong))
    print(f"{found.runs_new} runs are new, {found.runs_same} were here already; {found.log_new} entries of logbooks.")
    for name in found.setup.left_alone:
        print(f"{name} differs here and was left as it is.")
    for sentence in found.left_out:
        print(sentence)
