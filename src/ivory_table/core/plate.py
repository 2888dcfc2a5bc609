"""Machines and their plates, as values: shape, screws, keep-outs, what holds them."""

from itertools import combinations
from math import ceil, hypot
from typing import Annotated, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from .defaults import BEAD, TRAM
from .eye import Eye
from .gauge import FeelScale, Gauge
from .springy import GivesWay, softness_mm_n
from .value import Array, Id, Initials, Label, PlaceMm, StoredMm, Value

ConventionId = Literal["probe_offset", "home_offset", "stop_position", "live_only"]
Sense = Literal[-1, 1]


#: What a plate's face may be made of, and what may lie on it; `defaults/faces.toml` says what follows.
FaceId = Literal["glass", "smooth", "textured", "tape", "painted"]
CoatId = Literal["glue", "spray"]


class Layer(Value):
    """One layer of the stack that lies on the heated base."""

    name: Label
    thickness_mm: Annotated[float, Field(gt=0, le=20)] | None = None


class KeepOut(Value):
    """A rectangle the tip must not enter: a clip, a magnet, a worn spot."""

    name: Label
    x_min_mm: PlaceMm
    y_min_mm: PlaceMm
    x_max_mm: PlaceMm
    y_max_mm: PlaceMm

    @model_validator(mode="after")
    def _has_area(self) -> Self:
        if self.x_max_mm <= self.x_min_mm or self.y_max_mm <= self.y_min_mm:
            raise ValueError("A keep-out needs its right edge right of its left, its back behind its front.")
        return self

    def holds(self, x_mm: float, y_mm: float, clearance_mm: float = 0.0) -> bool:
        """Whether a place in mm lies in it, or nearer than the clearance in mm."""
        return (
            self.x_min_mm - clearance_mm <= x_mm <= self.x_max_mm + clearance_mm
            and self.y_min_mm - clearance_mm <= y_mm <= self.y_max_mm + clearance_mm
        )


class Plate(Value):
    """A plate that can be mounted. A round one has its origin at the centre."""

    id: Id
    name: Label
    shape: Literal["rectangle", "round"] = "rectangle"
    width_mm: Annotated[float, Field(ge=40, le=1000)]
    depth_mm: Annotated[float, Field(ge=40, le=1000)]
    layers: tuple[Layer, ...] = ()
    #: None: nobody has said.
    face: FaceId | None = None
    coat: CoatId | None = None
    keep_outs: tuple[KeepOut, ...] = ()
    retired: bool = False

    @property
    def coated(self) -> CoatId | None:
        """What lies on its face; a layer that is called glue is one."""
        return self.coat or ("glue" if any("glue" in layer.name.lower() for layer in self.layers) else None)

    @property
    def stack_mm(self) -> float | None:
        """Thickness of everything that lies on the heated base; None where a layer's is not known, or none was told of.

        A plate that nobody has described is not as thin as nothing: the tip would be brought closer by all that another is thick.
        """
        each = [layer.thickness_mm for layer in self.layers]
        return None if not each or None in each else float(sum(t for t in each if t is not None))

    @model_validator(mode="after")
    def _round_is_round(self) -> Self:
        if self.shape == "round" and self.width_mm != self.depth_mm:
            raise ValueError("A round plate is as deep as it is wide.")
        return self

    @property
    def centre(self) -> tuple[float, float]:
        """The plate's middle, (x, y) in mm."""
        return (0.0, 0.0) if self.shape == "round" else (self.width_mm / 2, self.depth_mm / 2)

    @property
    def bounds(self) -> tuple[float, float, float, float]:
        """x_min, y_min, x_max, y_max in mm."""
        cx, cy = self.centre
        return (cx - self.width_mm / 2, cy - self.depth_mm / 2, cx + self.width_mm / 2, cy + self.depth_mm / 2)

    def holds(self, x_mm: float, y_mm: float, margin_mm: float = 0.0) -> bool:
        """Whether a place lies on the plate, at least `margin_mm` from its edge."""
        if self.shape == "round":
            return hypot(x_mm, y_mm) <= self.width_mm / 2 - margin_mm
        x0, y0, x1, y1 = self.bounds
        return x0 + margin_mm <= x_mm <= x1 - margin_mm and y0 + margin_mm <= y_mm <= y1 - margin_mm

    def kept_out(self, x_mm: float, y_mm: float, clearance_mm: float = 0.0) -> str | None:
        """The name of the keep-out a place falls into, or None."""
        return next((k.name for k in self.keep_outs if k.holds(x_mm, y_mm, clearance_mm)), None)

    def refuse_outside(self, x_mm: float, y_mm: float) -> None:
        """Raise ValueError when a place is not on this plate."""
        if not self.holds(x_mm, y_mm):
            x0, y0, x1, y1 = self.bounds
            where = (
                f"within {self.width_mm / 2:g} mm of its centre"
                if self.shape == "round"
                else f"from {x0:g} to {x1:g} in x and {y0:g} to {y1:g} in y"
            )
            raise ValueError(f"({x_mm:g}, {y_mm:g}) is not on the plate, which reaches {where}.")


