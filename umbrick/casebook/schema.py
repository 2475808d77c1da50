"""The tables of a casebook, as they are now."""

from __future__ import annotations

import re
import sqlite3

APPLICATION_ID = 0x554D4252
"""Marks the file as a casebook ("UMBR"), at a place where every tool that knows SQLite looks."""

VERSION = 5
"""Number of this schema; a change to the tables is a new number and a step in :mod:`umbrick.casebook.migrations`."""

_TABLES = """
CREATE TABLE about (name TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT;
CREATE TABLE recordings (
    id INTEGER PRIMARY KEY,
    ordinal INTEGER NOT NULL,
    path TEXT NOT NULL,              -- relative to the casebook's folder where it lies in or below it
    track INTEGER NOT NULL DEFAULT -1, -- which sound track of a container; -1 for a sound file
    seal TEXT NOT NULL,              -- shows that this machine's person opened that path themselves
    bytes INTEGER NOT NULL,
    modified_ns INTEGER NOT NULL,
    sha256 TEXT NOT NULL DEFAULT '',
    home TEXT NOT NULL DEFAULT '',   -- the file it was put back in place of, when that is another one now
    home_bytes INTEGER NOT NULL DEFAULT 0,
    home_modified_ns INTEGER NOT NULL DEFAULT 0,
    container TEXT NOT NULL,
    subtype TEXT NOT NULL,
    rate INTEGER NOT NULL,
    channels INTEGER NOT NULL,
    frames INTEGER NOT NULL,
    on_bench INTEGER NOT NULL DEFAULT 1,
    now INTEGER NOT NULL DEFAULT 0,  -- how many of its edits act
    saved TEXT NOT NULL DEFAULT '',  -- key of the version that was written to a file last
    view TEXT NOT NULL DEFAULT '{}',
    sensitivity TEXT NOT NULL DEFAULT '{}',
    linked INTEGER NOT NULL DEFAULT 0, -- number of the set it is a lane of; 0 for none
    offset_frames REAL NOT NULL DEFAULT 0, -- its own frame when the set's first recording begins
    drift_ppm REAL NOT NULL DEFAULT 0,
    link_confidence REAL NOT NULL DEFAULT 1,
    holds_length INTEGER NOT NULL DEFAULT 0,
    revision INTEGER NOT NULL DEFAULT 0 -- how many times its history was written; an edit made on another is refused
) STRICT;
CREATE TABLE edits (
    recording INTEGER NOT NULL REFERENCES recordings ON DELETE CASCADE,
    number INTEGER NOT NULL,
    title TEXT NOT NULL,
    made_at REAL NOT NULL,
    ids TEXT NOT NULL,               -- switched_on, switched_off, lifted, kept
    parts BLOB NOT NULL,
    marks TEXT NOT NULL DEFAULT '[]', -- what it did to markers, notes and the course
    owners BLOB NOT NULL DEFAULT x'', -- which of its changes each mend is of; none where that is the last for all
    step TEXT NOT NULL DEFAULT '',   -- names one step that was made in several recordings at once
    PRIMARY KEY (recording, number)
) STRICT;
CREATE TABLE profiles (
    recording INTEGER NOT NULL REFERENCES recordings ON DELETE CASCADE,
    key TEXT NOT NULL,               -- names the content; steps of the course refer to it
    profile TEXT NOT NULL,           -- what a treatment has learned
    PRIMARY KEY (recording, key)
) STRICT;
CREATE TABLE changes (
    recording INTEGER NOT NULL,
    edit INTEGER NOT NULL,
    number INTEGER NOT NULL,
    starts BLOB NOT NULL,
    removed BLOB NOT NULL,
    inserted BLOB NOT NULL,
    before BLOB NOT NULL,            -- the single frames beside each span
    after BLOB NOT NULL,
    PRIMARY KEY (recording, edit, number),
    FOREIGN KEY (recording, edit) REFERENCES edits ON DELETE CASCADE
) STRICT;
CREATE TABLE mends (
    recording INTEGER NOT NULL,
    edit INTEGER NOT NULL,
    number INTEGER NOT NULL,
    id TEXT NOT NULL,
    method TEXT NOT NULL,
    start INTEGER NOT NULL,
    stop INTEGER NOT NULL,
    channels TEXT NOT NULL,
    parameters TEXT NOT NULL,
    seam_score REAL,
    time_shift INTEGER NOT NULL,
    findings TEXT NOT NULL,
    reopened TEXT NOT NULL,
    program TEXT NOT NULL,
    PRIMARY KEY (recording, edit, number),
    FOREIGN KEY (recording, edit) REFERENCES edits ON DELETE CASCADE
) STRICT;
CREATE TABLE patches (
    id INTEGER PRIMARY KEY AUTOINCREMENT, -- no number twice: a copy may still read one whose edit was dropped
    recording INTEGER NOT NULL,
    edit INTEGER,                    -- the edit that made it; none once that was dropped, until the file is closed
    key TEXT NOT NULL,
    nature TEXT NOT NULL,
    donor INTEGER,
    frames INTEGER NOT NULL,
    is_double INTEGER NOT NULL,      -- float64 where float32 would lose bits of untouched channels
    file TEXT NOT NULL DEFAULT '',   -- the sound file beside the casebook that holds the samples, if one does
    FOREIGN KEY (recording, edit) REFERENCES edits ON DELETE CASCADE
) STRICT;
CREATE INDEX patches_of_edit ON patches (recording, edit);
CREATE TABLE patch_chunks (
    patch INTEGER NOT NULL REFERENCES patches ON DELETE CASCADE,
    number INTEGER NOT NULL,
    samples BLOB NOT NULL,
    PRIMARY KEY (patch, number)
) STRICT;
CREATE TABLE snapshots (
    recording INTEGER PRIMARY KEY REFERENCES recordings ON DELETE CASCADE,
    edit INTEGER NOT NULL,           -- after so many edits
    run BLOB NOT NULL
) STRICT;
CREATE TABLE closed (
    recording INTEGER PRIMARY KEY REFERENCES recordings ON DELETE CASCADE,
    version TEXT NOT NULL,           -- key of the version that was measured again
    findings TEXT NOT NULL           -- those that other mends made go away in it
) STRICT;
CREATE TABLE surveys (
    recording INTEGER PRIMARY KEY REFERENCES recordings ON DELETE CASCADE,
    number INTEGER NOT NULL,         -- how many there have been; only findings of this one count
    frames INTEGER NOT NULL,
    levels TEXT NOT NULL,
    passage_frames INTEGER NOT NULL,
    passage_peaks BLOB NOT NULL
) STRICT;
CREATE TABLE findings (
    recording INTEGER NOT NULL REFERENCES recordings ON DELETE CASCADE,
    survey INTEGER NOT NULL,
    id TEXT NOT NULL,
    is_measured INTEGER NOT NULL,    -- by that survey; the others were decided about before, and stay listed
    is_listed INTEGER NOT NULL,      -- not where one decided about before stands for it
    kind TEXT NOT NULL,
    start INTEGER NOT NULL,
    stop INTEGER NOT NULL,
    channels TEXT NOT NULL,
    severity REAL NOT NULL,
    confidence REAL NOT NULL,
    evidence TEXT NOT NULL,
    detail TEXT NOT NULL,
    PRIMARY KEY (recording, survey, id)
) STRICT, WITHOUT ROWID;
"""


