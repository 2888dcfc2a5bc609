"""The mesh's own addresses: a pasted grid looked at before it is kept, and the kept one as a file."""

from fastapi import APIRouter, Request
from fastapi.responses import PlainTextResponse

from ..http import RunId, desk, download
from .files import mesh_csv
from .paste import MeshPaste, preview
from .shown import Shown

routes = APIRouter()


@routes.get("/mesh.csv", response_class=PlainTextResponse)
def get_mesh_csv(request: Request, run_id: RunId) -> PlainTextResponse:
    return download(mesh_csv(desk(request).open(run_id)), f"mesh-{run_id}.csv", "text/csv")


@routes.post("/mesh/preview")
def preview_mesh(request: Request, run_id: RunId, paste: MeshPaste) -> Shown:
    return preview(desk(request).open(run_id), paste)
