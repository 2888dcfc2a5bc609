"""What was made of the samples of one word: settled, to be chosen, or not understood and where."""

from typing import Annotated

from pydantic import Field

from ivory_table.core.value import Value

MAX_LINE, MAX_REPLY, MOST_SAMPLES = 400, 40_000, 6


class Meaning(Value):
    """One way to understand the samples: what would be kept, and what that means in a sentence."""

    text: str
    words: str


class Mark(Value):
    """A part of a sample that means something: from `start` to `end`, of the sample `sample`."""

    sample: int
    start: Annotated[int, Field(ge=0)]
    end: Annotated[int, Field(ge=0)]
    field: str


class Lesson(Value):
    """With one choice it is settled; with several the person chooses or shows one more; with none `trouble` says why."""

    choices: tuple[Meaning, ...] = ()
    trouble: str = ""
    #: Where the trouble lies: which sample, and the character.
    sample: int | None = None
    at: int | None = None
    #: What is worth knowing although it is settled.
    notes: tuple[str, ...] = ()
    marks: tuple[Mark, ...] = ()

    @property
    def settled(self) -> str | None:
        """The one pattern that is left; None while there are several or none."""
        return self.choices[0].text if len(self.choices) == 1 else None


class Puzzle(ValueError):
    """What is wrong with the samples, said to the person, and where."""

    def __init__(self, sentence: str, sample: int | None = None, at: int | None = None) -> None:
        super().__init__(sentence)
        self.lesson = Lesson(trouble=sentence, sample=sample, at=at)


ORDINALS = ("first", "second", "third", "fourth", "fifth", "sixth")
