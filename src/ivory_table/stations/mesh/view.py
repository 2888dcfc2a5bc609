"""Mesh: what is read next and why, what is doubted, what the field says, and what the machine has of it."""

from typing import Literal

import numpy as np
from pydantic import AwareDatetime

from ivory_table.core.defaults import OFFSET, SURVEY
from ivory_table.core.mesh import MeshGrid, MeshSurvey
from ivory_table.core.mesh_plan import Choice, Telling, choices
from ivory_table.core.offset import Press, presses
from ivory_table.core.value import Value
from ivory_table.runs.mesh_in_use import mesh_words
from ivory_table.runs.run import OpenRun, once_per_state
from ivory_table.stations.asked import Caution, cautions
from ivory_table.stations.head import StationView, so_far
from ivory_table.stations.sheet import Figure, Sheet, Spot, height_field, read_field, sheet_of

from .check import check_at
from .entries import MeshPlanned
from .shown import Shown, show
from .step import Step, grid_of, step_of
from .survey import Survey, plan_grid, survey_at, survey_of
from .use import MeshUse, use_of


class Answer(Value):
    """What was felt at one height over the point at hand."""

    z_mm: float
    feel: str


class NextPoint(Value):
    """The point to read next: where, what is expected there, and what it tells."""

    column: int
    row: int
    x_mm: float
    y_mm: float
    #: Why it is read beside its place; empty where it is not.
    moved: str
    expected_mm: float
    sd_mm: float
    #: Why this one.
    words: str
    #: By hand: the height to go to, the presses that lead there from the last one, and what was felt here so far.
    try_mm: float | None
    presses: tuple[Press, ...]
    felt: tuple[Answer, ...]


class Reading(Value):
    """One reading of a point, as it was made."""

    height_mm: float
    counts: bool
    reason: str


class PointShown(Value):
    """A point of the grid, front row first: what was read there and what is believed."""

    column: int
    row: int
    x_mm: float
    y_mm: float
    believed_mm: float
    sd_mm: float
    readings: tuple[Reading, ...]
    #: Why it is not read at its place, or not at all.
    why: str
    able: bool
    #: What its neighbours say against it; empty where it is not doubted.
    doubt: str


class Progress(Value):
    """How far a survey is."""

    read: int
    wanted: int
    able: int
    minutes_left: float
    #: The rms sd over the places used, and the share of them known well enough.
    sd_mm: float
    share_known: float
    enough: bool
    words: str
    base_due: bool
    base_words: str


class CheckShown(Value):
    """An earlier mesh that is being checked."""

    #: As it is written, and as it is known by.
    measured_at: str
    measured: AwareDatetime
    words: str
    verdict: Literal["holds", "does not hold", "cannot tell yet"]
    p_holds: float
    read: int
    #: (x, y) of the places to read next, the most telling first.
    to_read: tuple[tuple[float, float], ...]
    survey: MeshSurvey


class MeshView(StationView):
    sheet: Sheet
    cautions: tuple[Caution, ...]
    step: Step
    grid: MeshGrid | None
    points: tuple[PointShown, ...]
    next: NextPoint | None
    #: As `next`, for whoever follows a list of points.
    next_column: int | None
    next_row: int | None
    progress: Progress | None
    owns_zero: bool | None
    shown: Shown | None
    mesh_on: bool
    can_mesh: bool
    after_tram: str
    #: What is to be known of the mesh in use: taken at another temperature, or brought from an earlier run.
    mesh_words: str
    draft: MeshSurvey | None
    #: Meshes that could be read, by hand and by probe, with what each leaves.
    by_hand: tuple[Choice, ...]
    by_probe: tuple[Choice, ...]
    use: MeshUse | None
    check: CheckShown | None


