"""The server killed with -9 at random moments while four people write: is every row that was answered still there?

`python benchmarks/kill.py --times 200`. Bar: none lost, and every run opens again as it was answered.
"""

import argparse
import multiprocessing
import os
import random
import signal
import socket
import tempfile
import threading
import time
from pathlib import Path

import httpx
import uvicorn

from ivory_table.api.app import create_app
from ivory_table.demo.tidewater import furnish
from ivory_table.desk.desk import Desk
from ivory_table.store.workshop import Workshop

PEOPLE = 4
START = {"machine_id": "heron", "plate_id": "heron-steel", "filament_id": "pla-white", "gauge_id": "copy-paper"}


def serve(folder: str, port: int) -> None:
    workshop = Workshop(Path(folder) / "workshop.db")
    uvicorn.run(create_app(Desk(workshop)), host="127.0.0.1", port=port, log_level="critical")


def answers(http: httpx.Client) -> bool:
    try:
        return http.get("/api/network/me").status_code == 200
    except httpx.HTTPError:
        return False


def write(base: str, run_id: str, sent: dict[str, list[str]], ends: threading.Event) -> None:
    """Rows one after another; what was answered is written down."""
    with httpx.Client(base_url=base, timeout=20) as http:
        seq = len(sent[run_id])
        while not ends.is_set():
            what = {"kind": "check_done", "check": "homed", "outcome": "done"}
            body = {"id": f"{run_id}-{seq}", "seen_seq": seq, "what": what}
            try:
                done = http.post(f"/api/runs/{run_id}/prepare", json=body)
            except httpx.HTTPError:
                return
            if done.status_code == 200:
                sent[run_id].append(body["id"])
                seq = done.json()["seq"]
            elif done.json()["code"] == "run_moved_on":
                # Kept just before it was killed, and never answered: it may stand there.
                seq += 1


def main() -> None:
    ask = argparse.ArgumentParser(description=__doc__)
    ask.add_argument("--times", type=int, default=200)
    ask.add_argument("--seed", type=int, default=1)
    wanted = ask.parse_args()
    rng = random.Random(wanted.seed)
    fork = multiprocessing.get_context("fork")
    lost = rows = 0
    with tempfile.TemporaryDirectory() as folder:
        shop = Workshop(Path(folder) / "workshop.db")
        furnish(shop)
        shop.close()
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        base = f"http://127.0.0.1:{port}"
        begin = time.monotonic()
        for k in range(wanted.times):
            server = fork.Process(target=serve, args=(folder, port), daemon=True)
            server.start()
            with httpx.Client(base_url=base, timeout=20) as http:
                while not answers(http):
                    time.sleep(0.02)
                runs = [f"k{k}-{p}" for p in range(PEOPLE)]
                for run_id in runs:
                    http.post("/api/runs", json={"id": run_id, "initials": "mk", **START}).raise_for_status()
            sent: dict[str, list[str]] = {run_id: [] for run_id in runs}
            ends = threading.Event()
            people = [threading.Thread(target=write, args=(base, run_id, sent, ends)) for run_id in runs]
            for one in people:
                one.start()
            time.sleep(rng.uniform(0.1, 1.2))
            os.kill(server.pid or 0, signal.SIGKILL)
            server.join()
            ends.set()
            for one in people:
                one.join()
            lost += missing(folder, sent)
            rows += sum(map(len, sent.values()))
        print(f"killed {wanted.times} times, {rows} rows answered, {lost} lost, {time.monotonic() - begin:.0f} s")
    raise SystemExit(1 if lost else 0)


def missing(folder: str, sent: dict[str, list[str]]) -> int:
    """How many answered rows are not there when the workshop is opened anew."""
    shop = Workshop(Path(folder) / "workshop.db")
    desk = Desk(shop)
    found = 0
    for run_id, ids in sent.items():
        there = {e.id for e in desk.open(run_id).entries}
        found += len(set(ids) - there)
    shop.close()
    return found


if __name__ == "__main__":
    main()
