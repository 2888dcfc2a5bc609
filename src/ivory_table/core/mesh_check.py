"""An old mesh: how it differs from another, and whether it still holds, by what a few readings today say.

A plate that is mounted again lies higher or lower as a whole; that is the offset's. What a mesh is for is the rest: tilt,
form and what is local. These change at random and slowly, or at once when something was changed.
"""

from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike

from .defaults import OLD_MESH
from .form import fit
from .mesh import MeshSurvey, believed_by_machine
from .plate import Plate
from .surface import apart, matern
from .value import Array, Value

Verdict = Literal["holds", "does not hold", "cannot tell yet"]


class Difference(Value):
    """One mesh less another, in mm: as a whole, across, in form, and the rms of what is left."""

    shift_mm: float
    tilt_x_mm: float
    tilt_y_mm: float
    form_mm: float
    local_mm: float
    words: str


def compare(one: MeshSurvey, other: MeshSurvey, plate: Plate) -> Difference:
    """What a mesh has more than another, over the places that both cover. Raises ValueError where they share none."""
    x0 = max(one.grid.xs_mm[0], other.grid.xs_mm[0])
    x1 = min(one.grid.xs_mm[-1], other.grid.xs_mm[-1])
    y0 = max(one.grid.ys_mm[0], other.grid.ys_mm[0])
    y1 = min(one.grid.ys_mm[-1], other.grid.ys_mm[-1])
    if x1 - x0 < 10 or y1 - y0 < 10:
        raise ValueError("These two meshes cover no common part of the plate.")
    places = np.array([(x, y) for y in np.linspace(y0, y1, 9) for x in np.linspace(x0, x1, 9)])
    off = believed_by_machine(one, places) - believed_by_machine(other, places)
    found = fit(places, off, plate.bounds)
    design = _forms(places, plate)
    coef, *_ = np.linalg.lstsq(design, off, rcond=None)
    local = float(np.sqrt(np.mean(np.square(off - design @ coef))))
    form = float(np.ptp(design[:, 3:] @ coef[3:]))
    one_zero = one.owns_zero and other.owns_zero
    parts = [
        f"{abs(found.mean_mm):.2f} mm {'higher' if found.mean_mm > 0 else 'lower'} as a whole" if one_zero else "",
        f"tilted by {found.tilt_x_mm:+.2f} mm left to right and {found.tilt_y_mm:+.2f} mm front to back",
        f"bent by {form:.2f} mm",
        f"{local:.3f} mm here and there",
    ]
    return Difference(
        shift_mm=found.mean_mm,
        tilt_x_mm=found.tilt_x_mm,
        tilt_y_mm=found.tilt_y_mm,
        form_mm=form,
        local_mm=local,
        words=", ".join(p for p in parts if p).replace("-", "−"),
    )


def _forms(places: Array, plate: Plate) -> Array:
    """(n, 6) level, tilts, bow, saddle and twist at (n, 2) places, from -1 to 1 over the plate."""
    u, v = ((places - plate.centre) * 2 / (plate.width_mm, plate.depth_mm)).T
    return np.column_stack([np.ones_like(u), u, v, u * u + v * v, u * u - v * v, u * v])


@dataclass(frozen=True)
class CheckRead:
    """A place of an old mesh read today; all of them count from one zero, whichever it is."""

    x_mm: float
    y_mm: float
    height_mm: float
    sd_mm: float


