"""Random plates trammed through the station code, beside the ring. `python benchmarks/trial.py --help`."""

import argparse
import json
import time
import tomllib
from pathlib import Path

import numpy as np

from ivory_table.core import advice
from ivory_table.core.belief import Belief
from ivory_table.core.defaults import TRAM
from ivory_table.core.plate import Plate, Screw
from ivory_table.core.surface import Surface, bending_energy
from ivory_table.core.tram import coupling, hand_error_mm, tolerance_mm

SCENARIO = tomllib.loads(Path(__file__).with_name("scenario.toml").read_text())


def screws() -> tuple[Screw, ...]:
    return tuple(Screw(pitch_mm=SCENARIO["pitch_mm"], **s) for s in SCENARIO["screws"])


class Truth:
    """A plate with its own knobs and hand: what the advice must not see."""

    def __init__(self, rng: np.random.Generator, kappa: float) -> None:
        self.rng, self.screws = rng, screws()
        energy = bending_energy(np.array([[s.x_mm, s.y_mm] for s in self.screws]))
        self.a = coupling(np.full(4, 1 / kappa - 1), energy)
        self.h = self.a @ rng.normal(0, SCENARIO["knob_sd_mm"], 4)

    def within(self, tol: float) -> bool:
        return bool(np.ptp(self.h) <= 2 * tol)

    def until_drag(self, j: int) -> int:
        wanted = (self.rng.normal(0, SCENARIO["feel_sd_mm"]) - self.h[j]) / self.a[j, j]
        self.move(j, wanted)
        return round(wanted / self.screws[j].mm_per_mark * self.screws[j].sense)

    def turn(self, j: int, marks: float) -> None:
        self.move(j, marks * self.screws[j].mm_per_mark * self.screws[j].sense)

    def move(self, j: int, up: float) -> None:
        if up:
            self.h = self.h + self.a[:, j] * (up + self.rng.normal(0, float(hand_error_mm(up))))


def count(truth: Truth, start: Belief, tol: float, trace: list | None = None) -> tuple[int, bool, float]:
    belief, last, seen, seconds = start, None, set(), []
    stop = 0
    for stop in range(1, SCENARIO["cap"] + 1):  # noqa: B007, it is the count that is returned
        t0 = time.perf_counter()
        j = advice.next_stop(belief, truth.screws, 0.0, last).screw
        dt = time.perf_counter() - t0
        marks = truth.until_drag(j)
        t0 = time.perf_counter()
        belief = advice.counted(belief, truth.screws, j, marks, 0.0)
        more = advice.further(belief, truth.screws, j, tol, 0.0)
        seconds.append(time.perf_counter() - t0 + dt)
        if more.marks:
            truth.turn(j, more.marks)
            belief = advice.turned(belief, truth.screws, j, more.marks)
        last = j
        seen.add(j)
        p = belief.p_within(tol)
        if trace is not None:
            trace.append((4 - len(seen), p))
        if len(seen) >= 3 and p >= TRAM.done_at:
            break
    return stop, truth.within(tol), float(np.median(seconds))


def ring(truth: Truth, tol: float) -> tuple[int, bool]:
    """Round and round until a round has no turn over 1/16."""
    stops = 0
    while stops < 2 * SCENARIO["cap"]:
        largest = 0
        for j in SCENARIO["ring"]:
            largest = max(largest, abs(truth.until_drag(j)))
            stops += 1
        if largest <= 1:
            break
    return stops, truth.within(tol)


def trial(plates: int, seed: int, kappas: list[float]) -> dict:
    tol = tolerance_mm(SCENARIO["layer_mm"])
    plate = Plate(id="trial", name="trial", width_mm=SCENARIO["width_mm"], depth_mm=SCENARIO["depth_mm"])
    surface = Surface(plate, np.array([[s.x_mm, s.y_mm] for s in screws()]))
    new = Belief.prior(surface, bias_sd_mm=0.02)
    rows = []
    for kappa in kappas:
        counting, rings = [], []
        for k in range(plates):
            counting.append(count(Truth(np.random.default_rng([seed, k]), kappa), new, tol))
            rings.append(ring(Truth(np.random.default_rng([seed, k]), kappa), tol))
        stops = np.array([c[0] for c in counting])
        rows.append(
            {
                "kappa": kappa,
                "counting_stops": round(float(stops.mean()), 2),
                "counting_stops_2se": round(float(2 * stops.std() / len(stops) ** 0.5), 2),
                "counting_truly_within": round(float(np.mean([c[1] for c in counting])), 3),
                "counting_capped": int((stops >= SCENARIO["cap"]).sum()),
                "ring_stops": round(float(np.mean([r[0] for r in rings])), 2),
                "ring_truly_within": round(float(np.mean([r[1] for r in rings])), 3),
                "advice_ms_median": round(1e3 * float(np.median([c[2] for c in counting])), 2),
            }
        )
    return {"scenario": "benchmarks/scenario.toml", "plates": plates, "seed": seed, "rows": rows}


def stops_table(plates: int, seed: int) -> list[list[float]]:
    """Mean stops still to come by knobs not yet visited (rows) and P(within) (columns)."""
    tol = tolerance_mm(SCENARIO["layer_mm"])
    plate = Plate(id="trial", name="trial", width_mm=SCENARIO["width_mm"], depth_mm=SCENARIO["depth_mm"])
    new = Belief.prior(Surface(plate, np.array([[s.x_mm, s.y_mm] for s in screws()])), bias_sd_mm=0.02)
    bins: dict[tuple[int, int], list[int]] = {}
    for kappa in SCENARIO["kappas"]:
        for k in range(plates):
            trace: list = []
            stops, _, _ = count(Truth(np.random.default_rng([seed, k]), kappa), new, tol, trace)
            for i, (unvisited, p) in enumerate([(4, 0.0), *trace]):
                column = next((c for c, top in enumerate(TRAM.stops_left_p) if p < top), None)
                if column is not None:
                    bins.setdefault((unvisited, column), []).append(stops - i)
    rows = []
    for unvisited in range(5):
        row: list[float] = []
        for column in range(len(TRAM.stops_left_p)):
            seen = bins.get((unvisited, column), [])
            # Hardly ever seen: as its neighbour of less certainty.
            row.append(round(float(np.mean(seen)), 1) if len(seen) >= 20 or not row else row[-1])
        rows.append(row)
    return rows


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--plates", type=int, default=500)
    parser.add_argument("--seed", type=int, default=7)
    parser.add_argument("--kappa", type=float, nargs="*", default=SCENARIO["kappas"])
    parser.add_argument("--stops-table", action="store_true")
    args = parser.parse_args()
    result = stops_table(args.plates, args.seed) if args.stops_table else trial(args.plates, args.seed, args.kappa)
    print(json.dumps(result, indent=1))
