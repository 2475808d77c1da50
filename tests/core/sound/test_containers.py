"""The sound of videos: read to the sample, and put back beside pictures that stay as they are."""

import os
import subprocess

import av
import numpy as np
import pytest

from tests.sounds import RATE, faultless, voice
from tests.videos import form_of, packets_of, write_video
from umbrick.core.errors import FileError, ParameterError
from umbrick.core.sound.containers.track_decoder import TrackDecoder
from umbrick.core.sound.containers.tracks import container_of, tracks_of
from umbrick.core.sound.formats import FileFormat
from umbrick.core.sound.recording import open_recording
from umbrick.core.sound.saving import Papers, format_for, save
from umbrick.core.timeline.version import Version

_STEP = 2.0**-23
LOSSLESS = [("mkv", "flac"), ("mkv", "pcm_s24le"), ("mp4", "alac"), ("mov", "alac"), ("mov", "pcm_s24le")]
LOSSY = [("mkv", "libopus"), ("mkv", "aac"), ("webm", "libopus"), ("mp4", "aac"), ("mov", "aac")]


def on_steps(sound):
    return np.round(sound / _STEP) * _STEP


@pytest.fixture
def opened():
    """Opens recordings that are closed at the end."""
    held = []

    def open_one(path, track=None):
        held.append(open_recording(path, path.parent / "cache", track))
        return held[-1]

    yield open_one
    for recording in held:
        recording.close()


@pytest.fixture
def copied(opened):
    """Saves a recording under another name with all that is beside it; returns what was said, and the copy, open."""

    def copy(recording, target, subtype=None):
        form = format_for(target, recording.format, subtype)
        papers = Papers(recording.path, track=recording.track)
        saved = save(Version.of(recording.source), target, form, papers=papers, origin_format=recording.format)
        return saved, opened(target, recording.track.number)

    return copy


def sound_of(recording):
    return recording.source.read_exact(0, recording.source.frames)


def lag_between(one, other):
    size = 1 << 17
    spectrum = np.fft.rfft(one[:, 0], size) * np.conj(np.fft.rfft(other[:, 0], size))
    lag = int(np.fft.irfft(spectrum).argmax())
    return lag if lag < size // 2 else lag - size


@pytest.mark.parametrize(("ending", "codec"), LOSSLESS)
@pytest.mark.parametrize("starts_at", [0, 24000])
def test_sound_without_loss_comes_back_and_goes_back_as_it_was(tmp_path, ending, codec, starts_at, opened, copied):
    sound = on_steps(voice(2.0))
    path = write_video(tmp_path / f"a.{ending}", [(codec, sound)], starts_at=starts_at)
    recording = opened(path)
    assert np.array_equal(sound_of(recording), sound)
    assert recording.track.starts_at * RATE == starts_at
    saved, again = copied(recording, tmp_path / f"b.{ending}")
    assert saved.format == recording.format
    assert not saved.note
    assert np.array_equal(sound_of(again), sound)
    assert again.track.starts_at == recording.track.starts_at
    assert again.track.title == recording.track.title
    assert packets_of(path, but=(1,)) == packets_of(tmp_path / f"b.{ending}", but=(1,))


@pytest.mark.parametrize(("ending", "codec"), LOSSY)
@pytest.mark.parametrize("starts_at", [0, 24024])
def test_lossy_sound_stays_where_it_was(tmp_path, ending, codec, starts_at, opened, copied):
    sound = voice(2.0)
    path = write_video(tmp_path / f"a.{ending}", [(codec, sound)], starts_at=starts_at)
    recording = opened(path)
    saved, again = copied(recording, tmp_path / f"b.{ending}")
    assert "encoded anew once" in saved.note
    start, restart = recording.track.starts_at, again.track.starts_at
    moved = lag_between(sound_of(again), sound_of(recording)) + round((restart - start) * RATE)
    assert moved == 0
    assert again.track.bit_rate >= recording.track.bit_rate
    assert packets_of(path, but=(1,)) == packets_of(tmp_path / f"b.{ending}", but=(1,))
    if starts_at == 0:
        assert again.source.frames == recording.source.frames


