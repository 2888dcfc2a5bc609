"""What a kind of row declares of itself: what it does to the plate, where it is taken, how an older one is read."""

from typing import Any, ClassVar, Literal

from ivory_table.core.plate import Machine
from ivory_table.core.value import STATION_NAMES, StationName, Value

#: What keeping a row of a kind means for the plate under the tip, the tip above it and the print between them.
#:
#: - none: nothing; what was seen, read or printed before holds as it did.
#: - reads: it tells something of the plate as it stands.
#: - moves_plate, moves_nozzle: what was printed before was printed over another gap.
#: - nudges: the tip moves while a proof prints; the proof notes from which zone on.
#: - prints: a new proof; the one before is done with.
Effect = Literal["none", "reads", "moves_plate", "moves_nozzle", "nudges", "prints"]

#: Stations that take a row of a kind. Rows about the run itself are taken everywhere.
EVERYWHERE: tuple[StationName, ...] = STATION_NAMES


class Row(Value):
    """One kind of row. A subclass names its `kind`, its `effect` and the stations whose address takes it."""

    effect: ClassVar[Effect]
    stations: ClassVar[tuple[StationName, ...]]
    #: Grows when the meaning or the fields of a kind change; `older` then reads what was kept before.
    version: ClassVar[int] = 1
    #: The name it is kept under; a subclass gives it as its default.
    kind: str
    #: Every kind by its name.
    kinds: ClassVar[dict[str, type["Row"]]] = {}

    @classmethod
    def __pydantic_init_subclass__(cls, **more: Any) -> None:
        super().__pydantic_init_subclass__(**more)
        name = cls.model_fields["kind"].default
        assert name not in Row.kinds, f"Two kinds of row are called {name}."
        Row.kinds[name] = cls

    @property
    def moves(self) -> bool:
        """Whether a reading before it and one after it need not agree."""
        return self.effect in ("moves_plate", "moves_nozzle", "nudges")

    @classmethod
    def older(cls, entry: dict[str, Any]) -> dict[str, Any]:
        """An entry of this kind, kept under an earlier version, as it would be kept today. A pure function of its JSON."""
        raise NotImplementedError

    def words(self, machine: Machine) -> str:
        """The row as it is listed, in plain words; turns in the marks of the machine's own knobs."""
        raise NotImplementedError
