"""Form: what knobs cannot fix, named and sized."""

from typing import Literal

import numpy as np

from .belief import Belief
from .surface import FORMS
from .value import Array, Value


class FormAmount(Value):
    """One form's amplitude. Bow positive: the centre is high by that much against the rim."""

    form: Literal["bow", "saddle", "twist"]
    amount_mm: float
    sd_mm: float


class NamedForm(Value):
    """The one form that stands out, with what reaches it."""

    name: Literal["bow", "cup", "saddle", "twist", "roll along x", "roll along y", "local"]
    amount_mm: float
    sd_mm: float
    words: str
    remedies: tuple[str, ...]


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


def named_form(belief: Belief, *, can_mesh: bool, passes_twist: float | None) -> NamedForm | None:
    """The largest form beyond 2 sd, by its name; None where nothing stands out.

    With height = b (u^2 + v^2) + s (u^2 - v^2) + t u v, a plate that bends along one axis only has
    b = s (curved along x: a roll along y) or b = -s. Amounts are mm from middle to edge.
    """
    mean, cov = belief.collapsed
    surface = belief.surface
    at = len(surface.anchors)
    b, s, _ = (float(v) for v in mean[at : at + 3])
    block = cov[at : at + 3, at : at + 3]

    def known(weights: tuple[float, float, float]) -> tuple[float, float]:
        w = np.array(weights)
        return float(w @ mean[at : at + 3]), float(np.sqrt(max(w @ block @ w, 1e-12)))

    along_x, along_y = known((1, 1, 0)), known((1, -1, 0))
    found: list[tuple[float, float, float, str, str]] = []

    def add(name: str, amount: float, sd: float, words: str) -> None:
        if abs(amount) > 2 * sd and abs(amount) > 0.01:
            found.append((abs(amount), amount, sd, name, words))

    bow, saddle, twist = known((1, 0, 0)), known((0, 1, 0)), known((0, 0, 1))
    rolls = abs(bow[0]) > 2 * bow[1] and abs(saddle[0]) > 2 * saddle[1]
    if rolls and abs(along_y[0]) < 0.35 * abs(along_x[0]):
        add("roll along y", along_x[0], along_x[1], "bent along x only, like a sheet rolled about y")
    elif rolls and abs(along_x[0]) < 0.35 * abs(along_y[0]):
        add("roll along x", along_y[0], along_y[1], "bent along y only, like a sheet rolled about x")
    else:
        add("bow" if b < 0 else "cup", -bow[0], bow[1], form_words("bow", -b))
        add("saddle", saddle[0], saddle[1], "saddle: " + ("left and right" if s > 0 else "front and rear") + " high")
    add("twist", twist[0], twist[1], "twisted: one diagonal high")
    if not found and surface.locals_:
        local, local_sd = mean[surface.first_local :], np.sqrt(np.diag(cov)[surface.first_local :])
        k = int(np.argmax(np.abs(local)))
        x, y = surface.locals_[k]
        add("local", float(local[k]), float(local_sd[k]), f"one place off, near ({x:.0f}, {y:.0f})")
    if not found:
        return None
    _, amount, sd, name, words = max(found)
    return NamedForm.model_validate(
        {
            "name": name,
            "amount_mm": amount,
            "sd_mm": sd,
            "words": words,
            "remedies": remedies(name, can_mesh=can_mesh, passes_twist=passes_twist),
        }
    )


def remedies(name: str, *, can_mesh: bool, passes_twist: float | None) -> tuple[str, ...]:
    """What reaches a form, best first."""
    out = []
    if can_mesh:
        out.append("Mesh: the machine follows the form while it prints.")
    if name == "twist" and passes_twist is not None:
        out.append(f"Knobs reach {passes_twist:.0%} of a twist on this plate; the rest is not theirs.")
    out.append("Shim plan: layers of paper or foil under the low places.")
    if name in ("bow", "cup", "roll along x", "roll along y"):
        out.append("A stiffer plate, or parts laid where this one lies closest to its plane: around the screws.")
    if name == "local":
        out.append("Look under the plate first: a crumb lifts one place.")
    return tuple(out)
