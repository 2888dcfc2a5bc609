"""One thing found in a job: how bad, on which line, and what to write instead."""

from typing import Literal

from ivory_table.core.value import Value

Level = Literal["stop", "warning", "note"]
ORDER: dict[Level, int] = {"stop": 0, "warning": 1, "note": 2}


class Finding(Value):
    """`line` is None where it is about something that is missing. `instead`: lines to write, in the machine's words."""

    code: str
    level: Level
    line: int | None
    text: str
    instead: tuple[str, ...] = ()