def view(run: OpenRun) -> MeshView:
    state = run.state
    survey, mesh, step = survey_at(run), state.mesh, step_of(run)
    draft = survey.draft() if survey is not None and len(survey.mesh.points) >= SURVEY.least_points else None
    looked_at = draft or (None if survey else mesh)
    shown = show(run, looked_at) if looked_at else None
    field = height_field(
        state,
        after_mesh=mesh is not None and state.mesh_on,
        level_mm=None,
        tol_mm=state.tol_mm,
        against="what the machine follows" if mesh and state.mesh_on else "the common height",
    )
    residual = float(np.ptp(np.array(field.mean_mm)))
    if survey is not None and len(survey.mesh.points) >= SURVEY.least_points:
        field = read_field(state, survey.field, "the common height")
    coming = _next_of(run, survey) if survey is not None and not survey.mesh.base_due else None
    check = check_at(run)
    if check is not None:
        spots = _check_spots(check.to_read, check.old.reads)
    elif survey is not None:
        spots = _spots(survey, coming)
    else:
        spots = shown.spots if shown else ()
    progress = _progress(survey) if survey is not None else None
    choosing = step in ("choose", "kept")
    return MeshView(
        **so_far(run),
        sheet=sheet_of(state, field, spots=spots, figures=_figures(shown, progress, residual)),
        cautions=cautions(run, "mesh"),
        step=step,
        grid=grid_of(run),
        points=_points(survey) if survey is not None else (),
        next=coming,
        next_column=coming.column if coming else None,
        next_row=coming.row if coming else None,
        progress=progress,
        owns_zero=survey.plan.owns_zero if survey else mesh.owns_zero if mesh else None,
        shown=shown,
        mesh_on=state.mesh_on,
        can_mesh=run.setup.machine.can_mesh,
        after_tram=f"{residual:.2f} mm from place to place "
        + ("with the mesh on" if state.mesh_on else "without a mesh"),
        mesh_words=mesh_words(state),
        draft=draft,
        by_hand=offered(run)[0] if choosing else (),
        by_probe=offered(run)[1] if choosing else (),
        use=use_of(run) if survey is None else None,
        check=None
        if check is None
        else CheckShown(
            measured_at=f"{check.earlier.measured_at:%d %b %Y}",
            measured=check.earlier.measured_at,
            words=check.words,
            verdict=check.verdict,
            p_holds=check.old.p_holds,
            read=len(check.old.reads),
            to_read=check.to_read,
            survey=check.earlier.survey,
        ),
    )


@once_per_state
def offered(run: OpenRun) -> tuple[tuple[Choice, ...], tuple[Choice, ...]]:
    """Meshes that could be read by hand, and by the probe where there is one."""
    setup, state = run.setup, run.state
    out: list[tuple[Choice, ...]] = []
    for felt in (True, False):
        if not felt and setup.machine.probe is None:
            out.append(())
            continue
        probe = None if felt else setup.machine.probe
        about = survey_of(MeshPlanned(columns=3, rows=3, owns_zero=felt), state)

        def grid(size: int, felt: bool = felt) -> MeshGrid:
            return plan_grid(MeshPlanned(columns=size, rows=size, owns_zero=felt), setup.plate, setup.machine.probe)

        minutes = SURVEY.hand_minutes if felt else SURVEY.probe_minutes
        telling = Telling.of(about.field, setup.mesh_law)
        out.append(choices(telling, grid, setup.plate, probe, about.sd_mm, minutes))
    return out[0], out[1]


def _next_of(run: OpenRun, survey: Survey) -> NextPoint | None:
    if survey.coming is None:
        return None
    point, gain = survey.coming
    assert point.place_mm is not None
    at = (point.column, point.row)
    mean, sd = survey.expected(point.place_mm)
    tried, steps, felt = None, tuple[Press, ...](), tuple[Answer, ...]()
    if survey.plan.owns_zero:
        approach = survey.approach(at)
        following = approach.next_mm()
        tried = max(following if following is not None else approach.drag[0], approach.lowest_mm)
        tried = round(tried, 3)
        felt = tuple(Answer(z_mm=z, feel=feel) for z, feel in approach.felt)
        stands = felt[-1].z_mm if felt else OFFSET.between_points_mm
        steps = presses(stands, tried, run.setup.machine.z_presses_mm, approach.lowest_mm)
    words = f"It tells most: the doubt over the plate falls by {1000 * gain:.1f} µm." if gain > 5e-5 else ""
    return NextPoint(
        column=point.column,
        row=point.row,
        x_mm=point.place_mm[0],
        y_mm=point.place_mm[1],
        moved=f"Its own place is {point.why}: it is read beside it." if point.moved else "",
        expected_mm=mean,
        sd_mm=sd,
        words=words,
        try_mm=tried,
        presses=steps,
        felt=felt,
    )


