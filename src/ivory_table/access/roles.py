"""What a device of the network may do, and what an address asks of it."""

import re
from typing import Literal

from ivory_table.core.value import Id, Value

#: What a device can be let in for.
DeviceRole = Literal["look", "work", "move"]
#: `here` is the machine that serves; nobody can be let in as that.
Role = Literal["look", "work", "move", "here"]
RANK: dict[Role, int] = {"look": 0, "work": 1, "move": 2, "here": 3}
ROLE_WORDS: dict[Role, str] = {
    "look": "look",
    "work": "work: keep what is measured and judged",
    "move": "set up and move machines",
    "here": "do everything",
}


class Who(Value):
    """Whoever asks: the serving machine, or a device that was let in."""

    device: Id
    name: str
    role: Role


#: Whoever sits at the machine that serves. Without a network nobody else can ask.
HERE = Who(device="here", name="the first machine", role="here")

#: What is answered without having been let in.
_OPEN = (("GET", "/api/network/me"), ("POST", "/api/network/join"))
#: What only the serving machine may do: letting in and shutting out, and carrying everything away or bringing it.
_HERE = ("/api/network/codes", "/api/network/devices/.*", "/api/setup/backup", "/api/carried(/.*)?")
#: Stop is for everybody: it only ever ends a motion.
_LOOK = ("/api/machines/[^/]+/line/stop", "/api/network/leave")
#: What is kept in runs and logbooks. Everything else that changes something sets up or moves machines.
_WORK = (
    "/api/runs",
    "/api/runs/import",
    "/api/runs/[^/]+/(prepare|tram|mesh|offset|first_layer|sign_off)(/practice|/preview|/readback)?",
    "/api/runs/[^/]+/(feel/practice|second/practice|z-steps)",
    "/api/runs/[^/]+/practice/(disturb|fault)",
    "/api/machines/[^/]+/(logbook|correction|jobs|jobs/copy)",
)


def needed(method: str, path: str) -> Role | None:
    """The least role that an address asks for; None where nobody is asked. What is not listed asks for the most it can be."""
    if not path.startswith("/api/"):
        return None  # the page itself, which holds nothing of the workshop
    reads = method in ("GET", "HEAD")
    if ("GET" if reads else method, path) in _OPEN:
        return None
    if _is_one(_HERE, path):
        return "here"
    if reads or _is_one(_LOOK, path):
        return "look"
    return "work" if _is_one(_WORK, path) else "move"


def _is_one(patterns: tuple[str, ...], path: str) -> bool:
    return any(re.fullmatch(p, path) for p in patterns)


def may(who: Who, role: Role) -> bool:
    return RANK[who.role] >= RANK[role]
