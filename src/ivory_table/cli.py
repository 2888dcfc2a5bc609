"""The command line: serve, demo, practice, openapi."""

import json
import logging
import re
import socket
import sqlite3
import ssl
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated, Any, NoReturn

import typer
import uvicorn
from fastapi import FastAPI
from peewee import DatabaseError
from pydantic_settings import BaseSettings, SettingsConfigDict

from ivory_table.access.network import Network, secret_of
from ivory_table.access.roles import HERE
from ivory_table.api.app import create_app
from ivory_table.api.patience import Impatient
from ivory_table.core.manner import shipped
from ivory_table.demo.past import remember
from ivory_table.demo.tidewater import GAUGES, MACHINES, furnish
from ivory_table.desk.desk import Desk
from ivory_table.link.door import Address, Doors
from ivory_table.link.manners import Manners
from ivory_table.practice.serve import PtyPlug, Served, TcpPlug
from ivory_table.program.job import NotAJob
from ivory_table.runs.doubts import Refused
from ivory_table.stations import bench, carried
from ivory_table.stations.job.check import check as check_job
from ivory_table.stations.job.report import CheckWanted, JobReport
from ivory_table.stations.lines import Lines
from ivory_table.store import copies
from ivory_table.store.workshop import Unknown, Workshop
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
from ivory_table.trial.tram import SCENARIO as TRAM_SCENARIO
from ivory_table.trial.tram import table as tram_table

app = typer.Typer(help=__doc__, no_args_is_help=True, add_completion=False)


class Settings(BaseSettings):
    """Where things are; each can be set in the environment as IVORY_TABLE_..."""

    model_config = SettingsConfigDict(env_prefix="ivory_table_")

    data: Path = Path("data")
    port: int = 8765


SETTINGS = Settings()
Port = Annotated[int, typer.Option(min=1, max=65535, help="Port on 127.0.0.1.")]
LanOption = Annotated[bool, typer.Option("--lan", help="Answer devices of the workshop's network that were let in.")]
Names = Annotated[list[str] | None, typer.Option("--name", help="A host name this machine answers to on the network.")]
Certificate = Annotated[
    Path | None, typer.Option(help="An own certificate (PEM), so that nobody on the network reads along.")
]
Key = Annotated[Path | None, typer.Option(help="The certificate's key (PEM).")]
Public = Annotated[
    str, typer.Option(help="The address a proxy before it is reached under, such as https://bench.local.")
]
Data = Annotated[Path, typer.Option(help="Folder of the database, manners, line logs and practice machines.")]


#: Practice machines run so many times faster than life, so that nobody waits for their heaters.
PRACTICE_PACE = 20.0
#: A thread that computes gives way after this: Stop is not to wait for arithmetic.
GIVE_WAY_S = 0.001


def _ends(sentence: str) -> NoReturn:
    """One sentence instead of a traceback: what is wrong and what would do."""
    typer.echo(sentence, err=True)
    raise typer.Exit(1)


def _workshop(data: Path) -> Workshop:
    """The workshop in a folder; ends the program with a sentence when it cannot be opened."""
    try:
        return Workshop(data / "workshop.db")
    except RuntimeError as newer:
        _ends(str(newer))
    except (DatabaseError, sqlite3.DatabaseError) as broken:
        _ends(
            f"{data / 'workshop.db'} cannot be opened as a workshop: {broken}. Look whether the file is whole and may be "
            "written, or give another folder with --data."
        )
    except OSError as wrong:
        _ends(f"The folder {data} cannot be made or used: {wrong.strerror}. Give another one with --data.")


def _listening(port: int, *, lan: bool = False) -> socket.socket:
    """The port, taken at once; ends the program with a sentence when somebody else has it."""
    taken = socket.socket()
    taken.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        taken.bind(("0.0.0.0" if lan else "127.0.0.1", port))
    except OSError as wrong:
        _ends(
            f"Port {port} cannot be used ({wrong.strerror}): Ivory Table may be running already, or another program has "
            "the port. Give another one with --port."
        )
    return taken


class _Practice:
    """The practice machines as a process of their own, which ends with this one; begun once somebody wants them."""

    def __init__(self, workshop: Workshop, folder: Path, pace: float) -> None:
        self._workshop, self._folder, self._pace = workshop, folder, pace
        self._helper: subprocess.Popen[bytes] | None = None

    def furnish(self) -> None:
        """Put the practice machines on the bench, and let them run."""
        with self._workshop.writing():
            furnish(self._workshop)
        self.begin()

    def begin(self) -> None:
        if self._helper is not None:
            return
        for stale in self._folder.glob("*.address.json"):
            stale.unlink()
        command = [sys.executable, "-m", "ivory_table.cli", "practice", "all", "--data", str(self._folder)]
        self._helper = subprocess.Popen(
            [*command, "--pace", str(self._pace), "--while-open"], stdin=subprocess.PIPE, stdout=subprocess.DEVNULL
        )

    def end(self) -> None:
        if self._helper is not None and self._helper.stdin is not None:
            self._helper.stdin.close()


