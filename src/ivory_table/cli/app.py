"""The command line: serve, demo, practice; backup, restore, export, import; check; trial; openapi."""

import json
from pathlib import Path
from typing import Annotated

import typer

from ivory_table.api.app import create_app
from ivory_table.cli.carrying import backup, export_, import_, restore
from ivory_table.cli.checking import check
from ivory_table.cli.practising import practice
from ivory_table.cli.serving import demo, serve
from ivory_table.cli.trying import trial
from ivory_table.desk.desk import Desk

app = typer.Typer(help=__doc__, no_args_is_help=True, add_completion=False)
for command in (serve, demo, practice, backup, restore):
    app.command()(command)
app.command(name="export")(export_)
app.command(name="import")(import_)
for command in (check, trial):
    app.command()(command)


@app.command()
def openapi(out: Annotated[Path, typer.Argument(help="File to write.")]) -> None:
    """Write the API's description, from which the front end's types are made."""
    described = create_app(Desk.__new__(Desk)).openapi()
    out.write_text(json.dumps(described, indent=1, sort_keys=True) + "\n")
