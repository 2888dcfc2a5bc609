"""What a row that a person kept does to a practice machine. Each station says it for its own kinds, in its `practice.py`."""

from functools import singledispatch

from ivory_table.core.hands import Hands

from .row import Row
from .run import OpenRun


@singledispatch
def by_hand(what: Row, hands: Hands, before: OpenRun) -> None:
    """Let happen to the practice machine what the person did: most rows only say something."""
