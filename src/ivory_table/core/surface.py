"""How a plate's surface is carried: heights at its anchors, plus forms no knob reaches.

The anchors are the screws; where a machine has none they are three points that stand for
the plane. Between and beyond them the base surface is interpolated: by a plane for three
screws, bilinearly for four, as the plate itself bends for more. On top lie
three forms (bow, saddle, twist) and what is local, with their interpolant taken out, so that
they vanish at the anchors.
"""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import ArrayLike

from .bending import bent_terms, held_at
from .defaults import TRAM
from .plate import Machine, Plate
from .value import Array

FORMS = ("bow", "saddle", "twist")


def apart(a: Array, b: Array) -> Array:
    """(n, m) distances in mm between (n, 2) and (m, 2) places."""
    return np.asarray(np.linalg.norm(a[:, None] - b[None], axis=2))


def matern(r: Array) -> Array:
    """Matern 5/2 correlation at distances in lengths."""
    s = 5**0.5 * r
    return np.asarray((1 + s + s * s / 3) * np.exp(-s))


#: So few places are remembered with their rows, and so many such sets of them.
_FEW, _KEPT = 64, 64


@dataclass(frozen=True, eq=False)
class Surface:
    """The linear map from a state vector to the height at any place of one plate.

    State, in order: heights at the anchors (mm), amplitudes of `FORMS` (mm), the feel
    bias (mm), the probe's zero (mm), the extrusion error (share), for each knob by what share
    it gives more than its pitch, and one local deviation (mm) for each place of `locals_`.
    """

    plate: Plate
    screws: Array  # (m, 2), m = 0 for a machine without knobs
    locals_: tuple[tuple[float, float], ...] = ()
    #: Whether places near one another deviate alike. Runs begun before this was known go on as they were.
    alike: bool = True

    @classmethod
    def of(
        cls, machine: Machine, plate: Plate, locals_: tuple[tuple[float, float], ...] = (), *, alike: bool = True
    ) -> "Surface":
        """The surface of a machine's plate, with places (x, y) in mm that may deviate by themselves."""
        screws = np.array([[s.x_mm, s.y_mm] for s in machine.screws]).reshape(-1, 2)
        return cls(plate, screws, locals_, alike)

    @cached_property
    def anchors(self) -> Array:
        """(m, 2) where knobs move the plate, mm; three places of its own where there is none."""
        if len(self.screws):
            return self.screws
        cx, cy = self.plate.centre
        r = 0.35 * min(self.plate.width_mm, self.plate.depth_mm)
        return np.array([[cx - r, cy - r], [cx + r, cy - r], [cx, cy + r]])

    @property
    def knobs(self) -> int:
        """How many knobs there are."""
        return len(self.screws)

    @property
    def many(self) -> bool:
        """Whether more supports hold the plate than one twist ties together: what little is told of each is trusted less."""
        return self.knobs > 4

    @property
    def bias(self) -> int:
        """Column of the gauge's error."""
        return len(self.anchors) + len(FORMS)

    @property
    def probe_zero(self) -> int:
        """Column of the probe's zero against the tip's."""
        return self.bias + 1

    @property
    def extrusion(self) -> int:
        """Column of the flow's error."""
        return self.bias + 2

    @property
    def first_gain(self) -> int:
        """First column of what each knob gives more than declared."""
        return self.bias + 3

    @property
    def first_local(self) -> int:
        """First column of the places' own deviations."""
        return self.first_gain + self.knobs

    @property
    def size(self) -> int:
        """How many columns the state has."""
        return self.first_local + len(self.locals_)

    def unit(self, index: int) -> Array:
        """The state's unit vector at one index."""
        row = np.zeros(self.size)
        row[index] = 1.0
        return row

    def _normal(self, xy: Array) -> tuple[Array, Array]:
        cx, cy = self.plate.centre
        return (xy[:, 0] - cx) * 2 / self.plate.width_mm, (xy[:, 1] - cy) * 2 / self.plate.depth_mm

    def _basis(self, xy: Array) -> Array:
        u, v = self._normal(xy)
        return np.column_stack([np.ones_like(u), u, v, u * v])[:, : len(self.anchors)]

    @cached_property
    def _bilinear(self) -> Array | None:
        """Inverse of the basis at the anchors, when a plane or bilinear form fits them."""
        if len(self.anchors) > 4:
            return None
        basis = self._basis(self.anchors)
        return None if np.linalg.cond(basis) > 1e4 else np.asarray(np.linalg.inv(basis), dtype=float)

    def weights(self, xy: ArrayLike) -> Array:
        """(n, 2) places in mm -> (n, anchors): the base surface's height is weights @ heights."""
        places = np.atleast_2d(np.asarray(xy, dtype=float))
        if self._bilinear is not None:
            return np.asarray(self._basis(places) @ self._bilinear)
        return bent_terms(self.plate, places) @ self._held[1]

    @cached_property
    def _held(self) -> tuple[Array, Array]:
        return held_at(self.plate, self.anchors)

    @cached_property
    def bending(self) -> Array:
        """(m, m) bending energy of the plate by its heights at the screws, softest mode 1; planes have none.

        Scaled because a support's compliance is only known relative to it. Three screws bend nothing.
        """
        m = self.knobs
        if m <= 3:
            return np.zeros((m, m))
        energy = self._held[0]
        return np.asarray(energy / np.linalg.eigvalsh(energy)[3])

    @cached_property
    def bends(self) -> Array:
        """(m, m) projection of heights at the screws onto what is not a plane."""
        return np.eye(self.knobs) - self._planes @ np.linalg.pinv(self._planes)

    @property
    def _planes(self) -> Array:
        return np.column_stack([np.ones(self.knobs), self.screws - self.plate.centre])

    @cached_property
    def twist(self) -> Array:
        """(m,) the softest bending mode, of length 1: for four screws the twist; none for three."""
        m = self.knobs
        return np.asarray(np.linalg.eigh(self.bending)[1][:, 3]) if m > 3 else np.zeros(m)

    def twist_passed(self, passes: Array) -> Array:
        """(..., m, m) couplings -> (...) share of the twist that reaches the plate, u' A u; three screws: 1."""
        if self.knobs <= 3:
            return np.ones(passes.shape[:-2])
        return np.asarray(np.einsum("i,...ij,j->...", self.twist, passes, self.twist))

    def forms(self, xy: ArrayLike) -> Array:
        """(n, 2) places -> (n, 3) shapes: u^2 + v^2, u^2 - v^2, u v, less their base surface."""
        places = np.atleast_2d(np.asarray(xy, dtype=float))

        def raw(p: Array) -> Array:
            u, v = self._normal(p)
            return np.column_stack([u * u + v * v, u * u - v * v, u * v])

        return np.asarray(raw(places) - self.weights(places) @ raw(self.anchors))

    def bow(self, xy: ArrayLike) -> Array:
        """(n, 2) places -> (n,) a bow that is 1 in the plate's centre; zeros where its anchors hold the centre still."""
        at_centre = float(self.forms([self.plate.centre])[0, 0])
        bow = self.forms(xy)[:, 0]
        return np.asarray(bow / at_centre if abs(at_centre) > 1e-9 else np.zeros_like(bow))

    def rows(self, xy: ArrayLike) -> Array:
        """(n, 2) places -> (n, size) rows whose product with the state is the height in mm; not to be written to."""
        places = np.atleast_2d(np.asarray(xy, dtype=float))
        if len(places) > _FEW:
            return self._rows(places)
        # The same few zones, screws and points are asked for again and again.
        kept, key = self._rows_kept, places.tobytes()
        if (rows := kept.get(key)) is None:
            rows = self._rows(places)
            rows.setflags(write=False)
            if len(kept) >= _KEPT:
                kept.clear()
            kept[key] = rows
        return rows

    @cached_property
    def _rows_kept(self) -> dict[bytes, Array]:
        return {}

    def _rows(self, places: Array) -> Array:
        rows = np.zeros((len(places), self.size))
        rows[:, : len(self.anchors)] = self.weights(places)
        rows[:, len(self.anchors) : self.bias] = self.forms(places)
        if self.locals_:
            rows[:, self.first_local :] = self._local_weights(places)
        return rows

    # What neighbouring places share of their own deviations

    @cached_property
    def local_alike(self) -> Array:
        """(k, k) covariance, for a process of variance 1, of the local deviations at `locals_`: near places deviate alike."""
        if not self.alike:
            return np.eye(len(self.locals_))
        return self._shared(self._known) + 1e-6 * np.eye(len(self.locals_))

    def local_rest(self, xy: ArrayLike) -> Array:
        """(n, 2) places -> (n,) variance that a place's deviation has for itself, untold by those at `locals_`, as a share."""
        places = np.atleast_2d(np.asarray(xy, dtype=float))
        if not self.locals_ or not self.alike:
            return np.ones(len(places))
        weights, anchors = self.weights(places), self.anchors
        own = 1 - 2 * (weights * self._like(places, anchors)).sum(axis=1)
        own = own + (weights @ self._like(anchors, anchors) * weights).sum(axis=1)
        told = (self._local_weights(places) * self._shared(places)).sum(axis=1)
        return np.asarray(np.clip(own - told, 0.0, None))

    @cached_property
    def _known(self) -> Array:
        return np.array(self.locals_).reshape(-1, 2)

    @cached_property
    def _known_inverse(self) -> Array:
        return np.asarray(np.linalg.inv(self.local_alike))

    @cached_property
    def _known_less(self) -> tuple[Array, Array]:
        """What `_shared` needs of the known places again and again: likeness to the anchors, and its part of the base surface."""
        like = self._like(self.anchors, self._known)
        return like, self._like(self.anchors, self.anchors) @ self.weights(self._known).T

    def _local_weights(self, places: Array) -> Array:
        """(n, k): a place's own deviation is expected at weights @ those at `locals_` (simple kriging)."""
        if not self.alike:
            return np.asarray(apart(places, self._known) < 1e-6, dtype=float)
        return np.asarray(self._shared(places) @ self._known_inverse)

    def _shared(self, places: Array) -> Array:
        """(n, k) covariance of places' deviations with those at `locals_`, each less the base surface through the anchors'."""
        known = self._known
        to_anchors, of_anchors = self._known_less
        weights = self.weights(places)
        plain = self._like(places, known) - weights @ to_anchors
        return np.asarray(plain - self._like(places, self.anchors) @ self.weights(known).T + weights @ of_anchors)

    def _like(self, a: Array, b: Array) -> Array:
        length = TRAM.local_length * max(self.plate.width_mm, self.plate.depth_mm)
        return matern(apart(a, b) / length)
