"""A pattern made of replies as a machine gives them: the numbers that are meant become groups, the rest is tolerated.

What is made is anchored at the line's start and made of parts that cannot be read two ways; it is compiled by an engine
whose time grows with the text's length alone.
"""

import re
from collections.abc import Mapping, Sequence
from typing import Annotated, NamedTuple

from pydantic import Field, FiniteFloat

from ivory_table.core.manner import compiled, heard
from ivory_table.core.units import MM, UNITS, ours, place_of, split, unit_of
from ivory_table.core.value import Value

from .lesson import MAX_REPLY, MOST_SAMPLES, ORDINALS, Lesson, Mark, Meaning, Puzzle
from .numbers import Number, is_value, numbers
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


class _Piece(NamedTuple):
    """A part of a line: a number, blanks, or other characters."""

    kind: str
    text: str
    start: int


_PIECES = re.compile(r"(?P<number>[+-]?(?:\d+(?:\.\d+)?|\.\d+))|(?P<blank>\s+)|(?P<word>[A-Za-z_]+)|(?P<other>.)")
_NUM = r"[-+]?\d*\.?\d+"
_ANY = r"[^\n]*?"


def _pieces(line: str, start: int = 0) -> list[_Piece]:
    return [_Piece(str(m.lastgroup), m[0], start + m.start()) for m in _PIECES.finditer(line)]


def _tolerant(pieces: Sequence[_Piece], begins: bool) -> str:
    """Pieces as a pattern: any blanks, any other numbers, words as they are."""
    out = ""
    for k, piece in enumerate(pieces):
        if piece.kind == "blank":
            out += r"\s+" if not (begins and k == 0) else r"\s*"
        elif piece.kind == "number":
            out += _NUM
        elif piece.kind == "word":
            out += re.escape(piece.text)
        else:
            # Separators may stand with blanks or without.
            out += r"\s*" + re.escape(piece.text) + r"\s*"
    return re.sub(r"(\\s[*+])+", lambda m: r"\s+" if r"\s+" in m[0] and r"\s*" not in m[0] else r"\s*", out)


def _aligned(samples: Sequence[Sequence[_Piece]]) -> tuple[list[_Piece], bool, list[_Piece]]:
    """(what all begin with, whether anything differs after it, what all end with); numbers are alike."""

    def alike(a: _Piece, b: _Piece) -> bool:
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


def _between(samples: Sequence[str], begins: bool) -> str:
    head, differs, tail = _aligned([_pieces(s) for s in samples])
    return _tolerant(head, begins) + (_ANY if differs else "") + _tolerant(tail, False)


def learn_reply(fields: set[str], samples: Sequence[Said]) -> Lesson:
    """The pattern of replies that carry numbers; where each number is meant follows from its value, or was pointed at."""
    try:
        return _numbers_in(fields, samples)
    except Puzzle as puzzle:
        return puzzle.lesson


def _numbers_in(fields: set[str], samples: Sequence[Said]) -> Lesson:
    if not samples or not any(s.text.strip() for s in samples):
        raise Puzzle("Paste what the machine answers, all of it.")
    samples = samples[:MOST_SAMPLES]
    texts = [_clean(s.text) for s in samples]
    spots: list[dict[str, list[tuple[Number, str]]]] = []
    for k, (sample, text) in enumerate(zip(samples, texts, strict=True)):
        found = numbers(text)
        here: dict[str, list[tuple[Number, str]]] = {}
        for field in sorted(fields):
            here[field] = _spots_of(field, sample, found, k)
        spots.append(here)
    ways = _ways(fields, spots, texts)
    choices: dict[str, Meaning] = {}
    marks: tuple[Mark, ...] = ()
    for way in ways:
        pattern = _pattern(texts, way, {f: spots[0][f][i][1] for f, i in way[0].items()}, spots)
        if pattern in choices:
            continue
        _must_read(pattern, texts, way, spots)
        chosen = sorted((spots[0][f][i][0].start, f, spots[0][f][i]) for f, i in way[0].items())
        places = ", ".join(f"{said(f)} is {_in_words(number, place)}" for _, f, (number, place) in chosen)
        choices[pattern] = Meaning(text=pattern, words=f"In the first reply {places}.")
        marks = marks or tuple(
            Mark(sample=k, start=spots[k][f][i][0].start, end=spots[k][f][i][0].end, field=f)
            for k, chosen in enumerate(way)
            for f, i in chosen.items()
        )
        if len(choices) > 4:
            break
    return Lesson(choices=tuple(choices.values()), marks=marks)


