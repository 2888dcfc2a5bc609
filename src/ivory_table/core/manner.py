"""How a machine talks, as data: what is sent for each thing it does, and what its replies look like.

Nothing of this is code: a workshop copies a manner's file, edits it, and its machine understands.
"""

import tomllib
from collections.abc import Sequence
from functools import cache
from importlib.resources import files
from typing import Annotated, Any, Literal, Self

import re2
import tomli_w
from pydantic import Field, ValidationError, field_validator, model_validator

from .mesh import MeshLaw
from .plate import UNTAUGHT
from .units import filled, ours, places_in, split
from .value import Id, Label, Note, Value

Pattern = Annotated[str, Field(max_length=1000)]
Template = Annotated[str, Field(max_length=200)]
#: What was found in a reply: numbers in our units, words as they stood.
Heard = dict[str, str]


class Framing(Value):
    """How one line is dressed and how long silence may last."""

    numbered: bool
    #: A numbered line, and what stands behind it; `checksum` says how its number is made of all before the seal.
    dress: Template = "N{number} {line}"
    seal: Template = "*{checksum}"
    checksum: Literal["xor", "sum"] = "xor"
    renumber: Template
    stop: Annotated[str, Field(min_length=1, max_length=40)]
    recover: Template
    silence_s: Annotated[float, Field(ge=0.2, le=600)]
    homing_ends_mesh: bool
    #: Whether an answer may come only after the line that confirms, and whether an error ends a reply.
    answers_after_ack: bool = False
    error_ends: bool = False

    @model_validator(mode="after")
    def _dressable(self) -> Self:
        if self.numbered:
            _refuse_bad_template("[line] dress", self.dress, {"number", "line"}, {"number", "line"})
            _refuse_bad_template("[line] seal", self.seal, {"checksum"}, set())
        return self

    def dressed(self, line: str, number: int) -> str:
        """One line as it goes over the wire."""
        body = self.dress.format(number=number, line=line)
        return body + self.seal.format(checksum=checksum(body, self.checksum))


def checksum(line: str, how: str = "xor") -> int:
    """All bytes of a line, exclusive-ored, or added up modulo 256."""
    total = 0
    for byte in line.encode():
        total = total ^ byte if how == "xor" else (total + byte) % 256
    return total


@cache
def compiled(pattern: str) -> Any:
    """A pattern that never takes more than linear time. Raises ValueError for one that cannot be had so."""
    options = re2.Options()
    options.log_errors = False
    try:
        return re2.compile(pattern, options)
    except re2.error as wrong:
        said = wrong.args[0] if wrong.args else wrong
        raise ValueError(said.decode("utf-8", "replace") if isinstance(said, bytes) else str(said)) from None


#: The named groups each reply must carry.
_GROUPS: dict[str, set[str]] = {
    "again": {"line"},
    "temperatures": {"bed", "bed_target", "tip", "tip_target"},
    "position": {"x", "y", "z"},
    "touched": {"z"},
    "mesh_row": {"heights"},
    "trigger": {"state"},
    "stored": {"value"},
    "counter": {"prints"},
    "error": {"text"},
    "halt": {"text"},
}
_MAY_BE_EMPTY = {"again", "alive", "touched", "missed", "trigger", "stored", "mesh_row", "counter"}


class Says(Value):
    """Regular expressions of the machine's replies."""

    ready: Pattern
    ack: Pattern
    again: Pattern
    alive: Pattern
    temperatures: Pattern
    position: Pattern
    touched: Pattern
    missed: Pattern
    trigger: Pattern
    stored: Pattern
    #: One row of the mesh, where the machine lists it.
    mesh_row: Pattern = ""
    #: How many prints it has made so far, where it counts them.
    counter: Pattern = ""
    error: Pattern
    halt: Pattern

    @model_validator(mode="after")
    def _understandable(self) -> Self:
        for name, pattern in self:
            if not pattern:
                if name not in _MAY_BE_EMPTY:
                    raise ValueError(f"[says] {name} is empty; without it the machine cannot be understood.")
                continue
            try:
                found = compiled(pattern)
            except ValueError as wrong:
                raise ValueError(f"[says] {name}: the pattern {pattern!r} is broken: {wrong}.") from None
            there = {split(group)[0] for group in found.groupindex}
            if {"open", "closed"} <= there:
                there.add("state")
            missing = _GROUPS.get(name, set()) - there
            if missing:
                groups = ", ".join(f"(?P<{g}>...)" for g in sorted(missing))
                raise ValueError(f"[says] {name} needs the named group {groups}.")
        return self


