"""What is told of a job that was checked, and kept of it."""

from typing import Annotated, Literal

from pydantic import AwareDatetime, Field

from ivory_table.core.plate import Plate
from ivory_table.core.settings_text import LineDiffers
from ivory_table.core.value import Id, Value
from ivory_table.program.finding import Finding

Verdict = Literal["sound", "parted", "scraped", "unsure"]


class Cell(Value):
    """A square of the plate on which something is laid: the gap there and how it will come out."""

    x_mm: float
    y_mm: float
    gap_mm: float
    sd_mm: float
    verdict: Verdict
    p_sound: float


class Better(Value):
    """The stored value that would make it likeliest sound."""

    stored_mm: float
    words: str
    p_before: float
    p_after: float


class LaidOtherwise(Value):
    """First-layer settings that would forgive more: what the job's maker would have to set."""

    layer_mm: float
    line_mm: float
    words: str
    p_before: float
    p_after: float


class Placed(Value):
    """Where on this plate more of it would hold: turned about its own middle, then moved."""

    dx_mm: float
    dy_mm: float
    turn_deg: float = 0.0
    share_before: float
    share_after: float


class Parts(Value):
    """What two jobs are compared by: the commands of start and end as they stand, and the first layer in figures."""

    start: Annotated[tuple[str, ...], Field(max_length=300)] = ()
    first_layer: tuple[tuple[str, str], ...] = ()
    end: Annotated[tuple[str, ...], Field(max_length=300)] = ()


class JobReport(Value):
    id: Id
    machine_id: Id
    machine_name: str
    plate_id: Id
    plate: Plate
    filament_name: str
    name: str
    at: AwareDatetime
    bytes: int
    lines: int
    #: As it is really sent: height and width of the first layer's lines, mm; None where nothing is laid.
    layer_mm: float | None
    line_mm: float | None
    findings: tuple[Finding, ...]
    cell_mm: float
    cells: tuple[Cell, ...]
    #: On the plate as it is believed today: the share of what is laid that is expected to be sound, and the chance that all of
    #: it is. None where nobody has measured it.
    share_sound: float | None
    p_all_sound: float | None
    better: Better | None
    otherwise: LaidOtherwise | None = None
    placed: Placed | None
    #: What the judgement rests on, in sentences.
    rests_on: tuple[str, ...]
    words: str
    parts: Parts = Parts()


class JobsCompared(Value):
    """What differs between two jobs, part by part."""

    before: str
    after: str
    start: tuple[LineDiffers, ...]
    first_layer: tuple[tuple[str, str, str], ...]
    end: tuple[LineDiffers, ...]
    words: str


class CheckWanted(Value):
    name: Annotated[str, Field(max_length=200)] = "job"
    plate_id: Id | None = None
    filament_id: Id | None = None
