"""What every address of a run has in common."""

from typing import Annotated, Literal

from fastapi import Path, Query, Request, Response
from fastapi.responses import PlainTextResponse
from pydantic import BeforeValidator

from ivory_table.core.value import Id
from ivory_table.desk.desk import Desk

RunId = Annotated[Id, Path(description="The run's id.")]
Zones = Annotated[Literal[5, 9], BeforeValidator(int), Query(description="Zones of the next proof.")]


def desk(request: Request) -> Desk:
    found: Desk = request.app.state.desk
    return found


def download(text: str, name: str, kind: str) -> PlainTextResponse:
    """A text as a file to be saved."""
    return PlainTextResponse(text, media_type=kind, headers={"content-disposition": f'attachment; filename="{name}"'})


def download_bytes(name: str, body: bytes, kind: str) -> Response:
    return Response(body, media_type=kind, headers={"content-disposition": f'attachment; filename="{name}"'})
