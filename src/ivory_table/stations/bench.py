"""The bench: all machines, the state of each in one line, and what a run can be started with."""

from datetime import datetime

from ivory_table.core.gauge import Gauge
from ivory_table.core.offset import convention
from ivory_table.core.plate import Filament, Machine
from ivory_table.core.setup import RunSetup
from ivory_table.core.value import Value
from ivory_table.desk.desk import Desk
from ivory_table.runs.summary import Summary


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
    """Everything from what was kept with the runs: nothing is replayed."""
    workshop = desk.workshop
    lines: list[MachineLine] = []
    for machine in (m for m in workshop.machines() if not m.retired):
        runs = [_line(desk, *found) for found in workshop.recent(machine.id, 8)]
        how = convention(machine.convention)
        last = runs[0] if runs else None
        lines.append(
            MachineLine(
                machine=machine,
                convention_name=how.name,
                convention_rule=how.rule,
                words=last.words if last else "no run yet",
                open_run=next((r for r in runs if not r.signed_off), None),
                last_run=last,
            )
        )
    return BenchView(
        machines=tuple(lines),
        gauges=tuple(g for g in workshop.gauges() if not g.retired),
        filaments=tuple(f for f in workshop.filaments() if not f.retired),
        people=tuple(Signer(name=p.name, initials=p.initials) for p in workshop.people() if not p.retired),
        runs=tuple(_line(desk, *found) for found in workshop.recent()),
    )


def runs_of(desk: Desk, machine_id: str) -> tuple[RunLine, ...]:
    """Every run of a machine, newest first."""
    desk.workshop.machine(machine_id)
    return tuple(_line(desk, *found) for found in desk.workshop.recent(machine_id, MOST_RUNS))


#: A longer list is for the logbook.
MOST_RUNS = 400


def _line(desk: Desk, setup: RunSetup, summary: Summary | None) -> RunLine:
    """A run in one line; one that cannot be read says so and takes no other with it."""
    summary = summary or desk.summary(setup.id)
    return RunLine(
        id=setup.id,
        machine_id=setup.machine.id,
        machine_name=setup.machine.name,
        plate_name=setup.plate.name,
        filament_name=setup.filament.name,
        initials=setup.initials,
        started_at=setup.started_at,
        signed_off=summary is None or summary.signed_off,
        words=summary.words if summary else "cannot be read by this version",
    )
