"""A manner in the making: what was shown for each word, what came of it, and the manner that follows."""

import itertools
import re
from typing import Annotated, Self

from pydantic import AwareDatetime, Field, ValidationError, model_validator

from ivory_table.core.grid_layout import Listing
from ivory_table.core.manner import Does, Framing, Manner, OffsetLines, OffsetManners, Says, checksum, compiled
from ivory_table.core.mesh import MeshLaw
from ivory_table.core.plate import ConventionId
from ivory_table.core.value import Id, Initials, Label, Note, Value

from .catalogue import Word, word, words
from .grid import learn_grid
from .heard import learn_reply
from .heard_words import learn_ack, learn_rest, learn_state, learn_words
from .lesson import MOST_SAMPLES, ORDINALS, Lesson, Meaning, Puzzle
from .numbers import numbers
from .pieces import Said, pattern_in_words, read
from .told import Told, learn_line, sentence


class WordShown(Value):
    """What a person showed for one word, and which reading they chose where there were several."""

    told: Annotated[tuple[Told, ...], Field(max_length=MOST_SAMPLES)] = ()
    said: Annotated[tuple[Said, ...], Field(max_length=MOST_SAMPLES)] = ()
    chosen: Annotated[str, Field(max_length=1000)] | None = None
    #: The machine has no such word.
    without: bool = False


#: How numbered lines are dressed is three texts, written as one with this between.
_PART = " | "


class Teaching(Value):
    """The state of a manner that is being taught. `texts`: template or pattern of each word that is settled."""

    id: Id
    name: Label
    about: Note = ""
    #: Whose stored value the taught lines read and set.
    convention: ConventionId = "probe_offset"
    texts: dict[str, Annotated[str, Field(max_length=1000)]] = {}
    shown: dict[str, WordShown] = {}
    silence_s: Annotated[float, Field(ge=0.2, le=600)] = 6.0
    homing_ends_mesh: bool = True
    answers_after_ack: bool = False
    error_ends: bool = False
    law: MeshLaw = MeshLaw()
    #: Lines for the other kinds of stored value, where it was begun from a manner that has them.
    others: OffsetManners | None = None
    #: How one row of a mesh is recognised, where a manner from a file says so.
    mesh_row: str = ""

    @model_validator(mode="after")
    def _known(self) -> Self:
        for name in (*self.texts, *self.shown):
            word(name)
        return self

    @property
    def missing(self) -> tuple[Word, ...]:
        """What no machine can be worked without and is not there yet."""
        return tuple(w for w in words() if w.needed and not self.texts.get(w.id))

    def dressed(self, line: str) -> str:
        """A line as the first of its line, numbered and sealed where the machine wants it so."""
        if not (text := self.texts.get("line.dress")):
            return line
        dress, seal, how = text.split(_PART)
        body = dress.format(number=1, line=line)
        return body + seal.format(checksum=checksum(body, how))

    def manner(self) -> Manner:
        """Raises ValueError that says what is missing."""
        if self.missing:
            names = ", ".join(w.name.lower() for w in self.missing)
            raise ValueError(f"The manner '{self.name}' is not complete: {names}.")
        text = {w.id: self.texts.get(w.id, "") for w in words()}
        dress, seal, how = ["N{number} {line}", "*{checksum}", "xor"]
        if text["line.dress"]:
            dress, seal, how = text["line.dress"].split(_PART)
        lines = OffsetLines(read=text["offset.read"], set=text["offset.set"], store=text["offset.store"])
        offset = {name: lines for name in OffsetManners.model_fields}
        offset |= {"live_only": OffsetLines(read="", set=lines.set, store="")}
        if self.others is not None:
            offset = dict(self.others) | {self.convention: lines}
        law, row = self.law, self.mesh_row
        if text["says.mesh"] and not row:
            law = law.model_copy(update={"listed": Listing.model_validate_json(text["says.mesh"])})
        try:
            return Manner(
                id=self.id,
                name=self.name,
                about=self.about,
                line=Framing(
                    numbered=bool(text["line.dress"]),
                    dress=dress,
                    seal=seal,
                    checksum=how,
                    renumber=text["line.renumber"],
                    stop=text["line.stop"],
                    recover=text["line.recover"],
                    silence_s=self.silence_s,
                    homing_ends_mesh=self.homing_ends_mesh,
                    answers_after_ack=self.answers_after_ack,
                    error_ends=self.error_ends,
                ),
                says=Says(**{name: text.get(f"says.{name}", "") for name in Says.model_fields} | {"mesh_row": row}),
                does=Does(**{name: text.get(f"does.{name}", "") for name in Does.model_fields}),
                offset=OffsetManners(**offset),
                mesh=law,
            )
        except ValidationError as wrong:
            raise ValueError(str(wrong.errors()[0]["msg"]).removeprefix("Value error, ")) from None


class Version(Value):
    """One state of a manner: which, when, by whom, and what was done to it."""

    number: int
    at: AwareDatetime
    by: Initials
    what: str


