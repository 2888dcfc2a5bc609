"""The mesh's own addresses: a pasted grid looked at before it is kept, and the kept one as a file."""

from fastapi import APIRouter, Request
from fastapi.responses import PlainTextResponse

from ..http import RunId, desk, download
from .earlier import EarlierMesh, earlier_meshes
from .files import mesh_csv, mesh_json, mesh_lines
from .paste import MeshPaste, Pasted, preview
from .readback import ReadBack, ReadbackPaste, compared

routes = APIRouter()


@routes.get("/mesh.csv", response_class=PlainTextResponse)
def get_mesh_csv(request: Request, run_id: RunId) -> PlainTextResponse:
    return download(mesh_csv(desk(request).open(run_id)), f"mesh-{run_id}.csv", "text/csv")


@routes.post("/mesh/preview")
def preview_mesh(request: Request, run_id: RunId, paste: MeshPaste) -> Pasted:
    return preview(desk(request).open(run_id), paste)


@routes.get("/mesh.json", response_class=PlainTextResponse)
def get_mesh_json(request: Request, run_id: RunId) -> PlainTextResponse:
    return download(mesh_json(desk(request).open(run_id)), f"mesh-{run_id}.json", "application/json")


@routes.get("/mesh.gcode", response_class=PlainTextResponse)
def get_mesh_lines(request: Request, run_id: RunId) -> PlainTextResponse:
    return download(mesh_lines(desk(request).open(run_id)), f"mesh-{run_id}.gcode", "text/plain")


@routes.get("/mesh/earlier")
def get_earlier_meshes(request: Request, run_id: RunId) -> tuple[EarlierMesh, ...]:
    return earlier_meshes(desk(request), desk(request).open(run_id))


@routes.post("/mesh/readback")
def read_back(request: Request, run_id: RunId, paste: ReadbackPaste) -> ReadBack:
    return compared(desk(request).open(run_id), paste)
