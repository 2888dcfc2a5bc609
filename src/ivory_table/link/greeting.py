"""Meeting a machine: whether somebody is there, and in which state; and waking one that has halted."""

import queue
import time
from typing import TYPE_CHECKING

from ivory_table.link.trouble import NotConfirmed, Refusal

if TYPE_CHECKING:
    from ivory_table.link.conversation import Conversation

#: So soon a machine that has started anew begins to say so, and one that has something to say without.
STARTS_S, SPEAKS_S = 1.0, 0.3
#: So soon a halted machine says that it wakes.
WAKES_S = 1.5


def wake(session: "Conversation") -> None:
    """Recover a halted machine, then greet it."""
    session.set(state="connecting", words="Waiting for the machine to answer.", homed=False)
    line = session.manner.line
    if line.recover:
        session.write(line.recover, dress=False)
        if line.numbered and not session.heard_one_of(("ready", "ack"), WAKES_S):
            # Some count their lines even then.
            session.write(line.recover)
    greet(session)


def greet(session: "Conversation") -> None:
    """Find out whether somebody is there, and in which state."""
    ends, said = time.monotonic() + (STARTS_S if session.may_restart else SPEAKS_S), False
    while time.monotonic() < ends:
        # Until it has said what it had to say and is quiet.
        try:
            session.inbox.get(timeout=0.15)
            said = True
        except queue.Empty:
            if said:
                break
        session.still_there()
    try:
        try:
            _ask_who_is_there(session)
        except TimeoutError:
            # Silence is only believed of a line that was asked twice.
            _ask_who_is_there(session)
        if session.manner.does.absolute:
            session.converse(session.manner.does.absolute, "", 20.0)
        if session.status.hot:
            told = session.status
            session.set(
                heat_words=f"The machine is heating already: plate to {told.bed_target_c:.0f} °C, tip to "
                f"{told.tip_target_c:.0f} °C. That was not asked for from here."
            )
    except (TimeoutError, NotConfirmed, Refusal):
        if session.status.state == "connecting":
            session.lose(
                f"Nobody on this line answers in the manner '{session.manner.name}'. Check power, the speed of the line, "
                "and whether the manner is this machine's."
            )


def _ask_who_is_there(session: "Conversation") -> None:
    if session.manner.line.renumber:
        session.converse(session.manner.line.renumber, "", 20.0)
    session.converse(session.manner.send("temperatures"), "temperatures", 20.0)
