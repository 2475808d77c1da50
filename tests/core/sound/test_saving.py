import os
import stat
import subprocess

import numpy as np
import pytest
import soundfile

from tests.sounds import RATE, on_grid, sine, voice, write
from umbrick.core.errors import CancelledError, FileError, ParameterError
from umbrick.core.sound.formats import FileFormat, container_for, default_subtype
from umbrick.core.sound.kept_originals import free_name
from umbrick.core.sound.recording import open_recording
from umbrick.core.sound.saving import Papers, format_for, save
from umbrick.core.sound.source import ArraySource
from umbrick.core.timeline.version import Version

SAME = [
    ("a.wav", "WAV", "PCM_16"),
    ("a.wav", "WAV", "PCM_24"),
    ("a.wav", "WAV", "PCM_32"),
    ("a.wav", "WAV", "FLOAT"),
    ("a.wav", "WAV", "DOUBLE"),
    ("a.wav", "WAV", "PCM_U8"),
    ("a.w64", "W64", "PCM_24"),
    ("a.rf64", "RF64", "PCM_24"),
    ("a.aiff", "AIFF", "PCM_24"),
    ("a.caf", "CAF", "PCM_24"),
    ("a.flac", "FLAC", "PCM_16"),
    ("a.flac", "FLAC", "PCM_24"),
]


def copy(path, target, **options):
    recording = open_recording(path, path.parent / "cache")
    try:
        form = format_for(target, recording.format, options.pop("subtype", None))
        papers = options.pop("papers", Papers(path))
        version = Version.of(recording.source)
        return save(version, target, form, papers=papers, origin_format=recording.format, **options)
    finally:
        recording.close()


@pytest.mark.parametrize(("name", "container", "subtype"), SAME)
def test_a_copy_in_the_same_format_has_the_same_samples(tmp_path, name, container, subtype):
    sound = sine(channels=2, level=0.999)
    sound[0] = -1.0
    path = write(tmp_path / name, sound, subtype=subtype, container=container)
    saved = copy(path, tmp_path / f"copy{path.suffix}")
    before, _ = soundfile.read(path, dtype="float64", always_2d=True)
    after, rate = soundfile.read(saved.path, dtype="float64", always_2d=True)
    assert rate == RATE
    assert np.array_equal(before, after)
    info = soundfile.info(saved.path)
    assert (info.format, info.subtype) == (container, subtype)
    assert saved.over == 0


def test_fewer_bits_are_dithered_with_triangular_noise(tmp_path):
    sound = np.full((RATE, 1), 0.3 * 2.0**-15)
    saved = copy(write(tmp_path / "a.wav", sound), tmp_path / "b.wav", subtype="PCM_16")
    read = soundfile.read(saved.path, dtype="int16")[0].astype(float)
    assert set(np.unique(read)) == {-1.0, 0.0, 1.0}
    assert read.mean() == pytest.approx(0.3, abs=0.02)
    assert copy(tmp_path / "a.wav", tmp_path / "c.wav", subtype="PCM_16")
    assert (tmp_path / "b.wav").read_bytes() == (tmp_path / "c.wav").read_bytes()


def test_what_passes_full_scale_is_counted_in_fixed_point_and_kept_in_float(tmp_path):
    source = ArraySource(sine(level=1.5), RATE, "s")
    fixed = save(source, tmp_path / "a.wav", FileFormat("WAV", "PCM_24"), origin_format=FileFormat("WAV", "PCM_24"))
    floating = save(source, tmp_path / "b.wav", FileFormat("WAV", "FLOAT"))
    assert fixed.over == int(np.count_nonzero(np.abs(source.read(0, source.frames)) > 1.0))
    assert floating.over == 0
    assert np.array_equal(soundfile.read(tmp_path / "b.wav", dtype="float32", always_2d=True)[0], source.read(0, RATE))


def test_a_level_change_lets_peaks_fit(tmp_path):
    source = ArraySource(sine(level=1.5), RATE, "s")
    saved = save(source, tmp_path / "a.wav", FileFormat("WAV", "PCM_24"), gain_db=-3.6)
    assert saved.over == 0
    assert np.abs(soundfile.read(saved.path)[0]).max() == pytest.approx(1.5 * 10 ** (-3.6 / 20), abs=1e-4)


def test_an_existing_file_is_not_replaced_unless_asked(tmp_path):
    path = write(tmp_path / "a.wav", sine())
    other = write(tmp_path / "b.wav", sine(300.0))
    old = other.read_bytes()
    with pytest.raises(FileError, match="exists already"):
        copy(path, other)
    assert other.read_bytes() == old
    copy(path, other, overwrite=True)
    assert other.read_bytes() != old


def test_replacing_the_source_keeps_the_old_file_under_another_name(tmp_path):
    path = write(tmp_path / "a.wav", sine(), subtype="PCM_24")
    path.chmod(0o640)
    old = path.read_bytes()
    kept = free_name(path.parent, path, "original")
    saved = copy(path, path, overwrite=True, keep_as=kept, gain_db=-6.0)
    assert saved.kept == kept == tmp_path / "a.original.wav"
    assert kept.read_bytes() == old
    assert path.read_bytes() != old
    assert stat.S_IMODE(path.stat().st_mode) == 0o640
    assert free_name(path.parent, path, "original") == tmp_path / "a.original-2.wav"


def test_the_old_file_is_kept_where_files_cannot_have_two_names(tmp_path, monkeypatch):
    def refuse(*_):
        raise PermissionError(1, "Operation not permitted")

    path = write(tmp_path / "a.wav", sine())
    old = path.read_bytes()
    monkeypatch.setattr(os, "link", refuse)
    saved = copy(path, path, overwrite=True, keep_as=free_name(path.parent, path, "original"), gain_db=-6.0)
    assert saved.kept.read_bytes() == old