def teaching_of(manner: Manner, convention: ConventionId, *, named: tuple[str, str] | None = None) -> Teaching:
    """A manner as something to go on teaching; `named`: under another id and name."""
    texts = {f"does.{name}": text for name, text in manner.does} | {f"says.{name}": text for name, text in manner.says}
    mesh_row = texts.pop("says.mesh_row")
    lines: OffsetLines = getattr(manner.offset, convention)
    texts |= {f"offset.{name}": text for name, text in lines}
    line = manner.line
    texts |= {"line.stop": line.stop, "line.recover": line.recover, "line.renumber": line.renumber}
    if line.numbered:
        texts["line.dress"] = _PART.join((line.dress, line.seal, line.checksum))
    if manner.mesh.listed is not None:
        texts["says.mesh"] = manner.mesh.listed.model_dump_json()
    elif mesh_row:
        texts["says.mesh"] = mesh_row
    return Teaching(
        id=named[0] if named else manner.id,
        name=named[1] if named else manner.name,
        about=manner.about,
        convention=convention,
        texts={k: v for k, v in texts.items() if v},
        silence_s=line.silence_s,
        homing_ends_mesh=line.homing_ends_mesh,
        answers_after_ack=line.answers_after_ack,
        error_ends=line.error_ends,
        law=manner.mesh,
        others=manner.offset,
        mesh_row=mesh_row,
    )


def learn(teaching: Teaching, word_id: str, shown: WordShown) -> tuple[Lesson, Teaching]:
    """What comes of the samples of one word, and the teaching with them; its text changes once it is settled."""
    what = word(word_id)
    kept = teaching.model_copy(update={"shown": teaching.shown | {word_id: shown}})
    if shown.without:
        if what.needed:
            return Lesson(trouble=f"Nothing works without it: {what.why}"), teaching
        return Lesson(), _with(kept, word_id, "")
    lesson, changes = _lesson(kept, what, shown)
    chosen = next((c for c in lesson.choices if c.text == shown.chosen), None)
    if chosen is not None and len(lesson.choices) > 1:
        lesson = lesson.model_copy(update={"choices": (chosen,)})
    if lesson.settled is not None:
        if (clash := _clash(kept, what, lesson.settled)) is not None:
            return clash, kept
        kept = _with(kept.model_copy(update=changes), word_id, lesson.settled)
        if word_id == "says.mesh":
            kept = kept.model_copy(update={"mesh_row": ""})
        return _again(kept, what, lesson)
    return lesson, kept


def _with(teaching: Teaching, word_id: str, text: str) -> Teaching:
    texts = {k: v for k, v in teaching.texts.items() if k != word_id} | ({word_id: text} if text else {})
    return teaching.model_copy(update={"texts": texts})


def _again(teaching: Teaching, what: Word, lesson: Lesson) -> tuple[Lesson, Teaching]:
    """A reply with numbers may show that what confirms is found otherwise: that is learnt anew from what was shown."""
    ack = teaching.shown.get("says.ack")
    if what.kind not in ("numbers", "grid") or ack is None or not ack.said:
        return lesson, teaching
    again, changes = _lesson(teaching, word("says.ack"), ack)
    if again.settled is not None:
        return lesson, _with(teaching.model_copy(update=changes), "says.ack", again.settled)
    return lesson.model_copy(update={"notes": (*lesson.notes, again.trouble)}), teaching


def _lesson(teaching: Teaching, what: Word, shown: WordShown) -> tuple[Lesson, dict[str, object]]:
    match what.kind:
        case "line":
            known = set(what.fields) | set(what.may)
            return learn_line(set(what.fields), known, shown.told, [set(some) for some in what.one_of]), {}
        case "dress":
            return _dress(shown.told), {}
        case "numbers":
            return learn_reply(set(what.fields), shown.said), {}
        case "words":
            return learn_words(shown.said, teaching.texts.get("says.ack", "") if what.of else ""), {}
        case "rest":
            return _rest(teaching, what, shown)
        case "state":
            return learn_state(what.fields[0], shown.said), {}
        case "grid":
            return learn_grid(shown.said, teaching.texts.get("says.ack", "")), {}
        case "ack":
            answers = [s.text for w in words() if w.kind in ("numbers", "grid") and w.of
                       for s in teaching.shown.get(w.id, WordShown()).said]  # fmt: skip
            lesson, after = learn_ack(shown.said, answers)
            return lesson, {"answers_after_ack": after}


def _rest(teaching: Teaching, what: Word, shown: WordShown) -> tuple[Lesson, dict[str, object]]:
    lesson = learn_rest(what.fields[0], shown.said)
    if what.id != "says.error" or lesson.settled is None:
        return lesson, {}
    # Whether a refusal is confirmed as well.
    ack = teaching.texts.get("says.ack", "")
    after = [
        any(compiled(ack).search(line.strip()) for line in s.text.splitlines() if not compiled(lesson.settled).search(line.strip()))
        for s in shown.said
    ] if ack else []  # fmt: skip
    ends = bool(after) and not any(after)
    note = "Nothing confirms behind it: an error ends the reply." if ends else ""
    return lesson.model_copy(update={"notes": (note,) if note else ()}), {"error_ends": ends}


