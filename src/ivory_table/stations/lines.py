"""Which machines are on the line: one session for each, found again by every page and every run."""

import threading
from collections import deque
from pathlib import Path

from ivory_table.core.value import Id, Value
from ivory_table.link.door import Doors
from ivory_table.link.manners import Manners
from ivory_table.link.session import Job, LineTrouble, Session, Status, open_port

from .desk import Desk, Refused


class LineStatus(Status):
    """What a page shows of a machine's line."""

    machine_id: Id
    url: str | None
    manner: str


class Connect(Value):
    """Where a machine's line is and how it talks; what is left out stays as it was."""

    url: str | None = None
    manner: Id | None = None


class Lines:
    """Sessions by machine. `version` grows with every change of any of them."""

    def __init__(self, desk: Desk, manners: Manners, doors: Doors | None = None, logs: Path | None = None) -> None:
        self.desk, self.manners, self.doors, self._logs = desk, manners, doors, logs
        self._sessions: dict[str, Session] = {}
        self._urls: dict[str, str] = {}
        self._lock = threading.RLock()
        self.practising = threading.Lock()
        self._started: deque[str] = deque(maxlen=200)
        self.version = 0
        self.closing = False

    def changed(self) -> None:
        self.version += 1

    def status(self, machine_id: str) -> LineStatus:
        machine = self.desk.workshop.machine(machine_id)
        session = self._sessions.get(machine_id)
        now = session.status if session else Status()
        return LineStatus(
            machine_id=machine_id,
            url=self._url(machine_id, machine.line_url),
            manner=machine.manner,
            **now.model_dump(),
        )

    def _url(self, machine_id: str, kept: str | None) -> str | None:
        if kept is None and self.doors is not None and (at := self.doors.address(machine_id)):
            return at.line
        return kept

    def session(self, machine_id: str) -> Session | None:
        """The session of a machine, if one is open."""
        found = self._sessions.get(machine_id)
        return None if found is None or found.over else found

    def connect(self, machine_id: str, wanted: Connect) -> LineStatus:
        """Open a machine's line. Raises Refused when it is open, unknown, used elsewhere or its manner is wrong."""
        workshop = self.desk.workshop
        machine = workshop.machine(machine_id)
        with self._lock:
            if self.session(machine_id) is not None:
                raise Refused("line_open", f"{machine.name} is on the line already.", "url")
            manner_id = wanted.manner or machine.manner
            try:
                manner = self.manners.get(manner_id)
            except ValueError as wrong:
                raise Refused("bad_manner", str(wrong), "manner") from None
            url = (wanted.url or "").strip() or self._url(machine_id, machine.line_url)
            if not url:
                raise Refused("no_url", "Say where the line is: a serial device, or socket://host:port.", "url")
            owner = next((m for m, u in self._urls.items() if u == url and self.session(m) is not None), None)
            if owner is not None:
                raise Refused("line_taken", f"This line is in use for {workshop.machine(owner).name}.", "url")
            try:
                port = open_port(url)
            except ValueError as wrong:
                raise Refused("cannot_open", str(wrong), "url") from None
            pace = 1.0
            if self.doors is not None and (at := self.doors.address(machine_id)) and at.line == url:
                pace = at.pace
            elif url != machine.line_url:
                workshop.keep_machine(machine.model_copy(update={"line_url": url}))
            if manner_id != machine.manner:
                kept = workshop.machine(machine_id)
                workshop.keep_machine(kept.model_copy(update={"manner": manner_id}))
            log = self._logs / f"{machine_id}.log" if self._logs else None
            self._sessions[machine_id] = Session(port, manner, log, pace=pace, changed=self.changed)
            self._urls[machine_id] = url
        self.changed()
        return self.status(machine_id)

    def disconnect(self, machine_id: str) -> LineStatus:
        with self._lock:
            session = self._sessions.pop(machine_id, None)
        if session is not None:
            session.close()
        self.changed()
        return self.status(machine_id)

    def close(self) -> None:
        """Let every machine go, at rest, as when the server ends."""
        self.closing = True
        for machine_id in list(self._sessions):
            self.disconnect(machine_id)

    def must(self, machine_id: str) -> Session:
        session = self._sessions.get(machine_id)
        if session is None:
            raise Refused("nobody_on_line", "Nobody is on the line. Connect the machine first.")
        return session

    def stop(self, machine_id: str) -> LineStatus:
        self.must(machine_id).stop()
        return self.status(machine_id)

    def recover(self, machine_id: str) -> LineStatus:
        try:
            self.must(machine_id).recover()
        except LineTrouble as why:
            raise Refused("not_halted", str(why)) from None
        return self.status(machine_id)

    def cancel(self, machine_id: str) -> LineStatus:
        self.must(machine_id).cancel()
        return self.status(machine_id)

    def answer(self, machine_id: str, text: str, question: str | None = None) -> LineStatus:
        """Answer the question at hand; with `question`, that one only: a second press is not meant for the next."""
        if not self.must(machine_id).answer(text, question):
            raise Refused("not_asked", "The machine is not waiting for that answer now.", "text")
        return self.status(machine_id)

    def start(self, machine_id: str, start_id: str, name: str, job: Job) -> None:
        """Put a job in a machine's queue; the same id again starts nothing."""
        with self._lock:
            if start_id in self._started:
                return
            try:
                self.must(machine_id).start(name, job)
            except LineTrouble as why:
                raise Refused("line_not_ready", str(why)) from None
            self._started.append(start_id)

    def log(self, machine_id: str) -> str:
        """Everything sent and received on a machine's line, oldest first."""
        self.desk.workshop.machine(machine_id)
        if self._logs is None:
            return ""
        files = [self._logs / f"{machine_id}.log{part}" for part in (".2", ".1", "")]
        return "".join(f.read_text("utf-8", "replace") for f in files if f.is_file())