#: What may stand in the braces of each template.
_FIELDS: dict[str, set[str]] = {
    "move": {"x", "y", "feed"},
    "height": {"z", "feed"},
    "heat_bed": {"celsius"},
    "heat_tip": {"celsius"},
    "heat_bed_wait": {"celsius"},
    "heat_tip_wait": {"celsius"},
    "dwell": {"seconds"},
    "fan": {"share"},
    "probe": {"x", "y"},
    "mesh_begin": {"x_first", "y_first", "x_last", "y_last", "x_step", "y_step", "columns", "rows"},
    "mesh_point": {"column", "row", "column_back", "row_back", "x", "y", "height"},
    "limit_open": {"lowest"},
    "nudge": {"away"},
    "speed": {"percent"},
    "message": {"text"},
    "tone": {"hertz", "milliseconds"},
}
_NEEDED = {"move": {"x", "y"}, "height": {"z"}, "heat_bed": {"celsius"}, "heat_tip": {"celsius"}}
_NEEDED |= {"heat_bed_wait": {"celsius"}, "heat_tip_wait": {"celsius"}, "dwell": {"seconds"}}
_NEEDED |= {
    "probe": {"x", "y"},
    "mesh_point": {"height"},
    "nudge": {"away"},
    "speed": {"percent"},
    "limit_open": {"lowest"},
}
#: Each point of a mesh is named by one of these across, and one along.
_ACROSS, _ALONG = {"column", "column_back", "x"}, {"row", "row_back", "y"}
_NEVER_EMPTY = {"home", "move", "height", "where", "temperatures", "heat_bed", "heat_tip"}
_NEVER_EMPTY |= {"heat_bed_wait", "heat_tip_wait"}


class Does(Value):
    """Templates of what is sent; an empty one is something the machine cannot do."""

    absolute: Template
    home: Template
    move: Template
    height: Template
    settle: Template
    where: Template
    motors_off: Template
    heat_bed: Template
    heat_tip: Template
    #: Heat and go on only when it is as hot; and stand still for so long. Used in programs, where nobody watches.
    heat_bed_wait: Template = "M190 S{celsius:.0f}"
    heat_tip_wait: Template = "M109 S{celsius:.0f}"
    dwell: Template = "G4 S{seconds:.0f}"
    temperatures: Template
    fan: Template
    probe: Template
    trigger: Template
    mesh_begin: Template
    mesh_point: Template
    mesh_on: Template
    mesh_off: Template
    #: Keep the mesh through a power cut, and list it.
    mesh_store: Template = ""
    mesh_read: Template = ""
    #: Ask how many prints it has made so far.
    counter: Template = ""
    #: Let the tip go below zero to `lowest`, and no more.
    limit_open: Template = ""
    limit_close: Template = ""
    nudge: Template
    speed: Template
    message: Template
    tone: Template
    pause: Template

    @model_validator(mode="after")
    def _fillable(self) -> Self:
        for name, template in self:
            if not template and name in _NEVER_EMPTY:
                raise ValueError(f"[does] {name} is empty; no machine can be worked without it.")
            if template:
                _refuse_bad_template(f"[does] {name}", template, _FIELDS.get(name, set()), _NEEDED.get(name, set()))
        if self.mesh_point:
            there = {split(place)[0] for place in places_in(self.mesh_point)}
            if not (there & _ACROSS and there & _ALONG):
                raise ValueError("[does] mesh_point must say which point it is: {column} and {row}, or {x} and {y}.")
        return self


class OffsetLines(Value):
    """How a stored offset is read, set and stored; `read` and `store` are empty where it is only live."""

    read: Template
    set: Template
    store: Template

    @field_validator("set")
    @classmethod
    def _names_the_value(cls, template: str) -> str:
        _refuse_bad_template("set", template, {"stored"}, {"stored"})
        return template


class OffsetManners(Value):
    """The lines for each way in which a stored value may count."""

    probe_offset: OffsetLines
    home_offset: OffsetLines
    stop_position: OffsetLines
    live_only: OffsetLines


class Manner(Value):
    """One way of talking to a machine."""

    id: Id
    name: Label
    about: Note = ""
    line: Framing
    says: Says
    does: Does
    offset: OffsetManners
    #: What the machine makes of a mesh.
    mesh: MeshLaw = MeshLaw()

    def send(self, name: str, **values: float | int | str) -> str:
        """The line for one thing the machine does. Raises ValueError when it cannot."""
        template: str = getattr(self.does, name)
        if not template:
            raise ValueError(f"This machine's manner ({self.name}) has no line for '{name.replace('_', ' ')}'.")
        return filled(template, **values)

    def can(self, name: str) -> bool:
        """Whether this machine has lines for it."""
        return bool(getattr(self.does, name))

    def hears(self, name: str, line: str, before: Sequence[str] = ()) -> Heard | None:
        """What one kind of reply says, where this line ends one; `before`: the lines just before it, for longer ones."""
        return heard(getattr(self.says, name), line, before)

    def unconfirmed(self, line: str) -> str:
        """What a line says besides that it confirms."""
        found = compiled(self.says.ack).search(line)
        return line if found is None else (line[: found.start()] + line[found.end() :]).strip()


