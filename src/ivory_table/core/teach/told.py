"""A template made of lines as a person sends them: numbers become places to fill."""

import re
from collections.abc import Mapping, Sequence
from typing import Annotated

from pydantic import Field, FiniteFloat

from ivory_table.core.manner import checksum
from ivory_table.core.units import COUNT, INDEX, MILLISECONDS, MM, PERCENT, SHARE, SPEED, UNITS, split, unit_of
from ivory_table.core.value import Value

from .lesson import MAX_LINE, MOST_SAMPLES, ORDINALS, Lesson, Mark, Meaning, Puzzle
from .numbers import Number, Reading, is_exact, numbers, readings


class Told(Value):
    """One line as a person would send it, and what it was to do."""

    values: dict[str, FiniteFloat | str]
    line: Annotated[str, Field(max_length=MAX_LINE)]


#: Digits after the point that a place needs, whatever the sample showed, where the machine takes digits at all.
_FINE = {id(MM): {"": 3, "inch": 5, "micron": 0}, id(SPEED): {"mm_s": 1, "inch": 1, "inch_s": 3}}
_FINE |= {id(SHARE): {"1": 2}, id(PERCENT): {"1": 2}, id(MILLISECONDS): {"s": 2}}
#: Where a step of so many mm is too coarse to work with.
_COARSE_MM = 0.006
#: The names of fields, as they are said.
SAID = {
    "feed": "the speed",
    "celsius": "the temperature",
    "share": "how strong",
    "lowest": "the lowest height",
    "away": "how far away",
    "stored": "the stored value",
    "percent": "the speed in percent",
    "text": "the words",
    "hertz": "the pitch",
    "milliseconds": "how long",
    "seconds": "how long",
    "x_first": "the first X",
    "y_first": "the first Y",
    "x_last": "the last X",
    "y_last": "the last Y",
    "x_step": "the step in X",
    "y_step": "the step in Y",
    "columns": "how many across",
    "rows": "how many rows",
    "column": "the column from the left",
    "row": "the row from the front",
    "column_back": "the column from the right",
    "row_back": "the row from the back",
    "height": "the height of the point",
    "line": "the line's number",
    "bed": "the plate now",
    "bed_target": "the plate as told",
    "tip": "the tip now",
    "tip_target": "the tip as told",
    "value": "the stored value",
}
_TEXT = "\0"


def said(field: str) -> str:
    """A field as it is said aloud."""
    return SAID.get(field, field.upper())


def plain(line: str) -> str:
    """A line without the number and the checksum that a program may have put around it, where they fit."""
    found = re.fullmatch(r"(N\d+\s+(.*?)\s*)\*(\d+)", line.strip())
    return found[2] if found and int(found[3]) in (checksum(found[1]), checksum(found[1].rstrip())) else line.strip()


def learn_line(needed: set[str], known: set[str], samples: Sequence[Told], one_of: Sequence[set[str]] = ()) -> Lesson:
    """The template that every sample fits. `known`: fields that it may have; of each set in `one_of` it needs one."""
    try:
        return _learn(needed, known, samples, one_of)
    except Puzzle as puzzle:
        return puzzle.lesson


def _learn(needed: set[str], known: set[str], samples: Sequence[Told], one_of: Sequence[set[str]]) -> Lesson:
    if not samples:
        raise Puzzle("Type the line as you would send it, with its numbers.")
    lines = [plain(s.line) for s in samples[:MOST_SAMPLES]]
    for k, line in enumerate(lines):
        if not line:
            raise Puzzle("Type the line as you would send it, with its numbers.", k, 0)
        if "\n" in line or "\r" in line:
            raise Puzzle("One line only: what needs several lines cannot be taught yet.", k, line.find("\n"))
        odd = next((n for n, c in enumerate(line) if not 32 <= ord(c) < 127), None)
        if odd is not None:
            raise Puzzle(f"'{line[odd]}' is no character that a machine takes.", k, odd)
    values = [{f: v for f, v in s.values.items() if f in known and not isinstance(v, str)} for s in samples]
    lines = [_without_text(line, s, needed, k) for k, (line, s) in enumerate(zip(lines, samples, strict=False))]
    found = [numbers(line) for line in lines]
    literals = _literals(lines, found)
    options = [_options(i, found, values) for i in range(len(found[0]))]
    wanted = needed - {"text"}
    ways = _assign(options, wanted, one_of)
    if not ways:
        _say_what_is_missing(options, found, wanted, one_of, samples)
    best = max(len([r for r in way if r]) for way in ways)
    ways = [way for way in ways if len([r for r in way if r]) == best]
    alike = [way for way in ways if len({_length_unit(r[1].place) for r in way if r is not None} - {None}) <= 1]
    choices: dict[str, Meaning] = {}
    notes: list[str] = []
    marks: tuple[Mark, ...] = ()
    for way in alike or ways:
        text = _template(literals, found, way, values)
        if (finer := _finer(text)) != text and finer not in choices:
            # Numbers were rounded off: whoever typed them may have done it, or the machine takes no more.
            choices[finer] = Meaning(text=finer, words=sentence(finer))
        if text not in choices:
            choices[text] = Meaning(text=text, words=sentence(text))
            marks = marks or _marks(found, way)
            notes += [n for n in _notes(text, known, way, found, values) if n not in notes]
    return Lesson(choices=tuple(choices.values()), notes=tuple(notes), marks=marks)


