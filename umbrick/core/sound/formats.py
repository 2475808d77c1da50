"""The file formats Umbrick reads and writes, as data."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

READABLE_SUFFIXES = (
    ".wav", ".rf64", ".w64", ".aif", ".aiff", ".aifc", ".caf", ".flac", ".ogg", ".oga", ".opus", ".mp3",
    ".mkv", ".mka", ".webm", ".mp4", ".m4a", ".m4v", ".mov",
)  # fmt: skip
"""Endings offered in the open dialog; what a file is, is decided by its contents."""

_CONTAINER_OF_SUFFIX = {
    ".wav": "WAV", ".rf64": "RF64", ".w64": "W64", ".aif": "AIFF", ".aiff": "AIFF", ".aifc": "AIFF", ".caf": "CAF",
    ".flac": "FLAC", ".ogg": "OGG", ".oga": "OGG", ".opus": "OGG", ".mp3": "MP3",
    ".mkv": "MATROSKA", ".mka": "MATROSKA", ".webm": "WEBM", ".mp4": "MP4", ".m4a": "MP4", ".m4v": "MP4", ".mov": "MOV",
}  # fmt: skip

_BITS = {"PCM_S8": 8, "PCM_U8": 8, "PCM_16": 16, "PCM_24": 24, "PCM_32": 32, "ALAC_16": 16, "ALAC_20": 20,
         "ALAC_24": 24, "ALAC_32": 32, "FLAC_16": 16, "FLAC_24": 24}  # fmt: skip

_NAMES = {"FLOAT": "32 bit float", "DOUBLE": "64 bit float", "VORBIS": "Vorbis", "OPUS": "Opus",
          "MPEG_LAYER_III": "MP3", "MPEG_LAYER_II": "MPEG layer II", "ULAW": "µ-law", "ALAW": "A-law",
          "EAC3": "E-AC3"}  # fmt: skip

_OF_WHOLE_BLOCKS = {
    "IMA_ADPCM": "IMA ADPCM", "MS_ADPCM": "Microsoft ADPCM", "GSM610": "GSM 6.10",
    "G721_32": "G.721", "G723_24": "G.723", "G723_40": "G.723",
}  # fmt: skip
"""Codecs that decode to 16 bits and write nothing but whole blocks, so that a copy would end later than its source."""

_IN_CONTAINERS = {
    "MATROSKA": ("FLAC_24", "FLAC_16", "OPUS", "VORBIS", "PCM_16", "PCM_24", "FLOAT", "AAC", "MPEG_LAYER_III", "AC3",
                 "ALAC_16", "ALAC_24"),
    "WEBM": ("OPUS", "VORBIS"),
    "MP4": ("ALAC_24", "ALAC_16", "FLAC_24", "FLAC_16", "OPUS", "AAC", "MPEG_LAYER_III", "AC3"),
    "MOV": ("ALAC_24", "ALAC_16", "PCM_16", "PCM_24", "FLOAT", "AAC", "AC3"),
}  # fmt: skip
"""What can be written into containers of tracks: open formats and those without loss first."""

_IN_PLACE_CONTAINERS = {"WAV", "WAVEX", "RF64", "W64", "AIFF", "CAF", "AU"}
_IN_PLACE_SUBTYPES = {"PCM_S8", "PCM_U8", "PCM_16", "PCM_24", "PCM_32", "FLOAT", "DOUBLE", "ULAW", "ALAW"}

LOWEST_RATE, HIGHEST_RATE = 2000, 1_000_000
"""Frames a second that can be worked on: every detector and method is tested at both."""

MOST_CHANNELS = 256

WAV_LIMIT_BYTES = 4 * 2**30 - 2**20
"""Beyond this a WAV's 32-bit sizes do not hold, and RF64 is written instead (with room for its chunks)."""


