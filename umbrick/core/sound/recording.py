"""A recording: a file opened for work, with all that is known about it before its sound is looked at."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import soundfile

from umbrick.core.errors import DamagedFileError, FileError, ParameterError
from umbrick.core.sound import decoded_source
from umbrick.core.sound.chunks import missing_bytes
from umbrick.core.sound.containers.track_decoder import TrackDecoder, is_cut_off
from umbrick.core.sound.containers.tracks import Track, chosen, container_of, tracks_of
from umbrick.core.sound.content import Content
from umbrick.core.sound.decoded_source import DecodedSource
from umbrick.core.sound.decoder import SoundFileDecoder
from umbrick.core.sound.file_source import FileSource
from umbrick.core.sound.formats import HIGHEST_RATE, LOWEST_RATE, MOST_CHANNELS, FileFormat
from umbrick.core.sound.identity import content_key
from umbrick.core.sound.sound_file import checked_stamp, open_sound
from umbrick.core.units import format_count, format_length

_DECODED_LIMIT_BYTES = 24 * 2**30


@dataclass(eq=False)
class Recording:
    """An open file.

    ``damage`` is empty, or says in one sentence what part of the file is missing (the readable part is open).
    ``track`` is which sound track of a container it is; None for a sound file.
    """

    path: Path
    format: FileFormat
    source: FileSource | DecodedSource
    content: Content
    damage: str = ""
    track: Track | None = None
    tracks: tuple[Track, ...] = ()
    """All sound tracks of that container."""

    @property
    def name(self) -> str:
        """The file's name without its ending."""
        return self.path.stem

    def damage_found(self) -> str:
        """Return what reading has shown to be missing or not a number so far, in one sentence; empty if nothing.

        Complete once the whole source has been read in order.
        """
        if self.damage:
            return self.damage
        source = self.source
        if isinstance(source, DecodedSource) and source.missing_frames:
            came = source.promised_frames - source.missing_frames
            return _ends_early(self.path.name, came, source.promised_frames, source.rate)
        if source.non_finite:
            return (
                f"{self.path.name} holds {format_count(source.non_finite, 'sample')} that are not numbers; "
                "they are shown and played as silence."
            )
        return ""

    def refuse_damage(self) -> None:
        """Raise DamagedFileError if anything was found missing."""
        if damage := self.damage_found():
            raise DamagedFileError(damage)

    def check_unchanged(self) -> None:
        """Raise FileError if another program has changed the file since it was opened."""
        if not self.source.is_unchanged():
            raise FileError(
                f"{self.path.name} was changed or removed by another program since it was opened.",
                "Nothing was written; open it again.",
            )

    def moved_to(self, path: Path) -> None:
        """Take note that the open file now has another name (another file has taken its old one)."""
        self.source.path = path
        self.path = path

    def close(self) -> None:
        """Let go of the file."""
        self.source.close()
        self.content.close()


def open_recording(path: Path, cache_folder: Path, track: int | None = None) -> Recording:
    """Open a sound file of any supported format, or a sound track of a video, judged by contents and not by name.

    Parameters
    ----------
    path : Path
        The file.
    cache_folder : Path
        Where compressed files are decoded to.
    track : int, optional
        Which sound track of a container, from 0; by default the one that is played.

    Raises
    ------
    FileError
        If the file is missing, unreadable, empty, not sound, or beyond the rates and channels that can be worked on.
    ParameterError
        If there is no such track.
    """
    size = checked_stamp(path).size
    if size == 0:
        raise FileError(f"{path.name} is empty.")
    try:
        key = content_key(path)
        if (container := container_of(path)) is not None:
            return _open_track(path, container, track, key, cache_folder)
        with open_sound(path) as info:
            form, rate, channels, frames = (
                FileFormat(info.format, info.subtype),
                info.samplerate,
                info.channels,
                info.frames,
            )
    except PermissionError as error:
        raise FileError(f"{path.name} may not be read.", "Ask for permission to read it, or copy it.") from error
    except OSError as error:
        raise FileError(f"{path.name} cannot be read: {error.strerror}.") from error
    except (soundfile.LibsndfileError, RuntimeError) as error:
        promised, missing = missing_bytes(path)
        if missing:
            raise FileError(
                f"{path.name} is cut off: {100 * missing / promised:.0f} % of its sound is missing, and without its "
                "end the rest cannot be read.",
                "The file was not touched.",
            ) from error
        raise FileError(
            f"{path.name} is not a sound file that Umbrick can read.",
            "It reads WAV, RF64, W64, AIFF, CAF, FLAC, Ogg Vorbis, Opus, MP3, and the sound of Matroska, WebM, MP4 and "
            "MOV.",
        ) from error
    if track:
        raise ParameterError(f"{path.name} is a sound file: it has only track 0.")
    if frames <= 0:
        raise FileError(f"{path.name} holds no sound: its header is there, but not a single sample.")
    _check_form(path, rate, channels)
    if form.reads_in_place:
        return Recording(path, form, FileSource(path, key), Content(path), _truncation(path, frames, rate))
    source = DecodedSource(SoundFileDecoder(path), _cache_file(cache_folder, key), key)
    damage = _ends_early(path.name, source.frames, source.promised_frames, rate) if source.is_cut_off else ""
    return Recording(path, form, source, Content(path), damage)


def _open_track(path: Path, container: str, number: int | None, key: str, cache_folder: Path) -> Recording:
    tracks = tracks_of(path, container)
    track = chosen(tracks, number, path)
    _check_form(path, track.rate, track.channels)
    own = f"{key}-{track.index}"
    source = DecodedSource(TrackDecoder(path, track), _cache_file(cache_folder, own), own)
    lost = is_cut_off(path, track)
    damage = f"{path.name} ends after {lost}; the rest is missing." if lost else ""
    if track.frames is not None and source.frames < track.frames - track.rate:
        damage = _ends_early(path.name, source.frames, track.frames, track.rate)
    return Recording(path, track.format, source, Content(path), damage, track, tuple(tracks))


def _cache_file(cache_folder: Path, key: str) -> Path:
    folder = cache_folder / "decoded"
    decoded_source.prune(folder, _DECODED_LIMIT_BYTES)
    return folder / f"{key}.f32"


def _check_form(path: Path, rate: int, channels: int) -> None:
    if not LOWEST_RATE <= rate <= HIGHEST_RATE:
        raise FileError(
            f"{path.name} has a rate of {rate} Hz; Umbrick works at {LOWEST_RATE} Hz to {HIGHEST_RATE / 1e6:g} MHz.",
            "Its header may be damaged; the file was not touched.",
        )
    if channels > MOST_CHANNELS:
        raise FileError(
            f"{path.name} has {channels} channels; Umbrick works on up to {MOST_CHANNELS}.", "The file was not touched."
        )


def _truncation(path: Path, frames: int, rate: int) -> str:
    promised, missing = missing_bytes(path)
    if not missing:
        return ""
    promised_frames = round(frames * promised / max(1, promised - missing))
    return _ends_early(path.name, frames, promised_frames, rate)


def _ends_early(name: str, frames: int, promised: int, rate: int) -> str:
    return f"{name} ends after {format_length(frames, rate)} of {format_length(promised, rate)}; the rest is missing."