class Screw(Value):
    """A levelling screw. `sense` +1: clockwise from above raises the plate there."""

    name: Label
    x_mm: PlaceMm
    y_mm: PlaceMm
    pitch_mm: Annotated[float, Field(ge=0.1, le=3)] = 0.7
    sense: Sense = 1
    sense_proved: bool = False
    marks_per_turn: Annotated[int, Field(ge=4, le=64)] = 16
    #: From fully compressed to loose, and by how much the spring is compressed now.
    travel_mm: Annotated[float, Field(ge=0.5, le=20)] | None = None
    preload_mm: Annotated[float, Field(ge=0, le=20)] | None = None

    @model_validator(mode="after")
    def _preload_within_travel(self) -> Self:
        if self.preload_mm is not None and self.travel_mm is not None and self.preload_mm > self.travel_mm:
            raise ValueError(
                f"{self.name} cannot be preloaded by {self.preload_mm:g} mm with {self.travel_mm:g} mm of travel."
            )
        return self

    @property
    def mm_per_mark(self) -> float:
        """What one mark of its knob moves its support, mm."""
        return self.pitch_mm / self.marks_per_turn

    @property
    def trial_marks(self) -> int:
        """The turn that shows a knob's sense, in whole marks: enough to be felt on the plate, whatever its thread."""
        return max(ceil(TRAM.trial_mm / self.mm_per_mark - 0.3), 1)


class ProbeTilt(Value):
    """mm for each 100 mm to the right, and to the back, that a probe reads too high against the plate's middle."""

    right: Annotated[float, Field(ge=-1, le=1)] = 0.0
    back: Annotated[float, Field(ge=-1, le=1)] = 0.0


#: No probe sits further beside its tip than this.
MOST_BESIDE_MM = 100.0


class ProbePlace(Value):
    """Where a probe sits against the tip, mm: to the right of it, and behind it."""

    x_mm: Annotated[float, Field(ge=-MOST_BESIDE_MM, le=MOST_BESIDE_MM)] = 0.0
    y_mm: Annotated[float, Field(ge=-MOST_BESIDE_MM, le=MOST_BESIDE_MM)] = 0.0


class Probe(Value):
    """How a machine's probe works, and where it sits against the tip."""

    kind: Literal["touch", "inductive"]
    x_offset_mm: Annotated[float, Field(ge=-100, le=100)] = 0.0
    y_offset_mm: Annotated[float, Field(ge=-100, le=100)] = 0.0
    sd_mm: Annotated[float, Field(gt=0, le=0.5)] = 0.005
    #: Drifts when it is kept close to a hot plate: parked well above while the plate heats.
    heat_sensitive: bool = False
    #: As it was found by a gauge beside it; None where nobody has looked, or it does not lean.
    tilt: ProbeTilt | None = None
    #: Where it sits as marks on a plate have shown it; None where nobody has looked.
    sighted: ProbePlace | None = None

    @property
    def beside(self) -> ProbePlace:
        """Where it sits against the tip: as it was sighted, else as it was entered."""
        return self.sighted or ProbePlace(x_mm=self.x_offset_mm, y_mm=self.y_offset_mm)

    def untaught(self) -> "Probe":
        """As it was entered, without what runs have found of it."""
        return self.model_copy(update={"tilt": None, "sighted": None})


class Beam(Value):
    """A gantry carried by two Z drives, side by side: it can hang lower on one side.

    `left_mm` and `right_mm` are where the drives stand in x; `pitch_mm` is a drive's lead.
    """

    left_mm: PlaceMm
    right_mm: PlaceMm
    pitch_mm: Annotated[float, Field(ge=0.1, le=40)] = 8.0
    steps_per_turn: Annotated[int, Field(ge=1, le=100_000)] = 200

    @model_validator(mode="after")
    def _has_width(self) -> Self:
        if self.right_mm - self.left_mm < 40:
            raise ValueError("The right drive must stand at least 40 mm to the right of the left one.")
        return self


