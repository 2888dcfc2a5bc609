"""A workshop of years: 40 machines, 10 000 runs of 100 rows each, and how soon its pages answer.

`python benchmarks/history.py` makes it in a few minutes in a temporary folder; `--runs` makes a smaller one.
Bars: bench, run lists and record of a signed-off run 100 ms median server time, a logbook 150 ms; an unfinished run of 100
rows opened after a restart 700 ms; a reading kept in it as fast as in an empty database (+- 20 %).
"""

import argparse
import json
import statistics
import tempfile
import time
from datetime import timedelta
from pathlib import Path

from fastapi.testclient import TestClient

from ivory_table.api.app import create_app
from ivory_table.demo.tidewater import furnish
from ivory_table.desk.desk import Desk, Keep, StartRun
from ivory_table.runs.entry import RunFile
from ivory_table.runs.lessons import lessons
from ivory_table.runs.row import Row
from ivory_table.runs.run import OpenRun
from ivory_table.runs.summary import Shown, shown_of
from ivory_table.stations.mesh_used import MeshUsed
from ivory_table.stations.tram.entries import Counted, ReadMm
from ivory_table.store.workshop import Workshop

FROZEN = Path(__file__).parents[1] / "tests/runs/rows/v1/heron.json"
ROWS = 100
HOST = {"host": "127.0.0.1"}


def run_of_rows(desk: Desk, run_id: str, *, signed: bool) -> OpenRun:
    """A run of 100 rows that was really kept: the frozen one, with readings in between."""
    desk.start(
        StartRun(
            id=run_id,
            machine_id="heron",
            plate_id="heron-steel",
            filament_id="pla-white",
            gauge_id="copy-paper",
            initials="mk",
        )
    )
    rows = [e for e in RunFile.model_validate(json.loads(FROZEN.read_text())["file"]).entries]
    body = [e for e in rows if e.what.kind not in ("taken_back", "signed_off")]
    more = ROWS - len(body) - int(signed)

    def keep(station: str, what: Row) -> None:
        seq = desk.open(run_id).seq
        desk.keep(run_id, station, Keep(id=f"{run_id}-{seq}", seen_seq=seq, what=what), "machine")

    if desk.open(run_id).state.mesh_on:
        # The run before left it on.
        keep("mesh", MeshUsed(on=False))
    screws = desk.open(run_id).state.screws
    tram_end = next(k for k, e in enumerate(body) if e.station == "mesh")
    for k, entry in enumerate(body):
        if k == tram_end:
            for n in range(more):
                s = screws[n % len(screws)]
                reading = ReadMm(x_mm=s.x_mm, y_mm=s.y_mm, instrument="probe", value_mm=0.01, screw=s.name)
                keep("tram", reading if n % 2 else Counted(screw=s.name, marks=0, sure=True))
        keep(entry.station, entry.what)
    if signed:
        keep("sign_off", rows[-1].what)
    return desk.open(run_id)


def fill(shop: Workshop, runs: int, machines: int) -> list[str]:
    """Copies of two real runs, one signed off and one not, under other ids and at other times; their machines' ids."""
    desk = Desk(shop)
    # The open one first, as in the empty database: the other leaves a mesh behind.
    open_run, signed = run_of_rows(desk, "open", signed=False), run_of_rows(desk, "signed", signed=True)
    heron = shop.machine("heron")
    names = [f"m{k}" for k in range(machines)]
    with shop.writing():
        for name in names:
            shop.keep_machine(heron.model_copy(update={"id": name, "name": name.upper(), "practice": False}))
    parts = []
    for run in (signed, open_run):
        texts = [(e.seq, e.model_dump_json()) for e in run.entries]
        parts.append((run, texts, lessons(run).model_dump_json(), shown_of(run)))
    for begin in range(0, runs, 100):
        with shop.writing():
            for number in range(begin, min(begin + 100, runs)):
                machine = names[number % machines]
                run, texts, taught, shown = parts[1 if number >= runs - machines else 0]
                copy(shop, run, texts, taught, shown, machine, number)
    return names


