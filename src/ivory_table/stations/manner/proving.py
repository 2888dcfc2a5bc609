"""A manner proved on a machine, step by step: on the line, or by hand with what its own screen says."""

import threading
import time
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Annotated

from pydantic import Field, FiniteFloat

from ivory_table.core.manner import SHIPPED
from ivory_table.core.plate import Machine
from ivory_table.core.teach.catalogue import word, words
from ivory_table.core.teach.proving import Proved, Step, proof_of, step, steps
from ivory_table.core.value import Id, Initials, Note, Value
from ivory_table.link.door import Door
from ivory_table.link.session import Session
from ivory_table.link.trouble import Cancelled, LineTrouble, NotConfirmed, Refusal
from ivory_table.runs.doubts import Refused
from ivory_table.stations.lines import Lines, LineStatus
from ivory_table.stations.manner.proving_acts import ACTS, Try, Wrong

from .pages import Pages

#: The step that no job can do: a stop goes past every job.
STOP = "stop"
#: So long a machine may take to come back from a stop.
_HALTS_S, _BACK_S = 5.0, 60.0


class StepView(Value):
    """One step on the page: what happens, and what came of it."""

    step: Step
    #: What a machine without these words cannot be proved of; empty where it can.
    why_not: str
    #: "proved" with every word as it stands now, "failed", "changed" since, or "not proved".
    state: str
    proved: Proved | None


class ProvingView(Value):
    status: LineStatus
    steps: tuple[StepView, ...]
    #: Words of the manner in use that were never proved on this machine, or have changed since.
    unproved: tuple[str, ...]


class StartStep(Value):
    id: Id
    by: Initials


class ByHand(Value):
    """What came of a step where the machine is on no line: right or not, and what its own screen said."""

    by: Initials
    ok: bool
    read: Annotated[dict[str, FiniteFloat], Field(max_length=6)] = {}
    words: Note = ""


#: Without these a step makes no sense; of the others it tries what there is.
_MUST = {"stop": ("line.stop",), "lift": ("does.height",)}


