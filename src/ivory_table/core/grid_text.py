"""A grid of heights out of whatever a machine or a program prints: lists in brackets, tables with bars, headings, triples."""

import csv
import io
import itertools
import json
import re
from typing import Any

from .value import Value

MAX_PASTE = 200_000
#: A row of 25 heights with all their digits has a few hundred characters, a height a dozen.
MAX_LINE = 4000
MAX_CELL = 40
MOST_EACH_WAY = 25
_NUMBER = re.compile(r"[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?")
#: A list within brackets that holds no other.
_LIST = re.compile(r"[\[({]([^\[\](){}]{0,4000})[\])}]")
Cells = list[tuple[int, list[str]]]


class GridText(Value):
    """Numbers as they stand in a text, its first row first; places where the text gives them."""

    heights_mm: tuple[tuple[float, ...], ...]
    #: Positions along a row, and of the rows; None where the text does not say.
    xs_mm: tuple[float, ...] | None = None
    ys_mm: tuple[float, ...] | None = None


def read_grid(text: str, *, bare: bool = False) -> GridText:
    """Numbers from pasted text. Where positions are given, x grows along a row and y from row to row.

    `bare`: there are no headings, even where the first row looks like some. Raises ValueError with the line and the number it cannot read.
    """
    if len(text) > MAX_PASTE:
        raise ValueError(f"That is {len(text):,} characters; a mesh has a few hundred. Paste the grid alone.")
    text = text.strip("\ufeff \t\r\n").replace("−", "-")
    if not text:
        raise ValueError("There are no numbers here. Paste one row of the mesh per line.")
    if text[0] in "[{" and (found := _of_json(text)) is not None:
        return _refuse_impossible(found)
    cells = _of_lists(text) or [(n, _cells(line, n)) for n, line in _rows(text)]
    if not cells:
        raise ValueError("There are no numbers here. Paste one row of the mesh per line.")
    return _refuse_impossible(_of_triples(cells) or _of_table(cells, bare=bare))


# From JSON


def _of_json(text: str) -> GridText | None:
    """The first grid or list of points in a JSON text; None where it is no JSON or holds neither."""
    try:
        body = json.loads(text)
    except (ValueError, RecursionError):
        return None
    return _grid_in(body, 0)


def _grid_in(body: Any, depth: int) -> GridText | None:
    if depth > 8:
        return None
    if isinstance(body, dict):
        numbers = {key.lower().removesuffix("_mm"): v for key, v in body.items() if isinstance(key, str)}
        for name in ("heights", "z", "points", "mesh"):
            if name in numbers and (found := _grid_in(numbers[name], depth + 1)) is not None:
                xs, ys = numbers.get("xs", numbers.get("x")), numbers.get("ys", numbers.get("y"))
                if found.xs_mm is None and _fits(xs, found.heights_mm[0]) and _fits(ys, found.heights_mm):
                    return _ordered(found.heights_mm, list(map(float, xs or ())), list(map(float, ys or ())))
                return found
        return next((f for v in body.values() if (f := _grid_in(v, depth + 1)) is not None), None)
    if isinstance(body, list) and body:
        if all(isinstance(p, dict) and {"x", "y", "z"} <= set(p) for p in body):
            body = [[p["x"], p["y"], p["z"]] for p in body]
        if all(isinstance(row, list) and row and all(map(_is_value, row)) for row in body):
            cells = [(n, [repr(float(v)) for v in row]) for n, row in enumerate(body, 1)]
            return _of_triples(cells) or _of_table(cells)
        return next((f for v in body if (f := _grid_in(v, depth + 1)) is not None), None)
    return None


def _is_value(v: Any) -> bool:
    return isinstance(v, (int, float)) and not isinstance(v, bool)


def _fits(axis: Any, along: Any) -> bool:
    return isinstance(axis, list) and len(axis) == len(along) and all(map(_is_value, axis))


# From lines


