"""Random practice machines through the stations: `trial`."""

import json
from collections.abc import Iterator
from typing import Annotated, Any

import typer

from ivory_table.trial.drift import SCENARIO as DRIFT_SCENARIO
from ivory_table.trial.drift import trial as run_drift
from ivory_table.trial.figures import missed
from ivory_table.trial.first_layer import SCENARIO as FIRST_LAYER_SCENARIO
from ivory_table.trial.first_layer import trial as run_first_layer
from ivory_table.trial.harm import SCENARIO as HARM_SCENARIO
from ivory_table.trial.harm import harm as run_harm
from ivory_table.trial.mesh import SCENARIO as MESH_SCENARIO
from ivory_table.trial.mesh import trial as run_mesh
from ivory_table.trial.offset import SCENARIO as OFFSET_SCENARIO
from ivory_table.trial.offset import trial as run_offset
from ivory_table.trial.run import trial as run_trial
from ivory_table.trial.tram import table as tram_table
from ivory_table.trial.tram_plates import SCENARIO as TRAM_SCENARIO

#: Trials whose figures have bars, by what is tried.
_WITH_BARS = {
    "drift": (run_drift, DRIFT_SCENARIO),
    "first-layer": (run_first_layer, FIRST_LAYER_SCENARIO),
    "harm": (run_harm, HARM_SCENARIO),
    "mesh": (run_mesh, MESH_SCENARIO),
    "offset": (run_offset, OFFSET_SCENARIO),
}


def trial(
    machines: Annotated[int, typer.Option(min=1, max=100_000, help="How many random practice machines.")] = 200,
    seed: Annotated[int, typer.Option(help="The same seed is the same machines.")] = 7,
    station: Annotated[
        str, typer.Option(help="tram, mesh, offset, first-layer; harm, drift; or chain, all of them.")
    ] = "chain",
    as_json: Annotated[bool, typer.Option("--json", help="The whole report as JSON.")] = False,
    screws: Annotated[int, typer.Option(help="Tram only: 3, 4, 6 or 9.")] = 4,
    pitch: Annotated[float, typer.Option(min=0.1, max=3, help="Tram only: mm per turn.")] = 0.7,
    crown: Annotated[float, typer.Option(min=-1, max=1, help="Tram only: crown of the elastic plate, mm.")] = 0.0,
    known: Annotated[
        int, typer.Option(min=0, max=50, help="Tram only: trams that taught a known machine; 0: none known.")
    ] = TRAM_SCENARIO["known_runs"],
    workers: Annotated[int, typer.Option(min=1, max=64, help="Tram and harm: processes.")] = 1,
    check: Annotated[bool, typer.Option("--check", help="Harm and offset: end with 1 when a bar is missed.")] = False,
) -> None:
    """Run random practice machines through the stations, beside the ways of working by hand."""
    station = station.replace("_", "-")
    if station not in ("tram", "chain", *_WITH_BARS):
        known_ones = ", ".join(("tram", *_WITH_BARS, "chain"))
        raise typer.BadParameter(f"There is no station '{station}' to try; there are {known_ones}.")
    if station in _WITH_BARS:
        run, scenario = _WITH_BARS[station]
        found = run(machines, seed, workers)
        off = missed(found, scenario)
        print(json.dumps(found, indent=1) if as_json else "\n".join(_figures_told(found, off)))
        if check and off:
            raise typer.Exit(1)
        return
    if station == "tram":
        # Three more things can be asked of the tram alone.
        rows = tram_table(
            machines, seed, count=screws, pitch_mm=pitch, crown_mm=crown, workers=workers, known_runs=known
        )
        print(json.dumps(rows, indent=1) if as_json else "\n".join(_table_told(rows)))
        return
    report = run_trial(machines, seed)
    print(json.dumps(report, indent=1) if as_json else "\n".join(_told(report)))


def _figures_told(report: dict[str, Any], off: list[str]) -> Iterator[str]:
    """Figures in lines, each beside its bar; what misses it by more than its error is marked."""
    yield f"{report['machines']} machines, seed {report['seed']}, {report['seconds']} s, scenario {report['scenario']}"
    for name, found in report["figures"].items():
        bar = "" if found["bar"] is None else f"  bar {found['bar']:g}{'  missed' if name in off else ''}"
        yield f"  {name.replace('_', ' '):26} {found['mean']:8.3f} ± {found['two_se']:.3f}{bar}"


def _table_told(table: dict[str, Any]) -> Iterator[str]:
    """The tram table in lines: for each truth, every policy with two standard errors."""
    yield (
        f"{table['machines']} machines for each truth, seed {table['seed']}, {table['screws']} screws, "
        f"{table['pitch_mm']} mm per turn, crown {table['crown_mm']} mm, {table['seconds']} s, scenario {table['scenario']}"
    )
    for row in table["rows"]:
        truth = row["truth"]
        yield f"passes {truth:.0%} of a twist" if isinstance(truth, float) else f"{truth} plate"
        for name, found in row.items():
            if name == "truth":
                continue
            if "mean" in found:
                line = f"  {name:18} {found['mean']:6.2f} ± {found['two_se']:.2f} {found['unit']}, "
                yield line + ", ".join(
                    f"{k.replace('_', ' ')} {v}" for k, v in found.items() if k not in ("mean", "two_se", "unit")
                )
            else:
                yield f"  {name:18} " + ", ".join(f"{k.replace('_', ' ')} {v}" for k, v in found.items())


def _told(report: dict[str, Any]) -> Iterator[str]:
    """The report in lines: what was counted, with two standard errors."""
    yield f"{report['machines']} machines, seed {report['seed']}, {report['seconds']} s, scenario {report['scenario']}"
    for who, found in {"the program": report["program"], **report["by_hand"]}.items():
        yield who
        for name, value in found.items():
            yield f"  {name.replace('_', ' '):28} {value['mean']:8.3f} ± {value['two_se']:.3f}"
    for name, share in report["intervals_90_held"].items():
        yield f"stated 90 % intervals, {name.replace('_', ' ')}: held in {share:.1%}"
    yield f"crashes: {report['crashes']}"
