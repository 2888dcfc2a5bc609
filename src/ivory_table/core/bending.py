"""How a free plate bends when it is held at points.

Kirchhoff plate with free edges, by Ritz's method (Timoshenko and Woinowsky-Krieger 1959, ch. 10)
in monomials, whose integrals over a rectangle and a disc are closed. A thin-plate spline is an
infinite plate: beside its softest mode the others come out several times too soft.
"""

from functools import lru_cache

import numpy as np
from scipy.special import beta, perm

from .defaults import TRAM
from .plate import Plate
from .value import Array

#: Highest total degree of the deflection: the modes that up to a dozen screws can see are settled by then.
DEGREE = 8


def held_at(plate: Plate, anchors: Array, degree: int = DEGREE) -> tuple[Array, Array]:
    """The plate of least bending energy through heights h at (m, 2) anchors.

    Returns its energy's matrix (m, m), h'Kh up to a factor (planes have none), and (terms, m)
    coefficients of `bent_terms`, one column for each height. Raises ValueError where the anchors lie on one line.
    """
    m = len(anchors)
    if np.linalg.matrix_rank(anchors - anchors.mean(axis=0), tol=1.0) < 2:
        raise ValueError("The screws lie on one line or on one point: they do not hold a plate.")
    at = bent_terms(plate, anchors, degree)
    energy = energy_of(plate.shape, plate.width_mm / plate.depth_mm, degree)
    t = len(energy)
    system = np.block([[energy, at.T], [at, np.zeros((m, m))]])
    inverse = np.linalg.inv(system)
    stiffness = -inverse[t:, t:]
    return (stiffness + stiffness.T) / 2, inverse[:t, t:]


def bent_terms(plate: Plate, xy: Array, degree: int = DEGREE) -> Array:
    """(n, 2) places in mm -> (n, terms) monomials in the plate's own frame, -1 to 1."""
    (cx, cy), (i, j) = plate.centre, _exponents(degree)
    u, v = (xy[:, 0] - cx) * 2 / plate.width_mm, (xy[:, 1] - cy) * 2 / plate.depth_mm
    return np.asarray(u[:, None] ** i * v[:, None] ** j)


@lru_cache(maxsize=64)
def energy_of(shape: str, width_by_depth: float, degree: int = DEGREE) -> Array:
    """(terms, terms) bending energy of the monomials, up to a factor."""
    moments = _moments(shape, 2 * degree)
    i, j = _exponents(degree)

    def derived(by_u: int, by_v: int) -> tuple[Array, Array, Array]:
        factor = perm(i, by_u) * perm(j, by_v) * width_by_depth**by_v
        return np.asarray(factor), i - by_u, j - by_v

    def product(a: tuple[Array, Array, Array], b: tuple[Array, Array, Array]) -> Array:
        powers = [np.maximum(p[:, None] + q, 0) for p, q in zip(a[1:], b[1:], strict=True)]
        return np.asarray(a[0][:, None] * b[0] * moments[powers[0], powers[1]])

    uu, vv, uv = derived(2, 0), derived(0, 2), derived(1, 1)
    mixed = product(uu, vv)
    nu = TRAM.plate_poisson
    return product(uu, uu) + product(vv, vv) + nu * (mixed + mixed.T) + 2 * (1 - nu) * product(uv, uv)


@lru_cache(maxsize=4)
def _exponents(degree: int) -> tuple[Array, Array]:
    pairs = [(i, j) for i in range(degree + 1) for j in range(degree + 1 - i)]
    i, j = np.array(pairs).T
    return i, j


def _moments(shape: str, highest: int) -> Array:
    """Integrals of u^a v^b over the square or disc of half width 1, (highest + 1, highest + 1)."""
    a, b = np.meshgrid(np.arange(highest + 1), np.arange(highest + 1), indexing="ij")
    whole = 2 / (a + b + 2) * beta((a + 1) / 2, (b + 1) / 2) if shape == "round" else 4 / ((a + 1) * (b + 1))
    return np.where((a % 2 == 0) & (b % 2 == 0), whole, 0.0)
