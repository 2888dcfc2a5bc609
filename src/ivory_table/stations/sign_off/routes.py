"""Sign off's own addresses: the run as files."""

from fastapi import APIRouter, Request, Response
from fastapi.responses import PlainTextResponse

from ivory_table.runs.entry import RunFile

from ..http import RunId, desk, download
from .files import readings_csv, run_file

routes = APIRouter()


@routes.get("/file")
def get_file(request: Request, response: Response, run_id: RunId) -> RunFile:
    response.headers["content-disposition"] = f'attachment; filename="run-{run_id}.json"'
    return run_file(desk(request).open(run_id))


@routes.get("/readings.csv", response_class=PlainTextResponse)
def get_readings(request: Request, run_id: RunId) -> PlainTextResponse:
    return download(readings_csv(desk(request).open(run_id)), f"readings-{run_id}.csv", "text/csv")
