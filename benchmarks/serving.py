"""A reading through HTTP to a committed row and new advice back, beside a bare endpoint that inserts one row.

Both are served by uvicorn in a process of their own, asked in turn on one connection each. Also: how soon
a started demo answers, how much memory it holds after a whole run, how much the page loads first.
"""

import gzip
import json
import multiprocessing
import re
import socket
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import httpx
import uvicorn

ROOT = Path(__file__).parents[1]


def bare(folder: str, port: int) -> None:
    """The least that keeps a row: FastAPI, peewee, SQLite with the same settings."""
    from fastapi import FastAPI
    from peewee import Model, SqliteDatabase, TextField
    from pydantic import BaseModel

    pragmas = {"journal_mode": "wal", "synchronous": "full", "foreign_keys": 1, "busy_timeout": 5000}
    database = SqliteDatabase(f"{folder}/bare.db", pragmas=pragmas)

    class Row(Model):
        body = TextField()

        class Meta:
            pass

    Row.bind(database)
    database.create_tables([Row])

    class Reading(BaseModel):
        screw: str
        marks: int

    app = FastAPI()

    @app.post("/")
    def insert(reading: Reading) -> dict[str, int]:
        with database.atomic("IMMEDIATE"):
            row = Row.create(body=reading.model_dump_json())
        return {"id": row.id}

    uvicorn.run(app, host="127.0.0.1", port=port, log_level="error")


def free_port() -> int:
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return int(s.getsockname()[1])


def until_answer(url: str) -> float:
    start = time.perf_counter()
    while time.perf_counter() - start < 30:
        try:
            if httpx.get(url).status_code < 500:
                return time.perf_counter() - start
        except httpx.TransportError:
            time.sleep(0.02)
    raise RuntimeError(f"no answer from {url}")


def resident_mb(pid: int) -> float:
    status = Path(f"/proc/{pid}/status").read_text()
    return int(status.split("VmRSS:")[1].split()[0]) / 1024


def walk(client: httpx.Client, run: str) -> None:
    """The whole slice by the practice plate, so that memory is measured after real work."""
    for station, most in (("tram", 40), ("offset", 20), ("first_layer", 6)):
        for k in range(most):
            seq = client.get(f"/api/runs/{run}/head").json()["seq"]
            body = {"id": f"{run}-{station}-{k}", "seen_seq": seq}
            if client.post(f"/api/runs/{run}/{station}/practice", json=body).status_code != 200:
                break
        client.get(f"/api/runs/{run}/{station}")


def first_load_kb() -> float:
    web = ROOT / "src/ivory_table/web"
    page = (web / "index.html").read_text()
    # What the bench asks for; the stations' pages come when they are first gone to.
    files = [
        web / "index.html",
        *(web / name.lstrip("/") for name in re.findall(r'(?:src|href)="(/assets/[^"]+)"', page)),
    ]
    return sum(len(gzip.compress(f.read_bytes())) for f in files) / 1024


def main() -> None:
    folder = tempfile.mkdtemp()
    ports = free_port(), free_port()
    other = multiprocessing.Process(target=bare, args=(folder, ports[0]), daemon=True)
    other.start()
    demo = [sys.executable, "-m", "ivory_table.cli", "demo", "--fresh", "--data", folder, "--port", str(ports[1])]
    warm = subprocess.Popen(demo)
    until_answer(f"http://127.0.0.1:{ports[1]}/api/bench")
    warm.kill()
    warm.wait()
    ours = subprocess.Popen(demo)
    second_start = until_answer(f"http://127.0.0.1:{ports[1]}/api/bench")
    until_answer(f"http://127.0.0.1:{ports[0]}/")
    plain = httpx.Client(base_url=f"http://127.0.0.1:{ports[0]}")
    client = httpx.Client(base_url=f"http://127.0.0.1:{ports[1]}", timeout=20)
    start = {
        "plate_id": "heron-steel",
        "filament_id": "pla-white",
        "gauge_id": "copy-paper",
        "machine_id": "heron",
        "initials": "b",
    }
    times: dict[str, list[float]] = {"bare": [], "reading": []}
    screws = ["front left", "rear right", "front right", "rear left"]
    for run in range(12):
        client.post("/api/runs", json=start | {"id": f"r{run}"})
        for k in range(16):
            what = (
                {"kind": "counted", "screw": screws[k // 2 % 4], "marks": 3 - k}
                if k % 2 == 0
                else {"kind": "turned", "screw": screws[k // 2 % 4], "marks": 0}
            )
            body = {"id": f"r{run}-{k}", "seen_seq": k, "what": what}
            t = time.perf_counter()
            answer = client.post(f"/api/runs/r{run}/tram", json=body)
            spent = time.perf_counter() - t
            assert answer.status_code == 200, answer.text
            t = time.perf_counter()
            plain.post("/", json={"screw": "rear left", "marks": 3})
            times["bare"].append(time.perf_counter() - t)
            if k % 2 == 0 and run > 1:
                times["reading"].append(spent)
    client.post("/api/runs", json=start | {"id": "walked"})
    walk(client, "walked")
    medians = {k: 1e3 * statistics.median(v) for k, v in times.items()}
    print(
        json.dumps(
            {
                "bare_insert_ms": round(medians["bare"], 2),
                "reading_to_advice_ms": round(medians["reading"], 2),
                "ratio": round(medians["reading"] / medians["bare"], 2),
                "second_start_s": round(second_start, 2),
                "memory_after_a_run_mb": round(resident_mb(ours.pid), 1),
                "first_load_gzipped_kb": round(first_load_kb(), 1),
            },
            indent=1,
        )
    )
    ours.kill()
    other.kill()


if __name__ == "__main__":
    main()
