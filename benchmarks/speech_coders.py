"""Speech coders with their own concealment of lost packets, as real libraries have them.

They are called through ctypes and are no part of Umbrick: each one that this system lacks is left out. On Debian:
``apt-get install libopus0 libgsm1 libopencore-amrnb0 libopencore-amrwb0 libvo-amrwbenc0 libspeex1 libspandsp2
libbcg729-0``.
"""

from __future__ import annotations

import ctypes
from collections.abc import Callable, Iterator, Sequence
from ctypes import POINTER, byref, c_char_p, c_int, c_int16, c_int32, c_uint8, c_void_p
from ctypes.util import find_library
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

Pcm = npt.NDArray[np.int16]
_MOST_BYTES = 1500


class Coder(NamedTuple):
    """A coder: its rate, the frames of a packet, and what decodes a sound of whole packets of which some are lost."""

    rate: int
    packet: int
    through: Callable[[Pcm, Sequence[bool]], Pcm]


def coders() -> Iterator[tuple[str, Coder]]:
    """Yield the coders that this system has, by name."""
    for name, (library, make) in _CODERS.items():
        found = [find_library(part) for part in library.split()]
        if all(found):
            yield name, make(*(ctypes.CDLL(part) for part in found))


def _shorts(values: Pcm) -> ctypes.Array[c_int16]:
    return (c_int16 * len(values)).from_buffer_copy(np.ascontiguousarray(values, np.int16))


def _packets(sound: Pcm, packet: int) -> Iterator[Pcm]:
    for first in range(0, len(sound) - packet + 1, packet):
        yield sound[first : first + packet]


def _opus(rate: int, bits_a_second: int, application: int, milliseconds: int = 20, loss: int = 10):
    """Return a maker of Opus; applications: 2048 for voices, 2049 for all sound, 2051 with a low delay."""

    def make(library: ctypes.CDLL) -> Coder:
        library.opus_encoder_create.restype = library.opus_decoder_create.restype = c_void_p
        size = rate * milliseconds // 1000

        def through(sound: Pcm, lost: Sequence[bool]) -> Pcm:
            encoder = c_void_p(library.opus_encoder_create(rate, 1, application, None))
            library.opus_encoder_ctl(encoder, 4002, c_int32(bits_a_second))
            library.opus_encoder_ctl(encoder, 4014, c_int32(loss))
            decoder = c_void_p(library.opus_decoder_create(rate, 1, None))
            data, made = ctypes.create_string_buffer(_MOST_BYTES), (c_int16 * size)()
            parts = []
            for part, is_lost in zip(_packets(sound, size), lost, strict=False):
                count = library.opus_encode(encoder, _shorts(part), size, data, _MOST_BYTES)
                if is_lost:
                    library.opus_decode(decoder, None, 0, made, size, 0)
                else:
                    library.opus_decode(decoder, data, count, made, size, 0)
                parts.append(np.array(made, np.int16))
            library.opus_encoder_destroy(encoder)
            library.opus_decoder_destroy(decoder)
            return np.concatenate(parts)

        return Coder(rate, size, through)

    return make


_NO_DATA = b"\x7c"
"""The header of an AMR frame of which nothing came."""


def _amr(mode: int):
    def make(library: ctypes.CDLL) -> Coder:
        library.Encoder_Interface_init.restype = library.Decoder_Interface_init.restype = c_void_p

        def through(sound: Pcm, lost: Sequence[bool]) -> Pcm:
            encoder, decoder = c_void_p(library.Encoder_Interface_init(0)), c_void_p(library.Decoder_Interface_init())
            data, made, parts = ctypes.create_string_buffer(64), (c_int16 * 160)(), []
            for part, is_lost in zip(_packets(sound, 160), lost, strict=False):
                library.Encoder_Interface_Encode(encoder, mode, _shorts(part), data, 0)
                library.Decoder_Interface_Decode(decoder, c_char_p(_NO_DATA) if is_lost else data, made, 0)
                parts.append(np.array(made, np.int16))
            library.Encoder_Interface_exit(encoder)
            library.Decoder_Interface_exit(decoder)
            return np.concatenate(parts)

        return Coder(8000, 160, through)

    return make


def _amr_wide(mode: int):
    def make(decoding: ctypes.CDLL, encoding: ctypes.CDLL) -> Coder:
        encoding.E_IF_init.restype = decoding.D_IF_init.restype = c_void_p

        def through(sound: Pcm, lost: Sequence[bool]) -> Pcm:
            encoder, decoder = c_void_p(encoding.E_IF_init()), c_void_p(decoding.D_IF_init())
            data, made, parts = ctypes.create_string_buffer(128), (c_int16 * 320)(), []
            for part, is_lost in zip(_packets(sound, 320), lost, strict=False):
                encoding.E_IF_encode(encoder, mode, _shorts(part), data, 0)
                decoding.D_IF_decode(decoder, c_char_p(_NO_DATA) if is_lost else data, made, 0)
                parts.append(np.array(made, np.int16))
            encoding.E_IF_exit(encoder)
            decoding.D_IF_exit(decoder)
            return np.concatenate(parts)

        return Coder(16000, 320, through)

    return make


