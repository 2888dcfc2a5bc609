"""What a run teaches of its machine, its plate and the person: made anew from its rows, so that what is taken back is gone."""

from collections.abc import Callable
from datetime import datetime
from typing import Annotated, Any

from pydantic import AwareDatetime, Field

from ivory_table.core.changes import change
from ivory_table.core.eye import Eye
from ivory_table.core.gauge import FeelScale
from ivory_table.core.mesh import MeshSurvey
from ivory_table.core.plate import ConventionId, Machine, OwnFeel, Person, ProbePlace, ProbeTilt, Screw, TipHeat, Where
from ivory_table.core.setup import Learnt
from ivory_table.core.thermal import ThermalReading
from ivory_table.core.thick import CaliperOff
from ivory_table.core.value import Id, StoredMm, Value
from ivory_table.runs.run import once_per_state

from .common import WhereNoted
from .run import OpenRun


class StoredLesson(Value):
    """The stored value, once it was read back."""

    at: AwareDatetime
    stored_mm: StoredMm
    #: Under what it holds; a value of another nozzle or convention tells nothing of this one.
    plate_id: Id = ""
    nozzle_mm: float = 0.0
    convention: ConventionId | None = None


class ConventionLesson(Value):
    """How the stored number counts, as the machine itself has shown it."""

    at: AwareDatetime
    convention: ConventionId
    #: False where the firmware was changed since, and nobody has looked.
    proved: bool = True


class TiltLesson(Value):
    """What the probe reads too high towards one side, as it is counted in."""

    at: AwareDatetime
    tilt: ProbeTilt | None


class ProbePlaceLesson(Value):
    """Where the probe sits beside the tip, as marks have shown it; None: as it was entered."""

    at: AwareDatetime
    place: ProbePlace | None


class TipHeatLesson(Value):
    """What the tip grows by when it is heated, as it is counted in."""

    at: AwareDatetime
    heat: TipHeat | None


class WhereLesson(Value):
    """Where a step is found on this machine; an empty line takes it away."""

    at: AwareDatetime
    step: Id
    line: str


class ScrewsLesson(Value):
    """How the knobs work, and where their springs stand."""

    at: AwareDatetime
    screws: tuple[Screw, ...]


class SupportsLesson(Value):
    """What the tram found of supports and knobs; it builds upon what was learnt before it."""

    at: AwareDatetime
    learnt: Learnt


class FeelLesson(Value):
    at: AwareDatetime
    gauge_id: Id
    scale: FeelScale


class EyeLesson(Value):
    at: AwareDatetime
    eye: Eye


class CaliperLesson(Value):
    """What a caliper was off by on the run's plate, with one filament."""

    at: AwareDatetime
    filament_id: Id
    off: CaliperOff


class FeedLesson(Value):
    """What went in of a filament against what was asked for, as a share more, as it was left; and one sd of it."""

    at: AwareDatetime
    filament_id: Id
    off: float
    sd: float


class LayerLesson(Value):
    """The first layer that was chosen with one nozzle, in mm."""

    at: AwareDatetime
    nozzle_mm: float
    layer_mm: float
    line_mm: float


class MeshLesson(Value):
    """A mesh that was measured, and kept."""

    at: AwareDatetime
    survey: MeshSurvey


class Lessons(Value):
    """All that one run teaches as its rows stand now."""

    stored: StoredLesson | None = None
    convention: ConventionLesson | None = None
    where: tuple[WhereLesson, ...] = ()
    tilt: TiltLesson | None = None
    probe_place: ProbePlaceLesson | None = None
    tip_heat: TipHeatLesson | None = None
    screws: ScrewsLesson | None = None
    supports: SupportsLesson | None = None
    #: Since when what was learnt of supports and knobs no longer holds: the hardware was changed.
    forgets_at: AwareDatetime | None = None
    #: Since when a feed that was measured no longer holds: its steps may be others.
    feeds_anew_at: AwareDatetime | None = None
    readings: Annotated[tuple[ThermalReading, ...], Field(max_length=5000)] = ()
    feel: FeelLesson | None = None
    eye: EyeLesson | None = None
    mesh: MeshLesson | None = None
    caliper: CaliperLesson | None = None
    feed: FeedLesson | None = None
    layer: LayerLesson | None = None
    #: Meshes that are not to be offered again, by when they were measured.
    mesh_discards: tuple[AwareDatetime, ...] = ()


#: One function for each station that teaches something: fields of `Lessons`.
_TEACHERS: list[Callable[[OpenRun], dict[str, Any]]] = []


def teaches(say: Callable[[OpenRun], dict[str, Any]]) -> Callable[[OpenRun], dict[str, Any]]:
    """Let a run teach what this function finds in it."""
    _TEACHERS.append(say)
    return say


@once_per_state
def lessons(run: OpenRun) -> Lessons:
    """What a run teaches as it stands: a pure function of its rows."""
    found: dict[str, Any] = {}
    for teacher in _TEACHERS:
        told = teacher(run)
        earlier = found.get("feel")
        if earlier is not None and "feel" in told and told["feel"].at < earlier.at:
            told = {k: v for k, v in told.items() if k != "feel"}
        found |= told
    return Lessons(**found)


