"""How a manner is proved on a machine: the steps in their order, and what was found."""

import tomllib
from functools import cache
from importlib.resources import files
from typing import Literal

from pydantic import AwareDatetime

from ivory_table.core.value import Id, Initials, Note, Value

from .catalogue import word


class Step(Value):
    """One thing to prove: which words it proves, and what happens."""

    id: Id
    name: str
    words: tuple[str, ...]
    before: str
    by_hand: str
    #: Numbers that the person reads from the machine's own screen where it is on no line.
    reads: tuple[str, ...] = ()


class Proved(Value):
    """What came of one step: what was expected beside what was heard. `texts`: the words as they were tried."""

    step: Id
    ok: bool
    at: AwareDatetime
    by: Initials
    how: Literal["line", "hand"]
    expected: Note
    heard: Note
    texts: dict[str, str]


@cache
def steps() -> tuple[Step, ...]:
    """What is tried to prove a manner, from the table beside this file."""
    text = files(__package__).joinpath("proving.toml").read_text("utf-8")
    found = tuple(Step.model_validate(body) for body in tomllib.loads(text)["step"])
    for step in found:
        for name in step.words:
            word(name)
    return found


def step(step_id: str) -> Step:
    """Raises ValueError for one that there is not."""
    found = next((s for s in steps() if s.id == step_id), None)
    if found is None:
        raise ValueError(f"There is no step '{step_id}' in proving a manner.")
    return found


def proof_of(word_id: str, text: str, tried: tuple[Proved, ...]) -> Proved | None:
    """The newest trial of a word as it stands now; None where it was never tried so."""
    return next((p for p in reversed(tried) if p.texts.get(word_id) == text and text), None)
