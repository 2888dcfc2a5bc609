"""What is kept of the Z offset: what was felt and seen on the way down, the value stored and read back."""

from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field

from ivory_table.core.feelcheck import FeelTry
from ivory_table.core.gauge import Feel, FeelScale
from ivory_table.core.plate import Machine
from ivory_table.core.value import FineMm, PlaceMm
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


class GapSeen(Row):
    """How large the gap under the tip looks at a known height, by eye: before any gauge can tell."""

    kind: Literal["gap_seen"] = "gap_seen"
    effect: ClassVar[Effect] = "reads"
    stations: ClassVar = ("offset",)
    z_mm: FineMm
    gap_mm: Annotated[float, Field(gt=0, le=30)]

    def words(self, machine: Machine) -> str:
        return f"the gap looks like {self.gap_mm:g} mm at z {signed(self.z_mm, 3)}"
