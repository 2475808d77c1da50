import struct

import mutagen
import numpy as np
import pytest
import soundfile
from mutagen.flac import Picture

from tests.core.sound.test_saving import copy
from tests.sounds import sine, write
from umbrick import __version__
from umbrick.core.sound.chunks import missing_bytes, riff_chunks
from umbrick.core.sound.coding_history import with_line
from umbrick.core.sound.cues import Cue, read_cues
from umbrick.core.sound.metadata import carry_over
from umbrick.core.sound.saving import Papers

CHUNKS = {
    b"bext": b"A tape of the Ostermoor Cut".ljust(602, b"\0"),
    b"cue ": struct.pack("<I", 1) + struct.pack("<II4sIII", 1, 100, b"data", 0, 0, 100),
    b"LIST": b"adtl" + b"labl" + struct.pack("<I", 10) + struct.pack("<I", 1) + b"gate\0\0",
    b"iXML": b"<BWFXML><SCENE>3</SCENE></BWFXML>",
}


def with_chunks(path):
    data = path.read_bytes()
    for name, body in CHUNKS.items():
        data += name + struct.pack("<I", len(body)) + body + b"\0" * (len(body) & 1)
    path.write_bytes(data[:4] + struct.pack("<I", len(data) - 8) + data[8:])
    return path


def chunks_of(path):
    with path.open("rb") as file:
        found = {}
        for chunk in riff_chunks(file):
            file.seek(chunk.offset)
            found[chunk.name] = file.read(chunk.length)
        return found


@pytest.mark.parametrize("target", ["b.wav", "b.rf64"])
def test_wav_chunks_come_along(tmp_path, target):
    path = with_chunks(write(tmp_path / "a.wav", sine(channels=1, seconds=0.1), subtype="PCM_24"))
    saved = copy(path, tmp_path / target)
    found = chunks_of(saved.path)
    assert {name: found[name] for name in CHUNKS if name != b"bext"} == {
        k: v for k, v in CHUNKS.items() if k != b"bext"
    }
    assert found[b"bext"][:602] == CHUNKS[b"bext"]
    assert saved.note == ""
    assert np.array_equal(soundfile.read(path)[0], soundfile.read(saved.path)[0])
    assert missing_bytes(saved.path)[1] == 0


def test_an_odd_number_of_bytes_of_sound_is_padded_before_the_chunks(tmp_path):
    path = with_chunks(write(tmp_path / "a.wav", sine()[:101], subtype="PCM_24"))
    saved = copy(path, tmp_path / "b.wav")
    assert chunks_of(saved.path)[b"bext"][:602] == CHUNKS[b"bext"]
    assert len(soundfile.read(saved.path)[0]) == 101


def test_chunks_with_no_place_in_another_container_are_told(tmp_path):
    path = with_chunks(write(tmp_path / "a.wav", sine()))
    assert "have no place" in copy(path, tmp_path / "b.flac").note


def test_flac_tags_and_pictures_come_along(tmp_path):
    path = write(tmp_path / "a.flac", sine())
    tagged = mutagen.File(path)
    tagged["title"] = "The flood year"
    tagged["artist"] = ["A keeper", "A bell"]
    picture = Picture()
    picture.data, picture.mime, picture.type = b"\x89PNG fake", "image/png", 3
    tagged.add_picture(picture)
    tagged.save()
    after = mutagen.File(copy(path, tmp_path / "b.flac").path)
    assert after["title"] == ["The flood year"]
    assert after["artist"] == ["A keeper", "A bell"]
    assert after.pictures[0].data == picture.data
    ogg = mutagen.File(copy(path, tmp_path / "b.ogg").path)
    assert ogg["title"] == ["The flood year"]


def test_id3_tags_come_along_between_mp3_and_aiff(tmp_path):
    path = write(tmp_path / "a.mp3", sine(), subtype=None)
    tagged = mutagen.File(path)
    tagged.add_tags()
    tagged.tags.add(mutagen.id3.TIT2(encoding=3, text="The flood year"))
    tagged.save()
    for name in ("b.mp3", "b.aiff"):
        after = mutagen.File(copy(path, tmp_path / name, subtype="PCM_16" if name.endswith("f") else None).path)
        assert str(after.tags["TIT2"]) == "The flood year"
    assert "no place in a WAV" in copy(path, tmp_path / "b.wav").note


