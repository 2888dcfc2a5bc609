"""The tram policies on random plates they cannot see, beside the ring and the diagonal: the table of `docs/models.md`."""

import multiprocessing
import time
from collections.abc import Callable
from typing import Any

import numpy as np

from ivory_table.core import advice, tram_told
from ivory_table.core.belief import Belief
from ivory_table.core.defaults import TRAM
from ivory_table.core.further import further
from ivory_table.core.gauge import FeelScale
from ivory_table.core.plate import Screw
from ivory_table.core.prior import first_belief
from ivory_table.core.value import Array

from .tram_plates import SCENARIO, TOL, CoupledPlate, Person, SprungPlate, screws_of, surface_of

SCENARIO_FILE = "ivory_table/trial/tram.toml"
ELASTIC = "elastic"


def order_of(count: int, way: str) -> list[int]:
    found: list[int] = next(s[way] for s in SCENARIO["sets"] if s["name"] == str(count))
    return found


def cap(screws: tuple[Screw, ...]) -> int:
    return int(SCENARIO["cap_per_screw"] * len(screws))


class Tally:
    """What one tram under a policy brought."""

    def __init__(self) -> None:
        self.stops = self.rounds = self.rounds_turned = self.readings = self.false_alarms = 0
        self.within = False
        self.held: list[bool] = []
        self.spread_held: list[bool] = []
        self.seconds: list[float] = []
        self.trace: list[tuple[int, float]] = []
        self.found: bool | None = None


def new_belief(screws: tuple[Screw, ...]) -> Belief:
    return first_belief(surface_of(screws), bias_sd_mm=0.02, thread_sd=TRAM.thread_sd)


def known_belief(belief: Belief) -> Belief:
    """The next run's prior, as the workshop keeps it at sign-off: of the machine and of the same person's feel."""
    lam = belief.compliance_learnt() if belief.surface.knobs > 3 else None
    scatter, ln_sd = belief.scatter_learnt()
    return first_belief(
        belief.surface,
        bias_sd_mm=0.02,
        feel=FeelScale(scatter_mm=scatter, scatter_ln_sd=ln_sd),
        lam_known=lam,
        gains_known=belief.gains_for_next(),
        answer_known=belief.answer_learnt(),
        reversed_share=TRAM.reversed_proved,
    )


def _hold(tally: Tally, belief: Belief, heights: Array) -> None:
    lows, highs = belief.height_interval()
    against = heights - heights.mean()
    tally.held += list((lows <= against) & (against <= highs))
    low, high = belief.spread_interval()
    tally.spread_held.append(low <= float(np.ptp(heights)) <= high)


