"""Saving a version as a file: written beside its target, made safe on the disk, then put in place in one step."""

from __future__ import annotations

import errno
import os
import shutil
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt
import soundfile

from umbrick.core.errors import CancelledError, FileError, ParameterError
from umbrick.core.sound import metadata
from umbrick.core.sound.dither import TriangularDither
from umbrick.core.sound.formats import WAV_LIMIT_BYTES, FileFormat, container_for, default_subtype
from umbrick.core.sound.source import Source
from umbrick.core.sound.whole_file import explained
from umbrick.core.units import db_to_amplitude, format_count

_BLOCK_FRAMES = 65536
"""Frames written at once. Not more: libsndfile's Vorbis encoder overflows the stack on minutes at a time."""

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
    come along, or is empty; ``kept`` is where the replaced file is now."""

    path: Path
    format: FileFormat
    over: int
    note: str = ""
    kept: Path | None = None


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
            "Use .wav, .w64, .aiff, .caf, .flac, .ogg, .opus or .mp3.",
        )
    chosen = subtype or default_subtype(container, source, path.suffix.lower())
    if not soundfile.check_format(container, chosen):
        raise ParameterError(f"A {container} file cannot hold {FileFormat(container, chosen).name} samples.")
    return FileFormat(container, chosen)


def save(
    version: Source,
    path: Path,
    form: FileFormat,
    *,
    origin: Path | None = None,
    origin_format: FileFormat | None = None,
    gain_db: float = 0.0,
    overwrite: bool = False,
    keep_as: Path | None = None,
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> Saved:
    """Write a version to a file.

    The sound is written to a hidden file in the target's folder, given the source's tags and chunks, forced to the
    disk, and only then renamed: at every moment the target is either whole and old, or whole and new.

    Parameters
    ----------
    version : Source
        Version or any other source of frames.
    path : Path
        The target.
    form : FileFormat
        What to write; fixed point is dithered when the source has more bits or the level was changed.
    origin : Path, optional
        The file the version was made from: its tags and chunks are carried over.
    origin_format : FileFormat, optional
        Its format.
    gain_db : float
        Level change on the way, in dB.
    overwrite : bool
        Whether an existing target may be replaced.
    keep_as : Path, optional
        Where the replaced target is kept: a name that must be free, in the same file system.

    Raises
    ------
    FileError
        If the target exists and may not be replaced, or cannot be written; nothing has changed then.
    ParameterError
        If the format cannot hold such sound.
    CancelledError
        If ``is_cancelled`` says so; nothing has changed then.
    """
    if path.exists() and not overwrite:
        raise FileError(
            f"{path.name} exists already.", "It was not touched; choose another name, or say to replace it."
        )
    if keep_as is not None and keep_as.exists():
        raise FileError(f"{keep_as.name} exists already, so the old file cannot be kept under that name.")
    form = _fitting(form, version)
    part: Path | None = None
    try:
        handle, name = tempfile.mkstemp(prefix=f".{path.name}.", suffix=".part" + path.suffix, dir=path.parent)
        os.close(handle)
        part = Path(name)
        over = _write(version, part, form, origin_format, db_to_amplitude(gain_db), progress, is_cancelled)
        note = metadata.carry_over(origin, part) if origin is not None else ""
        if path.exists():
            metadata.copy_permissions(path, part)
        else:
            part.chmod(0o666 & ~_umask())
        _sync(part)
        if path.exists() and not overwrite:
            raise FileError(f"{path.name} has appeared meanwhile.", "It was not touched; choose another name.")
        if keep_as is not None and path.exists():
            _keep(path, keep_as)
        os.replace(part, path)
        _sync(path.parent)
    except OSError as error:
        raise FileError(*explained(error, path)) from error
    except soundfile.LibsndfileError as error:
        raise FileError(*_explain_library(error, path)) from error
    finally:
        if part is not None:
            part.unlink(missing_ok=True)
    return Saved(path, form, over, note, keep_as)


def name_for_kept(path: Path) -> Path:
    """Return a free name beside a file for keeping it when it is replaced."""
    number = 1
    while True:
        tail = ".original" if number == 1 else f".original-{number}"
        kept = path.with_name(f"{path.stem}{tail}{path.suffix}")
        if not kept.exists():
            return kept
        number += 1


def _fitting(form: FileFormat, version: Source) -> FileFormat:
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
    version: Source,
    path: Path,
    form: FileFormat,
    origin_format: FileFormat | None,
    gain: float,
    progress: Callable[[float], None],
    is_cancelled: Callable[[], bool],
) -> int:
    bits = form.bits
    origin_bits = origin_format.bits if origin_format else None
    deeper = origin_bits is None or (bits is not None and origin_bits > bits)
    dither = TriangularDither(bits, version.channels) if bits is not None and (deeper or gain != 1.0) else None
    step = 2.0 ** (1 - bits) if bits is not None else 0.0
    over = 0
    with soundfile.SoundFile(path, "w", version.rate, version.channels, form.subtype, format=form.container) as file:
        for start in range(0, version.frames, _BLOCK_FRAMES):
            if is_cancelled():
                raise CancelledError
            stop = min(start + _BLOCK_FRAMES, version.frames)
            block = version.read_exact(start, stop)
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
            file.write(block)
            progress(stop / version.frames)
    return over


def _limited(block: npt.NDArray[np.float64], step: float) -> tuple[npt.NDArray[np.float64], int]:
    highest = 1.0 - step
    over = int(np.count_nonzero((block > highest + step / 2) | (block < -1.0 - step / 2)))
    return np.clip(block, -1.0, highest), over


def _keep(path: Path, keep_as: Path) -> None:
    """Give a file a second name, or copy it where the file system knows no second names."""
    try:
        os.link(path, keep_as)
    except OSError as error:
        if error.errno not in (errno.EPERM, errno.EOPNOTSUPP, errno.EMLINK):
            raise
        shutil.copy2(path, keep_as)
        _sync(keep_as)


def _sync(path: Path) -> None:
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def _umask() -> int:
    mask = os.umask(0o077)
    os.umask(mask)
    return mask


def _explain_library(error: soundfile.LibsndfileError, path: Path) -> tuple[str, str]:
    if error.code in (1, 2) and os.statvfs(path.parent).f_bavail == 0:
        return f"There is no room left for {path.name}.", "Nothing was changed; make room or choose another disk."
    return f"{path.name} cannot be written: {error}", "Nothing was changed."


def over_message(over: int) -> str:
    """Return the sentence that tells of samples cut off on writing."""
    return f"{format_count(over, 'sample')} passed full scale and were cut off in the file."