def heard(pattern: str, line: str, before: Sequence[str] = ()) -> Heard | None:
    """What a pattern finds in a line, or in the last lines where it reaches over several; numbers in our units."""
    if not pattern:
        return None
    more = pattern.count(r"\n")
    if more > len(before):
        return None
    text = "\n".join([*before[len(before) - more :], line]) if more else line
    match = compiled(pattern).search(text)
    if match is None:
        return None
    found: Heard = {}
    for name, words in match.groupdict().items():
        if words is None:
            continue
        if name in ("open", "closed"):
            found["state"] = name
            continue
        field, unit = split(name)
        if unit and field != "heights":
            try:
                # To a ten-thousandth: what is more is the conversion's.
                words = repr(round(ours(name, float(words)), 4))
            except ValueError:
                return None
        found[field] = words
    return found


def _refuse_bad_template(where: str, template: str, known: set[str], needed: set[str]) -> None:
    if "\n" in template or "\r" in template:
        raise ValueError(f"{where}: one line only.")
    try:
        names = {split(place)[0] for place in places_in(template)}
        filled(template, **{name: "x" if name in ("text", "line") else 1 for name in known})
    except (ValueError, KeyError, IndexError, AttributeError) as wrong:
        raise ValueError(f"{where}: {template!r} cannot be filled in ({wrong}).") from None
    if missing := needed - names:
        raise ValueError(f"{where} needs " + " and ".join(f"{{{m}}}" for m in sorted(missing)) + ".")


def read_manner(text: str) -> Manner:
    """A manner from its TOML. Raises ValueError that says which entry is wrong and how."""
    try:
        body: dict[str, Any] = tomllib.loads(text)
    except tomllib.TOMLDecodeError as wrong:
        raise ValueError(f"This is no valid TOML: {wrong}.") from None
    try:
        return Manner.model_validate(body)
    except ValidationError as wrong:
        first = wrong.errors()[0]
        where = " ".join(str(part) for part in first["loc"])
        said = str(first["msg"]).removeprefix("Value error, ")
        raise ValueError(said if said.startswith("[") else f"{where}: {said}") from None


#: What every machine has words of its own for, and may have none.
OWN_WORDS = (
    "settle", "probe", "trigger", "mesh_begin", "mesh_point", "mesh_on", "mesh_off", "mesh_store", "mesh_read",
    "counter", "limit_open", "limit_close", "nudge", "speed", "message", "tone", "pause",
)  # fmt: skip


@cache
def plain_lines() -> Manner:
    """What most machines understand: moving and heating, and no word of its own; what they answer nobody knows.

    For a machine that nobody has taught to talk yet, and for one whose own manner cannot be read.
    """
    like = shipped("harbour")
    none = OffsetLines.model_construct(read="", set="", store="")
    return like.model_copy(
        update={
            "id": UNTAUGHT,
            "name": "Plain lines, nothing taught yet",
            "about": "Moves and heats as most machines do; what else it has is done on its own screen.",
            "line": like.line.model_copy(
                update={"numbered": False, "dress": "{line}", "seal": "", "renumber": "", "stop": "", "recover": ""}
            ),
            "says": like.says.model_copy(update=dict.fromkeys(Says.model_fields, "")),
            "does": like.does.model_copy(update=dict.fromkeys((*OWN_WORDS, "where", "temperatures"), "")),
            "offset": like.offset.model_copy(update=dict.fromkeys(OffsetManners.model_fields, none)),
        }
    )


def manner_file(manner: Manner) -> str:
    """A manner as TOML, as `read_manner` takes it."""
    return tomli_w.dumps(manner.model_dump(exclude_none=True))


SHIPPED: tuple[Literal["harbour"], Literal["lantern"]] = ("harbour", "lantern")


@cache
def shipped(manner_id: str) -> Manner:
    """One of the manners that come with the application."""
    if manner_id == UNTAUGHT:
        return plain_lines()
    if manner_id not in SHIPPED:
        raise ValueError(f"There is no manner called '{manner_id}' here.")
    return read_manner(files(__package__).joinpath("manners", f"{manner_id}.toml").read_text("utf-8"))
