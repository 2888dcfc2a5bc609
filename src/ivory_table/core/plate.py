"""Machines and their plates, as values: shape, screws, keep-outs, what holds them."""

from math import hypot
from typing import Annotated, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from .value import Id, Label, PlaceMm, StoredMm, Value

ConventionId = Literal["probe_offset", "home_offset", "stop_position", "live_only"]
Sense = Literal[-1, 1]


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
    keep_outs: tuple[KeepOut, ...] = ()

    @model_validator(mode="after")
    def _round_is_round(self) -> Self:
        if self.shape == "round" and self.width_mm != self.depth_mm:
            raise ValueError("A round plate is as deep as it is wide.")
        return self

    @property
    def centre(self) -> tuple[float, float]:
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

    @property
    def mm_per_mark(self) -> float:
        return self.pitch_mm / self.marks_per_turn


class Probe(Value):
    kind: Literal["touch", "inductive"]
    x_offset_mm: Annotated[float, Field(ge=-100, le=100)] = 0.0
    y_offset_mm: Annotated[float, Field(ge=-100, le=100)] = 0.0
    sd_mm: Annotated[float, Field(gt=0, le=0.5)] = 0.005
    #: Drifts when it is kept close to a hot plate: parked well above while the plate heats.
    heat_sensitive: bool = False


class Filament(Value):
    id: Id
    name: Label
    material: Literal["PLA", "PETG", "ABS", "ASA", "TPU"]
    diameter_mm: Annotated[float, Field(ge=1, le=4)] = 1.75
    bed_c: Annotated[float, Field(ge=0, le=150)]
    nozzle_c: Annotated[float, Field(ge=120, le=350)]


class Machine(Value):
    """A printer as the job sees it."""

    id: Id
    name: Label
    plates: Annotated[tuple[Plate, ...], Field(min_length=1, max_length=20)]
    screws: Annotated[tuple[Screw, ...], Field(max_length=12)] = ()
    nozzle_mm: Annotated[float, Field(ge=0.1, le=2)] = 0.4
    probe: Probe | None = None
    convention: ConventionId
    stored_mm: StoredMm = 0.0
    z_step_mm: Annotated[float, Field(ge=0.001, le=0.1)] = 0.01
    seen_from: Literal["above", "below"] = "above"
    can_mesh: bool = True
    relative_extrusion: bool = True
    practice: bool = False
    #: How it talks, and where its line is; None while nobody has said.
    manner: Id = "harbour"
    line_url: Annotated[str, Field(max_length=200)] | None = None

    @model_validator(mode="after")
    def _screws_can_tram(self) -> Self:
        refuse_bad_screws(self.screws)
        if len({p.id for p in self.plates}) < len(self.plates):
            raise ValueError("Two plates of one machine have the same id.")
        return self

    def plate(self, plate_id: str) -> Plate:
        for plate in self.plates:
            if plate.id == plate_id:
                return plate
        raise ValueError(f"{self.name} has no plate {plate_id}.")

    def screw(self, name: str) -> int:
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
    xy = np.array([[s.x_mm, s.y_mm] for s in screws])
    spread = np.linalg.svd(xy - xy.mean(axis=0), compute_uv=False)
    if spread[-1] < 5.0:
        raise ValueError("The screws lie on one line, so the plate can tip about it; move one of them off the line.")