def _without_text(line: str, sample: Told, needed: set[str], k: int) -> str:
    text = sample.values.get("text")
    if not isinstance(text, str):
        return line
    at = line.lower().find(text.lower())
    if at < 0:
        if "text" in needed:
            raise Puzzle(f"The words “{text}” are not in this line.", k, 0)
        return line
    return line[:at] + _TEXT + line[at + len(text) :]


def _literals(lines: list[str], found: list[tuple[Number, ...]]) -> list[str]:
    """What stands between the numbers, the same in every sample."""
    first: list[str] = []
    for k, (line, nums) in enumerate(zip(lines, found, strict=True)):
        edges = [0, *(e for n in nums for e in (n.start, n.end)), len(line)]
        parts = [line[edges[i] : edges[i + 1]] for i in range(0, len(edges), 2)]
        if k == 0:
            first = parts
            continue
        wrong = next((i for i, (a, b) in enumerate(zip(first, parts, strict=False)) if a != b), None)
        if wrong is not None:
            raise Puzzle(
                f"The {ORDINALS[k]} line says “{parts[wrong].strip()}” where the first says “{first[wrong].strip()}”. "
                "They must be the same line with other numbers.", k, edges[2 * wrong])  # fmt: skip
        if len(parts) != len(first):
            raise Puzzle(
                f"The {ORDINALS[k]} line has {len(nums)} numbers, the first has {len(found[0])}. They must be the same "
                "line with other numbers.", k, len(line))  # fmt: skip
    return first


Option = tuple[str, Reading]


def _options(i: int, found: list[tuple[Number, ...]], values: Sequence[Mapping[str, float]]) -> list[Option | None]:
    """What the i-th number may be in every sample; None: it stays as it is."""
    may = set(readings(found[0][i], values[0]))
    for nums, given in zip(found[1:], values[1:], strict=False):
        may &= set(readings(nums[i], given))
    # Where the sign is always there it parts two numbers, or belongs to them: the sign read with them comes first.
    sure: list[Option] = sorted(may, key=lambda o: (not o[1].signed, o[1].place))
    out: list[Option | None] = [*sure]
    if len({nums[i].text for nums in found}) == 1:
        out.append(None)
    elif not may:
        n = found[0][i]
        raise Puzzle(f"“{n.text}” is none of the numbers that were asked for.", 0, n.start)
    return out


def _assign(
    options: list[list[Option | None]], wanted: set[str], one_of: Sequence[set[str]]
) -> list[tuple[Option | None, ...]]:
    """Every way in which each number is one thing, no two the same, and nothing that is needed is missing."""
    ways: list[tuple[Option | None, ...]] = [()]
    for here in options:
        ways = [
            (*way, option)
            for way in ways
            for option in here
            if option is None or option[0] not in {o[0] for o in way if o}
        ][:5000]
    full = []
    for way in ways:
        there = {o[0] for o in way if o}
        if wanted <= there and all(there & some for some in one_of):
            full.append(way)
    return full


def _say_what_is_missing(
    options: list[list[Option | None]],
    found: list[tuple[Number, ...]],
    wanted: set[str],
    one_of: Sequence[set[str]],
    samples: Sequence[Told],
) -> None:
    there = {o[0] for here in options for o in here if o}
    for field in sorted(wanted - there):
        value = samples[0].values.get(field)
        raise Puzzle(f"There is no number in it for {said(field)} ({value:g})." if isinstance(value, (int, float))
                     else f"There is no place in it for {said(field)}.", 0, 0)  # fmt: skip
    for some in one_of:
        if not there & some:
            raise Puzzle(f"It does not say {' or '.join(said(f) for f in sorted(some))}.", 0, 0)
    raise Puzzle("The same number would have to stand for two things. Show one more line, with other numbers.", 0, 0)


