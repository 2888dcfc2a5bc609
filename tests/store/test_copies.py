"""Copies of a workshop: exact, made while others write, refused when they cannot be trusted."""

import json
import sqlite3
import threading
import zipfile
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from typer.testing import CliRunner

from ivory_table.cli.app import app
from ivory_table.desk.desk import Desk, Keep, StartRun
from ivory_table.runs.common import WhereNoted
from ivory_table.store import copies
from ivory_table.store.copies import BadCopy, backup, daily, restore
from ivory_table.store.workshop import Workshop

START = {"machine_id": "heron", "plate_id": "heron-steel", "filament_id": "pla-white", "gauge_id": "copy-paper"}


def everything(file: Path) -> list[str]:
    with sqlite3.connect(file) as db:
        return list(db.iterdump())


def begun(desk: Desk, run: str) -> None:
    desk.start(StartRun(id=run, initials="mk", **START))
    desk.keep(run, "tram", Keep(id=f"{run}-1", seen_seq=0, what=WhereNoted(step="tram", line="as found")))
    desk.settled()


def test_a_copy_brought_back_is_the_same(desk: Desk, workshop: Workshop, tmp_path: Path) -> None:
    begun(desk, "one")
    (tmp_path / "manners").mkdir()
    (tmp_path / "manners" / "own.toml").write_text("x = 1")
    made = backup(tmp_path, tmp_path / "copy.zip")
    assert made.runs == 1
    found, aside = restore(tmp_path / "copy.zip", tmp_path / "elsewhere")
    assert (found.runs, aside) == (1, None)
    assert everything(tmp_path / "elsewhere" / "workshop.db") == everything(workshop.file)
    assert (tmp_path / "elsewhere" / "manners" / "own.toml").read_text() == "x = 1"
    again = Workshop(tmp_path / "elsewhere" / "workshop.db")
    assert [e.what.line for e in again.entries("one")] == ["as found"]
    again.close()


def test_others_write_while_a_copy_is_made_and_nothing_of_theirs_is_lost(desk: Desk, tmp_path: Path) -> None:
    stop, kept = threading.Event(), []

    def write() -> None:
        while not stop.is_set():
            run = f"r{len(kept)}"
            begun(desk, run)
            kept.append(run)

    writer = threading.Thread(target=write)
    writer.start()
    while len(kept) < 2:
        pass
    try:
        made = [backup(tmp_path, tmp_path / f"{k}.zip") for k in range(3)]
    finally:
        stop.set()
        writer.join()
    assert all(2 <= m.runs <= len(kept) + 1 for m in made)
    assert {r.id for r in desk.workshop.runs()} >= set(kept)
    restore(tmp_path / "2.zip", tmp_path / "back")
    back = Workshop(tmp_path / "back" / "workshop.db")
    # Every run in the copy is whole.
    for run in back.runs():
        assert len(back.entries(run.id)) <= 1
    back.close()


def test_what_is_there_is_put_aside_and_never_written_over(desk: Desk, workshop: Workshop, tmp_path: Path) -> None:
    begun(desk, "one")
    backup(tmp_path, tmp_path / "copy.zip")
    begun(desk, "two")
    before = everything(workshop.file)
    with pytest.raises(BadCopy, match="already"):
        restore(tmp_path / "copy.zip", tmp_path)
    assert everything(workshop.file) == before
    workshop.close()
    _, aside = restore(tmp_path / "copy.zip", tmp_path, replace=True)
    assert aside is not None
    assert everything(aside / "workshop.db") == before


@pytest.mark.parametrize(
    ("spoil", "said"),
    [
        (lambda f: f.unlink(), "no file"),
        (lambda f: f.write_bytes(b""), "no copy of a workshop"),
        (lambda f: f.write_bytes(f.read_bytes()[:2000]), "no copy of a workshop"),
        (lambda f: f.write_text("G28"), "no copy of a workshop"),
        (lambda f: _put(f, copies.DATABASE, b"not a database" * 100), "no workshop in it"),
        (lambda f: _put(f, copies.MANIFEST, b"{}"), "no copy of a workshop"),
        (lambda f: _newer(f), "newer Ivory Table"),
        (lambda f: _put(f, "manners/../../evil.toml", b"x"), None),
    ],
)
def test_a_copy_that_cannot_be_trusted_is_refused(spoil, said, desk: Desk, tmp_path: Path) -> None:
    begun(desk, "one")
    copy = tmp_path / "copy.zip"
    backup(tmp_path, copy)
    spoil(copy)
    to = tmp_path / "to" / "here"
    if said is None:
        restore(copy, to)
        assert not list(tmp_path.rglob("evil.toml"))
        return
    with pytest.raises(BadCopy, match=said):
        restore(copy, to)
    assert not (to / "workshop.db").exists()


def _put(copy: Path, name: str, body: bytes) -> None:
    with zipfile.ZipFile(copy) as old:
        there = {n: old.read(n) for n in old.namelist()}
    with zipfile.ZipFile(copy, "w") as out:
        for n, b in (there | {name: body}).items():
            out.writestr(n, b)


def _newer(copy: Path) -> None:
    with zipfile.ZipFile(copy) as old:
        body = json.loads(old.read(copies.MANIFEST)) | {"version": 2}
    _put(copy, copies.MANIFEST, json.dumps(body).encode())


def test_a_database_of_a_newer_version_is_refused(desk: Desk, workshop: Workshop, tmp_path: Path) -> None:
    with sqlite3.connect(workshop.file) as db:
        db.execute("INSERT INTO migratehistory (name, migrated_at) VALUES ('999_from_the_future', '2030-01-01')")
    with pytest.raises(BadCopy, match="999_from_the_future"):
        backup(tmp_path, tmp_path / "copy.zip")
    assert not (tmp_path / "copy.zip").exists()


def test_one_copy_a_day_and_the_last_of_them_stay(desk: Desk, tmp_path: Path) -> None:
    day = datetime(2026, 3, 2, tzinfo=UTC)
    for k in range(5):
        assert daily(tmp_path, day + timedelta(days=k), kept=3) is not None
        assert daily(tmp_path, day + timedelta(days=k), kept=3) is None
    assert [c.name for c in copies.copies(tmp_path)] == [f"ivory-table-2026-03-0{d}.zip" for d in (6, 5, 4)]


def test_by_command(desk: Desk, tmp_path: Path) -> None:
    begun(desk, "one")
    run = CliRunner()
    copy = str(tmp_path / "copy.zip")
    assert "1 runs, checked" in run.invoke(app, ["backup", copy, "--data", str(tmp_path)]).output
    assert run.invoke(app, ["backup", copy, "--data", str(tmp_path / "none")]).exit_code == 1
    refused = run.invoke(app, ["restore", copy, "--data", str(tmp_path)])
    assert refused.exit_code == 1
    assert "already" in refused.output
    done = run.invoke(app, ["restore", copy, "--data", str(tmp_path / "new")])
    assert done.exit_code == 0, done.output
