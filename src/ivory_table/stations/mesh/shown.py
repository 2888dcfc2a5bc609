"""What a survey shows: plane, forms, range."""

from ivory_table.core.form import PlaneFit, fit, form_words
from ivory_table.core.mesh import MeshSurvey
from ivory_table.core.value import Value
from ivory_table.core.words import signed
from ivory_table.runs.run import OpenRun
from ivory_table.stations.sheet import Spot


class Shown(Value):
    """What a mesh shows: plane, forms, range, in words and numbers."""

    survey: MeshSurvey
    fit: PlaneFit
    words: str
    spots: tuple[Spot, ...]


def show(run: OpenRun, survey: MeshSurvey) -> Shown:
    """Plane, form and range of a survey, for looking at before it is kept."""
    places, values = survey.grid.places, survey.values.ravel()
    found = fit(places, values, run.setup.plate.bounds)
    named = [f for f in found.forms if abs(f.amount_mm) > max(2 * f.sd_mm, 0.01)]
    form = ", ".join(f"{form_words(f.form, f.amount_mm)} {abs(f.amount_mm):.2f} mm" for f in named)
    words = (
        f"plane {signed(found.tilt_x_mm)} mm left to right, {signed(found.tilt_y_mm)} mm front to back; "
        f"{form or 'no form beyond its noise'}; range {found.range_mm:.2f} mm"
    )
    return Shown(
        survey=survey,
        fit=found,
        words=words,
        spots=_spots(survey),
    )


def _spots(survey: MeshSurvey) -> tuple[Spot, ...]:
    """Every point of the grid: as measured, or as believed where it was not read itself."""
    read = {(r.x_mm, r.y_mm) for r in survey.readings}
    return tuple(
        Spot(
            x_mm=float(x),
            y_mm=float(y),
            kind="measured" if not read or (float(x), float(y)) in read else "believed",
            value_mm=float(v),
        )
        for (x, y), v in zip(survey.grid.places, survey.values.ravel(), strict=True)
    )
