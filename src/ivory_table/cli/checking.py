"""Check a job before it is printed: `check`."""

from collections.abc import Iterator
from pathlib import Path
from typing import Annotated

import typer

from ivory_table.cli.ending import SETTINGS, Data, ends, workshop_in
from ivory_table.desk.desk import Desk
from ivory_table.link.manners import Manners
from ivory_table.program.job import NotAJob
from ivory_table.runs.doubts import Refused
from ivory_table.stations.job.check import check as check_job
from ivory_table.stations.job.report import CheckWanted, JobReport
from ivory_table.store.trouble import Unknown

#: Exit status of `check`, for scripts; 1 is what every command ends with that could not be done.
CLEAN, LOOK, STOP = 0, 2, 3


def check(
    file: Annotated[Path, typer.Argument(help="The program as it is sent to the machine.")],
    machine: Annotated[str, typer.Option(help="Which machine, by its id or its name.")],
    data: Data = SETTINGS.data,
    plate: Annotated[str | None, typer.Option(help="Left out, that of its newest run.")] = None,
    filament: Annotated[str | None, typer.Option(help="Left out, that of its newest run.")] = None,
    as_json: Annotated[bool, typer.Option("--json", help="The whole report as JSON.")] = False,
) -> None:
    """Check a job before it is printed. Ends with 0 when nothing but notes is found, 2 with warnings, 3 where it must not run."""
    workshop = workshop_in(data)
    manners = Manners(data / "manners", workshop.teachings.get, workshop.teachings.ids)
    found = next((m for m in workshop.machines() if machine.lower() in (m.id.lower(), m.name.lower())), None)
    if found is None:
        ends(f"There is no machine '{machine}'; there are {', '.join(m.name for m in workshop.machines()) or 'none'}.")
    wanted = CheckWanted(name=file.name, plate_id=plate, filament_id=filament)
    try:
        with file.open("rb") as stream:
            report = check_job(Desk(workshop, manner_for=manners.get), found.id, stream, wanted)
    except OSError as wrong:
        ends(f"{file} cannot be read: {wrong.strerror}.")
    except (NotAJob, Refused, Unknown, ValueError) as wrong:
        ends(str(wrong).strip("'\""))
    print(report.model_dump_json(indent=1) if as_json else "\n".join(_job_told(report)))
    levels = {f.level for f in report.findings}
    raise typer.Exit(STOP if "stop" in levels else LOOK if "warning" in levels else CLEAN)


def _job_told(report: JobReport) -> Iterator[str]:
    yield f"{report.name}, {report.lines} lines, on {report.machine_name} with {report.plate.name}, {report.filament_name}"
    yield report.words
    for f in report.findings:
        where = f"line {f.line}" if f.line else "        "
        yield f"  {f.level:8} {where:12} {f.text}"
        for line in f.instead:
            yield f"           instead      {line}"
    if report.better is not None:
        yield f"{report.better.words} All sound with {report.better.p_after:.0%} instead of {report.better.p_before:.0%}."
    yield from report.rests_on