def _speex(wide: int, quality: int):
    def make(library: ctypes.CDLL) -> Coder:
        library.speex_lib_get_mode.restype = c_void_p
        library.speex_encoder_init.restype = library.speex_decoder_init.restype = c_void_p
        rate, size = (16000, 320) if wide else (8000, 160)

        def through(sound: Pcm, lost: Sequence[bool]) -> Pcm:
            mode = c_void_p(library.speex_lib_get_mode(wide))
            encoder, decoder = c_void_p(library.speex_encoder_init(mode)), c_void_p(library.speex_decoder_init(mode))
            library.speex_encoder_ctl(encoder, 4, byref(c_int32(quality)))
            bits = ctypes.create_string_buffer(256)
            library.speex_bits_init(bits)
            data, made, parts = ctypes.create_string_buffer(256), (c_int16 * size)(), []
            for part, is_lost in zip(_packets(sound, size), lost, strict=False):
                library.speex_bits_reset(bits)
                library.speex_encode_int(encoder, _shorts(part), bits)
                count = library.speex_bits_write(bits, data, 256)
                library.speex_bits_read_from(bits, data, count)
                library.speex_decode_int(decoder, None if is_lost else bits, made)
                parts.append(np.array(made, np.int16))
            return np.concatenate(parts)

        return Coder(rate, size, through)

    return make


def _g729(library: ctypes.CDLL) -> Coder:
    library.initBcg729EncoderChannel.restype = library.initBcg729DecoderChannel.restype = c_void_p

    def through(sound: Pcm, lost: Sequence[bool]) -> Pcm:
        encoder, decoder = c_void_p(library.initBcg729EncoderChannel(0)), c_void_p(library.initBcg729DecoderChannel())
        data, length, made, parts = (c_uint8 * 16)(), c_uint8(), (c_int16 * 80)(), []
        # A packet carries two of its frames.
        for number, part in enumerate(_packets(sound, 80)):
            if number // 2 >= len(lost):
                break
            library.bcg729Encoder(encoder, _shorts(part), data, byref(length))
            library.bcg729Decoder(decoder, data, length, c_uint8(lost[number // 2]), c_uint8(0), c_uint8(0), made)
            parts.append(np.array(made, np.int16))
        return np.concatenate(parts)

    return Coder(8000, 160, through)


def _gsm(library: ctypes.CDLL) -> Coder:
    """Return the full-rate coder; lost frames repeat the last good one, ever weaker, as its standard advises."""
    library.gsm_create.restype = c_void_p
    levels = [8 + 2 + 17 * quarter + 1 for quarter in range(4)]

    def through(sound: Pcm, lost: Sequence[bool]) -> Pcm:
        encoder, decoder = c_void_p(library.gsm_create()), c_void_p(library.gsm_create())
        data, words, made, parts = (c_uint8 * 33)(), (c_int16 * 76)(), (c_int16 * 160)(), []
        missing = 0
        for part, is_lost in zip(_packets(sound, 160), lost, strict=False):
            coming = (c_uint8 * 33)()
            library.gsm_encode(encoder, _shorts(part), coming)
            missing = missing + 1 if is_lost else 0
            if not is_lost:
                data = coming
            elif missing > 1:
                library.gsm_explode(decoder, data, words)
                for level in levels:
                    words[level] = max(0, words[level] - 4)
                library.gsm_implode(decoder, words, data)
            library.gsm_decode(decoder, data, made)
            parts.append(np.array(made, np.int16) if missing <= 16 else np.zeros(160, np.int16))
        return np.concatenate(parts)

    return Coder(8000, 160, through)


def _g711(milliseconds: int):
    """Return a telephone line of eight bits; what is lost is made of the last turns of the pitch."""

    def make(library: ctypes.CDLL) -> Coder:
        library.plc_init.restype = c_void_p
        library.plc_rx.argtypes = library.plc_fillin.argtypes = (c_void_p, POINTER(c_int16), c_int)
        size = 8 * milliseconds

        def through(sound: Pcm, lost: Sequence[bool]) -> Pcm:
            state, parts = library.plc_init(None), []
            for part, is_lost in zip(_packets(_eight_bits(sound), size), lost, strict=False):
                made = _shorts(part)
                (library.plc_fillin if is_lost else library.plc_rx)(state, made, size)
                parts.append(np.array(made, np.int16))
            return np.concatenate(parts)

        return Coder(8000, size, through)

    return make


def _eight_bits(sound: Pcm) -> Pcm:
    """Return what mu-law makes of a sound (ITU-T G.711, as its continuous formula)."""
    share = np.log1p(255 * np.abs(sound / 32768.0)) / np.log(256)
    size = np.expm1(np.round(share * 127) / 127 * np.log(256)) / 255
    return np.round(32767 * np.sign(sound) * size).astype(np.int16)


_VOICE, _ALL_SOUND, _LOW_DELAY = 2048, 2049, 2051

_CODERS: dict[str, tuple[str, Callable[..., Coder]]] = {
    "Opus voice 24 kbit/s": ("opus", _opus(48000, 24000, _VOICE)),
    "Opus voice 12 kbit/s 16 kHz": ("opus", _opus(16000, 12000, _VOICE)),
    "Opus voice 40 kbit/s": ("opus", _opus(48000, 40000, _VOICE)),
    "Opus sound 64 kbit/s": ("opus", _opus(48000, 64000, _ALL_SOUND, loss=0)),
    "Opus low delay 64 kbit/s": ("opus", _opus(48000, 64000, _LOW_DELAY, loss=0)),
    "AMR 12.2": ("opencore-amrnb", _amr(7)),
    "AMR 5.9": ("opencore-amrnb", _amr(2)),
    "AMR-WB 12.65": ("opencore-amrwb vo-amrwbenc", _amr_wide(2)),
    "Speex 8 kHz": ("speex", _speex(0, 8)),
    "Speex 16 kHz": ("speex", _speex(1, 8)),
    "G.729": ("bcg729", _g729),
    "GSM": ("gsm", _gsm),
    "G.711, packets of 10 ms": ("spandsp", _g711(10)),
    "G.711, packets of 20 ms": ("spandsp", _g711(20)),
}
