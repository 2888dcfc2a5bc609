"""What a screw does to the plate: the plate bends, and its supports yield."""

import numpy as np
from numpy.typing import ArrayLike

from .defaults import TRAM
from .value import Array


def coupling(lam: ArrayLike, energy: Array) -> Array:
    """A = (I + Lam K)^-1: screw moves (mm up) to moves of the plate at the screws.

    `lam` (..., m) compliances, `energy` (m, m) bending energy with softest mode 1.
    Returns (..., m, m). A plane passes whole; each bending mode is damped.
    """
    lam = np.asarray(lam, dtype=float)
    if np.any(lam < 0):
        raise ValueError("A support cannot push back when pressed: compliance must be zero or more.")
    return np.asarray(np.linalg.inv(np.eye(len(energy)) + lam[..., :, None] * energy))


def hand_error_mm(turn_mm: ArrayLike) -> Array:
    """One sd of what a hand makes of a wanted move: sqrt(0.008^2 + (3 %)^2)."""
    return np.asarray(np.hypot(TRAM.hand_floor_mm, TRAM.hand_share * np.asarray(turn_mm)))


def tolerance_mm(layer_mm: float) -> float:
    """tol = 0.15 x first layer height; the screws' heights must lie within 2 tol."""
    return TRAM.tol_share_of_layer * layer_mm
