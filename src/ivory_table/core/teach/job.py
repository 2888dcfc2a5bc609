"""The start of a job file, line by line: what each line may be, offered to whoever knows it."""

import re
from collections.abc import Mapping, Sequence

from ivory_table.core.manner import Manner
from ivory_table.core.units import ours, places_in, split
from ivory_table.core.value import Value

from .catalogue import words
from .told import Told, plain

MOST_LINES = 60
_NUMBER = r"([-+]?\d*\.?\d+)"


class JobLine(Value):
    """One line of a job's start, and what it may be taught as; `word` is empty where it looks like nothing known."""

    number: int
    line: str
    word: str = ""
    name: str = ""
    #: Nothing is taught yet of this word.
    new: bool = True
    told: Told | None = None


def lines_of_job(text: str, known: Sequence[Manner], taught: Mapping[str, str]) -> tuple[JobLine, ...]:
    """Lines before the first move that lays filament, each once; those that look like a line of a known manner first say so."""
    out: list[JobLine] = []
    seen: set[str] = set()
    for number, raw in enumerate(text[:200_000].splitlines(), 1):
        line = plain(re.sub(r"\s*;.*$", "", raw))
        if not line or line.startswith(("(", "%")):
            continue
        if re.match(r"G0?1\b.*E\s*\d", line) and re.search(r"[XY]", line):
            break
        verb = re.split(r"[\s=(,;:{]", line, maxsplit=1)[0]
        if line in seen or (verb in seen and verb in ("G0", "G1", "G92")):
            continue
        seen |= {line, verb}
        found = next((f for f in (_like(line, manner) for manner in known) if f is not None), None)
        if found is None:
            out.append(JobLine(number=number, line=line[:200]))
        else:
            word_id, told = found
            name = next(w.name for w in words() if w.id == word_id)
            out.append(
                JobLine(number=number, line=line[:200], word=word_id, name=name, new=not taught.get(word_id), told=told)
            )
        if len(out) >= MOST_LINES:
            break
    return tuple(out)


def _like(line: str, manner: Manner) -> tuple[str, Told] | None:
    """The word of a known manner whose line this looks like, with the values its numbers then have."""
    for w in words():
        if not w.id.startswith("does."):
            continue
        template: str = getattr(manner.does, w.id.removeprefix("does."), "")
        if not template or "{text}" in template:
            continue
        places = places_in(template)
        pattern = (
            re.escape(re.sub(r"\{[^}]*\}", "\0", template)).replace(re.escape("\0"), _NUMBER).replace("\0", _NUMBER)
        )
        if w.id == "does.move":
            # A job's moves go by without saying what they are for.
            continue
        match = re.fullmatch(pattern.replace("\\ ", r"\s*"), line, re.IGNORECASE)
        if match is not None:
            values = {split(p)[0]: ours(p, float(v)) for p, v in zip(places, match.groups(), strict=True)}
            return w.id, Told(values=dict(values), line=line)
    return None
