"""A second tip beside the first: gauged, then passed over graded pads, turned until it hangs where it should."""

from dataclasses import dataclass

from ivory_table.core.second_tip import Next, Pads, SecondTip
from ivory_table.core.value import Value
from ivory_table.desk.desk import Desk
from ivory_table.program.laying import Program
from ivory_table.program.pads import Row as PadRow
from ivory_table.program.pads import program, row
from ivory_table.runs.doubts import Refused, doubt
from ivory_table.runs.entry import Entry, Source
from ivory_table.runs.record import Slice
from ivory_table.runs.row import Row
from ivory_table.runs.run import OpenRun, once_per_state
from ivory_table.runs.state import RunState, fold
from ivory_table.stations.offset.entries import PadsLaid, SecondBegun, SecondGauged, SecondPassed, SecondTurned


@dataclass(frozen=True)
class Second(Slice):
    """The second tip as it is believed to hang; None while nobody asked for one."""

    tip: SecondTip | None = None


class SecondView(Value):
    """Where the second tip stands, and what is next."""

    begun: bool
    wanted_mm: float = 0.0
    above_mm: float | None = None
    sd_mm: float | None = None
    #: Holds nine times in ten.
    between_mm: tuple[float, float] | None = None
    p_right: float | None = None
    #: Pads that no pass has touched, tops in mm, and where the row stands.
    fresh: tuple[float, ...] = ()
    row: PadRow | None = None
    next: Next | None = None
    why_not: str = ""


@once_per_state
def second_view(run: OpenRun) -> SecondView:
    tip = Second.of(run.state).tip
    if tip is None:
        return SecondView(begun=False)
    coming = tip.next
    pads = coming.pads.tops_mm if coming.pads else tip.fresh
    at, why_not = None, ""
    if pads:
        try:
            at = row(run.setup.plate, len(pads))
        except ValueError as wrong:
            why_not = str(wrong)
    mean, sd = tip.above
    return SecondView(
        begun=True,
        wanted_mm=tip.wanted_mm,
        above_mm=mean,
        sd_mm=sd,
        between_mm=tip.interval(),
        p_right=tip.p_right,
        fresh=tip.fresh,
        row=at,
        next=coming,
        why_not=why_not,
    )


def pads_program(run: OpenRun) -> Program:
    """The pads that are advised now. Raises Refused where none are, or they do not fit."""
    tip = Second.of(run.state).tip
    pads = tip.next.pads if tip is not None and tip.next.step == "print" else None
    if pads is None:
        raise Refused("no_pads", "No pads are to be laid now.")
    setup, state = run.setup, run.state
    try:
        return program(
            state.machine_now, setup.plate, setup.filament, state.bead, pads, run.manner, mesh_on=state.mesh_on
        )
    except ValueError as wrong:
        raise Refused("pads_do_not_fit", str(wrong)) from None


def second_by_practice(desk: Desk, run: OpenRun) -> Row:
    """What a practice machine's person answers to the step at hand. Raises Refused where there is none."""
    tip, hands = Second.of(run.state).tip, desk.hands(run)
    now = tip.next if tip is not None else None
    if tip is None or now is None or now.step == "done":
        raise Refused("nothing_to_read", "Nothing is to be done at the second tip now.")
    if now.step == "gauge":
        return SecondGauged(above_mm=hands.gauge_second())
    if now.step == "print" and now.pads is not None:
        return PadsLaid(tops_mm=now.pads.tops_mm)
    if now.step == "turn":
        hands.turn_second(now.turns * tip.pitch_mm * tip.sense)
        return SecondTurned(turns=now.turns)
    assert now.pass_z_mm is not None
    return SecondPassed(z_mm=now.pass_z_mm, touched=hands.pass_second(tip.fresh, now.pass_z_mm), sure=True)


def _begun(run: RunState) -> SecondTip:
    tip = Second.of(run).tip
    if tip is None:
        raise ValueError("Say first how the second tip is wanted, and what its screw does.")
    return tip


@fold.register
def _second_begun(what: SecondBegun, run: RunState, entry: Entry) -> RunState:
    tip = SecondTip.unknown(what.wanted_mm, what.pitch_mm, clockwise_raises=what.clockwise_raises)
    return run.put(Second(tip))


@fold.register
def _second_gauged(what: SecondGauged, run: RunState, entry: Entry) -> RunState:
    return run.put(Second(_begun(run).gauge(what.above_mm)))


@fold.register
def _pads_laid(what: PadsLaid, run: RunState, entry: Entry) -> RunState:
    return run.put(Second(_begun(run).lay(Pads(tops_mm=what.tops_mm))))


@fold.register
def _second_passed(what: SecondPassed, run: RunState, entry: Entry) -> RunState:
    return run.put(Second(_begun(run).passed(what.z_mm, what.touched)))


@fold.register
def _second_turned(what: SecondTurned, run: RunState, entry: Entry) -> RunState:
    return run.put(Second(_begun(run).turned(what.turns)))


@doubt.register
def _pass_doubted(what: SecondPassed, run: OpenRun, source: Source) -> None:
    tip = Second.of(run.state).tip
    if tip is None or what.sure or len(what.touched) != len(tip.fresh):
        return
    by_height = [hit for _, hit in sorted(zip(tip.fresh, what.touched, strict=True))]
    if by_height != sorted(by_height):
        raise Refused(
            "pads_out_of_order",
            "A lower pad was touched and a higher one was not. Look again, from the side and in low light; or keep it: then a "
            "pad came out higher or lower than it should.",
            "touched",
            insist=True,
        )
