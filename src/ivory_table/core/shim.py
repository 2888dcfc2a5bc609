"""Shim plan: what no knob reaches, filled from below with layers of a sheet of known thickness."""

import numpy as np
from contourpy import contour_generator
from pydantic import Field

from .belief import Belief
from .plate import Plate
from .value import Array, Value

GRID = 61


class Outline(Value):
    """A closed line on the plate, mm; the first of a layer's is outer or inner alike (even-odd filled)."""

    points_mm: tuple[tuple[float, float], ...]


class ShimLayer(Value):
    """One sheet to cut. The layer at the bottom is the largest."""

    number: int
    outlines: tuple[Outline, ...]
    area_mm2: float


class ShimPlan(Value):
    """Layers to lay under the plate, and what is expected of them. Ranges are over the plate inside its margin, mm."""

    sheet_mm: float
    layers: tuple[ShimLayer, ...]
    range_before_mm: float
    range_after_mm: float
    sd_mm: float = Field(description="How well the plate's shape is known, as one sd at its least known place.")
    sentence: str


def shim_plan(belief: Belief, plate: Plate, sheet_mm: float, *, margin_mm: float = 6.0) -> ShimPlan:
    """Layers of `sheet_mm` that bring the low places up to the highest, as far as whole sheets can.

    The plane through the screws is taken out first: that is the knobs' business. A place gets as many
    sheets as fit under the highest place, rounded, so no place stands out by more than half a sheet.
    Assumes a plate that follows its support, as a thin sheet on a rigid base does; a stiff plate
    follows less. Raises ValueError for a sheet thinner than 0.01 or thicker than 1 mm.
    """
    if not 0.01 <= sheet_mm <= 1.0:
        raise ValueError("Give the sheet's thickness between 0.01 and 1 mm, measured on a folded stack.")
    x0, y0, x1, y1 = plate.bounds
    xs, ys = np.linspace(x0, x1, GRID), np.linspace(y0, y1, GRID)
    gx, gy = np.meshgrid(xs, ys)
    places = np.column_stack([gx.ravel(), gy.ravel()])
    rows = belief.surface.rows(places)
    inside = np.array([plate.holds(float(x), float(y), margin_mm) for x, y in places])
    # The plane is taken out of the rows, so that its uncertainty goes with it.
    plane = np.column_stack([np.ones(len(places)), places - places.mean(axis=0)])
    fit = np.linalg.pinv(plane[inside]) @ rows[inside]
    mean, sd = belief.of(rows - plane @ fit)
    top = float(np.percentile(mean[inside], 98))
    sheets = np.where(inside, np.maximum(np.round((top - mean) / sheet_mm), 0), 0)
    layers = []
    for number in range(1, int(sheets.max()) + 1):
        outlines, area = _outlines(xs, ys, (top - mean).reshape(GRID, GRID), inside, (number - 0.5) * sheet_mm)
        if outlines:
            layers.append(ShimLayer(number=number, outlines=outlines, area_mm2=area))
    after = mean + sheets * sheet_mm
    before_range, after_range = float(np.ptp(mean[inside])), float(np.ptp(after[inside]))
    worst_sd = float(sd[inside].max())
    if layers and after_range > 0.9 * before_range:
        layers, after_range = [], before_range
        sentence = (
            f"A sheet of {sheet_mm:g} mm is too thick for {before_range:.2f} mm of form: it would mend nothing. "
            "Take a thinner one, or a mesh."
        )
    elif not layers:
        sentence = f"Nothing to shim: no place lies half a sheet ({sheet_mm / 2:.2f} mm) below the highest."
    else:
        sentence = (
            f"{len(layers)} layer{'s' if len(layers) > 1 else ''} of {sheet_mm:g} mm: the plate's range goes from "
            f"{before_range:.2f} to about {after_range:.2f} mm, shape known to ±{worst_sd:.2f}."
        )
        if worst_sd > sheet_mm / 2:
            sentence += " The shape is not known well enough for this sheet: measure a mesh first."
    return ShimPlan(
        sheet_mm=sheet_mm,
        layers=tuple(layers),
        range_before_mm=before_range,
        range_after_mm=after_range,
        sd_mm=worst_sd,
        sentence=sentence,
    )


def _outlines(xs: Array, ys: Array, low: Array, inside: Array, level: float) -> tuple[tuple[Outline, ...], float]:
    """Where the plate is low by more than `level`: closed lines and their area, cut at the margin."""
    z = np.where(inside.reshape(low.shape), low, -1.0)
    # A rim of nothing closes every line.
    dx, dy = xs[1] - xs[0], ys[1] - ys[0]
    z = np.pad(z, 1, constant_values=-1.0)
    x = np.concatenate([[xs[0] - dx], xs, [xs[-1] + dx]])
    y = np.concatenate([[ys[0] - dy], ys, [ys[-1] + dy]])
    lines = contour_generator(x, y, z).lines(level)
    outlines, area = [], 0.0
    for line in lines:
        points = np.asarray(line, dtype=float)
        if len(points) < 4:
            continue
        px, py = points[:, 0], points[:, 1]
        # The shoelace formula; holes run the other way round and are taken off.
        area += float(0.5 * (px[:-1] @ py[1:] - px[1:] @ py[:-1]))
        outlines.append(Outline(points_mm=tuple((round(float(a), 2), round(float(b), 2)) for a, b in points)))
    return tuple(outlines), abs(area)
