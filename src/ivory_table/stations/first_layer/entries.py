"""What is kept of the first layer: proofs, their grades, live changes."""

from typing import Annotated, Any, ClassVar, Literal, Self

from pydantic import Field, model_validator

from ivory_table.core.bead import OPEN, Grade
from ivory_table.core.causes import CauseId
from ivory_table.core.defaults import LAYER
from ivory_table.core.offset import direction_words
from ivory_table.core.placing import SoundArea
from ivory_table.core.plate import Filament, Machine
from ivory_table.core.proof import MOST_ZONES, ProofPlan
from ivory_table.core.signs import SignId
from ivory_table.runs.row import Effect, Row

ZoneNumber = Annotated[int, Field(ge=0, lt=MOST_ZONES)]


class ProofStarted(Row):
    kind: Literal["proof_started"] = "proof_started"
    version: ClassVar[int] = 2
    effect: ClassVar[Effect] = "prints"
    #: At the tram where a walk's file has gone on into it.
    stations: ClassVar = ("first_layer", "tram")
    proof: ProofPlan

    @classmethod
    def older(cls, entry: dict[str, Any]) -> dict[str, Any]:
        """Version 1 laid a zone at two heights, as halves of it; each is one of its patches."""
        proof = dict(entry["what"]["proof"])
        if proof.get("kind") == "two_heights":
            proof["kind"] = "three_heights"
        proof["zones"] = [
            {("patch_of" if k == "half_of" else k): v for k, v in zone.items()} for zone in proof["zones"]
        ]
        return {**entry, "version": 2, "what": {**entry["what"], "proof": proof}}

    def words(self, machine: Machine) -> str:
        return f"proof of {len(self.proof.zones)} zones"


class Nudged(Row):
    """A live change of the nozzle's height, not stored: away from the plate is positive.

    `from_zone`: the first zone of the newest proof that was printed after it; None when nothing was printing.
    """

    kind: Literal["nudged"] = "nudged"
    effect: ClassVar[Effect] = "nudges"
    stations: ClassVar = ("first_layer",)
    away_mm: Annotated[float, Field(ge=-1, le=1)]
    from_zone: Annotated[int, Field(ge=0, le=MOST_ZONES)] | None = None

    def words(self, machine: Machine) -> str:
        return f"nudged {direction_words(self.away_mm)}, not stored"


class SpeedSet(Row):
    """A live change of the printing speed, in percent of what the program says."""

    kind: Literal["speed_set"] = "speed_set"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("first_layer",)
    percent: Annotated[float, Field(ge=10, le=300)]

    def words(self, machine: Machine) -> str:
        return f"speed {self.percent:g} %"


class ProofEnded(Row):
    """A proof has ended; one that was cut off or cancelled shows only the zones before."""

    kind: Literal["proof_ended"] = "proof_ended"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("first_layer",)
    outcome: Literal["printed", "cancelled"]
    zones: Annotated[int, Field(ge=0, le=MOST_ZONES)]

    def words(self, machine: Machine) -> str:
        return f"proof {self.outcome}, {self.zones} zones laid"


class Judged(Row):
    kind: Literal["judged"] = "judged"
    effect: ClassVar[Effect] = "reads"
    stations: ClassVar = ("first_layer",)
    zone: ZoneNumber
    grade: Grade | None = None
    caliper_mm: Annotated[float, Field(gt=0, le=20)] | None = None
    greasy: bool = False
    #: What else was seen, felt or heard of it.
    signs: Annotated[tuple[SignId, ...], Field(max_length=12)] = ()
    #: A real part laid there: by how much it is lower than drawn, and its foot wider on each side, mm.
    short_mm: Annotated[float, Field(ge=-0.5, le=0.5)] | None = None
    foot_mm: Annotated[float, Field(ge=0, le=2)] | None = None
    #: Said when the caliper is far from what a patch there can be, and right all the same.
    sure: bool = False

    @model_validator(mode="after")
    def _saw_something(self) -> Self:
        measured = (self.caliper_mm, self.short_mm, self.foot_mm)
        if self.grade is None and not self.signs and all(m is None for m in measured):
            raise ValueError("Give the zone a grade, a sign, or what was measured of it.")
        if len(set(self.signs)) < len(self.signs):
            raise ValueError("A sign is given once for a zone.")
        return self

    def words(self, machine: Machine) -> str:
        said: list[str] = [self.grade] if self.grade else []
        said += [LAYER.signs[name].word for name in self.signs]
        if self.caliper_mm is not None:
            said.append(f"{self.caliper_mm:g} mm")
        if self.short_mm is not None:
            said.append(f"the part {self.short_mm:g} mm too low")
        if self.foot_mm is not None:
            said.append(f"its foot {self.foot_mm:g} mm too wide")
        return f"zone {self.zone + 1}: {', '.join(said)}"


class LadderRead(Row):
    """The first step of a ladder that holds and closes; those before it did not, and it was stopped there. None where none did."""

    kind: Literal["ladder_read"] = "ladder_read"
    effect: ClassVar[Effect] = "reads"
    stations: ClassVar = ("first_layer",)
    first: ZoneNumber | None
    #: How that step looks, where somebody said so already.
    grade: Grade | None = None

    @model_validator(mode="after")
    def _of_a_step_that_holds(self) -> Self:
        if self.grade in OPEN:
            raise ValueError("A step that holds is sound or closer. Give the first one that is.")
        if self.grade is not None and self.first is None:
            raise ValueError("Say which step looks so.")
        return self

    def words(self, machine: Machine) -> str:
        if self.first is None:
            return "no step of the ladder holds"
        look = f", {self.grade}" if self.grade else ""
        return f"step {self.first + 1} is the first of the ladder that holds{look}"


