"""A run, and rows kept in it, for tests of the stations."""

from ivory_table.desk.desk import Desk, Keep, StartRun
from ivory_table.runs.doubts import Refused
from ivory_table.runs.row import Row
from ivory_table.runs.run import OpenRun
from ivory_table.stations import first_layer, mesh, offset, tram

PLATES = {"heron": "heron-steel", "kestrel": "kestrel-smooth", "wren": "wren-sheet", "bittern": "bittern-disc"}


def start(
    desk: Desk, machine: str, run_id: str = "run", *, plate: str | None = None, filament: str = "pla-white"
) -> OpenRun:
    desk.start(
        StartRun(
            id=run_id,
            machine_id=machine,
            plate_id=plate or PLATES[machine],
            filament_id=filament,
            gauge_id="copy-paper",
            initials="mk",
        )
    )
    return desk.open(run_id)


def keep(desk: Desk, station: str, what: Row, run_id: str = "run") -> OpenRun:
    seq = desk.open(run_id).seq
    return desk.keep(run_id, station, Keep(id=f"{run_id}-{seq + 1}", seen_seq=seq, what=what))


def practise(desk: Desk, station: str, run_id: str = "run", times: int = 60) -> OpenRun:
    """Let the practice plate answer until the station has no more questions."""
    asks = {
        "tram": tram.practice.practice,
        "mesh": mesh.practice.practice,
        "offset": offset.practice.practice,
        "first_layer": lambda at, run: first_layer.practice.practice(at, run, 5),
    }
    for _ in range(times):
        seq = desk.open(run_id).seq
        try:
            desk.ask_hands(run_id, station, f"{run_id}-p{seq + 1}", seq, lambda run: asks[station](desk, run))
        except Refused as done:
            assert done.code == "nothing_to_read"
            break
    return desk.open(run_id)
