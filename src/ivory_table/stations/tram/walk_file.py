"""A walk file for this run."""

from typing import Literal

from ivory_table.runs.doubts import Refused
from ivory_table.runs.run import OpenRun
from ivory_table.stations.tram.walk import Walk, walk

WalkWay = Literal["ring", "diagonal", "pairs"]


def walk_for(run: OpenRun, rounds: int, way: WalkWay, print_after: bool = False) -> Walk:
    try:
        return walk(run.state, run.manner, rounds, way, print_after=print_after)
    except ValueError as wrong:
        raise Refused("no_walk", str(wrong), "rounds") from None
