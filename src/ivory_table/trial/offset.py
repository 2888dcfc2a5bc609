"""The Z offset from anywhere: first contacts, slips of a hand, and plates that are changed. What is counted is in `offset.toml`."""

import multiprocessing
import tempfile
import time
import tomllib
from datetime import UTC, datetime, timedelta
from importlib.resources import files
from typing import Any

import numpy as np

from ivory_table.core.approach import Approach
from ivory_table.core.defaults import SECOND
from ivory_table.core.offset import convention
from ivory_table.core.plate_values import PlateValue, foretold_for
from ivory_table.core.second_tip import SecondTip
from ivory_table.core.tram import hand_error_mm
from ivory_table.runs.doubts import Refused
from ivory_table.stations import offset
from ivory_table.stations.offset.entries import SignShown
from ivory_table.stations.stored.entries import OffsetSet

from .figures import figure
from .harm import PRESSED_MM, Erring, How, any_machine, first_contact, stream, trial_of
from .run import Trial

SCENARIO: dict[str, Any] = tomllib.loads(files(__package__).joinpath("offset.toml").read_text("utf-8"))
SCENARIO_FILE = "ivory_table/trial/offset.toml"
PRESSED_HARD_MM = 0.15
HOWS: tuple[How, ...] = ("eye", "feel", "thick")


def machine_figures(job: tuple[str, int, int]) -> dict[str, list[float]]:
    """Every figure that one machine gives."""
    folder, seed, number = job
    found: dict[str, list[float]] = {}

    def note(**values: float) -> None:
        for name, value in values.items():
            found.setdefault(name, []).append(float(value))

    for known in SCENARIO["known_mm"]:
        rng = stream(seed, 3, number)
        for thick, way in ((False, ""), (True, "_thick")):
            one, person = trial_of(folder, any_machine(rng), seed, number)
            moves, pressed, error = known_contact(one, person, rng, known, thick=thick)
            note(**{f"moves_{round(10 * known):02d}{way}": moves})
            note(pressed=pressed > PRESSED_MM, pressed_hard=pressed > PRESSED_HARD_MM, error_rms=error**2)
    for how in HOWS:
        rng = stream(seed, 4, number)
        machine = any_machine(rng).model_copy(update={"sign_proved": False})
        one, person = trial_of(folder, machine, seed, number)
        contact = first_contact(one, person, rng, SCENARIO, how)
        note(**{f"moves_far_{how}": contact.moves})
        note(pressed=contact.pressed_mm > PRESSED_MM, pressed_hard=contact.pressed_mm > PRESSED_HARD_MM)
        note(error_rms=contact.error_mm**2, crashes=len(one.body.crashes))
        if how == "eye":
            _store_with_slips(one, rng)
            x, y = one.body.mounted.centre
            note(below=one.body.gap(x, y, 0.0) < -SCENARIO["below_mm"])
    note(fixed_steps=_fixed_steps(stream(seed, 4, number), folder, seed, number))
    passes, right, held = _second_tip(stream(seed, 6, number))
    note(second_passes=passes, second_right=right)
    for one_held in held:
        note(second_held=one_held)
    note(swap_held=_swap_held(stream(seed, 5, number)))
    return found


def known_contact(
    one: Trial, person: Erring, rng: np.random.Generator, known_mm: float, *, thick: bool
) -> tuple[int, float, float]:
    """Moves, the deepest press and the error of a first contact whose drag is believed to `known_mm`.

    By feel alone, or with the gauge folded where it helps.
    """
    x, y = one.body.mounted.centre
    drag = person._drag_gap()
    one.body.truth.shift += drag - one.body.gap(x, y, 0.0) + float(rng.normal(0, known_mm))
    state = one.now.state
    # Just under the doubt from which on nobody is said to know.
    approach = Approach.over(
        0.0, min(known_mm, 0.399), scale=state.feel, gauge_mm=state.drag_gap_mm, step_mm=0.01, seen_above=True
    )
    moves, pressed, stands = 0, 0.0, np.inf
    while (z := approach.next_mm()) is not None and moves < SCENARIO["moves_cap"]:
        gap = one.body.gap(x, y, z)
        moves, stands, pressed = moves + (z != stands), z, max(pressed, one.body.sheet_mm() - gap)
        if thick and approach.thick_helps and gap > one.body.sheet_mm():
            approach = approach.slid_under(person.slid_under(z, gap))
        else:
            approach = approach.feel(z, person._feel(gap))
    return moves, pressed, one.body.gap(x, y, approach.drag[0]) - drag


def _store_with_slips(one: Trial, rng: np.random.Generator) -> None:
    """The value is stored by a hand that errs every time: the set-up has the sign wrong, and the decimal point slips.

    What is kept moves the practice tip by the sign that the run believes in; where that is still the wrong one, the truth
    goes the other way.
    """
    declared = convention(one.now.state.convention_id).sign
    truly = -declared

    def store(stored_mm: float, *, sure: bool = False) -> None:
        was = one.now.state.stored_mm
        one.keep("offset", OffsetSet(stored_mm=stored_mm, sure=sure))
        believed = convention(one.now.state.convention_id).sign
        one.body.truth.shift += (truly - believed) * (stored_mm - was)

    try:
        return store(offset.step.now_at(one.now).wanted.new_mm)
    except Refused as asked:
        if asked.code != "sign_not_shown":
            raise
    tried = offset.view.sign_try(one.now)
    went: Any = "further" if truly * tried.larger_by_mm > 0 else "closer"
    fits = [c.id for c in tried.can_be if c.larger_is_further == (truly > 0)]
    one.keep("offset", SignShown(larger_by_mm=tried.larger_by_mm, went=went, convention=fits[0]))
    wanted = offset.step.now_at(one.now).wanted.new_mm
    try:
        store(round(float(rng.choice([10 * wanted, -wanted, wanted / 10])), 4))
    except Refused:
        store(wanted, sure=True)


