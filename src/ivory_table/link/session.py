"""One session on one line: sends, waits for what the machine says, and knows when it no longer knows.

A reader thread hears; a worker thread runs one job after another, each a function that asks
line by line. A stop is written past both at once. After `lost` or `halted` the position is
unknown, every job is dropped, and nothing moves until a person says so.
"""

import logging
import queue
import re
import threading
import time
from collections import deque
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from logging.handlers import RotatingFileHandler
from pathlib import Path
from typing import Literal

import serial

from ivory_table.core.manner import Heard, Manner
from ivory_table.core.value import Value

LineState = Literal["nobody", "connecting", "idle", "busy", "waiting", "lost", "halted"]

#: A machine that asks for the same line again so often does not get it.
MOST_AGAIN = 8
MOST_JOBS = 8
#: A reply of one kind reaches over so many lines at most.
MOST_LINES = 12
#: So many lines of one answer are kept, and so long nothing comes where an answer has ended.
MOST_ANSWER = 1000
QUIET_S = 0.5
#: So soon a halted machine says that it wakes.
WAKES_S = 1.5
POLL_S = 1.0
#: So long a machine may take to confirm, at the end, that its heaters are off.
SWITCH_OFF_S = 8.0
LOG_BYTES = 2_000_000


#: Replies that say something, in the order in which they are tried.
ANSWERS = ("temperatures", "position", "touched", "missed", "mesh_row", "trigger", "stored")


class LineTrouble(Exception):
    """Why a job ended early; the sentence says what happened and what to do."""


class Cancelled(LineTrouble):
    """The person ended the job between two commands."""


class Lost(LineTrouble):
    """The machine is gone or makes no sense."""


class HaltedByMachine(LineTrouble):
    """The machine halted; only recovering or power brings it back."""


class Refusal(LineTrouble):
    """The machine answered a line with an error."""


class NotConfirmed(LineTrouble):
    """A line was not confirmed in time, but the machine answers."""


class Status(Value):
    """What the page shows of a line."""

    state: LineState = "nobody"
    #: What happened or is being done, and what the person can do.
    words: str = ""
    job: str = ""
    share: float | None = None
    left_s: float | None = None
    question: str = ""
    #: What kind of answer is waited for: a feel, yes or no, a turn; for whoever answers in practice.
    question_kind: str = ""
    answers: tuple[str, ...] = ()
    bed_c: float | None = None
    #: What the heaters are told to hold; None until the machine has said so.
    bed_target_c: float | None = None
    tip_c: float | None = None
    tip_target_c: float | None = None
    #: x, y, z.
    position_mm: tuple[float, ...] | None = None
    homed: bool = False
    queued: int = 0
    #: So many jobs have ended on this line: one may be over before anybody has seen it begin.
    done: int = 0
    #: Heat that nobody here asked for, found on connecting; or how the machine was left, as far as it is known.
    heat_words: str = ""

    @property
    def hot(self) -> bool:
        """Whether a heater is told to hold anything, as far as the machine has said."""
        return bool(self.bed_target_c or self.tip_target_c)


@dataclass(frozen=True)
class Warmth:
    """One report of the heaters, at the machine's own time."""

    at_s: float
    bed_c: float
    tip_c: float


Job = Callable[["Session"], None]


@dataclass
class _Waiting:
    event: threading.Event = field(default_factory=threading.Event)
    answer: str = ""


def open_port(url: str, baud: int = 115200) -> serial.SerialBase:
    """A serial device for ourselves alone, or `socket://host:port`. Raises ValueError with a sentence."""
    if not re.fullmatch(r"socket://[A-Za-z0-9_.\-]+:\d{1,5}|/dev/[A-Za-z0-9_./\-]+|COM\d{1,3}", url) or ".." in url:
        raise ValueError("Give a serial device such as /dev/ttyUSB0 or COM3, or socket://host:port.")
    try:
        if url.startswith("socket://"):
            return serial.serial_for_url(url, timeout=0.1)
        return serial.Serial(url, baud, timeout=0.1, write_timeout=5, exclusive=True)
    except (serial.SerialException, OSError, ValueError) as wrong:
        text = str(wrong)
        if "exclusively lock" in text:
            raise ValueError(f"{url} is in use by another program. Close it there first.") from None
        raise ValueError(
            f"{url} cannot be opened: {text.split(':')[0]}. Check the cable, the name and the rights."
        ) from None


