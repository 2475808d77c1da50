import os

import numpy as np
import pytest
import soundfile

from tests.sounds import RATE, sine, voice, write
from umbrick.core.errors import CancelledError, DamagedFileError, FileError
from umbrick.core.sound.decoded_source import DecodedSource, prune
from umbrick.core.sound.file_source import FileSource
from umbrick.core.sound.recording import open_recording

UNCOMPRESSED = [
    ("a.wav", "WAV", "PCM_U8"),
    ("a.wav", "WAV", "PCM_16"),
    ("a.wav", "WAV", "PCM_24"),
    ("a.wav", "WAV", "PCM_32"),
    ("a.wav", "WAV", "FLOAT"),
    ("a.wav", "WAV", "DOUBLE"),
    ("a.wav", "WAVEX", "PCM_24"),
    ("a.rf64", "RF64", "PCM_24"),
    ("a.w64", "W64", "PCM_24"),
    ("a.aiff", "AIFF", "PCM_16"),
    ("a.caf", "CAF", "PCM_24"),
]
COMPRESSED = [
    ("a.flac", "FLAC", "PCM_24"),
    ("a.ogg", "OGG", "VORBIS"),
    ("a.opus", "OGG", "OPUS"),
    ("a.mp3", "MP3", None),
]


@pytest.mark.parametrize(("name", "container", "subtype"), UNCOMPRESSED)
def test_uncompressed_files_are_read_in_place_exactly(tmp_path, name, container, subtype):
    path = write(tmp_path / name, sine(channels=2), subtype=subtype, container=container)
    expected, _ = soundfile.read(path, dtype="float64", always_2d=True)
    recording = open_recording(path, tmp_path / "cache")
    assert isinstance(recording.source, FileSource)
    assert recording.source.channels == 2
    assert np.array_equal(recording.source.read_exact(0, recording.source.frames), expected)
    assert np.array_equal(recording.source.read(1000, 1010), expected[1000:1010].astype(np.float32))
    assert recording.damage_found() == ""
    recording.close()


@pytest.mark.parametrize(("name", "container", "subtype"), COMPRESSED)
def test_compressed_files_are_decoded_once_to_a_cache(tmp_path, name, container, subtype):
    path = write(tmp_path / name, voice(1.0), subtype=subtype, container=container)
    expected, _ = soundfile.read(path, dtype="float32", always_2d=True)
    for _ in range(2):
        recording = open_recording(path, tmp_path / "cache")
        source = recording.source
        assert isinstance(source, DecodedSource)
        source.wait()
        assert source.available == source.frames
        assert np.array_equal(source.read(0, len(expected)), expected)
        recording.close()
    assert len(list((tmp_path / "cache" / "decoded").iterdir())) == 1


@pytest.mark.parametrize("rate", [8000, 11025, 96000, 384000])
@pytest.mark.parametrize("channels", [1, 5, 16])
def test_any_rate_and_up_to_sixteen_channels_open(tmp_path, rate, channels):
    path = write(tmp_path / "a.wav", sine(seconds=0.05, rate=rate, channels=channels), rate)
    recording = open_recording(path, tmp_path)
    assert (recording.source.rate, recording.source.channels) == (rate, channels)
    recording.close()


def _bad_files(folder):
    whole = write(folder / "whole.wav", sine()).read_bytes()
    (folder / "empty.wav").write_bytes(b"")
    (folder / "header.wav").write_bytes(whole[:44])
    (folder / "text.wav").write_text("This is no sound at all, only a text that somebody has renamed.\n")
    (folder / "folder.wav").mkdir()


@pytest.mark.parametrize(
    ("name", "says"),
    [
        ("empty.wav", "is empty"),
        ("header.wav", "no sound|not a sound file"),
        ("text.wav", "not a sound file that Umbrick can read"),
        ("folder.wav", "is a folder"),
        ("missing.wav", "There is no file"),
    ],
)
def test_what_is_no_recording_is_refused_in_plain_words(tmp_path, name, says):
    _bad_files(tmp_path)
    with pytest.raises(FileError, match=says):
        open_recording(tmp_path / name, tmp_path / "cache")