def _length_unit(place: str) -> str | None:
    field, unit = split(place)
    return unit if UNITS.get(field) is MM else None


def _spec(i: int, option: Option, found: list[tuple[Number, ...]], values: Sequence[Mapping[str, float]]) -> str:
    """How a number is written: its digits, with noughts before it or a plus where the samples have them."""
    field, reading = option
    nums = [f[i] if reading.signed else f[i].unsigned for f in found]
    decimals = max(n.decimals for n in nums)
    units = UNITS.get(field, COUNT)
    plus = "+" if any(n.text.startswith("+") for n in nums) else ""
    bare = [n.text.lstrip("+-") for n in nums]
    if any(re.match(r"0\d", b) for b in bare) and len({len(b) for b in bare}) == 1:
        return f"{plus}0{len(nums[0].text)}.{decimals}f"
    if units is COUNT or units is INDEX:
        return f"{plus}.0f" if plus else ".0f"
    exact = all(is_exact(n, reading.place, v[field]) for n, v in zip(nums, values, strict=False))
    if exact:
        decimals = max(decimals, _FINE.get(id(units), {}).get(split(reading.place)[1], 0))
    return f"{plus}.{decimals}f"


def _template(
    literals: list[str],
    found: list[tuple[Number, ...]],
    way: tuple[Option | None, ...],
    values: Sequence[Mapping[str, float]],
) -> str:
    def literal(text: str) -> str:
        return text.replace("{", "{{").replace("}", "}}").replace(_TEXT, "{text}")

    out = literal(literals[0])
    for i, option in enumerate(way):
        if option is None:
            out += found[0][i].text
        else:
            sign = "" if option[1].signed else found[0][i].text[0]
            out += f"{sign}{{{option[1].place}:{_spec(i, option, found, values)}}}"
        out += literal(literals[i + 1])
    return out


def _finer(template: str) -> str:
    """The template with as many digits as the work needs, where the samples were rounded to steps too coarse for it."""

    def fine(found: re.Match[str]) -> str:
        place, before, digits = found[1], found[2], int(found[3])
        field, unit = split(place)
        if UNITS.get(field) is not MM or before.startswith("0"):
            return found[0]
        coarse = 10.0**-digits / unit_of(place).scale > (0.1 if field in ("x", "y") else _COARSE_MM)
        return f"{{{place}:{before}.{_FINE[id(MM)][unit] if coarse else digits}f}}"

    return re.sub(r"\{([a-z_0-9]+):(\+?\d*)\.(\d+)f\}", fine, template)


def _marks(found: list[tuple[Number, ...]], way: tuple[Option | None, ...]) -> tuple[Mark, ...]:
    return tuple(
        Mark(sample=k, start=n.start + (0 if option[1].signed else 1), end=n.end, field=option[0])
        for k, nums in enumerate(found)
        for n, option in zip(nums, way, strict=True)
        if option
    )


def _notes(
    template: str,
    known: set[str],
    way: tuple[Option | None, ...],
    found: list[tuple[Number, ...]],
    values: Sequence[Mapping[str, float]],
) -> list[str]:
    out = []
    there = {o[0] for o in way if o}
    if "feed" in known and "feed" not in there:
        out.append("There is no speed in it: the machine moves as fast as it was last told to.")
    for place, digits in re.findall(r"\{([a-z_0-9]+):\+?\d*\.(\d+)f\}", template):
        field, _ = split(place)
        if UNITS.get(field) is MM and field not in ("x", "y"):
            step = 10.0 ** -int(digits) / unit_of(place).scale
            if step > _COARSE_MM:
                out.append(
                    f"{said(field).capitalize()} is written in steps of {step:.3g} mm: coarse for a first layer."
                )
    return out


_PLACE = re.compile(r"\{([a-z_0-9]+)(?::[^}]*?\.?(\d*)f?)?\}")


def sentence(template: str) -> str:
    """What a template sends, in words."""
    parts = []
    for place, digits in _PLACE.findall(template.replace("{{", "").replace("}}", "")):
        field, _ = split(place)
        unit = unit_of(place).words
        point = f", {digits} digit{'s' if digits != '1' else ''} after the point" if digits not in ("", "0") else ""
        if digits == "0" and unit == "mm":
            point = ", whole ones only"
        parts.append(
            f"{said(field)}{f' in {unit}' if unit in ('mm', 'inches', 'microns') else f', {unit}' if unit else ''}{point}"
        )
    if not parts:
        return "Always the same line."
    return "Filled in each time: " + "; ".join(parts) + "."
