"""What is kept of the Z offset: what was felt and seen on the way down, the value stored and read back."""

from typing import Annotated, Any, ClassVar, Literal, Self

from pydantic import Field, field_validator, model_validator

from ivory_table.core.defaults import OFFSET
from ivory_table.core.feelcheck import FeelTry
from ivory_table.core.gauge import Feel, FeelScale
from ivory_table.core.plate import ConventionId, Machine, ProbePlace, ProbeTilt, TipHeat
from ivory_table.core.value import FineMm, PlaceMm, TipC
from ivory_table.core.words import signed
from ivory_table.runs.row import Effect, Row


class FeelTried(Row):
    """One try of a feel check: the tip that far above where the gauge was taken to drag."""

    kind: Literal["feel_tried"] = "feel_tried"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("offset",)
    feel_try: FeelTry

    def words(self, machine: Machine) -> str:
        return f"feel check: {self.feel_try.feel}"


class FeelKept(Row):
    """The feel check's result is this person's own scale on this gauge from now on."""

    kind: Literal["feel_kept"] = "feel_kept"
    effect: ClassVar[Effect] = "reads"
    stations: ClassVar = ("offset",)
    scale: FeelScale

    def words(self, machine: Machine) -> str:
        return f"feel kept: scatter {self.scale.scatter_mm:.3f} mm"


class Felt(Row):
    """The gauge slid under the tip at a known height."""

    kind: Literal["felt"] = "felt"
    version: ClassVar[int] = 2
    effect: ClassVar[Effect] = "reads"
    stations: ClassVar = ("offset",)
    x_mm: PlaceMm
    y_mm: PlaceMm
    z_mm: FineMm
    feel: Feel
    #: Said when it contradicts what was felt here before, and is right all the same.
    sure: bool = False

    @classmethod
    def older(cls, entry: dict[str, Any]) -> dict[str, Any]:
        """Version 1 meant three things by the station it came through: at the tram, a screw or the centre."""
        what = dict(entry["what"])
        screw = what.pop("screw", None)
        if entry["station"] != "tram":
            return {**entry, "version": 2, "what": what}
        what = {k: v for k, v in what.items() if k not in ("x_mm", "y_mm")}
        what |= {"kind": "screw_felt", "screw": screw} if screw else {"kind": "centre_felt"}
        return {**entry, "version": 1, "what": what}

    def words(self, machine: Machine) -> str:
        return f"{self.feel} at z {signed(self.z_mm, 3)}"


class SignShown(Row):
    """With the tip high above the plate the stored number was made larger by so much, for a moment: which way the tip went."""

    kind: Literal["sign_shown"] = "sign_shown"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("offset",)
    larger_by_mm: Annotated[float, Field(ge=-2, le=2)]
    went: Literal["closer", "further", "nowhere"]
    #: What the machine stores, where it went the other way than was declared.
    convention: ConventionId | None = None

    @field_validator("larger_by_mm")
    @classmethod
    def _can_be_seen(cls, mm: float) -> float:
        if abs(mm) < 0.2:
            raise ValueError("Change it by 0.2 mm at least: less cannot be seen.")
        return mm

    @property
    def sign(self) -> int:
        """+1 where a larger number brings the tip further; 0 where it went nowhere."""
        return 0 if self.went == "nowhere" else (1 if (self.went == "further") == (self.larger_by_mm > 0) else -1)

    def words(self, machine: Machine) -> str:
        return f"the number {signed(self.larger_by_mm, 2)}: the tip went {self.went}"


class DisplayShown(Row):
    """What the machine's own display shows after homing, and what that number is."""

    kind: Literal["display_shown"] = "display_shown"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("offset",)
    shows_mm: Annotated[float, Field(ge=-500, le=500)]
    #: `height`: the tip was lifted to it after homing, or rests there. `zero`: the display counts from another zero.
    means: Literal["height", "zero"] | None = None

    def words(self, machine: Machine) -> str:
        return f"the display shows {self.shows_mm:g} after homing"


class ProbeTouched(Row):
    """One of some touches of the same place, to see how well the probe repeats."""

    kind: Literal["probe_touched"] = "probe_touched"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("offset",)
    z_mm: FineMm
    bed_c: Annotated[float, Field(ge=-20, le=160)] | None = None
    #: How long it was parked low over the hot plate before, minutes.
    parked_min: Annotated[float, Field(ge=0, le=600)] | None = None

    def words(self, machine: Machine) -> str:
        return f"probe triggered at z {signed(self.z_mm, 4)}"


