import os
import threading

import numpy as np
import pytest
import soundfile

from tests.sounds import voice, write
from umbrick.core.errors import CancelledError, FileError
from umbrick.core.sound import decoded_source, decoder
from umbrick.core.sound.decoded_source import DecodedSource
from umbrick.core.sound.decoder import SoundFileDecoder


@pytest.fixture
def slow(monkeypatch):
    """Decoding that goes on by a block only when it is let."""
    gate = threading.Semaphore(0)

    class Slow(soundfile.SoundFile):
        def read(self, *args, out=None, **kwargs):
            if out is not None and len(out) > 1:  # not what looks whether the last frame is there
                gate.acquire(timeout=10)
            return super().read(*args, out=out, **kwargs)

    monkeypatch.setattr(decoder, "open_sound", Slow)
    return gate


def opened(tmp_path, seconds=5.0):
    path = write(tmp_path / "a.flac", voice(seconds))
    return path, DecodedSource(SoundFileDecoder(path), tmp_path / "cache" / "a.f32", "a")


def test_what_is_decoded_can_be_read_while_the_rest_is_not(tmp_path, slow):
    path, source = opened(tmp_path)
    slow.release()
    first = source.read(0, 60_000)
    assert 60_000 <= source.available < source.frames
    assert not (tmp_path / "cache" / "a.f32").exists()
    for _ in range(10):
        slow.release()
    source.wait()
    whole = soundfile.read(path, dtype="float32", always_2d=True)[0]
    assert np.array_equal(source.read(0, source.frames), whole)
    assert np.array_equal(first, whole[:60_000])
    assert np.array_equal(source.read_exact(5, 9), whole[5:9].astype(np.float64))
    source.close()


def test_reading_ahead_waits_and_closing_ends_the_wait(tmp_path, slow):
    _, source = opened(tmp_path)
    ended = []

    def read_ahead():
        try:
            source.read(source.frames - 10, source.frames)
        except CancelledError:
            ended.append("cancelled")

    reader = threading.Thread(target=read_ahead)
    reader.start()
    for _ in range(2):
        slow.release()
    source.close()
    reader.join(10)
    assert ended == ["cancelled"]
    assert not list((tmp_path / "cache").iterdir())


def test_a_cache_without_room_is_told_and_leaves_nothing(tmp_path, monkeypatch):
    path = write(tmp_path / "a.flac", voice(3.0))
    room = [200_000]

    def nearly_full(handle, data):
        """Write as a disk does that is full after 200 kB: first a part, then nothing."""
        if not room[0]:
            raise OSError(28, "No space left on device")
        part = bytes(data[: room[0]])
        room[0] -= len(part)
        return real_write(handle, part)

    real_write = os.write
    monkeypatch.setattr(os, "write", nearly_full)
    source = DecodedSource(SoundFileDecoder(path), tmp_path / "cache" / "a.f32", "a")
    with pytest.raises(FileError, match="No space left"):
        source.wait()
    with pytest.raises(FileError, match="cannot be decoded to the cache"):
        source.read(0, source.frames)
    monkeypatch.undo()
    assert not list((tmp_path / "cache").iterdir())
    source.close()


def test_what_goes_wrong_in_decoding_reaches_whoever_waits(tmp_path, slow, monkeypatch):
    _, source = opened(tmp_path)
    monkeypatch.setattr(decoded_source.np, "nan_to_num", lambda *_, **__: 1 / 0)
    slow.release()
    with pytest.raises(FileError, match="cannot be decoded: division by zero"):
        source.read(0, source.frames)
    source.close()


def test_a_change_of_the_compressed_file_is_noticed(tmp_path):
    path, source = opened(tmp_path, 1.0)
    assert source.is_unchanged()
    write(path, voice(1.0, seed=3))
    assert not source.is_unchanged()
    source.close()


def test_a_cache_of_another_length_is_not_believed(tmp_path):
    path, source = opened(tmp_path, 1.0)
    source.wait()
    source.close()
    cache = tmp_path / "cache" / "a.f32"
    cache.write_bytes(cache.read_bytes()[:-400])
    again = DecodedSource(SoundFileDecoder(path), cache, "a")
    again.wait()
    assert np.array_equal(again.read(0, again.frames), soundfile.read(path, dtype="float32", always_2d=True)[0])
    again.close()
