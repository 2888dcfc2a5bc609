"""Proofs of each zone at two heights are kept as those at three are."""

from typing import Any

from peewee import Database


def migrate(migrator: Any, database: Database, **_: Any) -> None:
    for old, new in (("two_heights", "three_heights"), ("half_of", "patch_of")):
        migrator.sql(f"""UPDATE entry SET body = replace(body, '"{old}"', '"{new}"')""")
