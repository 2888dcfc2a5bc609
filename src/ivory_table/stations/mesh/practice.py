"""What a practice machine answers while a mesh is read."""

from ivory_table.core.hands import Hands
from ivory_table.desk.desk import Desk
from ivory_table.runs.by_hand import by_hand
from ivory_table.runs.common import MachineRestarted
from ivory_table.runs.doubts import Refused
from ivory_table.runs.row import Row
from ivory_table.runs.run import OpenRun
from ivory_table.stations.mesh_used import MeshUsed

from .check import check_at
from .entries import (
    MeshBase,
    MeshChecked,
    MeshFelt,
    MeshKept,
    MeshPoint,
    MeshPointAgain,
    MeshSent,
    MeshStored,
    MeshTakenUp,
)
from .state import with_step
from .survey import survey_at
from .view import view


def practice(desk: Desk, run: OpenRun) -> Row:
    """The practice plate's answer to the step at hand."""
    now, survey, check = view(run), survey_at(run), check_at(run)
    hands = desk.hands(run)
    if survey is not None and survey.mesh.base_due:
        return MeshBase(height_mm=_height(hands, *survey.base_mm, felt=survey.plan.owns_zero))
    if now.step == "read" and now.next is not None:
        at = now.next
        if at.try_mm is not None:
            feel = hands.slide_gauge(at.x_mm, at.y_mm, at.try_mm)
            return MeshFelt(column=at.column, row=at.row, z_mm=at.try_mm, feel=feel)
        return MeshPoint(column=at.column, row=at.row, height_mm=_height(hands, at.x_mm, at.y_mm, felt=False))
    if now.step == "keep" and now.draft:
        hands.use_mesh(now.draft)
        return MeshKept(survey=now.draft)
    if check is not None and check.to_read:
        x, y = check.to_read[0]
        return MeshChecked(x_mm=x, y_mm=y, height_mm=_height(hands, x, y, felt=check.earlier.survey.owns_zero))
    raise Refused("nothing_to_read", "Choose how many points to measure first.")


def _height(hands: Hands, x_mm: float, y_mm: float, *, felt: bool) -> float:
    return hands.felt_height(x_mm, y_mm) if felt else hands.read_height(x_mm, y_mm)


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


@by_hand.register
def _taken_up(what: MeshTakenUp, hands: Hands, before: OpenRun) -> None:
    hands.use_mesh(what.survey)


@by_hand.register
def _sent(what: MeshSent, hands: Hands, before: OpenRun) -> None:
    hands.use_mesh(before.state.mesh)


@by_hand.register
def _stored(what: MeshStored, hands: Hands, before: OpenRun) -> None:
    hands.store_mesh()


@by_hand.register
def _restarted(what: MachineRestarted, hands: Hands, before: OpenRun) -> None:
    hands.switch_off_and_on()
