"""One hour of a practice machine's probing at high pace over a real line: how much memory grows. `python benchmarks/soak.py`."""

import argparse
import json
import resource
import tempfile
import threading
import time
from pathlib import Path

from ivory_table.core.manner import shipped
from ivory_table.demo.tidewater import GAUGES, MACHINES
from ivory_table.link.ports import open_port
from ivory_table.link.session import Session
from ivory_table.practice.serve import Served, TcpPlug


def rss_mb() -> float:
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * resource.getpagesize() / 1e6


def soak(minutes: float, pace: float) -> dict:
    machine = next(m for m in MACHINES if m.id == "kestrel")
    served = Served(machine, GAUGES[0], shipped(machine.manner), TcpPlug(0), seed=1, pace=pace, file=None)
    folder = Path(tempfile.mkdtemp())
    session = Session(open_port(served.plug.name), served.firmware.manner, folder / "line.log", pace=pace)
    while session.status.state == "connecting":
        time.sleep(0.05)
    ended, memory, probed = threading.Event(), [], [0]
    ends = served.body.seconds + minutes * 60

    def job(at: Session) -> None:
        at.home()
        k = 0
        while served.body.seconds < ends:
            at.ask(at.manner.send("height", z=8, feed=1200))
            at.ask(at.manner.send("probe", x=60 + k % 7 * 30, y=40 + k % 5 * 40), "touched")
            at.progress(f"probing {k}")
            k += 1
            if k % 25 == 0:
                memory.append(rss_mb())
        probed[0] = k
        ended.set()

    began = time.monotonic()
    session.start("soak", job)
    ended.wait()
    session.close()
    served.end()
    tenth = max(len(memory) // 10, 1)
    logs = sum(f.stat().st_size for f in folder.iterdir())
    return {
        "machine_minutes": minutes,
        "seconds": round(time.monotonic() - began, 1),
        "probings": probed[0],
        "memory_first_tenth_mb": round(sum(memory[:tenth]) / tenth, 1),
        "memory_last_tenth_mb": round(sum(memory[-tenth:]) / tenth, 1),
        "log_mb": round(logs / 1e6, 2),
        "crashes": len(served.body.crashes),
    }


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--minutes", type=float, default=60)
    parser.add_argument("--pace", type=float, default=100)
    args = parser.parse_args()
    print(json.dumps(soak(args.minutes, args.pace), indent=1))
