"""What the machine lists as its mesh, in whatever layout, compared with the kept one point by point."""

from typing import Annotated

import numpy as np
from pydantic import Field

from ivory_table.core.defaults import SURVEY
from ivory_table.core.grid_layout import LAYOUTS
from ivory_table.core.grid_text import read_grid
from ivory_table.core.value import Array, Value
from ivory_table.core.words import first_sentence
from ivory_table.runs.doubts import Refused
from ivory_table.runs.mesh_in_use import mesh_as_sent, mesh_differs
from ivory_table.runs.run import OpenRun


class ReadbackPaste(Value):
    """The machine's own list of its mesh, as text."""

    text: Annotated[str, Field(max_length=200_000)]


class ReadBack(Value):
    """A readback beside the kept mesh: the same, or where it differs most. `heights_mm` front row first, to be kept."""

    same: bool
    words: str
    layout_words: str
    heights_mm: tuple[tuple[float, ...], ...]


def _apart(off: Array) -> float:
    """How far a list is from the kept mesh, mm: by most of its points, so that one that differs does not turn it round.

    A machine with a zero of its own lists all of it higher or lower: what is common is taken out where that explains it.
    """
    return min(
        float(np.abs(left).mean() + np.median(np.abs(left))) + cost
        for left, cost in ((off, 0.0), (off - np.median(off), SURVEY.same_mm))
    )


def compared(run: OpenRun, paste: ReadbackPaste) -> ReadBack:
    """Whichever way round the machine lists it: the way that comes nearest. Raises Refused for what is no such grid."""
    mesh = run.state.mesh
    if mesh is None:
        raise Refused("no_mesh", "No mesh was kept in this run.")
    try:
        text = np.array(read_grid(paste.text).heights_mm)
    except ValueError as wrong:
        raise Refused("unreadable_mesh", first_sentence(wrong), "text") from None
    meant = mesh_as_sent(run.state)
    ways = [(layout, way) for layout in LAYOUTS if (way := layout.turned(text)).shape == meant.shape]
    if not ways:
        rows, columns = text.shape
        raise Refused(
            "another_size",
            f"The machine lists {columns} by {rows} points, the kept mesh has {meant.shape[1]} by {meant.shape[0]}: "
            "it has another mesh.",
            "text",
        )
    layout, way = min(ways, key=lambda found: _apart(found[1] - meant))
    off = mesh_differs(run.state, way)
    row, column = np.unravel_index(int(np.abs(off).argmax()), off.shape)
    worst = float(abs(off[row, column]))
    same = worst <= SURVEY.same_mm
    shift = float(off.mean())
    words = "The machine has this mesh, the same at every point."
    if not same:
        words = (
            f"The machine has another mesh: at column {column + 1}, row {row + 1} it lists {way[row, column]:+.3f} where "
            f"{meant[row, column]:+.3f} was meant."
        )
        if float(np.abs(off - shift).max()) <= SURVEY.same_mm:
            words = f"The machine has this mesh, all of it {abs(shift):.3f} mm {'higher' if shift > 0 else 'lower'}: its own zero."
    return ReadBack(
        same=same,
        words=words.replace("-", "−"),
        layout_words=layout.words,
        heights_mm=tuple(tuple(round(float(v), 4) for v in r) for r in way.tolist()),
    )
