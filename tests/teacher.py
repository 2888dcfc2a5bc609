"""A person who teaches: types what is asked, pastes what the machine answers, says what they see. Three samples of each."""

import random

from ivory_table.core.teach.catalogue import Word, words
from ivory_table.core.teach.lesson import Lesson
from ivory_table.core.teach.pieces import Said
from ivory_table.core.teach.teaching import Teaching, WordShown, learn
from ivory_table.core.teach.told import Told

from .dialects import WORD_OF, Dialect

COMMAND_OF = {word: command for command, word in WORD_OF.items()}


def shown_by(dialect: Dialect, word: Word, seed: int = 0) -> WordShown | None:
    """What the person shows for a word; None where this machine has none."""
    r = random.Random(seed)
    if word.kind == "line":
        if word.id == "line.renumber" and dialect.dress == "none":
            return None
        return WordShown(told=tuple(Told(values=v, line=dialect.line(COMMAND_OF[word.id], v)) for v in word.values))
    if word.kind == "dress":
        if dialect.dress == "none":
            return None
        dialect.said = 11
        bare = [dialect.line("home", {}), dialect.line("where", {}), dialect.line("settle", {})]
        return WordShown(told=tuple(Told(values={"line": b}, line=dialect.dressed(b)) for b in bare))
    return WordShown(said=tuple(_said(dialect, word, k, r) for k in range(3)))


def _reply(dialect: Dialect, lines: list[str]) -> str:
    return "\n".join(dialect.confirmed(lines))


def _said(dialect: Dialect, word: Word, k: int, r: random.Random) -> Said:
    what = word.id.removeprefix("says.")
    if what == "temperatures":
        values = [
            {"bed": 23.1, "bed_target": 0.0, "tip": 22.8, "tip_target": 0.0},
            {"bed": 58.7, "bed_target": 60.0, "tip": 149.6, "tip_target": 150.0},
            {"bed": 45.2, "bed_target": 41.0, "tip": 101.5, "tip_target": 140.0},
        ][k]
    elif what == "position":
        values = dict(zip("xyz", [(30.25, 40.5, 5.125), (110.75, 62.25, 1.875), (7.5, 101.125, 12.5)][k], strict=True))
    elif what == "touched":
        values = {"z": (-0.125, 0.2375, 1.062)[k]}
    elif what == "stored":
        values = {"value": (-1.235, 0.865, -0.345)[k]}
    elif what == "counter":
        values = {"prints": (1043, 57, 388)[k]}
    elif what == "trigger":
        state = ("open", "closed", "open")[k]
        return Said(
            text=_reply(dialect, dialect.answer("trigger", {"state": state == "closed"})), values={"state": state}
        )
    elif what == "again":
        line = (7, 12, 143)[k]
        return Said(text=dialect.again(line), values={"line": line})
    elif what == "mesh":
        heights = [[round(r.uniform(-0.3, 0.3), 3) for _ in range(5)] for _ in range(4)]
        corners = {"front_left": heights[0][0], "front_right": heights[0][-1], "back_left": heights[-1][0]}
        return Said(text=_reply(dialect, dialect.grid(heights)), values=corners)
    else:
        why = ("home first", "too cold to push", "no such place")[k]
        text = {
            "ack": lambda: _reply(dialect, []),
            "ready": lambda: dialect.ready,
            "alive": lambda: dialect.alive,
            "missed": lambda: _reply(dialect, ["met nothing"]).replace("=>", "").replace("ok\n", ""),
            "error": lambda: "\n".join([dialect.error(why), *([] if dialect.error_ends else dialect.confirmed([]))]),
            "halt": lambda: dialect.halted(why),
        }[what]()
        return Said(text=text, values={"text": why} if word.kind == "rest" else {})
    return Said(text=_reply(dialect, dialect.answer(what, values)), values=values)


def teach(dialect: Dialect, teaching: Teaching) -> tuple[Teaching, dict[str, Lesson]]:
    """Every word, in the order in which they are asked for."""
    lessons: dict[str, Lesson] = {}
    for word in words():
        shown = shown_by(dialect, word, dialect.seed)
        if shown is None:
            continue
        lessons[word.id], teaching = learn(teaching, word.id, shown)
    return teaching, lessons
