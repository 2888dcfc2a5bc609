"""What is kept at sign-off."""

from typing import ClassVar, Literal

from ivory_table.core.plate import Machine
from ivory_table.core.value import Note
from ivory_table.runs.row import Effect, Row


class SignedOff(Row):
    kind: Literal["signed_off"] = "signed_off"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("sign_off",)
    note: Note = ""

    def words(self, machine: Machine) -> str:
        return "signed off"