class ProbeCompared(Row):
    """Probe and gauge at one place: where the probe triggered there, and where the gauge dragged under the tip."""

    kind: Literal["probe_compared"] = "probe_compared"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("offset",)
    x_mm: PlaceMm
    y_mm: PlaceMm
    probe_z_mm: FineMm
    drag_z_mm: FineMm

    def words(self, machine: Machine) -> str:
        differ = signed(self.probe_z_mm - self.drag_z_mm, 3)
        return f"at {self.x_mm:.0f}, {self.y_mm:.0f} the probe reads {differ} mm against the gauge"


class TipFeltAt(Row):
    """The gauge dragged at a height with the tip at a heat, over one place: two heats tell how much the tip grows."""

    kind: Literal["tip_felt_at"] = "tip_felt_at"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("offset",)
    tip_c: TipC
    drag_z_mm: FineMm

    def words(self, machine: Machine) -> str:
        return f"with the tip at {self.tip_c:.0f} °C the gauge drags at {signed(self.drag_z_mm, 3)} mm"


class TipHeatCounted(Row):
    """What the tip grows by when it is heated is counted in from here on; None: it is not."""

    kind: Literal["tip_heat_counted"] = "tip_heat_counted"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("offset",)
    heat: TipHeat | None

    def words(self, machine: Machine) -> str:
        if self.heat is None:
            return "the tip is taken to be as long cold as hot"
        return f"the tip grows by {1000 * self.heat.mm_per_c:.2f} µm for 1 °C: counted in"


class ProbeTilted(Row):
    """What the probe reads too high towards one side is counted in from here on; None: it is not."""

    kind: Literal["probe_tilted"] = "probe_tilted"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("offset",)
    tilt: ProbeTilt | None

    def words(self, machine: Machine) -> str:
        if self.tilt is None:
            return "the probe's readings are taken as they are"
        return f"the probe leans by {signed(self.tilt.right, 3)} mm for 100 mm to the right, {signed(self.tilt.back, 3)} to the back: counted in"


class MarkSighted(Row):
    """A mark on the plate, sighted twice: where the head stood with the tip over it, and where with the probe."""

    kind: Literal["mark_sighted"] = "mark_sighted"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("offset",)
    tip_x_mm: PlaceMm
    tip_y_mm: PlaceMm
    probe_x_mm: PlaceMm
    probe_y_mm: PlaceMm

    def words(self, machine: Machine) -> str:
        return (
            f"a mark under the tip at {self.tip_x_mm:g}, {self.tip_y_mm:g} and under the probe at "
            f"{self.probe_x_mm:g}, {self.probe_y_mm:g}"
        )


class ProbePlaced(Row):
    """Where the probe sits beside the tip is taken as sighted, from the next run on; None: as it was entered."""

    kind: Literal["probe_placed"] = "probe_placed"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("offset",)
    place: ProbePlace | None

    def words(self, machine: Machine) -> str:
        if self.place is None:
            return "the probe is taken to sit where it was entered"
        return f"the probe sits {signed(self.place.x_mm, 1)}, {signed(self.place.y_mm, 1)} mm from the tip: kept"


class SensorMeasured(Row):
    """How high the tip hung when the sensor triggered, and what its adjuster does."""

    kind: Literal["sensor_measured"] = "sensor_measured"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("offset",)
    margin_mm: Annotated[float, Field(ge=-5, le=30)]
    pitch_mm: Annotated[float, Field(gt=0, le=5)] = 0.5
    clockwise_raises: bool = False

    def words(self, machine: Machine) -> str:
        return f"sensor triggers with the tip {self.margin_mm:g} mm up"


class SecondBegun(Row):
    """How a second tip is to hang beside the first, and what its height screw does."""

    kind: Literal["second_begun"] = "second_begun"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("offset",)
    #: How far above the first; 0 where both print at one height.
    wanted_mm: Annotated[float, Field(ge=-1, le=5)] = 0.0
    pitch_mm: Annotated[float, Field(gt=0, le=5)] = 0.5
    clockwise_raises: bool = True

    def words(self, machine: Machine) -> str:
        return f"second tip wanted {signed(self.wanted_mm, 2)} against the first"


class SecondGauged(Row):
    """Both tips felt with one gauge at one place: how far the second is above the first."""

    kind: Literal["second_gauged"] = "second_gauged"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("offset",)
    above_mm: Annotated[float, Field(ge=-2.5, le=2.5)]

    def words(self, machine: Machine) -> str:
        return f"second tip {signed(self.above_mm, 2)} against the first"


