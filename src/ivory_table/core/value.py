"""The base of every value of the trade: frozen, finite, nothing unknown accepted."""

from typing import Annotated

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

Array = NDArray[np.float64]


class Value(BaseModel):
    """A frozen value. NaN and infinities are refused, unknown fields too."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


Id = Annotated[str, Field(pattern=r"^[A-Za-z0-9_-]{1,64}$")]
Label = Annotated[str, Field(min_length=1, max_length=80, pattern=r"\S")]
Initials = Annotated[str, Field(min_length=1, max_length=12, pattern=r"^\S(.*\S)?$")]
Note = Annotated[str, Field(max_length=2000)]

#: A place on or near a plate; anything further off is a slip of the finger.
PlaceMm = Annotated[float, Field(ge=-1000, le=2000)]
#: A height, gap or offset. Ten millimetres is already more than any first layer knows.
FineMm = Annotated[float, Field(ge=-10, le=10)]
#: A stored offset or stop position; stop positions can be a machine's whole height.
StoredMm = Annotated[float, Field(ge=-1000, le=1000)]
