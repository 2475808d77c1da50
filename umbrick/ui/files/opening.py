"""Opening recordings and casebooks: the file at once, its picture in the background."""

from __future__ import annotations

import os
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import NamedTuple

from PySide6.QtCore import QObject, Signal

from umbrick.casebook.casebook import Casebook, is_casebook
from umbrick.casebook.locating import Match
from umbrick.casebook.shelf import Shelf
from umbrick.casebook.store import SUFFIX
from umbrick.core.course.tiles import Tiles
from umbrick.core.errors import UmbrickError
from umbrick.core.sound import pyramid as pyramids
from umbrick.core.sound.sound_file import real_path
from umbrick.core.timeline.provenance import provenance_shares
from umbrick.core.units import format_clock, format_count
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.notice import Choice, Notice
from umbrick.ui.files.casebooks import CHECKED_AT_ONCE_BYTES, Casebooks, opened
from umbrick.work.loading import Astray, Loaded, load_file, load_shelf, relink, save_picture
from umbrick.work.whereabouts import show_view, standing_of
from umbrick.work.work import Work

_SKETCH_COLUMNS = 1200
_SKETCHED_FRAMES = 1 << 23
"""From where on probing comes before measuring: a sketch takes as long whatever the recording's length."""
_TRACKS_OFFERED = 3
_DRAWN_AT_ONCE = max(2, (os.cpu_count() or 2) // 2)


class Ready(NamedTuple):
    """A recording to be put on the bench, and what could not be read of its work, or nothing."""

    work: Work
    lost: str


class Opening(QObject):
    """Opens files onto the bench."""

    opened = Signal(Path)
    loaded = Signal(object)
    """A recording is on the bench: its :class:`Work`."""
    progressed = Signal(float)
    """How far the picture of the current recording has come, from 0 to 1."""
    find_wanted = Signal(object, str)
    """The person wants to look for a missing file: ``relink_to(path)``, and the file's name."""

    def __init__(self, bench: Bench, casebooks: Casebooks) -> None:
        super().__init__(bench)
        self._bench = bench
        self._casebooks = casebooks
        self._pictures: dict[int, Job] = {}
        self._waiting: list[Work] = []
        """Recordings whose pictures are to be drawn when there is a processor for it."""
        self._loading: dict[Path, list[Callable[[], None]]] = {}
        """What is to follow, by the files that are being loaded: one that is asked for again is not loaded twice."""

    def open(self, paths: list[Path], then: Callable[[], None] = lambda: None) -> None:
        """Open files one after another; ``then`` follows when all have opened or failed."""
        if not paths:
            then()
            return
        path, rest = real_path(paths[0]), paths[1:]

        def go_on() -> None:
            self.open(rest, then)

        if work := self._bench.find_open(path):
            self._bench.show_work(work)
            go_on()
        elif is_casebook(path):
            self._open_casebook(path, go_on)
        else:
            self._load(path, lambda: load_file(path, self._casebooks.casebook()), go_on)

    def name_casebook(self, path: Path) -> None:
        """Write the casebook under a name, and go on in it."""
        named = path if path.suffix == SUFFIX else path.with_name(path.name + SUFFIX)
        self._casebooks.save_as(named, lambda new, then: self.open([new], then))

    def close(self, work: Work) -> None:
        """Take a recording off the bench, stopping what is being made of it; its work stays in the casebook."""
        try:
            work.shelf.write_on_bench(False)
        except UmbrickError as error:
            self._bench.failed.emit(str(error))
        self._drop(work)
        if len(work.history.edits):
            self._bench.said.emit(f"The work on {work.name} is kept; opening its file again brings it back.")

    def close_all(self) -> None:
        """Empty the bench; in the casebook everything stays as it is."""
        self._casebooks.write_views()
        for work in list(self._bench.works):
            self._drop(work)

    def _drop(self, work: Work) -> None:
        self._waiting = [one for one in self._waiting if one is not work]
        if job := self._pictures.get(id(work)):
            job.cancel()
        self._bench.remove(work)

    def _load(self, path: Path, load: Callable[[], Loaded | Astray], then: Callable[[], None]) -> None:
        """Load what belongs in a file; if that is under way already, go to it when it is there."""
        if path in self._loading:
            self._loading[path].append(lambda: self._bench.show_work(self._bench.find_open(path) or self._bench.work))
            self._loading[path].append(then)
            return
        self._loading[path] = [then]

        def ended() -> None:
            for follow in self._loading.pop(path):
                follow()

        self._bench.jobs.start(
            f"opening {path.name}", lambda _: prepared(load(), self._bench.tiles), self._loaded, ended=ended
        )

    def _open_casebook(self, path: Path, then: Callable[[], None]) -> None:
        path = path.absolute()
        if self._casebooks.path == path:
            then()
            return

        def failed(reason: str) -> None:
            self._bench.failed.emit(reason)
            then()

        self._bench.jobs.start(
            f"opening {path.name}", lambda _: opened(path), partial(self._shelves, then=then), failed=failed
        )

    def _shelves(self, found: tuple[Casebook, str], then: Callable[[], None]) -> None:
        casebook, lost = found
        self.close_all()
        self._casebooks.use(casebook)
        if lost:
            self._bench.failed.emit(lost)
            self._bench.noticed.emit(Notice(lost))
        if self._casebooks.name:
            self.opened.emit(casebook.path)
        try:
            readable = list(casebook.readable())
            shelves = [(reference.home, shelf) for shelf, reference in readable if reference.is_on_bench]
            if unread := len(casebook.shelves()) - len(readable):
                self._bench.failed.emit(f"{format_count(unread, 'recording')} of the casebook cannot be read.")
        except UmbrickError as error:
            self._bench.failed.emit(str(error))
            shelves = []
        self._check_behind(casebook)

        def next_one() -> None:
            if shelves:
                path, shelf = shelves.pop(0)
                self._load(path, lambda: load_shelf(shelf), next_one)
            else:
                self._bench.show_work(self._bench.works[0] if self._bench.works else None)
                then()

        next_one()

    def _check_behind(self, casebook: Casebook) -> None:
        """Check a large casebook while it is worked with; small ones have been checked before."""
        if casebook.path.stat().st_size < CHECKED_AT_ONCE_BYTES:
            return

        def told(complaints: list[str]) -> None:
            if complaints:
                text = (
                    f"The casebook {casebook.path.name} is damaged ({complaints[0]}). Save it under another name soon."
                )
                self._bench.noticed.emit(Notice(text))

        self._bench.jobs.start("checking the casebook", lambda _: casebook.store.complaints(), told)

    def _loaded(self, loaded: Ready | Astray) -> None:
        if isinstance(loaded, Astray):
            self._tell_astray(loaded)
            return
        work, lost = loaded
        own = work.recording.track
        if (held := self._bench.find_open(work.home, own.number if own else None)) is not None:
            work.recording.close()
            self._bench.show_work(held)
            return
        recording, pyramid = work.recording, work.pyramid
        self._bench.add(work)
        self.opened.emit(work.home)
        if lost:
            self._bench.failed.emit(lost)
            self._bench.noticed.emit(Notice(f"{work.home.name}: {lost}"))
        elif recording.damage:
            self._bench.failed.emit(f"{recording.damage} The readable part is open.")
        self._offer_tracks(work)
        self.loaded.emit(work)
        if pyramid.is_complete:
            self._casebooks.learn_identity(work)
            self._bench.measure_peak(work)
            return

        self._waiting.append(work)
        self._draw_next()

    def _draw_next(self) -> None:
        """Have pictures drawn, the current recording's first: not more at once than there are processors for it."""
        while self._waiting and len(self._pictures) < _DRAWN_AT_ONCE:
            current = self._bench.work
            work = current if current is not None and current in self._waiting else self._waiting[0]
            self._waiting.remove(work)
            self._draw(work)

    def _draw(self, work: Work) -> None:
        recording, pyramid = work.recording, work.pyramid

        def draw(job: Job) -> None:
            if work.frames >= _SKETCHED_FRAMES:
                work.sketch = pyramids.sketch(recording.source, _SKETCH_COLUMNS)
                job.came.emit(None)
            pyramids.build(pyramid, recording.source, job.report, job.is_cancelled)
            save_picture(recording, pyramid)

        def ended() -> None:
            self._pictures.pop(id(work), None)
            self._draw_next()

        job = self._bench.jobs.start(
            f"drawing {recording.path.name}",
            draw,
            lambda _: self._drawn(work),
            lambda _: self._grew(work, 0.0),
            ended=ended,
        )
        self._pictures[id(work)] = job
        job.progressed.connect(lambda share: self._grew(work, share))

    def open_track(self, path: Path, number: int) -> None:
        """Open a sound track of a container as a recording of its own."""
        if work := self._bench.find_open(path, number):
            self._bench.show_work(work)
            return
        name = path.with_name(f"{path.name}, track {number}")
        self._load(name, lambda: load_file(path, self._casebooks.casebook(), number), lambda: None)

    def _offer_tracks(self, work: Work) -> None:
        """Say that a video has other sound tracks, and offer to open them."""
        track, tracks = work.recording.track, work.recording.tracks
        others = [one for one in tracks if track is not None and one.number != track.number]
        if track is None or any(self._bench.find_open(work.home, one.number) for one in others) or not others:
            return
        choices = tuple(
            Choice(f"Open {one.name}", partial(self.open_track, work.home, one.number))
            for one in others[:_TRACKS_OFFERED]
        )
        told = f"{work.home.name} has {format_count(len(tracks), 'sound track')}; {track.name} is open."
        self._bench.noticed.emit(Notice(told, choices))

    def _tell_astray(self, astray: Astray) -> None:
        """Say that a recording's file is missing or another, and what can be done."""
        shelf, reference = astray.shelf, astray.reference
        name = reference.path.name

        def relink_to(path: Path) -> None:
            def load() -> Loaded | Astray:
                relink(shelf, path)
                return load_shelf(shelf)

            self._load(reference.home, load, lambda: None)

        find = Choice("Find it…", lambda: self.find_wanted.emit(relink_to, name))
        mends = format_count(reference.now, "step")
        if astray.match is Match.MISSING:
            text = f"{name} is not where it was ({reference.path.parent}). Its work ({mends}) is safe in the casebook."
            self._bench.noticed.emit(Notice(text, (find,)))
            return
        trust = Choice("Open it all the same", lambda: self._trust(shelf, reference.home))
        text = f"{name} has changed since its mends ({mends}) were made: they may not fit it any more."
        self._bench.noticed.emit(Notice(text, (Choice("Find the old file…", find.do), trust)))

    def _trust(self, shelf: Shelf, home: Path) -> None:
        def load() -> Loaded:
            loaded = load_shelf(shelf, trusting=True)
            if isinstance(loaded, Astray):
                raise UmbrickError(
                    f"{loaded.reference.path.name} has another length or form now: the mends cannot be shown on it.",
                    "They stay in the casebook.",
                )
            return loaded

        self._load(home, load, lambda: None)

    def _grew(self, work: Work, share: float) -> None:
        if work is self._bench.work:
            self._bench.learned.emit()
            self.progressed.emit(share)

    def _drawn(self, work: Work) -> None:
        # Reading all of a file for its name comes after reading it for what is seen.
        self._casebooks.learn_identity(work)
        self._grew(work, 1.0)
        self._bench.measure_peak(work)
        if damage := work.recording.damage_found():
            self._bench.failed.emit(damage)
        elif work is not self._bench.work:
            self._bench.said.emit(f"{format_count(len(self._bench.works), 'recording')} are open.")
        elif not work.history.now:
            length = format_clock(work.frames, work.rate, 1)
            self._bench.said.emit(f"{work.home.name} is open, {length} long.")


def prepared(loaded: Loaded | Astray, tiles: Tiles) -> Ready | Astray:
    """Put together what the bench needs of a recording; what takes long with thousands of mends is worked out here."""
    if isinstance(loaded, Astray):
        return loaded
    work = Work(loaded.recording, loaded.pyramid, loaded.shelf, loaded.history, tiles)
    reference = loaded.reference
    work.is_own = reference.is_own
    if reference.home != reference.path:
        work.home, work.home_stamp = reference.home, reference.home_stamp
    work.saved = reference.saved or work.saved
    work.history.begin_with(standing_of(reference.view, reference.sensitivity))
    if loaded.closed[0]:
        work.closed = dict([loaded.closed])
    if loaded.surveyed:
        work.survey, work.survey_count, work.found = loaded.surveyed
    show_view(work, reference.view)
    work.listing()
    provenance_shares(work.version, work.history.original)
    return Ready(work, loaded.lost)
