"""SQLite through peewee: tables, migrations, repositories that return core values."""
