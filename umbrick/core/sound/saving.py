"""Saving a version as a file: written beside its target, made safe on the disk, then put in place in one step."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt
import soundfile

from umbrick.core.errors import FileError, ParameterError
from umbrick.core.sound import metadata
from umbrick.core.sound.coding_history import coding_line
from umbrick.core.sound.containers.copying import ContainerEncoder
from umbrick.core.sound.containers.tracks import Track
from umbrick.core.sound.conversion import ChannelChoice, Outgoing
from umbrick.core.sound.cues import Cue
from umbrick.core.sound.dither import TriangularDither
from umbrick.core.sound.encoder import MOST_FRAMES, Encoder, SoundFileEncoder
from umbrick.core.sound.formats import WAV_LIMIT_BYTES, FileFormat, container_for, default_subtype
from umbrick.core.sound.kept_originals import keep
from umbrick.core.sound.part_file import PartFile, real_target, sweep
from umbrick.core.sound.source import Source
from umbrick.core.sound.whole_file import explained, make_safe
from umbrick.core.units import db_to_amplitude, format_count, format_length

_OPUS_RATES = (8000, 12000, 16000, 24000, 48000)
_BYTES = {
    "PCM_U8": 1,
    "PCM_S8": 1,
    "PCM_16": 2,
    "PCM_24": 3,
    "PCM_32": 4,
    "FLOAT": 4,
    "DOUBLE": 8,
    "ULAW": 1,
    "ALAW": 1,
}


@dataclass(frozen=True)
class Saved:
    """What was written. ``over`` counts samples that passed full scale and were cut off; ``note`` says what did not
    come along, or is empty; ``kept`` is where the replaced file is now; ``gain_db`` how the level was changed;
    ``coding_line`` what its coding history says of it, where it has one."""

    path: Path
    format: FileFormat
    over: int
    note: str = ""
    kept: Path | None = None
    gain_db: float = 0.0
    coding_line: str = ""


def format_for(path: Path, source: FileFormat, subtype: str | None = None) -> FileFormat:
    """Return the format a file of this name gets: the source's own where the ending allows.

    Raises
    ------
    ParameterError
        If the ending is unknown, or the container cannot hold ``subtype``.
    """
    container = container_for(path, source)
    if container is None:
        raise ParameterError(
            f"“{path.suffix or path.name}” is not an ending that Umbrick can write.",
            "Use .wav, .w64, .aiff, .caf, .flac, .ogg, .opus, .mp3, .mkv, .webm, .mp4 or .mov.",
        )
    chosen = subtype or default_subtype(container, source, path.suffix.lower())
    form = FileFormat(container, _depth_in_tracks(container, chosen))
    if not (form.can_be_written() if form.has_tracks else soundfile.check_format(container, chosen)):
        raise ParameterError(f"A {container} file cannot hold {form.name} samples.")
    return form


def _depth_in_tracks(container: str, subtype: str) -> str:
    """Return what holds samples of a depth without loss where containers of tracks take no plain ones."""
    if FileFormat(container, subtype).can_be_written():
        return subtype
    return {"MP4": {"PCM_16": "ALAC_16", "PCM_24": "ALAC_24"}}.get(container, {}).get(subtype, subtype)


@dataclass(frozen=True)
class Papers:
    """What goes into a file beside its sound.

    ``origin`` is the file whose tags and chunks come along. ``cues`` replace its cue points; None leaves them.
    ``done`` says in a few words what was done, for the coding history; ``later_by`` is how many frames of the origin
    were left out at its beginning. ``track`` is the track of the origin that the sound replaces in a copy with all
    others, if it is a video; ``moved_by`` by how many frames the end of the sound comes later than it did.
    """

    origin: Path
    cues: Sequence[Cue] | None = None
    done: str = ""
    later_by: int = 0
    track: Track | None = None
    moved_by: int = 0


def save(
    version: Source,
    path: Path,
    form: FileFormat,
    *,
    rate: int | None = None,
    layout: ChannelChoice | None = None,
    papers: Papers | None = None,
    origin_format: FileFormat | None = None,
    gain_db: float = 0.0,
    made_anew: bool = False,
    overwrite: bool = False,
    keep_as: Path | None = None,
    on_kept: Callable[[], None] = lambda: None,
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> Saved:
    """Write a version to a file.

    The sound is written to a hidden file in the target's folder, given the source's tags and chunks, forced to the
    disk, and only then renamed: at every moment the target is either whole and old, or whole and new. A link is
    followed: what it leads to is replaced.

    Parameters
    ----------
    version : Source
        Version or any other source of frames.
    path : Path
        The target.
    form : FileFormat
        What to write; fixed point is dithered when the source has more bits or anything but single samples changed.
    rate : int, optional
        Frames a second to write; by default the version's own.
    layout : ChannelChoice, optional
        Which channels to write; by default all as they are.
    papers : Papers, optional
        What comes along from the file the version was made from.
    origin_format : FileFormat, optional
        That file's format.
    gain_db : float
        Level change on the way, in dB.
    made_anew : bool
        Whether every sample was made anew, so that none lies on the steps of fixed point any more.
    overwrite : bool
        Whether an existing target may be replaced.
    keep_as : Path, optional
        Where the replaced target is kept: a name that must be free.
    on_kept : callable
        Called when it is kept there, before the target is replaced.

    Raises
    ------
    FileError
        If the target exists and may not be replaced, or cannot be written; nothing has changed then.
    ParameterError
        If the format cannot hold such sound.
    CancelledError
        If ``is_cancelled`` says so; nothing has changed then.
    """
    target = real_target(path)
    if target.exists() and not overwrite:
        raise FileError(
            f"{path.name} exists already.", "It was not touched; choose another name, or say to replace it."
        )
    if keep_as is not None and os.path.lexists(keep_as):
        raise FileError(f"{keep_as.name} exists already, so the old file cannot be kept under that name.")
    outgoing = Outgoing(version, rate or version.rate, layout)
    form = _fitting(form, outgoing)
    kept: Path | None = None
    try:
        sweep(target.parent)
        with PartFile(target.parent, target.suffix) as part:
            try:
                gain = db_to_amplitude(gain_db)
                with closing(_encoder(part, form, outgoing, papers)) as encoder:
                    over = _write(outgoing, encoder, form, origin_format, gain, made_anew, progress, is_cancelled)
            except soundfile.LibsndfileError as error:
                raise FileError(*_explain_library(error, target)) from error
            line = "" if papers is None else coding_line(form, outgoing.rate, outgoing.channels, papers.done)
            note = "" if papers is None else _carried(papers, part, form, outgoing, line)
            if os.path.lexists(target) and not overwrite:
                raise FileError(f"{path.name} has appeared meanwhile.", "It was not touched; choose another name.")
            if keep_as is not None and target.exists():
                keep(target, keep_as)
                kept = keep_as
            try:
                if kept is not None:
                    on_kept()
                part.take_name(target, like=target)
            except BaseException:
                if kept is not None:
                    kept.unlink(missing_ok=True)  # the target is still what it was: one name is enough
                raise
        make_safe(target.parent)
    except OSError as error:
        raise FileError(*explained(error, path)) from error
    return Saved(path, form, over, note, kept, gain_db, line)


def _encoder(part: PartFile, form: FileFormat, outgoing: Outgoing, papers: Papers | None) -> Encoder:
    if not form.has_tracks:
        return SoundFileEncoder(part, form, outgoing.rate, outgoing.channels)
    origin, track = (papers.origin, papers.track) if papers is not None and papers.track is not None else (None, None)
    return ContainerEncoder(part.path, form, outgoing.rate, outgoing.channels, origin, track)


def _carried(papers: Papers, part: PartFile, form: FileFormat, outgoing: Outgoing, line: str) -> str:
    """Have tags and chunks come along, and return what is to be said of the copy."""
    if not form.has_tracks:
        return metadata.carry_over(papers.origin, part.path, _altering(papers, outgoing, line))
    if papers.track is None:
        return ""
    told = []
    if form.is_lossy:
        told.append(f"The sound was encoded anew once, as {form.name}; every other track is as it was.")
    if papers.moved_by:
        how = "longer" if papers.moved_by > 0 else "shorter"
        moved = format_length(abs(papers.moved_by), outgoing.source.rate)
        told.append(f"The sound is {moved} {how} than it was, and the picture is not.")
    return " ".join(told)


def _altering(papers: Papers, outgoing: Outgoing, line: str) -> metadata.Alterations:
    cues = papers.cues
    if cues is not None:
        place = outgoing.place_of
        cues = [Cue(place(c.start), place(c.start + c.length) - place(c.start), c.name, c.note) for c in cues]
    return metadata.Alterations(cues, line, outgoing.place_of(papers.later_by))


def _fitting(form: FileFormat, version: Outgoing) -> FileFormat:
    if form.container in ("WAV", "WAVEX"):
        size = version.frames * version.channels * _BYTES.get(form.subtype, 4)
        if size > WAV_LIMIT_BYTES:
            form = FileFormat("RF64", form.subtype)
    if form.subtype == "OPUS" and version.rate not in _OPUS_RATES:
        raise ParameterError(
            f"Opus cannot hold a rate of {version.rate} Hz.", "Save as FLAC or WAV, which keep the rate as it is."
        )
    if form.container == "FLAC" and version.channels > 8:
        raise ParameterError(f"FLAC holds up to 8 channels; there are {version.channels}.", "Save as WAV or CAF.")
    if form.container == "MP3" and (version.channels > 2 or version.rate > 48000):
        raise ParameterError("MP3 holds one or two channels of up to 48 kHz.", "Save as FLAC or WAV.")
    return form


def _write(
    outgoing: Outgoing,
    encoder: Encoder,
    form: FileFormat,
    origin_format: FileFormat | None,
    gain: float,
    made_anew: bool,
    progress: Callable[[float], None],
    is_cancelled: Callable[[], bool],
) -> int:
    bits = form.bits
    origin_bits = origin_format.bits if origin_format else None
    deeper = origin_bits is None or (bits is not None and origin_bits > bits)
    changed = deeper or made_anew or gain != 1.0 or not outgoing.is_exact
    dither = TriangularDither(bits, outgoing.channels) if bits is not None and changed else None
    step = 2.0 ** (1 - bits) if bits is not None else 0.0
    over = written = 0
    for whole in outgoing.blocks(is_cancelled):
        for block in np.split(whole, range(MOST_FRAMES, len(whole), MOST_FRAMES)):
            if gain != 1.0:
                block = block * gain
            if dither is not None:
                block = dither.applied(block)
            elif bits is not None:
                # The library would cut off the fraction of a step, and so shift what was rebuilt.
                block = np.round(block / step) * step
            if form.is_fixed_point:
                block, cut = _limited(block, step)
                over += cut
            encoder.write(block)
            written += len(block)
        progress(written / outgoing.frames)
    encoder.finish()
    return over


def _limited(block: npt.NDArray[np.float64], step: float) -> tuple[npt.NDArray[np.float64], int]:
    highest = 1.0 - step
    over = int(np.count_nonzero((block > highest + step / 2) | (block < -1.0 - step / 2)))
    return np.clip(block, -1.0, highest), over


def _explain_library(error: soundfile.LibsndfileError, path: Path) -> tuple[str, str]:
    if error.code in (1, 2) and os.statvfs(path.parent).f_bavail == 0:
        return f"There is no room left for {path.name}.", "Nothing was changed; make room or choose another disk."
    return f"{path.name} cannot be written: {error}", "Nothing was changed."


def over_message(over: int) -> str:
    """Return the sentence that tells of samples cut off on writing."""
    return f"{format_count(over, 'sample')} passed full scale and were cut off in the file."
