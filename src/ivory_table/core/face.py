"""What a plate's face is made of, and what lies on it: how it is cleaned, and how a plastic holds there."""

from .defaults import FACES
from .defaults.print_tables import Coat, Face, Holds
from .plate import Plate
from .value import Value


class Grip(Value):
    """How a plastic holds on a plate: `times` the usual hold, and what follows, in words; empty where it just holds well."""

    holds: Holds
    times: float
    #: "PETG on bare glass": for sentences.
    what: str
    words: str = ""


def face_of(plate: Plate) -> Face | None:
    """None where nobody has said what it is made of."""
    return FACES.faces[plate.face] if plate.face else None


def coat_of(plate: Plate) -> Coat | None:
    """What lies on it; a layer that is called glue is one."""
    return FACES.coats[plate.coated] if plate.coated else None


def grip_on(plate: Plate, material: str) -> Grip | None:
    """None where nobody has said what the face is. Over a coat a plastic holds on the coat, and comes off with it."""
    face, coat = face_of(plate), coat_of(plate)
    if face is None:
        return None
    what = f"{material} on {face.name}"
    if coat is not None:
        return Grip(holds="well", times=1.0, what=f"{what} with {coat.name}")
    holds = face.holds[material]
    if holds == "too_well":
        words = (
            f"{material} holds so well on {face.name} that it {face.harm} as it comes off. Lay {FACES.release}, let plate and part "
            "cool to the room, and never pry"
        )
        return Grip(holds=holds, times=FACES.too_well_grip, what=what, words=words)
    if holds == "poorly":
        words = f"{material} hardly holds on {face.name}. Lay a coat (washable glue), or mount another plate"
        return Grip(holds=holds, times=FACES.poorly_grip, what=what, words=words)
    return Grip(holds=holds, times=1.0, what=what)


def stuck_words(grip: Grip | None) -> str:
    """What to do with a patch that would not come off."""
    off = (
        "Let plate and part cool to the room, take the plate off the machine and let the part come by itself; never pry"
    )
    if grip is not None and grip.holds == "too_well":
        return f"{grip.words}."
    known = "" if grip is not None else " Say in set-up what the face of this plate is made of, and it is told before."
    return f"What is pressed on too hard holds too hard, so the height comes first. {off}. If it happens at the right height, lay {FACES.release}.{known}"