class Nozzle(Value):
    """A nozzle that is kept in the workshop."""

    id: Id
    name: Label
    diameter_mm: Annotated[float, Field(ge=0.1, le=2)]
    retired: bool = False


class OwnFeel(Value):
    """One person's scale on one gauge."""

    gauge_id: Id
    scale: FeelScale


class Person(Value):
    """Somebody who works here, with their feel on each gauge as far as it is known."""

    id: Id
    name: Label
    initials: Initials
    feels: tuple[OwnFeel, ...] = ()
    #: How far their grades of a printed patch scatter, learnt from what they judged; None before that.
    eye: Eye | None = None
    retired: bool = False

    def feel_on(self, gauge: Gauge) -> FeelScale:
        """The person's own scale on a gauge, or the shipped one of the way it is felt."""
        own = next((f.scale for f in self.feels if f.gauge_id == gauge.id), None)
        return own or FeelScale.of_method(gauge.method)


class Filament(Value):
    """A filament, and how it is printed."""

    id: Id
    name: Label
    material: Literal["PLA", "PETG", "ABS", "ASA", "TPU"]
    diameter_mm: Annotated[float, Field(ge=1, le=4)] = 1.75
    bed_c: Annotated[float, Field(ge=0, le=150)]
    nozzle_c: Annotated[float, Field(ge=120, le=350)]
    #: Share of the part fan in the first layer; most plastics hold better without.
    first_layer_fan: Annotated[float, Field(ge=0, le=1)] = 0.0
    #: As it looks, for the pictures a print is judged against.
    colour: Annotated[str, Field(pattern="^#[0-9a-fA-F]{6}$")] = "#cbbfa2"
    clarity: Literal["opaque", "usual", "clear"] = "usual"
    retired: bool = False

    @property
    def light_mm(self) -> float:
        """Light falls to a third within so much of it, mm."""
        return BEAD.light_mm[self.clarity]


class Where(Value):
    """For a step of the work, by its id: where it is found on this machine, in its owner's words."""

    step: Id
    line: Annotated[str, Field(min_length=1, max_length=160)]


#: What happens to heaters that are on when a machine's line is left: switched off, or asked about.
OnLeaving = Literal["off", "ask"]


class TipHeat(Value):
    """How much longer the tip is for each °C, mm, with one sd."""

    mm_per_c: Annotated[float, Field(ge=0, le=0.01)]
    sd_mm_per_c: Annotated[float, Field(ge=0, le=0.01)] = 0.0


#: The manner of a machine that nobody has taught to talk.
UNTAUGHT = "plain"


