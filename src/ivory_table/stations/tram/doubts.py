"""What the tram asks about or refuses: counts and readings far from what is expected, and ones that contradict."""

import numpy as np

from ivory_table.core import advice
from ivory_table.core.defaults import TRAM
from ivory_table.runs.doubts import Refused, disagrees, doubt, feels_disagree, refuse_contradiction
from ivory_table.runs.entry import Source
from ivory_table.runs.row import Row
from ivory_table.runs.run import OpenRun
from ivory_table.runs.state import RunState

from .entries import CentreFelt, Counted, ReadMm, ScrewFelt, Walked
from .state import counted, foretold_marks, reading_row, sunk

#: What was expected, and the slip of hand or pen that would explain what was said instead, if one does.
Doubtful = tuple[float, float | None]


@doubt.register
def _counted(what: Counted, run: OpenRun, source: Source) -> None:
    if source == "hand" and (found := doubtful_count(run.state, what)) is not None:
        raise _refused_count("", what.marks, *found, "marks")


@doubt.register
def _walked(what: Walked, run: OpenRun, source: Source) -> None:
    if (found := doubtful_walk(run.state, what)) is not None:
        k, about, meant = found
        raise _refused_count(f"{what.counts[k].screw}: ", what.counts[k].marks, about, meant, f"counts.{k}")


@doubt.register
def _read_mm(what: ReadMm, run: OpenRun, source: Source) -> None:
    # A machine does not mistype; what it read is kept, however odd.
    if source != "hand" or what.sure:
        return
    found = doubtful_reading(run.state, what)
    if found is None or found[1] is None:
        refuse_contradiction(what, run, "value_mm")
    if found is not None:
        expected, instead = found
        raise Refused(
            "reading_doubtful",
            f"{what.value_mm:g} is far from the {expected:.2f} mm that is expected here"
            + (f"; did you mean {instead:g}?" if instead is not None else ".")
            + " Type it again, or keep it as it is.",
            "value_mm",
            insist=True,
        )


@doubt.register
def _screw_felt(what: ScrewFelt, run: OpenRun, source: Source) -> None:
    if source == "hand" and not what.sure:
        refuse_contradiction(what, run, "feel")


@doubt.register
def _centre_felt(what: CentreFelt, run: OpenRun, source: Source) -> None:
    if source == "hand" and not what.sure:
        refuse_contradiction(what, run, "feel")


@disagrees.register
def _readings_disagree(what: ReadMm, earlier: Row, clock: str, run: OpenRun) -> str:
    if not isinstance(earlier, ReadMm):
        return ""
    if (earlier.x_mm, earlier.y_mm, earlier.instrument) != (what.x_mm, what.y_mm, what.instrument):
        return ""
    _, _, sd, _ = reading_row(run.state, what)
    if abs(earlier.value_mm - what.value_mm) <= 5 * 2**0.5 * sd:
        return ""
    name = what.screw or f"({what.x_mm:g}, {what.y_mm:g})"
    words = f"{name} cannot read {what.value_mm:+.3f} mm now and {earlier.value_mm:+.3f} mm at {clock}."
    return words.replace("-", "−")


@disagrees.register
def _screw_feels_disagree(what: ScrewFelt, earlier: Row, clock: str, run: OpenRun) -> str:
    if not isinstance(earlier, ScrewFelt) or earlier.screw != what.screw:
        return ""
    return feels_disagree(run.state, what.feel, what.z_mm, earlier.feel, earlier.z_mm, clock)


@disagrees.register
def _centre_feels_disagree(what: CentreFelt, earlier: Row, clock: str, run: OpenRun) -> str:
    if not isinstance(earlier, CentreFelt):
        return ""
    return feels_disagree(run.state, what.feel, what.z_mm, earlier.feel, earlier.z_mm, clock)


def doubtful_count(run: RunState, what: Counted) -> Doubtful | None:
    """What was expected where a count is over 5 sd away, and the slip that would explain it, if one does.

    The slips: turned the other way, or half and double of it.
    """
    names = [s.name for s in run.screws]
    about = foretold_marks(run, names.index(what.screw)) if what.screw in names else None
    if what.sure or about is None or abs(what.marks - about[0]) <= max(5 * about[1], 3.0):
        return None
    j = names.index(what.screw)
    if advice.sense_in_doubt(run.belief, j) and abs(-what.marks - about[0]) <= max(5 * about[1], 3.0):
        # As many marks the other way: that is what a knob that works the other way gives.
        return None
    slips = (-what.marks, what.marks / 2, what.marks * 2)
    fits = [s for s in slips if abs(s - about[0]) <= 2 * about[1] + 0.5]
    return about[0], min(fits, key=lambda s: abs(s - about[0]), default=None)


def doubtful_walk(run: RunState, what: Walked) -> tuple[int, float, float | None] | None:
    """The first count of a walk that is far from what those before it let expect: which, and as `doubtful_count`."""
    now = sunk(run, what.sunk_turns)
    for k, count in enumerate(what.counts):
        one = Counted(screw=count.screw, marks=count.marks, sure=what.sure)
        if (found := doubtful_count(now, one)) is not None:
            return k, *found
        now = counted(now, one, "")
    return None


def doubtful_reading(run: RunState, what: ReadMm) -> Doubtful | None:
    """What was expected where a reading is over 5 sd away, and the slip that would explain it, if one does.

    The slips: a sign, or a decimal point by one place. What a knob that works the other way would make of
    it is no slip.
    """
    row, zero, sd, sign = reading_row(run, what)
    if run.belief.foresees(row, zero + sign * what.value_mm, sd) > TRAM.reversed_share / 10:
        return None
    mean, spread = run.belief.of(row[None, :])
    expected = sign * (float(mean[0]) - zero)
    total = float(np.hypot(spread[0], sd))
    if what.sure or abs(what.value_mm - expected) <= 5 * total:
        return None
    slips = (-what.value_mm, what.value_mm / 10, -what.value_mm / 10, what.value_mm * 10)
    fits = [s for s in slips if abs(s - expected) <= 2 * total]
    return expected, min(fits, key=lambda s: abs(s - expected), default=None)


def _refused_count(where: str, marks: float, about: float, meant: float | None, field: str) -> Refused:
    return Refused(
        "count_doubtful",
        f"{where}{_count_words(marks)} is far from the {_count_words(round(about))} that are expected here"
        + (f"; did you mean {_count_words(meant)}?" if meant is not None else ".")
        + " Enter it again, or keep it as it is.",
        field,
        insist=True,
    )


def _count_words(marks: float) -> str:
    way = "clockwise" if marks > 0 else "counter-clockwise"
    return f"{abs(marks):g} marks {way}" if marks else "no turn"
