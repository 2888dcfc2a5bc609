"""One session on one line: sends, waits for what the machine says, and knows when it no longer knows.

A reader thread hears; a worker thread runs one job after another, each a function that asks
line by line. A stop is written past both at once. After `lost` or `halted` the position is
unknown, every job is dropped, and nothing moves until a person says so.
"""

import logging
import queue
import threading
import time
from collections import deque
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

import serial

from ivory_table.core.manner import Heard, Manner
from ivory_table.link.conversation import Conversation
from ivory_table.link.greeting import greet, wake
from ivory_table.link.ports import QUIET_S
from ivory_table.link.status import Status
from ivory_table.link.trouble import Cancelled, LineTrouble, NotConfirmed, Refusal

MOST_JOBS = 8
POLL_S = 1.0
#: So long a machine may take to confirm, at the end, that its heaters are off.
SWITCH_OFF_S = 8.0

Job = Callable[["Session"], None]


@dataclass
class _Waiting:
    event: threading.Event = field(default_factory=threading.Event)
    answer: str = ""


class Session(Conversation):
    """A conversation with work to do: jobs one after another, and a person who answers, cancels and stops."""

    def __init__(
        self,
        port: serial.SerialBase,
        manner: Manner,
        log: Path | None = None,
        *,
        pace: float = 1.0,
        changed: Callable[[], None] = lambda: None,
        heat_changed: Callable[[Status], None] = lambda _: None,
        met: Job = lambda _: None,
    ) -> None:
        super().__init__(port, manner, log, pace=pace, changed=changed, heat_changed=heat_changed)
        self._jobs: queue.Queue[tuple[str, Job]] = queue.Queue(maxsize=MOST_JOBS)
        self._cancel = threading.Event()
        self._waiting: _Waiting | None = None
        #: What the person wants changed while a job runs: (kind, value), taken by the job between two lines.
        self.live_changes: deque[tuple[str, float]] = deque()
        #: What is asked of the machine once it has answered, before anything else.
        self._met = met
        self._worker = threading.Thread(target=self._work, daemon=True)
        self._reader.start()
        self._worker.start()

    @property
    def status(self) -> Status:
        with self._status_lock:
            return self._status.model_copy(update={"queued": self._jobs.unfinished_tasks})

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
        self._drop_work()
        self._cancel.set()
        self._leave_question()
        self._changed()

    def stop(self) -> None:
        """Past the queue, at once: the machine is told to stop where it is."""
        with suppress(LineTrouble):
            self.write(self.manner.line.stop, dress=False)
        self._drop_work()
        self.set(
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
        self._jobs.put_nowait(("", wake))

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
            self.set(state="busy", question="", answers=(), question_kind="")
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
        self._drop_work()
        self._cancel.set()
        self._leave_question()
        self._end.set()
        # So that it sees it at once.
        with suppress(queue.Full):
            self._jobs.put_nowait(("", lambda _: None))
        if threading.current_thread() is not self._worker:
            self._worker.join(3)
        self.hang_up()
        if self._status.state != "lost":
            self.set(state="nobody", words="", homed=False)

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
                self.write(self.manner.send("heat_tip", celsius=0))
                self.write(self.manner.send("heat_bed", celsius=0))

    # For jobs, on the worker's thread

    def heaters_off(self) -> None:
        self.ask(self.manner.send("heat_tip", celsius=0))
        self.ask(self.manner.send("heat_bed", celsius=0))
        self.set(bed_target_c=0.0, tip_target_c=0.0, heat_words="")

    def ask(self, line: str, wants: str = "", limit_s: float = 1200.0) -> Heard | None:
        """Send one line and wait for its acknowledgement; the reply it `wants`, as `Manner.hears`.

        Any sign of life prolongs the wait, up to `limit_s`. Raises Cancelled, Lost,
        HaltedByMachine, Refusal or NotConfirmed.
        """
        if self._cancel.is_set():
            raise Cancelled("Cancelled.")
        self.still_there()
        try:
            return self.converse(line, wants, limit_s)
        except TimeoutError:
            self.is_anybody_there(line)
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
        """Wait for the person, as long as it takes. Raises Cancelled; what was answered before that counts, and what follows is cancelled."""
        waiting = _Waiting()
        with self._status_lock:
            # A stop may have come in between: what it said is not to be written over.
            self.still_there()
            before = self._status
            self._waiting = waiting
            self.set(state="waiting", question=text, answers=answers, question_kind=kind)
        while not self._cancel.is_set() and not waiting.event.wait(POLL_S):
            self._poll()
        with self._status_lock:
            self._waiting = None
            state = self._status.state
            self.set(state="busy" if state == "waiting" else state, question="", answers=(), question_kind="")
        if not waiting.answer:
            self.still_there()
            raise Cancelled(f"Cancelled at: {before.words or text}")
        return waiting.answer

    def progress(self, words: str, share: float | None = None, left_s: float | None = None) -> None:
        with self._status_lock:
            # A stop may have come in between: what it said is not to be written over.
            self.still_there()
            self.set(words=words, share=share, left_s=left_s)

    def pause(self, seconds: float) -> None:
        """Wait on the machine's own clock, listening to its heat."""
        ends = self.now_s() + seconds
        while (left := ends - self.now_s()) > 0:
            if self._cancel.is_set():
                raise Cancelled("Cancelled.")
            self.still_there()
            self._poll()
            time.sleep(min(max(left / self.pace, 0.01), 0.5))

    def go_on(self) -> None:
        """After a cancel: what the job still does to leave the machine safe is not cancelled as well."""
        self._cancel.clear()

    def home(self) -> None:
        self.ask(self.manner.send("home"))
        self.set(homed=True)
        self.where()

    def where(self) -> tuple[float, float, float]:
        """Where the machine says it is."""
        found = self.ask(self.manner.send("where"), "position")
        assert found is not None
        at = (float(found["x"]), float(found["y"]), float(found["z"]))
        self.set(position_mm=at)
        return at

    def noted(self) -> None:
        """Something was kept of this line beside its jobs: whoever looks shall look again."""
        with self._status_lock:
            self.set(done=self._status.done + 1)

    def motors_released(self) -> None:
        self.set(homed=False)

    # Below

    def _drop_work(self) -> None:
        while not self._jobs.empty():
            try:
                self._jobs.get_nowait()
                self._jobs.task_done()
            except queue.Empty:
                break

    def _work(self) -> None:
        self._run("", greet)
        if self._status.state == "idle":
            self._run("", self._met)
        while not self._end.is_set():
            try:
                name, job = self._jobs.get(timeout=POLL_S / 2)
            except queue.Empty:
                self._poll()
                continue
            if self._end.is_set():
                break
            self._run(name, job, taken=self._jobs.task_done)

    def _run(self, name: str, job: Job, taken: Callable[[], None] = lambda: None) -> None:
        self._cancel.clear()
        self.live_changes.clear()
        # Together: between the two a job taken up would be neither waiting nor at hand, and seem done.
        with self._status_lock:
            taken()
            if name:
                self.set(state="busy", job=name, words=name, share=None, left_s=None)
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
                self.set(state="idle", done=done, job="", words=words, share=None, left_s=None, question="", answers=())

    def _poll(self) -> None:
        """While nothing is asked of it: the machine's heat, and whether it is still there."""
        if self._status.state not in ("idle", "waiting", "busy"):
            return
        try:
            self.converse(self.manner.send("temperatures"), "temperatures", 60.0)
        except TimeoutError:
            with suppress(LineTrouble):
                self.is_anybody_there(self.manner.send("temperatures"))
        except LineTrouble:
            pass
