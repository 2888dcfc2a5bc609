"""`ivory-table trial`: N random practice machines, headless, through the very station code of the web."""

import time
import tomllib
from collections.abc import Callable
from copy import deepcopy
from datetime import UTC, datetime
from importlib.resources import files
from pathlib import Path
from typing import Any
from uuid import uuid4

import numpy as np

from ivory_table.core.plate import Machine
from ivory_table.core.proof import ProofPlan, plan
from ivory_table.core.setup import BEGUN_NOW, RunSetup
from ivory_table.core.value import Array, StationName
from ivory_table.demo.tidewater import FILAMENTS, GAUGES, MACHINES
from ivory_table.desk.desk import Desk, Keep
from ivory_table.practice.elastic import Truth, crooked
from ivory_table.practice.machine import PracticeMachine
from ivory_table.practice.person import PracticePerson
from ivory_table.runs.doubts import Refused
from ivory_table.runs.judging import next_proof
from ivory_table.runs.row import Row
from ivory_table.runs.run import OpenRun
from ivory_table.stations import first_layer, mesh, offset, tram
from ivory_table.stations.first_layer.entries import FeedCorrected, ProofStarted
from ivory_table.stations.mesh.entries import MeshPlanned
from ivory_table.stations.mesh_used import MeshUsed
from ivory_table.stations.stored.entries import OffsetSet
from ivory_table.stations.turned import TurnedAll
from ivory_table.store.workshop import Workshop

SCENARIO: dict[str, Any] = tomllib.loads(files(__package__).joinpath("scenario.toml").read_text("utf-8"))
SCENARIO_FILE = "ivory_table/trial/scenario.toml"
STATIONS = ("tram", "offset", "first_layer")
_NORMAL_90 = 1.6449


