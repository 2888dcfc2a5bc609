"""The person at the practice machine: a hand on the knob, a feel for the gauge, an eye for a layer.

This is the side door: it answers `core.hands.Hands` and stands for the human, never for the machine.
"""

from typing import Literal

import numpy as np

from ivory_table.core.bead import Bead, Swatch, swatch
from ivory_table.core.causes import fails_of, look_of
from ivory_table.core.defaults import BEAD, LAYER, SECOND
from ivory_table.core.gauge import FEELS, Feel
from ivory_table.core.hands import Look, Reach
from ivory_table.core.mesh import MeshSurvey
from ivory_table.core.offset import convention
from ivory_table.core.proof import ProofPlan
from ivory_table.core.tram import hand_error_mm

from .elastic import crooked
from .machine import Laid, PracticeMachine, Ways

#: Nobody turns a knob further than this in one go.
MOST_MARKS = 64
#: Further from the drag than this, a gauge is plainly tight or loose.
NOT_DRAGGING_MM = 0.03
SECONDS_A_TURN = 4.0
CLEANS_MM = 40.0
#: What heat and speed do to a first layer: shares of flow lost per °C too cold and per mm/s too fast.
FORGIVEN_C, COLD_SHARE_C = 8.0, 0.008
FAST_MM_S, FAST_SHARE = 35.0, 0.006
#: On a plate colder than wanted by this, nothing holds.
COLD_PLATE_C = 20.0
#: A tip is as long as it prints at this heat; one that nobody heats is taken for one that is held there.
TIP_PRINTS_C = 205.0
TIP_HELD_C = 60.0
CUTS_MM = (-0.040, -0.012, 0.008, 0.030)


