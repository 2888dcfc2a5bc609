"""Where Prepare stands."""

from ivory_table.runs.run import OpenRun
from ivory_table.runs.standing import Standing, stands

from ..asked import checks_for


@stands("prepare")
def standing(run: OpenRun) -> Standing:
    wanted = checks_for(run)
    ticked = sum(1 for c in wanted if c["id"] in run.state.checks)
    return Standing(
        begun=bool(run.state.checks or run.state.heated),
        done=ticked == len(wanted),
        figure=f"{ticked} of {len(wanted)} checks",
    )