@dataclass(frozen=True)
class Lan:
    """How the workshop's network is answered."""

    names: frozenset[str] = frozenset()
    certificate: Path | None = None
    key: Path | None = None
    public: str = ""

    def network(self, data: Path) -> Network:
        return Network(
            secret_of(data), names=self.names, public=self.public.rstrip("/"), encrypted=self.certificate is not None
        )


def _lan(on: bool, names: list[str] | None, certificate: Path | None, key: Path | None, public: str) -> Lan | None:
    """How the network is answered; ends the program with a sentence where what is asked for cannot be."""
    if not on:
        if names or certificate or key or public:
            _ends("--name, --certificate, --key and --public are for a network: say --lan as well.")
        return None
    if (certificate is None) != (key is None):
        _ends("A certificate and its key belong together: give --certificate and --key.")
    for file in (certificate, key):
        if file is not None and not file.is_file():
            _ends(f"There is no file {file}.")
    if public and not re.fullmatch(r"https?://[^/\s]+/?", public):
        _ends("Give --public as the browser shows it, such as https://bench.local, without a path.")
    if certificate is not None and key is not None:
        try:
            ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER).load_cert_chain(certificate, key)
        except (ssl.SSLError, OSError) as wrong:
            _ends(f"The certificate and its key cannot be used: {wrong}.")
    return Lan(frozenset(names or ()), certificate, key, public)


def _app(data: Path, workshop: Workshop, practice: _Practice, network: Network | None = None) -> FastAPI:
    doors, manners = Doors(data / "practice"), Manners(data / "manners", workshop.teaching, workshop.taught)
    desk = Desk(workshop, doors.hands_for, manners.get)
    workshop.forget_unreadable()
    threading.Thread(target=_catch_up, args=(desk,), name="catch-up", daemon=True).start()
    threading.Thread(target=_copy_daily, args=(data,), name="daily-copy", daemon=True).start()
    lines = Lines(desk, manners, doors, data / "lines")
    return create_app(desk, lines=lines, practise=practice.furnish, network=network)


def _catch_up(desk: Desk) -> None:
    """What earlier versions have left undone, and what the first look at the bench would have to wait for."""
    desk.catch_up()
    bench.view(desk)


#: How often it is looked whether today's copy is there.
LOOK_EVERY_S = 600.0


def _copy_daily(data: Path) -> None:
    """One copy a day, the last of them kept. What cannot be written is said in the log and tried again."""
    while True:
        try:
            copies.daily(data, datetime.now(UTC))
        except (OSError, sqlite3.Error, copies.BadCopy) as wrong:
            logging.getLogger("ivory_table").warning("no daily copy: %s", wrong)
        time.sleep(LOOK_EVERY_S)


def _run(
    data: Path,
    port: int,
    *,
    furnished: bool,
    past: bool = False,
    pace: float = PRACTICE_PACE,
    lan: Lan | None = None,
) -> None:
    listening = _listening(port, lan=lan is not None)
    workshop = _workshop(data)
    practice = _Practice(workshop, data / "practice", pace)
    if furnished:
        if past:
            with workshop.writing():
                furnish(workshop)
            remember(workshop, data / "practice", datetime.now(UTC))
        practice.furnish()
    elif any(m.practice for m in workshop.machines()):
        practice.begin()
    network = lan.network(data) if lan else None
    served = _app(data, workshop, practice, network)
    sys.setswitchinterval(GIVE_WAY_S)
    for line in _told_where(port, network):
        print(line, flush=True)
    config = uvicorn.Config(
        served,
        http=Impatient,
        log_level="warning",
        server_header=False,
        timeout_graceful_shutdown=2,
        # Who asks is what the connection says: a header can be written by anybody.
        proxy_headers=False,
        ssl_certfile=lan.certificate if lan else None,
        ssl_keyfile=lan.key if lan else None,
    )
    try:
        uvicorn.Server(config).run(sockets=[listening])
    finally:
        served.state.lines.close()
        practice.end()