def _fixed_steps(rng: np.random.Generator, folder: str, seed: int, number: int) -> float:
    """The same start by hand: coarse steps down until the gauge is met, one up, then fine ones."""
    one, person = trial_of(folder, any_machine(rng), seed, number)
    x, y = one.body.mounted.centre
    one.body.truth.shift += float(rng.uniform(*SCENARIO["far_mm"])) - one.body.gap(x, y, 0.0)
    z, moves = 0.0, 0
    for step in (SCENARIO["coarse_step_mm"], SCENARIO["fine_step_mm"]):
        while moves < SCENARIO["moves_cap"]:
            moves += 1
            if person._feel(one.body.gap(x, y, z)) != "free":
                break
            z -= step
        z += SCENARIO["coarse_step_mm"]
    return float(moves)


def _second_tip(rng: np.random.Generator) -> tuple[int, bool, list[bool]]:
    """A second tip set by eye, until it is said to be right: passes, whether it is, and whether each interval held."""
    wanted, true = 0.0, float(rng.normal(0, SCENARIO["second_by_eye_mm"]))
    pitch, sense = float(rng.choice(SCENARIO["second_pitches_mm"])), int(rng.choice([1, -1]))
    tip = SecondTip.unknown(wanted, pitch, clockwise_raises=sense > 0)
    passes, held = 0, list[bool]()
    real: dict[float, float] = {}
    while (coming := tip.next).step != "done" and passes < SCENARIO["moves_cap"]:
        if coming.step == "gauge":
            tip = tip.gauge(round(true + float(rng.normal(0, SCENARIO["second_gauge_mm"])), 2))
        elif coming.step == "turn":
            up = coming.turns * pitch * sense
            true += up + float(rng.normal(0, float(hand_error_mm(up))))
            tip = tip.turned(coming.turns)
        elif coming.pass_z_mm is not None:
            if coming.step == "print" and coming.pads is not None:
                tip = tip.lay(coming.pads)
                real = {top: top + float(rng.normal(0, SCENARIO["second_pad_mm"])) for top in coming.pads.tops_mm}
            tip = tip.passed(coming.pass_z_mm, tuple(coming.pass_z_mm + true < real[top] for top in tip.fresh))
            passes += 1
            low, high = tip.interval()
            held.append(low <= true <= high)
    return passes, abs(true - wanted) <= SECOND.within_mm, held


def _swap_held(rng: np.random.Generator) -> float:
    """Two plates in turn, each seating a little differently every time: whether the next value lies in its interval."""
    seats = SCENARIO["seats_ln_median_mm"] * float(np.exp(rng.normal(0, SCENARIO["seats_ln_sd"])))
    differ, zero = float(rng.normal(0, 0.3)), 0.0
    began, told = datetime(2026, 1, 5, tzinfo=UTC), list[PlateValue]()

    def found(k: int) -> PlateValue:
        value = zero + differ * (k % 2) + float(rng.normal(0, seats / 2**0.5))
        return PlateValue(at=began + timedelta(days=k), plate_id=("steel", "glass")[k % 2], stored_mm=value)

    count = int(rng.integers(*SCENARIO["swaps"])) + 1
    for k in range(count):
        zero += float(rng.normal(0, 0.004))
        told.append(found(k))
    zero += float(rng.normal(0, 0.004))
    truth = found(count)
    said = foretold_for(truth.plate_id, tuple(told), told[-1].stored_mm)
    assert said is not None
    return float(abs(truth.stored_mm - said.stored_mm) <= 1.6449 * said.sd_mm)


def trial(machines: int, seed: int, workers: int = 1) -> dict[str, Any]:
    """So many machines; figures by name with two standard errors and their bars, as plain values."""
    began = time.perf_counter()
    found: dict[str, list[float]] = {}
    with (
        tempfile.TemporaryDirectory() as folder,
        multiprocessing.get_context("fork").Pool(workers) as pool,
    ):
        jobs = [(folder, seed, k) for k in range(machines)]
        for told in pool.imap_unordered(machine_figures, jobs, chunksize=4):
            for name, values in told.items():
                found.setdefault(name, []).extend(values)
    figures = {name: figure(name, values, SCENARIO) for name, values in sorted(found.items())}
    squares = np.array(found["error_rms"])
    rms = float(squares.mean() ** 0.5)
    figures["error_rms"] |= {
        "mean": round(rms, 4),
        "two_se": round(float(squares.std() / len(squares) ** 0.5 / rms), 4),
    }
    return {
        "scenario": SCENARIO_FILE,
        "machines": machines,
        "seed": seed,
        "seconds": round(time.perf_counter() - began, 1),
        "figures": figures,
    }