def _in_words(number: Number, place: str) -> str:
    unit = unit_of(place)
    if not split(place)[1]:
        return f"{number.text} {unit.words}".strip()
    return (
        f"{number.text} {unit.words}, which is {ours(place, number.value):.4g} {'°C' if unit.words == '°F' else 'mm'}"
    )


def _clean(text: str) -> str:
    return text.replace("\r\n", "\n").replace("\r", "\n")


def _spots_of(field: str, sample: Said, found: Sequence[Number], k: int) -> list[tuple[Number, str]]:
    """Every (number, place) that a field may be in one reply."""
    at = sample.pointed.get(field)
    if at is not None:
        number = next((n for n in found if n.start < at.end and at.start < n.end), None)
        if number is None:
            raise Puzzle(
                f"Where {said(field)} was pointed at in the {ORDINALS[k]} reply, there is no number.", k, at.start
            )
        value = sample.values.get(field)
        if isinstance(value, (int, float)):
            for unit in UNITS.get(field, {"": None}):
                for n in (number, number.unsigned):
                    if is_value(n, place_of(field, unit), value):
                        return [(n, place_of(field, unit))]
        # Nobody has said what it is: a length may be in anything, and is asked about.
        units = UNITS[field] if UNITS.get(field) is MM else {"": None}
        return [(number, place_of(field, unit)) for unit in units]
    value = sample.values.get(field)
    if not isinstance(value, (int, float)):
        raise Puzzle(f"Point at the number that is {said(field)} in the {ORDINALS[k]} reply.", k)
    out = [
        (n, place_of(field, unit))
        for number in found
        for n in ((number, number.unsigned) if number.unsigned is not number else (number,))
        for unit in UNITS.get(field, {"": None})
        if is_value(n, place_of(field, unit), value)
    ]
    if not out:
        raise Puzzle(
            f"{said(field).capitalize()} ({value:g}) is not in the {ORDINALS[k]} reply. Point at its number.", k
        )
    return out


Way = list[dict[str, int]]


def _ways(fields: set[str], spots: list[dict[str, list[tuple[Number, str]]]], texts: list[str]) -> list[Way]:
    """Every choice of spots that is built the same in every reply: the same order, the same units, about the same places."""
    order = sorted(fields)

    def of_one(here: dict[str, list[tuple[Number, str]]]) -> list[dict[str, int]]:
        ways: list[dict[str, int]] = [{}]
        for field in order:
            ways = [
                {**way, field: i}
                for way in ways
                for i, (number, _) in enumerate(here[field])
                if all(here[f][j][0].end <= number.start or number.end <= here[f][j][0].start for f, j in way.items())
            ][:2000]
        return ways

    def build(k: int, way: dict[str, int]) -> tuple[object, ...]:
        """What must be the same in every reply: which number in its line each is, in what unit."""
        nums = numbers(texts[k])
        first = min(spots[k][f][i][0].start for f, i in way.items())
        begin = texts[k].rfind("\n", 0, first) + 1
        inside = [n.end for n in nums if n.start >= begin]
        return tuple(
            (f, spots[k][f][i][1], inside.index(spots[k][f][i][0].end), spots[k][f][i][0].text[0] in "+-")
            if len(texts) == 1
            else (f, spots[k][f][i][1], inside.index(spots[k][f][i][0].end))
            for f, i in sorted(way.items())
        )

    firsts: dict[tuple[object, ...], Way] = {}
    for way in of_one(spots[0]):
        # A sign belongs to its number: the reading with it comes first, and stays.
        firsts.setdefault(build(0, way), [way])
    for k in range(1, len(spots)):
        here: dict[tuple[object, ...], dict[str, int]] = {}
        for way in of_one(spots[k]):
            here.setdefault(build(k, way), way)
        firsts = {key: [*ways, here[key]] for key, ways in firsts.items() if key in here}
    if not firsts:
        raise Puzzle("The replies are not built alike. Point at the numbers in each of them.", len(spots) - 1)
    found = list(firsts.values())
    units = [{spots[0][f][i][1] for f, i in way[0].items()} for way in found]
    plain = [way for way, u in zip(found, units, strict=True) if len({split(p)[1] for p in u}) == 1]
    return plain or found


