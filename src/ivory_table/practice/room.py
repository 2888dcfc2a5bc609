"""Practice machines without a process of their own: for tests and for trials, one for each run."""

from hashlib import sha256
from pathlib import Path

from ivory_table.core.setup import RunSetup

from .machine import PracticeMachine
from .person import PracticePerson


class PracticeRoom:
    """One practice machine per run, found again after a restart. With a `seed`, the same for every run."""

    def __init__(self, folder: Path, seed: int | None = None) -> None:
        self.folder, self.seed = folder, seed

    def hands_for(self, setup: RunSetup) -> PracticePerson | None:
        """The person at a run's practice machine; None for a machine that is not marked as practice."""
        if not setup.machine.practice:
            return None
        seed = self.seed
        if seed is None:
            seed = int.from_bytes(sha256(setup.id.encode()).digest()[:4], "big")
        body = PracticeMachine.of(setup.machine, setup.gauge, seed, self.folder / f"{setup.id}.json")
        if body.truth.mount != setup.plate_id:
            body.remount(setup.plate_id)
        return PracticePerson(body)
