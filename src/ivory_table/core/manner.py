"""How a machine talks, as data: what is sent for each thing it does, and what its replies look like.

Nothing of this is code: a workshop copies a manner's file, edits it, and its machine understands.
"""

import re
import tomllib
from functools import cache
from importlib.resources import files
from string import Formatter
from typing import Annotated, Any, Literal, Self

from pydantic import Field, ValidationError, field_validator, model_validator

from .mesh import MeshLaw
from .value import Id, Label, Note, Value

Pattern = Annotated[str, Field(max_length=300)]
Template = Annotated[str, Field(max_length=200)]


class Framing(Value):
    """How one line is dressed and how long silence may last."""

    numbered: bool
    renumber: Template
    stop: Annotated[str, Field(min_length=1, max_length=40)]
    recover: Template
    silence_s: Annotated[float, Field(ge=0.2, le=600)]
    homing_ends_mesh: bool


#: The named groups each reply must carry.
_GROUPS: dict[str, set[str]] = {
    "again": {"line"},
    "temperatures": {"bed", "bed_target", "tip", "tip_target"},
    "position": {"x", "y", "z"},
    "touched": {"z"},
    "mesh_row": {"heights"},
    "trigger": {"state"},
    "stored": {"value"},
    "error": {"text"},
    "halt": {"text"},
}
_MAY_BE_EMPTY = {"again", "alive", "touched", "missed", "trigger", "stored", "mesh_row"}


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
                found = re.compile(pattern)
            except re.error as wrong:
                raise ValueError(f"[says] {name}: the pattern {pattern!r} is broken: {wrong}.") from None
            missing = _GROUPS.get(name, set()) - set(found.groupindex)
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
    "mesh_begin": {"x_first", "y_first", "x_step", "y_step", "columns", "rows"},
    "mesh_point": {"column", "row", "height"},
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
    "mesh_point": {"column", "row", "height"},
    "nudge": {"away"},
    "speed": {"percent"},
    "limit_open": {"lowest"},
}
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
        return template.format(**values)

    def can(self, name: str) -> bool:
        return bool(getattr(self.does, name))

    def hears(self, name: str, line: str) -> re.Match[str] | None:
        """The match of one kind of reply in a line from the machine."""
        pattern: str = getattr(self.says, name)
        return re.search(pattern, line) if pattern else None


def _refuse_bad_template(where: str, template: str, known: set[str], needed: set[str]) -> None:
    if "\n" in template or "\r" in template:
        raise ValueError(f"{where}: one line only.")
    try:
        names = {field for _, field, _, _ in Formatter().parse(template) if field is not None}
        template.format(**{name: "x" if name == "text" else 1 for name in known})
    except (ValueError, KeyError, IndexError) as wrong:
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


SHIPPED: tuple[Literal["harbour"], Literal["lantern"]] = ("harbour", "lantern")


@cache
def shipped(manner_id: str) -> Manner:
    """One of the manners that come with the application."""
    if manner_id not in SHIPPED:
        raise ValueError(f"There is no manner called '{manner_id}' here.")
    return read_manner(files(__package__).joinpath("manners", f"{manner_id}.toml").read_text("utf-8"))
