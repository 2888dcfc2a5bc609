"""What the page is shown of a line."""

from dataclasses import dataclass
from typing import Literal

from ivory_table.core.value import Value

LineState = Literal["nobody", "connecting", "idle", "busy", "waiting", "lost", "halted"]


class Status(Value):
    """What the page shows of a line."""

    state: LineState = "nobody"
    #: What happened or is being done, and what the person can do.
    words: str = ""
    job: str = ""
    share: float | None = None
    left_s: float | None = None
    question: str = ""
    #: What kind of answer is waited for: a feel, yes or no, a turn; for whoever answers in practice.
    question_kind: str = ""
    answers: tuple[str, ...] = ()
    bed_c: float | None = None
    #: What the heaters are told to hold; None until the machine has said so.
    bed_target_c: float | None = None
    tip_c: float | None = None
    tip_target_c: float | None = None
    #: x, y, z.
    position_mm: tuple[float, ...] | None = None
    homed: bool = False
    queued: int = 0
    #: So many jobs have ended on this line: one may be over before anybody has seen it begin.
    done: int = 0
    #: Heat that nobody here asked for, found on connecting; or how the machine was left, as far as it is known.
    heat_words: str = ""

    @property
    def hot(self) -> bool:
        """Whether a heater is told to hold anything, as far as the machine has said."""
        return bool(self.bed_target_c or self.tip_target_c)


@dataclass(frozen=True)
class Warmth:
    """One report of the heaters, at the machine's own time."""

    at_s: float
    bed_c: float
    tip_c: float