@pytest.mark.parametrize(("container", "name"), [("WAV", "a.wav"), ("AIFF", "a.aiff"), ("W64", "a.w64")])
def test_a_truncated_file_opens_and_says_how_much_is_missing(tmp_path, container, name):
    whole = write(tmp_path / name, sine(seconds=4.0), container=container).read_bytes()
    (tmp_path / name).write_bytes(whole[: len(whole) // 2])
    recording = open_recording(tmp_path / name, tmp_path / "cache")
    assert "ends after 2.0" in recording.damage_found()
    with pytest.raises(DamagedFileError):
        recording.refuse_damage()
    recording.close()


def test_a_truncated_file_that_cannot_be_read_at_all_says_so(tmp_path):
    whole = write(tmp_path / "a.caf", sine(seconds=4.0), container="CAF").read_bytes()
    (tmp_path / "a.caf").write_bytes(whole[: len(whole) // 2])
    with pytest.raises(FileError, match=r"a\.caf is cut off: 50 % of its sound is missing"):
        open_recording(tmp_path / "a.caf", tmp_path / "cache")


@pytest.mark.parametrize("ending", ["flac", "mp3"])
def test_a_cut_off_compressed_file_is_as_long_as_what_can_be_decoded(tmp_path, ending):
    subtype = {"flac": "PCM_24", "mp3": "MPEG_LAYER_III"}[ending]
    path = write(tmp_path / f"a.{ending}", voice(6.0), subtype=subtype)
    whole = soundfile.info(path).frames
    path.write_bytes(path.read_bytes()[: path.stat().st_size // 2])
    recording = open_recording(path, tmp_path / "cache")
    source = recording.source
    assert 0 < source.frames < 0.8 * whole
    assert source.missing_frames == whole - source.frames
    assert source.read(source.frames - 4000, source.frames).any()
    assert "the rest is missing" in recording.damage_found()
    recording.close()


@pytest.mark.parametrize("claimed", [10**9, 6 * 10**10])
def test_a_length_that_a_header_only_claims_is_not_believed(tmp_path, claimed):
    path = write(tmp_path / "a.flac", voice(3.0))
    data = bytearray(path.read_bytes())
    # The stream's length is the last 36 bits of the eight bytes before its checksum.
    field = int.from_bytes(data[18:26], "big") >> 36 << 36 | claimed
    data[18:26] = field.to_bytes(8, "big")
    path.write_bytes(data)
    recording = open_recording(path, tmp_path / "cache")
    assert recording.source.frames == 3 * RATE
    assert "the rest is missing" in recording.damage_found()
    recording.close()


@pytest.mark.parametrize(
    ("rate", "channels", "says"),
    [(1, 1, "rate of 1 Hz"), (1999, 1, "rate of 1999 Hz"), (1_000_001, 1, "MHz"), (8000, 257, "257 channels")],
)
def test_beyond_what_can_be_worked_on_one_sentence_says_so(tmp_path, rate, channels, says):
    path = write(tmp_path / "a.wav", np.zeros((20, channels)), rate, "PCM_16")
    with pytest.raises(FileError, match=says):
        open_recording(path, tmp_path / "cache")


def test_a_pipe_is_refused_before_it_is_read(tmp_path):
    path = tmp_path / "a.wav"
    os.mkfifo(path)
    with pytest.raises(FileError, match="a pipe or a device"):
        open_recording(path, tmp_path / "cache")


@pytest.mark.parametrize("name", [b"t\xe4pe.flac", b"x" * 250 + b".wav", b"/".join([b"d" * 200] * 7) + b"/a.wav"])
def test_any_name_that_linux_allows_can_be_opened(tmp_path, name):
    path = tmp_path / os.fsdecode(name)
    path.parent.mkdir(parents=True, exist_ok=True)
    made = write(tmp_path / f"made{path.suffix}", sine())
    made.rename(path)
    recording = open_recording(path, tmp_path / "cache")
    assert recording.source.read(0, RATE).any()
    recording.close()


def test_samples_that_are_not_numbers_read_as_silence_and_are_counted(tmp_path):
    sound = sine(seconds=0.1)
    sound[10:13] = np.nan
    sound[20] = np.inf
    sound[30] = -1e30
    recording = open_recording(write(tmp_path / "a.wav", sound, subtype="FLOAT"), tmp_path)
    read = recording.source.read(0, recording.source.frames)
    assert np.isfinite(read).all()
    assert not read[10:13].any()
    assert "5 samples that are not numbers" in recording.damage_found()
    recording.close()


@pytest.mark.parametrize(
    ("container", "name"), [("WAV", "a.wav"), ("RF64", "a.rf64"), ("W64", "a.w64"), ("CAF", "a.caf")]
)
def test_any_damage_to_the_head_of_a_file_is_told_in_plain_words_or_survived(tmp_path, container, name):
    good = write(tmp_path / name, sine(seconds=0.05), container=container).read_bytes()
    random = np.random.default_rng(5)
    told = []
    for _ in range(30):
        damaged = bytearray(good)
        for at in random.integers(0, 200, random.integers(1, 6)):
            damaged[at] = random.integers(256)
        (tmp_path / name).write_bytes(damaged)
        try:
            recording = open_recording(tmp_path / name, tmp_path / "cache")
            try:
                recording.source.read(0, min(1000, recording.source.frames))
            finally:
                recording.close()
        except FileError as error:
            told.append(str(error))
    assert all(name in message for message in told)


def test_a_file_that_may_not_be_read_is_told(tmp_path, monkeypatch):
    path = write(tmp_path / "a.wav", sine())

    def refuse(*_, **__):
        raise PermissionError(13, "Permission denied")

    monkeypatch.setattr(type(path), "open", refuse)
    with pytest.raises(FileError, match=r"a\.wav may not be read"):
        open_recording(path, tmp_path / "cache")


def test_a_file_changed_by_another_program_is_noticed(tmp_path):
    path = write(tmp_path / "a.wav", sine())
    recording = open_recording(path, tmp_path)
    recording.check_unchanged()
    write(path, sine(seconds=0.5))
    with pytest.raises(FileError, match="changed or removed by another program"):
        recording.check_unchanged()
    with pytest.raises(FileError):
        recording.source.read(recording.source.frames - 10, recording.source.frames)
    recording.close()


@pytest.mark.parametrize("name", ["a.wav", "a.flac"])
def test_reading_after_closing_is_cancelled(tmp_path, name):
    recording = open_recording(write(tmp_path / name, sine()), tmp_path / "cache")
    recording.source.read(0, 10)
    recording.close()
    with pytest.raises(CancelledError):
        recording.source.read(0, 10)


def test_one_sample_is_a_recording(tmp_path):
    recording = open_recording(write(tmp_path / "a.wav", np.array([[0.25]])), tmp_path)
    assert recording.source.frames == 1
    assert recording.source.read(0, 1)[0, 0] == 0.25
    recording.close()


def test_an_unwritable_cache_is_told(tmp_path):
    path = write(tmp_path / "a.flac", sine())
    (tmp_path / "cache").write_text("not a folder")
    with pytest.raises(FileError, match="cannot be decoded"):
        open_recording(path, tmp_path / "cache")


def test_old_decoded_files_are_pruned(tmp_path):
    for number in range(4):
        (tmp_path / f"{number}.f32").write_bytes(bytes(100))
        os.utime(tmp_path / f"{number}.f32", (number, number))
    prune(tmp_path, 250)
    assert sorted(p.name for p in tmp_path.iterdir()) == ["2.f32", "3.f32"]
