"""How few proofs by eye a first layer can take: somebody who knows eye, plate and prior exactly, and has no other cause to think of.

Printed with each zone at one, two or three heights; called sound from a chance on. Nobody who knows less takes fewer and is right as often.
Run as a module.
"""

import numpy as np
from scipy.special import ndtr

from ivory_table.core.bead import GRADES, Bead
from ivory_table.core.defaults import PROOF
from ivory_table.trial.layer_world import SCENARIO

BEAD = Bead.usual(0.4)
LOW, HIGH = BEAD.bands_mm()["sound"]
MIDDLE = (LOW + HIGH) / 2
#: Between the grades, mm, from starved upwards.
BOUNDS = np.array([BEAD.bands_mm()[g][0] for g in GRADES[:-1]])[::-1]
#: Four corners and the middle; what offset, two tilts and the twist make of them.
FORMS = np.array([[1, u, v, u * v] for u, v in ((-0.8, -0.8), (0.8, -0.8), (-0.8, 0.8), (0.8, 0.8), (0, 0))])
FOLLOWS = FORMS @ np.linalg.pinv(FORMS)
APART = PROOF.heights_apart_share * (HIGH - LOW)
HEIGHTS = {"one": (0.0,), "two": (-0.026, 0.026), "three": (-APART, 0.0, APART)}
DRAWS, MACHINES, PROOFS_MOST, OFF_SD_MM = 20_000, 200, 8, 0.12


def gaps(rng: np.random.Generator, common: np.ndarray) -> np.ndarray:
    """(n, 5) gaps of plates whose middle lies at `common` (n,) mm."""
    tilts = rng.normal(0, SCENARIO["tilt_sd_mm"], (len(common), 3)) * (1, 1, 0.3)
    own = rng.normal(0, SCENARIO["zone_sd_mm"], (len(common), 5))
    return np.asarray(common[:, None] + tilts @ FORMS[:, 1:].T + own)


def all_sound(some: np.ndarray) -> np.ndarray:
    return np.asarray((some > LOW).all(axis=1) & (some < HIGH).all(axis=1))


def proofs_until_done(
    off: float, aways: tuple[float, ...], done_at: float, rng: np.random.Generator
) -> tuple[int, bool]:
    """How many were printed, and whether it was sound when it was said."""
    eye = rng.uniform(*SCENARIO["eye_mm"])
    true = gaps(rng, np.array([MIDDLE + off * rng.choice([-1, 1])]))
    drawn, weight = gaps(rng, MIDDLE + rng.normal(0, OFF_SD_MM, DRAWS)), np.full(DRAWS, 1 / DRAWS)
    for printed in range(1, PROOFS_MOST + 1):
        for away in aways:
            band = np.searchsorted(BOUNDS, true[0] + away + rng.normal(0, eye, 5))
            low, high = np.append(-9, BOUNDS)[band], np.append(BOUNDS, 9)[band]
            weight = weight * (ndtr((high - away - drawn) / eye) - ndtr((low - away - drawn) / eye)).prod(axis=1)
        weight /= weight.sum()
        mean = weight @ drawn
        if 1 / (weight**2).sum() < DRAWS / 10:
            # Drawn anew around the likely ones, with the same mean and spread.
            spread = (drawn - mean).T @ ((drawn - mean) * weight[:, None])
            kept = drawn[rng.choice(DRAWS, DRAWS, p=weight)]
            jitter = rng.multivariate_normal(np.zeros(5), 0.1 * spread + 1e-12 * np.eye(5), DRAWS)
            drawn, weight = 0.9**0.5 * kept + (1 - 0.9**0.5) * mean + jitter, np.full(DRAWS, 1 / DRAWS)
        moves = [np.full(5, MIDDLE - mean.mean()), FOLLOWS @ (MIDDLE - mean)]
        move = max(moves, key=lambda m: float(weight @ all_sound(drawn + m)))
        if weight @ all_sound(drawn) < done_at:
            true, drawn = (
                true + move + rng.normal(0, SCENARIO["hand_mm"]),
                drawn + move + rng.normal(0, SCENARIO["hand_mm"], (DRAWS, 1)),
            )
        if weight @ all_sound(drawn) >= done_at:
            return printed, bool(all_sound(true)[0])
    return PROOFS_MOST, bool(all_sound(true)[0])


def main() -> None:
    for off in (0.06, 0.15):
        for name, aways in HEIGHTS.items():
            for done_at in (0.9, 0.95):
                told = [proofs_until_done(off, aways, done_at, np.random.default_rng([1, k])) for k in range(MACHINES)]
                printed, sound = np.array(told, float).T
                error = 2 * printed.std() / MACHINES**0.5
                print(
                    f"{off:.2f} mm off, {name:5} to a zone, said from {done_at:.0%}: {printed.mean():.1f} ± {error:.1f} proofs, "
                    f"{sound.mean():.0%} sound"
                )


if __name__ == "__main__":
    main()
