"""Loading a recording with what the casebook has of it: the part of opening that runs in the background."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from umbrick.casebook.casebook import Casebook
from umbrick.casebook.errors import DamagedCasebookError
from umbrick.casebook.locating import Match, compare, found_beside
from umbrick.casebook.recovery import lift_off_broken
from umbrick.casebook.shelf import Reference, Shelf
from umbrick.casebook.surveys import Surveyed
from umbrick.core.errors import FileError
from umbrick.core.paths import cache_folder
from umbrick.core.sound.decoded_source import DecodedSource, prune
from umbrick.core.sound.kept_originals import kept_of
from umbrick.core.sound.pyramid import Pyramid
from umbrick.core.sound.recording import Recording, open_recording
from umbrick.core.sound.sound_file import real_path
from umbrick.core.timeline.history import History

_PICTURES_LIMIT_BYTES = 2 * 2**30


@dataclass(frozen=True)
class Loaded:
    """A recording, ready to be put on the bench; ``lost`` says what could not be read of its work, or is empty."""

    recording: Recording
    pyramid: Pyramid
    shelf: Shelf
    reference: Reference
    history: History
    surveyed: Surveyed | None
    closed: tuple[str, frozenset[str]]
    """The version that was measured again last, and which findings mends of others made go away in it."""
    lost: str = ""


@dataclass(frozen=True)
class Astray:
    """A recording whose file is missing or has changed: its work is safe, but there is no sound to show it on."""

    shelf: Shelf
    reference: Reference
    match: Match


def load_file(path: Path, casebook: Casebook, track: int | None = None) -> Loaded | Astray:
    """Load a recording that the person opens, with the work that the casebook has of it, if any.

    ``track`` is which sound track of a container; by default the one opened before, or the one that is played.

    Raises
    ------
    FileError
        If it cannot be read, or the casebook cannot be written.
    """
    path = real_path(path)
    if shelf := casebook.shelf_of(path, track):
        shelf.write_on_bench(True)
        return load_shelf(shelf)
    recording = open_recording(path, cache_folder(), track)
    try:
        return _loaded(recording, casebook.add(recording))
    except BaseException:
        recording.close()
        raise


def load_shelf(shelf: Shelf, trusting: bool = False) -> Loaded | Astray:
    """Load a recording of a casebook.

    ``trusting`` takes the file although its content has changed, as long as its form is the same.

    Raises
    ------
    FileError
        If its file is there but cannot be read.
    """
    reference = shelf.reference()
    match = compare(reference.path, reference.bytes, reference.modified_ns, reference.sha256)
    if match is Match.MISSING and (beside := found_beside(reference.path, shelf.store.path.parent)):
        match = compare(beside, reference.bytes, reference.modified_ns, reference.sha256)
        if match is Match.SAME:
            shelf.write_place(beside, beside, is_own=False)
            reference = shelf.reference()
    if match is not Match.SAME and (kept := _kept_elsewhere(reference)):
        # The program ended between putting mended sound in the file's place and noting where the old one is now.
        shelf.write_place(kept, reference.home, reference.is_own)
        reference, match = shelf.reference(), Match.SAME
    if match is not Match.SAME and not (trusting and match is Match.CHANGED):
        return Astray(shelf, reference, match)
    recording = open_recording(reference.path, cache_folder(), reference.track)
    source = recording.source
    if (source.rate, source.channels, source.frames) != (reference.rate, reference.channels, reference.frames):
        recording.close()
        if match is Match.SAME:
            raise DamagedCasebookError(f"The casebook names another length or form than {reference.path.name} has.")
        return Astray(shelf, reference, Match.CHANGED)
    try:
        shelf.write_stamp(reference.path)
        return _loaded(recording, shelf)
    except BaseException:
        recording.close()
        raise


def _kept_elsewhere(reference: Reference) -> Path | None:
    """Return the old file that was kept when another took the recording's place, if that is what has happened."""
    for kept in kept_of(reference.path):
        if compare(kept.path, reference.bytes, reference.modified_ns, reference.sha256) is Match.SAME:
            return kept.path
    return None


def relink(shelf: Shelf, path: Path) -> None:
    """Take another file for a recording's, if its content is what the casebook remembers.

    Raises
    ------
    FileError
        If it is not, or cannot be read.
    """
    reference = shelf.reference()
    path = path.absolute()
    match = compare(path, reference.bytes, reference.modified_ns, reference.sha256)
    if match is not Match.SAME:
        raise FileError(
            f"{path.name} is not the recording that the mends were made on.",
            "Its content is another; nothing was changed.",
        )
    shelf.relink(path)


def picture_path(recording: Recording) -> Path:
    """Return where a recording's pyramid is kept."""
    return cache_folder() / "pyramids" / f"{recording.source.key}.npy"


def save_picture(recording: Recording, pyramid: Pyramid) -> None:
    """Keep a recording's pyramid for the next time, unless part of the recording is missing."""
    source = recording.source
    is_whole = not (isinstance(source, DecodedSource) and source.missing_frames) and not recording.damage_found()
    if not is_whole:
        return
    path = picture_path(recording)
    try:
        prune(path.parent, _PICTURES_LIMIT_BYTES)
        pyramid.save(path)
    except OSError:
        return  # a cache that cannot be kept is only made again next time


def _loaded(recording: Recording, shelf: Shelf) -> Loaded:
    source = recording.source
    pyramid = Pyramid.load(picture_path(recording), source.frames, source.channels)
    restored = shelf.history(source)
    lost = [restored.lost]
    try:
        surveyed = shelf.survey(source.frames)
    except DamagedCasebookError as error:
        surveyed = None
        lost.append(f"The survey could not be read ({error}) and must be made again.")
    try:
        closed = shelf.closed()
    except DamagedCasebookError:
        closed = "", frozenset()  # it is only measured again
    if restored.lost:
        lost.append(lift_off_broken(shelf, restored.history))
    return Loaded(
        recording,
        pyramid or Pyramid(source.frames, source.channels),
        shelf,
        shelf.reference(),
        restored.history,
        surveyed,
        closed,
        " ".join(filter(None, lost)),
    )
