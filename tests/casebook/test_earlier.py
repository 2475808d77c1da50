"""Casebooks written by earlier schemas open, and hold what they held."""

import sqlite3
from pathlib import Path

import pytest

from tests.sounds import rng, write
from umbrick.casebook import migrations, schema
from umbrick.casebook.casebook import Casebook
from umbrick.core.sound.recording import open_recording
from umbrick.core.timeline.history import Edit
from umbrick.core.timeline.marks import Marker, MarkerTurn

EARLIER = Path(__file__).parent / "earlier"


def test_there_is_a_casebook_of_every_earlier_schema():
    assert {int(path.stem.split("-")[1]) for path in EARLIER.glob("*.sql")} == set(range(1, schema.VERSION))
    assert set(migrations.STEPS) == set(range(1, schema.VERSION))


@pytest.mark.parametrize("number", range(1, schema.VERSION))
def test_an_earlier_casebook_opens_with_all_it_held(tmp_path, number):
    recording = open_recording(
        write(tmp_path / "tape.wav", 0.5 * rng(1).standard_normal((400, 2)).clip(-1, 1)), tmp_path / "cache"
    )
    path = tmp_path / "earlier.casebook"
    connection = sqlite3.connect(path)
    connection.executescript((EARLIER / f"schema-{number}.sql").read_text())
    connection.close()
    casebook = Casebook.open(path)
    (shelf,) = casebook.shelves()
    restored = shelf.history(recording.source)
    history = restored.history
    assert not restored.lost
    assert [(entry.mend.id, entry.mend.start, entry.is_on) for entry in history.ledger] == [
        ("m1", 0, True),
        ("m2", 20, True),
        ("m3", 40, True),
    ]
    assert (history.now, len(history.all_edits)) == (3, 4)
    assert (history.current.read(20, 25) != recording.source.read(20, 25)).all()
    assert shelf.reference().view == {"cursor": 7}
    shelf.commit(history, Edit("set a marker", marks=(MarkerTurn(None, Marker("k1", 3, 9, "laugh")),)))
    casebook.close()
    again = Casebook.open(path)
    assert again.store.row("PRAGMA user_version") == (schema.VERSION,)
    kept = again.shelves()[0].history(recording.source).history
    assert kept.markers == [Marker("k1", 3, 9, "laugh")]
    again.close()
    recording.close()
