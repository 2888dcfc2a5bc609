"""How a machine lists its mesh, learnt from lists whose corners are known."""

from typing import Literal

from ivory_table.core.grid_layout import LAYOUTS, Listing
from ivory_table.core.grid_text import read_grid
from ivory_table.core.manner import compiled

from .lesson import ORDINALS, Lesson, Meaning, Puzzle
from .pieces import Said


def grid_lines(text: str, ack: str) -> str:
    """A listed mesh without the lines that only confirm."""
    out = []
    for line in text.replace("\r", "\n").split("\n"):
        found = compiled(ack).search(line.strip()) if ack and line.strip() else None
        out.append(line if found is None else line.strip()[found.end() :])
    return "\n".join(out)


#: Heights are typed with three digits.
_SAME_MM = 0.0015
UNITS_OF_HEIGHTS: tuple[Literal["", "inch", "micron"], ...] = ("", "inch", "micron")
_CORNERS = {"front_left": (0, 0), "front_right": (0, -1), "back_left": (-1, 0), "back_right": (-1, -1)}


def learn_grid(samples: tuple[Said, ...], ack: str) -> Lesson:
    """How lists of known corners are laid out; `ack` is the pattern of a confirming line, empty where none is known."""
    try:
        return _learn(samples, ack)
    except Puzzle as puzzle:
        return puzzle.lesson


def _learn(samples: tuple[Said, ...], ack: str) -> Lesson:
    if not samples:
        raise Puzzle("Paste the list as the machine gives it.")
    left = [
        Listing(layout=layout, unit=unit, bare=bare)
        for bare in (True, False)
        for layout in LAYOUTS
        for unit in UNITS_OF_HEIGHTS
    ]
    for k, sample in enumerate(samples):
        known = {c: float(v) for c, v in sample.values.items() if c in _CORNERS and not isinstance(v, str)}
        if len(known) < 3:
            raise Puzzle("Say how high three corners are: front left, front right, back left.", k)
        text = grid_lines(sample.text, ack)
        try:
            read_grid(text)
        except ValueError as wrong:
            raise Puzzle(f"The {ORDINALS[k]} list cannot be read: {wrong}", k) from None
        left = [listing for listing in left if _fits(listing, text, known)]
        if not left:
            raise Puzzle(
                "These corners are not the corners of this list, however it is turned. Look at their signs.", k
            )
    # Without headings a list is read without them: a row of heights may look like some.
    seen: dict[str, Meaning] = {}
    for listing in left:
        seen.setdefault(listing.words, Meaning(text=listing.model_dump_json(), words=listing.words))
    return Lesson(choices=tuple(seen.values())[:6])


def _fits(listing: Listing, text: str, known: dict[str, float]) -> bool:
    try:
        z = listing.read(text)
    except ValueError:
        return False
    return all(abs(float(z[_CORNERS[c]]) - v) <= _SAME_MM for c, v in known.items())
