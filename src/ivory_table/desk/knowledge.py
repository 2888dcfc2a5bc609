"""What machines, plates and people are known to be: as they were entered, and what their runs have taught since."""

from collections.abc import Iterable
from typing import TypeVar

from ivory_table.core.bead import Bead
from ivory_table.core.plate import Machine
from ivory_table.core.plate_values import PlateValue
from ivory_table.core.setup import KnownFeed, KnownLayer, Learnt, RunSetup
from ivory_table.core.thermal import ThermalStudy
from ivory_table.core.thick import CaliperOff
from ivory_table.runs.lessons import (
    CaliperLesson,
    FeedLesson,
    Lessons,
    MeshLesson,
    learnt_after,
    machine_after,
    person_after,
)
from ivory_table.store.erasing import ERASED
from ivory_table.store.workshop import Workshop


def keep_lessons(workshop: Workshop, setup: RunSetup, taught: Lessons) -> None:
    """Keep what a run teaches, and sum up anew what is known of its machine and of the person who made it."""
    workshop.keep_lessons(setup, taught)
    sum_up_machine(workshop, setup.machine.id)
    sum_up_person(workshop, setup.initials, new=taught.feel is not None or taught.eye is not None)


def sum_up_machine(workshop: Workshop, machine_id: str) -> None:
    """The machine as it was last entered by hand, with what its runs have taught since then."""
    entered = workshop.machine_as_entered(machine_id)
    if entered is None:
        return
    machine, at = entered
    known = machine_after(machine, workshop.lessons(machine_id=machine_id), since=at)
    if known != workshop.machine(machine_id):
        workshop.know_machine(known)


def sum_up_person(workshop: Workshop, initials: str, *, new: bool = False) -> None:
    """The person as they were entered, with what their runs have taught since; somebody new by their initials."""
    if initials == ERASED:
        return
    entered = workshop.person_as_entered(initials)
    if entered is None:
        if not new:
            return
        workshop.meet_person(initials)
        entered = workshop.person_as_entered(initials)
        assert entered is not None
    person, at = entered
    known = person_after(person, workshop.lessons(initials=initials), since=at)
    if known != workshop.person_by(initials):
        workshop.know_person(known)


def learnt_of(workshop: Workshop, machine_id: str) -> Learnt | None:
    """What a machine's runs have taught of its supports and knobs."""
    return learnt_after(workshop.learnt_before(machine_id), workshop.lessons_of_supports(machine_id))


def caliper_of(workshop: Workshop, machine_id: str, plate_id: str, filament_id: str) -> CaliperOff:
    """What a caliper is off by on a plate with a filament, by the newest run that measured it."""
    taught = workshop.lessons(machine_id=machine_id, plate_id=plate_id)
    newest = _newest((lesson.caliper for lesson in taught), filament_id)
    return newest.off if newest else CaliperOff()


def feed_of(workshop: Workshop, machine_id: str, filament_id: str) -> KnownFeed | None:
    """What goes in on a machine of a filament against what is asked for, by the newest run that measured it."""
    taught = workshop.lessons(machine_id=machine_id)
    void = max((lesson.feeds_anew_at for lesson in taught if lesson.feeds_anew_at), default=None)
    newest = _newest((lesson.feed for lesson in taught), filament_id)
    if newest is None or (void is not None and newest.at <= void):
        return None
    return KnownFeed(off=newest.off, sd=newest.sd, at=newest.at)


def layer_of(workshop: Workshop, machine: Machine) -> KnownLayer | None:
    """The first layer chosen last on a machine with the nozzle it has; None where that is the usual one, or none was chosen."""
    told = [one for lesson in workshop.lessons(machine_id=machine.id) if (one := lesson.layer)]
    newest = max((t for t in told if t.nozzle_mm == machine.nozzle_mm), key=lambda t: t.at, default=None)
    if newest is None:
        return None
    known = KnownLayer(layer_mm=newest.layer_mm, line_mm=newest.line_mm, at=newest.at)
    return known if known.bead != Bead.usual(machine.nozzle_mm) else None


_OfFilament = TypeVar("_OfFilament", CaliperLesson, FeedLesson)


def _newest(told: Iterable[_OfFilament | None], filament_id: str) -> _OfFilament | None:
    """The newest that was taught with a filament."""
    return max((t for t in told if t and t.filament_id == filament_id), key=lambda t: t.at, default=None)


def study_of(workshop: Workshop, machine_id: str, plate_id: str) -> ThermalStudy | None:
    """The thermal study of a plate: as it was brought from elsewhere, with what was read in its runs since."""
    brought = workshop.study(machine_id, plate_id)
    readings = brought.readings if brought else ()
    for taught in workshop.lessons(machine_id=machine_id, plate_id=plate_id):
        readings = (*readings, *taught.readings)
    return ThermalStudy(plate_id=plate_id, readings=readings) if readings else None


def plate_values(workshop: Workshop, machine: Machine) -> tuple[PlateValue, ...]:
    """Every stored value that was read back on a machine with its nozzle and convention, with the plate it was for."""
    return tuple(
        PlateValue(at=one.at, plate_id=one.plate_id, stored_mm=one.stored_mm)
        for taught in workshop.lessons(machine_id=machine.id)
        if (one := taught.stored)
        and one.plate_id
        and (one.nozzle_mm, one.convention) == (machine.nozzle_mm, machine.convention)
    )


def meshes_of(workshop: Workshop, machine_id: str) -> tuple[MeshLesson, ...]:
    """Every mesh measured on a machine and not discarded since, of all its plates, newest first."""
    taught = workshop.lessons(machine_id=machine_id)
    discarded = {at for lesson in taught for at in lesson.mesh_discards}
    found = [lesson.mesh for lesson in taught if lesson.mesh is not None and lesson.mesh.at not in discarded]
    return tuple(sorted(found, key=lambda m: m.at, reverse=True))