@pytest.mark.parametrize(
    ("codec", "rate"), [("libopus", 256_000), ("libopus", 24_000), ("aac", 320_000), ("aac", 24_000)]
)
def test_any_bit_rate_of_the_old_track_is_taken(tmp_path, codec, rate, opened, copied):
    recording = opened(write_video(tmp_path / "a.mkv", [(codec, voice(1.0))], bit_rate=rate))
    _, again = copied(recording, tmp_path / "b.mkv")
    assert lag_between(sound_of(again), sound_of(recording)) == 0


@pytest.mark.parametrize(
    ("name", "codec", "channels"), [("a.mkv", "flac", 6), ("a.mp4", "aac", 6), ("a.mov", "pcm_s16le", 8)]
)
def test_channels_of_a_room_stay_in_their_order(tmp_path, name, codec, channels, opened, copied):
    sound = np.concatenate([voice(0.5, seed=number, pitch=100 + 9 * number) for number in range(channels)], axis=1)
    recording = opened(write_video(tmp_path / name, [(codec, 0.9 * sound)], picture=False))
    _, again = copied(recording, tmp_path / f"b{name[1:]}")
    assert again.track.layout == recording.track.layout == {6: "5.1", 8: "7.1"}[channels]
    one, other = sound_of(recording), sound_of(again)
    alike = np.abs(np.corrcoef(one.T, other.T)[:channels, channels:])
    assert (alike.argmax(axis=1) == np.arange(channels)).all()


def test_vorbis_is_made_where_a_container_has_it(tmp_path, opened, copied):
    sound = voice(2.0)
    flac = opened(write_video(tmp_path / "a.mkv", [("flac", sound)]))
    _, vorbis = copied(flac, tmp_path / "b.mkv", "VORBIS")
    assert vorbis.format == FileFormat("MATROSKA", "VORBIS")
    assert lag_between(sound_of(vorbis), sound) == 0
    _, again = copied(vorbis, tmp_path / "c.mkv")
    assert abs(again.source.frames - len(sound)) < 100
    assert lag_between(sound_of(again), sound) == 0
    assert packets_of(tmp_path / "a.mkv", but=(1,)) == packets_of(tmp_path / "c.mkv", but=(1,))


def test_everything_else_comes_along(tmp_path, opened, copied):
    sound = on_steps(voice(1.0))
    path = write_video(tmp_path / "a.mkv", [("flac", sound), ("libopus", 0.5 * sound)], extras=True)
    recording = opened(path, 0)
    _, again = copied(recording, tmp_path / "b.mkv")
    assert packets_of(path, but=(1,)) == packets_of(tmp_path / "b.mkv", but=(1,))
    with av.open(path) as old, av.open(tmp_path / "b.mkv") as new:
        assert new.metadata["title"] == old.metadata["title"] == "The gates"
        assert new.chapters()[0]["metadata"] == {"title": "First"}
        attached = [stream for stream in new.streams if stream.type == "attachment"]
        assert [bytes(stream.data) for stream in attached] == [b"Ostermoor"]
        assert [s.disposition for s in new.streams.audio] == [s.disposition for s in old.streams.audio]
    assert np.array_equal(sound_of(again), sound)


def test_a_track_is_chosen_by_number(tmp_path, opened, copied):
    one, other = on_steps(voice(1.0)), on_steps(voice(1.0, seed=5))
    path = write_video(tmp_path / "a.mkv", [("flac", one), ("flac", other)])
    assert np.array_equal(sound_of(opened(path)), one)
    second = opened(path, 1)
    assert np.array_equal(sound_of(second), other)
    assert second.source.key != opened(path, 0).source.key
    copied(second, tmp_path / "b.mkv")
    assert packets_of(path, but=(2,)) == packets_of(tmp_path / "b.mkv", but=(2,))
    with pytest.raises(ParameterError, match="tracks 0 to 1, no track 2"):
        opened(path, 2)


def test_pictures_at_uneven_times_stay_at_theirs(tmp_path, opened, copied):
    steps = [0, 40, 95, 120, 240, 250, 700, 1900]
    path = write_video(tmp_path / "a.mkv", [("flac", on_steps(voice(2.0)))], steps=steps)
    copied(opened(path), tmp_path / "b.mkv")
    assert packets_of(path, but=(1,)) == packets_of(tmp_path / "b.mkv", but=(1,))


