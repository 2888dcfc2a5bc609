"""Advice that does no harm: machines that do not fit the model, hands that slip, eyes rougher than assumed, starts far away.

Each part answers the stations as their pages ask, through the very desk of the web; what is counted is in `harm.toml`.
"""

import multiprocessing
import tempfile
import time
import tomllib
from collections.abc import Callable
from dataclasses import dataclass
from importlib.resources import files
from pathlib import Path
from typing import Any, Literal
from uuid import uuid4

import numpy as np

from ivory_table.core.approach import Under
from ivory_table.core.bead import Bead
from ivory_table.core.hands import Look, Reach
from ivory_table.core.plate import Machine, Plate, symmetric_screws
from ivory_table.core.proof import ProofPlan
from ivory_table.demo.tidewater import MACHINES
from ivory_table.desk.desk import Desk
from ivory_table.practice.elastic import crooked
from ivory_table.practice.person import PracticePerson
from ivory_table.runs.doubts import Refused
from ivory_table.stations import first_layer, offset, tram
from ivory_table.stations.first_layer.entries import CauseMended, ToolTold, ZoneCleaned
from ivory_table.stations.mesh.entries import MeshPointAgain
from ivory_table.stations.offset.entries import Felt, GapSeen, ThickTried
from ivory_table.stations.prepare.entries import CheckDone
from ivory_table.stations.stored.entries import OffsetSet
from ivory_table.stations.tram.entries import WayChosen
from ivory_table.store.workshop import Workshop

from .figures import bar_of, figure
from .run import Trial
from .tram import ELASTIC, table

SCENARIO: dict[str, Any] = tomllib.loads(files(__package__).joinpath("harm.toml").read_text("utf-8"))
SCENARIO_FILE = "ivory_table/trial/harm.toml"
PRESSED_MM = 0.10
#: How a first contact is told: by eye and feel, by feel alone, or with the gauge folded as well.
How = Literal["eye", "feel", "thick"]


class Erring(PracticePerson):
    """A hand that miscounts, a feel that misreads, an eye of its own. No caliper."""

    eye_mm: float = 0.01

    def _errs(self, name: str) -> bool:
        return bool(self.body.rng().random() < SCENARIO[name])

    def try_sense(self, screw: int) -> str:
        felt = super().try_sense(screw)
        return {"tighter": "looser", "looser": "tighter"}[felt] if self._errs("misread_share") else felt

    def is_loose(self, screw: int) -> bool:
        return super().is_loose(screw) != self._errs("misread_share")

    def turn_until_drag(self, screw: int, most_marks: int = 64) -> Reach:
        marks, still = super().turn_until_drag(screw, most_marks)
        slip = int(self.body.rng().choice([-2, 2])) if still is None and self._errs("miscount_share") else 0
        return Reach(marks + slip, still)

    def slid_under(self, z_mm: float, gap_mm: float) -> Under:
        """What of the folded gauge goes under the tip, and what does not."""
        rng, springs = self.body.rng(), 1 + SCENARIO["fold_springs"]
        sizes = self.body.gauge.folds_mm().values()
        goes = [s for s in sizes if s * (springs + rng.normal(0, SCENARIO["fold_sd"])) < gap_mm]
        return Under.of_sizes(z_mm, max(goes, default=0.0), sizes)

    def print_zone(self, proof: ProofPlan, zone: int) -> Look:
        if self._greasy(proof, zone):
            return Look(grade="loose", greasy=True)
        gap, flow = self._patch(proof, zone)
        seen = gap + float(self.body.rng().normal(0, self.eye_mm))
        return Look(grade=Bead(proof.line_mm, proof.layer_mm, flow).grade_at(seen))


def any_machine(rng: np.random.Generator) -> Machine:
    """A machine of another make: its plate, threads and marks drawn, four knobs, no probe, nothing proved."""
    heron = next(m for m in MACHINES if m.id == "heron")
    width, depth = (float(round(rng.uniform(*SCENARIO[name]))) for name in ("width_mm", "depth_mm"))
    plate = Plate(id="any", name="any", width_mm=width, depth_mm=depth)
    inset = float(rng.uniform(15, 40))
    screws = tuple(
        s.model_copy(
            update={
                "pitch_mm": float(rng.choice(SCENARIO["pitches_mm"])),
                "marks_per_turn": int(rng.choice(SCENARIO["marks_per_turn"])),
            }
        )
        for s in symmetric_screws(plate, (inset, inset), (width - inset, depth - inset), 4)
    )
    # One thread and one kind of knob for all of a machine.
    one = {"pitch_mm": screws[0].pitch_mm, "marks_per_turn": screws[0].marks_per_turn}
    return heron.model_copy(update={"plates": (plate,), "screws": tuple(s.model_copy(update=one) for s in screws)})


def stream(seed: int, part: int, number: int) -> np.random.Generator:
    """One machine's own stream in one part of the trial."""
    return np.random.default_rng(np.random.SeedSequence(seed, spawn_key=(part, number)))


