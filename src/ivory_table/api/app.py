"""The application: routers, refusals, the guard around them, and the built front end."""

from collections.abc import Callable
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any

from fastapi import APIRouter, FastAPI, Request
from fastapi.middleware.gzip import GZipMiddleware
from fastapi.responses import FileResponse, HTMLResponse, Response
from starlette.exceptions import HTTPException
from starlette.routing import BaseRoute
from starlette.staticfiles import StaticFiles

from ivory_table import __version__
from ivory_table.access.network import Network
from ivory_table.desk.desk import Desk
from ivory_table.link.manners import Manners
from ivory_table.stations.lines import Lines

from . import problems
from .routers import ROUTERS
from .security import Guard


def create_app(
    desk: Desk,
    web: Path | None = None,
    lines: Lines | None = None,
    practise: Callable[[], None] = lambda: None,
    network: Network | None = None,
) -> FastAPI:
    """`web`: the built front end; the packaged one when not given. `practise` brings practice machines in.

    `network`: who is let in from the workshop's network; without it this machine alone is answered.
    """
    app = FastAPI(
        title="Ivory Table",
        version=__version__,
        docs_url=None,  # the docs page would load from elsewhere
        redoc_url=None,
        openapi_url="/api/openapi.json",
    )
    app.state.desk = desk
    app.state.lines = lines or Lines(desk, Manners())
    app.state.practise = practise
    app.state.network = network
    problems.install(app)
    app.add_middleware(Guard, network=network)
    app.router.routes.extend(_addresses())
    _serve_web(app, web or Path(str(files("ivory_table").joinpath("web"))))
    return app


@cache
def _addresses() -> list[BaseRoute]:
    """Every address of the API, worked out once for all applications of a process: it takes a third of a second."""
    every = APIRouter(responses=problems.RESPONSES)
    for router in ROUTERS:
        every.include_router(router)
    return list(every.routes)


class _Hashed(StaticFiles):
    """Files whose names carry a hash of what is in them: kept for good by whoever has loaded them."""

    def file_response(self, *args: Any, **kwargs: Any) -> Response:
        response = super().file_response(*args, **kwargs)
        response.headers["cache-control"] = "public, max-age=31536000, immutable"
        return response


def _serve_web(app: FastAPI, web: Path) -> None:
    if (web / "assets").is_dir():
        app.mount("/assets", GZipMiddleware(_Hashed(directory=web / "assets"), minimum_size=1000), name="assets")

    @app.get("/{path:path}", include_in_schema=False)
    def page(request: Request, path: str) -> Response:
        """The one page, for every address the front end knows; its nonce is fresh each time."""
        if path.startswith("api/"):
            raise HTTPException(404, "There is nothing at this address.")
        if path in ("favicon.svg",):
            return FileResponse(web / path)
        index = web / "index.html"
        if not index.is_file():
            return HTMLResponse("<p>The front end is not built. Run make demo.</p>", status_code=503)
        html = index.read_text("utf-8").replace("__NONCE__", request.state.nonce)
        return HTMLResponse(html, headers={"cache-control": "no-store"})
