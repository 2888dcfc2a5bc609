"""A run with all its rows."""

from dataclasses import dataclass
from functools import cached_property

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

    @property
    def seq(self) -> int:
        return self.entries[-1].seq if self.entries else 0

    @cached_property
    def kept(self) -> tuple[Entry, ...]:
        """The rows that still count, oldest first."""
        return kept(self.entries)
