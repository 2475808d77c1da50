"""Small videos that tests are made of: a counting picture with sound beside it."""

from fractions import Fraction

import av
import numpy as np

from tests.sounds import RATE
from umbrick.core.sound.containers.packets import as_words
from umbrick.core.sound.formats import FileFormat

_SAMPLES = {"flac": "s32", "pcm_s16le": "s16", "pcm_s24le": "s32", "libopus": "flt", "aac": "fltp", "alac": "s32p"}
PICTURES = {"webm": "libvpx", "mkv": "libx264", "mp4": "libx264", "mov": "libx264"}
TEXT = b"1\n"


def write_video(path, sounds=(), rate=25, seconds=2.0, starts_at=0, picture=True, steps=None, extras=False,
                bit_rate=128_000):  # fmt: skip
    """Write a video: ``sounds`` is pairs of codec and samples; ``steps`` the time stamps of pictures, else even."""
    with av.open(path, "w") as held:
        video = None
        if picture:
            video = held.add_stream(PICTURES[path.suffix[1:]], rate=rate, width=64, height=48)
            video.codec_context.max_b_frames = 2 if path.suffix != ".webm" else 0
            video.codec_context.time_base = Fraction(1, 1000 if steps else rate)
        tracks = []
        for codec, sound in sounds:
            track = held.add_stream(codec, rate=RATE)
            track.layout = {1: "mono", 2: "stereo", 6: "5.1", 8: "7.1"}[sound.shape[1]]
            track.format = _SAMPLES[codec]
            if codec in ("aac", "libopus"):
                track.bit_rate = bit_rate
            track.metadata["title"] = f"Microphone {len(tracks)}"
            tracks.append((track, sound))
        if extras:
            held.metadata["title"] = "The gates"
            held.add_attachment("note.txt", "text/plain", b"Ostermoor")
            held.set_chapters([{"id": 1, "start": 0, "end": 1000, "time_base": Fraction(1, 1000),
                                "metadata": {"title": "First"}}])  # fmt: skip
        packets = []
        if video is not None:
            for number, at in enumerate(steps or range(round(seconds * rate))):
                packets += video.encode(_picture(number, at, video.codec_context.time_base))
            packets += video.encode()
        for track, sound in tracks:
            packets += _encoded(track, sound, starts_at)
        packets.sort(key=lambda packet: packet.dts * packet.time_base)
        for packet in packets:
            held.mux(packet)
    return path


def _picture(number, at, base):
    shade = np.full((48, 64, 3), 40, np.uint8)
    shade[:, : (number * 3) % 64] = 200
    frame = av.VideoFrame.from_ndarray(shade, format="rgb24")
    frame.pts, frame.time_base = at, base
    return frame


def _encoded(track, sound, starts_at):
    length = track.codec_context.frame_size or 1024
    for first in range(0, len(sound), length):
        words = as_words(sound[first : first + length], track.format.name)
        frame = av.AudioFrame.from_ndarray(words, track.format.name, track.layout.name)
        frame.sample_rate, frame.pts, frame.time_base = RATE, first + starts_at, Fraction(1, RATE)
        yield from track.encode(frame)
    yield from track.encode(None)


def packets_of(path, but=()):
    """Return every packet but those of some streams: stream, times in seconds, and bytes."""
    told = []
    with av.open(path) as held:
        for packet in held.demux():
            if packet.size and packet.stream.index not in but:
                base = packet.time_base
                dts = None if packet.dts is None else packet.dts * base
                told.append((packet.stream.index, packet.pts * base, dts, bytes(packet)))
    return sorted(told, key=lambda one: (one[0], one[1]))


def form_of(path, subtype):
    return FileFormat({"mkv": "MATROSKA", "webm": "WEBM", "mp4": "MP4", "mov": "MOV"}[path.suffix[1:]], subtype)
