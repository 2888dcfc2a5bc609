"""A pattern made of replies that carry no numbers: a line that confirms, one that is itself the message, one of two states."""

import re
from collections.abc import Sequence

from ivory_table.core.manner import compiled

from .lesson import MOST_SAMPLES, ORDINALS, Lesson, Meaning, Puzzle
from .pieces import Said, aligned, between, clean, cut_up, read, tolerant


def learn_words(samples: Sequence[Said], ack: str = "") -> Lesson:
    """The pattern of a line that is itself the message: ready, working, nothing met; `ack`: what else stands in an answer."""
    try:
        lines = _last_lines([s.model_copy(update={"text": without_ack(s.text, ack)}) for s in samples])
        return _settled("^" + between(lines, begins=True) + r"\s*$", "Blanks and numbers in it may differ.", lines)
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
    whole = "^" + between(lines, begins=True) + r"\s*$"
    split_up = [[p.strip() for p in clean(a).split("\n") if p.strip()] for a in answers]
    split_up = [a for a in split_up if a]

    def confirmed(pattern: str, reply: list[str]) -> int | None:
        return next((k for k, line in enumerate(reply) if compiled(pattern).search(line)), None)

    def goes_on(where: list[int | None]) -> bool:
        return any(k is not None and k < len(a) - 1 for k, a in zip(where, split_up, strict=True))

    where = [confirmed(whole, a) for a in split_up]
    if all(k is not None for k in where):
        return _settled(whole, "Blanks and numbers in it may differ.", lines), goes_on(where)
    # The machine confirms and answers in one line.
    begins = "^" + between(lines, begins=True) + r"(?:\s|$)"
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
            head, _, _ = aligned([cut_up(line) for line in lines])
            starts = [len("".join(p.text for p in head))] * len(lines)
        heads = [line[:start].rstrip() for line, start in zip(lines, starts, strict=False)]
        if any(not h for h in heads):
            raise Puzzle("Nothing before the reason tells it from other lines.", 0, 0)
        pattern = "^" + between(heads, begins=True) + rf"\s*(?P<{field}>.+)$"
        return _settled(pattern, f"It begins with “{heads[0]}”; what follows is the reason.", lines)
    except Puzzle as puzzle:
        return puzzle.lesson


def learn_state(field: str, samples: Sequence[Said]) -> Lesson:
    """The pattern of a reply in which one word or number tells one of two states: open, closed."""
    try:
        states = [str(s.values.get(field, "")) for s in samples]
        if {"open", "closed"} - set(states):
            raise Puzzle("Show it twice: with nothing near the probe, and with the probe touched.")
        replies = [[p.strip() for p in clean(s.text).split("\n") if p.strip()] for s in samples]
        one, other = (replies[states.index(name)] for name in ("open", "closed"))
        n = next((k for k, (a, b) in enumerate(zip(one, other, strict=False)) if a != b), None)
        if n is None:
            raise Puzzle("Both replies are the same: nothing in them tells whether the probe is touched.", 1)
        pair = [cut_up(one[n]), cut_up(other[n])]
        at = next((k for k, (a, b) in enumerate(zip(*pair, strict=False)) if a.text != b.text), None)
        if at is None:
            at = min(map(len, pair)) - 1
        words = [re.escape("".join(p.text for p in pieces[at:])) for pieces in pair]
        ends = [0, 0]
        if len(pair[0]) == len(pair[1]) and [p.text for p in pair[0][at + 1 :]] == [p.text for p in pair[1][at + 1 :]]:
            words = [re.escape(pieces[at].text) for pieces in pair]
            ends = [1, 1]
        tail = r"(?:\W|$)" if ends == [1, 1] else r"\s*$"
        pattern = f"^{tolerant(pair[0][:at], True)}(?:(?P<open>{words[0]})|(?P<closed>{words[1]})){tail}"
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
    lines = [line.strip() for line in clean(text).split("\n")]
    return "\n".join(n for n in lines if not (ack and (m := compiled(ack).search(n)) and m.end() == len(n)))


def _last_lines(samples: Sequence[Said], *, last: bool = True) -> list[str]:
    out = []
    for k, sample in enumerate(samples[:MOST_SAMPLES]):
        lines = [p.strip() for p in clean(sample.text).split("\n") if p.strip()]
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
