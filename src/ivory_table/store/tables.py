"""The tables. Values of the trade are kept whole, as the JSON of their core model."""

from peewee import BooleanField, CharField, CompositeKey, DatabaseProxy, ForeignKeyField, IntegerField, Model, TextField

database = DatabaseProxy()


class _Row(Model):
    class Meta:
        database = database


class MachineRow(_Row):
    """A machine with its plates: as it was last entered by hand, and as it is known by what its runs have taught since.

    Every save is a new revision; the newest counts.
    """

    id = CharField(primary_key=True, max_length=64)
    revision = IntegerField()
    body = TextField()
    entered = TextField()
    entered_at = CharField(max_length=40)

    class Meta:
        table_name = "machine"


class GaugeRow(_Row):
    id = CharField(primary_key=True, max_length=64)
    body = TextField()

    class Meta:
        table_name = "gauge"


class FilamentRow(_Row):
    id = CharField(primary_key=True, max_length=64)
    body = TextField()

    class Meta:
        table_name = "filament"


class NozzleRow(_Row):
    id = CharField(primary_key=True, max_length=64)
    body = TextField()

    class Meta:
        table_name = "nozzle"


class PersonRow(_Row):
    """A person as entered by hand, and as known by what their runs have taught since."""

    id = CharField(primary_key=True, max_length=64)
    initials = CharField(max_length=12, index=True)
    body = TextField()
    entered = TextField()
    entered_at = CharField(max_length=40)

    class Meta:
        table_name = "person"


class StudyRow(_Row):
    """How a plate of a machine moves as it warms, apart from what its runs have read."""

    id = CharField(primary_key=True, max_length=160)
    body = TextField()

    class Meta:
        table_name = "study"


class LearntRow(_Row):
    """What was known of a machine's supports apart from the lessons of its runs: brought along, or void since `at`."""

    machine_id = CharField(primary_key=True, max_length=64)
    body = TextField()
    at = CharField(max_length=40)

    class Meta:
        table_name = "learnt"


class RunRow(_Row):
    id = CharField(primary_key=True, max_length=64)
    machine_id = CharField(max_length=64, index=True)
    started_at = CharField(max_length=40, index=True)
    setup = TextField()

    class Meta:
        table_name = "run"


class EntryRow(_Row):
    """What was kept in a run. Rows are only ever added; taking back is a row."""

    id = CharField(primary_key=True, max_length=64)
    run = ForeignKeyField(RunRow, column_name="run_id", backref="entries", on_delete="RESTRICT")
    seq = IntegerField()
    body = TextField()

    class Meta:
        table_name = "entry"
        indexes = ((("run", "seq"), True),)


class LessonRow(_Row):
    """What a run teaches as its rows stand; made anew whenever they change."""

    run = ForeignKeyField(RunRow, column_name="run_id", primary_key=True, on_delete="RESTRICT")
    machine_id = CharField(max_length=64)
    plate_id = CharField(max_length=64)
    initials = CharField(max_length=12, index=True)
    body = TextField()

    class Meta:
        table_name = "lesson"
        indexes = ((("machine_id", "plate_id"), False),)


class SummaryRow(_Row):
    """A run in a few figures, and the mesh it leaves behind; written with every row that is kept."""

    run = ForeignKeyField(RunRow, column_name="run_id", primary_key=True, on_delete="RESTRICT")
    machine_id = CharField(max_length=64)
    started_at = CharField(max_length=40, index=True)
    signed_off = BooleanField()
    #: What stands in its line, in small letters, to be found by.
    find = TextField(default="")
    body = TextField()
    mesh = TextField()

    class Meta:
        table_name = "summary"
        indexes = ((("machine_id", "started_at"), False), (("machine_id", "signed_off", "started_at"), False))


class PageRow(_Row):
    """A page of a signed-off run as it was shown when it was signed."""

    run = ForeignKeyField(RunRow, column_name="run_id", on_delete="RESTRICT")
    name = CharField(max_length=40)
    body = TextField()

    class Meta:
        table_name = "page"
        primary_key = CompositeKey("run", "name")


class MannerRow(_Row):
    """A manner as it was taught, one row for each version; the newest counts."""

    manner_id = CharField(max_length=64)
    version = IntegerField()
    at = CharField(max_length=40)
    initials = CharField(max_length=12)
    what = TextField()
    body = TextField()

    class Meta:
        table_name = "manner"
        primary_key = CompositeKey("manner_id", "version")


class ProvingRow(_Row):
    """What was found when a part of a manner was tried on a machine. Rows are only ever added."""

    manner_id = CharField(max_length=64)
    machine_id = CharField(max_length=64)
    at = CharField(max_length=40)
    body = TextField()

    class Meta:
        table_name = "proving"
        indexes = ((("machine_id", "manner_id"), False),)


class LogRow(_Row):
    """Something that happened to a machine beside its runs."""

    id = CharField(primary_key=True, max_length=64)
    machine_id = CharField(max_length=64)
    at = CharField(max_length=40)
    body = TextField()

    class Meta:
        table_name = "log"
        indexes = ((("machine_id", "at"), False),)


class SnapshotRow(_Row):
    """What a machine reported of its settings, whole."""

    id = CharField(primary_key=True, max_length=64)
    machine_id = CharField(max_length=64)
    at = CharField(max_length=40)
    body = TextField()

    class Meta:
        table_name = "snapshot"
        indexes = ((("machine_id", "at"), False),)


class CheckedRow(_Row):
    """A job that was checked against a machine, as its report was shown."""

    id = CharField(primary_key=True, max_length=64)
    machine_id = CharField(max_length=64)
    at = CharField(max_length=40)
    body = TextField()

    class Meta:
        table_name = "checked"
        indexes = ((("machine_id", "at"), False),)


class DeviceRow(_Row):
    """A device of the network that was let in once. It stays on the list when it is shut out."""

    id = CharField(primary_key=True, max_length=64)
    name = CharField(max_length=60)
    role = CharField(max_length=12)
    let_in_at = CharField(max_length=40)
    shut_out_at = CharField(max_length=40, null=True)

    class Meta:
        table_name = "device"


class DoneRow(_Row):
    """What was done, or refused, from which device: who moved what."""

    at = CharField(max_length=40)
    device = CharField(max_length=64)
    name = CharField(max_length=60)
    words = TextField()
    refused = CharField(max_length=60, null=True)

    class Meta:
        table_name = "done"


TABLES = (
    MachineRow,
    GaugeRow,
    NozzleRow,
    PersonRow,
    StudyRow,
    FilamentRow,
    LearntRow,
    RunRow,
    EntryRow,
    LessonRow,
    SummaryRow,
    PageRow,
    MannerRow,
    ProvingRow,
    LogRow,
    SnapshotRow,
    CheckedRow,
    DeviceRow,
    DoneRow,
)
