"""A heater behind some mass: lag, overshoot, a thermostat that swings, and its ways to fail."""

from dataclasses import dataclass
from typing import Literal

ROOM_C = 21.0


@dataclass
class Heater:
    """An element that heats a body; temperatures in °C, times in s. First-order lags in a row."""

    #: How fast the element climbs at full power (°C/s), and the body's lag behind it (s).
    climb_c_s: float
    lag_s: float
    #: How fast the body loses heat to the room (share per s).
    loss_per_s: float
    most_c: float
    element_c: float = ROOM_C
    body_c: float = ROOM_C
    target_c: float = 0.0
    fault: Literal["", "stopped", "open"] = ""
    _on: bool = False

    def pass_time(self, seconds: float) -> None:
        """Let time go by, in steps short against the lag."""
        while seconds > 1e-9:
            dt = min(seconds, self.lag_s / 6)
            if not self.target_c or self.body_c > self.target_c + 0.25:
                self._on = False
            elif self.body_c < self.target_c - 0.25:
                self._on = True
            power = self.climb_c_s if self._on and not self.fault else 0.0
            # Hot enough for the body to settle a little above: a thermostat that does not waste heat.
            if power and self.element_c > self.target_c + 6:
                power = 0.0
            self.element_c += (power - self.loss_per_s * (self.element_c - ROOM_C)) * dt
            self.body_c += (self.element_c - self.body_c) * dt / self.lag_s
            seconds -= dt

    @property
    def reading_c(self) -> float:
        """What the thermistor says: an open one reads far below any room."""
        return -15.0 if self.fault == "open" else self.body_c


def bed() -> Heater:
    return Heater(climb_c_s=0.8, lag_s=12.0, loss_per_s=0.0035, most_c=130.0)


def tip() -> Heater:
    return Heater(climb_c_s=4.0, lag_s=3.0, loss_per_s=0.009, most_c=300.0)