class ZoneSkipped(Row):
    """A zone that nobody wants to judge: what is believed there goes on being believed."""

    kind: Literal["zone_skipped"] = "zone_skipped"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("first_layer",)
    zone: ZoneNumber

    def words(self, machine: Machine) -> str:
        return f"zone {self.zone + 1} not judged"


class CauseMended(Row):
    """Something that all zones share was done away with: the plate cleaned, a draught shut out, the fan switched off."""

    kind: Literal["cause_mended"] = "cause_mended"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("first_layer",)
    cause: CauseId

    def words(self, machine: Machine) -> str:
        return LAYER.causes[self.cause].remedy or LAYER.causes[self.cause].word


class CauseLookedFor(Row):
    """Somebody looked whether a cause is at work, without a print: a thermometer on the plate, paper in the draught."""

    kind: Literal["cause_looked_for"] = "cause_looked_for"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("first_layer",)
    cause: CauseId
    found: bool

    def words(self, machine: Machine) -> str:
        return f"looked whether {LAYER.causes[self.cause].word}: {'yes' if self.found else 'no'}"


class FeedMeasured(Row):
    """So much filament was fed as was commanded, and so much went in, each time; mm."""

    kind: Literal["feed_measured"] = "feed_measured"
    effect: ClassVar[Effect] = "reads"
    stations: ClassVar = ("first_layer",)
    commanded_mm: Annotated[float, Field(ge=20, le=500)] = LAYER.feed.commanded_mm
    measured_mm: Annotated[tuple[Annotated[float, Field(gt=0, le=1000)], ...], Field(min_length=1, max_length=9)]
    #: Said when the length is far from what was commanded, and right all the same.
    sure: bool = False

    @property
    def off(self) -> tuple[float, float]:
        """By what share more went in than was asked for, and one sd of it: each length is read against a rule."""
        share = sum(self.measured_mm) / len(self.measured_mm) / self.commanded_mm - 1
        return share, LAYER.feed.mark_sd_mm * 2**0.5 / self.commanded_mm / len(self.measured_mm) ** 0.5

    def words(self, machine: Machine) -> str:
        return f"of {self.commanded_mm:g} mm of filament, {', '.join(f'{m:g}' for m in self.measured_mm)} mm went in"


class FeedCorrected(Row):
    """The machine feeds by another number of steps for a mm now; of what it fed before, so many times more."""

    kind: Literal["feed_corrected"] = "feed_corrected"
    effect: ClassVar[Effect] = "moves_nozzle"
    stations: ClassVar = ("first_layer",)
    times: Annotated[float, Field(ge=0.5, le=2)]

    def words(self, machine: Machine) -> str:
        return f"feed corrected by {self.times - 1:+.1%}".replace("-", "−")


class ToolTold(Row):
    """Whether a tool is at hand, or a mesh to be measured in this run; what is not is not asked for."""

    kind: Literal["tool_told"] = "tool_told"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("first_layer",)
    tool: Literal["caliper", "rule", "mesh"]
    here: bool

    def words(self, machine: Machine) -> str:
        if self.tool == "mesh":
            return "a mesh may be measured" if self.here else "no mesh is measured this time"
        return f"a {self.tool} is at hand" if self.here else f"no {self.tool} at hand"


class OtherFilamentTold(Row):
    """What is printed beside the run's own filament, to tell what is the filament's doing."""

    kind: Literal["other_filament_told"] = "other_filament_told"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("first_layer",)
    filament: Filament

    def words(self, machine: Machine) -> str:
        return f"{self.filament.name} may be printed beside it"


class LeftFor(Row):
    """The plate is left as it is, for parts that lie within a part of it where every place is sound."""

    kind: Literal["left_for"] = "left_for"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("first_layer",)
    area: SoundArea

    def words(self, machine: Machine) -> str:
        return f"left as it is, for parts within {self.area.words}"


class LayerChosen(Row):
    """Another first layer is printed from here on: in the proofs, and in the parts."""

    kind: Literal["layer_chosen"] = "layer_chosen"
    effect: ClassVar[Effect] = "moves_nozzle"
    stations: ClassVar = ("first_layer",)
    layer_mm: Annotated[float, Field(ge=0.05, le=1.5)]
    line_mm: Annotated[float, Field(ge=0.1, le=3.0)]

    @model_validator(mode="after")
    def _lies_flat(self) -> "LayerChosen":
        if self.layer_mm > self.line_mm:
            raise ValueError("A line must be at least as wide as the layer is high.")
        return self

    def words(self, machine: Machine) -> str:
        return f"a first layer of {self.layer_mm:.2f} mm, its lines {self.line_mm:.2f} mm wide"


class ZoneCleaned(Row):
    kind: Literal["zone_cleaned"] = "zone_cleaned"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("first_layer",)
    zone: ZoneNumber

    def words(self, machine: Machine) -> str:
        return f"zone {self.zone + 1} cleaned"
