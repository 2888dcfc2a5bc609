"""Plates that drift at rates nobody knows: whether stated chances come true, and what looking when it is due costs."""

import multiprocessing
import time
import tomllib
from importlib.resources import files
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ivory_table.core.defaults import DRIFT
from ivory_table.core.drift import PlateSeen, Stretch, rates
from ivory_table.core.outlook import outlook
from ivory_table.core.short_check import Check
from ivory_table.core.value import Array
from ivory_table.core.wear import Use

from .figures import bar_of, figure
from .harm import stream

SCENARIO: dict[str, Any] = tomllib.loads(files(__package__).joinpath("drift.toml").read_text("utf-8"))
SCENARIO_FILE = "ivory_table/trial/drift.toml"
SUPPORTS = 4
NAMES = ("centre", "front left", "front right", "rear left", "rear right")
_TARGET = 0.2


def _correlated(sd: float) -> Array:
    n = SUPPORTS + 1
    return np.asarray(sd**2 * (np.eye(n) + 0.5 * np.ones((n, n))))


LEFT = PlateSeen(
    places=NAMES,
    gap_mm=(_TARGET,) * (SUPPORTS + 1),
    cov=tuple(tuple(float(v) for v in row) for row in _correlated(SCENARIO["left_sd_mm"])),
    target_mm=_TARGET,
    low_mm=_TARGET + SCENARIO["low_mm"],
    high_mm=_TARGET + SCENARIO["high_mm"],
)


class Plate:
    """A plate whose rates are known here alone."""

    def __init__(self, rng: np.random.Generator, *, loosens: bool) -> None:
        self.rng = rng
        self.common = DRIFT.common_rate * float(np.exp(SCENARIO["ln_sd"] * rng.standard_normal()))
        self.own = DRIFT.own_rate * float(np.exp(SCENARIO["ln_sd"] * rng.standard_normal()))
        self.which = int(rng.integers(SUPPORTS))
        self.slope = np.zeros(SUPPORTS)
        if loosens:
            self.slope[self.which] = rng.choice((-1, 1)) * SCENARIO["loosens_mm_week"] / 7
        #: How much of it goes by prints, and how often the machine changes between idle and busy days.
        self.by_prints = float(rng.choice(SCENARIO["by_prints"]))
        self.busy, self.prints = True, 0
        self.off = np.zeros(SUPPORTS + 1)
        self.put_right()

    def put_right(self) -> None:
        self.prints = 0
        self.off = self.rng.multivariate_normal(np.zeros(SUPPORTS + 1), LEFT.covariance)

    def lives_a_day(self) -> None:
        """One day, with as many prints as it happens to make."""
        if self.rng.random() < SCENARIO["changes_pace"]:
            self.busy = not self.busy
        made = int(self.rng.poisson(SCENARIO["prints_busy" if self.busy else "prints_idle"]))
        self.prints += made
        usual = (SCENARIO["prints_busy"] + SCENARIO["prints_idle"]) / 2
        self.lives(1 - self.by_prints + self.by_prints * made / usual)

    def used(self, days: float) -> Use:
        return Use(days=days, prints=self.prints)

    def lives(self, days: float) -> None:
        """So many days of usual use."""
        each = self.own * days**0.5 * self.rng.standard_normal(SUPPORTS) + self.slope * days
        centre = each.mean() + DRIFT.form_share * self.own * days**0.5 * self.rng.standard_normal()
        self.off = self.off + np.append(centre, each) + self.common * days**0.5 * self.rng.standard_normal()

    def checked(self, j: int, day: float) -> Check:
        """What the gauge says at one place; a knob whose place is plainly off is turned until it is right."""
        sd = SCENARIO["check_sd_mm"]
        read = float(self.off[j] + sd * self.rng.standard_normal())
        turns = j > 0 and abs(read) > SCENARIO["turned_from_mm"]
        if turns:
            by = sd * self.rng.standard_normal() - self.off[j]
            beside = SCENARIO["turn_beside"] * abs(by) * self.rng.standard_normal(SUPPORTS + 1)
            beside[0] += by / SUPPORTS
            beside[j] = by
            self.off = self.off + beside
        return Check(day=day, place=j, off_mm=read, put_right=turns)

    @property
    def sound(self) -> bool:
        return bool(self.off.min() >= SCENARIO["low_mm"] and self.off.max() <= SCENARIO["high_mm"])

    def found(self, days: float) -> Stretch:
        """What a run reads of it, as the change from what the last one left."""
        read = _correlated(SCENARIO["found_sd_mm"])
        return Stretch(
            self.used(days),
            self.off + self.rng.multivariate_normal(np.zeros(SUPPORTS + 1), read),
            LEFT.covariance + read,
        )


