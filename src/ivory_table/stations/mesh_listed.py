"""The mesh that a machine on the line has: read as it lists it, and compared with the kept one before anything depends on it."""

import re

import numpy as np

from ivory_table.core.defaults import SURVEY
from ivory_table.core.mesh import MeshLaw
from ivory_table.link.session import Session
from ivory_table.runs.doubts import Refused
from ivory_table.runs.mesh_in_use import mesh_differs
from ivory_table.stations.work import Work


def listed(work: Work) -> tuple[tuple[float, ...], ...]:
    """The machine's own list of its mesh in mm, front row first. Raises Refused where it cannot be read."""
    return listed_by(work.session, work.now.setup.mesh_law)


def listed_by(session: Session, law: MeshLaw | None = None) -> tuple[tuple[float, ...], ...]:
    """As `listed`, of whatever run; `law`: what the run takes the machine to make of a mesh."""
    does = session.manner
    if does.mesh.listed is not None:
        try:
            read = does.mesh.listed.read("\n".join(session.ask_lines(does.send("mesh_read"))))
        except ValueError as wrong:
            raise Refused("mesh_not_listed", f"What the machine lists as its mesh cannot be read: {wrong}") from None
        return tuple(tuple(float(v) for v in row) for row in read)
    rows = session.ask_all(does.send("mesh_read"), "mesh_row")
    found = [tuple(float(v) for v in re.findall(r"[-+]?\d*\.?\d+", m["heights"])) for m in rows]
    if len(found) < 2 or len({len(row) for row in found}) != 1:
        raise Refused("mesh_not_listed", "The machine did not list a mesh that can be read. Look at its own screen.")
    if (law or does.mesh).first_row == "back":
        found.reverse()
    return tuple(found)


def refuse_another_mesh(work: Work) -> None:
    """Raise Refused where the machine has another mesh than the one that is taken to be in use, or none."""
    state = work.state
    if state.mesh is None or not state.mesh_on or not work.session.manner.can("mesh_read"):
        return
    work.session.progress("asking the machine for its mesh")
    try:
        off = float(np.abs(mesh_differs(state, listed(work))).max())
    except ValueError as wrong:
        raise Refused("mesh_differs", f"{wrong} Send the kept one at Mesh first.") from None
    refuse_off(off, "Send it at Mesh first.")


def refuse_off(off_mm: float, then: str) -> None:
    """Raise Refused where the machine's mesh differs from the kept one by more than it writes; `then`: what to do."""
    if off_mm > SURVEY.same_mm:
        raise Refused(
            "mesh_differs", f"The machine has another mesh than the kept one: up to {off_mm:.3f} mm off. {then}"
        )