class Trial:
    """One practice machine through the stations, and what was counted on the way."""

    def __init__(
        self,
        desk: Desk,
        people: dict[str, PracticePerson],
        seed: int,
        number: int,
        *,
        machine: Machine | None = None,
        truth: Truth | None = None,
    ) -> None:
        self.desk, self.run_id = desk, f"trial-{number}"
        if machine is None:
            machine = next(m for m in MACHINES if m.id == SCENARIO["machine"])
            # Known sense: asking for it once per machine is not part of a tram.
            screws = tuple(s.model_copy(update={"sense_proved": True}) for s in machine.screws)
            machine = machine.model_copy(update={"screws": screws})
        self.machine = machine
        gauge = next(g for g in GAUGES if g.id == SCENARIO["gauge"])
        filament = next(f for f in FILAMENTS if f.id == SCENARIO["filament"])
        truth = truth or crooked(
            self.machine, self.machine.plates[0], seed * 100_003 + number, knob_sd_mm=SCENARIO["knob_sd_mm"]
        )
        self.body = PracticeMachine(self.machine, gauge, truth)
        self.body.core_c = self.body.bed.body_c = self.body.bed.target_c = filament.bed_c
        people[self.run_id] = PracticePerson(self.body)
        desk.workshop.start_run(
            RunSetup(
                id=self.run_id,
                machine=self.machine,
                plate_id=self.machine.plates[0].id,
                filament=filament,
                gauge=gauge,
                initials="tr",
                started_at=datetime.now(UTC),
                **BEGUN_NOW,
            )
        )
        self.count: dict[str, float] = {"human_minutes": 0.0, "machine_minutes": SCENARIO["machine_minutes"]["hold"]}
        self.held: dict[str, list[bool]] = {"screw_heights": [], "zone_gaps": []}

    @property
    def now(self) -> OpenRun:
        return self.desk.open(self.run_id)

    def ask(self, station: StationName, act: Callable[[Desk, OpenRun], Row]) -> None:
        self.desk.ask_hands(self.run_id, station, uuid4().hex, self.now.seq, lambda run: act(self.desk, run))

    def measure_mesh(self) -> int:
        """A mesh of 3 x 3 felt by hand, until it is kept; the points that were read."""
        if self.now.state.mesh_on:
            self.keep("mesh", MeshUsed(on=False))
        self.keep("mesh", MeshPlanned(columns=3, rows=3, owns_zero=True))
        points = 0
        while mesh.step.step_of(self.now) in ("read", "keep"):
            points = len(mesh.state.Mesh.of(self.now.state).points)
            self.ask("mesh", mesh.practice.practice)
        return points

    def keep(self, station: StationName, what: Row) -> None:
        self.desk.keep(self.run_id, station, Keep(id=uuid4().hex, seen_seq=self.now.seq, what=what))
        self.desk.settled()

    def human(self, what: str, times: float = 1) -> None:
        self.count["human_minutes"] += times * SCENARIO["human_minutes"][what]

    # The truth, for the report alone

    def heights(self) -> Array:
        return self.body.surface(self.body.plate.anchors) - self.body.shift_mm

    def within(self) -> bool:
        return bool(np.ptp(self.heights()) <= 2 * self.now.state.tol_mm)

    def gaps(self) -> Array:
        laid, person = self.laid, PracticePerson(self.body)
        return np.array([person._patch(laid, k)[0] for k in range(len(laid.zones))])

    @property
    def laid(self) -> ProofPlan:
        """The zones that are to be sound, in the lines they are printed in now."""
        setup, state = self.now.setup, self.now.state
        return plan(self.machine, self.body.mounted, setup.filament, SCENARIO["zones"], bead=state.bead)

    def sound(self) -> bool:
        low, high = self.laid.bead.bands_mm()["sound"]
        gaps = self.gaps()
        return bool((gaps > low).all() and (gaps < high).all())

    # The stations

    def do_tram(self) -> None:
        stops = 0
        while stops < SCENARIO["stops_cap"]:
            step = tram.step.now_at(self.now).step
            if step in ("centre", "done", "beyond_knobs", "given_up"):
                break
            self.ask("tram", tram.practice.practice)
            if step in ("count", "feel"):
                stops += 1
                self.human("stop")
            # After every stop, whether or not there was anything to add.
            if step == "further" or (step in ("count", "feel") and tram.step.now_at(self.now).step != "further"):
                self._heights_held()
        self.count |= {
            "stops": stops,
            "rounds": stops / len(self.machine.screws),
            "capped": float(stops >= SCENARIO["stops_cap"]),
            "within": float(self.within()),
        }
        if tram.step.now_at(self.now).step == "centre":
            self.ask("tram", tram.practice.practice)

    def _heights_held(self) -> None:
        belief = self.now.state.belief
        mean, sd = belief.height(belief.surface.anchors)
        self.held["screw_heights"] += list(np.abs(self.heights() - mean) <= _NORMAL_90 * sd)

    def do_offset(self) -> None:
        moves = 0
        for _ in range(SCENARIO["moves_cap"]):
            step = offset.step.now_at(self.now).step
            if step == "done":
                break
            moves += step == "feel"
            self.ask("offset", offset.practice.practice)
        self.human("move", moves)
        self.human("change")
        x, y = self.body.mounted.centre
        self.count |= {"moves": moves, "offset_error_mm": abs(self.body.gap(x, y, 0.0))}

    def do_first_layer(self) -> None:
        if first_layer.step.feed_first(self.now):
            self.ask("first_layer", lambda desk, run: first_layer.practice.practice(desk, run, "advised"))
            self._feed_put_right()
        proofs, truly, declared = 0, 0, False
        while proofs < SCENARIO["proofs_cap"]:
            if not truly and self.sound():
                truly = proofs + 1
            try:
                while True:
                    self.ask("first_layer", lambda desk, run: first_layer.practice.practice(desk, run, "advised"))
            except Refused:
                pass
            proofs += 1
            self.human("zone", len(self.now.state.proofs[-1].plan.zones))
            if self._feed_put_right():
                # Fed otherwise it is another print.
                continue
            self.count["machine_minutes"] += SCENARIO["machine_minutes"]["proof"]
            gaps, sds = self.now.state.wanted.field.gaps
            self.held["zone_gaps"] += list(np.abs(self.gaps() - gaps) <= _NORMAL_90 * sds)
            best = first_layer.step.next_steps(self.now)[0]
            if best.action.kind == "done":
                declared = True
                break
            self.follow(best)
            # After a sure move nothing more is printed.
            declared = self.now.state.sound_unseen is not None
            if declared:
                break
        self.count |= {
            "proofs": proofs,
            "proofs_until_truly_sound": truly or SCENARIO["proofs_cap"],
            "declared": float(declared),
            "declared_and_sound": float(declared and self.sound()),
            "sound": float(self.sound()),
        }

    def _feed_put_right(self) -> bool:
        times = first_layer.view.feed_times(self.now.state)
        if times is not None:
            self.human("change")
            self.keep("first_layer", FeedCorrected(times=times))
        return times is not None

    def follow(self, best: first_layer.doing.NextStep) -> None:
        """Do what is advised, as a person would."""
        self.human("change")
        match best.action.kind:
            case "offset" if best.stored is not None:
                self.keep("first_layer", OffsetSet(stored_mm=best.stored.new_mm, sure=True))
            case "knobs":
                self.keep("first_layer", TurnedAll(marks=tuple(t.marks for t in best.turns)))
            case "mesh" | "measure":
                points = self.measure_mesh()
                self.human("mesh_point", points)
                self.count["machine_minutes"] += SCENARIO["machine_minutes"]["mesh"]
                # What a later step undoes is said: the mesh moved the zero, so the offset is set again.
                while offset.step.now_at(self.now).step != "done":
                    self.ask("offset", offset.practice.practice)
            case "clean" | "remedy":
                for row in best.keeps:
                    self.keep("first_layer", row)
                self.keep("first_layer", first_layer.step.next_steps(self.now)[0].keeps[0])
            case _:
                for row in best.keeps or (ProofStarted(proof=next_proof(self.now.state, "advised")),):
                    self.keep("first_layer", row)