def test_a_turned_picture_stays_turned(tmp_path, opened, copied):
    path = write_video(tmp_path / "a.mp4", [("aac", voice(1.0))])
    data = bytearray(path.read_bytes())
    at = data.index(b"tkhd") + 4 + 40
    data[at : at + 20] = b"".join(n.to_bytes(4, "big") for n in (0, 0x10000, 0, 0xFFFF0000, 0))
    path.write_bytes(data)
    copied(opened(path), tmp_path / "b.mp4")
    new = (tmp_path / "b.mp4").read_bytes()
    at_new = new.index(b"tkhd") + 4 + 40
    assert new[at_new : at_new + 20] == bytes(data[at : at + 20])


def test_a_video_without_sound_says_so(tmp_path, opened):
    with pytest.raises(FileError, match="no sound track"):
        opened(write_video(tmp_path / "a.mkv"))


def test_sound_alone_in_a_container_is_a_recording_like_any(tmp_path, opened, copied):
    sound = on_steps(voice(1.0))
    recording = opened(write_video(tmp_path / "a.mp4", [("alac", sound)], picture=False))
    assert np.array_equal(sound_of(recording), sound)
    _, again = copied(recording, tmp_path / "b.mp4")
    assert np.array_equal(sound_of(again), sound)


@pytest.mark.parametrize("ending", ["mkv", "mp4"])
def test_a_file_that_is_cut_off_is_told(tmp_path, ending, opened):
    codec = "flac" if ending == "mkv" else "aac"
    path = write_video(tmp_path / f"a.{ending}", [(codec, voice(6.0))], seconds=6.0)
    whole = path.read_bytes()
    path.write_bytes(whole[: len(whole) // 2])
    if ending == "mp4":
        with pytest.raises(FileError, match="damaged or cut off"):
            opened(path)
        return
    recording = opened(path)
    assert "ends after" in recording.damage
    assert 0 < recording.source.frames < 6.0 * RATE


def indexed_in_front(path, target):
    """Write a video again with its index before its sound, as for playing from a network."""
    with av.open(path) as old, av.open(target, "w", options={"movflags": "+faststart"}) as new:
        made = [new.add_stream_from_template(stream, opaque=True) for stream in old.streams]
        for packet in old.demux():
            if packet.size:
                packet.stream = made[packet.stream.index]
                new.mux(packet)
    return target


def decoder_of(path):
    return TrackDecoder(path, tracks_of(path, container_of(path))[0])


@pytest.mark.parametrize(("ending", "codec"), LOSSLESS + LOSSY)
@pytest.mark.parametrize("starts_at", [0, 480])
def test_a_length_that_the_container_or_its_packets_tell_is_known_before_it_is_decoded(
    tmp_path, ending, codec, starts_at
):
    decoder = decoder_of(write_video(tmp_path / f"a.{ending}", [(codec, 0.3 * voice(4.13))], starts_at=starts_at))
    promised = decoder.promised()
    assert promised
    assert sum(map(len, decoder.blocks())) == promised
    decoder.close()


def test_a_gap_between_packets_leaves_the_length_to_be_found_by_decoding(tmp_path, opened):
    path = write_video(tmp_path / "a.mkv", [("libopus", 0.3 * voice(5.0))], seconds=5.0)
    gapped = tmp_path / "gapped.mkv"
    with av.open(path) as old, av.open(gapped, "w") as new:
        stream = old.streams.audio[0]
        track = new.add_stream_from_template(stream)
        for number, packet in enumerate(old.demux(stream)):
            if packet.size and not 100 <= number < 105:
                packet.stream = track
                new.mux(packet)
    decoder = decoder_of(gapped)
    assert decoder.promised() is None
    decoder.close()
    whole, recording = opened(path), opened(gapped)
    assert abs(recording.source.frames - whole.source.frames) < RATE // 1000  # stamps are milliseconds
    middle = recording.source.read(round(2.02 * RATE), round(2.06 * RATE))
    assert not middle.any()


def test_what_was_counted_is_not_counted_again_once_it_is_decoded(tmp_path, opened, monkeypatch):
    path = write_video(tmp_path / "a.mkv", [("flac", 0.3 * voice(4.0))], seconds=4.0)
    first = opened(path)
    first.source.wait()
    counted = []
    monkeypatch.setattr(TrackDecoder, "promised", lambda decoder: counted.append(decoder))
    again = opened(path)
    assert not counted
    assert again.source.frames == first.source.frames == again.source.available


def test_a_length_that_is_not_borne_out_is_not_believed_and_told(tmp_path, opened):
    path = write_video(tmp_path / "a.mp4", [("aac", voice(6.0))], seconds=6.0)
    cut = indexed_in_front(path, tmp_path / "b.mp4")
    whole = cut.read_bytes()
    cut.write_bytes(whole[: len(whole) // 2])
    decoder = decoder_of(cut)
    assert decoder.promised() is None
    decoder.close()
    recording = opened(cut)
    assert 0 < recording.source.frames < 5.0 * RATE
    assert "ends after" in recording.damage


def test_packets_that_are_lost_leave_silence_and_no_shift(tmp_path, opened):
    sound = on_steps(faultless(4.0))
    path = write_video(tmp_path / "a.mkv", [("flac", sound)], seconds=4.0)
    holed = tmp_path / "b.mkv"
    with av.open(path) as old, av.open(holed, "w") as new:
        made = [new.add_stream_from_template(stream, opaque=True) for stream in old.streams]
        for packet in old.demux():
            is_lost = packet.stream.index == 1 and packet.pts is not None and 1000 <= packet.pts < 1500
            if packet.size and not is_lost:
                packet.stream = made[packet.stream.index]
                new.mux(packet)
    came = sound_of(opened(holed))
    assert abs(len(came) - len(sound)) < RATE // 1000
    assert not came[round(1.15 * RATE) : round(1.4 * RATE)].any()
    assert lag_between(came[3 * RATE :], sound[3 * RATE :]) < RATE // 1000


def test_the_sound_of_a_wav_goes_into_a_container_of_its_own(tmp_path, opened):
    sound = on_steps(voice(1.0))
    recording = opened(write_video(tmp_path / "a.mkv", [("flac", sound)]))
    for name in ("b.wav", "c.mka", "d.m4a", "e.webm"):
        target = tmp_path / name
        form = format_for(target, recording.format)
        save(
            Version.of(recording.source),
            target,
            form,
            papers=Papers(recording.path),
            origin_format=recording.format,
        )
        again = opened(target)
        assert again.source.channels == 1
        assert form.is_lossy or np.array_equal(sound_of(again), sound)


def test_what_a_container_cannot_hold_is_told_and_nothing_is_left(tmp_path, opened, copied):
    recording = opened(write_video(tmp_path / "a.mkv", [("flac", voice(1.0))]))
    with pytest.raises(FileError, match="video stream"):
        copied(recording, tmp_path / "b.webm")
    assert sorted(path.name for path in tmp_path.iterdir()) == ["a.mkv", "cache"]
    with pytest.raises(ParameterError, match="cannot hold"):
        format_for(tmp_path / "b.webm", form_of(tmp_path / "b.webm", "OPUS"), "FLOAT")


def test_a_container_full_of_rubbish_is_refused(tmp_path, opened):
    for number, head in enumerate((b"\x1a\x45\xdf\xa3", b"\0\0\0\x20ftypisom", b"\0\0\0\x08moov")):
        path = tmp_path / f"{number}.mkv"
        path.write_bytes(head + bytes(range(256)) * 40)
        with pytest.raises(FileError):
            opened(path)


@pytest.mark.skipif(os.geteuid() != 0, reason="needs to mount a small file system")
def test_a_full_disk_is_told_and_leaves_nothing(tmp_path, opened):
    recording = opened(write_video(tmp_path / "a.mkv", [("pcm_s24le", on_steps(voice(2.0)))]))
    mount = tmp_path / "small"
    mount.mkdir()
    if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=64k", "tmpfs", mount], capture_output=True).returncode:
        pytest.skip("a small file system cannot be mounted here")
    try:
        form = recording.format
        with pytest.raises(FileError, match="no room left"):
            save(
                Version.of(recording.source),
                mount / "b.mkv",
                form,
                papers=Papers(recording.path, track=recording.track),
            )
        assert not list(mount.iterdir())
    finally:
        subprocess.run(["umount", mount], check=True)
