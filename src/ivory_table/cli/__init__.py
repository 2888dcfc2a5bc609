"""The command line, a file for each kind of command. `app.py` lists them."""
