"""The opening of the gates: a made-up picture, a voice under a reversing beeper, and a hole in the sound."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
import numpy.typing as npt

from umbrick.core.sound.containers.packets import as_words
from umbrick.demo.faults import Tape, water
from umbrick.demo.speaking import spoken

RATE, PICTURES_A_SECOND = 48000, 25
_SECONDS = 14.0
_WIDTH, _HEIGHT = 320, 180
_SENTENCE = "Stand clear of the gates. There she goes. Slowly now, the water has a long way to fall."
_BEEPS, _BEEP_SECONDS, _BEEP_HZ = (3.2, 4.4, 5.6, 6.8, 8.0), 0.42, 1250.0
_HOLE_SECONDS, _HOLE_WITHIN = 0.018, (1.5, 3.0)
"""The hole is where the voice is loudest between these seconds."""


def sound() -> Tape:
    """Return the sound and what was planted in it."""
    frames = round(_SECONDS * RATE)
    random = np.random.default_rng(1903)
    voice = spoken(_SENTENCE, RATE, "en-gb", 140, 38)
    wave = np.zeros(frames)
    start = round(0.8 * RATE)
    wave[start : start + len(voice)] = 0.3 * voice[: frames - start] / np.abs(voice).max()
    t = np.arange(frames) / RATE
    wave += water(frames, RATE, 0.012, random) * (0.3 + 0.7 * np.clip((t - 5) / 5, 0, 1))
    tape = Tape(wave[:, np.newaxis], RATE, 1904)
    for second in _BEEPS:
        beep = np.arange(tape.frames(_BEEP_SECONDS)) / RATE
        swell = np.minimum(1, beep / 0.008) * np.minimum(1, (beep[-1] - beep) / 0.008)
        tape.add("intrusion", tape.frames(second), 0.05 * np.sin(2 * np.pi * _BEEP_HZ * beep) * swell,
                 band_hz=[_BEEP_HZ - 50, _BEEP_HZ + 50])  # fmt: skip
    first, last = (tape.frames(second) for second in _HOLE_WITHIN)
    level = np.convolve(wave[first:last] ** 2, np.ones(4800), "same")
    hole = first + int(level.argmax())
    tape.sound[hole : hole + tape.frames(_HOLE_SECONDS)] = 0
    tape.note("dropout", hole, hole + tape.frames(_HOLE_SECONDS), (0,))
    return tape


def _picture(number: int) -> npt.NDArray[np.uint8]:
    """Return one picture: two gates that swing open before falling water, and a bar that counts along."""
    seconds = number / PICTURES_A_SECOND
    opened = float(np.clip((seconds - 3.0) / 8.0, 0.0, 1.0))
    y, x = np.mgrid[0:_HEIGHT, 0:_WIDTH]
    picture = np.empty((_HEIGHT, _WIDTH, 3), np.uint8)
    picture[:] = (214, 205, 186)
    picture[_HEIGHT // 3 :] = (150, 140, 118)
    fall = (y > _HEIGHT // 3) & (np.abs(x - _WIDTH / 2) < opened * 60)
    foam = 170 + 60 * np.sin(0.35 * (y - 90 * seconds) + 0.12 * x)
    picture[fall] = np.stack([0.75 * foam, 0.86 * foam, 0.9 * foam], axis=-1).clip(0, 255)[fall].astype(np.uint8)
    half = round(76 * (1 - 0.75 * opened))
    for left, right in ((_WIDTH // 2 - 76, _WIDTH // 2 - 76 + half), (_WIDTH // 2 + 76 - half, _WIDTH // 2 + 76)):
        gate = (x >= left) & (x < right) & (y > _HEIGHT // 4) & (y < _HEIGHT - 20)
        picture[gate] = (84, 62, 44)
        picture[gate & ((y - _HEIGHT // 4) % 22 < 3)] = (58, 42, 30)
    done = round(_WIDTH * seconds / _SECONDS)
    picture[-6:, :done] = (166, 66, 44)
    return picture


def write(path: Path) -> Tape:
    """Write the video, and return what its sound is made of."""
    tape = sound()
    with av.open(str(path), "w") as held:
        held.metadata["title"] = "Opening the gates of the third lock"
        video = held.add_stream("libvpx-vp9", rate=PICTURES_A_SECOND, options={"crf": "40", "b": "0", "row-mt": "0"})
        video.width, video.height, video.pix_fmt = _WIDTH, _HEIGHT, "yuv420p"
        track = held.add_stream("flac", rate=RATE)
        track.layout, track.format = "mono", "s16"
        track.metadata["title"] = "Quay microphone"
        track.codec_context.open()
        held.set_chapters([{"id": 1, "start": 0, "end": 3000, "time_base": Fraction(1, 1000),
                            "metadata": {"title": "Before"}},
                           {"id": 2, "start": 3000, "end": 14000, "time_base": Fraction(1, 1000),
                            "metadata": {"title": "The gates open"}}])  # fmt: skip
        packets: list[Any] = []
        for number in range(round(_SECONDS * PICTURES_A_SECOND)):
            frame = av.VideoFrame.from_ndarray(_picture(number), format="rgb24")
            frame.pts, frame.time_base = number, Fraction(1, PICTURES_A_SECOND)
            packets += video.encode(frame)
        packets += video.encode(None)
        length = track.codec_context.frame_size
        for first in range(0, len(tape.sound), length):
            part = tape.sound[first : first + length]
            words = av.AudioFrame.from_ndarray(as_words(part, "s16"), "s16", "mono")
            words.sample_rate, words.pts, words.time_base = RATE, first, Fraction(1, RATE)
            packets += track.encode(words)
        packets += track.encode(None)
        packets.sort(key=lambda packet: packet.dts * packet.time_base)
        for packet in packets:
            held.mux(packet)
    return tape
