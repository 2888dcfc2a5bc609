"""Serve a workshop, or the demo's: `serve` and `demo`."""

import logging
import re
import socket
import sqlite3
import ssl
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated

import typer
import uvicorn
from fastapi import FastAPI

from ivory_table.access.network import Network, secret_of
from ivory_table.access.roles import HERE
from ivory_table.api.app import create_app
from ivory_table.api.patience import Impatient
from ivory_table.cli.ending import SETTINGS, Data, ends, workshop_in
from ivory_table.demo.past import remember
from ivory_table.demo.tidewater import furnish
from ivory_table.desk.desk import Desk
from ivory_table.link.door import Doors
from ivory_table.link.manners import Manners
from ivory_table.stations import bench
from ivory_table.stations.lines import Lines
from ivory_table.store import copies
from ivory_table.store.workshop import Workshop

Port = Annotated[int, typer.Option(min=1, max=65535, help="Port on 127.0.0.1.")]
LanOption = Annotated[bool, typer.Option("--lan", help="Answer devices of the workshop's network that were let in.")]
Names = Annotated[list[str] | None, typer.Option("--name", help="A host name this machine answers to on the network.")]
Certificate = Annotated[
    Path | None, typer.Option(help="An own certificate (PEM), so that nobody on the network reads along.")
]
Key = Annotated[Path | None, typer.Option(help="The certificate's key (PEM).")]
Public = Annotated[
    str, typer.Option(help="The address a proxy before it is reached under, such as https://bench.local.")
]

#: Practice machines run so many times faster than life, so that nobody waits for their heaters.
PRACTICE_PACE = 20.0
#: A thread that computes gives way after this: Stop is not to wait for arithmetic.
GIVE_WAY_S = 0.001


def _listening(port: int, *, lan: bool = False) -> socket.socket:
    """The port, taken at once; ends the program with a sentence when somebody else has it."""
    taken = socket.socket()
    taken.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        taken.bind(("0.0.0.0" if lan else "127.0.0.1", port))
    except OSError as wrong:
        ends(
            f"Port {port} cannot be used ({wrong.strerror}): Ivory Table may be running already, or another program has "
            "the port. Give another one with --port."
        )
    return taken


class PracticeProcess:
    """The practice machines as a process of their own, which ends with this one; begun once somebody wants them."""

    def __init__(self, workshop: Workshop, folder: Path, pace: float) -> None:
        self._workshop, self._folder, self._pace = workshop, folder, pace
        self._helper: subprocess.Popen[bytes] | None = None

    def furnish(self) -> None:
        """Put the practice machines on the bench, and let them run."""
        with self._workshop.writing():
            furnish(self._workshop)
        self.begin()

    def begin(self) -> None:
        if self._helper is not None:
            return
        for stale in self._folder.glob("*.address.json"):
            stale.unlink()
        command = [sys.executable, "-m", "ivory_table.cli.practising", "all", "--data", str(self._folder)]
        self._helper = subprocess.Popen(
            [*command, "--pace", str(self._pace), "--while-open"], stdin=subprocess.PIPE, stdout=subprocess.DEVNULL
        )

    def end(self) -> None:
        if self._helper is not None and self._helper.stdin is not None:
            self._helper.stdin.close()


@dataclass(frozen=True)
class Lan:
    """How the workshop's network is answered."""

    names: frozenset[str] = frozenset()
    certificate: Path | None = None
    key: Path | None = None
    public: str = ""

    def network(self, data: Path) -> Network:
        return Network(
            secret_of(data), names=self.names, public=self.public.rstrip("/"), encrypted=self.certificate is not None
        )


def _lan(on: bool, names: list[str] | None, certificate: Path | None, key: Path | None, public: str) -> Lan | None:
    """How the network is answered; ends the program with a sentence where what is asked for cannot be."""
    if not on:
        if names or certificate or key or public:
            ends("--name, --certificate, --key and --public are for a network: say --lan as well.")
        return None
    if (certificate is None) != (key is None):
        ends("A certificate and its key belong together: give --certificate and --key.")
    for file in (certificate, key):
        if file is not None and not file.is_file():
            ends(f"There is no file {file}.")
    if public and not re.fullmatch(r"https?://[^/\s]+/?", public):
        ends("Give --public as the browser shows it, such as https://bench.local, without a path.")
    if certificate is not None and key is not None:
        try:
            ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER).load_cert_chain(certificate, key)
        except (ssl.SSLError, OSError) as wrong:
            ends(f"The certificate and its key cannot be used: {wrong}.")
    return Lan(frozenset(names or ()), certificate, key, public)


