"""The tables. Values of the trade are kept whole, as the JSON of their core model."""

from peewee import CharField, DatabaseProxy, ForeignKeyField, IntegerField, Model, TextField

database = DatabaseProxy()


class _Row(Model):
    class Meta:
        database = database


class MachineRow(_Row):
    """A machine with its plates. Every save is a new revision; the newest counts."""

    id = CharField(primary_key=True, max_length=64)
    revision = IntegerField()
    body = TextField()

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
    id = CharField(primary_key=True, max_length=64)
    body = TextField()

    class Meta:
        table_name = "person"


class StudyRow(_Row):
    """How a plate of a machine moves as it warms: one study for each plate, the newest counts."""

    id = CharField(primary_key=True, max_length=160)
    body = TextField()

    class Meta:
        table_name = "study"


class LearntRow(_Row):
    """What a machine's finished runs taught of its supports."""

    machine_id = CharField(primary_key=True, max_length=64)
    body = TextField()

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


TABLES = (MachineRow, GaugeRow, NozzleRow, PersonRow, StudyRow, FilamentRow, LearntRow, RunRow, EntryRow)
