"""How few moves a first contact by feel alone can take: the search as it is, beside two that no machine could have.

`unbounded` may press the gauge in as deep as it likes. `told` keeps to the bound, one case in a hundred, and is told the drag once the gauge
has met anything: no search that keeps the bound takes fewer. A gauge slid once more where the tip stands is no move. Run as a module.
"""

from collections.abc import Callable

import numpy as np

from ivory_table.core.approach import Approach
from ivory_table.core.defaults import OFFSET
from ivory_table.core.gauge import FEELS, Feel, FeelScale

SCALE = FeelScale()
MACHINES = 200
PRESSED_MM, RISK = 0.10, 0.01


def felt(gap_mm: float, rng: np.random.Generator) -> Feel:
    return FEELS[int(np.searchsorted(SCALE.cuts_mm, gap_mm + rng.normal(0, SCALE.scatter_mm)))]


def as_it_is(drag: float, known: float, rng: np.random.Generator) -> tuple[int, float]:
    """Moves and the deepest press."""
    at = Approach.over(0.0, known, scale=SCALE, gauge_mm=0.1, step_mm=0.01, seen_above=True)
    moves, pressed, stands = 0, 0.0, np.inf
    while (z := at.next_mm()) is not None:
        moves, stands, pressed = moves + (z != stands), z, max(pressed, drag - z)
        at = at.feel(z, felt(z - drag, rng))
    return moves, pressed


def told(drag: float, known: float, rng: np.random.Generator) -> tuple[int, float]:
    """Down as low as the bound lets it, until the gauge is not free; then to the drag."""
    normal = np.sort(np.random.default_rng(1).normal(0, known, 20_000))
    moves, pressed = 0, 0.0
    while True:
        z = float(np.quantile(normal, 1 - RISK)) - PRESSED_MM
        moves, pressed = moves + 1, max(pressed, drag - z)
        if (feel := felt(z - drag, rng)) != "free":
            # It goes to the drag, where it is not there, and stays.
            return moves + (feel != "drag"), pressed
        # Had the drag been so high, it would not have been free.
        normal = normal[normal < z - SCALE.cuts_mm[-1] + 2 * SCALE.scatter_mm]


def row(name: str, known: float, way: Callable[[float, float, np.random.Generator], tuple[int, float]]) -> None:
    out = []
    for k in range(MACHINES):
        rng = np.random.default_rng([k, 3])
        out.append(way(float(rng.normal(0, known)), known, rng))
    moves, pressed = np.array(out).T
    error = 2 * moves.std() / MACHINES**0.5
    print(
        f"{name:10} known to {known:.1f} mm: {moves.mean():4.1f} ± {error:.1f} moves, pressed {(pressed > PRESSED_MM).mean():.1%}"
    )


def main() -> None:
    for known in (0.1, 0.2, 0.399):
        row("as it is", known, as_it_is)
        row("told", known, told)
        lowest = Approach.lowest_mm
        Approach.lowest_mm = property(lambda _: OFFSET.floor_mm)  # type: ignore[method-assign]
        row("unbounded", known, as_it_is)
        Approach.lowest_mm = lowest  # type: ignore[method-assign]


if __name__ == "__main__":
    main()