class PracticePerson:
    """`Hands` over a `PracticeMachine`. What was turned is on the file before it is answered."""

    def __init__(self, machine: PracticeMachine) -> None:
        self.body = machine

    # On the knobs

    def try_sense(self, screw: int) -> str:
        before = self._height(screw)
        self._move(screw, self.body.machine.screws[screw].trial_marks)
        self.body.keep()
        return "tighter" if self._height(screw) > before else "looser"

    def turn_until_drag(self, screw: int, most_marks: int = MOST_MARKS) -> Reach:
        """Turned until the gauge drags under the tip: at its own height when it is over this screw, else at z 0.

        A knob that does not bring it within `most_marks` is turned back where it was.
        """
        body, s = self.body, self.body.machine.screws[screw]
        wanted = self._drag_gap() + float(body.rng().normal(0, body.truth.feel_scatter))
        up_per_mark = s.mm_per_mark * body.truth.senses[screw] * body.truth.pitch_share[screw]
        marks, passed = 0.0, float(body.plate.passes()[screw, screw])
        for _ in range(30):
            # The eye on the gauge, the hand on the knob: a slack screw just needs more turning.
            before = self._gap_at(s.x_mm, s.y_mm)
            step = (before - wanted) / passed / up_per_mark
            step = float(np.clip(marks + step, -most_marks, most_marks)) - marks
            if abs(step) < 0.02:
                break
            marks += step
            self._move(screw, step, exact=True)
            moved = before - self._gap_at(s.x_mm, s.y_mm)
            passed = min(max(moved / (step * up_per_mark), 0.1), 1.0)
        off = self._gap_at(s.x_mm, s.y_mm) - wanted
        still: Literal["tight", "loose"] | None = None
        if abs(off) > NOT_DRAGGING_MM:
            still = "loose" if off > 0 else "tight"
            self._move(screw, -marks)
        body.keep()
        return Reach(round(marks), still)

    def is_loose(self, screw: int) -> bool:
        """Whether the gauge slides under the tip over this screw with more room than at the drag."""
        s, truth = self.body.machine.screws[screw], self.body.truth
        felt = self._gap_at(s.x_mm, s.y_mm) + float(self.body.rng().normal(0, truth.feel_scatter))
        self.body.keep()
        return felt > self._drag_gap()

    def turn(self, screw: int, marks: float) -> None:
        self._move(screw, marks)
        self.body.keep()

    def back_off(self, turns: float) -> None:
        """Every spring fully compressed, then every knob backed off by so many turns."""
        truth = self.body.truth
        for j, screw in enumerate(self.body.machine.screws):
            up = truth.lowest[j] + turns * screw.pitch_mm * truth.pitch_share[j]
            truth.supports[j] = min(up, truth.relaxed[j])
        self.body.keep()

    def turn_beam(self, up_mm: float) -> None:
        """The right drive of the beam turned: the nozzle's plane tilts about the left one."""
        if self.body.machine.beam is not None:
            self.body.truth.beam_mm += up_mm
            self.body.keep()

    # With the gauge

    def gap_at_zero(self, x_mm: float, y_mm: float) -> float:
        """A dial carried by the head, or an eye on a line: the gap at z 0 to a hundredth."""
        value = self.body.gap(x_mm, y_mm, 0.0) + float(self.body.rng().normal(0, 0.006))
        self.body.keep()
        return value

    def slide_gauge(self, x_mm: float, y_mm: float, z_mm: float) -> Feel:
        """The tip brought to a height by the machine's own panel, and the gauge slid under it."""
        gap = self.body.gap(x_mm, y_mm, z_mm)
        self.body.press(x_mm, y_mm, gap)
        return self._feel(gap)

    def slide_here(self) -> Feel:
        """The gauge slid under the tip where the line has put it."""
        x, y, z = self.body.at
        self.body.gauge_under_tip = True
        return self._feel(self.body.gap(x, y, z))

    def touch_probe(self, on: bool) -> None:
        """A finger on the probe, as when its trigger is proved."""
        self.body.ways.finger_on_probe = on

    def felt_height(self, x_mm: float, y_mm: float) -> float:
        """The height at which the gauge drags, by stepping the tip down to it."""
        body = self.body
        value = body.sheet_mm() + body.truth.feel_bias - body.gap(x_mm, y_mm, 0.0)
        value += float(body.rng().normal(0, body.truth.feel_scatter))
        body.keep()
        return round(value, 2)

    def read_height(self, x_mm: float, y_mm: float) -> float:
        """A dial, or the machine's own probe: repeatable, over a zero of its own."""
        body = self.body
        sd = body.machine.probe.sd_mm if body.machine.probe else 0.006
        value = float(body.surface(np.array([[x_mm, y_mm]]))[0]) + 0.3 + float(body.rng().normal(0, sd))
        body.keep()
        return round(value, 3)

    # On the machine's panel

    def use_mesh(self, survey: MeshSurvey | None) -> None:
        body = self.body
        body.mesh_on = survey is not None
        if survey is not None and survey != body.mesh:
            body.mesh, body.mesh_stored = survey, False
        body.keep()

    def store_mesh(self) -> None:
        self.body.mesh_stored = self.body.mesh is not None
        self.body.keep()

    def switch_off_and_on(self) -> None:
        """Cut from power: what was not stored is gone."""
        self.body.restart(cut=True)
        self.body.keep()

    def move_nozzle(self, away_mm: float) -> None:
        """A new stored value, typed in at the machine's own panel."""
        truth, how = self.body.truth, convention(self.body.machine.convention)
        truth.shift += away_mm
        truth.stored_mm += how.sign * away_mm
        self.body.keep()

    # With the eye

    def print_zone(self, proof: ProofPlan, zone: int) -> Look:
        """How one patch looks: as it was laid over the line, or as this machine would lay it."""
        body = self.body
        body.keep()
        if self._greasy(proof, zone):
            return Look(grade="loose", greasy=True)
        rng = body.rng()
        if self._cold_plate(proof, zone) or self._fails(proof, zone, rng):
            return Look(grade="loose" if rng.random() < 0.65 else "barely")
        gap, flow = self._patch(proof, zone)
        bead = Bead(proof.line_mm, proof.layer_mm, flow)
        grade = bead.grade_at(gap + float(rng.normal(0, 0.04 * proof.layer_mm)))
        fused = grade in ("sound", "ridged", "squeezed") and gap > 0.02
        caliper = round(gap + float(rng.normal(0, 0.01)), 2) if fused else None
        return Look(grade=grade, caliper_mm=caliper if caliper and caliper > 0 else None)

    def see_zone(self, proof: ProofPlan, zone: int, light_mm: float = BEAD.light_mm["usual"]) -> Swatch:
        """The patch as a drawing, for an eye that wants to judge for itself."""
        gap, flow = self._patch(proof, zone)
        if self._greasy(proof, zone) or self._cold_plate(proof, zone):
            gap = 2 * proof.bead.free_diameter_mm  # it lies there as it fell
        return swatch(Bead(proof.line_mm, proof.layer_mm, flow), gap, light_mm)

    def clean(self, proof: ProofPlan, zone: int) -> None:
        at, truth = proof.zones[zone], self.body.truth
        truth.greasy = [g for g in truth.greasy if np.hypot(g[0] - at.x_mm, g[1] - at.y_mm) > CLEANS_MM]
        self.body.keep()

    def mend(self, cause: str) -> None:
        if self.body.truth.cause == cause:
            self.body.truth.cause = ""
        if cause == "coat":
            self.body.truth.greasy = []
        self.body.keep()

    def look_for(self, cause: str) -> bool:
        """Whether a look finds a cause: what is there may be missed, and what is not may be taken for it."""
        body, look = self.body, look_of(cause)
        there = body.truth.cause == cause
        if cause == "cold_plate" and body.bed.target_c > 0:
            there = there or body.bed.body_c < body.bed.target_c - COLD_PLATE_C
        found = bool(body.rng().random() < (look.finds if there else look.wrong))
        body.keep()
        return found

    def measure_feed(self, commanded_mm: float) -> float:
        """A length of filament marked, fed and measured with a rule."""
        value = commanded_mm * self.body.truth.extrusion + float(self.body.rng().normal(0, 0.4))
        self.body.keep()
        return round(value * 2) / 2

    def change_feed(self, times: float) -> None:
        self.body.truth.extrusion *= times
        self.body.keep()

    # On a second tip

    def gauge_second(self) -> float:
        """Both tips felt with one gauge at one place: how far the second hangs above the first."""
        value = self._second_mm() + float(self.body.rng().normal(0, SECOND.gauge_sd_mm))
        self.body.keep()
        return round(value, 2)

    def pass_second(self, tops_mm: tuple[float, ...], z_mm: float) -> tuple[bool, ...]:
        """The second tip passed over pads with the machine at a height: which of them it touched."""
        runs_at = z_mm + self._second_mm()
        tops = np.array(tops_mm) + self.body.rng().normal(0, SECOND.pad_sd_mm, len(tops_mm))
        self.body.keep()
        return tuple(bool(top > runs_at) for top in tops)

    def turn_second(self, up_mm: float) -> None:
        """Turn the second tip's screw by what should raise it so far."""
        error = float(self.body.rng().normal(0, hand_error_mm(up_mm)))
        self.body.truth.second_mm = self._second_mm() + up_mm + error
        self.body.keep()

    # As the trainer

    def disturb(self) -> None:
        """A newly crooked plate, as after a rebuild; the nozzle's zero and the mesh stay."""
        body, old = self.body, self.body.truth
        fresh = crooked(body.machine, body.mounted, int(body.rng().integers(1 << 30)))
        fresh.shift, fresh.stored_mm, fresh.mount = old.shift, old.stored_mm, old.mount
        body.truth = fresh
        body.remount(old.mount)

    def fault(self, name: str, after: int = 1) -> None:
        """Switch a fault of heat, motors or probe on; `none` mends them all. Raises ValueError for another."""
        body = self.body
        match name:
            case "heater_stops":
                body.bed.fault = "stopped"
            case "thermistor_open":
                body.tip.fault = "open"
            case "stall":
                body.ways.stall_mm = 0.4
            case "probe_too_high":
                body.ways.probe_too_high = True
            case "tip_grows":
                body.truth.tip_mm_per_c = 0.0004
                body.keep()
            case "dirty_tip":
                body.ways.dirty_tip_mm = -0.06
            case name if name in LAYER.causes and LAYER.causes[name].remedy:
                body.truth.cause = name
                body.keep()
            case "none":
                body.ways = Ways()
                body.bed.fault = body.tip.fault = ""
                body.truth.cause = ""
                body.truth.tip_mm_per_c = 0.0
                body.keep()
            case _:
                raise ValueError(f"This machine knows no fault called '{name}'.")

    def crashes(self) -> list[str]:
        """Every crash so far, in words: the machine does not know of them."""
        return [f"into {c.into} at ({c.x_mm:.0f}, {c.y_mm:.0f}), {c.deep_mm:.2f} mm deep" for c in self.body.crashes]

    # Below the surface

    def _drag_gap(self) -> float:
        """The gap, with the tip as hot as it prints, at which the gauge drags under the tip as hot as it is."""
        tip_c = self.body.tip.body_c
        shorter = self.body.truth.tip_mm_per_c * (TIP_PRINTS_C - tip_c) if tip_c > TIP_HELD_C else 0.0
        return self.body.sheet_mm() + self.body.truth.feel_bias - shorter

    def _feel(self, gap: float) -> Feel:
        felt = gap + float(self.body.rng().normal(0, self.body.truth.feel_scatter))
        self.body.keep()
        return FEELS[int(np.searchsorted(self._drag_gap() + np.array(CUTS_MM), felt))]

    def _second_mm(self) -> float:
        truth = self.body.truth
        if truth.second_mm is None:
            # As somebody has set it by eye.
            truth.second_mm = float(np.random.default_rng([truth.seed, 2]).normal(0, SECOND.by_eye_sd_mm))
        return truth.second_mm

    def _gap_at(self, x: float, y: float) -> float:
        body = self.body
        over = body.homed and np.hypot(body.at[0] - x, body.at[1] - y) < 12 and body.at[2] < 3
        return body.gap(x, y, body.at[2] if over else 0.0)

    def _height(self, screw: int) -> float:
        s = self.body.machine.screws[screw]
        return float(self.body.surface(np.array([[s.x_mm, s.y_mm]]))[0])

    def _greasy(self, proof: ProofPlan, zone: int) -> bool:
        at = proof.zones[zone]
        return any(np.hypot(g[0] - at.x_mm, g[1] - at.y_mm) < CLEANS_MM for g in self.body.truth.greasy)

    def _fails(self, proof: ProofPlan, zone: int, rng: np.random.Generator) -> bool:
        """Whether a zone does not hold for what all zones share."""
        cause = self.body.truth.cause
        return (
            cause in LAYER.causes
            and cause not in proof.zones[zone].spares
            and bool(rng.random() < fails_of(cause, proof.places)[zone])
        )

    def _cold_plate(self, proof: ProofPlan, zone: int) -> bool:
        laid = self._laid(proof, zone)
        return bool(laid) and float(np.mean([p.bed_c for p in laid])) < proof.bed_c - COLD_PLATE_C

    def _laid(self, proof: ProofPlan, zone: int) -> list[Laid]:
        """What the line has printed of one patch."""
        at, half = proof.zones[zone], proof.patch_mm / 2
        return [p for p in self.body.laid if abs(p.x_mm - at.x_mm) <= half and abs(p.y_mm - at.y_mm) <= half]

    def _patch(self, proof: ProofPlan, zone: int) -> tuple[float, float]:
        """The mean gap and the flow of one patch."""
        body, at, half = self.body, proof.zones[zone], proof.patch_mm / 2
        laid = self._laid(proof, zone)
        flow = body.truth.extrusion
        if (row := LAYER.causes.get(body.truth.cause)) is not None and body.truth.cause not in at.spares:
            flow *= 1 + row.flow
        if laid:
            tip_c, speed = (float(np.mean([getattr(p, name) for p in laid])) for name in ("tip_c", "speed_mm_s"))
            # A tip too cold melts less, and one too fast pushes less out than was asked of it.
            flow *= max(1 - COLD_SHARE_C * max((at.nozzle_c or proof.nozzle_c) - FORGIVEN_C - tip_c, 0), 0.5)
            flow *= max(1 - FAST_SHARE * max(speed - FAST_MM_S, 0), 0.5)
            return float(np.mean([p.gap_mm for p in laid])), flow
        places = [
            (at.x_mm + i * half / 2, at.y_mm + j * half / 2, proof.layer_mm + at.away_mm)
            for i in (-1, 0, 1)
            for j in (-1, 0, 1)
        ]
        return float(np.mean(body.gaps(np.array(places)))), flow

    def _move(self, screw: int, marks: float, *, exact: bool = False) -> None:
        """Turn a knob: its true pitch and sense, a hand's error, the ends of its travel."""
        if not marks:
            return
        truth, s = self.body.truth, self.body.machine.screws[screw]
        up = marks * s.mm_per_mark * truth.senses[screw] * truth.pitch_share[screw]
        if not exact:
            up += float(self.body.rng().normal(0, float(hand_error_mm(up))))
        truth.supports[screw] = max(truth.supports[screw] + up, truth.lowest[screw])
        self.body.pass_time(SECONDS_A_TURN)
