"""Sign off: what was found, changed and set; and the run as a file."""

import csv
import io
from typing import Literal

from ivory_table.core.changes import change as known_change
from ivory_table.core.entries import RUN_VERSION, Counted, Entry, RunFile, WalkCount, Walked, kept
from ivory_table.core.offset import StoredChange, change, convention
from ivory_table.core.plate import Machine
from ivory_table.core.run import RunState
from ivory_table.core.value import Value
from ivory_table.store.workshop import Workshop

from .desk import OpenRun, Refused
from .head import Caution, RunHead, cautions, head_of, words_for
from .mesh import first_sentence
from .sheet import Figure, Sheet, height_field, sheet_of, signed


class Line(Value):
    """One line of the record: what, as found, as left."""

    name: str
    before: str
    after: str


class SignOffView(Value):
    head: RunHead
    sheet: Sheet
    cautions: tuple[Caution, ...]
    step: Literal["open", "signed"]
    lines: tuple[Line, ...]
    offset: StoredChange | None
    skipped: tuple[str, ...]
    missing: tuple[str, ...]
    look_again: str
    note: str


def view(run: OpenRun) -> SignOffView:
    state, setup = run.state, run.setup
    how = convention(setup.machine.convention)
    offset = None
    if state.offset_changes:
        first, last = state.offset_changes[0][0], state.offset_changes[-1][1]
        offset = change(first, last, how)
    field = height_field(
        state, after_mesh=state.mesh_on, level_mm=None, tol_mm=state.tol_mm, against="the common height"
    )
    head = head_of(run)
    missing = [line.name for line in head.stations if line.state in ("open", "begun") and line.station != "sign_off"]
    if state.readback_due:
        missing.append("Z offset readback")
    return SignOffView(
        head=head,
        sheet=sheet_of(
            state,
            field,
            figures=(
                Figure(name="Spread", value=f"{state.belief.spread()[0]:.2f}", unit="mm"),
                Figure(name="Stored", value=signed(state.stored_mm, 3), unit="mm"),
            ),
        ),
        cautions=cautions(run, "sign_off"),
        step="signed" if state.signed_off else "open",
        lines=_lines(run),
        offset=offset,
        skipped=tuple(line.name for line in head.stations if line.state == "skipped"),
        missing=tuple(missing),
        look_again="after any change of plate, nozzle, spring, probe or firmware; and when the first layer changes its look",
        note=state.signed_off.note if state.signed_off else "",
    )


def _lines(run: OpenRun) -> tuple[Line, ...]:
    state = run.state
    out = []
    if state.stops:
        found = _found_spread(run)
        spread, give = state.belief.spread()
        out.append(Line(name="Spread at the screws", before=found, after=f"{spread:.2f} ± {give:.2f} mm"))
        out.append(Line(name="Stops", before="", after=str(len(state.stops))))
    if state.offset_changes:
        out.append(
            Line(name="Z offset stored", before=signed(state.offset_changes[0][0], 3), after=signed(state.stored_mm, 3))
        )
    if state.mesh:
        kind = "felt by hand" if state.mesh.owns_zero else "probed"
        size = f"{len(state.mesh.grid.xs_mm)} x {len(state.mesh.grid.ys_mm)}, {kind}"
        out.append(Line(name="Mesh", before="", after=size + (", in use" if state.mesh_on else ", off")))
    for number, proof in enumerate(state.proofs, 1):
        sound = sum(1 for m in proof.marks.values() if m.grade == "sound")
        out.append(Line(name=f"Proof {number}", before="", after=f"{sound} of {len(proof.plan.zones)} zones sound"))
    return tuple(out)


def _found_spread(run: OpenRun) -> str:
    """How crooked the plate was: what is now believed, with the turns since taken back out."""
    screws = run.state.screws
    firsts: dict[str, float] = {}
    for entry in kept(run.entries):
        counts = entry.what.counts if isinstance(entry.what, Walked) else (entry.what,)
        for count in counts:
            if isinstance(count, Counted | WalkCount):
                firsts.setdefault(count.screw, count.marks)
    if len(firsts) < len(screws):
        return ""
    up = [firsts[s.name] * s.mm_per_mark * s.sense for s in screws]
    return f"about {max(up) - min(up):.2f} mm"


def run_file(run: OpenRun) -> RunFile:
    """The whole run, to be read by another installation."""
    return RunFile(setup=run.setup, entries=run.entries)


def import_run(workshop: Workshop, file: RunFile) -> bool:
    """Keep a run from elsewhere, after replaying it. False when the very same is here already."""
    if file.version != RUN_VERSION:
        raise Refused(
            "other_version",
            f"This file is of version {file.version}; this Ivory Table reads version {RUN_VERSION}. Export it again there.",
            "version",
        )
    if [e.seq for e in file.entries] != list(range(1, len(file.entries) + 1)):
        raise Refused("rows_missing", "Rows are missing or out of order in this file. Export it again.", "entries")
    if len({e.id for e in file.entries}) < len(file.entries):
        raise Refused("rows_twice", "A row stands twice in this file. Export it again.", "entries")
    try:
        for told in file.setup.changes:
            known_change(told)
        state = RunState.start(file.setup)
    except ValueError as wrong:
        raise Refused("cannot_replay", f"Its set-up cannot be true: {first_sentence(wrong)}", "setup") from None
    try:
        for entry in kept(file.entries):
            state = state.apply(entry)
    except ValueError as wrong:
        raise Refused("cannot_replay", f"Row {entry.seq} cannot be true: {first_sentence(wrong)}", "entries") from None
    return workshop.import_run(file)


def readings_csv(run: OpenRun) -> str:
    """Every kept row as CSV: when, by whom, from where, what."""
    out = io.StringIO()
    table = csv.writer(out)
    table.writerow(["seq", "at", "by", "source", "station", "kind", "words", "taken_back"])
    alive = {e.id for e in kept(run.entries)}
    for e in run.entries:
        table.writerow([*_row(e, run.setup.machine), "" if e.id in alive else "yes"])
    return out.getvalue()


def _row(e: Entry, machine: Machine) -> list[object]:
    return [e.seq, e.at.isoformat(), _plain(e.by), e.source, e.station, e.what.kind, _plain(words_for(e, machine))]


def _plain(text: str) -> str:
    """A cell that no spreadsheet takes for a formula."""
    return "'" + text if text[:1] in "=+-@" else text


def mesh_csv(run: OpenRun) -> str:
    """The kept mesh with headings in mm, front row first."""
    mesh = run.state.mesh
    if mesh is None:
        raise Refused("no_mesh", "No mesh was kept in this run.")
    out = io.StringIO()
    table = csv.writer(out)
    table.writerow(["", *mesh.grid.xs_mm])
    for y, row in zip(mesh.grid.ys_mm, mesh.heights_mm, strict=True):
        table.writerow([y, *row])
    return out.getvalue()