@dataclass(frozen=True, slots=True)
class FileFormat:
    """How a file keeps its sound.

    ``container`` and ``subtype`` use libsndfile's names, such as ``WAV`` and ``PCM_24``.
    """

    container: str
    subtype: str

    @property
    def bits(self) -> int | None:
        """Bits a sample of a fixed-point format, else None."""
        return _BITS.get(self.subtype)

    @property
    def is_fixed_point(self) -> bool:
        """Whether levels above full scale are lost on writing."""
        return self.subtype not in ("FLOAT", "DOUBLE")

    @property
    def reads_in_place(self) -> bool:
        """Whether any frame can be read at once, without decoding what is before it."""
        return self.container in _IN_PLACE_CONTAINERS and self.subtype in _IN_PLACE_SUBTYPES

    @property
    def has_tracks(self) -> bool:
        """Whether it is a container of tracks, such as a video."""
        return self.container in _IN_CONTAINERS

    @property
    def is_lossy(self) -> bool:
        """Whether writing it changes every sample a little."""
        return self.bits is None and self.subtype not in ("FLOAT", "DOUBLE")

    def can_be_written(self) -> bool:
        """Whether this program writes such files; of tracks only, as libsndfile tells of its own."""
        return self.subtype in _IN_CONTAINERS.get(self.container, ())

    @property
    def name(self) -> str:
        """What a person calls the sample format: ``24 bit``, ``32 bit float``, ``Vorbis``."""
        bits = self.bits
        known = _NAMES | _OF_WHOLE_BLOCKS
        return f"{bits} bit" if bits else known.get(self.subtype, self.subtype)


def container_for(path: Path, source: FileFormat | None) -> str | None:
    """Return the container that a file name asks for, or None if its ending says nothing known.

    A source of the same family keeps its variant, so a ``.wav`` made from RF64 stays RF64.
    """
    container = _CONTAINER_OF_SUFFIX.get(path.suffix.lower())
    if container == "WAV" and source and source.container in ("WAV", "WAVEX", "RF64"):
        return source.container
    return container


def change_of_form(source: FileFormat, written: FileFormat) -> str:
    """Return the sentence that says why a file put back in place has another form, or nothing if it has the same."""
    codec = _OF_WHOLE_BLOCKS.get(source.subtype)
    if codec is None or written.subtype == source.subtype:
        return ""
    return f"It is {written.name} now: {codec} cannot hold an exact length."


def default_subtype(container: str, source: FileFormat, suffix: str) -> str:
    """Return the sample format for ``container`` that keeps the source's depth where the container can.

    The ending decides between the two codecs of an Ogg file.
    """
    bits = source.bits
    match container:
        case "OGG":
            return "OPUS" if suffix == ".opus" or source.subtype == "OPUS" else "VORBIS"
        case "MP3":
            return "MPEG_LAYER_III"
        case "MATROSKA" | "WEBM" | "MP4" | "MOV":
            return _track_subtype(container, source)
        case "FLAC":
            if bits is None:
                return "PCM_24"
            return {8: "PCM_S8", 16: "PCM_16"}.get(bits, "PCM_24")
        case "CAF" if source.subtype.startswith("ALAC"):
            return source.subtype
        case "WAV" | "WAVEX" | "RF64" | "W64" | "AIFF" | "CAF":
            if source.subtype in _IN_PLACE_SUBTYPES:
                if bits == 8:
                    return "PCM_U8" if container in ("WAV", "WAVEX", "RF64", "W64") else "PCM_S8"
                return source.subtype
            if source.subtype in _OF_WHOLE_BLOCKS:
                return "PCM_16"
            # A lossy source has no depth of its own: float loses nothing of what was decoded.
            return {16: "PCM_16", 20: "PCM_24", 24: "PCM_24", 32: "PCM_32"}.get(bits or 0, "FLOAT")
        case _:
            return source.subtype


def _track_subtype(container: str, source: FileFormat) -> str:
    """Return the source's own where the container takes it, else the first it takes that keeps what the source has."""
    taken = _IN_CONTAINERS[container]
    if source.subtype in taken:
        return source.subtype
    bits = source.bits
    kept = [name for name in taken if _BITS.get(name) == (16 if bits is not None and bits <= 16 else 24)]
    return kept[0] if kept else taken[0]
