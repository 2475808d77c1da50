"""Which files belong together by their names, and by when they say that they begin."""

import struct
from pathlib import Path

import pytest

from tests.sounds import RATE, faultless, write
from umbrick.core.linking.fellows import fellows
from umbrick.core.sound.time_stamp import begins_at

NAMES = ("gate 1.wav", "gate 2.wav", "gate.wav", "gate 1.flac", "court-L.wav", "court-R.wav", "courtL.wav",
         "a_ch01.wav", "a_ch12.wav", "mic-0.wav", "mic-1.wav", "tide.wav", "tids.wav", "x_left.wav",
         "X_right.wav")  # fmt: skip


@pytest.mark.parametrize(
    ("name", "found"),
    [
        ("gate 1.wav", ["gate 2.wav"]),
        ("gate.wav", []),
        ("gate 1.flac", []),
        ("court-R.wav", ["court-L.wav"]),
        ("courtL.wav", []),
        ("a_ch12.wav", ["a_ch01.wav"]),
        ("mic-1.wav", ["mic-0.wav"]),
        ("tide.wav", []),
        ("x_left.wav", ["X_right.wav"]),
    ],
)
def test_names_alike_but_for_a_number_or_letter_are_fellows(name, found):
    assert [path.name for path in fellows(Path(name), map(Path, NAMES))] == found


IXML = """<?xml version="1.0"?><BWFXML><SPEED>
<TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_HI>{high}</TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_HI>
<TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_LO>{low}</TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_LO>
<TIMESTAMP_SAMPLE_RATE>{rate}</TIMESTAMP_SAMPLE_RATE></SPEED></BWFXML>"""


def stamped(path, name, body):
    write(path, faultless(0.1))
    data = path.read_bytes() + name + struct.pack("<I", len(body)) + body + b"\0" * (len(body) % 2)
    path.write_bytes(data[:4] + struct.pack("<I", len(data) - 8) + data[8:])
    return path


def test_the_time_stamp_of_a_field_recorder_is_read_at_the_files_own_rate(tmp_path):
    text = IXML.format(high=1, low=96_000, rate=2 * RATE).encode() + b"\0\0"
    path = stamped(tmp_path / "a.wav", b"iXML", text)
    assert begins_at(path, RATE) == ((1 << 32) + 96_000) // 2
    bext = bytes(338) + struct.pack("<Q", 7777) + bytes(602 - 346)
    assert begins_at(stamped(tmp_path / "b.wav", b"bext", bext), RATE) == 7777


@pytest.mark.parametrize(
    "text",
    ["", "<BWFXML>", "<BWFXML/>", "<!DOCTYPE x [<!ENTITY a 'b'>]><BWFXML>&a;</BWFXML>",
     IXML.format(high="x", low=1, rate=1), IXML.format(high=0, low=1, rate=0)],
)  # fmt: skip
def test_a_stamp_that_makes_no_sense_is_none(tmp_path, text):
    assert begins_at(stamped(tmp_path / "a.wav", b"iXML", text.encode()), RATE) is None
    assert begins_at(tmp_path / "absent.wav", RATE) is None
