"""What a station brings to the application: data and functions, named in one place each."""

from collections.abc import Callable
from dataclasses import dataclass, field

from fastapi import APIRouter

from ivory_table.core.proof import ProofChoice
from ivory_table.core.value import StationName, Value
from ivory_table.desk.desk import Desk
from ivory_table.link.session import Session
from ivory_table.runs.row import Row
from ivory_table.runs.run import OpenRun

from .work import Work


class Offer(Value):
    """Something the machine can do here: what will move and how far, and why not, if it cannot."""

    job: str
    name: str
    moves: tuple[str, ...]
    why_not: str = ""


@dataclass(frozen=True)
class Job:
    """Something a machine on the line can be told to do: its name, and what it does."""

    name: str
    act: Callable[[Work], None]


@dataclass(frozen=True)
class Station:
    """One station. Its rows, folds, doubts, lessons and standing are said where a run is: see `runs`."""

    name: StationName
    #: What its page shows, and the type of that.
    view: Callable[[OpenRun, ProofChoice], Value]
    shows: type[Value]
    #: What a practice machine answers to the step at hand.
    practice: Callable[[Desk, OpenRun, ProofChoice], Row] | None = None
    jobs: dict[str, Job] = field(default_factory=dict)
    #: What a machine on the line can be told to do now.
    offers: Callable[[OpenRun, Session], tuple[Offer, ...]] = lambda run, session: ()
    #: Addresses of its own, below a run's.
    routes: APIRouter | None = None
