"""How long Stop takes while the server is given the worst that was found: giant pastes, wrong files, a crowd of readers.

Bar: 100 ms, whatever else the server does. Milliseconds over so many stops on one practice machine's line.
"""

import json
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


def main() -> None:
    port = free_port()
    address = f"http://127.0.0.1:{port}"
    server = subprocess.Popen(
        [sys.executable, "-m", "ivory_table.cli", "demo", "--data", tempfile.mkdtemp(), "--port", str(port)]
    )
    until_answer(f"{address}/api/bench")
    over = threading.Event()

    def hammer(path: str, **body: object) -> None:
        with httpx.Client(base_url=address, timeout=120) as client:
            while not over.is_set():
                client.request("POST" if body else "GET", path, **body)

    with httpx.Client(base_url=address, timeout=60) as client:
        client.post("/api/runs", json=START | {"id": "r", "machine_id": "heron"})
        client.post("/api/machines/wren/line/connect", json={})
        while (now := client.get("/api/machines/wren/line").json())["state"] != "idle":
            if now["state"] in ("nobody", "lost"):
                # The practice machines start beside the server.
                client.post("/api/machines/wren/line/connect", json={})
            time.sleep(0.2)
        worst = (
            (
                "/api/runs/r/mesh/preview",
                {"json": {"text": "1" * 199_000 + "x", "rows": "front_first", "owns_zero": True}},
            ),
            ("/api/runs/import", {"json": {"entries": [{f"f{k}": k for k in range(60)}] * 4000}}),
            ("/api/runs/import", {"content": b'{"entries": [' + b"[" * 2_000_000}),
            ("/api/setup/import", {"json": {"machines": [list(range(390))] * 2000}}),
            ("/api/runs/r/tram", {}),
            ("/api/runs/r/first_layer", {}),
            ("/api/bench", {}),
            ("/api/bench", {}),
        )
        crowd = [threading.Thread(target=hammer, args=(path,), kwargs=body, daemon=True) for path, body in worst]
        for one in crowd:
            one.start()
        spent = []
        for _ in range(STOPS):
            began = time.perf_counter()
            assert client.post("/api/machines/wren/line/stop").status_code == 200
            spent.append(1e3 * (time.perf_counter() - began))
            time.sleep(0.1)
        over.set()
    server.kill()
    ordered = sorted(spent)
    told = {"median": statistics.median(ordered), "p95": ordered[int(0.95 * STOPS)], "max": ordered[-1]}
    print(json.dumps({name: round(ms, 1) for name, ms in told.items()}, indent=1))


if __name__ == "__main__":
    main()
