"""A question sent on a line that nobody understands yet, and everything that is said to it."""

from typing import Annotated

from pydantic import Field

from ivory_table.core.teach.catalogue import word
from ivory_table.core.value import Id, Value
from ivory_table.link.ports import exchange, open_port
from ivory_table.runs.doubts import Refused
from ivory_table.stations.lines import Lines

from .pages import Pages


class Catch(Value):
    """The answer that is wanted. Only lines that ask are sent for it: nothing moves, nothing heats."""

    word: Annotated[str, Field(pattern=r"^[a-z_.]{1,40}$")]
    manner: Id
    url: str | None = None


class Caught(Value):
    #: What the machine said on its own when the line was opened, what was sent, and what it said to that.
    greeting: str
    sent: str
    text: str


#: The line that each answer comes to; of several the first that is taught.
ASKS: dict[str, tuple[str, ...]] = {
    "says.temperatures": ("does.temperatures",),
    "says.position": ("does.where",),
    "says.trigger": ("does.trigger",),
    "says.mesh": ("does.mesh_read",),
    "says.stored": ("offset.read",),
    "says.counter": ("does.counter",),
    "says.ack": ("does.absolute", "does.settle", "line.renumber"),
    "says.error": (),
    "says.ready": (),
}
#: A line that no machine knows.
NO_SUCH_WORD = "NOSUCHWORD"


def caught(pages: Pages, lines: Lines, machine_id: str, wanted: Catch) -> Caught:
    """Raises Refused for an answer that no question brings, or where it cannot be sent."""
    machine = lines.desk.workshop.machine(machine_id)
    if wanted.word not in ASKS:
        raise Refused(
            "not_asking", "Only lines that ask are sent so. Send this one yourself, and paste what is said.", "word"
        )
    teaching = pages.teaching(wanted.manner, machine.convention)
    asks = ASKS[wanted.word]
    line = next((teaching.texts[w] for w in asks if teaching.texts.get(w)), "" if asks else NO_SUCH_WORD)
    if not line:
        raise Refused("not_taught", f"Teach “{word(asks[0]).name.lower()}” first: its line is what is sent.", "word")
    if lines.session(machine_id) is not None:
        raise Refused("line_open", f"{machine.name} is on the line. Leave it first, then ask.", "word")
    url = (wanted.url or "").strip() or lines.status(machine_id).url
    if not url:
        raise Refused("no_url", "Say where the line is: a serial device, or socket://host:port.", "url")
    greeting, text = _said_to(url, teaching.dressed(line), greets=wanted.word == "says.ready")
    if url != machine.line_url and (lines.doors is None or lines.doors.address(machine_id) is None):
        lines.desk.workshop.keep_machine(machine.model_copy(update={"line_url": url}))
    if not text:
        why = (
            "It said nothing when the line was opened. Switch it off and on, and paste what it says."
            if wanted.word == "says.ready"
            else "Nothing was said to it. Check power, the line and its speed, and the line that was sent."
        )
        raise Refused("silent", why, "word")
    return Caught(greeting=greeting, sent=line, text=text)


def _said_to(url: str, line: str, *, greets: bool) -> tuple[str, str]:
    """What it says on its own, and to a line; twice, as the line may just have been let go by somebody else."""
    for _ in range(2):
        try:
            port = open_port(url)
        except ValueError as wrong:
            raise Refused("cannot_open", str(wrong), "url") from None
        greeting, text = exchange(port, line)
        found = (greeting.splitlines()[-1] if greeting else "") if greets else text
        if found:
            return greeting, found
    return "", ""