class PadsLaid(Row):
    """Pads of graded height were laid by the first tip."""

    kind: Literal["pads_laid"] = "pads_laid"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("offset",)
    tops_mm: Annotated[tuple[Annotated[float, Field(gt=0, le=10)], ...], Field(min_length=2, max_length=20)]

    def words(self, machine: Machine) -> str:
        return f"{len(self.tops_mm)} pads laid"


class SecondPassed(Row):
    """The second tip passed over the pads that were left: which it touched, low to high."""

    kind: Literal["second_passed"] = "second_passed"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("offset",)
    z_mm: FineMm
    touched: Annotated[tuple[bool, ...], Field(min_length=1, max_length=20)]
    sure: bool = False

    def words(self, machine: Machine) -> str:
        return f"second tip passed at z {signed(self.z_mm, 2)}: touched {sum(self.touched)} of {len(self.touched)}"


class SecondTurned(Row):
    kind: Literal["second_turned"] = "second_turned"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("offset",)
    turns: Annotated[float, Field(ge=-20, le=20)]

    def words(self, machine: Machine) -> str:
        return f"second tip's screw turned {self.turns:+.2f}"


class GapSeen(Row):
    """How large the gap under the tip looks at a known height, by eye: before any gauge can tell."""

    kind: Literal["gap_seen"] = "gap_seen"
    effect: ClassVar[Effect] = "reads"
    stations: ClassVar = ("offset",)
    z_mm: FineMm
    gap_mm: Annotated[float, Field(gt=0, le=30)]

    def words(self, machine: Machine) -> str:
        return f"the gap looks like {self.gap_mm:g} mm at z {signed(self.z_mm, 3)}"


class ThickTried(Row):
    """What went under the tip at a known height and what did not: a coin, a stack of cards, the gauge folded."""

    kind: Literal["thick_tried"] = "thick_tried"
    effect: ClassVar[Effect] = "reads"
    stations: ClassVar = ("offset",)
    z_mm: FineMm
    #: The thickest that goes under; 0: none of them does.
    under_mm: Annotated[float, Field(ge=0, le=30)]
    #: The thinnest that does not; None: all of them go under.
    not_mm: Annotated[float, Field(gt=0, le=30)] | None = None
    #: One thing whose thickness was typed for this.
    typed: bool = False
    sure: bool = False

    @model_validator(mode="after")
    def _says_something(self) -> Self:
        if not self.under_mm and self.not_mm is None:
            raise ValueError("Say what goes under the tip, or what does not.")
        if self.not_mm is not None and self.not_mm <= self.under_mm:
            raise ValueError("What does not go under is thicker than what does.")
        return self

    @property
    def words_alone(self) -> str:
        """What was found, without the height."""
        if not self.under_mm:
            return f"{self.not_mm:g} mm does not go under"
        return f"{self.under_mm:g} mm goes under" + (
            f", {self.not_mm:g} mm does not" if self.not_mm is not None else ""
        )

    def words(self, machine: Machine) -> str:
        return f"{self.words_alone} at z {signed(self.z_mm, 3)}"


class LimitOpened(Row):
    """The machine was told to let the tip go below its zero by so much, for the measurement."""

    kind: Literal["limit_opened"] = "limit_opened"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("offset",)
    by_mm: Annotated[float, Field(gt=0, le=OFFSET.limit_most_mm)]

    def words(self, machine: Machine) -> str:
        return f"soft limit opened by {self.by_mm:g} mm"


class LimitClosed(Row):
    """The machine's own limit stands again where it was."""

    kind: Literal["limit_closed"] = "limit_closed"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("offset",)

    def words(self, machine: Machine) -> str:
        return "soft limit closed"


#: Why nobody knows how high the tip hangs, and what may have moved: the zero, and each screw with it.
Unsure = Literal["probe", "stop", "nozzle", "crash", "unknown"]


class ZeroDoubted(Row):
    """Something was done since that moves the tip: what was believed of its height no longer counts."""

    kind: Literal["zero_doubted"] = "zero_doubted"
    effect: ClassVar[Effect] = "moves_nozzle"
    stations: ClassVar = ("offset",)
    why: Unsure

    def words(self, machine: Machine) -> str:
        return {
            "probe": "a new or moved probe: the tip may hang anywhere",
            "stop": "the Z stop was moved: the tip may hang anywhere",
            "nozzle": "another nozzle: the tip may hang anywhere",
            "crash": "after a crash: tip and plate may stand elsewhere",
            "unknown": "nobody knows where the tip hangs",
        }[self.why]
