"""What the machine has of the kept mesh: measured, sent, stored and in use are four things, each seen or not."""

from typing import Literal

import numpy as np

from ivory_table.core.defaults import SURVEY
from ivory_table.core.mesh import MeshLaw, fade_for
from ivory_table.core.value import Value
from ivory_table.runs.mesh_in_use import mesh_as_sent, mesh_back_same
from ivory_table.runs.run import OpenRun

Seen = Literal["yes", "no", "not known"]


class MeshState(Value):
    """One of the four things a mesh must be before it does anything."""

    name: Literal["measured", "sent", "stored", "in use"]
    seen: Seen
    words: str


class MeshUse(Value):
    """Where the kept mesh stands at the machine, what to send, and what the machine makes of it."""

    states: tuple[MeshState, ...]
    #: Lines in this machine's words: to send the mesh, to keep it through a power cut, to follow it, to list it.
    send: tuple[str, ...]
    store: str
    on: str
    read: str
    law: MeshLaw
    law_words: str
    fade_words: str


def use_of(run: OpenRun) -> MeshUse | None:
    """None where no mesh is kept."""
    state, does = run.state, run.manner
    mesh = state.mesh
    if mesh is None:
        return None
    heights = mesh_as_sent(state)
    return MeshUse(
        states=states_of(run),
        send=lines_to_send(run),
        store=does.does.mesh_store,
        on=does.does.mesh_on,
        read=does.does.mesh_read,
        law=run.setup.mesh_law,
        law_words=law_words(run.setup.mesh_law),
        fade_words=fade_words(run, float(np.ptp(heights))),
    )


def states_of(run: OpenRun) -> tuple[MeshState, ...]:
    state, line = run.state, run.manner.line
    mesh, back = state.mesh, state.mesh_back_mm
    assert mesh is not None
    brought = mesh == run.setup.mesh
    how = (
        f"{len(mesh.readings)} points read, {mesh.values.size} filled"
        if mesh.readings
        else f"{mesh.values.size} points"
    )
    sent: MeshState
    if back is not None and not mesh_back_same(state):
        sent = MeshState(name="sent", seen="no", words=f"the machine lists another mesh: up to {back:.3f} mm off")
    elif mesh_back_same(state):
        sent = MeshState(name="sent", seen="yes", words="read back, the same at every point")
    elif state.mesh_sent:
        sent = MeshState(name="sent", seen="yes", words="sent; not read back")
    elif brought:
        sent = MeshState(name="sent", seen="not known", words="as the last run left it; nobody has looked since")
    else:
        sent = MeshState(name="sent", seen="no", words="the machine has not got it yet")
    if state.mesh_stored:
        stored = MeshState(name="stored", seen="yes", words="kept through a power cut")
    elif run.manner.can("mesh_store"):
        stored = MeshState(
            name="stored", seen="not known" if brought else "no", words="gone when the machine is switched off"
        )
    else:
        stored = MeshState(name="stored", seen="not known", words="no line to store it is on record for this machine")
    ends = "; homing switches it off" if line.homing_ends_mesh else ""
    if not state.mesh_on:
        used = MeshState(name="in use", seen="no", words=f"switched off{ends}")
    elif state.mesh_on_told:
        used = MeshState(name="in use", seen="yes", words=f"switched on{ends}")
    else:
        used = MeshState(name="in use", seen="not known", words=f"taken to be on; nobody has switched it on{ends}")
    return (MeshState(name="measured", seen="yes", words=how), sent, stored, used)


def lines_to_send(run: OpenRun) -> tuple[str, ...]:
    """The kept mesh in this machine's words, line by line; empty where it has none for it."""
    mesh, does = run.state.mesh, run.manner
    if mesh is None or not does.can("mesh_point"):
        return ()
    xs, ys = mesh.grid.xs_mm, mesh.grid.ys_mm
    heights = mesh_as_sent(run.state)
    out = []
    if does.can("mesh_begin"):
        out.append(
            does.send(
                "mesh_begin",
                x_first=xs[0],
                y_first=ys[0],
                x_step=(xs[-1] - xs[0]) / (len(xs) - 1),
                y_step=(ys[-1] - ys[0]) / (len(ys) - 1),
                x_last=xs[-1],
                y_last=ys[-1],
                columns=len(xs),
                rows=len(ys),
            )
        )
    rows = range(len(ys)) if run.setup.mesh_law.first_row == "front" else range(len(ys) - 1, -1, -1)
    out += [
        does.send(
            "mesh_point",
            column=c,
            row=r,
            column_back=len(xs) - 1 - c,
            row_back=len(ys) - 1 - r,
            x=xs[c],
            y=ys[r],
            height=float(heights[r, c]),
        )
        for r in rows
        for c in range(len(xs))
    ]
    return tuple(out)


def law_words(law: MeshLaw) -> str:
    """What the machine makes of a mesh, in a sentence."""
    how = {
        "bilinear": "straight between four points",
        "bicubic": "curved through the points",
        "triangles": "in flat triangles between three points",
    }[law.between]
    fades = f"fades out over the first {law.fade_mm:g} mm of height" if law.fade_mm else "is followed at every height"
    return f"The machine goes {how}; the correction {fades}."


def fade_words(run: OpenRun, range_mm: float) -> str:
    """What fading does to a part, and the height that keeps it small."""
    mesh, law = run.state.mesh, run.setup.mesh_law
    assert mesh is not None
    wanted = fade_for(mesh, SURVEY.fade_share)
    if not law.fade_mm:
        return f"It never fades: the top of a part follows the plate, by up to {range_mm:.2f} mm."
    off = SURVEY.fade_share * wanted / law.fade_mm
    kept = f"each of those layers is up to {off:.1%} thinner or thicker than drawn"
    if off <= SURVEY.fade_share:
        return f"While it fades, {kept}: too little to see."
    return f"While it fades, {kept}. With a fade of {max(round(wanted), 1)} mm it would be at most {SURVEY.fade_share:.0%}."