def _pattern(
    texts: list[str], way: Way, places: dict[str, str], spots: list[dict[str, list[tuple[Number, str]]]]
) -> str:
    """From the start of the line of the first number to the last number, lines in between included."""
    order = sorted(way[0], key=lambda f: spots[0][f][way[0][f]][0].start)
    segments: list[list[str]] = [[] for _ in range(len(order) + 1)]
    for k, (text, chosen) in enumerate(zip(texts, way, strict=True)):
        nums = [spots[k][f][chosen[f]][0] for f in order]
        at = text.rfind("\n", 0, nums[0].start) + 1
        for s, n in enumerate(nums):
            if n.start < at:
                raise Puzzle("The numbers do not stand in the same order in every reply.", k, n.start)
            segments[s].append(text[at : n.start])
            at = n.end
        segments[-1].append(text[at:].partition("\n")[0])
    out = "^"
    for s, field in enumerate(order):
        # What stands before a number without a blank may be a sign that parts.
        out += _lines(segments[s], begins=s == 0) + f"(?P<{places[field]}>{_NUM})"
    tail = segments[-1]
    if not re.search("[A-Za-z]", "".join(segments[0])) or all(not t.strip() for t in tail):
        # Nothing but numbers tells it from others: then it must end here as well.
        out += _between([t.rstrip() for t in tail], begins=False) + r"\s*$"
    return out


def _lines(segments: list[str], begins: bool) -> str:
    parts = [s.split("\n") for s in segments]
    if len({len(p) for p in parts}) > 1:
        raise Puzzle("The replies do not have the same number of lines between the numbers.", 0)
    out = []
    for n in range(len(parts[0])):
        piece = [p[n].strip() if len(parts[0]) > 1 and 0 < n < len(parts[0]) - 1 else p[n] for p in parts]
        if n < len(parts[0]) - 1:
            piece = [p.rstrip() for p in piece]
        if n > 0:
            piece = [p.lstrip() for p in piece]
        out.append(_between([p.lstrip() if begins and n == 0 else p for p in piece], begins=begins and n == 0))
    # Lines are heard without the blanks around them.
    return r"\n".join(out)


def _must_read(pattern: str, texts: list[str], way: Way, spots: list[dict[str, list[tuple[Number, str]]]]) -> None:
    """A pattern that does not read its own samples as they are meant is no pattern."""
    for k, text in enumerate(texts):
        found = read(pattern, text)
        for field, i in way[k].items():
            number, _ = spots[k][field][i]
            got = None if found is None else found.get(split(field)[0])
            if got is None or not _same(pattern, field, got, number):
                raise Puzzle(
                    f"The {ORDINALS[k]} reply is built differently: {said(field)} would be missed in it.",
                    k,
                    number.start,
                )


def _same(pattern: str, field: str, got: str, number: Number) -> bool:
    place = next(name for name in compiled(pattern).groupindex if split(name)[0] == field)
    return abs(float(got) - ours(place, number.value)) < 1e-4


_STATES = {"open": "not touched", "closed": "touched"}


def pattern_in_words(pattern: str) -> str:
    """A pattern as a line with what is meant in corner brackets, and an ellipsis where anything may stand."""

    def meant(found: re.Match[str]) -> str:
        name, inside = found[1], found[2]
        return f"“{inside}” {_STATES[name]}" if name in _STATES else f"‹{said(split(name)[0])}›"

    text = re.sub(r"\(\?P<([a-z_0-9]+)>([^()]*)\)", meant, pattern)
    for a, b in (
        (_NUM, "#"), (_ANY, "…"), (r"(?:\s|$)", " …"), (r"(?:\W|$)", ""), (r"\s+", " "), (r"\s*", ""), (r"\n", " ⏎ "),
    ):  # fmt: skip
        text = text.replace(a, b)
    # What is escaped is meant as it stands; what is not, is the pattern's own.
    parts = re.split(r"(\\.)", text.strip("^$").replace("(?:", ""))
    text = "".join(p[1] if p.startswith("\\") else p.replace(")", "").replace("|", " or ") for p in parts)
    return re.sub(r"\s+", " ", text).strip()


