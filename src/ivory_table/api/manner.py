"""Manners: listed, taught by example, carried, and proved on a machine."""

from typing import Annotated

from fastapi import APIRouter, Path, Query, Request
from fastapi.responses import PlainTextResponse, Response

from ivory_table.core.value import Id, Initials
from ivory_table.paper.manner_card import manner_card
from ivory_table.stations.http import desk, download, download_bytes
from ivory_table.stations.manner import catch, pages, proving, shapes

from .line import MachineId, at_line, lines

manner_routes = APIRouter(prefix="/api/manners", tags=["manners"])
machine_manner_routes = APIRouter(prefix="/api/machines/{machine_id}", tags=["manners"])
MannerId = Annotated[Id, Path(description="The manner's id.")]
WordId = Annotated[str, Path(pattern=r"^[a-z_.]{1,40}$", description="A word of a manner, such as does.move.")]
OfMachine = Annotated[Id | None, Query(description="Whose proofs are shown beside the words.")]


def _pages(request: Request) -> pages.Pages:
    return pages.Pages(desk(request).workshop, lines(request).manners)


def _changed(request: Request, manner_id: str) -> None:
    desk(request).manner_changed(manner_id)
    lines(request).manner_changed(manner_id)


@manner_routes.get("")
def list_manners(request: Request) -> tuple[shapes.MannerLine, ...]:
    return _pages(request).listing()


@manner_routes.post("", status_code=201)
def begin_manner(request: Request, wanted: shapes.Begin) -> shapes.MannerView:
    return _pages(request).begin(wanted)


@manner_routes.post("/file")
def bring_manner(request: Request, wanted: shapes.BringManner) -> shapes.MannerView:
    found = _pages(request).bring(wanted)
    _changed(request, found.id)
    return found


@manner_routes.get("/{manner_id}")
def get_manner(request: Request, manner_id: MannerId, machine: OfMachine = None) -> shapes.MannerView:
    return _pages(request).view(manner_id, machine)


@manner_routes.put("/{manner_id}/words/{word_id}")
def teach_word(
    request: Request, manner_id: MannerId, word_id: WordId, wanted: shapes.TeachWord, machine: OfMachine = None
) -> shapes.Taught:
    found = _pages(request).teach(manner_id, word_id, wanted, machine)
    _changed(request, manner_id)
    return found


@manner_routes.post("/{manner_id}/words/{word_id}/try")
def try_reply(request: Request, manner_id: MannerId, word_id: WordId, wanted: shapes.TryReply) -> shapes.Tried:
    return _pages(request).try_reply(manner_id, word_id, wanted.text)


@manner_routes.put("/{manner_id}/settings")
def settle_manner(request: Request, manner_id: MannerId, wanted: shapes.Settings) -> shapes.MannerView:
    found = _pages(request).settle(manner_id, wanted)
    _changed(request, manner_id)
    return found


@manner_routes.post("/{manner_id}/versions/{version}")
def back_to_version(
    request: Request, manner_id: MannerId, version: Annotated[int, Path(ge=1, le=10**6)], by: Initials
) -> shapes.MannerView:
    found = _pages(request).back_to(manner_id, version, by)
    _changed(request, manner_id)
    return found


@manner_routes.post("/{manner_id}/job")
def lines_of_job(request: Request, manner_id: MannerId, wanted: shapes.JobText) -> shapes.JobLines:
    """The lines of a job's start, with what each may be."""
    return _pages(request).of_job(manner_id, wanted.text)


@manner_routes.get("/{manner_id}/differences")
def differences(
    request: Request,
    manner_id: MannerId,
    other: Annotated[Id, Query(description="Another manner, or a version of this one.")],
) -> shapes.Differences:
    return _pages(request).differences(manner_id, other)


@manner_routes.get("/{manner_id}/file", response_class=PlainTextResponse)
def manner_file(request: Request, manner_id: MannerId) -> PlainTextResponse:
    return download(_pages(request).file(manner_id), f"{manner_id}.toml", "application/toml")


@manner_routes.get("/{manner_id}/card", response_class=Response, responses={200: {"content": {"application/pdf": {}}}})
def card(request: Request, manner_id: MannerId) -> Response:
    """The lines for whoever works by hand, to print."""
    view = _pages(request).view(manner_id)
    return download_bytes(f"{manner_id}-card.pdf", manner_card(view.name, view.card), "application/pdf")


@machine_manner_routes.put("/manner")
def use_manner(request: Request, machine_id: MachineId, wanted: shapes.UseManner) -> shapes.MannerView:
    """Let a machine talk so from now on."""
    _pages(request).use(machine_id, wanted.manner)
    _changed(request, wanted.manner)
    return _pages(request).view(wanted.manner, machine_id)


@machine_manner_routes.post("/line/catch")
def catch_reply(request: Request, machine_id: MachineId, wanted: catch.Catch) -> catch.Caught:
    """Send one line that only asks, and give back everything that is said to it."""
    return catch.caught(_pages(request), at_line(request, machine_id, "asked something"), machine_id, wanted)


@machine_manner_routes.get("/proving")
def get_proving(request: Request, machine_id: MachineId) -> proving.ProvingView:
    return proving.Proving(_pages(request), lines(request)).view(machine_id)


@machine_manner_routes.post("/proving/{step_id}")
def prove(request: Request, machine_id: MachineId, step_id: Id, wanted: proving.StartStep) -> proving.ProvingView:
    return proving.Proving(_pages(request), at_line(request, machine_id, f"proved: {step_id}")).start(
        machine_id, step_id, wanted
    )


@machine_manner_routes.post("/proving/{step_id}/hand")
def proved_by_hand(request: Request, machine_id: MachineId, step_id: Id, given: proving.ByHand) -> proving.ProvingView:
    return proving.Proving(_pages(request), lines(request)).by_hand(machine_id, step_id, given)


@machine_manner_routes.post("/line/practice")
def practice_answer(request: Request, machine_id: MachineId) -> proving.ProvingView:
    """Let the person at a practice machine answer the question of a proof."""
    found = proving.Proving(_pages(request), at_line(request, machine_id, "the practice person answered"))
    found.practise(machine_id)
    return found.view(machine_id)
