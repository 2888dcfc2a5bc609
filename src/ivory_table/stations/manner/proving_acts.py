"""What each step of proving a manner does with the machine, and what it expects."""

from collections.abc import Callable

import numpy as np

from ivory_table.core.offset import convention
from ivory_table.core.plate import Machine
from ivory_table.link.session import Session
from ivory_table.link.trouble import Refusal
from ivory_table.runs.doubts import Refused
from ivory_table.stations.mesh_listed import listed_by

#: So high above the plate the tip moves while nothing of it is proved.
HIGH_MM, LIFT_MM = 30.0, 10.0
_NEAR_MM = 0.02


class Wrong(Exception):
    """What was heard is not what was expected."""


class Try:
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


def _hello(t: Try) -> None:
    now = t.warmth()
    found = f"plate {now['bed']:g} °C, told {now['bed_target']:g}; tip {now['tip']:g} °C, told {now['tip_target']:g}"
    t.seen(f"It says: {found}. Is that so?", "plate and tip as they are", found)


def _error(t: Try) -> None:
    try:
        t.session.ask("NOSUCHWORD")
    except Refusal as why:
        t.expect("a refusal in its own words", str(why), ok=True)
        return
    t.expect("a refusal in its own words", "it confirmed it", ok=False)


def _where(t: Try) -> None:
    x, y, z = t.session.where()
    found = f"X {x:g}, Y {y:g}, Z {z:g}"
    t.seen(f"It says: {found}. Is that what its own screen says?", "where its own screen says", found)


def _heats(heater: str) -> Callable[[Try], None]:
    def act(t: Try) -> None:
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


def _fan(t: Try) -> None:
    t.send("fan", share=255)
    t.seen("Does the part fan blow?")
    t.send("fan", share=0)
    t.seen("Has it stopped?")


def _home(t: Try) -> None:
    t.session.question("Is the plate clear, and a hand at the mains switch?", ("go",), "done")
    t.session.home()
    t.seen("Did every axis run to its stop and halt there by itself?")


def _lift(t: Try) -> None:
    t.homed()
    for z in (LIFT_MM, LIFT_MM + 1, LIFT_MM):
        t.send("height", z=z, feed=300)
        t.at((None, None, z), f"z {z:g}")
    t.seen("Did the tip lift, then a millimetre more, and come back by it?")


def _move(t: Try) -> None:
    t.homed()
    x, y = t.machine.plates[0].centre
    t.send("height", z=HIGH_MM, feed=600)
    for place in ((x, y), (x + 20, y + 10)):
        t.send("move", x=place[0], y=place[1], feed=2400)
        t.at((place[0], place[1], HIGH_MM), f"x {place[0]:g}, y {place[1]:g}")
    t.seen("Is the tip 20 mm to the right of the middle of the plate, and 10 mm back?")


def _trigger(t: Try) -> None:
    for state, do, kind in (("open", "", ""), ("closed", "Touch the probe and keep it touched.", "touch"), ("open", "Let go of it.", "release")):  # fmt: skip
        if do:
            t.session.question(do, ("done",), kind)
        found = t.session.ask(t.does.send("trigger"), "trigger")
        heard = found["state"] if found else "nothing"
        t.expect({"open": "not touched", "closed": "touched"}[state], heard, ok=heard == state)


def _probe(t: Try) -> None:
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


def _mesh_read(t: Try) -> None:
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


def _mesh_switch(t: Try) -> None:
    for name in ("mesh_on", "mesh_off"):
        if t.does.can(name):
            t.send(name)
            t.expect(f"it takes {name.replace('_', ' ')}", "taken", ok=True)


def _stored(t: Try) -> float:
    how = convention(t.machine.convention, t.does)
    found = t.session.ask(how.read, "stored")
    assert found is not None
    return float(found["value"])


def _offset_read(t: Try) -> None:
    found = f"{_stored(t):g} mm"
    t.seen(f"It says that {found} is stored. Is that so?", "the stored value as it is", found)


def _offset_same(t: Try) -> None:
    how, before = convention(t.machine.convention, t.does), _stored(t)
    for line in how.lines(before):
        t.session.progress(f"sending {line}")
        t.session.ask(line)
    after = _stored(t)
    t.expect(f"{before:g} mm, as before", f"{after:g} mm", ok=abs(after - before) < 1e-4)


def _counter(t: Try) -> None:
    found = t.session.ask(t.does.send("counter"), "counter")
    assert found is not None
    said = f"{float(found['prints']):.0f} prints"
    t.seen(f"It says that it has made {said}. Can that be?", "about as many as it has made", said)


def _limit(t: Try) -> None:
    t.send("limit_open", lowest=-0.1)
    if t.does.can("limit_close"):
        t.send("limit_close")
    t.expect("it takes both", "taken", ok=True)


def _live(t: Try) -> None:
    if t.does.can("speed"):
        t.send("speed", percent=100)
    if t.does.can("nudge"):
        t.send("nudge", away=0.05)
        t.send("nudge", away=-0.05)
    t.expect("it takes them", "taken", ok=True)


def _person(t: Try) -> None:
    if t.does.can("message"):
        t.send("message", text="Ivory Table says hello")
        t.seen("Does its screen say “Ivory Table says hello”?")
    if t.does.can("tone"):
        t.send("tone", hertz=880, milliseconds=300)
        t.seen("Did you hear it?")


ACTS: dict[str, Callable[[Try], None]] = {
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
    "counter": _counter,
    "live": _live,
    "person": _person,
}
