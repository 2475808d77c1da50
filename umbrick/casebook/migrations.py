"""Steps from each earlier schema to the next."""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping
from types import MappingProxyType

from umbrick.casebook import schema

STEPS: Mapping[int, str] = MappingProxyType(
    {
        1: "ALTER TABLE edits ADD COLUMN marks TEXT NOT NULL DEFAULT '[]'",
        2: "ALTER TABLE recordings ADD COLUMN revision INTEGER NOT NULL DEFAULT 0",
        3: "ALTER TABLE patches ADD COLUMN file TEXT NOT NULL DEFAULT ''",
        4: "ALTER TABLE edits ADD COLUMN step TEXT NOT NULL DEFAULT ''",
    }
)
"""The statements that change what an earlier schema N holds into what N + 1 does, by N."""


def migrate(connection: sqlite3.Connection) -> None:
    """Bring a casebook of an earlier schema up to the present one, in one transaction.

    After the steps every table is made anew whose text is not that of the present schema: what may be in it is checked
    by that text afterwards, and SQLite's own ways of changing a table leave traces in it.

    Raises
    ------
    sqlite3.Error
        If a step fails; the casebook is then as it was.
    """
    version = connection.execute("PRAGMA user_version").fetchone()[0]
    if version == schema.VERSION:
        return
    # Dropping a table would otherwise delete what refers to it; SQLite takes this outside of transactions only.
    connection.execute("PRAGMA foreign_keys = OFF")
    try:
        connection.execute("BEGIN IMMEDIATE")
        try:
            for number in range(version, schema.VERSION):
                connection.execute(STEPS[number])
            _make_anew(connection)
            connection.execute(f"PRAGMA user_version = {schema.VERSION}")
            connection.execute("COMMIT")
        except BaseException:
            connection.execute("ROLLBACK")
            raise
    finally:
        connection.execute("PRAGMA foreign_keys = ON")


def _make_anew(connection: sqlite3.Connection) -> None:
    held, wanted = schema.held_texts(connection), schema.texts()
    for (kind, name), sql in wanted.items():
        own = held.get((kind, name), "")
        if kind != "table" or name.startswith("sqlite_") or schema.plain(sql) == schema.plain(own):
            continue
        if not own:
            connection.execute(sql)
            continue
        connection.execute(sql.replace(f"CREATE TABLE {name}", f"CREATE TABLE new_{name}", 1))
        columns = ", ".join(row[1] for row in connection.execute(f"PRAGMA table_info({name})").fetchall())
        connection.execute(f"INSERT INTO new_{name} ({columns}) SELECT {columns} FROM {name}")
        connection.execute(f"DROP TABLE {name}")
        connection.execute(f"ALTER TABLE new_{name} RENAME TO {name}")
    held = schema.held_texts(connection)
    for key, sql in wanted.items():
        if key[0] != "table" and key not in held:
            connection.execute(sql)
