"""One job on one run: keeping rows, sending steps, feeling and probing a place."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any
from uuid import uuid4

import numpy as np

from ivory_table.core.approach import Approach, Under
from ivory_table.core.defaults import SURVEY
from ivory_table.core.gauge import FEELS, Feel
from ivory_table.core.proof import ProofChoice
from ivory_table.core.value import StationName
from ivory_table.desk.desk import Desk, Keep
from ivory_table.link.session import Session
from ivory_table.link.trouble import Cancelled, Refusal
from ivory_table.runs.entry import Source
from ivory_table.runs.motion import Step, come_down, go, lift, probe_at
from ivory_table.runs.row import Row
from ivory_table.runs.run import OpenRun
from ivory_table.runs.searching import approach_at
from ivory_table.runs.state import RunState

#: As the keys offer them at every station.
LOOSEST_FIRST = tuple(reversed(FEELS))


@dataclass
class Work:
    """One job on one run. `now` is the run as it stands; whoever else kept something is seen."""

    desk: Desk
    run_id: str
    station: StationName
    session: Session
    zones: ProofChoice = "advised"

    @property
    def now(self) -> OpenRun:
        return self.desk.open(self.run_id)

    @property
    def state(self) -> RunState:
        return self.now.state

    def keep(self, what: Row, source: Source = "machine") -> None:
        """Keep a row after whatever was kept meanwhile."""
        seq = self.now.seq
        self.desk.keep(self.run_id, self.station, Keep(id=uuid4().hex, seen_seq=seq, what=what), source)
        # Nothing moves before a turn that was made has happened.
        self.desk.settled()

    def send(self, *steps: Step) -> None:
        for step in steps:
            self.session.progress(step.words, self.session.status.share, self.session.status.left_s)
            self.session.ask(step.line)

    def settle(self) -> tuple[float, float, float]:
        """Wait until the machine stands still, and where it then is."""
        if self.session.manner.can("settle"):
            self.session.ask(self.session.manner.send("settle"))
        return self.session.where()

    def ready(self) -> None:
        """Home if the position is unknown; homing may have switched the mesh off."""
        if self.session.status.homed:
            return
        self.session.progress("homing")
        self.session.home()
        state = self.state
        if self.session.manner.line.homing_ends_mesh and state.mesh is not None and state.mesh_on:
            self.session.ask(self.session.manner.send("mesh_on"))

    def leave(self) -> None:
        """Lift off, whatever else was cancelled."""
        self.session.go_on()
        self.send(lift(self.state, self.session.manner))


class Failed(Refusal):
    """A proving step that came out wrong: nothing further is moved."""


#: After so many answers at one place it is said that they do not agree.
MOST_ANSWERS = 40


@dataclass
class Descent:
    """The tip over one place: where it stands, and what was felt there on the way down."""

    work: Work
    x: float
    y: float
    name: str
    z: float
    #: What was felt here on the way down, over what was believed; None before the first answer.
    approach: Approach | None = None

    @classmethod
    def over(cls, work: Work, x: float, y: float, name: str) -> "Descent":
        work.send(*go(work.state, work.session.manner, x, y, name))
        return cls(work, x, y, name, work.settle()[2])

    def next_mm(self, state: RunState) -> float | None:
        """The next height to try; None once the drag is known well enough."""
        return self.at(state).next_mm()

    def at(self, state: RunState) -> Approach:
        return self.approach or approach_at(state, self.x, self.y)

    def lowest_mm(self, state: RunState) -> float:
        return self.at(state).lowest_mm

    def down(self, state: RunState, z: float) -> None:
        self.work.send(*come_down(state, self.work.session.manner, self.x, self.y, z, self.z, self.at(state)))
        self.z = self.work.settle()[2]

    def lift(self) -> None:
        """Up, and what was felt is of before: something is to be turned."""
        self.work.send(lift(self.work.state, self.work.session.manner))
        self.z, self.approach = self.work.settle()[2], None

    def feel(self, state: RunState, z: float) -> tuple[float, Feel]:
        """Down to `z`, where it is not there yet: where the tip then is, and how the gauge slides there."""
        stays = abs(z - self.z) < state.setup.machine.z_step_mm / 2
        if not stays:
            self.down(state, z)
        once_more = ", once more" if stays else ""
        asked = f"{self.name}, z {self.z:.3f}: {state.setup.gauge.try_words}{once_more}."
        feel: Any = self.work.session.question(asked, LOOSEST_FIRST, "feel")
        self.approach = self.at(state).feel(round(self.z, 4), feel)
        return round(self.z, 4), feel

    def under_or_feel(self, state: RunState, z: float) -> Under | tuple[float, Feel]:
        """As `feel`; or, where the tip may hang far, how many layers of the gauge go under it."""
        # One layer alone is the gauge, and is felt.
        folds = {n: mm for n, mm in state.setup.folds_mm.items() if n > 1} if self.at(state).thick_helps else {}
        if not folds:
            return self.feel(state, z)
        self.down(state, z)
        asked = f"{self.name}, z {self.z:.3f}: {state.setup.gauge.try_words}. Plainly far off? Fold it, and say how many layers go under."
        layers = {f"{n} layers": n for n in folds}
        told: Any = self.work.session.question(asked, (*LOOSEST_FIRST, *layers), "feel")
        at = round(self.z, 4)
        if told not in layers:
            self.approach = self.at(state).feel(at, told)
            return at, told
        under = Under.of_sizes(at, folds[layers[told]], folds.values())
        self.approach = self.at(state).slid_under(under)
        return under

    def no_end(self) -> Cancelled:
        return Cancelled(
            f"{self.name}: {MOST_ANSWERS} answers did not agree. Clean the tip and the gauge, then try again."
        )


def feel_down(
    work: Work,
    x: float,
    y: float,
    name: str,
    row: Callable[[float, Feel], Row] | None = None,
    thick: Callable[[Under], Row] | None = None,
) -> float:
    """From above to the drag, answer by answer; the z at which the gauge drags. Each feel is kept as `row` says, and what went
    under a tip that hangs far as `thick` says: it is asked for where that is given."""
    tip, state = Descent.over(work, x, y, name), work.state
    for _ in range(MOST_ANSWERS):
        z = tip.next_mm(state)
        if z is None:
            return tip.at(state).drag[0]
        z = max(z, tip.lowest_mm(state))
        told = tip.under_or_feel(state, z) if thick is not None else tip.feel(state, z)
        if isinstance(told, Under):
            if thick is not None:
                work.keep(thick(told), "hand")
        elif row is not None:
            work.keep(row(*told), "hand")
        state = work.state if row is not None else state
    raise tip.no_end()


def probed(work: Work, x: float, y: float, name: str) -> float:
    """The median of some probings of one place; more of them when they differ too much."""
    probe = work.now.setup.machine.probe
    assert probe is not None
    found: list[float] = []
    for n in range(SURVEY.most_repeats):
        up, down = probe_at(work.state, work.session.manner, x, y, name)
        if n == 0:
            work.send(up)
        else:
            # Only as high as the probe needs to let go.
            work.session.ask(work.session.manner.send("height", z=found[-1] + 2.0, feed=480))
        work.session.progress(f"{name}, probing {n + 1}", work.session.status.share, work.session.status.left_s)
        touched = work.session.ask(down.line, "touched")
        if touched is None or "z" not in touched:
            work.send(lift(work.state, work.session.manner))
            raise Failed(
                f"The probe did not trigger over {name}. It may be mounted too high or not deployed: prove its trigger, "
                "slide half a millimetre of gauge under the tip and look at the margin. Nothing more is probed."
            )
        found.append(float(touched["z"]))
        if len(found) >= SURVEY.repeats and np.ptp(found) <= 4 * probe.sd_mm:
            break
    work.send(lift(work.state, work.session.manner))
    return round(float(np.median(found)), 4)


def cool(work: Work) -> None:
    does = work.session.manner
    work.session.heaters_off()
    if does.can("motors_off"):
        work.session.ask(does.send("motors_off"))
        work.session.motors_released()
