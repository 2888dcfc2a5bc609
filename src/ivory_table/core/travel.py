"""How far each knob can still go before its spring is loose or fully compressed, and what to move instead."""

import numpy as np

from .plate import Screw
from .value import Value

#: A spring nearer to an end than this is about to come loose or to bottom out, in mm.
NEAR_MM = 0.3


class KnobRoom(Value):
    """What is left of one knob's travel, in mm at its support."""

    screw: str
    up_mm: float
    down_mm: float


class RunsOut(Value):
    """A turn that a knob cannot make, and what to do instead."""

    screw: str
    end: str
    missing_mm: float
    sentence: str
    #: The same tilt with every knob moved by a common amount: marks in the order of the screws.
    together: tuple[float, ...]
    #: How far the Z stop or the offset must follow, up positive, when all are moved together.
    stop_mm: float


def room(screws: tuple[Screw, ...], moved_mm: tuple[float, ...]) -> tuple[KnobRoom, ...]:
    """Travel left for the screws whose travel and preload are known. `moved_mm`: moved up in this run, each.

    The spring pushes the plate up: moved up it relaxes (preload is used up), moved down it is compressed.
    """
    return tuple(
        KnobRoom(screw=s.name, up_mm=s.preload_mm - up, down_mm=s.travel_mm - s.preload_mm + up)
        for s, up in zip(screws, moved_mm, strict=True)
        if s.travel_mm is not None and s.preload_mm is not None
    )


def runs_out(screws: tuple[Screw, ...], moved_mm: tuple[float, ...], plan_mm: tuple[float, ...]) -> RunsOut | None:
    """The knob that `plan_mm` (mm up, each) would take too near to an end of its travel, the worst one; else None.

    Moving every knob by the same amount leaves the tram alone and is followed by the Z stop.
    """
    left = {r.screw: r for r in room(screws, moved_mm)}
    worst: tuple[float, int, str] | None = None
    for j, (s, up) in enumerate(zip(screws, plan_mm, strict=True)):
        if s.name not in left or not up:
            continue
        end = "come loose" if up > 0 else "bottom out"
        missing = NEAR_MM - ((left[s.name].up_mm - up) if up > 0 else (left[s.name].down_mm + up))
        if missing > 1e-9 and (worst is None or missing > worst[0]):
            worst = (missing, j, end)
    if worst is None:
        return None
    missing, j, end = worst
    common = -missing if plan_mm[j] > 0 else missing
    marks = tuple(
        float(np.round(2 * (up + common) / (s.mm_per_mark * s.sense)) / 2)
        for s, up in zip(screws, plan_mm, strict=True)
    )
    way = "lower" if common < 0 else "raise"
    return RunsOut(
        screw=screws[j].name,
        end=end,
        missing_mm=float(missing),
        sentence=(
            f"{screws[j].name} would {end}: its spring lacks {missing:.2f} mm for this turn. "
            f"Instead {way} all knobs together by {abs(common):.2f} mm and {way} the Z stop by as much."
        ),
        together=marks,
        stop_mm=float(common),
    )


def preload_after(screws: tuple[Screw, ...], moved_mm: tuple[float, ...]) -> tuple[Screw, ...]:
    """The screws as the next run finds them: what was moved is taken from their preload, within their travel."""
    return tuple(
        s
        if s.travel_mm is None or s.preload_mm is None
        else s.model_copy(update={"preload_mm": float(np.clip(s.preload_mm - up, 0.0, s.travel_mm))})
        for s, up in zip(screws, moved_mm, strict=True)
    )


def backed_off(screws: tuple[Screw, ...], turns: float) -> tuple[Screw, ...]:
    """Every spring fully compressed, then its knob backed off by `turns`: the preload is known again."""
    return tuple(
        s
        if s.travel_mm is None
        else s.model_copy(update={"preload_mm": float(np.clip(s.travel_mm - turns * s.pitch_mm, 0.0, s.travel_mm))})
        for s in screws
    )
