"""The practice machine as a process: its line on a pty or a TCP port, and a side door for the human.

The line speaks the machine's manner. The door takes one JSON object per line, `{"ask": name,
"given": {...}}`, and answers `{"answer": ...}` or `{"refused": sentence}`.
"""

import json
import os
import pty
import queue
import select
import socket
import socketserver
import threading
import time
import tty
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol

from pydantic import BaseModel

from ivory_table.core.gauge import Gauge
from ivory_table.core.manner import Manner
from ivory_table.core.mesh import MeshSurvey
from ivory_table.core.plate import Machine
from ivory_table.core.proof import ProofPlan

from .firmware import Firmware, Halted
from .machine import IDLE_S, PracticeMachine
from .person import PracticePerson

LINE_FAULTS = frozenset(
    {"garbage", "half_line", "again_storm", "lost_acknowledgement", "late", "silence", "drop", "halt", "restart"}
)


@dataclass
class Trouble:
    """Faults of the line itself, switched on through the door; each counts down to when it happens."""

    after: dict[str, int] = field(default_factory=dict)

    def due(self, name: str) -> bool:
        """Whether this fault happens now. Called once for each line the machine would be hit on."""
        if name not in self.after:
            return False
        self.after[name] -= 1
        if self.after[name] > 0:
            return False
        del self.after[name]
        return True


class Plug(Protocol):
    """Where the line comes out: bytes in, bytes out, and whether anybody is there."""

    def read(self) -> bytes | None: ...

    def write(self, data: bytes) -> None: ...

    def drop(self) -> None: ...


class PtyPlug:
    """A pseudo terminal; `name` is what to open, or a link to it when one is wanted."""

    def __init__(self, link: Path | None = None) -> None:
        self._main, self._other = pty.openpty()
        tty.setraw(self._other)
        self.name = os.ttyname(self._other)
        if link is not None:
            link.unlink(missing_ok=True)
            link.symlink_to(self.name)
            self.name = str(link)

    def read(self) -> bytes | None:
        ready, _, _ = select.select([self._main], [], [], 0.2)
        return os.read(self._main, 4096) if ready else b""

    def write(self, data: bytes) -> None:
        # Nobody may be reading: what does not fit is lost, as on a cable.
        _, ready, _ = select.select([], [self._main], [], 0.5)
        if ready:
            os.write(self._main, data)

    def drop(self) -> None:
        """A pty has no plug to pull: it goes silent instead."""


class TcpPlug:
    """A listening port for one host at a time; a second one is turned away with a sentence."""

    def __init__(self, port: int) -> None:
        self._server = socket.create_server(("127.0.0.1", port))
        self._client: socket.socket | None = None
        self.port: int = self._server.getsockname()[1]
        self.name = f"socket://127.0.0.1:{self.port}"

    def read(self) -> bytes | None:
        """Bytes from the host, b"" when there are none, None when somebody new has come."""
        waiting = [self._server] + ([self._client] if self._client else [])
        try:
            ready, _, _ = select.select(waiting, [], [], 0.2)
        except (OSError, ValueError):
            return b""  # the client was dropped while we waited
        # Whoever was here is heard to the end first: who hangs up and calls again at once must not find the line taken.
        if self._client is not None and self._client in ready:
            try:
                data = self._client.recv(4096)
            except OSError:
                data = b""
            if not data:
                self.drop()
            return data
        if self._server in ready:
            fresh, _ = self._server.accept()
            if self._client is None:
                fresh.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
                self._client = fresh
                return None
            fresh.sendall(b"taken: another host is on this line\n")
            fresh.close()
        return b""

    def write(self, data: bytes) -> None:
        client = self._client
        if client is not None:
            try:
                client.sendall(data)
            except OSError:
                self.drop()

    def drop(self) -> None:
        client, self._client = self._client, None
        if client is not None:
            client.close()