def trial_of(folder: str, machine: Machine, seed: int, number: int, reversed_knobs: int = 0) -> tuple[Trial, Erring]:
    people: dict[str, PracticePerson] = {}
    desk = Desk(Workshop(Path(folder) / f"{uuid4().hex}.db"), lambda setup: people[setup.id])
    truth = crooked(machine, machine.plates[0], seed * 100_003 + number, knob_sd_mm=SCENARIO["knob_sd_mm"])
    rng = stream(seed, 9, number)
    truth.feel_bias = float(rng.normal(0, SCENARIO["feel_bias_mm"]))
    for j in rng.permutation(len(machine.screws))[:reversed_knobs]:
        truth.senses[j] = -truth.senses[j]
    one = Trial(desk, people, seed, number, machine=machine, truth=truth)
    person = Erring(one.body)
    people[one.run_id] = person
    return one, person


# The parts: each a machine's figures by name


def tram_figures(job: tuple[str, int, int]) -> dict[str, float]:
    """Read all with 0 to 4 reversed knobs, and counting on the same kind of machine."""
    folder, seed, number = job
    out: dict[str, float] = {}
    for way in ("read_all", "counting"):
        machine = any_machine(stream(seed, 1, number))
        one, _ = trial_of(folder, machine, seed, number, reversed_knobs=number % 5 if way == "read_all" else number % 2)
        if way == "read_all":
            one.keep("tram", WayChosen(way="read_all"))
        start, stops = float(np.ptp(one.heights())), 0
        ended = False
        for _ in range(SCENARIO["steps_cap"]):
            step = tram.step.now_at(one.now).step
            if step in ("centre", "done", "beyond_knobs", "given_up"):
                ended = True
                break
            try:
                one.ask("tram", tram.practice.practice)
            except Refused:
                break
            stops += step in ("count", "feel", "sense")
        left = float(np.ptp(one.heights()))
        out |= {
            f"{way}_diverged": float(left > max(0.3, 0.5 * start)),
            f"{way}_ended": float(ended),
            f"{way}_within": float(left <= 2 * one.now.state.tol_mm),
        }
        if way == "counting":
            out["counting_stops"] = float(stops)
        out["crashes"] = out.get("crashes", 0.0) + len(one.body.crashes)
    return out


def contact_figures(job: tuple[str, int, int]) -> dict[str, float]:
    """The first contact from far away, by eye and feel and by feel alone."""
    folder, seed, number = job
    out: dict[str, float] = {"found_untouched": 0.0}
    hows: tuple[How, ...] = ("eye", "feel")
    for how in hows:
        rng = stream(seed, 2, number)
        one, person = trial_of(folder, any_machine(rng), seed, number)
        found = first_contact(one, person, rng, SCENARIO, how)
        out |= {f"moves_far_{how}": found.moves, f"pressed_far_{how}": float(found.pressed_mm > PRESSED_MM)}
        out["found_untouched"] += found.untouched
    return out


@dataclass(frozen=True)
class Contact:
    """How a first contact went: moves, the deepest press of the gauge, whether it was called found untouched, and how far
    the drag that was found lies above the true one, mm."""

    moves: float
    pressed_mm: float
    untouched: float
    error_mm: float


def first_contact(
    one: Trial,
    person: "Erring",
    rng: np.random.Generator,
    scenario: dict[str, Any],
    how: How,
) -> Contact:
    """The tip hangs some mm above the plate at z 0, gauge in between, and nobody knows how far.

    It is told by the gauge alone; by eye as well, while it is far; or by eye and by the gauge folded.
    """
    # As Prepare asks on a new machine: homed, and the tip seen to stop above the plate, however far.
    one.keep("prepare", CheckDone(check="rough_zero", outcome="done"))
    x, y = one.body.mounted.centre
    one.body.truth.shift += float(rng.uniform(*scenario["far_mm"])) - one.body.gap(x, y, 0.0)
    habit, moves, pressed, stands = float(rng.normal(0, scenario["eye_habit"])), 0, 0.0, np.inf
    now = offset.step.now_at(one.now)
    while now.next_z_mm is not None and moves < scenario["moves_cap"]:
        z, gap = now.next_z_mm, one.body.gap(x, y, now.next_z_mm)
        pressed = max(pressed, one.body.sheet_mm() - gap)
        # Slid once more where the tip stands: no move.
        moves, stands = moves + (z != stands), z
        if how == "thick" and now.thick_helps and gap > person.body.sheet_mm():
            tried = person.slid_under(z, gap)
            one.keep("offset", ThickTried(z_mm=z, under_mm=tried.under_mm, not_mm=tried.not_mm, sure=True))
        elif how != "feel" and now.look_helps and gap > 0.4:
            seen = gap * float(np.exp(habit + rng.normal(0, scenario["eye_share"])))
            one.keep("offset", GapSeen(z_mm=z, gap_mm=min(round(seen, 2), 30.0)))
        else:
            one.keep("offset", Felt(x_mm=x, y_mm=y, z_mm=z, feel=person._feel(gap), sure=True))
        now = offset.step.now_at(one.now)
    search = one.now.state.search
    untouched = float(now.next_z_mm is None and (search is None or not search.approach.touched))
    error = one.body.gap(x, y, now.drag_z_mm) - person._drag_gap()
    return Contact(float(moves), pressed, untouched, float(error))


