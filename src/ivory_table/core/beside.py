"""Two rows of patches side by side that differ in one thing: what that says, without any model of why."""

from collections.abc import Mapping
from typing import Literal

from .bead import GRADES
from .proof import ProofPlan
from .signs import Mark

#: Which row lies better: the usual one, the one that differs, neither though not both are sound; or nobody can say yet.
Better = Literal["usual", "other", "neither", "both_sound", "unknown"]
#: So many pairs at least must have been judged, and more than half of them must speak for one row.
LEAST_PAIRS = 2


def better_row(laid: ProofPlan, marks: Mapping[int, Mark]) -> Better:
    """Each patch is held against the one beside it, which lies at the same height: a plate that leans spoils both.

    `marks` by zone; a spot of grease under one of two tells nothing of what differs.
    """
    beside = {z.y_mm: k for k, z in enumerate(laid.zones) if z.nozzle_c is not None}
    usual_ones = [(k, z) for k, z in enumerate(laid.zones) if z.nozzle_c is None]
    pairs = [(marks.get(k), marks.get(beside[z.y_mm])) for k, z in usual_ones if z.y_mm in beside]
    off = [(_off(a), _off(b)) for a, b in pairs if a is not None and b is not None]
    told = [(a, b) for a, b in off if a is not None and b is not None]
    if len(told) < LEAST_PAIRS:
        return "unknown"
    if not any(a or b for a, b in told):
        return "both_sound"
    usual = sum(a < b for a, b in told)
    other = sum(b < a for a, b in told)
    if other > len(told) / 2 and not usual:
        return "other"
    if usual > len(told) / 2 and not other:
        return "usual"
    return "neither"


def _off(mark: Mark) -> int | None:
    """By how many grades a patch is off from sound."""
    if mark.grade is None or mark.greasy:
        return None
    return abs(GRADES.index(mark.grade) - GRADES.index("sound"))


def beside_words(laid: ProofPlan, marks: Mapping[int, Mark], filament_name: str) -> str:
    """What the two rows say side by side; empty for another proof, or while too few pairs are judged."""
    better = better_row(laid, marks) if laid.kind in _SAYS else "unknown"
    if better == "unknown":
        return ""
    other = laid.other.name if laid.other is not None else ""
    words = (
        "Both rows are sound."
        if better == "both_sound"
        else _SAYS[laid.kind][better].format(usual=filament_name, other=other)
    )
    back = f" Load {filament_name} again before anything else is printed." if other else ""
    return f"{words}{back}"


_SAYS: dict[str, dict[str, str]] = {
    "pair": {
        "other": "The hotter row lies better, at the same height: the tip may be too cold for {usual}.",
        "usual": "The hotter row lies worse: the tip is not too cold. Leave its temperature.",
        "neither": "Both rows lie alike: it is not the tip's temperature, but what they share: the height, the plate, the feed.",
    },
    "two_filaments": {
        "other": (
            "{other} lies better than {usual}, at the same height on the same plate. So it may be {usual}'s roll (damp, old) or its "
            "temperatures, and not the height."
        ),
        "usual": "{usual} lies better than {other}: nothing is wrong with its roll. What is left to mend is the height, or the plate.",
        "neither": "Both filaments lie alike: it is not the roll, but what they share: the height, the plate, the feed.",
    },
}