def _told_where(port: int, network: Network | None) -> Iterator[str]:
    """Where it is found, and who can read along."""
    if network is None:
        yield f"Ivory Table on http://127.0.0.1:{port}"
        return
    scheme = "https" if network.encrypted and not network.public else "http"
    yield f"Ivory Table on {scheme}://127.0.0.1:{port}"
    yield f"On the network: {', '.join(network.addresses(port)) or 'this machine has no network address now'}"
    if network.public:
        code, _ = network.new_code(HERE.name, HERE.role)
        yield f"Open {network.public}/join#{code} on the first machine within ten minutes: it lets the others in."
    yield "Devices are let in by a code that this machine shows under Network."
    if not network.encrypted:
        yield (
            "Nothing is encrypted: whoever shares the network can read along and act as a device that was let in. "
            "Use it on the workshop's own network only, or give --certificate and --key, or put a proxy before it."
        )


def dev_app() -> FastAPI:
    """The demo for `make dev`, made anew whenever a file changes."""
    data = SETTINGS.data / "demo"
    workshop = _workshop(data)
    furnish(workshop)
    return _app(data, workshop, _Practice(workshop, data / "practice", PRACTICE_PACE))


@app.command()
def serve(
    data: Data = SETTINGS.data,
    port: Port = SETTINGS.port,
    lan: LanOption = False,
    name: Names = None,
    certificate: Certificate = None,
    key: Key = None,
    public: Public = "",
) -> None:
    """Serve an own workshop: to this machine, and with --lan to devices that were let in."""
    _run(data, port, furnished=False, lan=_lan(lan, name, certificate, key, public))


@app.command()
def demo(
    data: Data = SETTINGS.data / "demo",
    port: Port = SETTINGS.port,
    pace: Annotated[float, typer.Option(min=0.1, max=10_000, help="How many times faster than life.")] = PRACTICE_PACE,
    fresh: Annotated[bool, typer.Option("--fresh", help="Without its eighteen months of made-up runs.")] = False,
    lan: LanOption = False,
    name: Names = None,
    certificate: Certificate = None,
    key: Key = None,
    public: Public = "",
) -> None:
    """Serve the Tidewater workshop, with its practice machines in fast time."""
    on = _lan(lan, name, certificate, key, public)
    _run(data, port, furnished=True, past=not fresh, pace=pace, lan=on)


@app.command()
def practice(
    machine: Annotated[str, typer.Argument(help="A machine of the demo workshop, or 'all' of them.")],
    pty: Annotated[bool, typer.Option("--pty", help="On a pseudo terminal instead of a TCP port.")] = False,
    port: Annotated[int, typer.Option(min=0, max=65535, help="TCP port on 127.0.0.1; 0 takes a free one.")] = 0,
    pace: Annotated[float, typer.Option(min=0.1, max=10_000, help="How many times faster than life.")] = 1.0,
    seed: Annotated[int, typer.Option(help="Which crooked plate it begins with.")] = 1,
    data: Annotated[Path | None, typer.Option(help="Where its truth and its address are kept.")] = None,
    while_open: Annotated[bool, typer.Option(hidden=True, help="End when standard input is closed.")] = False,
) -> None:
    """A practice machine: a simulated printer on a line of its own, with a side door for the human."""
    wanted = [m for m in MACHINES if machine in (m.id, "all")]
    if not wanted:
        known = ", ".join(m.id for m in MACHINES)
        raise typer.BadParameter(f"There is no practice machine called {machine}; there are {known}, or all.")
    for number, m in enumerate(wanted):
        try:
            plug = PtyPlug() if pty else TcpPlug(port + number if port else 0)
        except OSError as wrong:
            raise typer.BadParameter(f"Port {port + number} cannot be used: {wrong.strerror}.") from None
        file = data / f"{m.id}.json" if data else None
        served = Served(m, GAUGES[0], shipped(m.manner), plug, seed=seed + number, pace=pace, file=file)
        print(f"{m.name} on {plug.name}, its side door on port {served.door.port}", flush=True)
        if data:
            data.mkdir(parents=True, exist_ok=True)
            address = Address(line=plug.name, door=served.door.port, pace=pace)
            (data / f"{m.id}.address.json").write_text(address.model_dump_json())
    if while_open:
        sys.stdin.read()
        return
    try:
        threading.Event().wait()
    except KeyboardInterrupt:
        return


@app.command()
def backup(
    file: Annotated[Path, typer.Argument(help="The copy to write, such as workshop.zip.")], data: Data = SETTINGS.data
) -> None:
    """Copy a workshop into one file, while it is in use or not."""
    if not (data / "workshop.db").is_file():
        _ends(f"There is no workshop in {data}. Give its folder with --data.")
    try:
        made = copies.backup(data, file)
    except (copies.BadCopy, OSError) as wrong:
        _ends(f"No copy was made: {wrong}")
    print(f"{file}: {made.runs} runs, checked.")


