"""The first machine of a new workshop, from a few questions; everything else is asked when a station first needs it."""

from typing import Annotated, Literal

from pydantic import Field

from ivory_table.core.defaults import FIRST
from ivory_table.core.gauge import Gauge
from ivory_table.core.plate import THREADS, ConventionId, Filament, Machine, Plate, Probe, Screw
from ivory_table.core.value import Id, Label, Value
from ivory_table.desk.desk import Desk

from .setup import KeepMachine, keep_machine

Shape = Literal["rectangle", "round"]


class FirstMachine(Value):
    """What is asked before a first run."""

    id: Id
    name: Label
    shape: Shape = "rectangle"
    #: Across, where it is round.
    width_mm: Annotated[float, Field(ge=50, le=1000)]
    depth_mm: Annotated[float, Field(ge=50, le=1000)]
    knobs: Literal[0, 3, 4]
    #: The thread of the screws under the knobs; None where the person does not know.
    thread: Literal["M3", "M4", "M5"] | None = None
    probe: Probe | None = None
    #: Which way the stored number goes; None where the person does not know.
    convention: ConventionId | None = None


def furnish_first(desk: Desk, wanted: FirstMachine) -> None:
    """Keep the machine, and a gauge and filaments to start from where there are none.

    Knobs stand where they usually do; the set-up moves them. A stored number whose direction nobody knows is not stored
    at all: the value goes into the start of each job until somebody says which way it counts.
    """
    workshop = desk.workshop
    depth = wanted.width_mm if wanted.shape == "round" else wanted.depth_mm
    plate = Plate(
        id=f"{wanted.id}-plate"[:64], name="plate", shape=wanted.shape, width_mm=wanted.width_mm, depth_mm=depth
    )
    x0, y0, x1, y1 = plate.bounds
    thread = {"pitch_mm": THREADS[wanted.thread]} if wanted.thread else {}
    screws = tuple(
        Screw(name=name, x_mm=round(x0 + across * (x1 - x0), 1), y_mm=round(y0 + up * (y1 - y0), 1), **thread)
        for name, (across, up) in usual_knobs(wanted.shape, wanted.knobs).items()
    )
    machine = Machine(
        id=wanted.id,
        name=wanted.name,
        plates=(plate,),
        screws=screws,
        probe=wanted.probe,
        convention=wanted.convention or "live_only",
    )
    keep_machine(desk, wanted.id, KeepMachine(machine=machine, seen_revision=0))
    with workshop.writing():
        if not workshop.gauges():
            for row in FIRST["gauges"]:
                workshop.keep_gauge(Gauge.model_validate(row))
        if not workshop.filaments():
            for row in FIRST["filaments"]:
                workshop.keep_filament(Filament.model_validate(row))


def usual_knobs(shape: Shape, knobs: int) -> dict[str, tuple[float, float]]:
    """Where so many knobs usually are, as shares of the plate's width and depth; inwards, so that they lie on a round one."""
    inwards = 0.8 if shape == "round" else 1.0
    places = FIRST["knobs"].get(str(knobs), {})
    return {name: (0.5 + inwards * (x - 0.5), 0.5 + inwards * (y - 0.5)) for name, (x, y) in places.items()}


class KnobPlace(Value):
    """A place as shares of a plate's width and depth, from the front left."""

    across: float
    up: float


class KnobPlaces(Value):
    """So many knobs on a plate of a shape."""

    shape: Shape
    knobs: int
    places: tuple[KnobPlace, ...]


def known_places() -> tuple[KnobPlaces, ...]:
    """What can be chosen for a first machine, to be drawn while it is chosen."""
    shapes: tuple[Shape, ...] = ("rectangle", "round")
    return tuple(
        KnobPlaces(
            shape=shape,
            knobs=int(count),
            places=tuple(KnobPlace(across=x, up=y) for x, y in usual_knobs(shape, int(count)).values()),
        )
        for shape in shapes
        for count in FIRST["knobs"]
    )