def machine(seed: int, number: int) -> dict[str, Any]:
    """One machine's life, looked at when it is due; the same life looked at every week; and whether its nut is named."""
    rng = stream(seed, 41, number)
    loosens = bool(rng.random() < SCENARIO["loosens"])
    plate, gaps = Plate(rng, loosens=loosens), list[Stretch]()
    stated: list[tuple[float, bool]] = []
    days = looks = bad = 0
    for _ in range(SCENARIO["runs"]):
        known = rates(gaps, SUPPORTS + 1)
        ahead = outlook(LEFT, known)
        wait = int(max(np.ceil(ahead.due_in_days if ahead.due_in_days is not None else ahead.days[-1]), 1))
        for day in range(1, wait + 1):
            plate.lives_a_day()
            bad += not plate.sound
            if day in SCENARIO["looked_after_days"]:
                today = outlook(LEFT, known, plate.used(day))
                stated.append((float(np.interp(day, today.days, today.p_sound)), plate.sound))
        days, looks = days + wait, looks + 1
        gaps.append(plate.found(float(wait)))
        plate.put_right()
    minutes_a_day, runs_a_day, bad_checked = _with_checks(plate, gaps, days)
    fixed = {every: _looked_at(plate, every, days) for every in SCENARIO["fixed_days"]}
    quiet, loose = (Plate(rng, loosens=is_loose) for is_loose in (False, True))
    return {
        "stated": stated,
        "looks_a_day": looks / days,
        "bad": bad / days,
        "minutes_a_day": minutes_a_day,
        "runs_a_day": runs_a_day,
        "bad_checked": bad_checked,
        "bad_fixed": fixed,
        "named": _named(loose) == NAMES[loose.which + 1],
        "false_named": _named(quiet) != "",
    }


def _with_checks(plate: Plate, gaps: list[Stretch], days: int) -> tuple[float, float, float]:
    """Minutes and whole runs a day, and the share of days with a bad plate, where a short check comes before a whole run.

    What the check asks to be stored otherwise is, which the outlook says. The machine is known by the life it had: what short
    checks save is asked, not how rates are learnt.
    """
    known = rates(gaps, SUPPORTS + 1)
    plate.put_right()
    since, minutes, bad, runs = 0, 0.0, 0, 0
    checks: tuple[Check, ...] = ()
    ahead = outlook(LEFT, known)
    for _ in range(days):
        plate.lives_a_day()
        bad += not plate.sound
        since += 1
        if ahead.due_in_days is None or since < ahead.due_in_days:
            continue
        check = plate.checked(NAMES.index(ahead.check), float(since))
        checks = (*checks, check)
        minutes += SCENARIO["check_minutes"] + SCENARIO["turn_minutes"] * check.put_right
        ahead = outlook(LEFT, known, plate.used(since), checks=checks)
        if ahead.move_mm:
            plate.off = plate.off + ahead.move_mm
            checks = (*checks, Check.correction(float(since), ahead.move_mm, after_check=True))
            minutes += SCENARIO["correction_minutes"]
            ahead = outlook(LEFT, known, plate.used(since), checks=checks)
        if ahead.due_in_days is not None and ahead.due_in_days <= since + 0.5:
            minutes += SCENARIO["run_minutes"]
            runs += 1
            plate.put_right()
            since, checks, ahead = 0, (), outlook(LEFT, known)
    return minutes / days, runs / days, bad / days


