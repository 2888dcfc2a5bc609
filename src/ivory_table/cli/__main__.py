from ivory_table.cli.app import app

app()
