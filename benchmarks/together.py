"""Eight people on forty machines, a step every two seconds each, and a backup while they write.

`python -m benchmarks.together --minutes 10`. Bars: 95 % of answers within 150 ms on a quiet machine, no error, nothing
lost; while a backup is made nobody waits over 200 ms; the copy, brought back, shows the same state.
"""

import argparse
import multiprocessing
import random
import socket
import tempfile
import threading
import time
from itertools import count
from pathlib import Path

import httpx
import numpy as np

from benchmarks.kill import START, answers, serve
from ivory_table.demo.tidewater import furnish
from ivory_table.desk.desk import Desk
from ivory_table.store import copies
from ivory_table.store.workshop import Workshop

PEOPLE, MACHINES, EVERY_S = 8, 40, 2.0


class Person(threading.Thread):
    """Reads a plate by the gauge, one screw after another, a run after the other; writes down what was answered."""

    def __init__(self, base: str, who: int, ends: float) -> None:
        super().__init__(daemon=True)
        self.http, self.who, self.ends = httpx.Client(base_url=base, timeout=60), who, ends
        self.took: list[tuple[float, float]] = []
        self.kept: dict[str, int] = {}
        self.errors: list[str] = []

    def run(self) -> None:
        rng = random.Random(self.who)
        for number in count():
            run_id, machine = f"p{self.who}-{number}", f"m{rng.randrange(MACHINES)}"
            self.ask("POST", "/api/runs", {**START, "id": run_id, "initials": f"p{self.who}", "machine_id": machine})
            for k in range(30):
                if time.monotonic() > self.ends:
                    return
                screw = ("front left", "front right", "rear left", "rear right")[k % 4]
                what = (
                    {"kind": "sense_tried", "screw": screw, "felt": "tighter"}
                    if k == 0
                    else {"kind": "counted", "screw": screw, "marks": rng.choice([-1, 0, 1]), "sure": True}
                )
                body = {"id": f"{run_id}-{k}", "seen_seq": k, "what": what}
                if self.ask("POST", f"/api/runs/{run_id}/tram", body):
                    self.kept[run_id] = k + 1
                self.ask("GET", f"/api/runs/{run_id}/head")
                if k % 10 == 9:
                    self.ask("GET", "/api/bench")
                time.sleep(rng.uniform(0.5, 1.5) * EVERY_S)

    def ask(self, method: str, path: str, body: dict | None = None) -> bool:
        begin = time.monotonic()
        done = self.http.request(method, path, json=body)
        self.took.append((begin, time.monotonic() - begin))
        if done.status_code >= 400:
            self.errors.append(f"{path}: {done.text[:120]}")
        return done.status_code < 400


def main() -> None:
    ask = argparse.ArgumentParser(description=__doc__)
    ask.add_argument("--minutes", type=float, default=10)
    wanted = ask.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        shop = Workshop(folder / "workshop.db")
        furnish(shop)
        heron = shop.machine("heron")
        for k in range(MACHINES):
            shop.keep_machine(heron.model_copy(update={"id": f"m{k}", "name": f"M{k}", "practice": False}))
        shop.close()
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        server = multiprocessing.get_context("fork").Process(target=serve, args=(name, port), daemon=True)
        server.start()
        base = f"http://127.0.0.1:{port}"
        with httpx.Client(base_url=base, timeout=20) as http:
            while not answers(http):
                time.sleep(0.05)
        ends = time.monotonic() + 60 * wanted.minutes
        people = [Person(base, k, ends) for k in range(PEOPLE)]
        for one in people:
            one.start()
        time.sleep(30 * wanted.minutes)
        began = time.monotonic()
        copies.backup(folder, folder / "copy.zip")
        ended = time.monotonic()
        for one in people:
            one.join()
        server.terminate()
        server.join()
        took = [t for one in people for t in one.took]
        all_ms = 1000 * np.array([t for _, t in took])
        while_ms = 1000 * np.array([t for at, t in took if at < ended and at + t > began] or [0.0])
        kept = {run: n for one in people for run, n in one.kept.items()}
        errors = [e for one in people for e in one.errors]
        shop = Workshop(folder / "workshop.db")
        lost = sum(max(n - len(shop.entries(run)), 0) for run, n in kept.items())
        shop.close()
        print(f"{len(took)} answers, {sum(kept.values())} rows: median {np.median(all_ms):.0f} ms, "
              f"95 % {np.percentile(all_ms, 95):.0f} ms (bar 150), worst {all_ms.max():.0f} ms; "
              f"{len(errors)} errors, {lost} lost")  # fmt: skip
        print(f"while the backup was made ({1000 * (ended - began):.0f} ms): longest {while_ms.max():.0f} ms (bar 200)")
        print(f"brought back: {'the same state' if same_state(folder, kept) else 'NOT the same state'}")
        for e in errors[:3]:
            print(e)


def same_state(folder: Path, kept: dict[str, int]) -> bool:
    """Every run that the copy holds opens to the state that the live workshop has at the same row."""
    back = folder / "back"
    copies.restore(folder / "copy.zip", back)
    copied = Workshop(back / "workshop.db")
    desk = Desk(copied)
    there = {run: (desk.open(run).seq, copied.entries(run)) for run in (s.id for s in copied.runs())}
    copied.close()
    live = Workshop(folder / "workshop.db")
    same = all(live.entries(run)[:seq] == rows for run, (seq, rows) in there.items())
    live.close()
    return same and bool(set(there) & set(kept))


if __name__ == "__main__":
    main()
