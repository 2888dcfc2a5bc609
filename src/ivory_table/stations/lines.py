"""Which machines are on the line: one session for each, found again by every page and every run."""

import threading
import time
from collections import deque
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Literal

from pydantic import ValidationError

from ivory_table.access.roles import Who
from ivory_table.core.plate import UNTAUGHT
from ivory_table.core.value import Id, Value
from ivory_table.desk.desk import Desk
from ivory_table.link.door import Doors
from ivory_table.link.manners import Manners
from ivory_table.link.ports import open_port
from ivory_table.link.session import Job, Session
from ivory_table.link.status import Status
from ivory_table.link.trouble import LineTrouble
from ivory_table.runs.doubts import Refused
from ivory_table.stations.counted import count_prints


class Holder(Value):
    """The device from which a machine's line is worked."""

    device: Id
    name: str


class LineStatus(Status):
    """What a page shows of a machine's line."""

    machine_id: Id
    url: str | None
    manner: str
    #: Whose line it is, and who would like to have it.
    held_by: Holder | None = None
    asked_by: Holder | None = None


#: A holder of whom nothing was heard for so long is taken to have gone.
AWAY_S = 60.0
#: One who is there has so long to answer somebody who asks for the line of an idle machine.
ANSWER_S = 30.0


class Connect(Value):
    """Where a machine's line is and how it talks; what is left out stays as it was."""

    url: str | None = None
    manner: Id | None = None


class Leave(Value):
    """What to do with heaters that are on; left out, as it was chosen for the machine."""

    heaters: Literal["off", "leave"] | None = None


class Left(Value):
    """How a machine was last seen while a job ran or a heater was on: kept on disk, told when the server comes back."""

    at: datetime
    job: str
    bed_target_c: float | None
    tip_target_c: float | None

    @property
    def words(self) -> str:
        doing = f"doing '{self.job}'" if self.job else "on the line"
        heat = f", plate told {self.bed_target_c or 0:.0f} °C and tip {self.tip_target_c or 0:.0f} °C"
        return (
            f"Last seen {self.at.astimezone():%d %b %H:%M} {doing}{heat}. It may still be hot, or stand where it was: look at "
            "it, then connect."
        )