def copy(
    shop: Workshop,
    run: OpenRun,
    texts: list[tuple[int, str]],
    taught: str,
    shown: Shown,
    machine: str,
    number: int,
) -> None:
    run_id, execute = f"r{number}", shop._db.execute_sql
    at = run.setup.started_at - timedelta(hours=3 * (20_000 - number))
    setup = run.setup.model_copy(
        update={"id": run_id, "machine": run.setup.machine.model_copy(update={"id": machine}), "started_at": at}
    )
    shop.start_run(setup)
    rows = [(f"{run_id}-{seq}", run_id, seq, body) for seq, body in texts]
    shop._db.cursor().executemany("INSERT INTO entry VALUES (?, ?, ?, ?)", rows)
    plate, by = setup.plate_id, setup.initials
    execute("INSERT INTO lesson VALUES (?, ?, ?, ?, ?)", (run_id, machine, plate, by, taught))
    named = {"run_id": run_id, "machine_id": machine, "machine_name": machine.upper(), "started_at": at}
    named["last_at"] = at + timedelta(hours=1)
    shop.figures.keep(shown._replace(summary=shown.summary.model_copy(update=named)))


def median_ms(ask, times: int = 15) -> float:
    took = []
    for _ in range(times):
        begin = time.perf_counter()
        ask()
        took.append(time.perf_counter() - begin)
    return 1000 * statistics.median(took)


def reading_ms(shop: Workshop, run_id: str, times: int = 25) -> float:
    desk = Desk(shop)
    s = desk.open(run_id).state.screws[0]

    def keep() -> None:
        seq = desk.open(run_id).seq
        what = ReadMm(x_mm=s.x_mm, y_mm=s.y_mm, instrument="probe", value_mm=0.01, screw=s.name)
        desk.keep(run_id, "tram", Keep(id=f"{run_id}-more-{seq}", seen_seq=seq, what=what), "machine")

    return median_ms(keep, times)


def main() -> None:
    ask = argparse.ArgumentParser(description=__doc__)
    ask.add_argument("--runs", type=int, default=10_000)
    ask.add_argument("--machines", type=int, default=40)
    wanted = ask.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        empty = Workshop(Path(folder) / "empty.db")
        furnish(empty)
        run_of_rows(Desk(empty), "open", signed=False)
        few = reading_ms(empty, "open")
        empty.close()
        shop = Workshop(Path(folder) / "years.db")
        furnish(shop)
        begin = time.perf_counter()
        machines = fill(shop, wanted.runs, wanted.machines)
        rows = shop._db.execute_sql("SELECT count(*) FROM entry").fetchone()[0]
        print(
            f"{wanted.runs} runs, {rows} rows on {wanted.machines} machines made in {time.perf_counter() - begin:.0f} s"
        )
        client = TestClient(create_app(Desk(shop)), base_url="http://127.0.0.1")
        assert client.get("/api/runs/r5/sign_off", headers=HOST).json()["step"] == "signed"
        begin = time.perf_counter()
        client.get("/api/bench", headers=HOST)
        print(f"the first bench after a start: {1000 * (time.perf_counter() - begin):.0f} ms")
        for name, path in (
            ("bench", "/api/bench"),
            ("run list of a machine", f"/api/machines/{machines[3]}/runs"),
            ("a page of all runs", "/api/found"),
            ("runs found by three words", "/api/found?text=m7+white+2025-1"),
            ("logbook of a machine (bar 150)", f"/api/machines/{machines[3]}/logbook"),
            ("record of a signed-off run", "/api/runs/r5/sign_off"),
            ("head of a signed-off run", "/api/runs/r5/head"),
        ):
            print(f"{name}: {median_ms(lambda at=path: client.get(at, headers=HOST)):.0f} ms (bar 100)")
        last = f"r{wanted.runs - 1}"
        print(
            f"an unfinished run of {ROWS} rows opened: {median_ms(lambda: Desk(shop).open(last), 5):.0f} ms (bar 700)"
        )
        many = reading_ms(shop, last)
        print(f"a reading kept: {many:.1f} ms, in an empty database {few:.1f} ms ({many / few - 1:+.0%}, bar 20 %)")
        shop.close()


if __name__ == "__main__":
    main()
