"""A pattern made of replies as a machine gives them: the numbers that are meant become groups, the rest is tolerated.

What is made is anchored at the line's start and made of parts that cannot be read two ways; it is compiled by an engine
whose time grows with the text's length alone.
"""

import re
from collections.abc import Sequence

from ivory_table.core.manner import compiled
from ivory_table.core.units import MM, UNITS, ours, place_of, split, unit_of

from .lesson import MOST_SAMPLES, ORDINALS, Lesson, Mark, Meaning, Puzzle
from .numbers import Number, is_value, numbers
from .pieces import NUM, Said, between, clean, read
from .told import said


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
    texts = [clean(s.text) for s in samples]
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
        out += _lines(segments[s], begins=s == 0) + f"(?P<{places[field]}>{NUM})"
    tail = segments[-1]
    if not re.search("[A-Za-z]", "".join(segments[0])) or all(not t.strip() for t in tail):
        # Nothing but numbers tells it from others: then it must end here as well.
        out += between([t.rstrip() for t in tail], begins=False) + r"\s*$"
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
        out.append(between([p.lstrip() if begins and n == 0 else p for p in piece], begins=begins and n == 0))
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
