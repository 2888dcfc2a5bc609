"""First layers of made-up machines: how many proofs the station takes, what it names as the cause, and what its promises are worth.

Each machine answers the station as its page asks, through the very desk of the web. The truth is this file's own: a tilted
plate, zones of their own, an eye and a hand, and on some machines a cause that is not the height.
"""

import multiprocessing
import time
from collections import Counter
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from uuid import uuid4

import numpy as np

from ivory_table.core.bead import Bead, closes
from ivory_table.core.causes import HEIGHT, CauseId
from ivory_table.core.plate import Machine
from ivory_table.core.proof import ProofPlan
from ivory_table.core.recipe import recipes
from ivory_table.core.setup import BEGUN_NOW, RunSetup
from ivory_table.core.value import StationName
from ivory_table.demo.tidewater import FILAMENTS, GAUGES
from ivory_table.desk.desk import Desk, Keep
from ivory_table.runs.judging import next_proof
from ivory_table.runs.row import Row
from ivory_table.runs.run import OpenRun
from ivory_table.stations import first_layer
from ivory_table.stations.first_layer.doing import NextStep
from ivory_table.stations.first_layer.entries import (
    CauseLookedFor,
    CauseMended,
    FeedCorrected,
    FeedMeasured,
    Judged,
    LadderRead,
    ProofStarted,
    ToolTold,
    ZoneCleaned,
)
from ivory_table.stations.first_layer.step import next_steps
from ivory_table.stations.offset.entries import ZeroDoubted
from ivory_table.stations.offset.step import now_at
from ivory_table.stations.stored.entries import OffsetSet
from ivory_table.stations.tram.entries import CentreFelt, Counted
from ivory_table.stations.turned import TurnedAll
from ivory_table.store.workshop import Workshop

from .figures import figure
from .harm import any_machine, stream
from .layer_world import SCENARIO, World

SCENARIO_FILE = "ivory_table/trial/first_layer.toml"
#: How each start is called, how far all zones are off (the least and the most, mm), and whether either way.
STARTS = {"006": (0.06, 0.06, True), "015": (0.15, 0.15, True), "04": (0.4, 0.4, False), "far": (0.0, 1.5, False)}
#: Of these nobody knows the height: something was changed.
UNKNOWN = ("04", "far")