def read(pattern: str, text: str) -> Mapping[str, str] | None:
    """What a pattern finds in a reply, line by line as a session hears it."""
    before: list[str] = []
    for line in (part.strip() for part in _clean(text).split("\n")):
        if not line:
            continue
        if (found := heard(pattern, line, before)) is not None:
            return found
        before.append(line)
    return None


def differs_at(sample: str, text: str) -> int | None:
    """Where a reply first differs from a sample that is understood, numbers and blanks apart; None where it does not."""
    known, other = (_pieces(t) for t in (_clean(sample).strip(), _clean(text)))
    known, other = ([p for p in pieces if p.kind != "blank"] for pieces in (known, other))
    for a, b in zip(known, other, strict=False):
        if a.kind != b.kind or (a.kind != "number" and a.text != b.text):
            return b.start
    return len(text.rstrip()) if len(other) < len(known) else None


# Replies without numbers


def learn_words(samples: Sequence[Said], ack: str = "") -> Lesson:
    """The pattern of a line that is itself the message: ready, working, nothing met; `ack`: what else stands in an answer."""
    try:
        lines = _last_lines([s.model_copy(update={"text": without_ack(s.text, ack)}) for s in samples])
        return _settled("^" + _between(lines, begins=True) + r"\s*$", "Blanks and numbers in it may differ.", lines)
    except Puzzle as puzzle:
        return puzzle.lesson


def learn_ack(samples: Sequence[Said], answers: Sequence[str]) -> tuple[Lesson, bool]:
    """The pattern of the line that confirms, and whether answers come after it; `answers`: whole replies with numbers.

    Where a machine confirms in the same line in which it answers, only the line's beginning is asked for.
    """
    try:
        lines = _last_lines(samples)
    except Puzzle as puzzle:
        return puzzle.lesson, False
    whole = "^" + _between(lines, begins=True) + r"\s*$"
    split_up = [[p.strip() for p in _clean(a).split("\n") if p.strip()] for a in answers]
    split_up = [a for a in split_up if a]

    def confirmed(pattern: str, reply: list[str]) -> int | None:
        return next((k for k, line in enumerate(reply) if compiled(pattern).search(line)), None)

    def goes_on(where: list[int | None]) -> bool:
        return any(k is not None and k < len(a) - 1 for k, a in zip(where, split_up, strict=True))

    where = [confirmed(whole, a) for a in split_up]
    if all(k is not None for k in where):
        return _settled(whole, "Blanks and numbers in it may differ.", lines), goes_on(where)
    # The machine confirms and answers in one line.
    begins = "^" + _between(lines, begins=True) + r"(?:\s|$)"
    where = [confirmed(begins, a) for a in split_up]
    if all(k is not None for k in where):
        return _settled(begins, "It stands at the beginning of the line; an answer may follow it.", lines), goes_on(
            where
        )
    missing = next(k for k, w in enumerate(where) if w is None)
    shown = " / ".join(split_up[missing])[:80]
    return Lesson(
        trouble=f"In the answer “{shown}” nothing confirms. Paste all of an answer, with the line that confirms."
    ), False