def test_a_file_that_is_no_riff_has_no_chunks(tmp_path):
    path = write(tmp_path / "a.flac", sine())
    with path.open("rb") as file:
        assert riff_chunks(file) == []
    assert missing_bytes(path) == (0, 0)


def test_a_line_is_added_to_the_coding_history_and_the_time_reference_moves(tmp_path):
    body = CHUNKS[b"bext"][:338] + struct.pack("<Q", 1000) + CHUNKS[b"bext"][346:] + b"A=ANALOGUE,M=mono,T=tape\r\n\0"
    path = with_chunks(write(tmp_path / "a.wav", sine(seconds=0.1), subtype="PCM_24"))
    data = path.read_bytes()
    path.write_bytes(data.replace(b"bext" + struct.pack("<I", 602) + CHUNKS[b"bext"],
                                  b"bext" + struct.pack("<I", len(body)) + body + b"\0" * (len(body) & 1)))  # fmt: skip
    papers = Papers(path, done="12 mends: 12 declip", later_by=480)
    found = chunks_of(copy(path, tmp_path / "b.wav", papers=papers, rate=96000).path)[b"bext"]
    assert struct.unpack_from("<Q", found, 338) == (1000 + 960,)
    assert found[602:].split(b"\r\n")[:2] == [
        b"A=ANALOGUE,M=mono,T=tape",
        f"A=PCM,F=96000,W=24,M=mono,T=Umbrick {__version__}; 12 mends: 12 declip".encode(),
    ]


def test_given_cue_points_replace_those_of_the_source_and_follow_the_rate(tmp_path):
    path = with_chunks(write(tmp_path / "a.wav", sine(seconds=0.1), subtype="PCM_24"))
    cues = [Cue(100, 0, "gate"), Cue(480, 48, "bell", "rings twice")]
    saved = copy(path, tmp_path / "b.wav", papers=Papers(path, cues), rate=24000)
    assert read_cues(saved.path) == [Cue(50, 0, "gate"), Cue(240, 24, "bell", "rings twice")]
    assert b"INFO" not in chunks_of(saved.path)[b"LIST"]


def with_claimed_chunks(path, chunks):
    """Append chunks to a WAV file, given as names, declared lengths, and bodies."""
    data = path.read_bytes()
    for name, length, body in chunks:
        data += name + struct.pack("<I", length) + body
    path.write_bytes(data[:4] + struct.pack("<I", min(len(data) - 8, 2**32 - 1)) + data[8:])
    return path


def test_a_million_empty_chunks_are_not_all_looked_at(tmp_path):
    source = with_claimed_chunks(write(tmp_path / "a.wav", sine(seconds=0.1)), [(b"none", 0, b"")] * 50_000)
    target = write(tmp_path / "b.wav", sine(seconds=0.1))
    carry_over(source, target)
    assert soundfile.info(target).frames == soundfile.info(source).frames
    assert target.stat().st_size < source.stat().st_size / 5


def test_chunks_that_claim_more_than_there_is_room_for_are_left_out_and_that_is_said(tmp_path):
    source = write(tmp_path / "a.wav", sine(seconds=0.1))
    with source.open("r+b") as file:
        for _ in range(3):
            file.seek(0, 2)
            file.write(b"huge" + struct.pack("<I", 2**31))
            file.truncate(file.tell() + 2**31)  # sparse: it takes no room on the disk
    target = write(tmp_path / "b.wav", sine(seconds=0.1))
    note = carry_over(source, target)
    assert "3 chunks of a.wav had no room" in note
    assert target.stat().st_size < 2**20


def test_a_time_reference_near_the_end_of_its_range_stays_what_it_is(tmp_path):
    body = bytearray(602)
    struct.pack_into("<Q", body, 338, 2**64 - 5)
    assert with_line(bytes(body), "A=PCM", later_by=100)[338:346] == bytes(body)[338:346]