class Session:
    """One run at the station, and what is counted of it."""

    def __init__(self, seed: int, number: int, start: str, caliper: bool) -> None:
        rng = stream(seed, 11 + list(STARTS).index(start), number)
        machine = any_machine(rng).model_copy(update={"can_mesh": False, "probe": None})
        machine = machine.model_copy(
            update={"screws": tuple(s.model_copy(update={"sense_proved": True}) for s in machine.screws)}
        )
        filament = FILAMENTS[0]
        self.desk, self.caliper = Desk(Workshop(Path(":memory:"))), caliper
        self.desk.workshop.start_run(
            RunSetup(
                id="trial",
                machine=machine,
                plate_id=machine.plates[0].id,
                filament=filament,
                gauge=GAUGES[0],
                initials="tr",
                started_at=datetime.now(UTC),
                **BEGUN_NOW,
            )
        )
        bead = self.now.state.bead
        self.target = bead.target_mm(filament.material)
        low, high, either = STARTS[start]
        off = float(rng.uniform(low, high)) * (float(rng.choice([-1, 1])) if either else 1.0)
        self.world = World(machine, off, rng, bead, self.target)
        for _ in range(2):
            for screw in machine.screws:
                self.keep("tram", Counted(screw=screw.name, marks=0, sure=True))
        self.keep("tram", CentreFelt(z_mm=0.0, feel="drag"))
        # The offset is stored as its station has it: the first layer is believed to be as wanted, and is off from there.
        self.keep("offset", OffsetSet(stored_mm=now_at(self.now).wanted.new_mm, sure=True))
        self.keep("first_layer", ToolTold(tool="caliper", here=caliper))
        if start in UNKNOWN:
            self.keep("offset", ZeroDoubted(why="nozzle"))
        self.proofs, self.declared, self.named, self.false = 0, False, "", False
        #: Its cause was among what was mended or measured within two proofs.
        self.met = False
        self.promises: list[tuple[float, float]] = []
        self.actions: Counter[str] = Counter()

    @property
    def now(self) -> OpenRun:
        return self.desk.open("trial")

    def keep(self, station: StationName, what: Row) -> None:
        self.desk.keep("trial", station, Keep(id=uuid4().hex, seen_seq=self.now.seq, what=what))

    def sound(self, laid: ProofPlan | None = None) -> bool:
        """The truth of every zone that is wanted: its gap, and that nothing else keeps it from holding."""
        laid = laid or self.now.state.wanted.plan
        gaps = self.world.gaps(laid)
        low, high = laid.bead.bands_mm()["sound"]
        return bool((gaps > low).all() and (gaps < high).all()) and self.world.greasy is None and not self.world.cold

    def go(self) -> None:
        promised: float | None = None
        if first_layer.step.feed_first(self.now):
            self.measure_feed()
        self.print(next_proof(self.now.state, "advised"))
        for _ in range(40):
            steps = next_steps(self.now)
            if not steps:
                break
            best = steps[0]
            if self.now.state.open_proof is not None:
                self._name(best)
            if (look := first_layer.step.look_before(self.now)) is not None:
                self.look_for(look.cause)
                continue
            if promised is not None and best.action.kind != "caliper":
                self.promises.append((promised, float(self.sound())))
                promised = None
            self.actions[best.action.kind] += 1
            if best.action.kind == "done":
                self.declared = True
                self.promises.append((best.action.p_all_sound, float(self.sound())))
                break
            if self.follow(best):
                promised = best.action.p_all_sound
            if self.proofs >= SCENARIO["proofs_cap"] and not self.now.state.open_proof:
                break
            if self.now.state.open_proof is None and self.now.state.sound_unseen is None:
                self.print(next_proof(self.now.state, "advised"))
            if self.proofs > SCENARIO["proofs_cap"]:
                break

    def print(self, laid: ProofPlan) -> None:
        """One proof laid and judged, zone by zone; a ladder is watched and stopped where it holds."""
        self.keep("first_layer", ProofStarted(proof=laid))
        self.proofs += 1
        gaps, looks = self.world.gaps(laid), []
        for k, gap in enumerate(gaps):
            self.world.lowest = min(self.world.lowest, float(gap))
            looks.append(self.world.look(laid, k, float(max(gap, 0.005))))
            if laid.kind != "ladder":
                self.keep("first_layer", Judged(zone=k, **looks[k]))
            elif closes(looks[k]["grade"]):
                self.keep("first_layer", LadderRead(first=k, **looks[k]))
                break
        else:
            if laid.kind == "ladder":
                self.keep("first_layer", LadderRead(first=None))
        # Of a ladder the steps before the one that holds are asked for.
        while (zone := self.now.state.proofs[-1].next_zone) is not None:
            self.keep("first_layer", Judged(zone=zone, **looks[zone]))

    def _name(self, best: NextStep) -> None:
        """What the station holds for the cause now, within the first two proofs; and whether it suspects what is not there."""
        state = self.now.state
        proof = state.open_proof
        if proof is None:
            return
        field = state.zone_field(proof)
        shared = {n: p for n, p in field.shared.items() if n not in (HEIGHT, "zero")}
        likeliest = max(shared, key=lambda n: shared[n], default="")
        suspects = set()
        if len(field.greasy) and field.greasy.max() > 0.5:
            suspects.add("grease")
        if likeliest and shared[likeliest] > 0.5:
            suspects.add(likeliest)
        if best.action.kind == "remedy":
            suspects.add(best.action.causes[0])
        if abs(field.flow[0]) > 0.04 and best.action.kind != "feed":
            suspects.add("feed")
        if self.proofs <= 2 and self.world.cause in suspects:
            self.named = self.world.cause
        if not self.world.cause and suspects:
            self.false = True

    def measure_feed(self) -> None:
        """Twice by a rule, and put right where the page says so."""
        world = self.world
        lengths = tuple(round(2 * (100 * world.flow + world.rng.normal(0, 0.5))) / 2 for _ in range(2))
        self.keep("first_layer", FeedMeasured(measured_mm=lengths, sure=True))
        times = first_layer.view.feed_times(self.now.state)
        if times is None:
            return
        self.keep("first_layer", FeedCorrected(times=times))
        world.flow *= times
        if world.cause == "feed" and self.proofs <= 2:
            self.named, self.met = "feed", True

    def look_for(self, cause: CauseId) -> None:
        """A look that the page asks for, as reliable as looks are."""
        there = cause == "cold_plate" and self.world.cold
        found = self.world.rng.random() < SCENARIO["look_finds" if there else "look_wrong"]
        self.actions["look"] += 1
        self.keep("first_layer", CauseLookedFor(cause=cause, found=bool(found)))

    def follow(self, best: NextStep) -> bool:
        """Do what is advised, as a person would; whether it promises something of the next proof."""
        world, action = self.world, best.action
        tried = {*action.causes, *(("grease",) if action.clean or "coat" in action.causes else ()), action.kind}
        self.met = self.met or (self.proofs <= 2 and world.cause in tried)
        if action.kind == "caliper":
            proof = self.now.state.proofs[-1]
            if not self.caliper or action.zone is None:
                self.keep("first_layer", ToolTold(tool="caliper", here=False))
                return False
            for k in action.measure:
                gap = float(world.gaps(proof.plan)[k] + world.rng.normal(0, SCENARIO["caliper_mm"]))
                thick, grade = max(round(gap, 2), 0.02), proof.marks[k].grade
                self.keep("first_layer", Judged(zone=k, grade=grade, caliper_mm=thick, sure=True))
            return False
        if action.kind == "feed":
            self.measure_feed()
            return False
        if not best.keeps:
            # Nothing that could be done here: the same once more.
            self.print(next_proof(self.now.state, "advised"))
            return False
        for row in best.keeps:
            if isinstance(row, ProofStarted):
                self.print(row.proof)
                continue
            zones = self.now.state.proofs[-1].plan.zones
            self.keep("first_layer", row)
            if isinstance(row, OffsetSet) and best.stored is not None:
                world.shift += best.stored.shift_mm + float(world.rng.normal(0, SCENARIO["hand_mm"]))
            elif isinstance(row, TurnedAll):
                world.raised += [
                    m * s.mm_per_mark * s.sense + (float(world.rng.normal(0, 0.008)) if m else 0.0)
                    for m, s in zip(row.marks, self.machine.screws, strict=True)
                ]
            elif isinstance(row, ZoneCleaned) and world.greasy is not None:
                near = np.hypot(zones[row.zone].x_mm - world.greasy[0], zones[row.zone].y_mm - world.greasy[1]) < 25
                if near and world.rng.random() < SCENARIO["mend_works"]:
                    world.greasy = None
            elif isinstance(row, CauseMended):
                works = world.rng.random() < SCENARIO["mend_works"]
                world.cold = world.cold and not (row.cause == "cold_plate" and works)
                world.greasy = None if row.cause == "coat" and works else world.greasy
        return action.kind in ("offset", "knobs")

    @property
    def machine(self) -> Machine:
        return self.world.machine


