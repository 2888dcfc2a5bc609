"""What every command has: where things are, and an end with one sentence instead of a traceback."""

import sqlite3
from pathlib import Path
from typing import Annotated, NoReturn

import typer
from peewee import DatabaseError
from pydantic_settings import BaseSettings, SettingsConfigDict

from ivory_table.store.workshop import Workshop


class Settings(BaseSettings):
    """Where things are; each can be set in the environment as IVORY_TABLE_..."""

    model_config = SettingsConfigDict(env_prefix="ivory_table_")

    data: Path = Path("data")
    port: int = 8765


SETTINGS = Settings()

Data = Annotated[Path, typer.Option(help="Folder of the database, manners, line logs and practice machines.")]


def ends(sentence: str) -> NoReturn:
    """One sentence instead of a traceback: what is wrong and what would do."""
    typer.echo(sentence, err=True)
    raise typer.Exit(1)


def workshop_in(data: Path) -> Workshop:
    """The workshop in a folder; ends the program with a sentence when it cannot be opened."""
    try:
        return Workshop(data / "workshop.db")
    except RuntimeError as newer:
        ends(str(newer))
    except (DatabaseError, sqlite3.DatabaseError) as broken:
        ends(
            f"{data / 'workshop.db'} cannot be opened as a workshop: {broken}. Look whether the file is whole and may be "
            "written, or give another folder with --data."
        )
    except OSError as wrong:
        ends(f"The folder {data} cannot be made or used: {wrong.strerror}. Give another one with --data.")
