"""Freeze what this version keeps: a row of every kind, and a whole run of each demo machine with what it shows.

Run once for every released version of the rows: `python -m tests.runs.freeze tests/runs/rows/v2`. The files of earlier
versions are never written again: they stand for what people have in their databases.
"""

import json
import sys
import tempfile
from pathlib import Path
from typing import Any

from ivory_table.demo.tidewater import furnish
from ivory_table.desk.desk import Desk
from ivory_table.practice.room import PracticeRoom
from ivory_table.runs.common import CautionSeen, TakenBack
from ivory_table.runs.entry import RunFile
from ivory_table.runs.run import OpenRun
from ivory_table.stations.first_layer.entries import ZoneCleaned
from ivory_table.stations.head import head_of
from ivory_table.stations.mesh.entries import MeshPlanned
from ivory_table.stations.prepare.entries import CheckDone, SchoolChosen
from ivory_table.stations.sign_off.entries import SignedOff
from ivory_table.stations.stored.entries import OffsetSet, Readback
from ivory_table.stations.tram.entries import WayChosen
from ivory_table.stations.turned import Turned
from ivory_table.store.workshop import Workshop
from tests.stations.keeping import keep, practise, start


def shows(run: OpenRun) -> dict[str, Any]:
    """What a run shows, in figures and words: nothing of it may change when it is opened by a later version."""
    state, head = run.state, head_of(run)
    gaps, sds = state.belief.height([(z.x_mm, z.y_mm) for z in _zones(run)])
    return {
        "seq": run.seq,
        "stored_mm": state.stored_mm,
        "stations": {s.station: [s.state, s.figure] for s in head.stations},
        "rows": [r.words for r in head.rows],
        "heights_mm": [round(float(v), 4) for v in gaps],
        "sds_mm": [round(float(v), 4) for v in sds],
        "signed_off": head.signed_off,
        "readback_due": head.readback_due,
    }


def _zones(run: OpenRun) -> Any:
    from ivory_table.core.proof import zones_on

    return zones_on(run.setup.plate, 9)


def walked(desk: Desk, machine: str) -> OpenRun:
    """A whole run as a technician of the demo workshop makes it, with a mistake taken back."""
    start(desk, machine, machine)

    def row(station: str, what: Any) -> OpenRun:
        return keep(desk, station, what, machine)

    row("prepare", CheckDone(check="tip_clean", outcome="done"))
    wrong = row("prepare", CheckDone(check="plate_clean", outcome="skipped"))
    row("prepare", TakenBack(entry_id=wrong.entries[-1].id))
    row("prepare", CautionSeen(caution="hot_parts"))
    if machine == "wren":
        row("prepare", SchoolChosen(school="warm"))
    if machine == "kestrel":
        row("tram", WayChosen(way="read_all"))
    practise(desk, "tram", machine)
    if desk.open(machine).setup.machine.screws:
        name = desk.open(machine).setup.machine.screws[0].name
        row("tram", Turned(screw=name, marks=1))
    if machine != "bittern":
        row("mesh", MeshPlanned(columns=3, rows=3, owns_zero=machine != "kestrel"))
        practise(desk, "mesh", machine)
    practise(desk, "offset", machine)
    run = desk.open(machine)
    if machine == "bittern":
        run = row("offset", OffsetSet(stored_mm=-0.05, sure=True))
    if run.state.readback_due:
        by_word = run.setup.machine.convention == "live_only"
        row("offset", Readback(confirmed=True) if by_word else Readback(reported_mm=run.state.stored_mm))
    practise(desk, "first_layer", machine)
    row("first_layer", ZoneCleaned(zone=0))
    return row("sign_off", SignedOff(note="first layer even in all zones"))


def main(folder: Path) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as temporary:
        workshop = Workshop(Path(temporary) / "workshop.db")
        furnish(workshop)
        desk = Desk(workshop, PracticeRoom(Path(temporary) / "practice", seed=11).hands_for)
        for machine in ("heron", "kestrel", "wren", "bittern"):
            run = walked(desk, machine)
            file = RunFile(setup=run.setup, entries=run.entries)
            frozen = {"file": file.model_dump(mode="json"), "shows": shows(run)}
            (folder / f"{machine}.json").write_text(json.dumps(frozen, ensure_ascii=False) + "\n")
            print(machine, len(run.entries), frozen["shows"]["stations"])
        workshop.close()


if __name__ == "__main__":
    main(Path(sys.argv[1]))
