"""What tests of the practice machine share."""

from ivory_table.core.plate import Machine
from ivory_table.practice.elastic import Truth
from ivory_table.practice.machine import PracticeMachine
from ivory_table.practice.person import PracticePerson
from tests.conftest import setup_for

HERON, KESTREL = setup_for("heron"), setup_for("kestrel")


def level(machine: Machine = HERON.machine, **changes: object) -> PracticeMachine:
    """A level plate on even supports, with a steady hand, homed and ready."""
    m = len(machine.screws)
    body = {
        "seed": 1,
        "supports": [0.0] * m,
        "stiffness": [60.0] * m,
        "senses": [1] * m,
        "pitch_share": [1.0] * m,
        "relaxed": [4.0] * m,
        "lowest": [-4.0] * m,
        "mount": machine.plates[0].id,
        "backlash_mm": 0.0,
    }
    found = PracticeMachine(machine, HERON.gauge, Truth(**(body | changes)))
    found.homed = True
    return found


def hands(**changes: object) -> PracticePerson:
    return PracticePerson(level(**changes))