def test_stopping_leaves_everything_as_it_was(tmp_path):
    path = write(tmp_path / "a.wav", sine())
    target = write(tmp_path / "b.wav", sine(300.0))
    old = target.read_bytes()
    with pytest.raises(CancelledError):
        copy(path, target, overwrite=True, is_cancelled=lambda: True)
    assert target.read_bytes() == old
    assert sorted(p.name for p in tmp_path.iterdir() if p.is_file()) == ["a.wav", "b.wav"]


def test_a_missing_folder_is_told(tmp_path):
    with pytest.raises(FileError, match="There is no folder"):
        copy(write(tmp_path / "a.wav", sine()), tmp_path / "nowhere" / "b.wav")


@pytest.mark.skipif(os.geteuid() == 0, reason="nothing is read-only to root")
def test_a_read_only_folder_is_told(tmp_path):
    path = write(tmp_path / "a.wav", sine())
    locked = tmp_path / "locked"
    locked.mkdir(mode=0o500)
    with pytest.raises(FileError, match="may not be written"):
        copy(path, locked / "b.wav")


class _FullDisk:
    """Takes so many bytes, then fails as a full disk does."""

    def __init__(self, path, *args, **kwargs):
        self._file = soundfile_open(path, *args, **kwargs)

    def close(self):
        self._file.close()

    def write(self, block):
        raise OSError(28, "No space left on device")


soundfile_open = soundfile.SoundFile


def test_a_full_disk_is_told_and_nothing_is_harmed(tmp_path, monkeypatch):
    path = write(tmp_path / "a.wav", sine())
    target = write(tmp_path / "b.wav", sine(300.0))
    old = target.read_bytes()
    source = ArraySource(sine(), RATE, "s")
    monkeypatch.setattr(soundfile, "SoundFile", _FullDisk)
    with pytest.raises(FileError, match="no room left"):
        save(source, target, FileFormat("WAV", "PCM_24"), overwrite=True)
    assert target.read_bytes() == old
    assert path.exists()
    assert not list(tmp_path.glob(".*part*"))


@pytest.mark.skipif(not os.path.exists("/dev/full"), reason="needs a device that is always full")
def test_a_small_file_system_that_fills_up_is_told(tmp_path):
    mount = tmp_path / "small"
    mount.mkdir()
    if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=64k", "tmpfs", mount], capture_output=True).returncode:
        pytest.skip("a small file system cannot be mounted here")
    try:
        source = ArraySource(voice(4.0), RATE, "s")
        with pytest.raises(FileError, match="no room left"):
            save(source, mount / "a.wav", FileFormat("WAV", "PCM_24"))
        assert not list(mount.iterdir())
    finally:
        subprocess.run(["umount", mount], check=True)


@pytest.mark.parametrize(
    ("name", "rate", "channels", "says"),
    [
        ("a.opus", 44100, 1, "Opus cannot hold a rate"),
        ("a.flac", 48000, 10, "FLAC holds up to 8"),
        ("a.mp3", 96000, 1, "MP3 holds one or two"),
    ],
)
def test_what_a_format_cannot_hold_is_refused_before_writing(tmp_path, name, rate, channels, says):
    source = ArraySource(sine(rate=rate, channels=channels), rate, "s")
    form = format_for(tmp_path / name, FileFormat("WAV", "PCM_24"))
    with pytest.raises(ParameterError, match=says):
        save(source, tmp_path / name, form)
    assert not list(tmp_path.iterdir())


def test_the_ending_decides_the_container_and_the_source_the_depth(tmp_path):
    wav24 = FileFormat("WAV", "PCM_24")
    assert format_for(tmp_path / "a.flac", wav24) == FileFormat("FLAC", "PCM_24")
    assert format_for(tmp_path / "a.opus", wav24) == FileFormat("OGG", "OPUS")
    assert format_for(tmp_path / "a.wav", FileFormat("FLAC", "PCM_16")) == FileFormat("WAV", "PCM_16")
    assert format_for(tmp_path / "a.wav", FileFormat("MP3", "MPEG_LAYER_III")) == FileFormat("WAV", "FLOAT")
    assert container_for(tmp_path / "a.wav", FileFormat("RF64", "PCM_24")) == "RF64"
    assert default_subtype("AIFF", FileFormat("WAV", "PCM_U8"), ".aiff") == "PCM_S8"
    with pytest.raises(ParameterError, match="not an ending"):
        format_for(tmp_path / "a.xyz", wav24)
    with pytest.raises(ParameterError, match="cannot hold"):
        format_for(tmp_path / "a.flac", wav24, "FLOAT")


def test_rebuilt_samples_round_to_the_nearest_step(tmp_path):
    sound = on_grid(sine(level=0.9), 16)
    sound[100] += 0.75 * 2.0**-15
    source = ArraySource(sound, RATE, "s")
    save(source, tmp_path / "a.wav", FileFormat("WAV", "PCM_16"), origin_format=FileFormat("WAV", "PCM_16"))
    read = soundfile.read(tmp_path / "a.wav", dtype="float64", always_2d=True)[0]
    assert read[100, 0] == pytest.approx(sound[100, 0] + 0.25 * 2.0**-15, abs=1e-12)
    assert np.array_equal(np.delete(read, 100, axis=0), np.delete(sound, 100, axis=0))


def test_a_file_beyond_four_gigabytes_becomes_rf64(tmp_path):
    class Endless:
        rate, channels, frames = RATE, 2, 2**30

    from umbrick.core.sound.saving import _fitting

    assert _fitting(FileFormat("WAV", "PCM_24"), Endless()) == FileFormat("RF64", "PCM_24")
