"""The plate a job is to be printed on, as it is believed today: what the newest run left, and what has drifted since."""

from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np

from ivory_table.core.offset import convention
from ivory_table.core.plate import Filament, Machine, Plate
from ivory_table.core.surface import Surface
from ivory_table.core.thermal import ThermalStudy
from ivory_table.core.value import Array
from ivory_table.core.words import signed
from ivory_table.desk.desk import Desk
from ivory_table.runs.doubts import Refused
from ivory_table.runs.seen import places_of
from ivory_table.runs.state import RunState
from ivory_table.stations.drifting import Drifting, drifting
from ivory_table.stations.logbook import plate_asked
from ivory_table.store.trouble import Unreadable


@dataclass(frozen=True)
class Standing:
    """`state` and `drift` are None where nobody has measured this plate."""

    machine: Machine
    plate: Plate
    filament: Filament
    study: ThermalStudy | None
    state: RunState | None
    drift: Drifting | None
    #: The stored value is this plate's: the machine's newest run was with it.
    mounted: bool

    @property
    def mesh_on(self) -> bool:
        return self.state is not None and self.state.mesh_on

    @property
    def moved_mm(self) -> float:
        """How much further away the tip is by what was stored since."""
        if self.state is None or not self.mounted:
            return 0.0
        return convention(self.machine.convention).sign * (self.machine.stored_mm - self.state.stored_mm)

    def drifted(self, places: Array) -> tuple[Array, Array]:
        """Of places (n, 2): how much larger the gap is expected to be by now, mm, and its covariance (n, n), mm²."""
        n = len(places)
        if self.state is None or self.drift is None:
            return np.zeros(n), np.zeros((n, n))
        gone = self.drift.known.gone(self.drift.done, jumped=bool(self.drift.happened) and not self.drift.checks)
        _, nodes = places_of(self.state.setup)
        flat = Surface(self.plate, nodes[1:])
        weights, bow = flat.weights(places), flat.bow(places)
        cov = gone.common * np.ones((n, n)) + (weights * gone.supports) @ weights.T + gone.form * np.outer(bow, bow)
        return weights @ gone.trend, cov

    def in_sentences(self) -> tuple[str, ...]:
        """What a judgement on this plate rests on."""
        if self.state is None or self.drift is None:
            return ("Nobody has measured this plate yet: where the layer holds cannot be said. A run does it.",)
        newest = self.drift.newest
        mesh = "with" if self.mesh_on else "without"
        lines = [f"The plate as {newest.initials} left it on {newest.last_at:%d %b %Y}, {mesh} a mesh."]
        _, cov = self.drifted(np.array([self.plate.centre]))
        if cov[0, 0] ** 0.5 >= 0.001:
            days = self.drift.done.days
            lines.append(
                f"What it usually drifts in {days:.0f} day{'' if round(days) == 1 else 's'} is counted in: ±{cov[0, 0] ** 0.5:.3f} mm in the middle."
            )
        if self.drift.happened and not self.drift.checks:
            lines.append("Something happened to it since that nobody has looked at; that is counted in as well.")
        if abs(self.moved_mm) > 1e-6:
            now, then = signed(self.machine.stored_mm, 3), signed(self.state.stored_mm, 3)
            lines.append(f"The stored value is {now} now, and was {then} then: taken into account.")
        return tuple(lines)


def standing(desk: Desk, machine_id: str, plate_id: str | None, filament_id: str | None) -> Standing:
    """Raises Unknown, or Refused for a plate of another machine and where no filament is entered."""
    workshop = desk.workshop
    machine = workshop.machine(machine_id)
    plate = plate_asked(machine, workshop.figures.summaries(machine_id, 1), plate_id)
    drift = drifting(workshop, machine_id, plate.id, datetime.now(UTC))
    state = None
    if drift is not None:
        try:
            run = desk.open(drift.newest.run_id)
            # What was judged last counts too; an open run still judges it.
            state = run.state.with_marks() if run.state.signed_off else run.state
        except Unreadable:
            drift = None
    study = state.study if state is not None else workshop.study(machine_id, plate.id)
    newest = workshop.figures.summaries(machine_id, 1)
    mounted = not newest or newest[0].plate_id == plate.id
    return Standing(machine, plate, _filament(desk, filament_id, state), study, state, drift, mounted)


def _filament(desk: Desk, wanted: str | None, state: RunState | None) -> Filament:
    if wanted is not None:
        return desk.workshop.filament(wanted)
    if state is not None:
        return state.setup.filament
    found = next(iter(desk.workshop.filaments()), None)
    if found is None:
        raise Refused(
            "no_filament", "Enter a filament in the set-up first: heat and flow are judged by it.", "filament"
        )
    return found
