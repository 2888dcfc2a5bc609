"""A manner proved on a machine, step by step: on the line, or by hand with what its own screen says."""

import threading
import time
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Annotated

import numpy as np
from pydantic import Field, FiniteFloat

from ivory_table.core.manner import SHIPPED
from ivory_table.core.offset import convention
from ivory_table.core.plate import Machine
from ivory_table.core.teach.catalogue import word, words
from ivory_table.core.teach.proving import Proved, Step, proof_of, step, steps
from ivory_table.core.value import Id, Initials, Note, Value
from ivory_table.link.door import Door
from ivory_table.link.session import Session
from ivory_table.link.trouble import Cancelled, LineTrouble, NotConfirmed, Refusal
from ivory_table.runs.doubts import Refused
from ivory_table.stations.lines import Lines, LineStatus
from ivory_table.stations.mesh_listed import listed_by

from .pages import Pages

#: The step that no job can do: a stop goes past every job.
STOP = "stop"
#: So high above the plate the tip moves while nothing of it is proved.
HIGH_MM, LIFT_MM = 30.0, 10.0
_NEAR_MM = 0.02
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


class Wrong(Exception):
    """What was heard is not what was expected."""


class _Try:
    """One step being tried: tells what is done, asks the person, and gathers what was expected and heard."""

    def __init__(self, session: Session, machine: Machine) -> None:
        self.session, self.machine, self.does = session, machine, session.manner
        self.expected: list[str] = []
        self.heard: list[str] = []

    def send(self, name: str, **values: float | str) -> None:
        line = self.does.send(name, **values)
        self.session.progress(f"sending {line}")
        self.session.ask(line)

    def expect(self, what: str, heard: str, *, ok: bool) -> None:
        self.expected.append(what)
        self.heard.append(heard)
        if not ok:
            raise Wrong

    def seen(self, question: str, expected: str = "", heard: str = "") -> None:
        """Ask the person. `expected` and `heard` are what is kept of it."""
        said = self.session.question(question, ("yes", "no"), "yes_no")
        self.expect(expected or question, f"{heard}: {said}" if heard else said, ok=said == "yes")

    def warmth(self) -> dict[str, float]:
        found = self.session.ask(self.does.send("temperatures"), "temperatures")
        assert found is not None
        return {k: float(v) for k, v in found.items()}

    def at(self, want: tuple[float | None, ...], words: str) -> None:
        if self.does.can("settle"):
            self.session.ask(self.does.send("settle"))
        here = self.session.where()
        ok = all(w is None or abs(w - h) <= _NEAR_MM for w, h in zip(want, here, strict=True))
        self.expect(words, f"x {here[0]:g}, y {here[1]:g}, z {here[2]:g}", ok=ok)

    def homed(self) -> None:
        if not self.session.status.homed:
            raise Wrong("Home it first: the step before this one.")


def _hello(t: _Try) -> None:
    now = t.warmth()
    found = f"plate {now['bed']:g} °C, told {now['bed_target']:g}; tip {now['tip']:g} °C, told {now['tip_target']:g}"
    t.seen(f"It says: {found}. Is that so?", "plate and tip as they are", found)


def _error(t: _Try) -> None:
    try:
        t.session.ask("NOSUCHWORD")
    except Refusal as why:
        t.expect("a refusal in its own words", str(why), ok=True)
        return
    t.expect("a refusal in its own words", "it confirmed it", ok=False)


def _where(t: _Try) -> None:
    x, y, z = t.session.where()
    found = f"X {x:g}, Y {y:g}, Z {z:g}"
    t.seen(f"It says: {found}. Is that what its own screen says?", "where its own screen says", found)


def _heats(heater: str) -> Callable[[_Try], None]:
    def act(t: _Try) -> None:
        now = round(t.warmth()[heater])
        want = max(now + 2, 25)
        try:
            t.send(f"heat_{heater}", celsius=want)
            told = t.warmth()[f"{heater}_target"]
            t.expect(f"told to hold {want} °C", f"{told:g} °C", ok=abs(told - want) <= 1.0)
        finally:
            t.session.go_on()
            t.send(f"heat_{heater}", celsius=0)
        told = t.warmth()[f"{heater}_target"]
        t.expect("told to hold nothing", f"{told:g} °C", ok=told == 0)

    return act


def _fan(t: _Try) -> None:
    t.send("fan", share=255)
    t.seen("Does the part fan blow?")
    t.send("fan", share=0)
    t.seen("Has it stopped?")


def _home(t: _Try) -> None:
    t.session.question("Is the plate clear, and a hand at the mains switch?", ("go",), "done")
    t.session.home()
    t.seen("Did every axis run to its stop and halt there by itself?")


