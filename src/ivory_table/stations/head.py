"""What stands around every station: whose run it is, where each station is, what was kept last."""

from datetime import UTC, datetime
from typing import Any, Literal

from ivory_table.core.changes import change, known_changes
from ivory_table.core.defaults import PREPARE
from ivory_table.core.entries import Entry, Source, Station, kept
from ivory_table.core.gauge import Gauge
from ivory_table.core.offset import Convention, convention, direction_words
from ivory_table.core.plate import Filament, Machine, Plate, Screw
from ivory_table.core.value import Value
from ivory_table.stations.desk import OpenRun

from .sheet import many, marks_words, signed, way_words


class StationLine(Value):
    station: Station
    name: str
    state: Literal["open", "done", "skipped", "begun"]
    figure: str


class Caution(Value):
    id: str
    text: str
    seen: bool


class KeptRow(Value):
    """A row of the run as it is listed, newest first."""

    id: str
    at: datetime
    station: Station
    source: Source
    words: str


class ChangeLine(Value):
    id: str
    text: str


class Resume(Value):
    """A run that lay still: why it should be looked at before it goes on, and what may have changed."""

    words: str
    changes: tuple[ChangeLine, ...]


class RunHead(Value):
    id: str
    seq: int
    machine: Machine
    plate: Plate
    filament: Filament
    gauge: Gauge
    initials: str
    started_at: datetime
    kept_at: datetime | None
    stored_mm: float
    convention: Convention
    heated: str
    stations: tuple[StationLine, ...]
    rows: tuple[KeptRow, ...]
    readback_due: bool
    signed_off: bool
    #: Set when the run lay still for hours, or the machine was worked on since: what to say, and what to ask.
    resume: Resume | None
    #: Where each step is found on this machine, by the step's id.
    where: dict[str, str]


NAMES: dict[Station, str] = {
    "prepare": "Prepare",
    "tram": "Tram",
    "mesh": "Mesh",
    "offset": "Z offset",
    "first_layer": "First layer",
    "sign_off": "Sign off",
}


def fits(needs: str, machine: Machine, plate: Plate) -> bool:
    """Whether a check or caution is for this machine and plate."""
    glued = any("glue" in layer.name.lower() for layer in plate.layers)
    return {
        "always": True,
        "glued": glued,
        "not_glued": not glued,
        "keep_outs": bool(plate.keep_outs),
        "screws": bool(machine.screws),
        "no_screws": not machine.screws,
        "probe": machine.probe is not None,
        "live_only": machine.convention == "live_only",
    }[needs]


def cautions(run: OpenRun, station: Station) -> tuple[Caution, ...]:
    rows: list[dict[str, Any]] = PREPARE["cautions"]
    machine, plate = run.setup.machine, run.setup.plate
    return tuple(
        Caution(id=c["id"], text=c["text"], seen=c["id"] in run.state.cautions)
        for c in rows
        if c["station"] == station
        and fits(c["needs"], machine, plate)
        and ("only_after" not in c or set(run.state.changes) & set(c["only_after"]))
    )


def checks_for(run: OpenRun) -> tuple[dict[str, Any], ...]:
    """The checks for this machine, plate, and what changed since its last run."""
    machine, plate, changes = run.setup.machine, run.setup.plate, set(run.state.changes)
    return tuple(
        c
        for c in PREPARE["checks"]
        if fits(c["needs"], machine, plate) and (not c["only_after"] or changes & set(c["only_after"]))
    )