def exchange(port: serial.SerialBase, line: str, limit_s: float = 6.0) -> tuple[str, str]:
    """What a machine says on its own, then what it says to one line, until it is quiet. The port is closed."""

    def until_quiet(first_s: float) -> str:
        said, ends, quiet = b"", time.monotonic() + first_s, 0.0
        while time.monotonic() < ends and len(said) < 40_000:
            data = port.read(4096)
            if data:
                said, quiet = said + data, time.monotonic() + QUIET_S
                ends = max(ends, quiet)
            elif said and time.monotonic() > quiet:
                break
        return said.decode("ascii", "replace").replace("\r", "\n").replace("\n\n", "\n").strip()

    try:
        greeting = until_quiet(2.0)
        port.write(line.encode("ascii", "replace") + b"\n")
        return greeting, until_quiet(limit_s)
    except (serial.SerialException, OSError):
        return "", ""
    finally:
        port.close()


class Session:
    """`port` is an open line; `changed` is called, from any thread, whenever the status is another.

    `heat_changed` is called with it whenever another job is at work or a heater is told something else.
    """

    def __init__(
        self,
        port: serial.SerialBase,
        manner: Manner,
        log: Path | None = None,
        *,
        pace: float = 1.0,
        changed: Callable[[], None] = lambda: None,
        heat_changed: Callable[[Status], None] = lambda _: None,
    ) -> None:
        self.manner, self.pace = manner, pace
        self._heat_changed = heat_changed
        self._port, self._changed = port, changed
        self._status = Status(state="connecting", words="Waiting for the machine to answer.")
        self._inbox: queue.Queue[tuple[str, Heard]] = queue.Queue(maxsize=1000)
        self._jobs: queue.Queue[tuple[str, Job]] = queue.Queue(maxsize=MOST_JOBS)
        self._write_lock, self._status_lock = threading.Lock(), threading.RLock()
        #: Replies of a kind, and every line of an answer, gathered while one line is asked.
        self._gathered: tuple[str, list[Heard]] | None = None
        self._lines: list[str] | None = None
        #: The kind of reply that is waited for: it is tried first, for replies that look alike.
        self._wanted = ""
        self._before: deque[str] = deque(maxlen=MOST_LINES)
        self._number = 0
        self._cancel, self._end = threading.Event(), threading.Event()
        self._waiting: _Waiting | None = None
        self._sign = time.monotonic()
        #: How often the machine has said that it has halted.
        self.halts = 0
        #: What the person wants changed while a job runs: (kind, value), taken by the job between two lines.
        self.live_changes: deque[tuple[str, float]] = deque()
        self.warmth: deque[Warmth] = deque(maxlen=3600)
        self._began = time.monotonic()
        self._log = _log_to(log) if log is not None else None
        self._reader = threading.Thread(target=self._read, daemon=True)
        self._worker = threading.Thread(target=self._work, daemon=True)
        self._reader.start()
        self._worker.start()

    # For whoever looks

    @property
    def status(self) -> Status:
        with self._status_lock:
            return self._status.model_copy(update={"queued": self._jobs.qsize()})

    @property
    def over(self) -> bool:
        """Whether this session has ended for good and a new one is needed."""
        return self._end.is_set()

    def now_s(self) -> float:
        """The machine's own time: a practice machine in fast time lives faster."""
        return (time.monotonic() - self._began) * self.pace

    # For the person

    def start(self, name: str, job: Job) -> None:
        """Put a job in the queue. Raises LineTrouble when nobody is there to do it."""
        state = self.status.state
        if state == "halted":
            raise LineTrouble("The machine has halted. Look at it, recover it, then home first.")
        if state not in ("idle", "busy", "waiting"):
            raise LineTrouble("Nobody is on the line. Connect the machine first.")
        try:
            self._jobs.put_nowait((name, job))
        except queue.Full:
            raise LineTrouble(f"{MOST_JOBS} jobs are waiting already. Let the machine finish, or cancel.") from None
        self._changed()

    def cancel(self) -> None:
        """End what is being done after the command at hand; jobs in the queue are dropped."""
        self._drop_jobs()
        self._cancel.set()
        self._leave_question()
        self._changed()

    def stop(self) -> None:
        """Past the queue, at once: the machine is told to stop where it is."""
        with suppress(LineTrouble):
            self._write(self.manner.line.stop, dress=False)
        self._drop_jobs()
        self._set(
            state="halted",
            words="Stopped. The position is unknown: look at the machine, recover it, home first.",
            homed=False,
        )
        self._leave_question()

    def recover(self) -> None:
        """After a halt: tell the machine to start afresh. It stays where it is until it is homed."""
        if self.status.state != "halted":
            raise LineTrouble("There is nothing to recover from.")
        # On the worker's thread: what it was doing when the machine halted has then ended.
        self._jobs.put_nowait(("", _wake))

    def answer(self, text: str, question: str | None = None) -> bool:
        """Whether the question at hand took this answer; with `question`, only that one takes it.

        A question is answered once: from here on the status no longer shows it.
        """
        with self._status_lock:
            waiting, now = self._waiting, self._status
            if waiting is None or now.state != "waiting" or text not in now.answers:
                return False
            if question not in (None, now.question):
                return False
            self._waiting = None
            self._set(state="busy", question="", answers=(), question_kind="")
        waiting.answer = text
        waiting.event.set()
        return True

    def _leave_question(self) -> None:
        """Nobody answers any more: whoever waits for it is let go."""
        waiting = self._waiting
        if waiting is not None:
            waiting.event.set()

    def close(self, *, heaters_off: bool = False) -> None:
        """Let the machine go. Whatever it was told last, it finishes; with `heaters_off`, its heaters are switched off first."""
        if (
            heaters_off
            and not self._end.is_set()
            and self._status.state in ("idle", "busy", "waiting")
            and self._status.hot
        ):
            self._switch_off()
        self._drop_jobs()
        self._cancel.set()
        self._leave_question()
        self._end.set()
        if threading.current_thread() is not self._worker:
            self._worker.join(3)
        self._port.close()
        if self._status.state not in ("lost",):
            self._set(state="nobody", words="", homed=False)
        if self._log:
            for handler in list(self._log.handlers):
                handler.close()
                self._log.removeHandler(handler)

    def _switch_off(self) -> None:
        """Heaters off as the last job of this line, after what is being done was cancelled."""
        done = threading.Event()

        def off(session: "Session") -> None:
            try:
                session.heaters_off()
            finally:
                done.set()

        if threading.current_thread() is self._worker:
            return
        self.cancel()
        with suppress(queue.Full):
            self._jobs.put_nowait(("", off))
        if not done.wait(SWITCH_OFF_S):
            # It does not come to it: told past the queue, confirmed or not.
            with suppress(LineTrouble):
                self._write(self.manner.send("heat_tip", celsius=0))
                self._write(self.manner.send("heat_bed", celsius=0))

    # For jobs, on the worker's thread

    def heaters_off(self) -> None:
        self.ask(self.manner.send("heat_tip", celsius=0))
        self.ask(self.manner.send("heat_bed", celsius=0))
        self._set(bed_target_c=0.0, tip_target_c=0.0, heat_words="")

    def ask(self, line: str, wants: str = "", limit_s: float = 1200.0) -> Heard | None:
        """Send one line and wait for its acknowledgement; the reply it `wants`, as `Manner.hears`.

        Any sign of life prolongs the wait, up to `limit_s`. Raises Cancelled, Lost,
        HaltedByMachine, Refusal or NotConfirmed.
        """
        if self._cancel.is_set():
            raise Cancelled("Cancelled.")
        self._alive()
        try:
            return self._converse(line, wants, limit_s)
        except TimeoutError:
            self._is_anybody_there(line)
            return None

    def ask_lines(self, line: str, limit_s: float = 60.0) -> list[str]:
        """Send one line; everything that is said until it is acknowledged, as it stands. Raises as `ask` does."""
        lines: list[str] = []
        self._lines = lines
        try:
            self.ask(line, limit_s=limit_s)
            if self.manner.line.answers_after_ack:
                # Nothing says where it ends: it has ended once nothing more comes.
                said = -1
                while said < len(lines):
                    said = len(lines)
                    time.sleep(QUIET_S)
        finally:
            self._lines = None
        return lines

    def ask_all(self, line: str, wants: str, limit_s: float = 60.0) -> list[Heard]:
        """Send one line; every reply of the kind it `wants` until it is acknowledged. Raises as `ask` does."""
        found: list[Heard] = []
        self._gathered = (wants, found)
        try:
            self.ask(line, limit_s=limit_s)
        finally:
            self._gathered = None
        return found

    @property
    def others_wait(self) -> bool:
        """Whether another job is waiting for this one to end."""
        return not self._jobs.empty()

    def question(self, text: str, answers: tuple[str, ...], kind: str = "") -> str:
        """Wait for the person, as long as it takes. Raises Cancelled."""
        waiting = _Waiting()
        with self._status_lock:
            # A stop may have come in between: what it said is not to be written over.
            self._alive()
            before = self._status
            self._waiting = waiting
            self._set(state="waiting", question=text, answers=answers, question_kind=kind)
        while not self._cancel.is_set() and not waiting.event.wait(POLL_S):
            self._poll()
        with self._status_lock:
            self._waiting = None
            state = self._status.state
            self._set(state="busy" if state == "waiting" else state, question="", answers=(), question_kind="")
        if self._cancel.is_set() or not waiting.answer:
            self._alive()
            raise Cancelled(f"Cancelled at: {before.words or text}")
        return waiting.answer

    def progress(self, words: str, share: float | None = None, left_s: float | None = None) -> None:
        with self._status_lock:
            # A stop may have come in between: what it said is not to be written over.
            self._alive()
            self._set(words=words, share=share, left_s=left_s)

    def pause(self, seconds: float) -> None:
        """Wait on the machine's own clock, listening to its heat."""
        ends = self.now_s() + seconds
        while (left := ends - self.now_s()) > 0:
            if self._cancel.is_set():
                raise Cancelled("Cancelled.")
            self._alive()
            self._poll()
            time.sleep(min(max(left / self.pace, 0.01), 0.5))

    def go_on(self) -> None:
        """After a cancel: what the job still does to leave the machine safe is not cancelled as well."""
        self._cancel.clear()

    def home(self) -> None:
        self.ask(self.manner.send("home"))
        self._set(homed=True)
        self.where()

    def where(self) -> tuple[float, float, float]:
        """Where the machine says it is."""
        found = self.ask(self.manner.send("where"), "position")
        assert found is not None
        at = (float(found["x"]), float(found["y"]), float(found["z"]))
        self._set(position_mm=at)
        return at

    def noted(self) -> None:
        """Something was kept of this line beside its jobs: whoever looks shall look again."""
        with self._status_lock:
            self._set(done=self._status.done + 1)

    def motors_released(self) -> None:
        self._set(homed=False)

    # Below

    def _converse(self, line: str, wants: str, limit_s: float, *, patient: bool = False) -> Heard | None:
        self._wanted = wants or (self._gathered[0] if self._gathered else "")
        while not self._inbox.empty():
            self._inbox.get_nowait()
        dressed = self._write(line)
        began = self._sign = time.monotonic()
        found: Heard | None = None
        error = ""
        again = 0
        confirmed = False

        def refuse() -> None:
            if "home first" in error:
                self._set(homed=False)
            raise Refusal(f"The machine answered '{line}' with: {error}. Nothing was moved by it.")

        while True:
            try:
                kind, match = self._inbox.get(timeout=0.05)
            except queue.Empty:
                self._alive()
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
                    self._lose(
                        "The machine keeps asking for lines again: the line is disturbed. Check the cable, "
                        "keep it away from the heaters' leads, then connect again."
                    )
                if int(match["line"]) == self._number:
                    self._write_raw(dressed)
            elif kind == "halt" and self._status.state == "connecting":
                self._fall(
                    "halted", f"The machine is halted: {match['text']}. Look at it, recover it, then home first."
                )
                self._alive()
            elif kind in ("halt", "ready"):
                self._alive()

    def _heard_one_of(self, kinds: tuple[str, ...], seconds: float) -> bool:
        """Whether one of these is said within so long; whatever else is said meanwhile goes by."""
        ends = time.monotonic() + seconds
        while (left := ends - time.monotonic()) > 0:
            try:
                if self._inbox.get(timeout=left)[0] in kinds:
                    return True
            except queue.Empty:
                break
        return False

    def _is_anybody_there(self, line: str) -> None:
        """A line went unconfirmed. Ask where the machine is; its answer decides."""
        try:
            found = self._converse(self.manner.send("where"), "position", 3 * self.manner.line.silence_s, patient=True)
        except TimeoutError:
            self._lose(
                f"The machine has been silent since '{line}'. Look at it, check cable and power, connect again, "
                "and home before anything else."
            )
        assert found is not None
        self._set(position_mm=(float(found["x"]), float(found["y"]), float(found["z"])))
        raise NotConfirmed(
            f"The machine did not confirm '{line}' in time, but it answers. Nothing was entered for it: "
            "look where the tip is, then repeat the step."
        )

    def _alive(self) -> None:
        state = self._status.state
        if state == "lost":
            raise Lost(self._status.words)
        if state == "halted":
            raise HaltedByMachine(self._status.words)
        if self._end.is_set():
            raise Lost("The line was closed.")

    def _write(self, line: str, *, dress: bool = True) -> bytes:
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
            self._lose("The line broke while sending. Check cable and power, connect again, home first.")

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
        self._fall("lost", words)
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
                self._fall("halted", f"The machine halted: {match['text']}. Look at it, recover it, then home first.")
            self._put("halt", match)
        elif (match := hears("ready")) is not None:
            if self._status.state not in ("connecting", "halted", "lost"):
                self._fall(
                    "halted",
                    "The machine restarted by itself: heaters off, position unknown. Look for the reason (power, "
                    "cable), recover it, then home first.",
                )
            self._put("ready", match)

    def _put(self, kind: str, match: Heard) -> None:
        with suppress(queue.Full):
            self._inbox.put_nowait((kind, match))

    def _felt_heat(self, match: Heard) -> None:
        bed, tip = float(match["bed"]), float(match["tip"])
        now = self.now_s()
        if not self.warmth or now - self.warmth[-1].at_s >= 1.0:
            self.warmth.append(Warmth(now, bed, tip))
        self._set(
            bed_c=bed, tip_c=tip, bed_target_c=float(match["bed_target"]), tip_target_c=float(match["tip_target"])
        )

    def _fall(self, state: Literal["lost", "halted"], words: str) -> None:
        """Something happened that ends every job: nothing moves again without the person."""
        self._drop_jobs()
        self._set(state=state, words=words, homed=False, question="", answers=(), share=None, left_s=None, job="")
        self._leave_question()

    def _lose(self, words: str) -> None:
        self._fall("lost", words)
        self._end.set()
        self._port.close()
        raise Lost(words)

    def _drop_jobs(self) -> None:
        while not self._jobs.empty():
            try:
                self._jobs.get_nowait()
            except queue.Empty:
                break

    def _work(self) -> None:
        self._run("", _greet)
        while not self._end.is_set():
            try:
                name, job = self._jobs.get(timeout=POLL_S / 2)
            except queue.Empty:
                self._poll()
                continue
            self._run(name, job)

    def _run(self, name: str, job: Job) -> None:
        self._cancel.clear()
        self.live_changes.clear()
        if name:
            self._set(state="busy", job=name, words=name, share=None, left_s=None)
        words = ""
        try:
            job(self)
        except (Cancelled, Refusal, NotConfirmed) as why:
            words = str(why)
        except LineTrouble:
            return
        except ValueError as wrong:
            words = str(wrong)
        except Exception as wrong:
            # A job's own mistake must not leave a machine that seems busy for ever.
            logging.getLogger(__name__).exception("job %s", name)
            words = str(wrong) or type(wrong).__name__
        with self._status_lock:
            if self._status.state in ("busy", "waiting", "connecting"):
                done = self._status.done + (1 if name else 0)
                self._set(
                    state="idle", done=done, job="", words=words, share=None, left_s=None, question="", answers=()
                )

    def _poll(self) -> None:
        """While nothing is asked of it: the machine's heat, and whether it is still there."""
        if self._status.state not in ("idle", "waiting", "busy"):
            return
        try:
            self._converse(self.manner.send("temperatures"), "temperatures", 60.0)
        except TimeoutError:
            with suppress(LineTrouble):
                self._is_anybody_there(self.manner.send("temperatures"))
        except LineTrouble:
            pass

    def _set(self, **changes: object) -> None:
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