def _rows(text: str) -> list[tuple[int, str]]:
    """(number, line) of the lines that may hold a row: no empty ones, no rules, no captions."""
    out = []
    for n, line in enumerate(text.splitlines(), 1):
        rule = not re.search(r"[\w.]", line)
        caption = not re.search(r"\d", line) and not re.search(r"[,;\t|]", line)
        if line.strip() and not rule and not caption:
            out.append((n, line))
    return out


def _of_lists(text: str) -> Cells | None:
    """Rows as lists in brackets; None where there are none."""
    rows = []
    for found in _LIST.finditer(text):
        n = text.count("\n", 0, found.start()) + 1
        rows.append((n, [c for c in re.split(r"[,;\s]+", found[1].strip()) if c]))
    return rows if len(rows) >= 2 else None


def _cells(line: str, number: int) -> list[str]:
    line = line.strip("\r\n")
    if len(line) > MAX_LINE:
        raise ValueError(f"Line {number} has {len(line):,} characters; a row of a mesh has a few hundred.")
    if "|" in line:
        cells = [c.strip() for c in line.split("|")]
        # The frame of a table, and a corner left empty within it.
        cells = cells[1:] if line.lstrip().startswith("|") else cells
        cells = cells[:-1] if line.rstrip().endswith("|") else cells
        if len(cells) == 2 and " " in cells[1]:
            cells = [cells[0], *cells[1].split()]
    else:
        label, _, rest = line.rpartition(":")
        line = rest if label and re.search(r"\d", rest) else line
        mark = next((mark for mark in ("\t", ";", ",") if mark in line), None)
        cells = [c.strip() for c in next(csv.reader(io.StringIO(line), delimiter=mark))] if mark else line.split()
        if mark and len(cells) > 2 and not cells[-1] and cells[0]:
            cells = cells[:-1]  # a mark behind each number, the last one too
        if label and re.fullmatch(r"\D*\d+", label) and re.search(r"\d", rest):
            cells = [re.findall(r"\d+", label)[-1], *cells]
    for column, cell in enumerate(cells, 1):
        if len(cell) > MAX_CELL:
            raise ValueError(
                f"Line {number}, number {column} begins with '{cell[:20]}' and is too long for a number of mm."
            )
    return cells


def _of_triples(cells: Cells) -> GridText | None:
    """Rows of x, y and height, in any order, that fill a grid; None where they are something else."""
    body = cells[1:] if not any(map(_is_number, cells[0][1])) else cells
    if len(body) < 4 or any(len(row) != 3 or not all(map(_is_number, row)) for _, row in body):
        return None
    points = {(float(x), float(y)): float(z) for _, (x, y, z) in body}
    xs, ys = sorted({x for x, _ in points}), sorted({y for _, y in points})
    apart = all(b - a >= 1 for axis in (xs, ys) for a, b in itertools.pairwise(axis))
    if len(points) != len(body) or len(points) != len(xs) * len(ys) or min(len(xs), len(ys)) < 2 or not apart:
        return None
    return GridText(
        heights_mm=tuple(tuple(points[x, y] for x in xs) for y in ys),
        # Counted points instead of positions say nothing of where they lie.
        xs_mm=None if _counted(xs) else tuple(xs),
        ys_mm=None if _counted(ys) else tuple(ys),
    )


def _of_table(cells: Cells, *, bare: bool = False) -> GridText:
    x_head = None if bare else _x_headings(cells)
    body = cells[1:] if x_head is not None else cells
    y_head: list[float] | None = None
    beside = body and all(len(row) == len(x_head) + 1 for _, row in body) if x_head is not None else False
    if beside or (x_head is None and _indices_beside(body)):
        y_head = [_number(row[0], n, 1) for n, row in body]
        body = [(n, row[1:]) for n, row in body]
    width = len(body[0][1]) if body else 0
    heights: list[list[float]] = []
    for n, row in body:
        if len(row) != width:
            raise ValueError(
                f"Line {n} has {len(row)} numbers where the first row has {width}. Every row needs the same."
            )
        heights.append([_number(cell, n, c + 1) for c, cell in enumerate(row)])
    if len(heights) < 2 or width < 2:
        raise ValueError("A mesh needs at least two rows and two columns of numbers.")
    if len(heights) > MOST_EACH_WAY or width > MOST_EACH_WAY:
        raise ValueError(f"{len(heights)} rows by {width} columns is more than {MOST_EACH_WAY} each way.")
    found = _ordered(tuple(tuple(row) for row in heights), x_head, y_head)
    # Counted points say in which order they come, and nothing of where they lie.
    return found.model_copy(
        update={
            "xs_mm": None if x_head and _counted(x_head) else found.xs_mm,
            "ys_mm": None if y_head and _counted(y_head) else found.ys_mm,
        }
    )