def create(connection: sqlite3.Connection) -> None:
    """Make the tables in an empty database."""
    connection.executescript(
        f"BEGIN; PRAGMA application_id = {APPLICATION_ID}; PRAGMA user_version = {VERSION}; {_TABLES} COMMIT;"
    )


def tables() -> list[str]:
    """Return the tables' names, in an order in which each comes after those it refers to."""
    return [name for kind, name in texts() if kind == "table" and not name.startswith("sqlite_")]


def texts() -> dict[tuple[str, str], str]:
    """Return the text of everything in the present schema, by kind and name, in the order in which it is made."""
    model = sqlite3.connect(":memory:")
    try:
        create(model)
        return held_texts(model)
    finally:
        model.close()


def held_texts(connection: sqlite3.Connection) -> dict[tuple[str, str], str]:
    """Return the text of everything that a database has, by kind and name."""
    rows = connection.execute("SELECT type, name, sql FROM sqlite_schema WHERE sql IS NOT NULL ORDER BY rowid")
    return {(str(kind), str(name)): str(sql) for kind, name, sql in rows}


def plain(sql: str) -> str:
    """Return a statement without comments, quotes and needless spaces: what it means, and nothing of its looks."""
    bare = re.sub(r"--[^\n]*", " ", sql).replace('"', "")
    return re.sub(r"\s*([(),])\s*", r"\1", " ".join(bare.split()))
