"""What a machine reports of its settings, before and after a change, held line against line.

Nothing is assumed of how it talks: lines are matched by their words, and numbers in a matched line are compared.
"""

import re
from difflib import SequenceMatcher
from typing import Literal

from .value import Value

_NUMBER = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?")
#: A report of more lines than this is not one of settings.
MOST_LINES = 4000


class LineDiffers(Value):
    """One line that differs. `was` or `now` is empty where it came or went."""

    kind: Literal["changed", "gone", "new"]
    was: str
    now: str
    #: Numbers that differ: (before, after), in the order of the line.
    numbers: tuple[tuple[float, float], ...] = ()


def lines_of(text: str) -> tuple[str, ...]:
    """The lines of a report that say something, without spaces around them."""
    return tuple(line for raw in text.splitlines()[:MOST_LINES] if (line := " ".join(raw.split())))


def words_of(line: str) -> str:
    """A line with every number taken out: what it is about."""
    return _NUMBER.sub("#", line)


def differences(before: str, after: str) -> tuple[LineDiffers, ...]:
    """What differs between two reports; lines in another order are the same."""
    old, new = lines_of(before), lines_of(after)
    out: list[LineDiffers] = []
    match = SequenceMatcher(None, [words_of(x) for x in old], [words_of(x) for x in new], autojunk=False)
    gone: list[str] = []
    fresh: list[str] = []
    for what, a0, a1, b0, b1 in match.get_opcodes():
        if what == "equal":
            out += [_changed(was, now) for was, now in zip(old[a0:a1], new[b0:b1], strict=True) if _differ(was, now)]
        else:
            gone += old[a0:a1]
            fresh += new[b0:b1]
    # What only stands elsewhere now is found by its words.
    for now in fresh:
        was = next((x for x in gone if words_of(x) == words_of(now)), None)
        if was is None:
            out.append(LineDiffers(kind="new", was="", now=now))
        else:
            gone.remove(was)
            if _differ(was, now):
                out.append(_changed(was, now))
    return (*out, *(LineDiffers(kind="gone", was=x, now="") for x in gone))


def _numbers(line: str) -> list[float]:
    return [float(n) for n in _NUMBER.findall(line)]


def _differ(was: str, now: str) -> bool:
    """1.50 and 1.5 are the same."""
    return was != now and _numbers(was) != _numbers(now)


def _changed(was: str, now: str) -> LineDiffers:
    pairs = zip(_numbers(was), _numbers(now), strict=True)
    return LineDiffers(kind="changed", was=was, now=now, numbers=tuple((a, b) for a, b in pairs if a != b))