def _ordered(rows: tuple[tuple[float, ...], ...], xs: list[float] | None, ys: list[float] | None) -> GridText:
    """The grid with positions that grow: they say more than an order asked for."""
    if ys is not None:
        order = sorted(range(len(ys)), key=ys.__getitem__)
        rows, ys = tuple(rows[i] for i in order), [ys[i] for i in order]
    if xs is not None:
        order = sorted(range(len(xs)), key=xs.__getitem__)
        rows, xs = tuple(tuple(row[i] for i in order) for row in rows), [xs[i] for i in order]
    return GridText(heights_mm=rows, xs_mm=tuple(xs) if xs else None, ys_mm=tuple(ys) if ys else None)


def _counted(axis: list[float]) -> bool:
    """Whether these are points counted from 0 or 1, up or down, and no positions: no mesh has its points 1 mm apart."""
    steps = {b - a for a, b in itertools.pairwise(axis)}
    return len(axis) > 1 and steps in ({1.0}, {-1.0}) and min(axis) in (0.0, 1.0)


def _indices_beside(body: Cells) -> bool:
    """Whether every row begins with its own number, written without a decimal point, where heights have one."""
    first = [row[0] if row else "" for _, row in body]
    if len(body) < 2 or not all(re.fullmatch(r"\d+", c) for c in first):
        return False
    return _counted([float(c) for c in first]) and any("." in c for _, row in body for c in row[1:])


def _x_headings(cells: Cells) -> list[float] | None:
    """The first row as positions or counted points: numbers that grow or fall evenly, unlike heights, or a corner left empty."""
    n, first = cells[0]
    if len(cells) < 2 or not first:
        return None
    wider = len(cells[1][1]) == len(first) + 1
    body = first if wider or _is_number(first[0]) else first[1:]
    if not body or not all(_is_number(c) for c in body):
        if all(not _is_number(c) for c in first):
            raise ValueError(f"Line {n} holds words, not positions in mm. Leave the line out, or give positions.")
        return None
    values = [float(c) for c in body]
    if all(re.fullmatch(r"\d+", c) for c in body) and _counted(values):
        return values
    apart = [b - a for a, b in itertools.pairwise(values)]
    grows = all(d >= 1 for d in apart) or all(d <= -1 for d in apart)
    if max(map(abs, values)) > 2000:
        return None  # no place on any plate
    return values if grows and (wider or len(body) < len(first) or max(values) > 10) else None


def _refuse_impossible(found: GridText) -> GridText:
    worst = max(abs(v) for row in found.heights_mm for v in row)
    if not worst < 1e6:
        raise ValueError(f"{worst:g} is no height in mm.")
    return found


def _is_number(cell: str) -> bool:
    return _NUMBER.fullmatch(cell) is not None


def _number(cell: str, line: int, column: int) -> float:
    if not cell:
        raise ValueError(f"Line {line}, number {column} is missing. A mesh cannot have a hole: measure that point.")
    if not _is_number(cell):
        raise ValueError(f"Line {line}, number {column} is '{cell[:20]}', which is not a number of mm.")
    value = float(cell)
    if not abs(value) < 1e6:
        raise ValueError(f"Line {line}, number {column} is {cell[:20]}, which is no height in mm.")
    return value