def _app(data: Path, workshop: Workshop, practice: PracticeProcess, network: Network | None = None) -> FastAPI:
    doors, manners = Doors(data / "practice"), Manners(data / "manners", workshop.teachings.get, workshop.teachings.ids)
    desk = Desk(workshop, doors.hands_for, manners.get)
    workshop.figures.forget_unreadable()
    threading.Thread(target=_catch_up, args=(desk,), name="catch-up", daemon=True).start()
    threading.Thread(target=_copy_daily, args=(data,), name="daily-copy", daemon=True).start()
    lines = Lines(desk, manners, doors, data / "lines")
    return create_app(desk, lines=lines, practise=practice.furnish, network=network)


def _catch_up(desk: Desk) -> None:
    """What earlier versions have left undone, and what the first look at the bench would have to wait for."""
    desk.catch_up()
    bench.view(desk)
    # Some at each start: it takes a while for many, and nobody waits for it.
    desk.renew(most=200)


#: How often it is looked whether today's copy is there.
LOOK_EVERY_S = 600.0


def _copy_daily(data: Path) -> None:
    """One copy a day, the last of them kept. What cannot be written is said in the log and tried again."""
    while True:
        try:
            copies.daily(data, datetime.now(UTC))
        except (OSError, sqlite3.Error, copies.BadCopy) as wrong:
            logging.getLogger("ivory_table").warning("no daily copy: %s", wrong)
        time.sleep(LOOK_EVERY_S)


def _run(
    data: Path,
    port: int,
    *,
    furnished: bool,
    past: bool = False,
    pace: float = PRACTICE_PACE,
    lan: Lan | None = None,
) -> None:
    listening = _listening(port, lan=lan is not None)
    workshop = workshop_in(data)
    practice = PracticeProcess(workshop, data / "practice", pace)
    if furnished:
        if past:
            with workshop.writing():
                furnish(workshop)
            remember(workshop, data / "practice", datetime.now(UTC))
        practice.furnish()
    elif any(m.practice for m in workshop.machines()):
        practice.begin()
    network = lan.network(data) if lan else None
    served = _app(data, workshop, practice, network)
    sys.setswitchinterval(GIVE_WAY_S)
    for line in _told_where(port, network):
        print(line, flush=True)
    config = uvicorn.Config(
        served,
        http=Impatient,
        log_level="warning",
        server_header=False,
        timeout_graceful_shutdown=2,
        # Who asks is what the connection says: a header can be written by anybody.
        proxy_headers=False,
        ssl_certfile=lan.certificate if lan else None,
        ssl_keyfile=lan.key if lan else None,
    )
    try:
        uvicorn.Server(config).run(sockets=[listening])
    finally:
        served.state.lines.close()
        practice.end()


def _told_where(port: int, network: Network | None) -> Iterator[str]:
    """Where it is found, and who can read along."""
    if network is None:
        yield f"Ivory Table on http://127.0.0.1:{port}"
        return
    scheme = "https" if network.encrypted and not network.public else "http"
    yield f"Ivory Table on {scheme}://127.0.0.1:{port}"
    yield f"On the network: {', '.join(network.addresses(port)) or 'this machine has no network address now'}"
    if network.public:
        code, _ = network.new_code(HERE.name, HERE.role)
        yield f"Open {network.public}/join#{code} on the first machine within ten minutes: it lets the others in."
    yield "Devices are let in by a code that this machine shows under Network."
    if not network.encrypted:
        yield (
            "Nothing is encrypted: whoever shares the network can read along and act as a device that was let in. "
            "Use it on the workshop's own network only, or give --certificate and --key, or put a proxy before it."
        )


def dev_app() -> FastAPI:
    """The demo for `make dev`, made anew whenever a file changes."""
    data = SETTINGS.data / "demo"
    workshop = workshop_in(data)
    furnish(workshop)
    return _app(data, workshop, PracticeProcess(workshop, data / "practice", PRACTICE_PACE))


def serve(
    data: Data = SETTINGS.data,
    port: Port = SETTINGS.port,
    lan: LanOption = False,
    name: Names = None,
    certificate: Certificate = None,
    key: Key = None,
    public: Public = "",
) -> None:
    """Serve an own workshop: to this machine, and with --lan to devices that were let in."""
    _run(data, port, furnished=False, lan=_lan(lan, name, certificate, key, public))


def demo(
    data: Data = SETTINGS.data / "demo",
    port: Port = SETTINGS.port,
    pace: Annotated[float, typer.Option(min=0.1, max=10_000, help="How many times faster than life.")] = PRACTICE_PACE,
    fresh: Annotated[bool, typer.Option("--fresh", help="Without its eighteen months of made-up runs.")] = False,
    lan: LanOption = False,
    name: Names = None,
    certificate: Certificate = None,
    key: Key = None,
    public: Public = "",
) -> None:
    """Serve the Tidewater workshop, with its practice machines in fast time."""
    on = _lan(lan, name, certificate, key, public)
    _run(data, port, furnished=True, past=not fresh, pace=pace, lan=on)