def station_lines(run: OpenRun) -> tuple[StationLine, ...]:
    s = run.state
    wanted = checks_for(run)
    ticked = sum(1 for c in wanted if c["id"] in s.checks)
    proof = s.proofs[-1] if s.proofs else None
    begun: dict[Station, bool] = {
        "prepare": bool(s.checks or s.heated),
        "tram": bool(s.stops or s.round_read),
        "mesh": s.mesh is not None or bool(s.mesh_points),
        "offset": bool(s.moves or s.looks or s.offset_changes),
        "first_layer": bool(s.proofs),
        "sign_off": s.signed_off is not None,
    }
    done: dict[Station, bool] = {
        "prepare": ticked == len(wanted),
        "tram": s.trammed or s.beyond_knobs,
        "mesh": s.mesh is not None,
        "offset": bool(s.offset_changes) and not s.readback_due,
        "first_layer": proof is not None and s.proof_done,
        "sign_off": s.signed_off is not None,
    }
    mesh_range = f"range {float(s.mesh.values.max() - s.mesh.values.min()):.2f} mm" if s.mesh else "none kept"
    figures: dict[Station, str] = {
        "prepare": f"{ticked} of {len(wanted)} checks",
        "tram": (f"spread {s.belief.spread()[0]:.2f} mm, {many(len(s.stops), 'stop')}" if s.stops else "not begun")
        if s.screws
        else "no knobs",
        "mesh": mesh_range + ("" if s.mesh is None or s.mesh_on else ", off"),
        "offset": f"{signed(s.stored_mm, 3)} mm" + (", read it back" if s.readback_due else ""),
        "first_layer": f"proof {len(s.proofs)}, {len(proof.marks)} of {len(proof.plan.zones)}"
        if proof
        else "not printed",
        "sign_off": "signed off" if s.signed_off else "open",
    }

    def state_of(station: Station) -> Literal["open", "done", "skipped", "begun"]:
        if done[station]:
            return "done"
        if station in s.skipped:
            return "skipped"
        return "begun" if begun[station] else "open"

    return tuple(StationLine(station=k, name=v, state=state_of(k), figure=figures[k]) for k, v in NAMES.items())


def head_of(run: OpenRun) -> RunHead:
    s, setup = run.state, run.setup
    alive = kept(run.entries)
    heated = ""
    if s.heated:
        heated = f"bed {s.heated.bed_c:.0f}°, tip {s.heated.nozzle_c:.0f}°"
    return RunHead(
        id=setup.id,
        seq=run.seq,
        machine=setup.machine.model_copy(update={"screws": s.screws}),
        plate=setup.plate,
        filament=setup.filament,
        gauge=setup.gauge,
        initials=setup.initials,
        started_at=setup.started_at,
        kept_at=run.entries[-1].at if run.entries else None,
        stored_mm=s.stored_mm,
        convention=convention(setup.machine.convention, run.manner),
        heated=heated,
        stations=station_lines(run),
        rows=tuple(
            KeptRow(id=e.id, at=e.at, station=e.station, source=e.source, words=words_for(e, setup.machine))
            for e in reversed(alive[-40:])
        ),
        readback_due=s.readback_due,
        signed_off=s.signed_off is not None,
        resume=_resume(run),
        where={k: v for k, v in s.where.items() if v},
    )


#: After this long the plate is cold and the motors were released: nothing is taken for granted.
STILL_HOURS = 6.0


def _resume(run: OpenRun) -> Resume | None:
    if run.state.signed_off is not None or not run.entries:
        return None
    hours = (datetime.now(UTC) - run.entries[-1].at).total_seconds() / 3600
    if hours < STILL_HOURS:
        return None
    ago = f"{hours:.0f} hours" if hours < 36 else f"{hours / 24:.0f} days"
    told = [c for c in known_changes() if c.id not in ("new_machine", "screws", "material")]
    return Resume(
        words=f"Nothing was kept here for {ago}. Home again, heat and hold again. What was changed meanwhile?",
        changes=tuple(ChangeLine(id=c.id, text=c.text) for c in told),
    )


