"""Which way round a grid from elsewhere lies: the eight orientations and the sign, by what is known of the plate.

Whoever prints a grid knows where its first number lies; whoever reads it does not. Compared is each way with heights
that are known: two or three that were read again, or what the run believes, form and tilt alike.
"""

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from .defaults import LAYOUT
from .grid_text import read_grid
from .units import UNITS
from .value import Array, Value

#: Where the first number of the text lies, and whether its first row runs along x.
Corner = Literal["front left", "front right", "back left", "back right"]
CORNERS: tuple[Corner, ...] = ("front left", "front right", "back left", "back right")


class Layout(Value):
    """One way round: where the text begins, whether its rows run along x, and whether plate high is positive."""

    first: Corner = "front left"
    along: Literal["x", "y"] = "x"
    high_positive: bool = True

    def turned(self, rows: Array) -> Array:
        """(ny, nx) heights, front row first, plate high positive, of the text's (r, c) numbers."""
        z = rows if self.along == "x" else rows.T
        if self.first.startswith("back"):
            z = z[::-1]
        if self.first.endswith("right"):
            z = z[:, ::-1]
        return z if self.high_positive else -z

    def written(self, heights: Array) -> Array:
        """The text's rows of (ny, nx) heights: the other way round of `turned`."""
        z = heights if self.high_positive else -heights
        if self.first.endswith("right"):
            z = z[:, ::-1]
        if self.first.startswith("back"):
            z = z[::-1]
        return np.asarray(z if self.along == "x" else z.T)

    @property
    def words(self) -> str:
        """How the table is written down, as it is shown to whoever pasted it."""
        sign = "" if self.high_positive else ", low places positive"
        return f"begins {self.first}, rows run {'left to right' if self.along == 'x' else 'front to back'}{sign}"


LAYOUTS: tuple[Layout, ...] = tuple(
    Layout(first=corner, along=along, high_positive=high)
    for high in (True, False)
    for along in ("x", "y")
    for corner in CORNERS
)


class Listing(Value):
    """How a machine lists its mesh: which way round, in what, and whether only heights stand in the list."""

    layout: Layout = Layout()
    unit: Literal["", "inch", "micron"] = ""
    bare: bool = False

    def read(self, text: str) -> Array:
        """(ny, nx) heights in mm, front row first, plate high positive. Raises ValueError as `read_grid`."""
        found = read_grid(text, bare=self.bare)
        # Where the list says where its points lie, that has put them in order already.
        placed = found.xs_mm is not None and found.ys_mm is not None
        layout = Layout(high_positive=self.layout.high_positive) if placed else self.layout
        return np.asarray(layout.turned(np.array(found.heights_mm)) / UNITS["heights"][self.unit].scale)

    @property
    def words(self) -> str:
        """How the list is written down, as it is shown to whoever pasted it."""
        return f"The list {self.layout.words}; heights in {UNITS['heights'][self.unit].words}."


class LayoutChance(Value):
    """A layout with the chance that it is the one that is meant."""

    layout: Layout
    p: Annotated[float, Field(ge=0, le=1)]


def layout_chances(
    options: dict[Layout, Array], known: Array, cov: Array, before: tuple[LayoutChance, ...] = ()
) -> tuple[LayoutChance, ...]:
    """How likely each way round is, the likeliest first.

    `options`: for each way, the (n,) heights that the grid then has at the known places.
    `known` (n,) heights in mm with covariance `cov` (n, n); the grid's zero is anywhere.
    `before`: the chances by what was compared already; without, common ways round are likelier than odd ones.
    """
    n = len(known)
    together = cov + LAYOUT.grid_sd_mm**2 * np.eye(n) + LAYOUT.shift_sd_mm**2
    inverse = np.linalg.inv(together)
    told = {c.layout: max(c.p, 1e-12) for c in before}
    logs = {}
    for layout, heights in options.items():
        off = heights - known
        # Heavy tails: one height that is wrong rules nothing out.
        q = float(off @ inverse @ off)
        logs[layout] = -0.5 * (n + LAYOUT.tail) * np.log1p(q / LAYOUT.tail) + np.log(told.get(layout, _before(layout)))
    top = max(logs.values())
    total = sum(np.exp(v - top) for v in logs.values())
    chances = [LayoutChance(layout=k, p=float(np.exp(v - top) / total)) for k, v in logs.items()]
    return tuple(sorted(chances, key=lambda c: -c.p))


def _before(layout: Layout) -> float:
    rows = 1.0 if layout.along == "x" else LAYOUT.transposed
    return rows * (1.0 if layout.high_positive else LAYOUT.negated)


def sure(chances: tuple[LayoutChance, ...]) -> bool:
    """Whether the likeliest way round is likely enough to be taken without being asked about."""
    return bool(chances) and chances[0].p >= LAYOUT.sure


def telling(heights: Array, p: Array, count: int = 3) -> list[int]:
    """Which of (w, n) places tell the ways apart best, each with chance `p` (w,): where they differ most from one another.

    Heights are told against a zero that nobody knows, so the first place says nothing alone.
    """
    weights = p / p.sum()
    chosen: list[int] = []
    left = heights - (weights @ heights)
    cov = (left * weights[:, None]).T @ left
    noise = 2 * LAYOUT.grid_sd_mm**2
    unknown = LAYOUT.shift_sd_mm**2
    know = cov + unknown
    for _ in range(count):
        variance = np.diag(know) + noise
        # How much of the ways' differences a reading here takes away.
        gain = np.square(know - know.mean(axis=0)).sum(axis=0) / variance if chosen else np.diag(cov).copy()
        gain[chosen] = -np.inf
        k = int(gain.argmax())
        chosen.append(k)
        know = know - np.outer(know[:, k], know[k]) / variance[k]
    return chosen
