"""Manners that were taught here, every version of them, and how they were proved."""

from collections.abc import Callable
from contextlib import AbstractContextManager
from datetime import UTC, datetime

from peewee import fn

from ivory_table.core.teach.proving import Proved
from ivory_table.core.teach.teaching import Teaching, Version

from .tables import MannerRow, ProvingRow
from .trouble import Clash


class Teachings:
    def __init__(self, writing: Callable[[], AbstractContextManager[None]]) -> None:
        self._writing = writing

    def ids(self) -> tuple[str, ...]:
        """The ids of the manners that were taught here."""
        return tuple(
            r.manner_id for r in MannerRow.select(MannerRow.manner_id).distinct().order_by(MannerRow.manner_id)
        )

    def versions(self, manner_id: str) -> tuple[Version, ...]:
        """Newest first; empty where it was not taught here."""
        rows = MannerRow.select().where(MannerRow.manner_id == manner_id).order_by(MannerRow.version.desc())
        return tuple(
            Version(number=r.version, at=datetime.fromisoformat(r.at), by=r.initials, what=r.what) for r in rows
        )

    def get(self, manner_id: str, version: int | None = None) -> Teaching | None:
        """A manner as it was taught, newest or as it was; None where it was not taught here."""
        rows = MannerRow.select().where(MannerRow.manner_id == manner_id)
        if version is not None:
            rows = rows.where(MannerRow.version == version)
        row = rows.order_by(MannerRow.version.desc()).first()
        return None if row is None else Teaching.model_validate_json(row.body)

    def keep(self, teaching: Teaching, seen: int, by: str, what: str) -> int:
        """Keep a manner as its next version, which is returned. Raises Clash when it is not the next of what was seen."""
        with self._writing():
            newest = MannerRow.select(fn.MAX(MannerRow.version)).where(MannerRow.manner_id == teaching.id).scalar() or 0
            if newest != seen:
                raise Clash(
                    "moved_on", "Somebody else has taught this manner meanwhile, perhaps in another tab. Look at it."
                )
            MannerRow.create(
                manner_id=teaching.id,
                version=newest + 1,
                at=datetime.now(UTC).isoformat(),
                initials=by,
                what=what,
                body=teaching.model_dump_json(exclude_defaults=True),
            )
        return int(newest + 1)

    def keep_proved(self, manner_id: str, machine_id: str, proved: Proved) -> None:
        ProvingRow.create(
            manner_id=manner_id, machine_id=machine_id, at=proved.at.isoformat(), body=proved.model_dump_json()
        )

    def proved(self, manner_id: str, machine_id: str) -> tuple[Proved, ...]:
        """Everything that was tried of a manner on a machine, oldest first."""
        rows = ProvingRow.select().where(ProvingRow.manner_id == manner_id, ProvingRow.machine_id == machine_id)
        return tuple(Proved.model_validate_json(r.body) for r in rows.order_by(ProvingRow.id))