class Served:
    """One practice machine on a plug, with its door. Everything runs on threads of its own."""

    def __init__(
        self, machine: Machine, gauge: Gauge, manner: Manner, plug: Plug, *, seed: int, pace: float, file: Path | None
    ) -> None:
        self.lock = threading.RLock()
        self.body = PracticeMachine.of(machine, gauge, seed, file)
        self.body.sleep = self._sleep
        # Whoever answers takes their own time, however fast the machine's runs.
        self.body.idle_s = IDLE_S * max(pace, 1.0)
        self.person = PracticePerson(self.body)
        self.firmware = Firmware(self.body, manner)
        self.plug, self.pace, self.trouble = plug, pace, Trouble()
        self._lines: queue.Queue[str] = queue.Queue()
        self._halt, self._ended = threading.Event(), threading.Event()
        self._silent_until, self._owed = 0.0, 0.0
        self._worker = threading.Thread(target=self._work, daemon=True)
        self.door = _Door(self)
        for thread in (
            self._worker,
            threading.Thread(target=self._listen, daemon=True),
            threading.Thread(target=self._idle, daemon=True),
            threading.Thread(target=self.door.serve_forever, daemon=True),
        ):
            thread.start()

    def end(self) -> None:
        self._ended.set()
        self.door.shutdown()
        self.plug.drop()

    # The line

    def _listen(self) -> None:
        """Bytes to lines. A stop is heard at once, whatever is being done."""
        rest = b""
        while not self._ended.is_set():
            data = self.plug.read()
            if data is None:
                rest = b""
                self._send(self.firmware.say("ready"))
                continue
            *lines, rest = (rest + data).split(b"\n")
            if len(rest) > 4096:
                rest = b""
            for line in lines:
                text = line.decode("ascii", "replace").strip()
                if text == self.firmware.manner.line.stop:
                    self._halt.set()
                    while not self._lines.empty():
                        self._lines.get_nowait()
                self._lines.put(text)

    def _work(self) -> None:
        while not self._ended.is_set():
            try:
                line = self._lines.get(timeout=0.2)
            except queue.Empty:
                continue
            with self.lock:
                if self._spoil(line):
                    continue
                if line == self.firmware.manner.line.stop:
                    self._halt.clear()
                try:
                    for reply in self.firmware.obey(line):
                        self._send(reply)
                except Halted:
                    # A stop in the middle of a move: the line that says so follows in the queue.
                    self.firmware.halted = "stopped"

    def _spoil(self, line: str) -> bool:
        """What goes wrong with this line, if a fault is due. True when it is not to be obeyed."""
        firmware, trouble = self.firmware, self.trouble
        if trouble.due("garbage"):
            self.plug.write(b"\xff\xfe\x00 ok? \x80\x81 at x" + b"\n")
        if trouble.due("half_line"):
            self._send(firmware.say("position", x=1, y=2, z=3)[:7])
        if trouble.due("again_storm"):
            for _ in range(400):
                self._send(firmware.say("again", line="1") if firmware.voice["again"] else firmware.say("ready")[:3])
        if trouble.due("lost_acknowledgement"):
            for reply in list(firmware.obey(line))[:-1]:
                self._send(reply)
            return True
        if trouble.due("late"):
            replies = list(firmware.obey(line))
            threading.Timer(1.5 * firmware.manner.line.silence_s, self._send_all, [replies]).start()
            return True
        if trouble.due("silence"):
            self._silent_until = time.monotonic() + 3600
        if trouble.due("drop"):
            self.plug.drop()
            return True
        if trouble.due("halt"):
            self._send(firmware.halt("a fault for practice"))
            return True
        if trouble.due("restart"):
            for reply in firmware.start():
                self._send(reply)
            return True
        return False

    def _send(self, reply: str) -> None:
        if time.monotonic() >= self._silent_until:
            self.plug.write(reply.encode("ascii", "replace") + b"\n")

    def _send_all(self, replies: list[str]) -> None:
        for reply in replies:
            self._send(reply)

    def _sleep(self, seconds: float) -> None:
        """The machine's time, as others see it go by; a stop cuts it short."""
        self._owed += seconds / self.pace
        if self._owed < 0.002:
            return
        ends = time.monotonic() + self._owed
        self._owed = 0.0
        working = threading.current_thread() is self._worker
        alive_at = time.monotonic() + 0.5
        self.lock.release()
        try:
            while (left := ends - time.monotonic()) > 0:
                if working and self._halt.wait(min(left, 0.05)):
                    raise Halted("stopped")
                if not working:
                    time.sleep(min(left, 0.05))
                elif time.monotonic() > alive_at:
                    alive_at += 0.5
                    self._send(self.firmware.say("alive"))
        finally:
            self.lock.acquire()

    def _idle(self) -> None:
        """Heat goes on while nobody says anything."""
        last = time.monotonic()
        seen = self.body.seconds
        while not self._ended.wait(0.1):
            with self.lock:
                now = time.monotonic()
                passed = (now - last) * self.pace - (self.body.seconds - seen)
                if passed > 0:
                    self.body.pass_time(passed)
                last, seen = now, self.body.seconds

    # The door

    def ask(self, name: str, given: dict[str, Any]) -> Any:
        """One question to the person at the machine, or to the trainer."""
        asked = _ASKS.get(name)
        if asked is None:
            raise ValueError(f"Nobody here knows '{name}'.")
        with self.lock:
            return asked(self, **given)

    def mount(self, plate_id: str, gauge: dict[str, Any]) -> None:
        self.body.gauge = Gauge.model_validate(gauge)
        if plate_id != self.body.truth.mount:
            self.body.remount(plate_id)

    def touch_probe(self, on: bool) -> None:
        self.body.ways.finger_on_probe = on

    def fault(self, name: str, after: int = 1) -> None:
        """Switch a fault on: of heat, probe and motors at once, of the line after so many lines."""
        if name in LINE_FAULTS:
            self.trouble.after[name] = after
            return
        if name == "none":
            self._silent_until = 0.0
            self.trouble = Trouble()
        self.person.fault(name, after)


