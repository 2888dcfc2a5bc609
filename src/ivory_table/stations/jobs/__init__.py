"""What a machine on the line can be told to do, by name: each job works a run through the same desk as a hand."""

from collections.abc import Callable

from . import mesh, offset, prepare, proof, tram
from .work import Work

JOBS: dict[str, tuple[str, Callable[[Work], None]]] = {
    "heat": ("Heat and hold", prepare.heat),
    "home": ("Home", prepare.home),
    "prove": ("Prove the machine", prepare.prove),
    "cool": ("Cool down, motors off", prepare.cool),
    "visit": ("Go to the screw", tram.visit),
    "step_screws": ("Step down to the gauge at every screw", tram.step_screws),
    "probe_screws": ("Probe every screw", tram.probe_screws),
    "centre": ("Go to the centre", tram.centre),
    "survey": ("Measure the mesh", mesh.survey),
    "send_mesh": ("Send the mesh and switch it on", mesh.send_mesh),
    "bracket": ("Step down to the gauge at the centre", tram.bracket),
    "feel_check": ("Feel check at the centre", tram.feel_check),
    "store": ("Send, store and read back", offset.store),
    "store_advised": ("Send the advised offset, store, read back", offset.store_advised),
    "read_back": ("Read it back", offset.read_back),
    "print": ("Print the proof", proof.print_proof),
    "settle_nudges": ("Merge the nudge, or put it back", proof.settle_nudges),
    "rest": (proof.RESTING, proof.rest),
}