def _looked_at(plate: Plate, every: int, days: int) -> float:
    """The share of days with a bad plate where it is looked at every so many days."""
    plate.put_right()
    bad = 0
    for day in range(1, days + 1):
        plate.lives_a_day()
        bad += not plate.sound
        if day % every == 0:
            plate.put_right()
    return bad / days


def _named(plate: Plate) -> str:
    gaps = []
    for _ in range(4):
        plate.lives(SCENARIO["named_every_days"])
        gaps.append(plate.found(SCENARIO["named_every_days"]))
        plate.put_right()
    return outlook(LEFT, rates(gaps, SUPPORTS + 1)).wanders


def _one(job: tuple[int, int]) -> dict[str, Any]:
    return machine(*job)


def trial(machines: int, seed: int, workers: int = 1) -> dict[str, Any]:
    began = time.monotonic()
    jobs = [(seed, k) for k in range(machines)]
    if workers > 1:
        with multiprocessing.get_context("spawn").Pool(workers) as pool:
            found = pool.map(_one, jobs, chunksize=2)
    else:
        found = [_one(job) for job in jobs]
    stated = np.array([pair for f in found for pair in f["stated"]], dtype=float)
    figures: dict[str, Any] = {"chance_gap": _chance_gap(stated)}
    for name, per_day, bad in (
        ("looks_unchecked", "looks_a_day", "bad"),
        ("looks_ratio", "runs_a_day", "bad_checked"),
        ("minutes_ratio", "minutes_a_day", "bad_checked"),
    ):
        figures[name] = _beside_fixed(name, found, per_day, bad, np.random.default_rng(seed))
    for name, key in (("bad_share", "bad"), ("named", "named"), ("false_named", "false_named")):
        figures[name] = figure(name, [float(f[key]) for f in found], SCENARIO)
    return {
        "machines": machines,
        "seed": seed,
        "seconds": round(time.monotonic() - began, 1),
        "scenario": SCENARIO_FILE,
        "figures": figures,
    }


def _beside_fixed(
    name: str, found: list[dict[str, Any]], per_day: str, bad_days: str, rng: np.random.Generator
) -> dict[str, float | None]:
    """What it costs when it is due, over the fixed interval that leaves as many bad days; the error by resampling machines."""
    every = SCENARIO["fixed_days"]
    looks, bad = (np.array([f[k] for f in found]) for k in (per_day, bad_days))
    if per_day == "minutes_a_day":
        looks = looks / SCENARIO["run_minutes"]
    fixed = np.array([[f["bad_fixed"][d] for d in every] for f in found])

    def ratio(some: NDArray[np.intp]) -> float:
        alike = np.interp(bad[some].mean(), fixed[some].mean(axis=0), every)
        return float(looks[some].mean() * alike)

    n = len(found)
    again = [ratio(rng.integers(n, size=n).astype(np.intp)) for _ in range(200)]
    return {
        "mean": round(ratio(np.arange(n)), 4),
        "two_se": round(2 * float(np.std(again)), 4),
        "bar": bar_of(name, SCENARIO),
    }


#: A tenth counts from so many days looked at.
_ENOUGH = 60


def _chance_gap(stated: Array) -> dict[str, float | None]:
    worst, error = 0.0, 0.0
    for tenth in range(10):
        some = stated[(stated[:, 0] >= tenth / 10) & (stated[:, 0] < (tenth + 1) / 10 + 1e-9 * (tenth == 9))]
        if len(some) >= _ENOUGH:
            gap = abs(float(some[:, 1].mean() - some[:, 0].mean()))
            if gap > worst:
                worst, error = gap, 2 * float(np.sqrt(some[:, 1].var() / len(some)))
    return {"mean": round(worst, 4), "two_se": round(error, 4), "bar": bar_of("chance_gap", SCENARIO)}