def layer_figures(job: tuple[str, int, int, float, bool]) -> dict[str, Any]:
    """Tram, mesh or none, offset, then proofs until done, each zone judged by eye alone."""
    folder, seed, number, eye_mm, meshed = job
    machine = next(m for m in MACHINES if m.id == "heron")
    screws = tuple(s.model_copy(update={"sense_proved": True}) for s in machine.screws)
    one, person = trial_of(folder, machine.model_copy(update={"screws": screws}), seed, number)
    person.eye_mm = eye_mm
    one.do_tram()
    if meshed:
        one.measure_mesh()
    one.do_offset()
    proofs, declared, held = 0, False, list[bool]()
    first: dict[str, Any] = {}
    one.keep("first_layer", ToolTold(tool="caliper", here=False))
    while proofs < SCENARIO["proofs_cap"] and not declared:
        try:
            while True:
                one.ask("first_layer", lambda desk, run: first_layer.practice.practice(desk, run, "advised"))
        except Refused:
            pass
        proofs += 1
        gaps, sds = one.now.state.wanted.field.gaps
        held += list(np.abs(one.gaps() - gaps) <= 1.6449 * sds)
        best, was = first_layer.step.next_steps(one.now)[0], one.sound()
        declared = best.action.kind == "done"
        if not declared:
            _follow(one, person, best)
            # After a sure move nothing more is printed.
            declared = one.now.state.sound_unseen is not None
        if proofs == 1 and was:
            changes = best.action.kind not in ("done", "print_again", "clean")
            first = {"sound_changed": float(changes), "sound_made_unsound": float(changes and not one.sound())}
    name = f"proofs_eye_{1000 * eye_mm:.0f}" + ("_mesh" if meshed else "")
    out: dict[str, Any] = {name: float(proofs), "declared": float(declared), "crashes": float(len(one.body.crashes))}
    if declared:
        out["declared_and_sound"] = float(one.sound())
    return out | first | {"zone_intervals_held": [float(h) for h in held]}


def _follow(one: Trial, person: Erring, best: first_layer.doing.NextStep) -> None:
    """Do what is advised, all of it, as the page asks."""
    if best.action.kind in ("offset", "knobs"):
        for row in best.keeps:
            if isinstance(row, ZoneCleaned | CauseMended):
                one.keep("first_layer", row)
    kind = best.action.kind
    if kind == "measure" and best.mesh_point and best.neighbour and one.now.state.mesh is not None:
        grid = one.now.state.mesh.grid
        (c, r), (nc, nr) = best.mesh_point, best.neighbour
        heights = [person.felt_height(grid.xs_mm[i], grid.ys_mm[j]) for i, j in ((c, r), (nc, nr))]
        again = MeshPointAgain(
            column=c, row=r, height_mm=heights[0], neighbour_column=nc, neighbour_row=nr, neighbour_height_mm=heights[1]
        )
        one.keep("mesh", again)
        person.use_mesh(one.now.state.mesh)
    else:
        one.follow(best)
        if kind == "knobs" and best.stored is not None:
            one.keep("first_layer", OffsetSet(stored_mm=best.stored.new_mm))


def harm(machines: int, seed: int, workers: int = 1) -> dict[str, Any]:
    """Every part on so many machines; figures by name with two standard errors and their bars, as plain values."""
    began = time.perf_counter()
    with tempfile.TemporaryDirectory() as folder:
        plain = [(folder, seed, k) for k in range(machines)]
        layers = [
            (folder, seed, k, eye, meshed) for eye in (0.02, 0.01) for meshed in (False, True) for k in range(machines)
        ]
        parts: list[tuple[Callable[[Any], dict[str, Any]], list[Any]]] = [
            (tram_figures, plain),
            (contact_figures, plain),
            (layer_figures, layers),
        ]
        found: dict[str, list[float]] = {}
        with multiprocessing.get_context("fork").Pool(workers) as pool:
            for act, jobs in parts:
                for figures in pool.imap_unordered(act, jobs, chunksize=4):
                    for name, value in figures.items():
                        found.setdefault(name, []).extend(value if isinstance(value, list) else [value])
    # The third tram of a machine whose screws go slack, by the tram's own trial.
    slack = table(machines, seed, [ELASTIC], workers=workers, known_runs=2)["rows"][0]
    figures = {name: figure(name, values, SCENARIO) for name, values in sorted(found.items())}
    for name, policy in (("third_tram_stops", "counting, known"), ("slack_new_stops", "counting, new")):
        figures[name] = {
            "mean": slack[policy]["mean"],
            "two_se": slack[policy]["two_se"],
            "bar": bar_of(name, SCENARIO),
        }
    return {
        "scenario": SCENARIO_FILE,
        "machines": machines,
        "seed": seed,
        "seconds": round(time.perf_counter() - began, 1),
        "figures": figures,
    }