def _alone(what: Word) -> bool:
    """Whether it comes by itself, at any time: it must be told apart from everything else."""
    return what.kind in ("words", "rest") and not what.of


def _clash(teaching: Teaching, what: Word, text: str) -> Lesson | None:
    """A pattern that fits what means something else would be taken for it in the middle of work."""
    if what.is_told or what.kind == "grid":
        return None
    for other in words():
        if other.is_told or other.kind == "grid" or other.id == what.id or not (_alone(what) or _alone(other)):
            continue
        pattern = teaching.texts.get(other.id, "")
        if fits := _meant(teaching, other, pattern, also=text):
            return Lesson(trouble=f"It would also fit “{fits[:60]}”, which means: {other.name.lower()}.")
        if fits := _meant(teaching, what, text, also=pattern):
            return Lesson(trouble=f"“{fits[:60]}” is taken for something else already: {other.name.lower()}.")
    return None


def _meant(teaching: Teaching, what: Word, pattern: str, also: str) -> str:
    """The first line of a word's samples that carries its meaning and fits another pattern also."""
    lines = [line.strip() for said in teaching.shown.get(what.id, WordShown()).said for line in said.text.splitlines()]
    return next(
        (n for n in lines if n and pattern and also and all(compiled(p).search(n) for p in (pattern, also))), ""
    )


# How numbered lines are dressed


def _dress(samples: tuple[Told, ...]) -> Lesson:
    try:
        return _learn_dress(samples)
    except Puzzle as puzzle:
        return puzzle.lesson


def _learn_dress(samples: tuple[Told, ...]) -> Lesson:
    if len(samples) < 2:
        raise Puzzle("Show at least two lines in a row, each with what it says without number and checksum.")
    parts = []
    for k, sample in enumerate(samples):
        bare, full = str(sample.values.get("line", "")).strip(), sample.line.strip()
        at = full.find(bare) if bare else -1
        if at < 0:
            raise Puzzle(f"The {ORDINALS[k]} line does not hold “{bare}”.", k, 0)
        parts.append((full[:at], bare, full[at + len(bare) :]))
    before = [numbers(p[0]) for p in parts]
    if any(len(n) != 1 for n in before):
        raise Puzzle("There must be one number before each line.", 0, 0)
    counted = [int(n[0].value) for n in before]
    if any(b - a != 1 for a, b in itertools.pairwise(counted)):
        raise Puzzle("The numbers before the lines must grow by 1 from line to line.", 1, 0)
    heads = {(p[0][: n[0].start], p[0][n[0].end :]) for p, n in zip(parts, before, strict=True)}
    if len(heads) != 1:
        raise Puzzle("What stands around the number differs from line to line.", 1, 0)
    ((lead, gap),) = heads
    dress = _escaped(lead) + "{number}" + _escaped(gap) + "{line}"
    ends = [p[2] for p in parts]
    if not any(ends):
        return Lesson(
            choices=(Meaning(text=_PART.join((dress, "", "xor")), words="Lines are numbered, without a checksum."),)
        )
    for how, name in (("xor", "exclusive-or"), ("sum", "sum")):
        for spec in ("d", "02X", "02x", "03d"):
            seals = set()
            for head, bare, end in parts:
                total = format(checksum(head + bare, how), spec)
                seals.add(end[: -len(total)] if end.endswith(total) else None)
            if len(seals) == 1 and (seal := seals.pop()) is not None and not re.search(r"[0-9A-Fa-f]$", seal):
                form = "{checksum}" if spec == "d" else f"{{checksum:{spec}}}"
                text = _PART.join((dress, _escaped(seal) + form, how))
                return Lesson(
                    choices=(
                        Meaning(
                            text=text, words=f"Lines are numbered; behind each stands the {name} of all its bytes."
                        ),
                    )
                )
    raise Puzzle(
        "What stands behind the lines is no checksum known here: neither the exclusive-or nor the sum of the bytes.",
        0,
        0,
    )


def _escaped(text: str) -> str:
    return text.replace("{", "{{").replace("}", "}}")


def text_in_words(what: Word, text: str) -> str:
    """What is settled for a word, so that nobody has to read a pattern."""
    if not text:
        return ""
    if what.kind == "line":
        return sentence(text)
    if what.kind == "dress":
        dress, seal, how = text.split(_PART)
        end = f", and behind it {'the exclusive-or' if how == 'xor' else 'the sum'} of its bytes" if seal else ""
        return f"Each line is sent as “{dress.format(number=12, line='…')}”{end}."
    if what.kind == "grid":
        try:
            return Listing.model_validate_json(text).words
        except ValidationError:
            return "Row by row, as its pattern says."
    return pattern_in_words(text)


def what_it_reads(teaching: Teaching, word_id: str, text: str) -> dict[str, str] | None:
    """What the settled pattern of a word finds in another reply; None where it does not fit."""
    pattern = teaching.texts.get(word_id, "")
    found = read(pattern, text) if pattern and word(word_id).kind != "grid" else None
    return None if found is None else dict(found)
