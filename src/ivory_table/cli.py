"""The command line: `ivory-table serve`, `ivory-table demo`, `ivory-table openapi`."""

import json
from pathlib import Path
from typing import Annotated

import typer
import uvicorn
from fastapi import FastAPI
from pydantic_settings import BaseSettings, SettingsConfigDict

from ivory_table.api.app import create_app
from ivory_table.demo.tidewater import furnish
from ivory_table.practice.plate import PracticeRoom
from ivory_table.stations.desk import Desk
from ivory_table.store.workshop import Workshop

app = typer.Typer(help=__doc__, no_args_is_help=True, add_completion=False)


class Settings(BaseSettings):
    """Where things are; each can be set in the environment as IVORY_TABLE_..."""

    model_config = SettingsConfigDict(env_prefix="ivory_table_")

    data: Path = Path("data")
    port: int = 8765


SETTINGS = Settings()
Port = Annotated[int, typer.Option(min=1, max=65535, help="Port on 127.0.0.1.")]
Data = Annotated[Path, typer.Option(help="Folder of the database and the practice plates.")]


def _app(data: Path, *, furnished: bool) -> FastAPI:
    workshop = Workshop(data / "workshop.db")
    if furnished:
        furnish(workshop)
    return create_app(Desk(workshop, PracticeRoom(data / "practice").hands_for))


def _run(data: Path, port: int, *, furnished: bool) -> None:
    served = _app(data, furnished=furnished)
    print(f"Ivory Table on http://127.0.0.1:{port}", flush=True)
    uvicorn.run(served, host="127.0.0.1", port=port, log_level="warning", server_header=False)


def dev_app() -> FastAPI:
    """The demo for `make dev`, made anew whenever a file changes."""
    return _app(SETTINGS.data / "demo", furnished=True)


@app.command()
def serve(data: Data = SETTINGS.data, port: Port = SETTINGS.port) -> None:
    """Serve an own workshop."""
    _run(data, port, furnished=False)


@app.command()
def demo(data: Data = SETTINGS.data / "demo", port: Port = SETTINGS.port) -> None:
    """Serve the Tidewater workshop, with practice machines."""
    _run(data, port, furnished=True)


@app.command()
def openapi(out: Annotated[Path, typer.Argument(help="File to write.")]) -> None:
    """Write the API's description, from which the front end's types are made."""
    described = create_app(Desk.__new__(Desk)).openapi()
    out.write_text(json.dumps(described, indent=1, sort_keys=True) + "\n")


if __name__ == "__main__":
    app()
