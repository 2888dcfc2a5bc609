"""A workshop whose practice machines are on real ports."""

import time
from collections.abc import Callable
from dataclasses import dataclass

from ivory_table.desk.desk import Desk, Keep
from ivory_table.practice.serve import Served
from ivory_table.stations import on_line
from ivory_table.stations.lines import Connect, Lines

#: So many times faster than life the practice machine works here.
PACE = 3000.0


@dataclass
class Floor:
    """A workshop whose practice machines are on real ports, and one run on one of them."""

    desk: Desk
    lines: Lines
    served: Served
    machine: str
    ids: int = 0

    @property
    def run(self):
        return self.desk.open("run")

    @property
    def status(self):
        return self.lines.status(self.machine)

    def connect(self) -> None:
        self.lines.connect(self.machine, Connect())
        self.until(lambda: self.status.state != "connecting")

    def until(self, true: Callable[[], object], seconds: float = 20) -> None:
        ends = time.monotonic() + seconds
        while not true():
            assert time.monotonic() < ends, f"it did not come true: {self.status}"
            self.wait()

    def wait(self) -> None:
        """Until the line says something new, or a little while: to look all the time takes the time of what is looked at."""
        seen, ends = self.lines.version, time.monotonic() + 0.1
        while self.lines.version == seen and time.monotonic() < ends:
            time.sleep(0.005)

    def start(self, station: str, job: str) -> None:
        self.ids += 1
        on_line.start(self.lines, "run", station, job, f"start-{self.ids}", 5)

    def do(self, station: str, job: str, answer: bool = True) -> str:
        """One job to its end, the practice person answering; what the line then says."""
        self.start(station, job)
        name = on_line.JOBS[job].name
        ends = time.monotonic() + 40
        while time.monotonic() < ends:
            now = self.status
            if now.state == "waiting" and answer:
                on_line.practice_answer(self.lines, "run")
            elif now.state in ("lost", "halted") or (now.job != name and not now.queued and now.state != "waiting"):
                return now.words
            self.wait()
        raise AssertionError(f"it did not end: {self.status}")

    def keep(self, station: str, what: object) -> None:
        self.ids += 1
        self.desk.keep("run", station, Keep(id=f"k{self.ids}", seen_seq=self.run.seq, what=what))
        self.desk.settled()

    def practise(self, station: str, act: Callable) -> None:
        self.ids += 1
        self.desk.ask_hands("run", station, f"p{self.ids}", self.run.seq, lambda run: act(self.desk, run))

    def prove(self) -> None:
        self.do("prepare", "prove")
        assert self.run.state.checks.get("stops_proved") == "done"