class Machine(Value):
    """A printer as the job sees it."""

    id: Id
    name: Label
    plates: Annotated[tuple[Plate, ...], Field(min_length=1, max_length=20)]
    screws: Annotated[tuple[Screw, ...], Field(max_length=12)] = ()
    nozzle_mm: Annotated[float, Field(ge=0.1, le=2)] = 0.4
    nozzle_id: Id | None = None
    beam: Beam | None = None
    probe: Probe | None = None
    convention: ConventionId
    stored_mm: StoredMm = 0.0
    #: Which way its stored number counts was shown on the machine itself.
    sign_proved: bool = False
    z_step_mm: Annotated[float, Field(ge=0.001, le=0.1)] = 0.01
    #: What one press of its height buttons can be set to, mm; none where a height is typed or sent.
    z_presses_mm: Annotated[tuple[Annotated[float, Field(ge=0.001, le=50)], ...], Field(max_length=8)] = ()
    seen_from: Literal["above", "below"] = "above"
    can_mesh: bool = True
    relative_extrusion: bool = True
    practice: bool = False
    #: How it talks, and where its line is; None while nobody has said.
    manner: Id = UNTAUGHT
    line_url: Annotated[str, Field(max_length=200)] | None = None
    on_leaving: OnLeaving = "off"
    where: tuple[Where, ...] = ()
    #: How far the plate sank beside a screw under a weight; None where its supports are stiff or nobody has tried.
    gives_way: GivesWay | None = None
    #: What its tip grows by when it is heated; None where nobody has felt it, or nothing is counted in.
    tip_heat: TipHeat | None = None
    #: It was working before it was entered here: no rough start is asked for.
    in_use: bool = False
    retired: bool = False

    @model_validator(mode="after")
    def _screws_can_tram(self) -> Self:
        refuse_bad_screws(self.screws)
        for plate in self.plates:
            for screw in self.screws:
                if not plate.holds(screw.x_mm, screw.y_mm, margin_mm=-30):
                    raise ValueError(
                        f"{screw.name} at ({screw.x_mm:g}, {screw.y_mm:g}) is more than 30 mm off {plate.name}. "
                        "Is its place measured from the plate's front left corner?"
                    )
        if self.gives_way is not None and self.screws:
            self.screw(self.gives_way.screw)
        if len({p.id for p in self.plates}) < len(self.plates):
            raise ValueError("Two plates of one machine have the same id.")
        return self

    def plate(self, plate_id: str) -> Plate:
        """The plate of this id. Raises ValueError for another."""
        for plate in self.plates:
            if plate.id == plate_id:
                return plate
        raise ValueError(f"{self.name} has no plate {plate_id}.")

    @property
    def screws_mm(self) -> Array:
        """(m, 2) where its screws stand."""
        return np.array([(s.x_mm, s.y_mm) for s in self.screws]).reshape(-1, 2)

    @property
    def softness_mm_n(self) -> float:
        """mm that one of its springs gives for each N; 0 where its supports are stiff or nobody has tried."""
        tried = self.gives_way
        return softness_mm_n(self.screws_mm, self.screw(tried.screw), tried) if tried and self.screws else 0.0

    def screw(self, name: str) -> int:
        """The place in `screws` of the one with this name. Raises ValueError for another."""
        for j, screw in enumerate(self.screws):
            if screw.name == name:
                return j
        known = ", ".join(s.name for s in self.screws) or "none"
        raise ValueError(f"{self.name} has no screw called {name}; it has {known}.")


def refuse_bad_screws(screws: tuple[Screw, ...]) -> None:
    """Raise ValueError unless there are no screws at all or they span a plane."""
    if not screws:
        return
    if len({s.name for s in screws}) < len(screws):
        raise ValueError("Two screws have the same name.")
    if len(screws) < 3:
        raise ValueError("Fewer than three screws cannot tram a plate; give three or more, or none.")
    for a, b in combinations(screws, 2):
        if hypot(a.x_mm - b.x_mm, a.y_mm - b.y_mm) < 5:
            raise ValueError(f"{a.name} and {b.name} stand on the same place; move one of them.")
    xy = np.array([[s.x_mm, s.y_mm] for s in screws])
    spread = np.linalg.svd(xy - xy.mean(axis=0), compute_uv=False)
    if spread[-1] < 5.0:
        raise ValueError("The screws lie on one line, so the plate can tip about it; move one of them off the line.")


#: mm per turn of the usual metric threads.
THREADS = {"M3": 0.5, "M4": 0.7, "M5": 0.8}


def symmetric_screws(
    plate: Plate, corner: tuple[float, float], opposite: tuple[float, float], count: int
) -> tuple[Screw, ...]:
    """A symmetric set of 3, 4, 6 or 9 screws from two opposite corners, named by where they stand.

    Three: two in front and one behind the middle. Raises ValueError for another count, or corners too close.
    """
    for x, y in (corner, opposite):
        plate.refuse_outside(x, y)
    x0, x1 = sorted((corner[0], opposite[0]))
    y0, y1 = sorted((corner[1], opposite[1]))
    if x1 - x0 < 20 or y1 - y0 < 20:
        raise ValueError("The two corners are too close together: screws this close cannot tilt a plate.")
    xm, ym = (x0 + x1) / 2, (y0 + y1) / 2
    left, middle, right = ("left", x0), ("middle", xm), ("right", x1)
    rows = {
        3: ((("front", y0), (left, right)), (("rear", y1), (middle,))),
        4: ((("front", y0), (left, right)), (("rear", y1), (left, right))),
        6: ((("front", y0), (left, middle, right)), (("rear", y1), (left, middle, right))),
        9: (
            (("front", y0), (left, middle, right)),
            (("middle", ym), (left, middle, right)),
            (("rear", y1), (left, middle, right)),
        ),
    }
    if count not in rows:
        raise ValueError("A symmetric set has 3, 4, 6 or 9 screws.")
    return tuple(
        Screw(name=f"{row} {column}" if count != 3 or column != "middle" else row, x_mm=x, y_mm=y)
        for (row, y), columns in rows[count]
        for column, x in columns
    )