class Lines:
    """Sessions by machine. `version` grows with every change of any of them."""

    def __init__(self, desk: Desk, manners: Manners, doors: Doors | None = None, logs: Path | None = None) -> None:
        self.desk, self.manners, self.doors, self._logs = desk, manners, doors, logs
        self._sessions: dict[str, Session] = {}
        self._urls: dict[str, str] = {}
        self._lock = threading.RLock()
        self.practising = threading.Lock()
        self._started: deque[str] = deque(maxlen=200)
        self._holders: dict[str, Holder] = {}
        self._asked: dict[str, tuple[Holder, float]] = {}
        self.version = 0
        self.closing = False

    def changed(self) -> None:
        self.version += 1

    def status(self, machine_id: str) -> LineStatus:
        machine = self.desk.workshop.machine(machine_id)
        session = self._sessions.get(machine_id)
        now = session.status if session else Status()
        if now.state in ("nobody", "lost") and (left := self._left(machine_id)) is not None:
            now = now.model_copy(update={"heat_words": left.words})
        return LineStatus(
            machine_id=machine_id,
            url=self._url(machine_id, machine.line_url),
            manner=machine.manner,
            held_by=self._holders.get(machine_id),
            asked_by=self._asked.get(machine_id, (None, 0.0))[0],
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

    # One at a line at a time

    def holds(self, machine_id: str, who: Who) -> None:
        """Raises Refused where somebody else is at the machine's line; who comes to a free one has it."""
        with self._lock:
            held = self._holders.get(machine_id)
            if held is None or self.session(machine_id) is None:
                self._holders[machine_id] = Holder(device=who.device, name=who.name)
                self._asked.pop(machine_id, None)
            elif held.device != who.device:
                name = self.desk.workshop.machine(machine_id).name
                raise Refused("line_held", f"{held.name} is at {name}'s line. Ask for it; Stop works from everywhere.")

    def ask_for(self, machine_id: str, who: Who, silent_s: float | None) -> LineStatus:
        """Ask whoever holds a line for it.

        It is had at once where nothing was heard of its holder for a minute, and by asking again where nobody answered
        and the machine does nothing.
        """
        with self._lock:
            held, session = self._holders.get(machine_id), self.session(machine_id)
            asks = Holder(device=who.device, name=who.name)
            free = held is None or session is None or silent_s is None or silent_s > AWAY_S
            before, since = self._asked.get(machine_id, (None, 0.0))
            unanswered = before == asks and time.monotonic() - since > ANSWER_S
            if free or held == asks or (unanswered and session is not None and session.status.state == "idle"):
                self._holders[machine_id] = asks
                self._asked.pop(machine_id, None)
            elif before != asks:
                self._asked[machine_id] = (asks, time.monotonic())
        self.changed()
        return self.status(machine_id)

    def hand_over(self, machine_id: str, who: Who, *, yes: bool) -> LineStatus:
        """Give the line to whoever asked for it, or keep it."""
        with self._lock:
            self.holds(machine_id, who)
            asked, _ = self._asked.pop(machine_id, (None, 0.0))
            if asked is None:
                raise Refused("nobody_asked", "Nobody asks for this line any more.")
            if yes:
                self._holders[machine_id] = asked
        self.changed()
        return self.status(machine_id)

    def holder(self, machine_id: str) -> Holder | None:
        return self._holders.get(machine_id)

    def connect(self, machine_id: str, wanted: Connect) -> LineStatus:
        """Open a machine's line. Raises Refused when it is open, unknown, used elsewhere or its manner is wrong."""
        workshop = self.desk.workshop
        machine = workshop.machine(machine_id)
        with self._lock:
            if self.session(machine_id) is not None:
                raise Refused("line_open", f"{machine.name} is on the line already.", "url")
            manner_id = wanted.manner or machine.manner
            if manner_id == UNTAUGHT:
                said = f"Nobody has shown yet how {machine.name} talks. Show it first (“How it talks”, in set-up), or choose a manner that it has."
                raise Refused("not_taught", said, "manner")
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
            self._sessions[machine_id] = Session(
                port,
                manner,
                log,
                pace=pace,
                changed=self.changed,
                heat_changed=lambda now: self._note_left(machine_id, now),
                met=lambda session: count_prints(self.desk.workshop, machine_id, session),
            )
            self._urls[machine_id] = url
        self.changed()
        return self.status(machine_id)

    def leave(self, machine_id: str, wanted: Leave) -> LineStatus:
        """Let a machine go. Heaters that are on are switched off, or asked about first, as chosen for this machine."""
        session = self._sessions.get(machine_id)
        heaters = wanted.heaters
        if heaters is None and session is not None and session.status.hot:
            machine = self.desk.workshop.machine(machine_id)
            if machine.on_leaving == "ask":
                raise Refused(
                    "heaters_on",
                    f"{machine.name} is told to heat: plate {session.status.bed_target_c or 0:.0f} °C, tip "
                    f"{session.status.tip_target_c or 0:.0f} °C. Switch the heaters off, or leave it hot and stay with it?",
                    "heaters",
                )
        return self.disconnect(machine_id, heaters_off=heaters != "leave")

    def disconnect(self, machine_id: str, *, heaters_off: bool = True) -> LineStatus:
        with self._lock:
            session = self._sessions.pop(machine_id, None)
            self._holders.pop(machine_id, None)
            self._asked.pop(machine_id, None)
        if session is not None:
            session.close(heaters_off=heaters_off)
        self.changed()
        return self.status(machine_id)

    def close(self) -> None:
        """Let every machine go with its heaters off, as when the server ends: nobody is there to be asked."""
        self.closing = True
        leaving = [threading.Thread(target=self.disconnect, args=(m,)) for m in list(self._sessions)]
        for one in leaving:
            one.start()
        for one in leaving:
            one.join()

    def manner_changed(self, manner_id: str) -> None:
        """Machines on the line that talk so go on with its words as they are now."""
        for machine_id, session in list(self._sessions.items()):
            if session.manner.id == manner_id and session.status.state == "idle":
                try:
                    session.manner = self.manners.get(manner_id)
                except ValueError:
                    self.disconnect(machine_id)

    def cool(self, machine_id: str) -> LineStatus:
        """Switch a machine's heaters off, whatever run it is in."""
        self.desk.workshop.machine(machine_id)
        try:
            self.session_of(machine_id).start("Switching the heaters off", Session.heaters_off)
        except LineTrouble as why:
            raise Refused("line_not_ready", str(why)) from None
        return self.status(machine_id)

    def _note_left(self, machine_id: str, now: Status) -> None:
        """On disk while a job runs or a heater is on: should the server end without a word, it is told afterwards."""
        if self._logs is None:
            return
        file = self._logs / f"{machine_id}.left.json"
        with suppress(OSError):
            if not now.job and not now.hot:
                # A line that was lost or left hot has not said that it is cold.
                if now.bed_target_c is not None:
                    file.unlink(missing_ok=True)
                return
            self._logs.mkdir(parents=True, exist_ok=True)
            left = Left(at=datetime.now(UTC), job=now.job, bed_target_c=now.bed_target_c, tip_target_c=now.tip_target_c)
            file.write_text(left.model_dump_json())

    def _left(self, machine_id: str) -> Left | None:
        if self._logs is None:
            return None
        try:
            return Left.model_validate_json((self._logs / f"{machine_id}.left.json").read_text())
        except (OSError, ValidationError):
            return None

    def session_of(self, machine_id: str) -> Session:
        session = self._sessions.get(machine_id)
        if session is None:
            raise Refused("nobody_on_line", "Nobody is on the line. Connect the machine first.")
        return session

    def stop(self, machine_id: str) -> LineStatus:
        self.session_of(machine_id).stop()
        return self.status(machine_id)

    def recover(self, machine_id: str) -> LineStatus:
        try:
            self.session_of(machine_id).recover()
        except LineTrouble as why:
            raise Refused("not_halted", str(why)) from None
        return self.status(machine_id)

    def cancel(self, machine_id: str) -> LineStatus:
        self.session_of(machine_id).cancel()
        return self.status(machine_id)

    def answer(self, machine_id: str, text: str, question: str | None = None) -> LineStatus:
        """Answer the question at hand; with `question`, that one only: a second press is not meant for the next."""
        if not self.session_of(machine_id).answer(text, question):
            raise Refused("not_asked", "The machine is not waiting for that answer now.", "text")
        return self.status(machine_id)

    def start(self, machine_id: str, start_id: str, name: str, job: Job) -> None:
        """Put a job in a machine's queue; the same id again starts nothing."""
        with self._lock:
            if start_id in self._started:
                return
            try:
                self.session_of(machine_id).start(name, job)
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
