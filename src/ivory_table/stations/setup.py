"""Set-up: machines with their plates and screws, gauges, nozzles, filaments, people; and sharing them."""

from collections.abc import Callable
from typing import Annotated, Any, Literal, get_args

from pydantic import Field

from ivory_table.core.defaults import FACES
from ivory_table.core.feelcheck import sentence
from ivory_table.core.gauge import Gauge
from ivory_table.core.plate import (
    THREADS,
    CoatId,
    FaceId,
    Filament,
    Machine,
    Nozzle,
    Person,
    Plate,
    Screw,
    symmetric_screws,
)
from ivory_table.core.value import Id, Label, PlaceMm, Value
from ivory_table.desk.desk import Desk
from ivory_table.desk.knowledge import learnt_of
from ivory_table.runs.doubts import Refused
from ivory_table.store.trouble import Clash
from ivory_table.store.workshop import Workshop

Kind = Literal["machines", "gauges", "nozzles", "filaments", "people"]
SETUP_FORMAT: Literal["ivory-table-setup"] = "ivory-table-setup"


class Kept(Value):
    """A machine as it is kept, with the revision that a change must have seen."""

    machine: Machine
    revision: int
    learnt_runs: int


class PersonLine(Value):
    person: Person
    #: What is known of this person's feel, gauge by gauge, in words.
    feels: tuple[str, ...]


class FaceNamed(Value):
    id: FaceId
    name: str


class CoatNamed(Value):
    id: CoatId
    name: str


class SetupView(Value):
    machines: tuple[Kept, ...]
    gauges: tuple[Gauge, ...]
    nozzles: tuple[Nozzle, ...]
    filaments: tuple[Filament, ...]
    people: tuple[PersonLine, ...]
    #: mm per turn of the usual threads.
    threads: dict[str, float]
    #: What a plate's face may be made of, and what may lie on it.
    faces: tuple[FaceNamed, ...]
    coats: tuple[CoatNamed, ...]


class SetupFile(Value):
    """A set-up as it travels between installations."""

    format: Literal["ivory-table-setup"] = SETUP_FORMAT
    version: Annotated[int, Field(ge=1)] = 1
    machines: Annotated[tuple[Machine, ...], Field(max_length=200)] = ()
    gauges: Annotated[tuple[Gauge, ...], Field(max_length=200)] = ()
    nozzles: Annotated[tuple[Nozzle, ...], Field(max_length=200)] = ()
    filaments: Annotated[tuple[Filament, ...], Field(max_length=200)] = ()
    people: Annotated[tuple[Person, ...], Field(max_length=200)] = ()


class Brought(Value):
    """What an import did: what is new, what was there already, and what differs and was left as it was."""

    new: tuple[str, ...]
    same: tuple[str, ...]
    left_alone: tuple[str, ...]


class KeepMachine(Value):
    machine: Machine
    #: 0 for a new one.
    seen_revision: Annotated[int, Field(ge=0)]


class CopyMachine(Value):
    id: Id
    name: Label


class Symmetric(Value):
    """Two opposite corners of a symmetric set of screws on a plate."""

    plate: Plate
    x_mm: PlaceMm
    y_mm: PlaceMm
    opposite_x_mm: PlaceMm
    opposite_y_mm: PlaceMm
    count: Literal[3, 4, 6, 9]


class Screws(Value):
    screws: tuple[Screw, ...]


def view(workshop: Workshop) -> SetupView:
    gauges = {g.id: g.name for g in workshop.gauges()}
    machines = []
    for m in workshop.machines():
        learnt = learnt_of(workshop, m.id)
        machines.append(Kept(machine=m, revision=workshop.revision(m.id), learnt_runs=learnt.runs if learnt else 0))
    return SetupView(
        machines=tuple(machines),
        gauges=workshop.gauges(),
        nozzles=workshop.nozzles(),
        filaments=workshop.filaments(),
        people=tuple(
            PersonLine(
                person=p,
                feels=tuple(
                    f"{gauges.get(f.gauge_id, f.gauge_id)}: "
                    + (sentence(f.scale) if f.scale.tries else f"scatter {f.scale.scatter_mm:.3f} mm, from runs")
                    for f in p.feels
                ),
            )
            for p in workshop.people()
        ),
        threads=THREADS,
        faces=tuple(FaceNamed(id=face, name=FACES.faces[face].name) for face in get_args(FaceId)),
        coats=tuple(CoatNamed(id=coat, name=FACES.coats[coat].name) for coat in get_args(CoatId)),
    )


