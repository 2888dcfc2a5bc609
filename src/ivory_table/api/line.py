"""A machine on the line: connecting, stopping, its questions; and what it can do in a run."""

import asyncio
from collections.abc import AsyncIterator
from concurrent.futures import ThreadPoolExecutor
from typing import Annotated

from fastapi import APIRouter, Body, Depends, Path, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import PlainTextResponse
from fastapi.sse import EventSourceResponse

from ivory_table.access.network import Network
from ivory_table.core.proof import ProofChoice
from ivory_table.core.value import Id, StationName, Value
from ivory_table.stations import on_line
from ivory_table.stations.http import RunId, desk, download
from ivory_table.stations.lines import Connect, Leave, Lines, LineStatus

from .network import did, who


def lines(request: Request) -> Lines:
    found: Lines = request.app.state.lines
    return found


def at_line(request: Request, machine_id: str, words: str) -> Lines:
    """The lines, for somebody who tells a machine something: one at a time, and written down."""
    did(request, f"{desk(request).workshop.machine(machine_id).name}: {words}")
    found = lines(request)
    found.holds(machine_id, who(request))
    return found


def at_run_line(request: Request, run_id: str, words: str) -> Lines:
    return at_line(request, desk(request).open(run_id).setup.machine.id, words)


MachineId = Annotated[Id, Path(description="The machine's id.")]
#: A stream looks whether something has changed so often, and tells it again after so many of those looks.
LOOK_EVERY_S, LOOKS_AGAIN = 0.1, 20
line_routes = APIRouter(prefix="/api/machines/{machine_id}/line", tags=["line"])


class HandOver(Value):
    yes: bool


class Answer(Value):
    """An answer to one question; a second press is not taken for the next one."""

    text: Annotated[str, Body(max_length=40)]
    question: Annotated[str, Body(max_length=400)] | None = None


class StartJob(Value):
    """Start one of the jobs a station offers. Asking twice under one id starts it once."""

    id: Id
    station: StationName
    job: Id
    zones: ProofChoice = "advised"


class Nudge(Value):
    away_mm: Annotated[float, Body(ge=-0.5, le=0.5)]


class Speed(Value):
    percent: Annotated[float, Body(ge=10, le=300)]


class Fault(Value):
    name: Annotated[Id, Body()]
    after: Annotated[int, Body(ge=1, le=10_000)] = 1


class Crashes(Value):
    crashes: tuple[str, ...]


@line_routes.get("")
def get_line(request: Request, machine_id: MachineId) -> LineStatus:
    return lines(request).status(machine_id)


@line_routes.post("/connect")
def connect(request: Request, machine_id: MachineId, wanted: Connect) -> LineStatus:
    return at_line(request, machine_id, "connected").connect(machine_id, wanted)


@line_routes.post("/disconnect")
def disconnect(request: Request, machine_id: MachineId, wanted: Leave | None = None) -> LineStatus:
    return at_line(request, machine_id, "let go").leave(machine_id, wanted or Leave())


@line_routes.post("/cool")
def cool_down(request: Request, machine_id: MachineId) -> LineStatus:
    return at_line(request, machine_id, "heaters switched off").cool(machine_id)


#: Stop has threads of its own: it never waits behind whatever else the server is doing.
_STOPPING = ThreadPoolExecutor(max_workers=8, thread_name_prefix="stop")


@line_routes.post("/stop")
async def stop(request: Request, machine_id: MachineId) -> LineStatus:
    """From every device that was let in, whoever is at the line: it only ever ends a motion."""
    did(request, f"{machine_id}: Stop")
    return await asyncio.get_running_loop().run_in_executor(_STOPPING, lines(request).stop, machine_id)


@line_routes.post("/recover")
def recover(request: Request, machine_id: MachineId) -> LineStatus:
    return at_line(request, machine_id, "waked after Stop").recover(machine_id)


@line_routes.post("/cancel")
def cancel(request: Request, machine_id: MachineId) -> LineStatus:
    return at_line(request, machine_id, "job cancelled").cancel(machine_id)


@line_routes.post("/answer")
def answer(request: Request, machine_id: MachineId, given: Answer) -> LineStatus:
    return at_line(request, machine_id, f"answered '{given.text}'").answer(machine_id, given.text, given.question)


