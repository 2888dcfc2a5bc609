"""The words of a manner: what each is for, what is asked for it, and what is done without it."""

import tomllib
from functools import cache
from importlib.resources import files
from typing import Literal

from ivory_table.core.value import Value

Kind = Literal["line", "dress", "numbers", "words", "ack", "rest", "state", "grid"]


class Word(Value):
    """One thing that a machine is told, or one that it says."""

    id: str
    group: str
    name: str
    kind: Kind
    why: str
    who: tuple[str, ...]
    #: What is done where the machine has no such word; empty where nothing works without it.
    without: str = ""
    ask: str
    #: What the numbers of each sample are, in our units.
    values: tuple[dict[str, float | str], ...] = ()
    fields: tuple[str, ...] = ()
    may: tuple[str, ...] = ()
    one_of: tuple[tuple[str, ...], ...] = ()
    #: The line that this is the answer to.
    of: str = ""
    needed: bool = False
    moves: bool = False

    @property
    def asked(self) -> tuple[str, ...]:
        """What the person is asked to type, once for each set of values."""
        return tuple(self.ask.format(**v) for v in self.values) or (self.ask,)

    @property
    def is_told(self) -> bool:
        """Whether it is sent to the machine, not said by it."""
        return self.kind in ("line", "dress")


@cache
def words() -> tuple[Word, ...]:
    """Every word that a manner may have, from the table beside this file."""
    text = files(__package__).joinpath("words.toml").read_text("utf-8")
    return tuple(Word.model_validate(body) for body in tomllib.loads(text)["word"])


@cache
def word(word_id: str) -> Word:
    """Raises ValueError for one that there is not."""
    found = next((w for w in words() if w.id == word_id), None)
    if found is None:
        raise ValueError(f"There is no word '{word_id}' in a manner.")
    return found
