"""Copies of a workshop: made while it is in use, checked before they are trusted, and brought back."""

import json
import shutil
import sqlite3
import tempfile
import zipfile
from contextlib import closing
from datetime import UTC, datetime
from importlib.resources import files
from pathlib import Path
from typing import Literal

from pydantic import AwareDatetime, BaseModel, ValidationError

FORMAT: Literal["ivory-table-copy"] = "ivory-table-copy"
DATABASE, MANIFEST = "workshop.db", "copy.json"
#: So many daily copies are kept.
KEPT = 14
#: What a workshop's own files may add up to when a copy is brought back: more is no copy of ours.
MOST_BYTES = 8_000_000_000


class BadCopy(ValueError):
    """Why a file is no copy that can be used; the sentence says what would do."""


class Manifest(BaseModel):
    """What stands in a copy beside the database."""

    format: Literal["ivory-table-copy"] = FORMAT
    version: int = 1
    made_at: AwareDatetime
    #: The newest migration of its database.
    migration: str
    runs: int


def backup(data: Path, to: Path) -> Manifest:
    """A copy of everything in a workshop's folder that cannot be had again, at `to`; others go on writing meanwhile."""
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder) / DATABASE
        with closing(sqlite3.connect(data / DATABASE)) as of, closing(sqlite3.connect(copy)) as into:
            # In steps, so that whoever writes never waits for all of it.
            of.backup(into, pages=512, sleep=0.005)
        manifest = _looked_at(copy)
        part = to.with_name(to.name + ".part")
        part.parent.mkdir(parents=True, exist_ok=True)
        with zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED) as out:
            out.write(copy, DATABASE)
            for manner in sorted((data / "manners").glob("*.toml")) if (data / "manners").is_dir() else ():
                out.write(manner, f"manners/{manner.name}")
            out.writestr(MANIFEST, manifest.model_dump_json(indent=1))
        # All of it or nothing: a copy that was cut off is not taken for one.
        part.replace(to)
    return manifest


def _looked_at(database: Path) -> Manifest:
    """What a database holds. Raises BadCopy where it is broken, or was written by a newer version."""
    try:
        with closing(sqlite3.connect(f"file:{database}?mode=ro", uri=True)) as db:
            if db.execute("PRAGMA integrity_check").fetchone()[0] != "ok":
                raise BadCopy("The database in it is damaged. Take another copy.")
            done = [name for (name,) in db.execute("SELECT name FROM migratehistory ORDER BY id")]
            runs = db.execute("SELECT count(*) FROM run").fetchone()[0]
    except sqlite3.DatabaseError as wrong:
        raise BadCopy(f"There is no workshop in it that can be read ({wrong}).") from None
    known = {f.name.removesuffix(".py") for f in files("ivory_table.store").joinpath("migrations").iterdir()}
    if ahead := [name for name in done if name not in known]:
        raise BadCopy(
            f"It was written by a newer Ivory Table ({', '.join(ahead)}). Install that one, then bring it back."
        )
    return Manifest(made_at=datetime.now(UTC), migration=done[-1] if done else "", runs=runs)


def restore(copy: Path, data: Path, *, replace: bool = False) -> tuple[Manifest, Path | None]:
    """Bring a copy back into a folder; what was there before is put aside, and its name returned.

    Raises BadCopy for what is no copy, is damaged or newer, or where there is a workshop already and `replace` is not given.
    """
    there = data / DATABASE
    if there.exists() and not replace:
        raise BadCopy(
            f"There is a workshop in {data} already. Say --replace to put it aside, or give another folder with --data."
        )
    data.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=data) as folder:
        opened = Path(folder)
        manifest = _opened(copy, opened)
        _looked_at(opened / DATABASE)
        aside = None
        if there.exists():
            aside = data / f"before-{datetime.now(UTC):%Y%m%d-%H%M%S}"
            aside.mkdir()
            for name in (DATABASE, f"{DATABASE}-wal", f"{DATABASE}-shm", "manners"):
                if (data / name).exists():
                    (data / name).replace(aside / name)
        (opened / DATABASE).replace(there)
        if (opened / "manners").is_dir():
            shutil.copytree(opened / "manners", data / "manners", dirs_exist_ok=True)
    return manifest, aside


def _opened(copy: Path, into: Path) -> Manifest:
    try:
        with zipfile.ZipFile(copy) as packed:
            if sum(info.file_size for info in packed.infolist()) > MOST_BYTES:
                raise BadCopy("This file unpacks to more than any workshop has. Is it the right one?")
            manifest = Manifest.model_validate(json.loads(packed.read(MANIFEST)))
            packed.extract(DATABASE, into)
            for name in packed.namelist():
                # Nothing is written anywhere else, whatever stands in the file.
                if name.startswith("manners/") and name.endswith(".toml") and "/" not in name[8:] and ".." not in name:
                    packed.extract(name, into)
    except FileNotFoundError:
        raise BadCopy(f"There is no file {copy}.") from None
    except (zipfile.BadZipFile, KeyError, json.JSONDecodeError, ValidationError, OSError, EOFError):
        raise BadCopy(f"{copy.name} is no copy of a workshop, or it is damaged.") from None
    if manifest.version > 1:
        raise BadCopy("This copy was made by a newer Ivory Table. Install that one, then bring it back.")
    return manifest


def name_of(at: datetime) -> str:
    return f"ivory-table-{at:%Y-%m-%d}.zip"


def daily(data: Path, now: datetime, kept: int = KEPT) -> Path | None:
    """Today's copy in the folder `copies`, where there is none yet; older ones beyond the last `kept` go."""
    folder = data / "copies"
    to = folder / name_of(now)
    if to.exists():
        return None
    backup(data, to)
    for old in sorted(folder.glob("ivory-table-*.zip"))[:-kept]:
        old.unlink()
    return to


def copies(data: Path) -> tuple[Path, ...]:
    """The daily copies there are, newest first."""
    return tuple(sorted((data / "copies").glob("ivory-table-*.zip"), reverse=True))
