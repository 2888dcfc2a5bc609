"""What a practice machine answers while a mesh is read."""

from ivory_table.core.hands import Hands
from ivory_table.desk.desk import Desk
from ivory_table.runs.by_hand import by_hand
from ivory_table.runs.doubts import Refused
from ivory_table.runs.run import OpenRun
from ivory_table.stations.mesh.entries import MeshKept, MeshPoint, MeshPointAgain, MeshUsed
from ivory_table.stations.mesh.state import with_step
from ivory_table.stations.mesh.view import view


def practice(desk: Desk, run: OpenRun) -> MeshPoint | MeshKept:
    """The practice plate's answer to the step at hand."""
    now = view(run)
    if now.step == "read" and now.grid and now.next_column is not None and now.next_row is not None:
        x, y = now.grid.xs_mm[now.next_column], now.grid.ys_mm[now.next_row]
        hands = desk.hands(run)
        height = hands.felt_height(x, y) if now.owns_zero else hands.read_height(x, y)
        return MeshPoint(column=now.next_column, row=now.next_row, height_mm=height)
    if now.step == "keep" and now.draft:
        desk.hands(run).use_mesh(now.draft)
        return MeshKept(survey=now.draft)
    raise Refused("nothing_to_read", "Choose how many points to measure first.")


@by_hand.register
def _mesh_kept(what: MeshKept, hands: Hands, before: OpenRun) -> None:
    hands.use_mesh(what.survey)


@by_hand.register
def _mesh_used(what: MeshUsed, hands: Hands, before: OpenRun) -> None:
    hands.use_mesh(before.state.mesh if what.on else None)


@by_hand.register
def _point_again(what: MeshPointAgain, hands: Hands, before: OpenRun) -> None:
    mesh = before.state.mesh
    if mesh is not None and before.state.mesh_on:
        hands.use_mesh(with_step(mesh, what))