def session_figures(job: tuple[int, int, str, bool]) -> dict[str, Any]:
    """One machine from one start, with or without a caliper at hand."""
    seed, number, start, caliper = job
    one = Session(seed, number, start, caliper)
    one.go()
    name = f"proofs_{start}" + ("_caliper" if caliper else "")
    out: dict[str, Any] = {
        name: float(one.proofs),
        "declared": float(one.declared),
        "promises": one.promises,
        "actions": dict(one.actions),
    }
    if start == "far":
        out["scraped"] = float(one.world.lowest < SCENARIO["scraped_mm"])
    if one.declared:
        out["truly_sound"] = float(one.sound())
    if one.world.cause and start != "far":
        out["cause_named"] = float(one.named == one.world.cause)
        out[f"named_{one.world.cause}"] = out["cause_named"]
        out["cause_met"] = float(one.met)
    if not one.world.cause and start != "far":
        out["cause_false"] = float(one.false)
    if one.world.cause == "feed" and one.declared:
        state = one.now.state
        wanted = state.wanted
        believed = wanted.field.gaps[0]
        out["feed_bias"] = float(np.mean(believed - one.world.gaps(wanted.plan)))
    return out


def recipe_figures(seed: int, machines: int) -> list[float]:
    """By what share each recipe's stated forgiveness differs from that of printed patches.

    Printed at many gaps by machines whose feeds differ, graded by an eye: from the lowest to the highest gap at which half are
    called sound, halved.
    """
    off: list[float] = []
    for number, nozzle in enumerate((0.25, 0.4, 0.6, 0.8)):
        rng = stream(seed, 31, number)
        for recipe in recipes(nozzle, "PLA", 205, 55, 0.02)[:-1]:
            gaps = np.linspace(0.4, 1.6, 61) * recipe.layer_mm
            flows = 1 + rng.normal(0, SCENARIO["flow_sd"], machines)
            called = np.array(
                [
                    [
                        Bead(recipe.line_mm, recipe.layer_mm, f).grade_at(
                            g + float(rng.normal(0, 0.05 * recipe.layer_mm))
                        )
                        == "sound"
                        for f in flows
                    ]
                    for g in gaps
                ]
            ).mean(axis=1)
            held = gaps[called >= 0.5]
            off.append(abs((held[-1] - held[0]) / 2 / recipe.forgives_mm - 1) if len(held) else 1.0)
    return off


