"""What the mesh refuses, and what it asks about."""

from ivory_table.core.defaults import SURVEY
from ivory_table.core.words import signed
from ivory_table.runs.doubts import Refused, doubt
from ivory_table.runs.entry import Source
from ivory_table.runs.run import OpenRun

from .entries import MeshBase, MeshCheckBegun, MeshFelt, MeshPlanned, MeshPoint
from .state import Mesh, Point
from .survey import is_near, survey_at, survey_of


def _refuse_while_on(run: OpenRun) -> None:
    if run.state.mesh_on:
        raise Refused(
            "mesh_is_on",
            "The machine follows a mesh now: what is read would count from that one. Switch it off first.",
        )


@doubt.register
def _check_begun(what: MeshCheckBegun, run: OpenRun, source: Source) -> None:
    _refuse_while_on(run)


@doubt.register
def _planned(what: MeshPlanned, run: OpenRun, source: Source) -> None:
    _refuse_while_on(run)
    most = run.setup.mesh_law.most_points
    if max(what.columns, what.rows) > most:
        raise Refused("too_many_points", f"This machine takes {most} points each way at most.", "columns")
    try:
        able = len(survey_of(what, run.state).place_of)
    except ValueError as wrong:
        raise Refused("no_such_grid", str(wrong), "area_mm") from None
    if able < SURVEY.least_points:
        raise Refused(
            "too_few_points",
            f"Of this grid only {able} points can be read: the others are under clips, off the plate or out of reach. "
            "Choose another area.",
            "area_mm",
        )


@doubt.register
def _point(what: MeshPoint, run: OpenRun, source: Source) -> None:
    if Mesh.of(run.state).plan is None and run.state.mesh is not None:
        raise Refused(
            "needs_neighbour",
            "The kept mesh counts from the zero of the day it was taken. Measure this point and a neighbour in the same go, and give both.",
            "height_mm",
        )
    _refuse_unreadable(run, (what.column, what.row))
    if source == "hand" and not what.sure:
        _ask_about_mistyped(run, (what.column, what.row), what.height_mm)


@doubt.register
def _felt(what: MeshFelt, run: OpenRun, source: Source) -> None:
    _refuse_unreadable(run, (what.column, what.row))


@doubt.register
def _base(what: MeshBase, run: OpenRun, source: Source) -> None:
    survey = survey_at(run)
    if survey is None or source != "hand" or what.sure:
        return
    if asked := _far_words(*survey.expected(survey.base_mm), what.height_mm):
        raise Refused("far_from_expected", asked, "height_mm", insist=True)


def _refuse_unreadable(run: OpenRun, point: Point) -> None:
    survey = survey_at(run)
    if survey is None:
        return
    found = next((p for p in survey.points if (p.column, p.row) == point), None)
    if found is not None and found.place_mm is None:
        raise Refused(
            "point_out_of_reach", f"This point cannot be read: it is {found.why}. It is filled from the others."
        )


def _ask_about_mistyped(run: OpenRun, point: Point, typed_mm: float) -> None:
    survey = survey_at(run)
    if survey is None or point not in survey.place_of:
        return
    place = survey.place_of[point]
    if not (asked := _far_words(*survey.expected(place), typed_mm)):
        return
    if (odd := survey.odd_beside(place, typed_mm)) is not None:
        asked += (
            f" It would fit if {signed(odd.value_mm, 3)} mm at ({odd.x_mm:.0f}, {odd.y_mm:.0f}) were wrong: "
            "then keep this one, and read that one again."
        )
    raise Refused("far_from_expected", asked, "height_mm", insist=True)


def _far_words(mean: float, sd: float, typed_mm: float) -> str:
    """What is asked where a height is far from all that is known, with what may be meant instead; empty where it is near."""
    if is_near(typed_mm, mean, sd):
        return ""
    slips = {
        "with the other sign": -typed_mm,
        "with the decimal point one further left": typed_mm / 10,
        "with the decimal point one further right": typed_mm * 10,
        "in hundredths": typed_mm / 100,
        "in micrometres": typed_mm / 1000,
    }
    meant = [(abs(v - mean), words, v) for words, v in slips.items() if is_near(v, mean, sd) and v != typed_mm]
    instead = f" Did you mean {signed(min(meant)[2], 3)} mm ({min(meant)[1]})?" if meant else ""
    return (
        f"{signed(typed_mm, 3)} mm is far from the {signed(mean, 2)} ± {sd:.2f} mm that is expected here.{instead} "
        "Read it once more, or keep it as it is."
    )