def words_for(entry: Entry, machine: Machine) -> str:
    """One kept row in plain words; turns in the marks of the machine's own knobs, as they are looked at there."""
    w = entry.what

    def knob(name: str) -> Screw:
        return machine.screws[machine.screw(name)]

    def turn(name: str, marks: float) -> str:
        if not marks:
            return "no turn"
        below = " (from below)" if machine.seen_from == "below" else ""
        return f"{marks_words(marks, knob(name).marks_per_turn)} {way_words(marks, machine.seen_from)}{below}"

    match w.kind:
        case "check_done":
            return f"check {w.check.replace('_', ' ')}: {w.outcome}"
        case "caution_seen":
            return "caution read"
        case "heated":
            return f"bed {w.bed_c:g} °C, tip {w.nozzle_c:g} °C, held"
        case "station_skipped":
            return f"{NAMES[w.station]} skipped"
        case "way_chosen":
            return {
                "counting": "counting",
                "read_all": "read all, turn all",
                "ring": "round the ring",
                "diagonal": "across the diagonal",
                "pairs": "in pairs",
                "skirt": "while the skirt runs",
            }[w.way]
        case "school_chosen":
            return {"hot": "trammed hot", "warm": "trammed warm", "cold": "trammed cold"}[w.school]
        case "change_told":
            return f"changed: {change(w.change).text}"
        case "where_noted":
            return f"where to find {w.step.replace('_', ' ')}: {w.line or 'taken away'}"
        case "backed_off":
            return f"springs compressed, knobs backed off {w.turns:g} turns"
        case "thermal_read":
            r = w.reading
            return f"{r.place} at {r.bed_c:g} °C: {signed(r.height_mm, 3)} mm"
        case "feel_tried":
            return f"feel check: {w.feel_try.feel}"
        case "feel_kept":
            return f"feel kept: scatter {w.scale.scatter_mm:.3f} mm"
        case "beam_read":
            return f"beam left {signed(w.reading.left_mm)}, right {signed(w.reading.right_mm)} mm"
        case "beam_turned":
            return f"right drive {signed(w.up_mm)} mm" if w.up_mm else "beam level"
        case "skirt_seen":
            return f"skirt beside {w.screw}: {w.grade}"
        case "resumed":
            return "taken up again" + (f", changed: {', '.join(w.changes)}" if w.changes else "")
        case "sense_tried":
            return f"{w.screw}: {turn(w.screw, knob(w.screw).trial_marks)} felt {w.felt}"
        case "counted":
            return f"{w.screw}: {turn(w.screw, w.marks)} to the drag"
        case "not_reached":
            return f"{w.screw}: still {w.still} after {turn(w.screw, w.marks)}, turned back"
        case "turned":
            return f"{w.screw}: {turn(w.screw, w.marks)} further" if w.marks else f"{w.screw}: left there"
        case "turned_all":
            return "turned " + ", ".join(
                f"{s.name} {turn(s.name, m)}" for s, m in zip(machine.screws, w.marks, strict=True)
            )
        case "walked":
            return f"walked: {len(w.counts)} counts" + (f", centre {w.centre}" if w.centre else "")
        case "read_mm":
            return f"{w.screw or f'({w.x_mm:g}, {w.y_mm:g})'}: {signed(w.value_mm, 3)} mm by {w.instrument}"
        case "felt":
            return f"{w.feel} at z {signed(w.z_mm, 3)}"
        case "gap_seen":
            return f"the gap looks like {w.gap_mm:g} mm at z {signed(w.z_mm, 3)}"
        case "mesh_planned":
            return f"mesh of {w.columns} x {w.rows} begun"
        case "mesh_point":
            return f"mesh point {w.column + 1}, {w.row + 1}: {signed(w.height_mm, 3)} mm"
        case "visited":
            return f"the tip was brought to {w.screw}"
        case "nudge_merged":
            return f"nudge merged: stored {signed(w.stored_mm, 3)}"
        case "mesh_point_again":
            step = signed(w.height_mm - w.neighbour_height_mm, 3)
            return f"mesh point {w.column + 1}, {w.row + 1} again: {step} mm against {w.neighbour_column + 1}, {w.neighbour_row + 1}"
        case "mesh_base":
            return f"base point: {signed(w.height_mm, 3)} mm"
        case "nudged":
            return f"nudged {direction_words(w.away_mm)}, not stored"
        case "speed_set":
            return f"speed {w.percent:g} %"
        case "proof_ended":
            return f"proof {w.outcome}, {w.zones} zones laid"
        case "mesh_kept":
            return f"mesh of {len(w.survey.grid.xs_mm)} x {len(w.survey.grid.ys_mm)} kept"
        case "mesh_used":
            return "mesh on" if w.on else "mesh off"
        case "offset_set":
            return f"Z offset set to {signed(w.stored_mm, 3)}"
        case "readback":
            return "read back" if w.reported_mm is None else f"read back {signed(w.reported_mm, 3)}"
        case "proof_started":
            return f"proof of {len(w.proof.zones)} zones"
        case "judged":
            seen = w.grade or ""
            return f"zone {w.zone + 1}: {seen}{f' {w.caliper_mm:g} mm' if w.caliper_mm else ''}"
        case "zone_cleaned":
            return f"zone {w.zone + 1} cleaned"
        case "signed_off":
            return "signed off"
        case "taken_back":
            return "taken back"
    raise AssertionError(w.kind)
