"""Copying, cutting, and putting sound elsewhere; and carrying a copy along the strips before it is dropped."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from PySide6.QtCore import QObject, Signal

from umbrick.core.errors import UmbrickError
from umbrick.core.mend.applying import Mended, as_mended
from umbrick.core.mend.cutting.fitting import best_fit, matching_start
from umbrick.core.mend.filling.graft import CROSSFADE_MS, Clip, donor_of, put_in, put_over
from umbrick.core.mend.method import Reworked, Stretch
from umbrick.core.mend.place import Place
from umbrick.core.timeline.version import Version
from umbrick.core.units import amplitude_to_db, format_db, format_length
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.trying import Trial, Trying
from umbrick.ui.hand.handwork import Handwork
from umbrick.ui.hand.selecting import Selecting, Snap
from umbrick.work.work import Work

LOWEST_DB, HIGHEST_DB = -40.0, 24.0
_SNAP_SECONDS = 0.02
_CROSSING_MS = 0.5
_AT_ONCE_FRAMES = 1 << 16
"""A longer copy is read and laid beside the window; the hand must not wait for it."""


@dataclass(frozen=True)
class Carried:
    """A copy on its way: the clip, the frame it would begin at, its level, and whether its wave is turned over."""

    clip: Clip
    start: int
    gain_db: float = 0.0
    inverted: bool = False

    @property
    def stop(self) -> int:
        """Where it would end."""
        return self.start + self.clip.frames

    @property
    def factor(self) -> float:
        """What its samples are multiplied with."""
        return float((-1.0 if self.inverted else 1.0) * 10 ** (self.gain_db / 20))


LEVEL_STEP_DB = 0.5
"""What one key makes a carried copy louder or softer by."""


class Pasting(QObject):
    """Holds what was copied, and what is being carried."""

    changed = Signal()

    def __init__(self, bench: Bench, handwork: Handwork, selecting: Selecting, trying: Trying) -> None:
        super().__init__(bench)
        self._bench = bench
        self._handwork = handwork
        self._selecting = selecting
        self._trying = trying
        self.clip: Clip | None = None
        self.carried: Carried | None = None
        self._making: Job | None = None
        self.crossfade_ms = CROSSFADE_MS
        bench.recording_changed.connect(self.leave)
        bench.edited.connect(self._follow)

    def reason_not_to_paste(self) -> str:
        """Return why nothing can be pasted now, or nothing."""
        work = self._bench.work
        if work is None:
            return "Open a recording first (Ctrl+O)."
        if self.clip is None:
            return "Copy something first (Ctrl+C)."
        if self.clip.version.rate != work.rate:
            rates = self.clip.version.rate, work.rate
            return "The copy has {} Hz, this recording {} Hz: save one of them at the other's rate.".format(*rates)
        return work.held

    def copy(self) -> None:
        """Copy the selection; nothing is read until it is pasted."""
        work = self._bench.work
        if work and work.selection:
            start, stop = work.selection.span
            self.clip = Clip(work.version, start, stop, work.selected_channels)
            self.changed.emit()
            self._bench.said.emit(f"Copied {format_length(stop - start, work.rate)}.")

    def cut(self) -> None:
        """Copy the selection and take it out, just at its edges."""
        work = self._bench.work
        if work and (place := work.place()) and work.selection:
            self.copy()
            self._handwork.apply("splice", {"search_ms": 0}, place, select=False)

    def paste_over(self, adds: bool = False) -> None:
        """Put the copy over what is at the selection's start or the cursor, or mix it to that; the length stays."""
        work, clip = self._bench.work, self.clip
        if work is None or clip is None:
            return
        start = work.selection.start if work.selection else work.cursor
        clip = replace(clip, stop=min(clip.stop, clip.start + work.frames - start))
        place = self._place(work, start, clip)
        if place is None:
            return
        if clip.frames < 1:
            self._bench.said.emit("There is no room at the end. Paste it in instead (Ctrl+Shift+V).")
            return
        fade = self._fade(work)

        def make(version: Version, _: Callable[[], bool]) -> Mended:
            stretch = put_over(version, place, clip, fade, adds=adds)
            return _mended(version, stretch, place, clip, fade, "add" if adds else "replace")

        self._handwork.do(work, "mix a copy in" if adds else "paste over", make, place)

    def paste_in(self) -> None:
        """Put the copy in before the selection's start or the cursor; what follows comes later."""
        work, clip = self._bench.work, self.clip
        if work is None or clip is None:
            return
        at = work.selection.start if work.selection else work.cursor
        fade = self._fade(work)
        place = Place(at, at, tuple(range(work.channels)))
        self._handwork.do(
            work,
            "paste in",
            lambda version, _: _mended(version, put_in(version, at, clip, fade), place, clip, fade, "insert"),
        )

    # Carrying a copy along.

    def carry(self) -> None:
        """Take up a copy of the selection, to drag it where it fits; done so already, let it go."""
        work = self._bench.work
        if self.carried is not None:
            self.leave()
        elif work and work.selection:
            start, stop = work.selection.span
            self._carry(Carried(Clip(work.version, start, stop, work.selected_channels), start))
            self._bench.said.emit("Drag the copy where it fits; Enter drops it.")

    def carry_to(self, start: float, snaps: bool = False) -> None:
        """Carry the copy to a frame; if it snaps, to where the wave crosses zero as the copy does at its start."""
        work, carried = self._bench.work, self.carried
        if work and carried:
            if snaps and self._selecting.snap is Snap.CROSSINGS:
                found = matching_start(work.version, carried.clip, start, _SNAP_SECONDS * work.rate)
                start = start if found is None else found
            start = min(max(0, round(start)), work.frames - carried.clip.frames)
            self._carry(replace(carried, start=start))

    def slide(self, frames: int) -> None:
        """Carry the copy on by samples."""
        if self.carried:
            self.carry_to(self.carried.start + frames)

    @property
    def holds(self) -> bool:
        """Whether a copy is carried."""
        return self.carried is not None

    @property
    def proposals_count(self) -> int:
        """A carried copy proposes nothing."""
        return 0

    def pick(self, index: int) -> None:
        """A carried copy proposes nothing."""

    def lift(self, steps: int) -> None:
        """Make the copy louder, or softer."""
        if self.carried:
            self.set_gain(self.carried.gain_db + steps * LEVEL_STEP_DB)

    def set_gain(self, gain_db: float) -> None:
        """Set the copy's level."""
        if self.carried:
            gain_db = min(max(LOWEST_DB, gain_db), HIGHEST_DB)
            self._carry(replace(self.carried, gain_db=gain_db))

    def invert(self) -> None:
        """Turn the copy's wave over."""
        if self.carried:
            self._carry(replace(self.carried, inverted=not self.carried.inverted))

    def fit(self) -> None:
        """Take the copy from up to 20 ms beside, and level it, so that it goes on best where it is."""
        work, carried = self._bench.work, self.carried
        if work is None or carried is None:
            return
        found = best_fit(work.version, carried.clip, carried.start)
        if found is None:
            self._bench.said.emit("There is too little sound around to fit it to.")
        else:
            clip = replace(carried.clip, start=found.start, stop=found.start + carried.clip.frames)
            self._carry(replace(carried, clip=clip, gain_db=round(amplitude_to_db(found.factor), 2), inverted=False))

    def take(self) -> None:
        """Put the copy where it is."""
        work, carried = self._bench.work, self.carried
        if work is None or carried is None:
            return
        if carried.clip.frames > _AT_ONCE_FRAMES:
            self.leave()
            place = self._place(work, carried.start, carried.clip)
            if place is not None:
                fade = self._fade(work)
                self._handwork.do(
                    work, "patch with a copy", lambda version, _: _laid(version, place, carried, fade), place
                )
            return
        mended = self._made(work, carried)
        self.leave()
        if mended and self._handwork.put(work, "patch with a copy", mended):
            self._bench.select(carried.start, carried.stop)
            self._bench.said.emit("The copy is in its place. Undo takes that back.")

    def leave(self) -> None:
        """Carry nothing any more."""
        if self.carried is not None:
            self.carried = None
            self._trying.end()
            self.changed.emit()

    def in_words(self) -> str:
        """Return how the copy is, for a person."""
        carried, work = self.carried, self._bench.work
        if carried is None or work is None:
            return ""
        moved = carried.start - carried.clip.start
        turned = ", turned over" if carried.inverted else ""
        return f"copy {moved:+d} smp, {format_db(carried.gain_db, 'dB')}{turned}".replace("-", "−")

    def _carry(self, carried: Carried) -> None:
        work = self._bench.work
        assert work is not None
        self.carried = carried
        self._trying.end()
        if carried.start != carried.clip.start:
            if carried.clip.frames > _AT_ONCE_FRAMES:
                self._try_behind(work)
            elif mended := self._made(work, carried):
                self._show(work, carried, mended)
        self.changed.emit()

    def _show(self, work: Work, carried: Carried, mended: Mended) -> None:
        self._trying.show(Trial.of(work.version, mended, seam=(carried.start, carried.stop)))

    def _try_behind(self, work: Work) -> None:
        """Have what a long copy would become made beside the window, one after another, the newest place next."""
        carried = self.carried
        if carried is None or self._making is not None:
            return
        place, fade, version = self._place(work, carried.start, carried.clip), self._fade(work), work.version
        if place is None:
            return

        def done(mended: Mended) -> None:
            if self.carried is carried and work is self._bench.work and work.version is version:
                self._show(work, carried, mended)
                self.changed.emit()

        def ended() -> None:
            self._making = None
            if self.carried is not None and self.carried is not carried and self._bench.work is work:
                self._try_behind(work)

        self._making = self._bench.jobs.start(
            "carrying a copy", lambda _: _laid(version, place, carried, fade), done, ended=ended
        )

    def _made(self, work: Work, carried: Carried) -> Mended | None:
        place = self._place(work, carried.start, carried.clip)
        if place is None:
            return None
        try:
            return _laid(work.version, place, carried, self._fade(work))
        except UmbrickError as error:
            self._bench.failed.emit(str(error))
            return None

    def _place(self, work: Work, start: int, clip: Clip) -> Place | None:
        """Return where a clip would go; None if there are not the channels for it, which is told."""
        same = len(clip.channels) == len(work.selected_channels) or len(clip.channels) == 1
        channels = work.selected_channels if same else clip.channels
        if not set(channels) <= set(range(work.channels)):
            self._bench.failed.emit("This recording has fewer channels than what was copied.")
            return None
        return Place(start, start + clip.frames, channels)

    def _fade(self, work: Work) -> int:
        # Where edges snap to zero crossings, these join the two.
        milliseconds = _CROSSING_MS if self._selecting.snap is Snap.CROSSINGS else self.crossfade_ms
        return round(milliseconds * work.rate / 1000)

    def _follow(self) -> None:
        """A copy that is carried stays in the hand only while the recording is what it was."""
        work = self._bench.work
        if self.carried and (work is None or self.carried.clip.version is not work.version):
            self.leave()


def _laid(version: Version, place: Place, carried: Carried, fade: int) -> Mended:
    """Return a version with a carried copy where it is."""
    stretch = put_over(version, place, carried.clip, fade, carried.factor)
    return _mended(version, stretch, place, carried.clip, fade, "replace", carried.gain_db, carried.inverted)


def _mended(
    version: Version,
    stretch: Stretch,
    place: Place,
    clip: Clip,
    fade: int,
    mix: str,
    gain_db: float = 0.0,
    inverted: bool = False,
) -> Mended:
    donor = donor_of(version, clip)
    parameters = {
        "donor": "another recording" if donor is None else float(donor),
        "donor_channels": ",".join(map(str, clip.channels)),
        "crossfade_ms": 1000 * fade / version.rate,
        "gain_db": round(gain_db, 2),
        "polarity": "inverted" if inverted else "same",
        "mix": mix,
    }
    return as_mended(version, "graft", [Reworked((stretch,), place, parameters)])