@dataclass(frozen=True, eq=False)
class OldMesh:
    """Whether a mesh of some days ago still holds for what is printed now.

    Off by now = zero of the day + tilt + bow, saddle, twist + local (Matern 5/2), each normal with the sd of two ways things go: a plate that only
    drifted, and one that was changed. Which of them it was has its own chance. It holds where nothing within the
    places used is off by more than `tol_mm` against their mean.
    """

    survey: MeshSurvey
    plate: Plate
    used: Array
    days: float
    tol_mm: float
    reads: tuple[CheckRead, ...] = ()

    def ways(self) -> tuple[tuple[float, Array], ...]:
        """(prior chance, sds of zero, tilt x, tilt y, bow, saddle, twist, local) of drifting and of a change."""
        weeks = max(self.days, 0.0) / 7
        drift = OLD_MESH.own_mm + OLD_MESH.week_mm * weeks**0.5
        changed = 1 - (1 - OLD_MESH.changed) * float(np.exp(-weeks * OLD_MESH.changed_per_week))
        form = np.array([1.0, 1.0, 0.8, 0.8, 0.5, 0.5])
        return (
            (1 - changed, np.concatenate([[OLD_MESH.zero_mm], drift * form])),
            (changed, np.concatenate([[OLD_MESH.zero_mm], OLD_MESH.change_mm * form])),
        )

    def _cov(self, a: Array, b: Array, sds: Array) -> Array:
        length = OLD_MESH.length * max(self.plate.width_mm, self.plate.depth_mm)
        return np.asarray(
            (_forms(a, self.plate) * sds[:6] ** 2) @ _forms(b, self.plate).T
            + sds[6] ** 2 * matern(apart(a, b) / length)
        )

    @cached_property
    def _told(self) -> tuple[Array, list[tuple[Array, Array]]]:
        """Posterior chances of the ways, and for each the mean and covariance of what the places used are off by."""
        logs, found = [], []
        places = np.array([(r.x_mm, r.y_mm) for r in self.reads]).reshape(-1, 2)
        off = np.array([r.height_mm for r in self.reads])
        if self.reads:
            off = off - believed_by_machine(self.survey, places)
        noise = np.diag([r.sd_mm**2 + OLD_MESH.mesh_sd_mm**2 for r in self.reads])
        for chance, sds in self.ways():
            prior = self._cov(self.used, self.used, sds)
            if not self.reads:
                logs.append(np.log(chance))
                found.append((np.zeros(len(self.used)), prior))
                continue
            know = self._cov(places, places, sds) + noise
            cross = self._cov(self.used, places, sds)
            gain = np.linalg.solve(know, cross.T).T
            logs.append(
                np.log(chance) - 0.5 * float(off @ np.linalg.solve(know, off)) - 0.5 * float(np.linalg.slogdet(know)[1])
            )
            found.append((gain @ off, prior - gain @ cross.T))
        weights = np.exp(np.array(logs) - max(logs))
        return weights / weights.sum(), found

    @cached_property
    def p_holds(self) -> float:
        """The chance that nothing used is off by more than the tolerance against the mean, from draws."""
        weights, found = self._told
        rng = np.random.default_rng(0)
        centred = np.eye(len(self.used)) - 1 / len(self.used)
        total = 0.0
        for weight, (mean, cov) in zip(weights, found, strict=True):
            middle, spread = centred @ mean, centred @ cov @ centred
            values, vectors = np.linalg.eigh(spread)
            root = vectors * np.sqrt(np.maximum(values, 0.0))
            draws = middle + rng.normal(size=(OLD_MESH.draws, len(self.used))) @ root.T
            within = np.quantile(np.abs(draws), OLD_MESH.share_used, axis=1) <= self.tol_mm
            total += float(weight) * float(within.mean())
        return total

    @property
    def verdict(self) -> Verdict:
        """What is to become of the earlier mesh, by its chances."""
        if self.p_holds >= OLD_MESH.holds_at:
            return "holds"
        return "does not hold" if self.p_holds <= 1 - OLD_MESH.holds_at else "cannot tell yet"

    def to_read(self, candidates: ArrayLike, count: int, sd_mm: float) -> list[int]:
        """Which of the (c, 2) candidates tell most together, one after the other, beside what was read."""
        places = np.atleast_2d(np.asarray(candidates, dtype=float))
        weights, _ = self._told
        done = np.array([(r.x_mm, r.y_mm) for r in self.reads]).reshape(-1, 2)
        every = np.vstack([done, places, self.used])
        cov = sum(
            (w * self._cov(every, every, sds) for w, (_, sds) in zip(weights, self.ways(), strict=True)),
            np.zeros((len(every), len(every))),
        )
        noise, d, c = sd_mm**2 + OLD_MESH.mesh_sd_mm**2, len(done), len(places)
        for k in range(d):
            cov = cov - np.outer(cov[:, k], cov[k]) / (cov[k, k] + noise)
        chosen: list[int] = []
        if not self.reads and c:
            # The middle first: against it every bow shows.
            chosen.append(int(np.linalg.norm(places - self.survey.grid.centre, axis=1).argmin()))
            cov = cov - np.outer(cov[:, chosen[0]], cov[chosen[0]]) / (cov[chosen[0], chosen[0]] + noise)
        while len(chosen) < min(count, c):
            # What they are off by against their mean: the zero of the day is not asked for.
            shared = cov[d + c :, d : d + c]
            shared = shared - shared.mean(axis=0)
            gain = np.square(shared).sum(axis=0) / (np.diag(cov)[d : d + c] + noise)
            gain[chosen] = -1.0
            k = int(gain.argmax())
            chosen.append(k)
            at = d + k
            cov = cov - np.outer(cov[:, at], cov[at]) / (cov[at, at] + noise)
        return chosen
