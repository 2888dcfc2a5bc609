"""The base of every value of the trade: frozen, finite, nothing unknown accepted."""

import unicodedata
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import AfterValidator, BaseModel, ConfigDict, Field

Array = NDArray[np.float64]


class Value(BaseModel):
    """A frozen value. NaN and infinities are refused, unknown fields too."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


#: Kinds of character that show nothing, or are no text at all: control, half a character, private.
_NOT_SHOWN = {"Cc", "Cs", "Co"}
#: They turn the direction of what follows: a name could then show as another one.
_DIRECTIONS = {chr(c) for c in (0x061C, 0x200E, 0x200F, *range(0x202A, 0x202F), *range(0x2066, 0x206A))}


def _printable(text: str, besides: str = "") -> str:
    for c in text:
        if c in _DIRECTIONS or (unicodedata.category(c) in _NOT_SHOWN and c not in besides):
            raise ValueError("There is a character in this text that cannot be shown. Type it again by hand.")
    return text


Printable = AfterValidator(_printable)

Id = Annotated[str, Field(pattern=r"^[A-Za-z0-9_-]{1,64}$")]
Label = Annotated[str, Field(min_length=1, max_length=80, pattern=r"\S"), Printable]
Initials = Annotated[str, Field(min_length=1, max_length=12, pattern=r"^\S(.*\S)?$"), Printable]
Note = Annotated[str, Field(max_length=2000), AfterValidator(lambda text: _printable(text, "\n\t"))]

#: A place on or near a plate; anything further off is a slip of the finger.
PlaceMm = Annotated[float, Field(ge=-1000, le=2000)]
#: A height, gap or offset. Ten millimetres is already more than any first layer knows.
FineMm = Annotated[float, Field(ge=-10, le=10)]
#: A tip's temperature, °C.
TipC = Annotated[float, Field(ge=0, le=400)]
#: A stored offset or stop position; stop positions can be a machine's whole height.
StoredMm = Annotated[float, Field(ge=-1000, le=1000)]

#: The stations of a run, in their order.
StationName = Literal["prepare", "tram", "mesh", "offset", "first_layer", "sign_off"]
STATION_NAMES: tuple[StationName, ...] = ("prepare", "tram", "mesh", "offset", "first_layer", "sign_off")
