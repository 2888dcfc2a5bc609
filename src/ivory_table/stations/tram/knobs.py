"""The knobs as they are drawn on the sheet."""

import numpy as np

from ivory_table.runs.state import RunState
from ivory_table.stations.sheet import KnobMark
from ivory_table.stations.tram.slice import Tram


def knob_marks(
    state: RunState,
    turns: dict[int, float],
    at: int | None,
    moves: dict[str, float] | None = None,
    *,
    about: bool = False,
) -> tuple[KnobMark, ...]:
    """Every screw with its height against the common height. `moves`: what a turn elsewhere does at it, mm up."""
    tram = Tram.of(state)
    if not state.screws:
        return ()
    m = len(state.screws)
    rows = np.zeros((m, state.belief.surface.size))
    rows[:, :m] = np.eye(m) - 1 / m
    mean, sd = state.belief.of(rows)
    known = tram.visited | set(tram.round_read)
    return tuple(
        KnobMark(
            name=s.name,
            x_mm=s.x_mm,
            y_mm=s.y_mm,
            height_mm=float(mean[j]),
            sd_mm=float(sd[j]),
            visited=j in known,
            marks=turns.get(j),
            per_turn=s.marks_per_turn,
            about=about,
            next=j == at,
            moves_mm=(moves or {}).get(s.name),
        )
        for j, s in enumerate(state.screws)
    )
