"""Listening: what the engine plays follows what is chosen on the bench."""

from __future__ import annotations

from PySide6.QtCore import QObject, QTimer, Signal

from umbrick.core.measure.headroom import fitting_gain_db
from umbrick.core.measure.matching import matching_trims_db
from umbrick.core.timeline.version import Version
from umbrick.playback.engine import Engine, Hearing, Programme
from umbrick.playback.meter import Reading
from umbrick.playback.output import Output
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.mending import Mending
from umbrick.ui.bench.work import Work

_TICK_MS = 30
_LEAD_SECONDS = 0.5
_MATCH_SECONDS = 15.0


class Listening(QObject):
    """Plays before, after or the residue of the current recording, with the chosen candidate in it."""

    changed = Signal()
    """Playing, loop, what is heard, or the output has changed."""
    ticked = Signal(int, object)
    """While playing: the frame that is heard, and the meters' :class:`Reading`."""
    _fault = Signal(str)

    def __init__(self, bench: Bench, mending: Mending, output: Output) -> None:
        super().__init__(bench)
        self._bench = bench
        self._mending = mending
        self._fault.connect(self._faulted)
        self.engine = Engine(output, on_fault=self._fault.emit)
        self.hearing = Hearing.AFTER
        self.loops = False
        self.matches_loudness = False
        self._trims: tuple[tuple[Hearing, float], ...] = ()
        self._matching: Job | None = None
        self._matched_for: tuple[Version, Version] | None = None
        self._timer = QTimer(self, interval=_TICK_MS)
        self._timer.timeout.connect(self._tick)
        bench.recording_changed.connect(self._recording_changed)
        bench.version_changed.connect(self.reload)
        bench.place_changed.connect(self._follow_loop)
        mending.offers_changed.connect(self.reload)

    @property
    def is_playing(self) -> bool:
        """Whether sound is coming."""
        return self.engine.is_playing

    @property
    def reading(self) -> Reading:
        """The meters."""
        return self.engine.reading

    def toggle(self) -> None:
        """Play from the cursor (or round the selection or finding), or stop."""
        if self.engine.is_playing:
            self.stop()
        else:
            self.play()

    def play(self) -> None:
        """Play: the loop if it is on, else from the cursor."""
        work = self._bench.work
        if work is None:
            return
        loop = self._loop()
        start = loop[0] if loop else (work.selection[0] if work.selection else work.cursor)
        if start >= work.frames:
            start = 0
        self.reload()
        self.engine.play(start, loop)
        self._timer.start()
        self.changed.emit()

    def stop(self) -> None:
        """Stop."""
        self.engine.stop()
        self.changed.emit()

    def set_loops(self, loops: bool) -> None:
        """Play the selection, or the surroundings of the finding in focus, round and round; or not."""
        self.loops = loops
        self.engine.set_loop(self._loop())
        self.changed.emit()

    def hear(self, hearing: Hearing) -> None:
        """Switch what is heard, at the same place."""
        self.hearing = hearing
        self.engine.hear(hearing)
        self.changed.emit()

    def flip(self) -> None:
        """Switch between before and after."""
        self.hear(Hearing.BEFORE if self.hearing is Hearing.AFTER else Hearing.AFTER)

    def compare(self) -> None:
        """Switch between before and after, at matched loudness from now on."""
        if not self.matches_loudness:
            self.set_matches_loudness(True)
        self.flip()

    def set_matches_loudness(self, matches: bool) -> None:
        """Play before and after equally loud, or as they are."""
        self.matches_loudness = matches
        self._trims, self._matched_for = (), None
        self.reload()
        self.changed.emit()

    def reload(self) -> None:
        """Give the engine the versions as they are now."""
        work = self._bench.work
        if work is None:
            return
        offer = self._mending.offer_in(work)
        after = offer.mended.version if offer else work.version
        if self.matches_loudness:
            self._match(work, after)
        peak = max(work.peak, offer.mended.peak) if offer else work.peak
        gain_db = fitting_gain_db(peak)
        self.engine.load(Programme(work.history.original, after, self.hearing, self._loop(), gain_db, self._trims))

    def close(self) -> None:
        """Stop for good."""
        self._timer.stop()
        self.engine.close()

    def _loop(self) -> tuple[int, int] | None:
        work = self._bench.work
        if work is None or not self.loops:
            return None
        if work.selection:
            return work.selection
        if work.focus:
            lead = round(_LEAD_SECONDS * work.rate)
            return max(0, work.focus.start - lead), min(work.frames, work.focus.stop + lead)
        return 0, work.frames

    def _follow_loop(self) -> None:
        if self.loops:
            self.engine.set_loop(self._loop())

    def _recording_changed(self) -> None:
        self.engine.stop()
        self._trims, self._matched_for = (), None
        self.reload()
        self.changed.emit()

    def _match(self, work: Work, after: Version) -> None:
        """Measure how loud before and after are around what is played, unless that has just been done."""
        before = work.history.original
        if (before, after) == self._matched_for:
            return
        self._matched_for = before, after
        reach = round(_MATCH_SECONDS * work.rate)
        start, stop = self._loop() or (max(0, work.cursor - reach), min(work.frames, work.cursor + reach))
        if self._matching:
            self._matching.cancel()
        self._matching = self._bench.jobs.start(
            "matching loudness", lambda _: matching_trims_db(before, after, start, stop), self._matched
        )
        self._matching.failed.connect(self._bench.failed)

    def _matched(self, trims: tuple[float, float]) -> None:
        if self.matches_loudness:
            self._trims = ((Hearing.BEFORE, trims[0]), (Hearing.AFTER, trims[1]))
            self.reload()

    def _tick(self) -> None:
        self.ticked.emit(self.engine.position, self.engine.reading)
        if not self.engine.is_playing:
            self._timer.stop()
            self.changed.emit()

    def _faulted(self, message: str) -> None:
        self._bench.failed.emit(message)
        self.changed.emit()
