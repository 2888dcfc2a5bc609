"""Is it steady: what a plate's temperature has been doing, from readings over time."""

from collections.abc import Sequence

import numpy as np

from .defaults import HEAT
from .value import Value


class Hold(Value):
    """How well a temperature is held."""

    held_minutes: float
    rate_c_min: float
    #: Half of the swing between highest and lowest over the last minutes.
    swing_c: float
    steady: bool
    words: str


def hold(seconds: Sequence[float], celsius: Sequence[float], target_c: float) -> Hold | None:
    """From times (n,) in s and temperatures (n,) in °C, oldest first; None with fewer than two readings.

    Held since the last reading outside target +- `HEAT.within_c`; the rate by least squares over
    the last `HEAT.window_minutes`, and not from before it was held.
    """
    if len(seconds) < 2:
        return None
    t, c = np.asarray(seconds, dtype=float), np.asarray(celsius, dtype=float)
    out = np.flatnonzero(np.abs(c - target_c) > HEAT.within_c)
    since = t[out[-1]] if len(out) else t[0]
    held = float(t[-1] - since) / 60 if not len(out) or out[-1] < len(t) - 1 else 0.0
    recent = t >= t[-1] - 60 * HEAT.window_minutes
    if held > 0:
        # How it came there is no swing of what is held.
        recent &= t >= t[np.argmax(np.abs(c - target_c) <= HEAT.within_c)]
    tr, cr = t[recent] - t[-1], c[recent]
    rate = float(np.polyfit(tr, cr, 1)[0] * 60) if len(tr) > 2 and np.ptp(tr) > 1 else 0.0
    swing = float(np.ptp(cr - np.polyval([rate / 60, 0], tr)) / 2) if len(tr) > 2 else 0.0
    steady = held > 0 and len(tr) > 2 and abs(rate) <= HEAT.steady_c_min and swing <= HEAT.swing_c
    if held <= 0:
        words = f"{c[-1]:.1f} of {target_c:.0f} °C, {'rising' if rate > 0 else 'falling'} {abs(rate):.1f} °C a minute"
    else:
        words = f"held for {held:.0f} min at {target_c:.0f} °C, swinging by ±{swing:.1f} °C"
        if swing > HEAT.swing_c:
            words += "; tune the heater at this temperature"
        elif abs(rate) > HEAT.steady_c_min:
            words += f", still moving {rate:+.1f} °C a minute".replace("-", "−")
    return Hold(held_minutes=held, rate_c_min=rate, swing_c=swing, steady=steady, words=words)