def counting(person: Person, belief: Belief) -> tuple[Tally, Belief]:
    """The default by hand: where to go, count to the drag, so much further."""
    tally, screws, last, seen = Tally(), person.screws, None, set[int]()
    alarmed = np.zeros(len(screws), dtype=bool)
    for stop in range(1, cap(screws) + 1):
        t0 = time.perf_counter()
        visit = advice.next_stop(belief, screws, 0.0, TOL, last)
        j, seconds = visit.screw, time.perf_counter() - t0
        turn = not visit.feel
        if visit.feel:
            feel = person.slide(j)
            turn = feel in ("free", "stuck")
            t0 = time.perf_counter()
            belief = tram_told.felt(belief, screws[j].x_mm, screws[j].y_mm, 0.0, feel, 0.0, FeelScale())
            seconds += time.perf_counter() - t0
        still = None
        if turn:
            before = float(person.plant.heights[j])
            tight = before + float(person.rng.normal(0, SCENARIO["feel_sd_mm"])) > 0
            ask_before = advice.sense_in_doubt(belief, j)
            marks, still = person.until_drag(j, visit.most_marks)
            moved = abs(float(person.plant.heights[j]) - before)
            t0 = time.perf_counter()
            if still is None:
                belief = tram_told.counted(belief, screws, j, marks, 0.0)
            else:
                person.turn(j, -marks)
                belief = tram_told.not_reached(belief, screws, j, marks, still, 0.0, dragged_before=j in seen)
            if ask_before and still is None:
                belief = tram_told.felt_before(belief, screws, j, marks, "tight" if tight else "loose")
            said = belief.p_reversed() > TRAM.reversed_at
            if j == person.reversed_knob and moved >= SCENARIO["seen_mm"] and tally.found is None:
                tally.found = bool(said[j])
            fresh = said & ~alarmed
            alarmed |= said
            tally.false_alarms += int(fresh.sum() - (person.reversed_knob >= 0 and fresh[person.reversed_knob]))
            seconds += time.perf_counter() - t0
        if still is None:
            t0 = time.perf_counter()
            more = further(belief, screws, j, TOL, 0.0)
            seconds += time.perf_counter() - t0
            if more.marks:
                person.turn(j, more.marks)
                belief = tram_told.turned(belief, screws, j, more.marks)
        tally.seconds.append(seconds)
        last, tally.stops = j, stop
        seen.add(j)
        p = belief.p_within(TOL)
        tally.trace.append((len(screws) - len(seen), p))
        _hold(tally, belief, person.plant.heights)
        if p >= TRAM.done_at and advice.enough_felt(len(seen), belief.surface):
            break
    tally.rounds = -(-tally.stops // len(screws))
    tally.within = person.within()
    return tally, belief


def read_all(person: Person, belief: Belief) -> tuple[Tally, Belief]:
    """Readings in mm at every screw, then all the turns at once, in half marks.

    A knob whose sense is in doubt is proved where the instrument stands: a turn, and one more reading.
    """
    tally, screws = Tally(), person.screws
    surface = belief.surface

    def read(before: Belief, j: int) -> Belief:
        value = float(person.plant.heights[j]) + 0.3 + float(person.rng.normal(0, SCENARIO["reading_sd_mm"]))
        row = before.gap_row(screws[j].x_mm, screws[j].y_mm) + surface.unit(surface.probe_zero)
        tally.readings += 1
        return before.read(row, value, TRAM.dial_sd_mm)

    for number in range(1, cap(screws) + 1):
        for j in range(len(screws)):
            belief = read(belief, j)
            if number == 1 and advice.sense_in_doubt(belief, j):
                proving = advice.proving_turns(belief, screws, j)[0]
                person.turn(j, proving)
                belief = read(tram_told.turned(belief, screws, j, proving), j)
        t0 = time.perf_counter()
        done = number > 1 and belief.p_within(TOL) >= TRAM.done_at
        marks = np.zeros(len(screws))
        if not done:
            marks, _ = advice.turns_worth_making(belief, screws, SCENARIO["reading_marks"], TOL)
        tally.seconds.append(time.perf_counter() - t0)
        for j, m in enumerate(marks):
            if m:
                person.turn(j, float(m))
                belief = tram_told.turned(belief, screws, j, float(m))
        tally.rounds = number
        tally.rounds_turned += bool(np.any(marks))
        tally.stops += len(screws)
        _hold(tally, belief, person.plant.heights)
        if belief.p_within(TOL) >= TRAM.done_at and not (surface.many and np.any(marks)):
            break
    tally.within = person.within()
    return tally, belief


def round_and_round(person: Person, order: list[int]) -> Tally:
    """By hand without the program: until a whole round needs no turn over one mark."""
    tally = Tally()
    while tally.stops < 3 * cap(person.screws):
        turns = [abs(person.until_drag(j)[0]) for j in order]
        tally.stops += len(order)
        if max(turns) <= 1:
            break
    tally.within = person.within()
    return tally


Policy = Callable[[Person, Belief], tuple[Tally, Belief]]


def draws(seed: int, number: int, of: int = 0) -> np.random.Generator:
    """One machine's own stream: its plate (0), or the hand of its first, second, ... run (1, 2, ...).

    Plain seeds [7, 3] and [7, 3, 0] would give one and the same: the hand would slip as the plate is crooked.
    """
    return np.random.default_rng(np.random.SeedSequence(seed, spawn_key=(number, of)))


def plate_for(truth: float | str, rng: np.random.Generator, screws: tuple[Screw, ...], crown_mm: float) -> Any:
    return SprungPlate(rng, screws, crown_mm) if isinstance(truth, str) else CoupledPlate(rng, screws, truth)


def _one(job: tuple[float | str, int, int, int, float, float, int]) -> dict[str, Tally]:
    """Every policy on one machine: the same plate, the same hand, by seed."""
    truth, seed, number, count, pitch, crown, known_runs = job
    screws = screws_of(count, pitch)

    def person(run: int = 0, reversed_knob: int = -1) -> Person:
        plant = plate_for(truth, draws(seed, number), screws, crown)
        hand = draws(seed, number, 1 + run)
        if run and isinstance(plant, SprungPlate):
            plant.restart(hand)
        elif run:
            plant = plate_for(truth, hand, screws, crown)
        return Person(hand, screws, plant, reversed_knob)

    found: dict[str, Tally] = {}
    new = new_belief(screws)
    policies: dict[str, Policy] = {"counting": counting, "read all": read_all}
    for name, policy in policies.items():
        found[f"{name}, new"], belief = policy(person(), new)
        for run in range(1, known_runs):
            _, belief = policy(person(run), known_belief(belief))
        if known_runs:
            found[f"{name}, known"], _ = policy(person(), known_belief(belief))
    for way in ("ring", "diagonal"):
        found[way] = round_and_round(person(), order_of(count, way))
    found["reversed"], _ = counting(person(0, number % count), new)
    return found


def table(
    machines: int,
    seed: int,
    truths: list[float | str] | None = None,
    *,
    count: int = 4,
    pitch_mm: float = SCENARIO["pitch_mm"],
    crown_mm: float = 0.0,
    workers: int = 1,
    known_runs: int = SCENARIO["known_runs"],
) -> dict[str, Any]:
    """Means and two standard errors for every truth and policy, as plain values.

    `known_runs`: how many earlier trams taught a known machine; 0 leaves known machines out.
    """
    began = time.perf_counter()
    truths = truths or [*SCENARIO["kappas"], ELASTIC]
    rows = []
    for truth in truths:
        jobs = [(truth, seed, k, count, pitch_mm, crown_mm, known_runs) for k in range(machines)]
        if workers > 1:
            with multiprocessing.get_context("fork").Pool(workers) as pool:
                results = pool.map(_one, jobs, chunksize=8)
        else:
            results = [_one(job) for job in jobs]
        rows.append({"truth": truth, **_summed(results, cap(screws_of(count)))})
    return {
        "scenario": SCENARIO_FILE,
        "machines": machines,
        "seed": seed,
        "station": "tram",
        "screws": count,
        "pitch_mm": pitch_mm,
        "crown_mm": crown_mm,
        "seconds": round(time.perf_counter() - began, 1),
        "rows": rows,
    }


def _summed(results: list[dict[str, Tally]], most: int) -> dict[str, Any]:
    out: dict[str, Any] = {}
    for policy in results[0]:
        tallies = [r[policy] for r in results]
        if policy == "reversed":
            seen = [t.found for t in tallies if t.found is not None]
            out[policy] = {"seen": len(seen), "found_at_once": _share(seen)}
            continue
        counted = np.array([t.rounds if policy.startswith("read all") else t.stops for t in tallies], dtype=float)
        entry: dict[str, Any] = {
            "unit": "rounds" if policy.startswith("read all") else "stops",
            "mean": round(float(counted.mean()), 2),
            "two_se": round(float(2 * counted.std() / len(counted) ** 0.5), 2),
            "truly_within": _share([t.within for t in tallies]),
        }
        if policy.startswith("read all"):
            entry["mean_turned"] = round(float(np.mean([t.rounds_turned for t in tallies])), 2)
            entry["mean_readings"] = round(float(np.mean([t.readings for t in tallies])), 2)
        if tallies[0].held:
            stops = sum(t.stops for t in tallies)
            entry |= {
                "capped": int((counted >= most).sum()),
                "heights_held": _share([h for t in tallies for h in t.held]),
                "spread_held": _share([h for t in tallies for h in t.spread_held]),
                "advice_ms": round(1e3 * float(np.median([s for t in tallies for s in t.seconds])), 2),
                "false_alarms_per_1000": round(1000 * sum(t.false_alarms for t in tallies) / stops, 2),
            }
        out[policy] = entry
    return out


def _share(flags: list[bool]) -> float:
    return round(float(np.mean(flags)), 4) if flags else float("nan")


def stops_table(machines: int, seed: int) -> list[list[float]]:
    """Mean stops still to come by knobs not yet visited (rows) and P(within) (columns), on bending plates whose screws go slack."""
    screws = screws_of()
    bins: dict[tuple[int, int], list[int]] = {}
    for k in range(machines):
        rng = draws(seed, k)
        tally, _ = counting(Person(rng, screws, plate_for(ELASTIC, rng, screws, 0.0)), new_belief(screws))
        for i, (unvisited, p) in enumerate([(4, 0.0), *tally.trace]):
            column = next((c for c, top in enumerate(TRAM.stops_left_p) if p < top), None)
            if column is not None:
                bins.setdefault((unvisited, column), []).append(tally.stops - i)
    rows = []
    for unvisited in range(5):
        row: list[float] = []
        for column in range(len(TRAM.stops_left_p)):
            seen = bins.get((unvisited, column), [])
            # Hardly ever seen: as its neighbour of less certainty.
            row.append(round(float(np.mean(seen)), 1) if len(seen) >= 20 or not row else row[-1])
        # A smaller chance never takes fewer stops, whatever a handful of machines did.
        rows.append([float(n) for n in np.maximum.accumulate(row[::-1])[::-1]])
    return rows
