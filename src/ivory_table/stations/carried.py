"""Everything of a workshop, or of one machine, as one file of JSON parts; brought elsewhere it is added to what is there."""

import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import TypeVar

from pydantic import BaseModel, ValidationError

from ivory_table.core.teach.teaching import Teaching
from ivory_table.core.value import Id, Value
from ivory_table.desk.bring import import_run
from ivory_table.runs.doubts import Refused
from ivory_table.runs.entry import RunFile
from ivory_table.runs.log import LogEntry
from ivory_table.store.finding import each_run
from ivory_table.store.trouble import Clash, Unreadable
from ivory_table.store.workshop import Workshop

from .setup import Brought, SetupFile, bring, setup_file

SETUP, LOGBOOK = "setup.json", "logbook.json"
#: One part of a file; a run of five thousand rows stays below it.
MOST_PART_BYTES = 16_000_000
MOST_PARTS = 200_000
#: So many sentences about what could not be brought are told.
MOST_TOLD = 40

_V = TypeVar("_V", bound=BaseModel)


class LogbookFile(Value):
    entries: tuple[LogEntry, ...]


class BroughtAll(Value):
    """What bringing a workshop did. Nothing that was here is changed; the same run never comes twice."""

    setup: Brought
    runs_new: int
    runs_same: int
    log_new: int
    manners_new: tuple[Id, ...]
    #: What could not be brought, in sentences; the rest came all the same.
    left_out: tuple[str, ...]


def carry(workshop: Workshop, to: Path, machine_id: str | None = None) -> int:
    """Write everything, or all of one machine, to a zip file; how many runs went along."""
    machines = [workshop.machine(machine_id)] if machine_id else list(workshop.machines())
    setup = setup_file(workshop, None)
    if machine_id:
        setup = setup.model_copy(update={"machines": tuple(machines)})
    runs = 0
    with zipfile.ZipFile(to, "w", zipfile.ZIP_DEFLATED) as out:
        out.writestr(SETUP, setup.model_dump_json(indent=1))
        for run_id in each_run(machine_id):
            try:
                file = RunFile(setup=workshop.run(run_id), entries=workshop.entries(run_id))
            except Unreadable:
                continue  # a copy of the database carries it
            out.writestr(f"runs/{run_id}.json", file.model_dump_json())
            runs += 1
        entries = workshop.log(machine_id)
        out.writestr(LOGBOOK, LogbookFile(entries=entries).model_dump_json(indent=1))
        wanted = {m.manner for m in machines}
        for manner_id in workshop.teachings.ids():
            teaching = workshop.teachings.get(manner_id)
            if teaching is not None and (machine_id is None or manner_id in wanted):
                out.writestr(f"manners/{manner_id}.json", teaching.model_dump_json(exclude_defaults=True))
    return runs


def bring_all(workshop: Workshop, file: Path, by: str) -> BroughtAll:
    """Add what a file holds to what is here. Raises Refused for a file that is none of ours."""
    try:
        packed = zipfile.ZipFile(file)
    except (zipfile.BadZipFile, OSError):
        raise Refused("other_file", "This is no file that was carried away from an Ivory Table.", "file") from None
    told: list[str] = []
    with packed:
        names = packed.namelist()
        if SETUP not in names or len(names) > MOST_PARTS:
            raise Refused("other_file", "This is no file that was carried away from an Ivory Table.", "file")
        setup = _part(packed, SETUP, SetupFile, told)
        brought = bring(workshop, setup) if setup else Brought(new=(), same=(), left_alone=())
        manners = tuple(_manners(workshop, packed, by, told))
        new, same = _runs(workshop, packed, told)
        logbook = _part(packed, LOGBOOK, LogbookFile, told) if LOGBOOK in names else None
        here = {entry.id for entry in workshop.log()}
        fresh = [entry for entry in logbook.entries if entry.id not in here] if logbook else []
        for entry in fresh:
            workshop.keep_log(entry)
    more = len(told) - MOST_TOLD
    return BroughtAll(
        setup=brought,
        runs_new=new,
        runs_same=same,
        log_new=len(fresh),
        manners_new=manners,
        left_out=(*told[:MOST_TOLD], *([f"and {more} more"] if more > 0 else [])),
    )


def _runs(workshop: Workshop, packed: zipfile.ZipFile, told: list[str]) -> tuple[int, int]:
    """How many runs were new, and how many were here already."""
    new = same = 0
    # Oldest first, as they came to be.
    files = (_part(packed, name, RunFile, told) for name in packed.namelist() if name.startswith("runs/"))
    for file in files:
        if file is None:
            continue
        try:
            if import_run(workshop, file):
                new += 1
            else:
                same += 1
        except (Refused, Clash) as wrong:
            told.append(f"Run '{file.setup.id}': {wrong}")
    return new, same


def _manners(workshop: Workshop, packed: zipfile.ZipFile, by: str, told: list[str]) -> Iterator[str]:
    """Manners that are not here yet; one that is taught here already is left as it is."""
    for name in packed.namelist():
        if not name.startswith("manners/"):
            continue
        teaching = _part(packed, name, Teaching, told)
        if teaching is None:
            continue
        if workshop.teachings.versions(teaching.id):
            if workshop.teachings.get(teaching.id) != teaching:
                told.append(f"Manner '{teaching.id}' is taught otherwise here, and stays as it is.")
            continue
        workshop.teachings.keep(teaching, 0, by, "brought from another installation")
        yield teaching.id


def _part(packed: zipfile.ZipFile, name: str, model: type[_V], told: list[str]) -> _V | None:
    """One part, read; None and a sentence where it cannot be."""
    try:
        if packed.getinfo(name).file_size > MOST_PART_BYTES:
            told.append(f"{name} is larger than anything of ours.")
            return None
        with packed.open(name) as part:
            # Whatever its head says, no more than that is unpacked.
            body = part.read(MOST_PART_BYTES + 1)
        return model.model_validate_json(body)
    except (ValidationError, zipfile.BadZipFile, OSError, EOFError, NotImplementedError, RuntimeError) as wrong:
        told.append(f"{name} cannot be read: {_short(wrong)}")
        return None


def _short(wrong: Exception) -> str:
    if isinstance(wrong, ValidationError):
        first = wrong.errors(include_url=False, include_input=False)[0]
        return f"{'.'.join(str(p) for p in first['loc'])}: {first['msg']}"
    return str(wrong)