# By hand, without the program: the same machines, the same person


def by_hand_tram(body: PracticeMachine, tol_mm: float, order: tuple[int, ...]) -> dict[str, float]:
    """Round and round in one order, turning until it drags, until a round needs no turn over a mark."""
    person, stops = PracticePerson(body), 0
    while stops < 2 * SCENARIO["stops_cap"]:
        turns = [abs(person.turn_until_drag(j).marks) for j in order]
        stops += len(order)
        if max(turns) <= SCENARIO["by_hand"]["round_ends_marks"]:
            break
    spread = float(np.ptp(body.surface(body.plate.anchors)))
    return {"stops": stops, "rounds": stops / len(order), "within": float(spread <= 2 * tol_mm)}


def by_hand_offset(body: PracticeMachine) -> dict[str, float]:
    """Down by fixed coarse steps until the gauge is met, up again, then by fine ones."""
    person, moves = PracticePerson(body), 0
    x, y = body.mounted.centre
    z = 0.6 - body.gap(x, y, 0.0) + body.sheet_mm()
    for step in (SCENARIO["by_hand"]["coarse_step_mm"], SCENARIO["by_hand"]["fine_step_mm"]):
        while moves < SCENARIO["moves_cap"]:
            moves += 1
            if person.slide_gauge(x, y, z) != "free":
                break
            z -= step
        z += step if step == SCENARIO["by_hand"]["coarse_step_mm"] else 0.0
    person.move_nozzle(z - body.sheet_mm())
    return {"moves": moves, "offset_error_mm": abs(body.gap(x, y, 0.0)), "crashes": len(body.crashes)}


