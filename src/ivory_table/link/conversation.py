"""Talking with one machine: a line out, what comes back, and what that says of the machine.

A reader thread hears all the time. After `lost` or `halted` the position is unknown.
"""

import logging
import queue
import threading
import time
from collections import deque
from collections.abc import Callable
from contextlib import suppress
from logging.handlers import RotatingFileHandler
from pathlib import Path
from typing import Literal

import serial

from ivory_table.core.manner import Heard, Manner
from ivory_table.link.status import Status, Warmth
from ivory_table.link.trouble import HaltedByMachine, Lost, NotConfirmed, Refusal

#: A machine that asks for the same line again so often does not get it.
MOST_AGAIN = 8
#: A reply of one kind reaches over so many lines at most.
MOST_LINES = 12
#: So many lines of one answer are kept.
MOST_ANSWER = 1000
LOG_BYTES = 2_000_000

#: Replies that say something, in the order in which they are tried.
ANSWERS = ("temperatures", "position", "touched", "missed", "mesh_row", "trigger", "stored", "counter")


class Conversation:
    """`port` is an open line; `changed` is called, from any thread, whenever the status is another.

    `heat_changed` is called with it whenever another job is at work or a heater is told something else.
    """

    def __init__(
        self,
        port: serial.SerialBase,
        manner: Manner,
        log: Path | None,
        *,
        pace: float,
        changed: Callable[[], None],
        heat_changed: Callable[[Status], None],
    ) -> None:
        self.manner, self.pace = manner, pace
        self._port, self._changed, self._heat_changed = port, changed, heat_changed
        #: Many boards start anew when their serial port is opened; nobody does when a connection over a network is.
        self.may_restart = isinstance(port, serial.Serial)
        self._status = Status(state="connecting", words="Waiting for the machine to answer.")
        self.inbox: queue.Queue[tuple[str, Heard]] = queue.Queue(maxsize=1000)
        self._write_lock, self._status_lock = threading.Lock(), threading.RLock()
        #: Replies of a kind, and every line of an answer, gathered while one line is asked.
        self._gathered: tuple[str, list[Heard]] | None = None
        self._lines: list[str] | None = None
        #: The kind of reply that is waited for: it is tried first, for replies that look alike.
        self._wanted = ""
        self._before: deque[str] = deque(maxlen=MOST_LINES)
        self._number = 0
        self._end = threading.Event()
        self._sign = time.monotonic()
        #: How often the machine has said that it has halted.
        self.halts = 0
        self.warmth: deque[Warmth] = deque(maxlen=3600)
        self._began = time.monotonic()
        self._log = _log_to(log) if log is not None else None
        self._reader = threading.Thread(target=self._read, daemon=True)

    def _drop_work(self) -> None:
        """Nothing that was to be done is done any more."""

    def _leave_question(self) -> None:
        """Nobody answers any more: whoever waits for it is let go."""

    @property
    def status(self) -> Status:
        with self._status_lock:
            return self._status

    @property
    def over(self) -> bool:
        """Whether this session has ended for good and a new one is needed."""
        return self._end.is_set()

    def now_s(self) -> float:
        """The machine's own time: a practice machine in fast time lives faster."""
        return (time.monotonic() - self._began) * self.pace

    def converse(self, line: str, wants: str, limit_s: float, *, patient: bool = False) -> Heard | None:
        self._wanted = wants or (self._gathered[0] if self._gathered else "")
        while not self.inbox.empty():
            self.inbox.get_nowait()
        dressed = self.write(line)
        began = self._sign = time.monotonic()
        found: Heard | None = None
        error = ""
        again = 0
        confirmed = False

        def refuse() -> None:
            if "home first" in error:
                self.set(homed=False)
            raise Refusal(f"The machine answered '{line}' with: {error}. Nothing was moved by it.")

        while True:
            try:
                kind, match = self.inbox.get(timeout=0.05)
            except queue.Empty:
                self.still_there()
                now = time.monotonic()
                if now - self._sign > self.manner.line.silence_s or now - began > limit_s:
                    raise TimeoutError from None
                continue
            if kind == "ack":
                confirmed = True
                if error:
                    refuse()
                if not wants or found is not None:
                    return found
                if not patient and not self.manner.line.answers_after_ack:
                    raise NotConfirmed(f"The machine confirmed '{line}' but did not say what was asked. Try again.")
            elif kind == wants or (wants == "touched" and kind == "missed"):
                found = match
                if confirmed and self.manner.line.answers_after_ack:
                    return found
            elif self._gathered is not None and kind == self._gathered[0]:
                self._gathered[1].append(match)
            elif kind == "error":
                error = match["text"]
                if self.manner.line.error_ends:
                    refuse()
            elif kind == "again":
                again += 1
                if again > MOST_AGAIN:
                    self.lose(
                        "The machine keeps asking for lines again: the line is disturbed. Check the cable, "
                        "keep it away from the heaters' leads, then connect again."
                    )
                if int(match["line"]) == self._number:
                    self._write_raw(dressed)
            elif kind == "halt" and self._status.state == "connecting":
                self.fall("halted", f"The machine is halted: {match['text']}. Look at it, recover it, then home first.")
                self.still_there()
            elif kind in ("halt", "ready"):
                self.still_there()

    def heard_one_of(self, kinds: tuple[str, ...], seconds: float) -> bool:
        """Whether one of these is said within so long; whatever else is said meanwhile goes by."""
        ends = time.monotonic() + seconds
        while (left := ends - time.monotonic()) > 0:
            try:
                if self.inbox.get(timeout=left)[0] in kinds:
                    return True
            except queue.Empty:
                break
        return False

    def is_anybody_there(self, line: str) -> None:
        """A line went unconfirmed. Ask where the machine is; its answer decides."""
        try:
            found = self.converse(self.manner.send("where"), "position", 3 * self.manner.line.silence_s, patient=True)
        except TimeoutError:
            self.lose(
                f"The machine has been silent since '{line}'. Look at it, check cable and power, connect again, "
                "and home before anything else."
            )
        assert found is not None
        self.set(position_mm=(float(found["x"]), float(found["y"]), float(found["z"])))
        raise NotConfirmed(
            f"The machine did not confirm '{line}' in time, but it answers. Nothing was entered for it: "
            "look where the tip is, then repeat the step."
        )

    def still_there(self) -> None:
        """Raises Lost or HaltedByMachine where there is nobody to talk to any more."""
        state = self._status.state
        if state == "lost":
            raise Lost(self._status.words)
        if state == "halted":
            raise HaltedByMachine(self._status.words)
        if self._end.is_set():
            raise Lost("The line was closed.")

    def write(self, line: str, *, dress: bool = True) -> bytes:
        text = line
        if dress and self.manner.line.numbered:
            if self.manner.line.renumber and line.startswith(self.manner.line.renumber):
                self._number = 0
            else:
                self._number += 1
            text = self.manner.line.dressed(line, self._number)
        data = text.encode("ascii", "replace") + b"\n"
        self._write_raw(data)
        return data

    def _write_raw(self, data: bytes) -> None:
        self._note("sent", data.decode("ascii").rstrip())
        try:
            with self._write_lock:
                self._port.write(data)
        except (serial.SerialException, OSError):
            self.lose("The line broke while sending. Check cable and power, connect again, home first.")

    def _read(self) -> None:
        rest = b""
        while not self._end.is_set():
            try:
                data = self._port.read(
                    max(1, min(self._port.in_waiting, 4096)) if hasattr(self._port, "in_waiting") else 1
                )
            except (serial.SerialException, OSError, TypeError, AttributeError, ValueError):
                if not self._end.is_set():
                    self._gone()
                return
            if not data:
                # A prompt that confirms may stand there without an end of line.
                if rest and self.manner.hears("ack", rest.decode("ascii", "replace").strip()) is not None:
                    self._hear(rest.decode("ascii", "replace").strip())
                    rest = b""
                continue
            # A line ends with either, or with both.
            *lines, rest = (rest + data).replace(b"\r", b"\n").split(b"\n")
            if len(rest) > 4096:
                rest = b""
            for line in lines:
                self._hear(line.decode("ascii", "replace").strip())

    def _gone(self) -> None:
        if self._status.state == "connecting":
            words = "The line was closed before the machine answered. Is another program or server connected to it?"
        else:
            words = (
                "The machine is gone from the line in the middle of things: position unknown. Check cable and power, "
                "connect again, home first."
            )
        self.fall("lost", words)
        self._end.set()
        self._port.close()

    def _hear(self, line: str) -> None:
        """One line from the machine. What no pattern fits is noted and otherwise ignored."""
        self._note("heard", line)
        if not line:
            return
        before = tuple(self._before)
        self._before.append(line)
        if self._lines is not None and len(self._lines) < MOST_ANSWER:
            rest = self.manner.unconfirmed(line)
            if rest and not any(self.manner.hears(kind, line) for kind in ("alive", "again", "error", "halt", "ready")):
                self._lines.append(rest)

        def hears(kind: str) -> Heard | None:
            return self.manner.hears(kind, line, before)

        told = "missed" if self._wanted == "touched" and hears("missed") is not None else self._wanted
        for kind in dict.fromkeys((told, *ANSWERS)):
            if kind and (match := hears(kind)) is not None:
                self._sign = time.monotonic()
                if kind == "temperatures":
                    self._felt_heat(match)
                self._put(kind, match)
                # Some machines answer and confirm in one line.
                if (confirmed := hears("ack")) is not None:
                    self._put("ack", confirmed)
                return
        if (match := hears("ack")) is not None:
            self._sign = time.monotonic()
            self._put("ack", match)
            return
        if hears("alive") is not None:
            self._sign = time.monotonic()
            return
        for kind in ("again", "error"):
            if (match := hears(kind)) is not None:
                self._put(kind, match)
                return
        if (match := hears("halt")) is not None:
            self.halts += 1
            # While connecting, an old one may still be on its way: the greeting asks for itself.
            if self._status.state not in ("halted", "connecting"):
                self.fall("halted", f"The machine halted: {match['text']}. Look at it, recover it, then home first.")
            self._put("halt", match)
        elif (match := hears("ready")) is not None:
            if self._status.state not in ("connecting", "halted", "lost"):
                self.fall(
                    "halted",
                    "The machine restarted by itself: heaters off, position unknown. Look for the reason (power, "
                    "cable), recover it, then home first.",
                )
            self._put("ready", match)

    def _put(self, kind: str, match: Heard) -> None:
        with suppress(queue.Full):
            self.inbox.put_nowait((kind, match))

    def _felt_heat(self, match: Heard) -> None:
        bed, tip = float(match["bed"]), float(match["tip"])
        now = self.now_s()
        if not self.warmth or now - self.warmth[-1].at_s >= 1.0:
            self.warmth.append(Warmth(now, bed, tip))
        self.set(bed_c=bed, tip_c=tip, bed_target_c=float(match["bed_target"]), tip_target_c=float(match["tip_target"]))

    def fall(self, state: Literal["lost", "halted"], words: str) -> None:
        """Something happened that ends every job: nothing moves again without the person."""
        self._drop_work()
        self.set(state=state, words=words, homed=False, question="", answers=(), share=None, left_s=None, job="")
        self._leave_question()

    def lose(self, words: str) -> None:
        self.fall("lost", words)
        self._end.set()
        self._port.close()
        raise Lost(words)

    def set(self, **changes: object) -> None:
        with self._status_lock:
            fresh = self._status.model_copy(update=changes)
            if fresh == self._status:
                return
            if not fresh.hot and fresh.bed_target_c is not None:
                fresh = fresh.model_copy(update={"heat_words": ""})
            before, self._status = self._status, fresh
        kept = ("job", "bed_target_c", "tip_target_c")
        if any(getattr(before, name) != getattr(fresh, name) for name in kept):
            self._heat_changed(fresh)
        self._changed()

    def _note(self, way: str, line: str) -> None:
        if self._log:
            self._log.info("%s %s", way, line)

    def hang_up(self) -> None:
        """Let go of the port and of the record."""
        # A serial device is another's again once nobody listens to it any more: whoever comes next must not find it in use.
        if self._reader.is_alive() and threading.current_thread() is not self._reader:
            self._reader.join(1)
        self._port.close()
        if self._log:
            for handler in list(self._log.handlers):
                handler.close()
                self._log.removeHandler(handler)


def _log_to(file: Path) -> logging.Logger:
    """Everything sent and received, with times; the file is turned over before it grows large."""
    file.parent.mkdir(parents=True, exist_ok=True)
    log = logging.getLogger(f"ivory_table.line.{file}")
    log.propagate = False
    log.setLevel(logging.INFO)
    for handler in list(log.handlers):
        handler.close()
        log.removeHandler(handler)
    handler = RotatingFileHandler(file, maxBytes=LOG_BYTES, backupCount=2, encoding="utf-8")
    handler.setFormatter(logging.Formatter("%(asctime)s.%(msecs)03dZ %(message)s", "%Y-%m-%dT%H:%M:%S"))
    handler.formatter.converter = time.gmtime  # type: ignore[union-attr]
    log.addHandler(handler)
    return log