def keep_machine(desk: Desk, machine_id: str, wanted: KeepMachine) -> SetupView:
    """Keep a machine, new or changed. Raises Clash when another tab kept it meanwhile."""
    workshop, machine = desk.workshop, wanted.machine
    if machine.id != machine_id:
        raise Refused("id_differs", "The machine's own id differs from the one it is kept under.", "id")
    if machine.nozzle_id is not None:
        nozzle = next((n for n in workshop.nozzles() if n.id == machine.nozzle_id), None)
        if nozzle is None:
            raise Refused("unknown_nozzle", "That nozzle is not kept here. Choose another.", "nozzle_id")
        machine = machine.model_copy(update={"nozzle_mm": nozzle.diameter_mm})
    twin = next((m for m in workshop.machines() if m.name == machine.name and m.id != machine.id), None)
    if twin is not None and not twin.retired and not machine.retired:
        raise Refused(
            "name_taken", f"Another machine is called {machine.name} already. Give this one another name.", "name"
        )
    if workshop.revision(machine.id) != wanted.seen_revision:
        raise Clash(
            "machine_changed",
            "This machine was changed meanwhile, perhaps in another tab or by a run. Look at it again, then change it.",
        )
    before = workshop.machine(machine.id) if wanted.seen_revision else None
    workshop.keep_machine(machine)
    if before is not None and _hardware(before) != _hardware(machine):
        # Other screws carry the plate: what was learnt of the old ones does not hold.
        workshop.forget_learnt(machine.id)
    return view(workshop)


def _hardware(machine: Machine) -> Any:
    return [(s.name, s.x_mm, s.y_mm, s.pitch_mm) for s in machine.screws]


def copy_machine(desk: Desk, machine_id: str, wanted: CopyMachine) -> SetupView:
    """The same machine once more, under another name: nothing learnt, no line, senses to be proved again."""
    workshop = desk.workshop
    old = workshop.machine(machine_id)
    if workshop.revision(wanted.id):
        raise Refused("id_taken", "A machine is kept under this id already.", "id")
    screws = tuple(s.model_copy(update={"sense_proved": False}) for s in old.screws)
    fresh = old.model_copy(
        update={"id": wanted.id, "name": wanted.name, "screws": screws, "line_url": None, "practice": False,
                "retired": False, "in_use": False}
    )  # fmt: skip
    return keep_machine(desk, wanted.id, KeepMachine(machine=fresh, seen_revision=0))


def keep_gauge(workshop: Workshop, gauge: Gauge) -> SetupView:
    workshop.keep_gauge(gauge)
    return view(workshop)


def keep_nozzle(workshop: Workshop, nozzle: Nozzle) -> SetupView:
    workshop.keep_nozzle(nozzle)
    return view(workshop)


def keep_filament(workshop: Workshop, filament: Filament) -> SetupView:
    workshop.keep_filament(filament)
    return view(workshop)


def keep_person(workshop: Workshop, person: Person) -> SetupView:
    """Keep a person. Initials sign every row, so two people here cannot share them."""
    twin = next((p for p in workshop.people() if p.initials == person.initials and p.id != person.id), None)
    if twin is not None and not twin.retired and not person.retired:
        raise Refused("initials_taken", f"{twin.name} signs with {person.initials} already. Choose others.", "initials")
    workshop.keep_person(person)
    return view(workshop)


def symmetric(wanted: Symmetric) -> Screws:
    try:
        screws = symmetric_screws(
            wanted.plate,
            (wanted.x_mm, wanted.y_mm),
            (wanted.opposite_x_mm, wanted.opposite_y_mm),
            wanted.count,
        )
    except ValueError as wrong:
        raise Refused("no_such_set", str(wrong), "count") from None
    return Screws(screws=screws)


def setup_file(workshop: Workshop, machine_id: str | None) -> SetupFile:
    """Everything, or one machine alone."""
    if machine_id is not None:
        return SetupFile(machines=(workshop.machine(machine_id),))
    return SetupFile(
        machines=workshop.machines(),
        gauges=workshop.gauges(),
        nozzles=workshop.nozzles(),
        filaments=workshop.filaments(),
        people=workshop.people(),
    )


def bring(workshop: Workshop, file: SetupFile) -> Brought:
    """Keep what is new. What is here under the same id but differs is left as it is, and said."""
    new: list[str] = []
    same: list[str] = []
    left: list[str] = []

    def each(here: tuple[Any, ...], brought: tuple[Any, ...], keep: Callable[[Any], None]) -> None:
        known = {v.id: v for v in here}
        for value in brought:
            if value.id not in known:
                keep(value)
                new.append(value.name)
            elif known[value.id] == value:
                same.append(value.name)
            else:
                left.append(value.name)

    with workshop.writing():
        each(workshop.nozzles(), file.nozzles, workshop.keep_nozzle)
        each(workshop.gauges(), file.gauges, workshop.keep_gauge)
        each(workshop.filaments(), file.filaments, workshop.keep_filament)
        each(workshop.people(), file.people, workshop.keep_person)
        # A line belongs to this installation, not to the machine.
        machines = tuple(m.model_copy(update={"line_url": None, "practice": False}) for m in file.machines)
        here = {m.id: m for m in workshop.machines()}
        machines = tuple(here[m.id] if m.id in here and _shared(here[m.id]) == m else m for m in machines)
        each(workshop.machines(), machines, workshop.keep_machine)
    return Brought(new=tuple(new), same=tuple(same), left_alone=tuple(left))


def _shared(machine: Machine) -> Machine:
    return machine.model_copy(update={"line_url": None, "practice": False})
