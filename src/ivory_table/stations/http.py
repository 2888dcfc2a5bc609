"""What every address of a run has in common."""

from typing import Annotated

from fastapi import Path, Query, Request, Response
from fastapi.responses import PlainTextResponse
from pydantic import BeforeValidator

from ivory_table.core.proof import ProofChoice
from ivory_table.core.value import Id
from ivory_table.desk.desk import Desk

RunId = Annotated[Id, Path(description="The run's id.")]


def _number(zones: object) -> object:
    return int(zones) if isinstance(zones, str) and zones.isdigit() else zones


Zones = Annotated[
    ProofChoice,
    BeforeValidator(_number),
    Query(
        description="The next proof: as advised, 5 or 9 patches, mesh for patches at points of the mesh, or another kind."
    ),
]


def desk(request: Request) -> Desk:
    found: Desk = request.app.state.desk
    return found


def download(text: str, name: str, kind: str) -> PlainTextResponse:
    """A text as a file to be saved."""
    return PlainTextResponse(text, media_type=kind, headers={"content-disposition": f'attachment; filename="{name}"'})


def download_bytes(name: str, body: bytes, kind: str) -> Response:
    return Response(body, media_type=kind, headers={"content-disposition": f'attachment; filename="{name}"'})
