"""What a run found of its plate and what it leaves: the gaps of the first layer at the middle and over each support."""

from typing import Any

import numpy as np

from ivory_table.core.drift import PlateSeen
from ivory_table.core.proof_field import field_prior
from ivory_table.core.setup import RunSetup
from ivory_table.core.value import Array

from .run import OpenRun
from .state import RunState

#: What a knob's turn gives at its support is known to this share.
TURN_SHARE = 0.1


def places_of(setup: RunSetup) -> tuple[tuple[str, ...], Array]:
    """Names and (n, 2) places: the middle, then the supports, or the corners of a plate without any."""
    plate = setup.plate
    screws = setup.machine.screws
    if screws:
        return ("centre", *(s.name for s in screws)), np.array([plate.centre, *((s.x_mm, s.y_mm) for s in screws)])
    x0, y0, x1, y1 = plate.bounds
    mx, my = 0.15 * (x1 - x0), 0.15 * (y1 - y0)
    corners = [(x0 + mx, y0 + my), (x1 - mx, y0 + my), (x0 + mx, y1 - my), (x1 - mx, y1 - my)]
    names = ("centre", "front left", "front right", "rear left", "rear right")
    return names, np.array([plate.centre, *corners])


def seen_of(run: OpenRun) -> tuple[PlateSeen | None, PlateSeen] | None:
    """(found, left), or None where nothing was measured or graded in this run.

    Where all springs were backed off, nobody knows any more how it was found.
    """
    if not any(e.what.effect in ("reads", "moves_plate") for e in run.entries):
        return None
    state = run.state.with_marks() if run.state.signed_off else run.state
    left = _gaps(state, run.setup)
    if any(e.what.kind == "backed_off" for e in run.entries):
        return None, left
    return _found(state, left), left


def _gaps(state: RunState, setup: RunSetup) -> PlateSeen:
    names, places = places_of(setup)
    bead = state.bead
    low, high = bead.bands_mm()["sound"]
    _, mean, cov = field_prior(state.belief, places, bead.layer_mm, state.machine_believes(places))
    n = len(names)
    return PlateSeen(
        places=names,
        **_as_kept(mean[:n], cov[:n, :n]),
        target_mm=round(bead.target_mm(setup.filament.material), 4),
        low_mm=round(low, 4),
        high_mm=round(high, 4),
    )


def _found(state: RunState, left: PlateSeen) -> PlateSeen:
    """What was there before anything was turned or stored: what is left, with all that was done taken back."""
    # A plate without screws was not turned anywhere.
    moved = np.array(state.moved_mm) if state.screws else np.zeros(len(left.places) - 1)
    up = np.append(moved.mean(), moved)
    gap = np.array(left.gap_mm) + up - state.belief.shift_mm
    return left.model_copy(update=_as_kept(gap, left.covariance + np.diag((TURN_SHARE * up) ** 2)))


def _as_kept(gap: Array, cov: Array) -> dict[str, Any]:
    """Gaps and their covariance with no more digits than they are worth."""
    return {
        "gap_mm": tuple(round(float(v), 5) for v in gap),
        "cov": tuple(tuple(round(float(v), 9) for v in row) for row in cov),
    }