def _points(survey: Survey) -> tuple[PointShown, ...]:
    mean, sds = survey.field.at(survey.grid.places)
    doubts = {d.point: d for d in survey.doubts}
    out = []
    for k, point in enumerate(survey.points):
        at = (point.column, point.row)
        x, y = survey.grid.places[k]
        readings = tuple(
            Reading(height_mm=s.height_mm, counts=s.counts, reason=s.reason)
            for s in survey.mesh.soundings
            if s.point == at
        )
        out.append(
            PointShown(
                column=point.column,
                row=point.row,
                x_mm=float(x),
                y_mm=float(y),
                believed_mm=round(float(mean[k]), 4),
                sd_mm=round(float(sds[k]), 4),
                readings=readings,
                why=point.why,
                able=point.place_mm is not None,
                doubt=doubts[at].words if at in doubts else "",
            )
        )
    return tuple(out)


def _spots(survey: Survey, coming: NextPoint | None) -> tuple[Spot, ...]:
    doubts = {d.point for d in survey.doubts}
    enough = len(survey.mesh.points) >= SURVEY.least_points
    mean = survey.field.at(survey.grid.places)[0]
    out = []
    for k, point in enumerate(survey.points):
        at = (point.column, point.row)
        x, y = survey.place_of.get(at, (float(survey.grid.places[k][0]), float(survey.grid.places[k][1])))
        read = survey.mesh.points.get(at)
        here = coming is not None and at == (coming.column, coming.row)
        value = read if read is not None else float(mean[k]) if enough else None
        kind = "measured" if read is not None else "next" if here else "believed" if enough else "waiting"
        if at in doubts:
            kind = "doubtful"
        out.append(Spot.model_validate({"x_mm": x, "y_mm": y, "kind": kind, "value_mm": value}))
    return tuple(out)


def _check_spots(to_read: tuple[tuple[float, float], ...], reads: tuple[object, ...]) -> tuple[Spot, ...]:
    done = [Spot(x_mm=r.x_mm, y_mm=r.y_mm, kind="measured", value_mm=r.height_mm) for r in reads]  # type: ignore[attr-defined]
    return (*done, *(Spot(x_mm=x, y_mm=y, kind="waiting" if k else "next") for k, (x, y) in enumerate(to_read)))


def _progress(survey: Survey) -> Progress:
    read, able = len(survey.mesh.points), len(survey.place_of)
    standing = survey.standing
    words = ""
    if read >= SURVEY.least_points:
        words = f"{standing.share_known:.0%} of what is printed on is known well enough, to {standing.sd_mm:.3f} mm on average"
    return Progress(
        read=read,
        wanted=survey.wanted,
        able=able,
        minutes_left=round(survey.minutes_each * max(survey.wanted - read, 0), 1),
        sd_mm=standing.sd_mm,
        share_known=standing.share_known,
        enough=read >= SURVEY.least_readings and standing.enough,
        words=words,
        base_due=survey.mesh.base_due,
        base_words=survey.base_words,
    )


def _figures(shown: Shown | None, progress: Progress | None, residual_mm: float) -> tuple[Figure, ...]:
    first = Figure(name="Range", value=f"{shown.fit.range_mm:.2f}" if shown else "–", unit="mm" if shown else "")
    if progress is not None:
        known = f"{progress.sd_mm:.3f}" if progress.sd_mm < 0.1 else "–"
        return (first, Figure(name="Known to", value=known, unit="mm" if known != "–" else ""))
    return (first, Figure(name="Left to the first layer", value=f"{residual_mm:.2f}", unit="mm"))