def _plan(given: dict[str, Any]) -> ProofPlan:
    return ProofPlan.model_validate(given)


_ASKS: dict[str, Callable[..., Any]] = {
    "mount": Served.mount,
    "fault": Served.fault,
    "touch_probe": Served.touch_probe,
    "disturb": lambda s: s.person.disturb(),
    "crashes": lambda s: s.person.crashes(),
    "try_sense": lambda s, screw: s.person.try_sense(screw),
    "is_loose": lambda s, screw: s.person.is_loose(screw),
    "turn_until_drag": lambda s, screw, most_marks: s.person.turn_until_drag(screw, most_marks),
    "back_off": lambda s, turns: s.person.back_off(turns),
    "turn_beam": lambda s, up_mm: s.person.turn_beam(up_mm),
    "gap_at_zero": lambda s, x_mm, y_mm: s.person.gap_at_zero(x_mm, y_mm),
    "turn": lambda s, screw, marks: s.person.turn(screw, marks),
    "slide_gauge": lambda s, x_mm, y_mm, z_mm: s.person.slide_gauge(x_mm, y_mm, z_mm),
    "slide_here": lambda s: s.person.slide_here(),
    "felt_height": lambda s, x_mm, y_mm: s.person.felt_height(x_mm, y_mm),
    "read_height": lambda s, x_mm, y_mm: s.person.read_height(x_mm, y_mm),
    "store_mesh": lambda s: s.person.store_mesh(),
    "switch_off_and_on": lambda s: s.person.switch_off_and_on(),
    "use_mesh": lambda s, survey: s.person.use_mesh(MeshSurvey.model_validate(survey) if survey else None),
    "move_nozzle": lambda s, away_mm: s.person.move_nozzle(away_mm),
    "print_zone": lambda s, proof, zone: s.person.print_zone(_plan(proof), zone),
    "see_zone": lambda s, proof, zone, light_mm: s.person.see_zone(_plan(proof), zone, light_mm),
    "clean": lambda s, proof, zone: s.person.clean(_plan(proof), zone),
    "mend": lambda s, cause: s.person.mend(cause),
    "look_for": lambda s, cause: s.person.look_for(cause),
    "measure_feed": lambda s, commanded_mm: s.person.measure_feed(commanded_mm),
    "gauge_second": lambda s: s.person.gauge_second(),
    "pass_second": lambda s, tops_mm, z_mm: s.person.pass_second(tuple(tops_mm), z_mm),
    "turn_second": lambda s, up_mm: s.person.turn_second(up_mm),
    "change_feed": lambda s, times: s.person.change_feed(times),
}


class _Door(socketserver.ThreadingTCPServer):
    allow_reuse_address = True
    daemon_threads = True

    def __init__(self, served: Served) -> None:
        self.served = served
        super().__init__(("127.0.0.1", 0), _Visitor)

    def serve_forever(self, poll_interval: float = 0.1) -> None:
        super().serve_forever(poll_interval)

    @property
    def port(self) -> int:
        return int(self.server_address[1])


class _Visitor(socketserver.StreamRequestHandler):
    server: _Door

    def handle(self) -> None:
        for line in self.rfile:
            try:
                asked = json.loads(line)
                answer = self.server.served.ask(asked["ask"], asked.get("given", {}))
                reply: dict[str, Any] = {"answer": answer.model_dump() if isinstance(answer, BaseModel) else answer}
            except (ValueError, KeyError, TypeError) as wrong:
                reply = {"refused": str(wrong)}
            self.wfile.write(json.dumps(reply).encode() + b"\n")
            self.wfile.flush()
