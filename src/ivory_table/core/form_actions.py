"""What may be done about the plate's form itself: let its heat settle, or fill it from below."""

import numpy as np

from .action import Action
from .bead import Bead
from .defaults import HEAT, JUDGE
from .field_seen import FieldPosterior
from .moves import best_shift, p_all_sound
from .value import Array
from .zones_sound import drawn_gaps


def wait_for_heat(field: FieldPosterior, bead: Bead, rise_mm: Array, minutes: float) -> Action | None:
    """Let the plate stand until it is still, then print again. `rise_mm` (z,): what each zone still rises; None where that is little."""
    if np.abs(rise_mm).max() < HEAT.still_moves_mm or minutes <= 0:
        return None
    low, high = bead.bands_mm()["sound"]
    p = p_all_sound(drawn_gaps(field, bead) - rise_mm, low, high)
    most = float(rise_mm[np.argmax(np.abs(rise_mm))])
    way = "rises" if most > 0 else "sinks"
    return Action(
        kind="wait_heat",
        p_all_sound=p,
        minutes=minutes + JUDGE.minutes.proof,
        total_minutes=minutes + JUDGE.minutes.proof,
        proofs_left=1.0,
        reason=(
            f"by the thermal study the plate still {way} by {abs(most):.3f} mm in the middle for about {minutes:.0f} minutes: "
            "what is changed now would be wrong when it stands still"
        ),
    )


def shim(
    field: FieldPosterior, bead: Bead, places: Array, z_step_mm: float, target_mm: float, *, knobs: bool, so_far: float
) -> Action | None:
    """Fill what no knob and no mesh evens out. `places` (z, 2) mm; `so_far`: the best chance anything else brings.

    What stands out after the best plane (one height, where there are no knobs) is filled in whole sheets, each zone by its own.
    """
    if so_far > JUDGE.shim_below or len(places) < 4:
        return None
    draws = drawn_gaps(field, bead)
    low, high = bead.bands_mm()["sound"]
    plane = (
        np.column_stack([np.ones(len(places)), places - places.mean(axis=0)]) if knobs else np.ones((len(places), 1))
    )
    mean = draws.mean(axis=0)
    form = mean - plane @ np.linalg.lstsq(plane, mean, rcond=None)[0]
    best: tuple[float, float, int] | None = None
    for sheet in JUDGE.shim_sheets_mm:
        sheets = np.round((form - form.min()) / sheet)
        # The plane is the knobs' to take out, and what is left of it by the height.
        after = draws - (mean - form if knobs else 0.0) - sheets * sheet + (mean.mean() if knobs else 0.0)
        shift = best_shift(after, low, high, target_mm, z_step_mm)
        p = p_all_sound(after + shift, low, high)
        if sheets.max() > 0 and (best is None or p > best[0]):
            best = (p, sheet, int(sheets.max()))
    if best is None or best[0] < so_far + JUDGE.shim_gains:
        return None
    p, sheet, most = best
    return Action(
        kind="shim",
        p_all_sound=p,
        minutes=JUDGE.minutes.shim + JUDGE.minutes.proof,
        total_minutes=JUDGE.minutes.shim + JUDGE.minutes.proof,
        proofs_left=1.0,
        reason=(
            f"the zones differ by {np.ptp(form):.3f} mm in a way that no height and no knob evens out; up to {most} "
            f"sheet{'s' if most > 1 else ''} of {sheet:g} mm under the low places would leave {100 * p:.0f} %"
        ),
    )
