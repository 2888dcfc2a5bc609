"""Devices that were let in, and what was done from them."""

from datetime import datetime
from typing import Literal

from pydantic import AwareDatetime

from ivory_table.core.value import Id, Value

from .tables import DeviceRow, DoneRow
from .trouble import Unknown

#: So many of what was done are kept.
MOST_DONE = 5000


class Device(Value):
    id: Id
    name: str
    role: Literal["look", "work", "move", "here"]
    let_in_at: AwareDatetime
    shut_out_at: AwareDatetime | None = None


class Done(Value):
    """What was done from a device; `refused` is the code where it was not."""

    at: AwareDatetime
    device: Id
    name: str
    words: str
    refused: str | None = None


def devices() -> tuple[Device, ...]:
    """Newest first."""
    return tuple(_device(row) for row in DeviceRow.select().order_by(DeviceRow.let_in_at.desc()))


def device(device_id: str) -> Device:
    row = DeviceRow.get_or_none(DeviceRow.id == device_id)
    if row is None:
        raise Unknown(f"No device is kept under '{device_id}'.")
    return _device(row)


def keep_device(kept: Device) -> None:
    fields = kept.model_dump(mode="json")
    DeviceRow.replace(**fields).execute()


def _device(row: DeviceRow) -> Device:
    return Device.model_validate(
        {name: getattr(row, name) for name in ("id", "name", "role", "let_in_at", "shut_out_at")}
    )


def keep_done(done: Done) -> None:
    DoneRow.create(at=done.at.isoformat(), device=done.device, name=done.name, words=done.words, refused=done.refused)
    newest = DoneRow.select(DoneRow.id).order_by(DoneRow.id.desc()).limit(1).scalar()
    DoneRow.delete().where(DoneRow.id <= newest - MOST_DONE).execute()


def done(most: int = 200) -> tuple[Done, ...]:
    """Newest first."""
    return tuple(
        Done(at=datetime.fromisoformat(r.at), device=r.device, name=r.name, words=r.words, refused=r.refused)
        for r in DoneRow.select().order_by(DoneRow.id.desc()).limit(most)
    )
