"""What the Z offset asks about or refuses: feels that contradict, values that run into the plate, values not stored as meant."""

import numpy as np

from ivory_table.core.defaults import OFFSET
from ivory_table.core.offset import convention, conventions_of, presses
from ivory_table.core.words import signed
from ivory_table.runs.doubts import Refused, disagrees, doubt, feels_disagree, refuse_contradiction
from ivory_table.runs.entry import Source
from ivory_table.runs.row import Row
from ivory_table.runs.run import OpenRun
from ivory_table.runs.searching import approach_at
from ivory_table.stations.offset.entries import DisplayShown, Felt, SignShown, ThickTried
from ivory_table.stations.offset.state import Offset


@doubt.register
def _felt(what: Felt, run: OpenRun, source: Source) -> None:
    if source == "hand" and not what.sure:
        _ask_elsewhere(what, run)
        refuse_contradiction(what, run, "feel")
        _refuse_mixed_up(what, run)


def _ask_elsewhere(what: Felt, run: OpenRun) -> None:
    """The height that is stored is looked for at the middle: a feel elsewhere tells of the plate, and never ends the search."""
    plate = run.setup.plate
    x, y = plate.centre
    if plate.holds(what.x_mm, what.y_mm) and np.hypot(what.x_mm - x, what.y_mm - y) > OFFSET.centre_within_mm:
        raise Refused(
            "not_at_the_middle",
            f"The height to store is felt at the middle of the plate, x {x:g} y {y:g}, and this was felt at x {what.x_mm:g} "
            f"y {what.y_mm:g}. Bring the tip there; or keep it as what it tells of the plate.",
            "x_mm",
            insist=True,
        )


def _refuse_mixed_up(what: Felt, run: OpenRun) -> None:
    """A feel that can hardly be, at this height, but would be likely had another button been pressed."""
    state, sizes = run.state, run.setup.machine.z_presses_mm
    approach = approach_at(state, what.x_mm, what.y_mm)
    if len(sizes) < 2 or approach.likely(what.z_mm, what.feel) > OFFSET.mixed_up_p:
        return
    for press in presses(Offset.of(state).stands_mm, what.z_mm, sizes, approach.lowest_mm):
        for other in sizes:
            off = (1 if press.up else -1) * press.times * (other - press.mm)
            if off and approach.likely(what.z_mm + off, what.feel) > OFFSET.mixed_up_instead_p:
                raise Refused(
                    "button_mixed_up",
                    f"The gauge can hardly be {what.feel} at z {signed(what.z_mm, 3)}. Had {other:g} been pressed where "
                    f"{press.mm:g} was meant, the tip would stand at z {signed(what.z_mm + off, 3)}, and it could. Lift it, look "
                    "which step the buttons are set to, and come down anew; or keep it as it is.",
                    "z_mm",
                    insist=True,
                )


@doubt.register
def _thick_tried(what: ThickTried, run: OpenRun, source: Source) -> None:
    if source == "hand" and what.typed and what.under_mm >= OFFSET.thick_asks_mm and not what.sure:
        raise Refused(
            "so_thick",
            f"{what.under_mm:g} mm under the tip is much: the tip will come down by nearly as much. Is the decimal point "
            "where it belongs? If it really goes under, keep it again.",
            "under_mm",
            insist=True,
        )


@doubt.register
def _sign_shown(what: SignShown, run: OpenRun, source: Source) -> None:
    if not what.sign:
        return
    how = convention(run.state.convention_id)
    fits = conventions_of(what.sign)
    larger = "further" if what.sign > 0 else "closer"
    if what.convention is None and how.sign != what.sign:
        raise Refused(
            "counts_the_other_way",
            f"Then a larger number brings this tip {larger}; {how.name.lower()} says: {how.rule}. Look at the lines that "
            "were sent, and say what this machine stores.",
            "convention",
        )
    if what.convention is not None and what.convention not in fits:
        raise Refused(
            "convention_does_not_fit",
            f"A larger number brought the tip {larger}. That is {' or '.join(convention(c).name.lower() for c in fits)}.",
            "convention",
        )


@doubt.register
def _display_shown(what: DisplayShown, run: OpenRun, source: Source) -> None:
    if what.means is None and abs(what.shows_mm) > run.setup.machine.z_step_mm / 2:
        raise Refused(
            "display_unexplained",
            f"After homing the display shows {what.shows_mm:g}, not 0. Nothing comes down before that is explained: was "
            "the tip lifted to it, or does the display count from another zero?",
            "means",
        )


@disagrees.register
def _feels_disagree(what: Felt, earlier: Row, clock: str, run: OpenRun) -> str:
    if not isinstance(earlier, Felt) or (earlier.x_mm, earlier.y_mm) != (what.x_mm, what.y_mm):
        return ""
    return feels_disagree(run.state, what.feel, what.z_mm, earlier.feel, earlier.z_mm, clock)
