"""Form: what knobs cannot fix, named and sized."""

from typing import Literal

import numpy as np

from .belief import Belief
from .surface import FORMS, Array
from .value import Value


class FormAmount(Value):
    """One form's amplitude. Bow positive: the centre is high by that much against the rim."""

    form: Literal["bow", "saddle", "twist"]
    amount_mm: float
    sd_mm: float


class PlaneFit(Value):
    """A least-squares plane with forms on top, over n points."""

    mean_mm: float
    tilt_x_mm: float
    tilt_y_mm: float
    forms: tuple[FormAmount, ...]
    range_mm: float
    left_over_mm: float


def form_words(form: str, amount_mm: float) -> str:
    """The plain word for a form of a given sign."""
    if form == "bow":
        return "bowed, centre high" if amount_mm > 0 else "cupped, centre low"
    return {"saddle": "saddle", "twist": "twisted"}[form]


def believed_forms(belief: Belief) -> tuple[FormAmount, ...]:
    """Amplitudes of the forms in the belief; bow is turned so that positive means centre high."""
    mean, cov = belief.collapsed
    a = len(belief.surface.anchors)
    return tuple(
        FormAmount(
            form=name,
            amount_mm=float(-mean[a + k] if name == "bow" else mean[a + k]),
            sd_mm=float(np.sqrt(max(cov[a + k, a + k], 0.0))),
        )
        for k, name in enumerate(FORMS)
    )


def fit(xy: Array, heights: Array, bounds: tuple[float, float, float, float]) -> PlaneFit:
    """Plane and forms of n measured heights (mm) at (n, 2) places, by least squares.

    Fits 1, u, v and then, with six points or more, u^2 + v^2, u^2 - v^2 and u v in
    coordinates scaled to +-1 over `bounds`. Tilts are mm from edge to edge.
    """
    if len(heights) < 3:
        raise ValueError("Three points at least are needed to see a plane.")
    x0, y0, x1, y1 = bounds
    u = 2 * (xy[:, 0] - x0) / (x1 - x0) - 1
    v = 2 * (xy[:, 1] - y0) / (y1 - y0) - 1
    plane = np.column_stack([np.ones_like(u), u, v])
    shapes = np.column_stack([u * u + v * v, u * u - v * v, u * v])
    full = len(heights) >= 6 and np.linalg.matrix_rank(np.column_stack([plane, shapes])) == 6
    design = np.column_stack([plane, shapes]) if full else plane
    coef, *_ = np.linalg.lstsq(design, heights, rcond=None)
    left = heights - design @ coef
    dof = max(len(heights) - design.shape[1], 1)
    cov = np.linalg.pinv(design.T @ design) * float(left @ left) / dof
    forms: tuple[FormAmount, ...] = ()
    if full:
        forms = tuple(
            FormAmount(
                form=name,
                amount_mm=float(-coef[3 + k] if name == "bow" else coef[3 + k]),
                sd_mm=float(np.sqrt(max(cov[3 + k, 3 + k], 0.0))),
            )
            for k, name in enumerate(FORMS)
        )
    return PlaneFit(
        mean_mm=float(np.mean(heights)),
        tilt_x_mm=float(2 * coef[1]),
        tilt_y_mm=float(2 * coef[2]),
        forms=forms,
        range_mm=float(np.ptp(heights)),
        left_over_mm=float(np.sqrt(np.mean((heights - plane @ np.linalg.lstsq(plane, heights, rcond=None)[0]) ** 2))),
    )
