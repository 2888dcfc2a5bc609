"""What every address of a run has in common."""

from typing import Annotated

from fastapi import Path, Query, Request, Response
from fastapi.responses import PlainTextResponse
from pydantic import BeforeValidator

from ivory_table.core.proof import ZoneCount
from ivory_table.core.value import Id
from ivory_table.desk.desk import Desk

RunId = Annotated[Id, Path(description="The run's id.")]


def _number(zones: object) -> object:
    return int(zones) if isinstance(zones, str) and zones.isdigit() else zones


Zones = Annotated[
    ZoneCount,
    BeforeValidator(_number),
    Query(description="Zones of the next proof: 5, 9, or mesh for points of the mesh."),
]


def desk(request: Request) -> Desk:
    found: Desk = request.app.state.desk
    return found


def download(text: str, name: str, kind: str) -> PlainTextResponse:
    """A text as a file to be saved."""
    return PlainTextResponse(text, media_type=kind, headers={"content-disposition": f'attachment; filename="{name}"'})


def download_bytes(name: str, body: bytes, kind: str) -> Response:
    return Response(body, media_type=kind, headers={"content-disposition": f'attachment; filename="{name}"'})
