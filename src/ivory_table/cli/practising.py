"""Practice machines on lines of their own: `practice`. Run by itself it starts fast, for the server that wants them."""

import sys
import threading
from pathlib import Path
from typing import Annotated

import typer

from ivory_table.core.manner import shipped
from ivory_table.demo.tidewater import GAUGES, MACHINES
from ivory_table.link.door import Address
from ivory_table.practice.serve import PtyPlug, Served, TcpPlug


def practice(
    machine: Annotated[str, typer.Argument(help="A machine of the demo workshop, or 'all' of them.")],
    pty: Annotated[bool, typer.Option("--pty", help="On a pseudo terminal instead of a TCP port.")] = False,
    port: Annotated[int, typer.Option(min=0, max=65535, help="TCP port on 127.0.0.1; 0 takes a free one.")] = 0,
    pace: Annotated[float, typer.Option(min=0.1, max=10_000, help="How many times faster than life.")] = 1.0,
    seed: Annotated[int, typer.Option(help="Which crooked plate it begins with.")] = 1,
    data: Annotated[Path | None, typer.Option(help="Where its truth and its address are kept.")] = None,
    while_open: Annotated[bool, typer.Option(hidden=True, help="End when standard input is closed.")] = False,
) -> None:
    """A practice machine: a simulated printer on a line of its own, with a side door for the human."""
    wanted = [m for m in MACHINES if machine in (m.id, "all")]
    if not wanted:
        known = ", ".join(m.id for m in MACHINES)
        raise typer.BadParameter(f"There is no practice machine called {machine}; there are {known}, or all.")
    for number, m in enumerate(wanted):
        try:
            plug = PtyPlug() if pty else TcpPlug(port + number if port else 0)
        except OSError as wrong:
            raise typer.BadParameter(f"Port {port + number} cannot be used: {wrong.strerror}.") from None
        file = data / f"{m.id}.json" if data else None
        served = Served(m, GAUGES[0], shipped(m.manner), plug, seed=seed + number, pace=pace, file=file)
        print(f"{m.name} on {plug.name}, its side door on port {served.door.port}", flush=True)
        if data:
            data.mkdir(parents=True, exist_ok=True)
            address = Address(line=plug.name, door=served.door.port, pace=pace)
            (data / f"{m.id}.address.json").write_text(address.model_dump_json())
    if while_open:
        sys.stdin.read()
        return
    try:
        threading.Event().wait()
    except KeyboardInterrupt:
        return


if __name__ == "__main__":
    typer.run(practice)
