"""Replies cut into pieces, and patterns made of pieces: any blanks, any other numbers, words as they are."""

import re
from collections.abc import Mapping, Sequence
from typing import Annotated, NamedTuple

from pydantic import Field, FiniteFloat

from ivory_table.core.manner import heard
from ivory_table.core.units import split
from ivory_table.core.value import Value

from .lesson import MAX_REPLY
from .told import said


class Pointed(Value):
    """Where in a reply something stands, as somebody has pointed at it."""

    start: Annotated[int, Field(ge=0)]
    end: Annotated[int, Field(ge=1)]


class Said(Value):
    """A reply as it stands, what is known of it, and what was pointed at."""

    text: Annotated[str, Field(max_length=MAX_REPLY)]
    values: dict[str, FiniteFloat | str] = {}
    pointed: dict[str, Pointed] = {}


class Piece(NamedTuple):
    """A part of a line: a number, blanks, or other characters."""

    kind: str
    text: str
    start: int


PIECES = re.compile(r"(?P<number>[+-]?(?:\d+(?:\.\d+)?|\.\d+))|(?P<blank>\s+)|(?P<word>[A-Za-z_]+)|(?P<other>.)")
NUM = r"[-+]?\d*\.?\d+"
ANY = r"[^\n]*?"


def cut_up(line: str, start: int = 0) -> list[Piece]:
    """A line in pieces; `start`: where it begins in the whole reply."""
    return [Piece(str(m.lastgroup), m[0], start + m.start()) for m in PIECES.finditer(line)]


def tolerant(pieces: Sequence[Piece], begins: bool) -> str:
    """Pieces as a pattern: any blanks, any other numbers, words as they are."""
    out = ""
    for k, piece in enumerate(pieces):
        if piece.kind == "blank":
            out += r"\s+" if not (begins and k == 0) else r"\s*"
        elif piece.kind == "number":
            out += NUM
        elif piece.kind == "word":
            out += re.escape(piece.text)
        else:
            # Separators may stand with blanks or without.
            out += r"\s*" + re.escape(piece.text) + r"\s*"
    return re.sub(r"(\\s[*+])+", lambda m: r"\s+" if r"\s+" in m[0] and r"\s*" not in m[0] else r"\s*", out)


def aligned(samples: Sequence[Sequence[Piece]]) -> tuple[list[Piece], bool, list[Piece]]:
    """(what all begin with, whether anything differs after it, what all end with); numbers are alike."""

    def alike(a: Piece, b: Piece) -> bool:
        return a.kind == b.kind and (a.kind in ("number", "blank") or a.text == b.text)

    first = samples[0]
    head = 0
    while head < len(first) and all(head < len(s) and alike(s[head], first[head]) for s in samples):
        head += 1
    if all(head == len(s) for s in samples):
        return list(first), False, []
    tail = 0
    while tail < min(map(len, samples)) - head and all(alike(s[-1 - tail], first[-1 - tail]) for s in samples):
        tail += 1
    return list(first[:head]), True, list(first[len(first) - tail :])


def between(samples: Sequence[str], begins: bool) -> str:
    """The pattern of what stands between two numbers, tolerant of what differs from reply to reply."""
    head, differs, tail = aligned([cut_up(s) for s in samples])
    return tolerant(head, begins) + (ANY if differs else "") + tolerant(tail, False)


def clean(text: str) -> str:
    """A text with one kind of line end."""
    return text.replace("\r\n", "\n").replace("\r", "\n")


_STATES = {"open": "not touched", "closed": "touched"}


def pattern_in_words(pattern: str) -> str:
    """A pattern as a line with what is meant in corner brackets, and an ellipsis where anything may stand."""

    def meant(found: re.Match[str]) -> str:
        name, inside = found[1], found[2]
        return f"“{inside}” {_STATES[name]}" if name in _STATES else f"‹{said(split(name)[0])}›"

    text = re.sub(r"\(\?P<([a-z_0-9]+)>([^()]*)\)", meant, pattern)
    for a, b in (
        (NUM, "#"), (ANY, "…"), (r"(?:\s|$)", " …"), (r"(?:\W|$)", ""), (r"\s+", " "), (r"\s*", ""), (r"\n", " ⏎ "),
    ):  # fmt: skip
        text = text.replace(a, b)
    # What is escaped is meant as it stands; what is not, is the pattern's own.
    parts = re.split(r"(\\.)", text.strip("^$").replace("(?:", ""))
    text = "".join(p[1] if p.startswith("\\") else p.replace(")", "").replace("|", " or ") for p in parts)
    return re.sub(r"\s+", " ", text).strip()


def read(pattern: str, text: str) -> Mapping[str, str] | None:
    """What a pattern finds in a reply, line by line as a session hears it."""
    before: list[str] = []
    for line in (part.strip() for part in clean(text).split("\n")):
        if not line:
            continue
        if (found := heard(pattern, line, before)) is not None:
            return found
        before.append(line)
    return None


def differs_at(sample: str, text: str) -> int | None:
    """Where a reply first differs from a sample that is understood, numbers and blanks apart; None where it does not."""
    known, other = (cut_up(t) for t in (clean(sample).strip(), clean(text)))
    known, other = ([p for p in pieces if p.kind != "blank"] for pieces in (known, other))
    for a, b in zip(known, other, strict=False):
        if a.kind != b.kind or (a.kind != "number" and a.text != b.text):
            return b.start
    return len(text.rstrip()) if len(other) < len(known) else None
