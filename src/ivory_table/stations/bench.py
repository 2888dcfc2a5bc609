"""The bench: all machines, the state of each in one line, and what a run can be started with."""

from datetime import UTC, datetime

from ivory_table.core.gauge import Gauge
from ivory_table.core.offset import convention
from ivory_table.core.plate import Filament, Machine
from ivory_table.core.value import Value
from ivory_table.desk.desk import Desk
from ivory_table.runs.summary import Summary
from ivory_table.stations.drifting import Marks, expected
from ivory_table.stations.first_use import KnobPlaces, known_places
from ivory_table.stations.lines import Lines


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


class Due(Value):
    """Whether a machine's first layer is still to be trusted, and when to look again."""

    p_today: float
    due_at: datetime | None
    words: str


class OnLine(Value):
    """What a machine's line is doing, for whoever looks from afar."""

    state: str
    words: str


class BeginWith(Value):
    """What a new run is of unless somebody chooses otherwise; empty where there is none to choose."""

    plate_id: str
    filament_id: str
    gauge_id: str


class MachineLine(Value):
    machine: Machine
    begin_with: BeginWith
    convention_name: str
    convention_rule: str
    words: str
    open_run: RunLine | None
    last_run: RunLine | None
    expected: Due | None
    #: None while nobody is on its line.
    on_line: OnLine | None


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
    #: Where knobs usually are: for the questions about a first machine.
    usual_knobs: tuple[KnobPlaces, ...]


def view(desk: Desk, lines: Lines | None = None) -> BenchView:
    """Everything from what was kept with the runs: nothing is replayed."""
    workshop = desk.workshop
    desk.catch_up(most=12)
    marks = workshop.marks()
    gauges = tuple(g for g in workshop.gauges() if not g.retired)
    filaments = tuple(f for f in workshop.filaments() if not f.retired)
    newest, unfinished = workshop.figures.newest_of_each(), workshop.figures.newest_of_each(unfinished=True)
    latest = max(newest.values(), key=lambda run: run.started_at, default=None)
    shown: list[MachineLine] = []
    for machine in (m for m in workshop.machines() if not m.retired):
        how = convention(machine.convention)
        last, begun = newest.get(machine.id), unfinished.get(machine.id)
        shown.append(
            MachineLine(
                machine=machine,
                begin_with=_begin_with(machine, last or latest, filaments, gauges),
                convention_name=how.name,
                convention_rule=how.rule,
                words=last.words if last else "no run yet",
                open_run=run_line(begun) if begun else None,
                last_run=run_line(last) if last else None,
                expected=_due(desk, last, marks) if last else None,
                on_line=_on_line(lines, machine.id) if lines else None,
            )
        )
    return BenchView(
        machines=tuple(shown),
        gauges=gauges,
        filaments=filaments,
        people=tuple(Signer(name=p.name, initials=p.initials) for p in workshop.people() if not p.retired),
        runs=tuple(run_line(summary) for summary in workshop.figures.summaries()),
        usual_knobs=() if shown else known_places(),
    )


def _begin_with(
    machine: Machine, last: Summary | None, filaments: tuple[Filament, ...], gauges: tuple[Gauge, ...]
) -> BeginWith:
    """As the machine's last run was, or the workshop's; the first of all with the plastic whose tip is the coolest."""
    plates = [p.id for p in machine.plates if not p.retired]
    mildest = [f.id for f in sorted(filaments, key=lambda f: f.nozzle_c)]
    before: tuple[str | None, ...] = (None, None, None)
    if last is not None:
        # A run kept by an older version tells its filament by name alone.
        by_name = {f.name: f.id for f in filaments}
        before = (last.plate_id, last.filament_id or by_name.get(last.filament_name), last.gauge_id)
    usual = (plates, mildest, [g.id for g in gauges])
    plate, filament, gauge = (was if was in of else next(iter(of), "") for was, of in zip(before, usual, strict=True))
    return BeginWith(plate_id=plate or "", filament_id=filament or "", gauge_id=gauge or "")


def _on_line(lines: Lines, machine_id: str) -> OnLine | None:
    session = lines.session(machine_id)
    if session is None:
        return None
    now = session.status
    return OnLine(state=now.state, words=now.question or now.job or now.words)


def _due(desk: Desk, last: Summary, marks: Marks) -> Due | None:
    found = expected(desk.workshop, last.machine_id, last.plate_id, datetime.now(UTC), marks)
    return None if found is None else Due(p_today=found.p_today, due_at=found.due_at, words=found.words)


def runs_of(desk: Desk, machine_id: str) -> tuple[RunLine, ...]:
    """Every run of a machine, newest first."""
    desk.workshop.machine(machine_id)
    return tuple(run_line(summary) for summary in desk.workshop.figures.summaries(machine_id, MOST_RUNS))


#: A longer list is for the logbook.
MOST_RUNS = 400


def run_line(summary: Summary) -> RunLine:
    return RunLine(
        id=summary.run_id,
        machine_id=summary.machine_id,
        machine_name=summary.machine_name,
        plate_name=summary.plate_name,
        filament_name=summary.filament_name,
        initials=summary.initials,
        started_at=summary.started_at,
        signed_off=summary.signed_off,
        words=summary.words,
    )
