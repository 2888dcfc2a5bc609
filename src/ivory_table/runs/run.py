"""A run with all its rows."""

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property, wraps
from typing import Any, TypeVar

from ivory_table.core.manner import Manner
from ivory_table.core.setup import RunSetup

from .entry import Entry, kept
from .state import RunState


@dataclass(frozen=True)
class OpenRun:
    """A run as it stands: all its rows and the state they add up to."""

    setup: RunSetup
    entries: tuple[Entry, ...]
    state: RunState
    #: How the machine talks: the lines shown and sent are in its words.
    manner: Manner
    #: What was worked out of this run as it stands; see `once_per_state`.
    made: dict[str, Any] = field(default_factory=dict, compare=False, repr=False)

    @property
    def seq(self) -> int:
        return self.entries[-1].seq if self.entries else 0

    @cached_property
    def kept(self) -> tuple[Entry, ...]:
        """The rows that still count, oldest first."""
        return kept(self.entries)


_T = TypeVar("_T")


def once_per_state(compute: Callable[[OpenRun], _T]) -> Callable[[OpenRun], _T]:
    """Work something out once for a run as it stands, whoever asks for it: the page, the line, the summary."""
    name = f"{compute.__module__}.{compute.__qualname__}"

    @wraps(compute)
    def made(run: OpenRun) -> _T:
        if name not in run.made:
            run.made[name] = compute(run)
        found: _T = run.made[name]
        return found

    return made