@teaches
def _of_every_run(run: OpenRun) -> dict[str, Any]:
    where = tuple(
        WhereLesson(at=e.at, step=e.what.step, line=e.what.line) for e in run.kept if isinstance(e.what, WhereNoted)
    )
    changes, since = [change(c) for c in run.setup.changes], run.setup.started_at
    found: dict[str, Any] = {"where": where}
    if any(c.forgets for c in changes):
        found["forgets_at"] = since
    if any(c.feeds_anew for c in changes):
        found["feeds_anew_at"] = since
    return found


# What lessons add up to


def machine_after(machine: Machine, taught: tuple[Lessons, ...], since: datetime) -> Machine:
    """A machine as it was entered, with what its runs have taught since, in the order of time."""
    told: list[
        StoredLesson | ConventionLesson | ScrewsLesson | WhereLesson | TiltLesson | ProbePlaceLesson | TipHeatLesson
    ] = [
        *(lesson.tilt for lesson in taught if lesson.tilt),
        *(lesson.probe_place for lesson in taught if lesson.probe_place),
        *(lesson.tip_heat for lesson in taught if lesson.tip_heat),
        *(lesson.stored for lesson in taught if lesson.stored),
        *(lesson.convention for lesson in taught if lesson.convention),
        *(lesson.screws for lesson in taught if lesson.screws),
        *(where for lesson in taught for where in lesson.where),
    ]
    for one in sorted((t for t in told if t.at > since), key=lambda t: t.at):
        if isinstance(one, StoredLesson):
            machine = machine.model_copy(update={"stored_mm": one.stored_mm})
        elif isinstance(one, ConventionLesson):
            machine = machine.model_copy(update={"convention": one.convention, "sign_proved": one.proved})
        elif isinstance(one, TiltLesson):
            machine = _with_probe(machine, tilt=one.tilt)
        elif isinstance(one, ProbePlaceLesson):
            machine = _with_probe(machine, sighted=one.place)
        elif isinstance(one, TipHeatLesson):
            machine = machine.model_copy(update={"tip_heat": one.heat})
        elif isinstance(one, WhereLesson):
            others = tuple(w for w in machine.where if w.step != one.step)
            lines = (*others, Where(step=one.step, line=one.line)) if one.line else others
            machine = machine.model_copy(update={"where": lines})
        elif [s.name for s in one.screws] == [s.name for s in machine.screws]:
            machine = _with_taught(machine, one.screws)
    return machine


def _with_probe(machine: Machine, **found: ProbeTilt | ProbePlace | None) -> Machine:
    """The machine with what was found of its probe, if it has one."""
    probe = machine.probe and machine.probe.model_copy(update=found)
    return machine.model_copy(update={"probe": probe})


def _with_taught(machine: Machine, screws: tuple[Screw, ...]) -> Machine:
    """The machine with what is taught of its screws: how each knob works, and where its spring stands."""
    return machine.model_copy(
        update={
            "screws": tuple(
                s.model_copy(update={"sense": t.sense, "sense_proved": t.sense_proved, "preload_mm": t.preload_mm})
                for s, t in zip(machine.screws, screws, strict=True)
            )
        }
    )


def entered_anew(entered: Machine, known: Machine, wanted: Machine) -> Machine | None:
    """A machine that somebody saves, without what its runs have taught: that stays theirs to teach and to take back.

    None where the person altered something of that: then all of it counts as entered by hand.
    """

    def taught(machine: Machine) -> Any:
        return (
            machine.stored_mm,
            machine.convention,
            machine.sign_proved,
            machine.where,
            machine.tip_heat,
            machine.probe and (machine.probe.tilt, machine.probe.sighted),
            [(s.name, s.sense, s.sense_proved, s.preload_mm) for s in machine.screws],
        )

    if taught(wanted) != taught(known):
        return None
    same = wanted.model_copy(
        update={
            name: getattr(entered, name) for name in ("stored_mm", "convention", "sign_proved", "where", "tip_heat")
        }
    )
    if same.probe is not None:
        was = entered.probe
        same = _with_probe(same, tilt=was.tilt if was else None, sighted=was.sighted if was else None)
    return _with_taught(same, entered.screws)


def learnt_after(before: tuple[datetime, Learnt | None] | None, taught: tuple[Lessons, ...]) -> Learnt | None:
    """What is known of supports and knobs: by the last run that told, unless the hardware was changed since."""
    told: list[tuple[datetime, Learnt | None]] = [before] if before else []
    for lesson in taught:
        if lesson.supports is not None:
            told.append((lesson.supports.at, lesson.supports.learnt))
        if lesson.forgets_at is not None:
            told.append((lesson.forgets_at, None))
    # Of two at the same time, the one that forgets is the later.
    return max(told, key=lambda t: (t[0], t[1] is None))[1] if told else None


def person_after(person: Person, taught: tuple[Lessons, ...], since: datetime) -> Person:
    """A person as they were entered, with what their runs have taught since."""
    feels = {f.gauge_id: f for f in person.feels}
    told = [lesson.feel for lesson in taught if lesson.feel and lesson.feel.at > since]
    for feel in sorted(told, key=lambda t: t.at):
        feels[feel.gauge_id] = OwnFeel(gauge_id=feel.gauge_id, scale=feel.scale)
    eyes = [lesson.eye for lesson in taught if lesson.eye and lesson.eye.at > since]
    eye = max(eyes, key=lambda t: t.at).eye if eyes else person.eye
    return person.model_copy(update={"feels": tuple(feels.values()), "eye": eye})
