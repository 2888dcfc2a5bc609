"""Numbers and turns as they are said: the same on every page, in every list and on the line."""

from typing import Literal

from .plate import Machine, Screw


def many(count: int, one: str) -> str:
    """1 stop, 2 stops."""
    return f"{count} {one}" if count == 1 else f"{count} {one}s"


def signed(mm: float, digits: int = 2) -> str:
    """+0.13 or −0.09: a sign always, with a true minus; nothing is plain 0.00."""
    text = f"{mm:+.{digits}f}"
    return text[1:] if float(text) == 0 else text.replace("-", "−")


def turn_words(marks: float, screw: Screw, seen_from: Literal["above", "below"]) -> str:
    """'3/16 clockwise, seen from above': the turn as the technician sees the knob."""
    return f"{marks_words(marks, screw.marks_per_turn)} {way_words(marks, seen_from)}, seen from {seen_from}"


def way_words(marks: float, seen_from: Literal["above", "below"]) -> str:
    """Marks are clockwise seen from above; from below the same turn runs the other way."""
    return "clockwise" if (marks > 0) == (seen_from == "above") else "counter-clockwise"


def marks_words(marks: float, per_turn: int) -> str:
    """'3/16', '1 turn 3/16', or '7/32' where half a mark is asked for; never reduced, as a hand counts marks."""
    turns, half = divmod(round(2 * abs(marks)), 2 * per_turn)
    part = f"{half // 2}/{per_turn}" if half % 2 == 0 else f"{half}/{2 * per_turn}"
    if not turns:
        return part
    return f"{many(turns, 'turn')} {part}" if half else many(turns, "turn")


def knob_words(machine: Machine, name: str, marks: float) -> str:
    """A turn of one of a machine's knobs as its technician looks at it: '3/16 clockwise (from below)'."""
    if not marks:
        return "no turn"
    below = " (from below)" if machine.seen_from == "below" else ""
    per_turn = machine.screws[machine.screw(name)].marks_per_turn
    return f"{marks_words(marks, per_turn)} {way_words(marks, machine.seen_from)}{below}"


def first_sentence(wrong: ValueError) -> str:
    """The sentence of a ValueError, also when Pydantic wraps it."""
    errors = getattr(wrong, "errors", None)
    return str(errors()[0]["msg"]).removeprefix("Value error, ") if callable(errors) else str(wrong)
