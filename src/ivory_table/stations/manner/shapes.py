"""What the pages of manners show, and what they are told."""

from typing import Annotated, Literal

from pydantic import Field

from ivory_table.core.mesh import MeshLaw
from ivory_table.core.plate import ConventionId
from ivory_table.core.teach.catalogue import Kind
from ivory_table.core.teach.job import JobLine
from ivory_table.core.teach.lesson import MAX_REPLY, Lesson
from ivory_table.core.teach.proving import Proved
from ivory_table.core.teach.teaching import (
    Version,
    WordShown,
)
from ivory_table.core.units import filled
from ivory_table.core.value import Id, Initials, Label, Note, Value

Source = Literal["shipped", "file", "taught"]
WordState = Literal["settled", "open", "without", "needed"]


class WordView(Value):
    """One word of a manner on its page."""

    id: str
    group: str
    name: str
    kind: Kind
    why: str
    who: tuple[str, ...]
    without: str
    asked: tuple[str, ...]
    values: tuple[dict[str, float | str], ...]
    fields: tuple[str, ...]
    of: str
    needed: bool
    moves: bool
    state: WordState
    #: The template or the pattern, and what it means in plain words.
    text: str
    words: str
    shown: WordShown
    #: What came of what was shown last.
    lesson: Lesson
    proved: Proved | None


class MannerLine(Value):
    """A manner in the list."""

    id: Id
    name: str
    source: Source
    complete: bool
    #: What is missing, or what is wrong with its file.
    words: str
    machines: tuple[str, ...]


class MannerView(Value):
    """The page of one manner, as it stands for one machine where `machine_id` is given."""

    id: Id
    name: str
    about: str
    source: Source
    version: int
    convention: ConventionId
    machine_id: Id | None
    words: tuple[WordView, ...]
    missing: tuple[str, ...]
    silence_s: float
    homing_ends_mesh: bool
    law: MeshLaw
    versions: tuple[Version, ...]
    machines: tuple[str, ...]

    @property
    def card(self) -> tuple[tuple[str, tuple[tuple[str, str, str], ...]], ...]:
        """What is printed for whoever works by hand: by group, (what, its line with an example's numbers, without)."""
        told = [w for w in self.words if w.kind == "line"]
        groups = dict.fromkeys(w.group for w in told)
        return tuple((g, tuple((w.name, _example(w), w.without) for w in told if w.group == g)) for g in groups)


def _example(w: "WordView") -> str:
    values = {k: v for k, v in (w.values[0] if w.values else {}).items()}
    return filled(w.text, **values) if w.text else ""


class Begin(Value):
    """A new manner: from nothing, or from another one."""

    id: Id
    name: Label
    start_from: Id | None = None
    convention: ConventionId = "probe_offset"
    by: Initials


class TeachWord(Value):
    """What is shown for one word. `seen_version`: the version that the page showed."""

    shown: WordShown
    seen_version: Annotated[int, Field(ge=1)]
    by: Initials


class Taught(Value):
    """What came of it: kept as a new version where it was settled."""

    lesson: Lesson
    view: MannerView


class Settings(Value):
    """What is no word: names, patience, and what the machine makes of a mesh."""

    name: Label
    about: Note = ""
    silence_s: Annotated[float, Field(ge=0.2, le=600)]
    homing_ends_mesh: bool
    law: MeshLaw
    seen_version: Annotated[int, Field(ge=1)]
    by: Initials


class BringManner(Value):
    """A manner's file, as text."""

    text: Annotated[str, Field(max_length=100_000)]
    by: Initials


class TryReply(Value):
    text: Annotated[str, Field(max_length=MAX_REPLY)]


class Tried(Value):
    """What the settled pattern of a word finds in another reply."""

    found: dict[str, str] | None
    words: str
    #: Where it does not fit.
    at: int | None = None


class JobText(Value):
    text: Annotated[str, Field(max_length=2_000_000)]


class JobLines(Value):
    lines: tuple[JobLine, ...]


class Difference(Value):
    """One word that two manners say differently."""

    word: str
    name: str
    here: str
    there: str


class Differences(Value):
    other: str
    found: tuple[Difference, ...]


class UseManner(Value):
    manner: Id