@app.command()
def restore(
    file: Annotated[Path, typer.Argument(help="A copy made by `backup`, or one of the folder `copies`.")],
    data: Data = SETTINGS.data,
    replace: Annotated[bool, typer.Option("--replace", help="Put a workshop that is there aside.")] = False,
) -> None:
    """Bring a copy back. The server must not be running."""
    try:
        found, aside = copies.restore(file, data, replace=replace)
    except copies.BadCopy as wrong:
        _ends(str(wrong))
    except OSError as wrong:
        _ends(f"It could not be written: {wrong.strerror}.")
    _workshop(data).close()
    print(f"{data}: {found.runs} runs, as of {found.made_at:%Y-%m-%d %H:%M}.")
    if aside is not None:
        print(f"What was there before is in {aside}.")


@app.command(name="export")
def export_(
    file: Annotated[Path, typer.Argument(help="The file to write, such as workshop.zip.")],
    data: Data = SETTINGS.data,
    machine: Annotated[str | None, typer.Option(help="One machine alone, by its id.")] = None,
) -> None:
    """Carry set-up, runs, logbook and taught manners away as JSON in one file."""
    if not (data / "workshop.db").is_file():
        _ends(f"There is no workshop in {data}. Give its folder with --data.")
    try:
        runs = carried.carry(_workshop(data), file, machine)
    except Unknown as nobody:
        _ends(str(nobody).strip("'\""))
    except OSError as wrong:
        _ends(f"{file} cannot be written: {wrong.strerror}.")
    print(f"{file}: {runs} runs.")


@app.command(name="import")
def import_(
    file: Annotated[Path, typer.Argument(help="A file that `export` wrote, here or elsewhere.")],
    data: Data = SETTINGS.data,
) -> None:
    """Add what another workshop carried away; what is here stays, and no run comes twice."""
    if not file.is_file():
        _ends(f"There is no file {file}.")
    try:
        found = carried.bring_all(_workshop(data), file, "–")
    except Refused as wrong:
        _ends(str(wrong))
    print(f"{found.runs_new} runs are new, {found.runs_same} were here already; {found.log_new} entries of logbooks.")
    for name in found.setup.left_alone:
        print(f"{name} differs here and was left as it is.")
    for sentence in found.left_out:
        print(sentence)


#: Exit status of `check`, for scripts; 1 is what every command ends with that could not be done.
CLEAN, LOOK, STOP = 0, 2, 3


@app.command()
def check(
    file: Annotated[Path, typer.Argument(help="The program as it is sent to the machine.")],
    machine: Annotated[str, typer.Option(help="Which machine, by its id or its name.")],
    data: Data = SETTINGS.data,
    plate: Annotated[str | None, typer.Option(help="Left out, that of its newest run.")] = None,
    filament: Annotated[str | None, typer.Option(help="Left out, that of its newest run.")] = None,
    as_json: Annotated[bool, typer.Option("--json", help="The whole report as JSON.")] = False,
) -> None:
    """Check a job before it is printed. Ends with 0 when nothing but notes is found, 2 with warnings, 3 where it must not run."""
    workshop = _workshop(data)
    manners = Manners(data / "manners", workshop.teaching, workshop.taught)
    found = next((m for m in workshop.machines() if machine.lower() in (m.id.lower(), m.name.lower())), None)
    if found is None:
        _ends(f"There is no machine '{machine}'; there are {', '.join(m.name for m in workshop.machines()) or 'none'}.")
    wanted = CheckWanted(name=file.name, plate_id=plate, filament_id=filament)
    try:
        with file.open("rb") as stream:
            report = check_job(Desk(workshop, manner_for=manners.get), found.id, stream, wanted)
    except OSError as wrong:
        _ends(f"{file} cannot be read: {wrong.strerror}.")
    except (NotAJob, Refused, Unknown, ValueError) as wrong:
        _ends(str(wrong).strip("'\""))
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


#: Trials whose figures have bars, by what is tried.
_WITH_BARS = {
    "drift": (run_drift, DRIFT_SCENARIO),
    "first-layer": (run_first_layer, FIRST_LAYER_SCENARIO),
    "harm": (run_harm, HARM_SCENARIO),
    "mesh": (run_mesh, MESH_SCENARIO),
    "offset": (run_offset, OFFSET_SCENARIO),
}


@app.command()
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


@app.command()
def openapi(out: Annotated[Path, typer.Argument(help="File to write.")]) -> None:
    """Write the API's description, from which the front end's types are made."""
    described = create_app(Desk.__new__(Desk)).openapi()
    out.write_text(json.dumps(described, indent=1, sort_keys=True) + "\n")


if __name__ == "__main__":
    app()
