"""How long Stop takes while the server is given the worst that was found: giant pastes, wrong files, a crowd of readers.

Bar: 100 ms, whatever else the server does. Milliseconds over so many stops on one practice machine's line. The crowd is in
a process of its own, so that it does not hold up the one that looks at the clock.
"""

import json
import multiprocessing
import statistics
import subprocess
import sys
import tempfile
import threading
import time

import httpx
from serving import free_port, until_answer

STOPS = 80
START = {"plate_id": "heron-steel", "filament_id": "pla-white", "gauge_id": "copy-paper", "initials": "b"}


def crowd(address: str) -> None:
    """Everybody at once, each again and again, for as long as the process lives."""
    paste = {"text": "1" * 199_000 + "x", "rows": "front_first", "owns_zero": True}
    worst = (
        ("/api/runs/r/mesh/preview", json.dumps(paste).encode()),
        ("/api/runs/import", json.dumps({"entries": [{f"f{k}": k for k in range(60)}] * 4000}).encode()),
        ("/api/runs/import", b'{"entries": [' + b"[" * 2_000_000),
        ("/api/setup/import", json.dumps({"machines": [list(range(390))] * 2000}).encode()),
        ("/api/runs/r/tram", b""),
        ("/api/runs/r/first_layer", b""),
        ("/api/bench", b""),
        ("/api/bench", b""),
    )

    def hammer(path: str, body: bytes) -> None:
        with httpx.Client(base_url=address, timeout=120) as client:
            while True:
                method = "POST" if body else "GET"
                client.request(method, path, content=body, headers={"content-type": "application/json"})

    for path, body in worst:
        threading.Thread(target=hammer, args=(path, body), daemon=True).start()
    threading.Event().wait()


def main() -> None:
    port = free_port()
    address = f"http://127.0.0.1:{port}"
    server = subprocess.Popen(
        [sys.executable, "-m", "ivory_table.cli", "demo", "--fresh", "--data", tempfile.mkdtemp(), "--port", str(port)]
    )
    until_answer(f"{address}/api/bench")
    others = multiprocessing.Process(target=crowd, args=(address,), daemon=True)

    with httpx.Client(base_url=address, timeout=60) as client:
        client.post("/api/runs", json=START | {"id": "r", "machine_id": "heron"})
        client.post("/api/machines/wren/line/connect", json={})
        while (now := client.get("/api/machines/wren/line").json())["state"] != "idle":
            if now["state"] in ("nobody", "lost"):
                # The practice machines start beside the server.
                client.post("/api/machines/wren/line/connect", json={})
            time.sleep(0.2)
        others.start()
        time.sleep(2)
        spent = []
        for _ in range(STOPS):
            began = time.perf_counter()
            assert client.post("/api/machines/wren/line/stop").status_code == 200
            spent.append(1e3 * (time.perf_counter() - began))
            time.sleep(0.1)
    others.kill()
    server.kill()
    ordered = sorted(spent)
    told = {"median": statistics.median(ordered), "p95": ordered[int(0.95 * STOPS)], "max": ordered[-1]}
    print(json.dumps({name: round(ms, 1) for name, ms in told.items()}, indent=1))


if __name__ == "__main__":
    main()
