"""A question sent on a line that nobody understands yet, and everything that is said to it."""

from typing import Annotated

from pydantic import Field

from ivory_table.core.teach.catalogue import word
from ivory_table.core.value import Id, Value
from ivory_table.link.session import exchange, open_port
from ivory_table.runs.doubts import Refused
from ivory_table.stations.lines import Lines

from .pages import Pages


class Catch(Value):
    """The word whose line is sent, as it is taught so far. Only lines that ask are sent so: nothing moves or heats."""

    word: Annotated[str, Field(pattern=r"^[a-z_.]{1,40}$")]
    manner: Id
    url: str | None = None


class Caught(Value):
    #: What the machine said on its own when the line was opened, and what it said to the line.
    greeting: str
    sent: str
    text: str


#: Lines that only ask.
ASKING = ("does.temperatures", "does.where", "does.trigger", "does.mesh_read", "offset.read", "does.absolute")


def caught(pages: Pages, lines: Lines, machine_id: str, wanted: Catch) -> Caught:
    """Raises Refused for a line that does more than ask, or where it cannot be sent."""
    machine = lines.desk.workshop.machine(machine_id)
    if wanted.word not in ASKING:
        raise Refused(
            "not_asking", "Only lines that ask are sent so. Send this one yourself, and paste what is said.", "word"
        )
    teaching = pages.teaching(wanted.manner, machine.convention)
    template = teaching.texts.get(wanted.word, "")
    if not template:
        raise Refused(
            "not_taught", f"Teach “{word(wanted.word).name.lower()}” first: its line is what is sent.", "word"
        )
    if lines.session(machine_id) is not None:
        raise Refused("line_open", f"{machine.name} is on the line. Leave it first, then ask.", "word")
    url = (wanted.url or "").strip() or lines.status(machine_id).url
    if not url:
        raise Refused("no_url", "Say where the line is: a serial device, or socket://host:port.", "url")
    sent = template
    dress = teaching.texts.get("line.dress")
    try:
        port = open_port(url)
    except ValueError as wrong:
        raise Refused("cannot_open", str(wrong), "url") from None
    if url != machine.line_url and (lines.doors is None or lines.doors.address(machine_id) is None):
        lines.desk.workshop.keep_machine(machine.model_copy(update={"line_url": url}))
    greeting, text = exchange(port, teaching.dressed(sent) if dress else sent)
    if not text:
        raise Refused(
            "silent", "Nothing was said to it. Check power, the line and its speed, and the line that was sent.", "word"
        )
    return Caught(greeting=greeting, sent=sent, text=text)
