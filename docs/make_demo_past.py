"""Make the demo workshop's past anew: eighteen months of made-up runs, practised through the real stations from one seed.

`.venv/bin/python docs/make_demo_past.py` takes some minutes and writes `src/ivory_table/demo/past.json.gz`: what was kept, and how
the practice machines stand afterwards.
"""

import gzip
import json
import tempfile
from datetime import UTC, datetime, timedelta
from pathlib import Path
from uuid import uuid4

import numpy as np

from ivory_table.core.gauge import Gauge
from ivory_table.core.setup import RunSetup
from ivory_table.demo.past import FILE, TABLES
from ivory_table.demo.tidewater import GAUGES, MACHINES, furnish
from ivory_table.desk.desk import Desk, StartRun
from ivory_table.practice.elastic import crooked
from ivory_table.practice.machine import PracticeMachine
from ivory_table.practice.person import PracticePerson
from ivory_table.runs.doubts import Refused
from ivory_table.runs.log import LogEntry
from ivory_table.stations import offset
from ivory_table.stations.sign_off.entries import SignedOff
from ivory_table.store.tables import MachineRow, PersonRow
from ivory_table.store.workshop import Workshop
from ivory_table.trial.run import Trial

#: The day the past ends; it is moved to the day it is brought in.
ENDS = datetime(2026, 6, 1, 10, 0, tzinfo=UTC)
FILAMENT = {"heron": "pla-white", "kestrel": "pla-white", "wren": "tpu-gasket", "bittern": "petg-grey"}
#: Days before the end on which each was looked at.
LOOKS = {
    "heron": (520, 470, 415, 372, 318, 270, 226, 181, 140, 104, 71, 40, 16),
    "kestrel": (500, 430, 371, 300, 238, 237, 170, 110, 52, 9),
    "wren": (540, 450, 360, 285, 200, 121, 60, 24),
    "bittern": (480, 380, 290, 205, 120, 33),
}
#: A support that loosens from a day on, mm a day; and what happened, days before the end.
LOOSENS = {"heron": (3, 330, 0.0045)}
HAPPENED = {
    "heron": [
        (226.5, "prints", "", 140),
        (60, "failed_print", "rear right lifted at the third layer", None),
        (20, "prints", "", 95),
    ],
    "kestrel": [
        (239, "knock", "a part came loose and the tip ran into it", None),
        (110.5, "part", "new touch probe", None),
    ],
    "wren": [
        (201, "moved", "to the other bench", None),
        (61, "note", "springs swapped for stiffer ones next time", None),
    ],
    "bittern": [(121, "torn_off", "a housing torn off the mounted glass", None)],
}


class Past(Trial):
    """One run of the past, done as the program advises, by a person whose clock is ours."""

    def __init__(self, desk: Desk, run_id: str, setup: RunSetup, body: PracticeMachine) -> None:
        self.desk, self.run_id, self.machine, self.body = desk, run_id, setup.machine, body
        self.count = {"human_minutes": 0.0, "machine_minutes": 0.0}
        self.held = {"screw_heights": [], "zone_gaps": []}

    def whole(self) -> None:
        if self.machine.screws:
            self.do_tram()
        self.do_offset()
        self.do_first_layer()
        while offset.step.now_at(self.now).step != "done":
            self.ask("offset", offset.practice.practice)
        self.keep("sign_off", SignedOff(note=""))


def main() -> None:
    folder = Path(tempfile.mkdtemp())
    workshop = Workshop(folder / "workshop.db")
    furnish(workshop)
    long_ago = (ENDS - timedelta(days=700)).isoformat()
    MachineRow.update(entered_at=long_ago).execute()
    PersonRow.update(entered_at=long_ago).execute()
    now = [ENDS]

    def clock() -> datetime:
        now[0] += timedelta(seconds=25)
        return now[0]

    bodies: dict[str, PracticeMachine] = {}
    rng = np.random.default_rng(18)

    def hands_for(setup: RunSetup) -> PracticePerson:
        return PracticePerson(bodies[setup.machine.id])

    desk = Desk(workshop, hands_for, clock=clock)
    gauge: Gauge = GAUGES[0]
    for k, machine in enumerate(MACHINES):
        bodies[machine.id] = PracticeMachine(machine, gauge, crooked(machine, machine.plates[0], 40 + k))
    looks = sorted(((day, m) for m, days in LOOKS.items() for day in days), reverse=True)
    last = {m: days[0] for m, days in LOOKS.items()}
    for day, machine_id in looks:
        body = bodies[machine_id]
        drifts(body, machine_id, last[machine_id], day, rng)
        last[machine_id] = day
        now[0] = ENDS - timedelta(days=day)
        run_id = uuid4().hex
        by = "jo" if rng.random() < 0.35 else "mk"
        # Jo feels harder than Mika.
        body.truth.feel_bias = 0.012 if by == "jo" else 0.0
        setup = desk.start(
            StartRun(
                id=run_id,
                machine_id=machine_id,
                plate_id=body.machine.plates[0].id,
                filament_id=FILAMENT[machine_id],
                gauge_id=gauge.id,
                initials=by,
            )
        )
        body.core_c = body.bed.body_c = body.bed.target_c = setup.filament.bed_c
        try:
            Past(desk, run_id, setup, body).whole()
            said = "signed off"
        except Refused as why:
            said = f"left open: {why}"
        print(f"{machine_id:8} {day:4} days before, {by}: {said}", flush=True)
    for machine_id, entries in HAPPENED.items():
        for day, kind, note, count in entries:
            at = ENDS - timedelta(days=day)
            workshop.keep_log(
                LogEntry(id=uuid4().hex, machine_id=machine_id, at=at, by="mk", kind=kind, note=note, count=count)
            )
    rows = {table._meta.table_name: list(table.select().dicts()) for table in TABLES}
    for body in bodies.values():
        body.truth.feel_bias = 0.0
    practice = {m: b.as_kept() for m, b in bodies.items()}
    with gzip.open(FILE, "wt", compresslevel=9) as out:
        json.dump({"ends": ENDS.isoformat(), "rows": rows, "practice": practice}, out)
    print(f"{FILE}: {FILE.stat().st_size / 1e6:.2f} MB")


def drifts(body: PracticeMachine, machine_id: str, before: float, now: float, rng: np.random.Generator) -> None:
    """What becomes of a machine between two looks."""
    days = before - now
    truth = body.truth
    truth.shift += 0.004 * days**0.5 * float(rng.standard_normal())
    for j in range(len(truth.supports)):
        truth.supports[j] += 0.003 * days**0.5 * float(rng.standard_normal())
    which, since, rate = LOOSENS.get(machine_id, (0, 0.0, 0.0))
    if rate and now < since and body.machine.screws:
        truth.supports[which] -= rate * min(days, since - now)
    for day, kind, _, _ in HAPPENED[machine_id]:
        if now < day < before and kind in ("knock", "torn_off", "moved", "part"):
            truth.shift += 0.12 * float(rng.standard_normal())
            truth.supports[0] += 0.08 * float(rng.standard_normal())


if __name__ == "__main__":
    main()