def learn_rest(field: str, samples: Sequence[Said]) -> Lesson:
    """The pattern of a line that begins alike each time and goes on with the machine's own words: error, halt."""
    try:
        lines = _last_lines(samples, last=False)
        starts = []
        for k, (sample, line) in enumerate(zip(samples, lines, strict=True)):
            at = sample.pointed.get(field)
            value = sample.values.get(field)
            start = sample.text.find(line)
            if at is not None:
                starts.append(at.start - start)
            elif isinstance(value, str) and value:
                if (found := line.find(value)) < 0:
                    raise Puzzle(f"“{value}” is not in the {ORDINALS[k]} reply.", k, 0)
                starts.append(found)
        if not starts:
            if len(lines) < 2:
                raise Puzzle("Point at the first word of the reason, or show one more with another reason.", 0)
            head, _, _ = _aligned([_pieces(line) for line in lines])
            starts = [len("".join(p.text for p in head))] * len(lines)
        heads = [line[:start].rstrip() for line, start in zip(lines, starts, strict=False)]
        if any(not h for h in heads):
            raise Puzzle("Nothing before the reason tells it from other lines.", 0, 0)
        pattern = "^" + _between(heads, begins=True) + rf"\s*(?P<{field}>.+)$"
        return _settled(pattern, f"It begins with “{heads[0]}”; what follows is the reason.", lines)
    except Puzzle as puzzle:
        return puzzle.lesson


def learn_state(field: str, samples: Sequence[Said]) -> Lesson:
    """The pattern of a reply in which one word or number tells one of two states: open, closed."""
    try:
        states = [str(s.values.get(field, "")) for s in samples]
        if {"open", "closed"} - set(states):
            raise Puzzle("Show it twice: with nothing near the probe, and with the probe touched.")
        replies = [[p.strip() for p in _clean(s.text).split("\n") if p.strip()] for s in samples]
        one, other = (replies[states.index(name)] for name in ("open", "closed"))
        n = next((k for k, (a, b) in enumerate(zip(one, other, strict=False)) if a != b), None)
        if n is None:
            raise Puzzle("Both replies are the same: nothing in them tells whether the probe is touched.", 1)
        pair = [_pieces(one[n]), _pieces(other[n])]
        at = next((k for k, (a, b) in enumerate(zip(*pair, strict=False)) if a.text != b.text), None)
        if at is None:
            at = min(map(len, pair)) - 1
        words = [re.escape("".join(p.text for p in pieces[at:])) for pieces in pair]
        ends = [0, 0]
        if len(pair[0]) == len(pair[1]) and [p.text for p in pair[0][at + 1 :]] == [p.text for p in pair[1][at + 1 :]]:
            words = [re.escape(pieces[at].text) for pieces in pair]
            ends = [1, 1]
        tail = r"(?:\W|$)" if ends == [1, 1] else r"\s*$"
        pattern = f"^{_tolerant(pair[0][:at], True)}(?:(?P<open>{words[0]})|(?P<closed>{words[1]})){tail}"
        for k, (state, sample) in enumerate(zip(states, samples, strict=True)):
            found = read(pattern, sample.text)
            if found is None or found["state"] != state:
                raise Puzzle(
                    f"The {ORDINALS[k]} reply does not fit: it would be read as {'nothing' if found is None else found['state']}.",
                    k,
                )
        shown = ["".join(p.text for p in pieces[at:]) for pieces in pair]
        return _settled(pattern, f"“{shown[0]}” is not touched, “{shown[1]}” is touched.", [])
    except Puzzle as puzzle:
        return puzzle.lesson


def without_ack(text: str, ack: str) -> str:
    """A reply without the lines that only confirm."""
    lines = [line.strip() for line in _clean(text).split("\n")]
    return "\n".join(n for n in lines if not (ack and (m := compiled(ack).search(n)) and m.end() == len(n)))


def _last_lines(samples: Sequence[Said], *, last: bool = True) -> list[str]:
    out = []
    for k, sample in enumerate(samples[:MOST_SAMPLES]):
        lines = [p.strip() for p in _clean(sample.text).split("\n") if p.strip()]
        if not lines:
            raise Puzzle("Paste what the machine says.", k, 0)
        out.append(lines[-1 if last else 0])
    if not out:
        raise Puzzle("Paste what the machine says.")
    return out


def _settled(pattern: str, words: str, lines: Sequence[str]) -> Lesson:
    for k, line in enumerate(lines):
        if not compiled(pattern).search(line):
            return Lesson(trouble="The replies are not built alike.", sample=k, at=0)
    return Lesson(choices=(Meaning(text=pattern, words=words),))
