"""Steps from each earlier schema to the next."""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping
from types import MappingProxyType

from umbrick.casebook import schema

STEPS: Mapping[int, str] = MappingProxyType(
    {
        1: "ALTER TABLE edits ADD COLUMN marks TEXT NOT NULL DEFAULT '[]'",
    }
)
"""The statements that lead from schema N to N + 1, by N."""


def migrate(connection: sqlite3.Connection) -> None:
    """Bring a casebook of an earlier schema up to the present one, in one transaction.

    Raises
    ------
    sqlite3.Error
        If a step fails; the casebook is then as it was.
    """
    version = connection.execute("PRAGMA user_version").fetchone()[0]
    for number in range(version, schema.VERSION):
        connection.executescript(f"BEGIN IMMEDIATE; {STEPS[number]}; PRAGMA user_version = {number + 1}; COMMIT;")
