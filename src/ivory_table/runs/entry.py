"""One kept row in its envelope, and a whole run as it travels."""

from typing import Annotated, Any, Literal

from pydantic import AwareDatetime, FailFast, Field, SerializeAsAny, ValidationError, model_validator

from ivory_table.core.setup import RunSetup
from ivory_table.core.value import Id, Initials, StationName, Value

from .common import TakenBack
from .row import Row

Source = Literal["hand", "gauge", "machine", "practice"]


class Entry(Value):
    """One kept row: what, when, by whom, from where, at which station.

    `version` is that of the row's kind when it was kept; an older one is read by its kind's `older`.
    """

    id: Id
    seq: Annotated[int, Field(ge=1)]
    at: AwareDatetime
    by: Initials
    source: Source
    station: StationName
    version: Annotated[int, Field(ge=1)] = 1
    what: SerializeAsAny[Row]

    @model_validator(mode="before")
    @classmethod
    def _of_its_kind(cls, given: Any) -> Any:
        if not isinstance(given, dict):
            return given
        what = given.get("what")
        if isinstance(what, Row):
            return {**given, "version": what.version}
        kind = _kind(what)
        if given.get("version", 1) < kind.version:
            given = kind.older(given)
            kind = _kind(given["what"])
        if given.get("version", 1) > kind.version:
            raise ValueError("A newer Ivory Table kept this row.")
        try:
            return {**given, "version": kind.version, "what": kind.model_validate(given["what"])}
        except ValidationError as wrong:
            first = wrong.errors()[0]
            where = ".".join(str(part) for part in first["loc"])
            raise ValueError(f"{kind.__name__} {where}: {first['msg']}") from None


def _kind(what: Any) -> type[Row]:
    name = what.get("kind") if isinstance(what, dict) else None
    found = Row.kinds.get(name) if isinstance(name, str) else None
    if found is None:
        raise ValueError(f"There is no kind of row called '{str(name)[:40]}'.")
    return found


RUN_FORMAT: Literal["ivory-table-run"] = "ivory-table-run"
RUN_VERSION = 1


class RunFile(Value):
    """A whole run as it travels between installations."""

    format: Literal["ivory-table-run"] = RUN_FORMAT
    version: Annotated[int, Field(ge=1)] = RUN_VERSION
    setup: RunSetup
    entries: Annotated[tuple[Entry, ...], Field(max_length=5000), FailFast()]


def kept(entries: tuple[Entry, ...]) -> tuple[Entry, ...]:
    """Entries that still count: neither taken back nor a taking back."""
    gone = {e.what.entry_id for e in entries if isinstance(e.what, TakenBack)}
    return tuple(e for e in entries if e.id not in gone and not isinstance(e.what, TakenBack))