class Proving:
    """The steps of proving a machine's manner. `pages` knows the manners, `lines` the machines on the line."""

    def __init__(self, pages: Pages, lines: Lines) -> None:
        self.pages, self.lines = pages, lines
        self.workshop = pages.workshop

    def view(self, machine_id: str) -> ProvingView:
        machine = self.workshop.machine(machine_id)
        texts = self._texts(machine)
        tried = self.workshop.teachings.proved(machine.manner, machine_id)
        found = tuple(StepView(step=s, **_state(s, texts, tried, machine)) for s in steps())
        return ProvingView(status=self.lines.status(machine_id), steps=found, unproved=unproved(self.pages, machine))

    def start(self, machine_id: str, step_id: str, wanted: StartStep) -> ProvingView:
        """Try one step on the line. Raises Refused for one that cannot be tried."""
        machine, what = self.workshop.machine(machine_id), self._step(step_id)
        self._refuse(machine, what)
        if step_id == STOP:
            self._stop(machine, wanted.by)
        else:

            def job(session: Session) -> None:
                self._try(session, machine, what, wanted.by)

            self.lines.start(machine_id, wanted.id, what.name, job)
        return self.view(machine_id)

    def by_hand(self, machine_id: str, step_id: str, given: ByHand) -> ProvingView:
        """What a person found who tried it at the machine itself."""
        machine, what = self.workshop.machine(machine_id), self._step(step_id)
        if given.ok and (missing := set(what.reads) - set(given.read)):
            raise Refused("read_missing", "Type what its own screen says.", sorted(missing)[0])
        heard = (
            ", ".join(f"{k} {v:g}" for k, v in given.read.items())
            or given.words
            or ("right" if given.ok else "not right")
        )
        self._keep(machine, what, given.by, given.ok, what.by_hand, heard, "hand")
        return self.view(machine_id)

    def practise(self, machine_id: str) -> None:
        """The person at a practice machine answers the question at hand. Raises Refused where there is none."""
        machine = self.workshop.machine(machine_id)
        status = self.lines.status(machine_id)
        at = self.lines.doors.address(machine_id) if machine.practice and self.lines.doors else None
        if status.state != "waiting" or at is None:
            raise Refused("not_asked", "The machine is not waiting for an answer.")
        with self.lines.practising:
            if status.question_kind in ("touch", "release"):
                Door(at.door).touch_probe(status.question_kind == "touch")
            self.lines.answer(machine_id, status.answers[0], status.question)

    # Below

    def _step(self, step_id: str) -> Step:
        try:
            return step(step_id)
        except ValueError as wrong:
            raise Refused("no_step", str(wrong), "step") from None

    def _texts(self, machine: Machine) -> dict[str, str]:
        try:
            return self.pages.teaching(machine.manner, machine.convention).texts
        except Refused:
            return {}

    def _refuse(self, machine: Machine, what: Step) -> None:
        why = _state(what, self._texts(machine), (), machine)["why_not"]
        if why:
            raise Refused("cannot_try", str(why), "step")

    def _try(self, session: Session, machine: Machine, what: Step, by: str) -> None:
        trying = Try(session, machine)
        ok, why = False, ""
        try:
            ACTS[what.id](trying)
            ok = True
        except Cancelled:
            raise
        except Wrong as wrong:
            why = str(wrong)
        except (Refusal, NotConfirmed) as trouble:
            why = str(trouble)
        finally:
            if ok or why or trying.heard:
                heard = "; ".join([*trying.heard, *([why] if why else [])])
                self._keep(machine, what, by, ok, "; ".join(trying.expected) or what.before, heard, "line")
        session.progress(f"{what.name}: {'proved' if ok else 'not as it should be'}.")

    def _stop(self, machine: Machine, by: str) -> None:
        """Stopped and woken; what is heard on the way decides."""
        session = self.lines.session_of(machine.id)
        if session.status.state != "idle":
            raise Refused("line_not_ready", "Let the machine finish first.", "step")
        before = session.halts
        session.stop()

        def until(true: Callable[[], bool], seconds: float) -> bool:
            ends = time.monotonic() + seconds
            while not true() and time.monotonic() < ends:
                time.sleep(0.05)
            return true()

        def wake() -> None:
            said = until(lambda: session.halts > before, _HALTS_S)
            heard = "it said that it has halted" if said else "it did not say that it has halted"
            back = False
            try:
                session.recover()
                back = until(lambda: session.status.state not in ("halted", "connecting"), _BACK_S)
                back = back and session.status.state == "idle"
                heard += ", and came back" if back else f"; {session.status.words}"
            except LineTrouble as why:
                heard += f"; {why}"
            self._keep(
                machine, step(STOP), by, said and back, "it says that it has halted, and comes back", heard, "line"
            )
            session.noted()

        threading.Thread(target=wake, name="prove-stop", daemon=True).start()

    def _keep(self, machine: Machine, what: Step, by: str, ok: bool, expected: str, heard: str, how: str) -> None:
        texts = self._texts(machine)
        proved = Proved(
            step=what.id,
            ok=ok,
            at=datetime.now(UTC),
            by=by,
            how="line" if how == "line" else "hand",
            expected=expected[:2000],
            heard=heard[:2000],
            texts={w: texts[w] for w in what.words if texts.get(w)},
        )
        self.workshop.teachings.keep_proved(machine.manner, machine.id, proved)


def _state(s: Step, texts: dict[str, str], tried: tuple[Proved, ...], machine: Machine) -> dict[str, object]:
    there = [w for w in s.words if texts.get(w)]
    must = _MUST.get(
        s.id, s.words if s.id not in ("hello", "offset_same", "mesh_switch", "live", "person", "limit") else ()
    )
    missing = next((w for w in must if not texts.get(w)), None)
    why_not = ""
    if not there:
        why_not = "This machine has no words for it."
    elif missing is not None:
        why_not = f"It cannot be tried yet: teach “{word(missing).name.lower()}” first."
    elif s.id in ("trigger", "probe") and machine.probe is None:
        why_not = f"{machine.name} has no probe."
    newest = next((p for p in reversed(tried) if p.step == s.id), None)
    state = "not proved"
    if newest is not None:
        same = newest.texts == {w: texts[w] for w in there}
        state = ("proved" if newest.ok else "failed") if same else "changed"
    return {"why_not": why_not, "state": state, "proved": newest}


def unproved(pages: Pages, machine: Machine, who: str = "") -> tuple[str, ...]:
    """Names of the words, of one station or of all, that were not proved on a machine as they stand now.

    What came with the application is the practice machines' own.
    """
    if machine.practice and machine.manner in SHIPPED:
        return ()
    try:
        texts = pages.teaching(machine.manner, machine.convention).texts
    except Refused:
        return ()
    tried = pages.workshop.teachings.proved(machine.manner, machine.id)
    can = {w for s in steps() for w in s.words}
    out = []
    for w in words():
        text = texts.get(w.id, "")
        if not text or w.id not in can or (who and not {who, "every station"} & set(w.who)):
            continue
        found = proof_of(w.id, text, tried)
        if found is None or not found.ok:
            out.append(w.name.lower())
    return tuple(out)