def by_hand_first_layer(body: PracticeMachine, trial: Trial) -> dict[str, float]:
    """Look, nudge the offset by a fixed step when most zones are off one way, else the wrong corners by 1/16."""
    person = PracticePerson(body)
    laid = plan(body.machine, body.mounted, trial.now.setup.filament, SCENARIO["zones"])
    low, high = laid.bead.bands_mm()["sound"]
    order = {"loose": 1, "barely": 1, "parted": 1, "sound": 0, "ridged": -1, "squeezed": -1, "starved": -1}
    for proofs in range(1, SCENARIO["proofs_cap"] + 1):
        gaps = np.array([person._patch(laid, k)[0] for k in range(len(laid.zones))])
        if (gaps > low).all() and (gaps < high).all():
            return {"proofs_until_truly_sound": proofs, "sound": 1.0}
        looks = []
        for k in range(len(laid.zones)):
            look = person.print_zone(laid, k)
            if look.greasy:
                person.clean(laid, k)
            looks.append(0 if look.greasy or look.grade is None else order[look.grade])
        if abs(sum(looks)) > len(looks) / 2:
            person.move_nozzle(-np.sign(sum(looks)) * SCENARIO["by_hand"]["nudge_mm"])
        else:
            corners = [(j, looks[k]) for j, k in enumerate((0, 1, 3, 4))]
            for j, far in corners:
                if far:
                    person.turn(j, far * body.machine.screws[j].sense)
    return {"proofs_until_truly_sound": SCENARIO["proofs_cap"], "sound": 0.0}


def trial(machines: int, seed: int, station: str = "first_layer") -> dict[str, Any]:
    """N machines through tram, Z offset and first layer, as far as `station`; the report as plain values."""
    began = time.perf_counter()
    people: dict[str, PracticePerson] = {}
    desk = Desk(Workshop(Path(":memory:")), lambda setup: people[setup.id])
    upto = STATIONS.index(station)
    rows: list[Trial] = []
    hand: dict[str, list[dict[str, float]]] = {"ring": [], "diagonal": [], "fixed steps": [], "nudging": []}
    for number in range(machines):
        one = Trial(desk, people, seed, number)
        tol = one.now.state.tol_mm
        start = deepcopy(one.body.truth)

        def fresh(one: Trial = one, start: Any = start) -> PracticeMachine:
            body = PracticeMachine(one.machine, one.body.gauge, deepcopy(start))
            body.core_c = body.bed.body_c = body.bed.target_c = one.now.setup.filament.bed_c
            return body

        hand["ring"].append(by_hand_tram(fresh(), tol, (0, 1, 3, 2)))
        diagonal = fresh()
        hand["diagonal"].append(by_hand_tram(diagonal, tol, (0, 3, 1, 2)))
        one.do_tram()
        if upto >= 1:
            hand["fixed steps"].append(by_hand_offset(diagonal))
            one.do_offset()
        if upto >= 2:
            hand["nudging"].append(by_hand_first_layer(diagonal, one))
            one.do_first_layer()
        one.count["crashes"] = len(one.body.crashes)
        people.pop(one.run_id)
        rows.append(one)
    counts = [r.count for r in rows]
    held = {name: [h for r in rows for h in r.held[name]] for name in ("screw_heights", "zone_gaps")}
    return {
        "scenario": SCENARIO_FILE,
        "machines": machines,
        "seed": seed,
        "station": station,
        "seconds": round(time.perf_counter() - began, 1),
        "program": _means(counts),
        "crashes": int(sum(c["crashes"] for c in counts)),
        "intervals_90_held": {name: round(float(np.mean(h)), 3) for name, h in held.items() if h},
        "by_hand": {name: _means(found) for name, found in hand.items() if found},
    }


def _means(counts: list[dict[str, float]]) -> dict[str, dict[str, float]]:
    """Mean and two standard errors of each thing that was counted."""
    out = {}
    for name in counts[0]:
        values = np.array([c[name] for c in counts], dtype=float)
        out[name] = {
            "mean": round(float(values.mean()), 3),
            "two_se": round(float(2 * values.std() / max(len(values), 1) ** 0.5), 3),
        }
    return out
