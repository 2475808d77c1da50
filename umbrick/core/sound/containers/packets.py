"""Sound as the packets of a container's track."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import ExitStack
from fractions import Fraction
from typing import Any, NamedTuple, Protocol

import av
import av.audio.frame
import numpy as np
import soundfile

from umbrick.core.errors import ParameterError
from umbrick.core.sound.encoder import MOST_FRAMES, Block
from umbrick.core.sound.formats import FileFormat


class _Codec(NamedTuple):
    """The encoder's name, the sample type it takes, and of lossy ones the bits a second: for each channel at least and
    at most, and at most for all."""

    name: str
    samples: str
    least_bit_rate: int = 0
    most_bit_rate: int = 0
    most_in_all: int = 1_000_000_000

    def bit_rate(self, wanted: int, channels: int) -> int:
        """Return a rate that the encoder takes, as near to a wanted one as it can be."""
        most = min(self.most_bit_rate * channels, self.most_in_all)
        return min(max(wanted, self.least_bit_rate * channels), most)


_CODECS = {
    "FLAC_16": _Codec("flac", "s16"),
    "FLAC_24": _Codec("flac", "s32"),
    "ALAC_16": _Codec("alac", "s16p"),
    "ALAC_24": _Codec("alac", "s32p"),
    "PCM_16": _Codec("pcm_s16le", "s16"),
    "PCM_24": _Codec("pcm_s24le", "s32"),
    "FLOAT": _Codec("pcm_f32le", "flt"),
    "OPUS": _Codec("libopus", "flt", 96_000, 256_000),
    "AAC": _Codec("aac", "fltp", 128_000, 288_000),
    "MPEG_LAYER_III": _Codec("libmp3lame", "fltp", 128_000, 320_000, 320_000),
    "AC3": _Codec("ac3", "fltp", 96_000, 640_000, 640_000),
}
_SEGMENT_FRAMES = 4096
"""Frames a packet for codecs that take any number."""

_MORE_BITS = 1.05

_VORBIS_QUALITY = 0.3
"""What libsndfile calls the level of compression: 0 is the best."""


class TrackPackets(Protocol):
    """Turns blocks of samples into packets, in order."""

    def encoded(self, block: Block) -> Iterator[Any]:
        """Yield the packets that are complete."""
        ...

    def flushed(self) -> Iterator[Any]:
        """Yield the rest."""
        ...

    def close(self) -> None:
        """Let go of everything held."""
        ...


class EncodedTrack:
    """Packets of a track that FFmpeg's encoders make.

    Raises
    ------
    ParameterError
        If the codec cannot hold such sound.
    """

    def __init__(self, output: Any, form: FileFormat, rate: int, layout: str, bit_rate: int) -> None:
        codec = _CODECS[form.subtype]
        self.rate = rate
        try:
            self.stream = output.add_stream(codec.name, rate=rate)
            self.stream.layout = layout
            self.stream.format = codec.samples
            if codec.least_bit_rate:
                # More than the old one had, as encoders stay a little below what they are asked for.
                self.stream.bit_rate = codec.bit_rate(round(_MORE_BITS * bit_rate), self.stream.layout.nb_channels)
            self.stream.codec_context.open()
        except (ValueError, av.error.FFmpegError) as error:
            raise ParameterError(
                f"{form.name} cannot hold {rate} Hz with {layout} channels in such a file.",
                "Save the sound as FLAC or WAV, which keep it as it is.",
            ) from error
        self._samples = codec.samples
        self._layout = layout
        self._length = self.stream.codec_context.frame_size or _SEGMENT_FRAMES
        self._held: list[Block] = []
        self._count = 0
        self._at = 0

    def encoded(self, block: Block) -> Iterator[Any]:
        """Yield the packets that are complete."""
        self._held.append(block)
        self._count += len(block)
        if self._count >= self._length:
            yield from self._segments(self._count - self._count % self._length)

    def flushed(self) -> Iterator[Any]:
        """Yield the rest."""
        if self._count:
            yield from self._segments(self._count)
        yield from self.stream.encode(None)

    def close(self) -> None:
        """Nothing is held."""

    def _segments(self, frames: int) -> Iterator[Any]:
        whole = np.concatenate(self._held)
        self._held = [whole[frames:]]
        self._count -= frames
        for first in range(0, frames, self._length):
            part = whole[first : min(first + self._length, frames)]
            frame = av.AudioFrame.from_ndarray(as_words(part, self._samples), self._samples, self._layout)
            frame.sample_rate, frame.pts, frame.time_base = self.rate, self._at, Fraction(1, self.rate)
            self._at += len(part)
            yield from self.stream.encode(frame)


class VorbisTrack:
    """Vorbis packets: libsndfile makes an Ogg file of them, from which they are taken as they are."""

    def __init__(self, output: Any, rate: int, channels: int) -> None:
        self._open = ExitStack()
        self._ogg, self._file = self._begun(rate, channels)
        # Its headers are needed before the container's are written: those of the same encoder with the same settings.
        model, file = self._begun(rate, channels)
        file.write(np.zeros((rate // 10, channels)))
        file.close()
        model.seek(0)
        headers = self._open.enter_context(av.open(model, format="ogg"))
        self.stream = output.add_stream_from_template(headers.streams.audio[0], opaque=True)

    def _begun(self, rate: int, channels: int) -> tuple[Any, soundfile.SoundFile]:
        file = self._open.enter_context(tempfile.TemporaryFile())  # noqa: SIM115 - closed with the rest
        form = {"format": "OGG", "subtype": "VORBIS", "compression_level": _VORBIS_QUALITY}
        made = self._open.enter_context(soundfile.SoundFile(file, "w", rate, channels, **form))
        return file, made

    def encoded(self, block: Block) -> Iterator[Any]:
        """Take the block; its packets come with the rest."""
        for first in range(0, len(block), MOST_FRAMES):
            self._file.write(block[first : first + MOST_FRAMES])
        yield from ()

    def flushed(self) -> Iterator[Any]:
        """Yield all of them."""
        self._file.close()
        self._ogg.seek(0)
        held: Any
        with av.open(self._ogg, format="ogg") as held:
            for packet in held.demux(held.streams.audio[0]):
                if packet.size:
                    packet.stream = self.stream
                    # The first one sounds of nothing; before the beginning it would move all other streams.
                    packet.pts = packet.dts = max(0, packet.pts)
                    yield packet

    def close(self) -> None:
        """Let go of the temporary files."""
        self._open.close()


def as_words(block: Block, samples: str) -> Any:
    """Return samples as an encoder's sample type takes them: 24 bits lie at the top of 32."""
    if samples.startswith("s16"):
        words: Any = np.clip(np.round(block * 2.0**15), -(2**15), 2**15 - 1).astype(np.int16)
    elif samples.startswith("s32"):
        words = np.clip(np.round(block * 2.0**23), -(2**23), 2**23 - 1).astype(np.int32) << 8
    else:
        words = block.astype(np.float32)
    return np.ascontiguousarray(words.T if samples.endswith("p") else words.reshape(1, -1))
