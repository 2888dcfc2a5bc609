"""What a screw does to the plate: the plate bends, and its supports yield."""

import numpy as np
from numpy.typing import ArrayLike

from .defaults import TRAM
from .surface import Array, bending_energy


def coupling(lam: ArrayLike, energy: Array) -> Array:
    """A = (I + Lam K)^-1: screw moves (mm up) to moves of the plate at the screws.

    `lam` (..., m) compliances, `energy` (m, m) bending energy with largest mode 1.
    Returns (..., m, m). A plane passes whole; each bending mode is damped.
    """
    lam = np.asarray(lam, dtype=float)
    if np.any(lam < 0):
        raise ValueError("A support cannot push back when pressed: compliance must be zero or more.")
    return np.asarray(np.linalg.inv(np.eye(len(energy)) + lam[..., :, None] * energy))


def twist_passed(passes: Array, anchors: Array) -> Array:
    """Share of the stiffest bending mode that reaches the plate: kappa = u' A u, u that mode.

    `passes` (..., m, m) couplings; returns (...). Three screws bend nothing: 1.
    """
    if len(anchors) <= 3:
        return np.ones(passes.shape[:-2])
    u = np.linalg.eigh(bending_energy(anchors))[1][:, -1]
    return np.asarray(np.einsum("i,...ij,j->...", u, passes, u))


def hand_error_mm(turn_mm: ArrayLike) -> Array:
    """One sd of what a hand makes of a wanted move: sqrt(0.008^2 + (3 %)^2)."""
    return np.asarray(np.hypot(TRAM.hand_floor_mm, TRAM.hand_share * np.asarray(turn_mm)))


def tolerance_mm(layer_mm: float) -> float:
    """tol = 0.15 x first layer height; the screws' heights must lie within 2 tol."""
    return TRAM.tol_share_of_layer * layer_mm