def trial(machines: int, seed: int, workers: int = 1) -> dict[str, Any]:
    """So many machines from every start; figures by name with two standard errors and their bars, as plain values."""
    began = time.perf_counter()
    jobs = [
        (seed, k, start, caliper)
        for start in STARTS
        for caliper in ((False, True) if start != "far" else (False,))
        for k in range(machines)
    ]
    found: dict[str, list[float]] = {}
    promises: list[tuple[float, float]] = []
    actions: Counter[str] = Counter()
    with multiprocessing.get_context("fork").Pool(workers) as pool:
        for figures in pool.imap_unordered(session_figures, jobs, chunksize=4):
            promises += figures.pop("promises")
            actions.update(figures.pop("actions"))
            for name, value in figures.items():
                found.setdefault(name, []).append(value)
    bias = found.pop("feed_bias", [])
    figures = {name: figure(name, values, SCENARIO) for name, values in sorted(found.items())}
    if bias:
        # What is left for all such machines alike, and what scatters, both count.
        rms = float(np.sqrt(np.mean(np.square(bias))))
        figures["feed_bias"] = {
            "mean": round(abs(float(np.mean(bias))), 4),
            "two_se": round(2 * rms / len(bias) ** 0.5, 4),
            "bar": SCENARIO["bars"]["feed_bias"][0],
        }
    figures["recipe_error"] = figure("recipe_error", recipe_figures(seed, machines), SCENARIO)
    figures["promise_gap"] = _promise_gap(promises)
    return {
        "scenario": SCENARIO_FILE,
        "machines": machines,
        "seed": seed,
        "seconds": round(time.perf_counter() - began, 1),
        "actions": dict(actions),
        "figures": figures,
    }


def _promise_gap(promises: list[tuple[float, float]]) -> dict[str, float | None]:
    """The largest difference over tenths of what was promised between that and what came."""
    said, came = np.array(promises).T if promises else (np.zeros(0), np.zeros(0))
    gaps, errors = [0.0], [0.0]
    for k in range(10):
        here = (said >= k / 10) & (said < (k + 1) / 10 + (k == 9))
        if here.sum() >= 25:
            gaps.append(abs(float(said[here].mean() - came[here].mean())))
            errors.append(2 * float(came[here].std()) / float(here.sum()) ** 0.5)
    worst = int(np.argmax(gaps))
    return {"mean": round(gaps[worst], 4), "two_se": round(errors[worst], 4), "bar": SCENARIO["bars"]["promise_gap"][0]}