def _lift(t: _Try) -> None:
    t.homed()
    for z in (LIFT_MM, LIFT_MM + 1, LIFT_MM):
        t.send("height", z=z, feed=300)
        t.at((None, None, z), f"z {z:g}")
    t.seen("Did the tip lift, then a millimetre more, and come back by it?")


def _move(t: _Try) -> None:
    t.homed()
    x, y = t.machine.plates[0].centre
    t.send("height", z=HIGH_MM, feed=600)
    for place in ((x, y), (x + 20, y + 10)):
        t.send("move", x=place[0], y=place[1], feed=2400)
        t.at((place[0], place[1], HIGH_MM), f"x {place[0]:g}, y {place[1]:g}")
    t.seen("Is the tip 20 mm to the right of the middle of the plate, and 10 mm back?")


def _trigger(t: _Try) -> None:
    for state, do, kind in (("open", "", ""), ("closed", "Touch the probe and keep it touched.", "touch"), ("open", "Let go of it.", "release")):  # fmt: skip
        if do:
            t.session.question(do, ("done",), kind)
        found = t.session.ask(t.does.send("trigger"), "trigger")
        heard = found["state"] if found else "nothing"
        t.expect({"open": "not touched", "closed": "touched"}[state], heard, ok=heard == state)


def _probe(t: _Try) -> None:
    t.homed()
    x, y = t.machine.plates[0].centre
    t.send("height", z=HIGH_MM, feed=600)
    t.session.question(
        "A hand at the mains switch, a finger ready beside the probe: it comes down slowly.", ("go",), "done"
    )
    found = t.session.ask(t.does.send("probe", x=x, y=y), "touched")
    heard = "it met nothing" if found is None or "z" not in found else f"z {float(found['z']):g}"
    t.send("height", z=HIGH_MM, feed=600)
    if found is None or "z" not in found:
        t.expect("a height where the finger touched it", heard, ok=False)
    t.seen(f"It says it touched at {heard}. Did it halt at your finger, about as high as that?")


def _mesh_read(t: _Try) -> None:
    try:
        rows = np.array(listed_by(t.session))
    except Refused as why:
        t.expect("a mesh as it lists it", str(why), ok=False)
        return
    found = (
        f"{rows.shape[1]} by {rows.shape[0]} points: front left {rows[0, 0]:+.3f}, front right {rows[0, -1]:+.3f}, "
        f"back left {rows[-1, 0]:+.3f} mm"
    )
    t.seen(f"It lists {found}. Is that your plate?", "the mesh of this plate", found)


def _mesh_switch(t: _Try) -> None:
    for name in ("mesh_on", "mesh_off"):
        if t.does.can(name):
            t.send(name)
            t.expect(f"it takes {name.replace('_', ' ')}", "taken", ok=True)


def _stored(t: _Try) -> float:
    how = convention(t.machine.convention, t.does)
    found = t.session.ask(how.read, "stored")
    assert found is not None
    return float(found["value"])


def _offset_read(t: _Try) -> None:
    found = f"{_stored(t):g} mm"
    t.seen(f"It says that {found} is stored. Is that so?", "the stored value as it is", found)


def _offset_same(t: _Try) -> None:
    how, before = convention(t.machine.convention, t.does), _stored(t)
    for line in how.lines(before):
        t.session.progress(f"sending {line}")
        t.session.ask(line)
    after = _stored(t)
    t.expect(f"{before:g} mm, as before", f"{after:g} mm", ok=abs(after - before) < 1e-4)


def _limit(t: _Try) -> None:
    t.send("limit_open", lowest=-0.1)
    if t.does.can("limit_close"):
        t.send("limit_close")
    t.expect("it takes both", "taken", ok=True)


def _live(t: _Try) -> None:
    if t.does.can("speed"):
        t.send("speed", percent=100)
    if t.does.can("nudge"):
        t.send("nudge", away=0.05)
        t.send("nudge", away=-0.05)
    t.expect("it takes them", "taken", ok=True)


def _person(t: _Try) -> None:
    if t.does.can("message"):
        t.send("message", text="Ivory Table says hello")
        t.seen("Does its screen say “Ivory Table says hello”?")
    if t.does.can("tone"):
        t.send("tone", hertz=880, milliseconds=300)
        t.seen("Did you hear it?")


_ACTS: dict[str, Callable[[_Try], None]] = {
    "hello": _hello,
    "error": _error,
    "where": _where,
    "heat_bed": _heats("bed"),
    "heat_tip": _heats("tip"),
    "fan": _fan,
    "home": _home,
    "lift": _lift,
    "move": _move,
    "trigger": _trigger,
    "probe": _probe,
    "mesh_read": _mesh_read,
    "mesh_switch": _mesh_switch,
    "offset_read": _offset_read,
    "offset_same": _offset_same,
    "limit": _limit,
    "live": _live,
    "person": _person,
}
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
        trying = _Try(session, machine)
        ok, why = False, ""
        try:
            _ACTS[what.id](trying)
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