def _wake(session: Session) -> None:
    """Recover a halted machine, then greet it."""
    session._set(state="connecting", words="Waiting for the machine to answer.", homed=False)
    line = session.manner.line
    if line.recover:
        session._write(line.recover, dress=False)
        if line.numbered and not session._heard_one_of(("ready", "ack"), WAKES_S):
            # Some count their lines even then.
            session._write(line.recover)
    _greet(session)


def _greet(session: Session) -> None:
    """Find out whether somebody is there, and in which state."""
    ends, said = time.monotonic() + 1.0, False
    while time.monotonic() < ends:
        # Until it has said what it had to say and is quiet.
        try:
            session._inbox.get(timeout=0.15)
            said = True
        except queue.Empty:
            if said:
                break
        session._alive()
    try:
        try:
            _ask_who_is_there(session)
        except TimeoutError:
            # Silence is only believed of a line that was asked twice.
            _ask_who_is_there(session)
        if session.manner.does.absolute:
            session._converse(session.manner.does.absolute, "", 20.0)
        if session._status.hot:
            told = session._status
            session._set(
                heat_words=f"The machine is heating already: plate to {told.bed_target_c:.0f} °C, tip to "
                f"{told.tip_target_c:.0f} °C. That was not asked for from here."
            )
    except (TimeoutError, NotConfirmed, Refusal):
        if session._status.state == "connecting":
            session._lose(
                f"Nobody on this line answers in the manner '{session.manner.name}'. Check power, the speed of the line, "
                "and whether the manner is this machine's."
            )


def _ask_who_is_there(session: Session) -> None:
    if session.manner.line.renumber:
        session._converse(session.manner.line.renumber, "", 20.0)
    session._converse(session.manner.send("temperatures"), "temperatures", 20.0)


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