@line_routes.post("/ask")
def ask_for_line(request: Request, machine_id: MachineId) -> LineStatus:
    """Ask whoever is at the line for it; where nothing was heard of them for a minute it is had at once."""
    found = lines(request)
    held = found.holder(machine_id)
    network: Network | None = request.app.state.network
    silent = 0.0 if network is None or held is None else network.seen_s_ago(held.device)
    did(request, f"{desk(request).workshop.machine(machine_id).name}: asked for the line")
    return found.ask_for(machine_id, who(request), silent)


@line_routes.post("/hand-over")
def hand_over(request: Request, machine_id: MachineId, given: HandOver) -> LineStatus:
    """Give the line to whoever asked, or keep it."""
    return at_line(request, machine_id, "line handed over" if given.yes else "line kept").hand_over(
        machine_id, who(request), yes=given.yes
    )


@line_routes.get("/log", response_class=PlainTextResponse)
def get_log(request: Request, machine_id: MachineId) -> PlainTextResponse:
    return download(lines(request).log(machine_id), f"line-{machine_id}.log", "text/plain")


def line_there(request: Request, machine_id: MachineId) -> None:
    """Asked before a stream begins: a machine that is not there is refused, not streamed."""
    lines(request).status(machine_id)


@line_routes.get("/events", response_class=EventSourceResponse, dependencies=[Depends(line_there)])
async def events(request: Request, machine_id: MachineId) -> AsyncIterator[LineStatus]:
    """The line's status now and whenever it changes, as server-sent events; and again now and then.

    A page that asked for the status meanwhile may have heard the older answer last.
    """
    found, at = lines(request), who(request)
    network: Network | None = request.app.state.network
    while network is None or await run_in_threadpool(network.still, at):
        version = found.version  # before the look: a change in between is then seen at once
        yield await run_in_threadpool(found.status, machine_id)
        for _ in range(LOOKS_AGAIN):
            if found.closing or await request.is_disconnected():
                return
            if found.version != version:
                break
            await asyncio.sleep(LOOK_EVERY_S)


run_line_routes = APIRouter(prefix="/api/runs/{run_id}/line", tags=["line"])


@run_line_routes.get("")
def get_run_line(request: Request, run_id: RunId, station: StationName = "prepare") -> on_line.LineView:
    return on_line.view(lines(request), desk(request).open(run_id), station)


@run_line_routes.post("/start")
def start_job(request: Request, run_id: RunId, wanted: StartJob) -> on_line.LineView:
    at = at_run_line(request, run_id, f"{wanted.job.replace('_', ' ')} at {wanted.station.replace('_', ' ')}")
    on_line.start(at, run_id, wanted.station, wanted.job, wanted.id, wanted.zones)
    return on_line.view(lines(request), desk(request).open(run_id), wanted.station)


@run_line_routes.post("/nudge")
def nudge(request: Request, run_id: RunId, wanted: Nudge) -> on_line.LineView:
    at = at_run_line(request, run_id, f"tip nudged by {wanted.away_mm} mm")
    on_line.change_while_printing(at, run_id, "nudge", wanted.away_mm)
    return on_line.view(lines(request), desk(request).open(run_id), "first_layer")


@run_line_routes.post("/speed")
def speed(request: Request, run_id: RunId, wanted: Speed) -> on_line.LineView:
    at = at_run_line(request, run_id, f"speed {wanted.percent:g} %")
    on_line.change_while_printing(at, run_id, "speed", wanted.percent)
    return on_line.view(lines(request), desk(request).open(run_id), "first_layer")


@run_line_routes.post("/practice")
def practice_answer(request: Request, run_id: RunId) -> LineStatus:
    on_line.practice_answer(at_run_line(request, run_id, "the practice person answered"), run_id)
    return lines(request).status(desk(request).open(run_id).setup.machine.id)


practice_routes = APIRouter(prefix="/api/runs/{run_id}/practice", tags=["practice"])


@practice_routes.get("/crashes")
def get_crashes(request: Request, run_id: RunId) -> Crashes:
    return Crashes(crashes=on_line.crashes_after(desk(request), run_id))


@practice_routes.post("/disturb")
def disturb(request: Request, run_id: RunId) -> Crashes:
    return Crashes(crashes=on_line.crashes_after(desk(request), run_id, lambda hands: hands.disturb()))


@practice_routes.post("/fault")
def fault(request: Request, run_id: RunId, wanted: Fault) -> Crashes:
    told = on_line.crashes_after(desk(request), run_id, lambda hands: hands.fault(wanted.name, wanted.after))
    return Crashes(crashes=told)
