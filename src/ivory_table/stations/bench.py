"""The bench: all machines, the state of each in one line, and what a run can be started with."""

import logging
from datetime import datetime

from ivory_table.core.entries import RunSetup
from ivory_table.core.gauge import Gauge
from ivory_table.core.offset import convention
from ivory_table.core.plate import Filament, Machine
from ivory_table.core.value import Value

from .desk import Desk
from .head import station_lines


class RunLine(Value):
    id: str
    machine_id: str
    machine_name: str
    plate_name: str
    filament_name: str
    initials: str
    started_at: datetime
    signed_off: bool
    words: str


class MachineLine(Value):
    machine: Machine
    convention_name: str
    convention_rule: str
    words: str
    open_run: RunLine | None
    last_run: RunLine | None


class Signer(Value):
    """Somebody who can sign a run."""

    name: str
    initials: str


class BenchView(Value):
    machines: tuple[MachineLine, ...]
    gauges: tuple[Gauge, ...]
    filaments: tuple[Filament, ...]
    people: tuple[Signer, ...]
    runs: tuple[RunLine, ...]


def view(desk: Desk) -> BenchView:
    workshop = desk.workshop
    lines: list[MachineLine] = []
    every: list[RunLine] = []
    for machine in (m for m in workshop.machines() if not m.retired):
        runs = [_readable(desk, setup) for setup in workshop.runs(machine.id)[:8]]
        every += runs
        how = convention(machine.convention)
        last = runs[0] if runs else None
        unfinished = next((r for r in runs if not r.signed_off), None)
        words = last.words if last else "no run yet"
        lines.append(
            MachineLine(
                machine=machine,
                convention_name=how.name,
                convention_rule=how.rule,
                words=words,
                open_run=unfinished,
                last_run=last,
            )
        )
    every.sort(key=lambda r: r.started_at, reverse=True)
    return BenchView(
        machines=tuple(lines),
        gauges=tuple(g for g in workshop.gauges() if not g.retired),
        filaments=tuple(f for f in workshop.filaments() if not f.retired),
        people=tuple(Signer(name=p.name, initials=p.initials) for p in workshop.people() if not p.retired),
        runs=tuple(every[:12]),
    )


def _readable(desk: Desk, setup: RunSetup) -> RunLine:
    """A run in one line; one that cannot be read says so and takes no other with it."""
    try:
        return run_line(desk, setup.id)
    except Exception as wrong:
        if not isinstance(wrong, ValueError):
            logging.getLogger("ivory_table").exception("run %s", setup.id)
        return _line(setup, signed_off=True, words="cannot be read by this version")


def run_line(desk: Desk, run_id: str) -> RunLine:
    run = desk.open(run_id)
    stations = station_lines(run)
    if run.state.signed_off:
        words = "signed off"
    elif run.entries:
        here = next(s for s in stations if s.station == run.entries[-1].station)
        words = f"at {here.name}: {here.figure}"
    else:
        words = "started, nothing kept yet"
    return _line(run.setup, signed_off=run.state.signed_off is not None, words=words)


def _line(setup: RunSetup, *, signed_off: bool, words: str) -> RunLine:
    return RunLine(
        id=setup.id,
        machine_id=setup.machine.id,
        machine_name=setup.machine.name,
        plate_name=setup.plate.name,
        filament_name=setup.filament.name,
        initials=setup.initials,
        started_at=setup.started_at,
        signed_off=signed_off,
        words=words,
    )
