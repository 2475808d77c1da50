"""Listening: what the engine plays follows what is chosen on the bench."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QElapsedTimer, QObject, QTimer, Signal

from umbrick.core.course.laid import rendered_source, underneath
from umbrick.core.measure.headroom import fitting_gain_db
from umbrick.core.measure.matching import matching_trims_db
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.registry import method_named
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.finding import Finding
from umbrick.core.timeline.positions import map_position
from umbrick.core.timeline.version import Version
from umbrick.playback.engine import Engine
from umbrick.playback.meter import Reading
from umbrick.playback.output import SIMULATED, Choice, Output, device_for, output_for
from umbrick.playback.pace import Pace
from umbrick.playback.programme import Beside, Hearing, Programme
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.coursing import Coursing
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.mending import Mending
from umbrick.ui.bench.trying import Trial, Trying
from umbrick.work.work import Work

_TICK_MS = 30
_KEY_SCRUB_MS = 12
_KEY_SCRUB_SPEED, _KEY_CRAWL_SPEED = 0.5, 0.1
_MATCH_SECONDS = 15.0

_READY_SECONDS = 0.5
"""How much of what the course makes is worked out before it takes the place of what is heard: more than the engine
makes ahead."""


@dataclass(frozen=True, eq=False)
class Excerpts:
    """Moments of the recording one after another, as they are and as they would be, instead of the recording itself.

    ``starts`` are where each begins in what is played, ``places`` where it is in the recording.
    """

    before: npt.NDArray[np.float32]
    after: npt.NDArray[np.float32]
    rate: int
    starts: tuple[int, ...]
    places: tuple[int, ...]

    def place_of(self, frame: int) -> int:
        """Return where in the recording a frame of what is played is."""
        number = max(0, bisect_right(self.starts, frame) - 1)
        return self.places[number] + frame - self.starts[number] if self.places else 0


class Listening(QObject):
    """Plays before, after or the residue of the current recording, with what is tried or the chosen candidate in it."""

    changed = Signal()
    """Playing, loop, what is heard, or the output has changed."""
    ticked = Signal(int, object)
    """While playing: the frame that is heard, and the meters' :class:`Reading`."""
    _fault = Signal(str)

    def __init__(self, bench: Bench, mending: Mending, trying: Trying, coursing: Coursing, output: Output) -> None:
        super().__init__(bench)
        self._bench = bench
        self._mending = mending
        self._trying = trying
        self._coursing = coursing
        self.leads_ms = 500, 500
        """How much is played before and after what a loop goes round."""
        self.leads_selection = False
        """Whether that holds for selections too, and not just for findings and seams."""
        self.listens_on_arrival = False
        """Whether what is around a finding is played when one comes to it."""
        self.mix_for: Callable[[Work], tuple[float, tuple[Beside, ...]]] = lambda _: (1.0, ())
        """How loud a recording is heard among those linked to it, and which of these are."""
        self._arrived: Finding | None = None
        self._skip: Trial | None = None
        self._after: Version | None = None
        self._fault.connect(self._faulted)
        self.engine = Engine(output, on_fault=self._fault.emit)
        self.hearing = Hearing.AFTER
        self.wanted: Choice | None = None
        """The output that was asked for; None where it was given and no other is to be looked for."""
        self._looking = False
        self.loops = False
        self.matches_loudness = False
        self._trims: tuple[tuple[Hearing, float], ...] = ()
        self._matching: Job | None = None
        self._matched_for: tuple[Version, Version] | None = None
        self._getting_ready: Job | None = None
        self._excerpts: Excerpts | None = None
        self._excerpts_played: tuple[Version, ...] = ()
        self._timer = QTimer(self, interval=_TICK_MS)
        self._timer.timeout.connect(self._tick)
        bench.recording_changed.connect(self._recording_changed)
        bench.edited.connect(self.reload)
        bench.learned.connect(self.reload)
        bench.lanes_changed.connect(self.reload)
        bench.focus_changed.connect(self._arrive)
        bench.place_changed.connect(self._follow_loop)
        mending.offers_changed.connect(self.reload)
        trying.changed.connect(self.reload)
        coursing.changed.connect(self.reload)
        self._key_scrub = QTimer(self, interval=_KEY_SCRUB_MS)
        self._key_scrub.timeout.connect(self._scrub_on)
        self._scrubbed_from, self._scrub_speed = 0.0, 0.0
        self._scrub_clock = QElapsedTimer()

    @property
    def is_playing(self) -> bool:
        """Whether sound is coming, other than under the hand."""
        return self.engine.is_playing

    @property
    def is_scrubbing(self) -> bool:
        """Whether the sound follows the hand."""
        return self.engine.is_scrubbing

    @property
    def heard(self) -> int | None:
        """The frame of the version that is worked on that is heard now, or None while there is no sound."""
        work = self._bench.work
        return self._worked_frame(work, self.engine.position) if work and self.is_sounding else None

    @property
    def is_sounding(self) -> bool:
        """Whether sound is coming."""
        return self.is_playing or self.is_scrubbing

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
        self._skip = None
        loop = self._loop()
        start = loop[0] if loop else (work.selection.start if work.selection else work.cursor)
        self._play(work, start, loop)

    def set_listens_on_arrival(self, on: bool) -> None:
        """Play each finding one comes to, or do not."""
        self.listens_on_arrival = on
        self.changed.emit()

    def _arrive(self) -> None:
        """Play a finding one has just come to, with the lead before it."""
        work = self._bench.work
        focus = work.focus if work else None
        is_new = focus is not None and (self._arrived is None or self._arrived.id != focus.id)
        self._arrived = focus
        if work and focus and is_new and self.listens_on_arrival and not self.loops:
            self.play_from(max(0, focus.start - round(self.leads_ms[0] * work.rate / 1000)))

    def play_from(self, frame: int) -> None:
        """Play from a frame on, whatever is selected."""
        if work := self._bench.work:
            self._skip = None
            self._play(work, frame, None)

    def play_skipping(self) -> None:
        """Play what is around the selection without it, as it would sound if it were spliced out."""
        work = self._bench.work
        place = work.place() if work else None
        if work is None or place is None:
            return
        base = work.version
        self._bench.jobs.start(
            "trying a splice",
            lambda _: apply_method(base, method_named("splice"), {}, [place]),
            lambda mended: self._play_skip(work, Trial.of(base, mended, shows=False), mended.mends[0].start),
        )

    def _play_skip(self, work: Work, trial: Trial, seam: int) -> None:
        if work is not self._bench.work or trial.base is not work.version:
            return
        self._skip = trial
        before, after = (round(ms * work.rate / 1000) for ms in self.leads_ms)
        loop = (max(0, seam - before), min(trial.version.frames, seam + after))
        self._play(work, loop[0], loop if self.loops else None)

    def _play(self, work: Work, start: int, loop: tuple[int, int] | None) -> None:
        self.look_for_the_device()
        self.reload()
        limit = self._after.frames if self._after else work.frames
        self.engine.play(0 if start >= limit else start, loop)
        self._timer.start()
        self.changed.emit()

    def stop(self) -> None:
        """Stop."""
        self.engine.stop()
        self.changed.emit()

    # Moments of the recording, as they would be.

    def hear_excerpts(self, excerpts: Excerpts | None) -> None:
        """Have moments of the recording played round and round instead of the recording; None ends that."""
        if excerpts is None:
            if self._excerpts is not None:
                self.engine.stop()
            self._excerpts, self._excerpts_played = None, ()
        else:
            if self._excerpts is None:
                self.engine.stop()
            # The same before goes on playing; a mend that changes the length may have made it longer.
            before = next(iter(self._excerpts_played), None)
            if before is None or before.frames != len(excerpts.before):
                before = _held(excerpts.before, excerpts.rate, f"before:{len(excerpts.before)}")
            after = _held(excerpts.after, excerpts.rate, f"after:{id(excerpts)}")
            self._excerpts, self._excerpts_played = excerpts, (before, after)
        self.reload()
        self.changed.emit()

    def play_moment(self, number: int) -> None:
        """Play from the start of one of the excerpts, counted from 0, and go round all of them."""
        if self._excerpts is not None and number < len(self._excerpts.starts):
            self._skip = None
            self.look_for_the_device()
            self.engine.play(self._excerpts.starts[number], (0, len(self._excerpts.after)))
            self._timer.start()
            self.changed.emit()

    # Under the hand.

    def scrub(self, frame: float) -> None:
        """Have the sound follow the hand, which is at a frame of the version that is worked on."""
        work = self._bench.work
        if work is None:
            return
        if not self.is_scrubbing:
            self._skip = None
            self.reload()
        self.engine.scrub(self._heard_frame(work, frame))
        self._timer.start()

    def end_scrub(self) -> None:
        """Let go: the cursor stays where the sound was."""
        if self.is_scrubbing and self._bench.work:
            self._bench.set_cursor(self._worked_frame(self._bench.work, self.engine.position))
        self._key_scrub.stop()
        self.engine.end_scrub()
        self.changed.emit()

    def scrub_by_key(self, direction: int, crawls: bool) -> None:
        """Scrub forward (1) or backward (−1) from the cursor for as long as a key is held."""
        work = self._bench.work
        if work is None or self._key_scrub.isActive():
            return
        self._scrubbed_from = work.cursor
        self._scrub_speed = direction * (_KEY_CRAWL_SPEED if crawls else _KEY_SCRUB_SPEED) * work.rate
        self._scrub_clock.start()
        self._key_scrub.start()
        self._scrub_on()

    def _scrub_on(self) -> None:
        self.scrub(self._scrubbed_from + self._scrub_speed * self._scrub_clock.nsecsElapsed() / 1e9)

    # How it is played.

    def set_speed(self, speed: float) -> None:
        """Play at another speed, or at full speed if it is that one already."""
        pace = self.engine.pace
        self.engine.set_pace(Pace(1.0 if pace.speed == speed else speed, pace.keeps_pitch))
        self.changed.emit()

    def set_keeps_pitch(self, keeps: bool) -> None:
        """Have slow playing keep the pitch, or let it fall."""
        self.engine.set_pace(Pace(self.engine.pace.speed, keeps))
        self.changed.emit()

    def set_leads(self, before_ms: int, after_ms: int, leads_selection: bool) -> None:
        """Set how much is played before and after what a loop goes round."""
        self.leads_ms, self.leads_selection = (before_ms, after_ms), leads_selection
        self._follow_loop()
        self.changed.emit()

    def look_for_the_device(self) -> None:
        """Where the simulated output stands in for a device that was gone, see whether that has come back."""
        wanted = self.wanted
        if wanted is None or wanted.device == SIMULATED or self.engine.output_name != SIMULATED or self._looking:
            return
        self._looking = True

        def found(output: Output | None) -> None:
            if output is not None:
                self._use((output, ""))

        self._bench.jobs.start("looking for the sound device", lambda _: device_for(wanted), found, ended=self._looked)

    def _looked(self) -> None:
        self._looking = False

    def use_output(self, choice: Choice) -> None:
        """Play into another output."""
        self.wanted = choice
        self._bench.jobs.start("opening the sound output", lambda _: output_for(choice), self._use)

    def _use(self, found: tuple[Output, str]) -> None:
        output, note = found
        self.engine.use(output)
        self._bench.said.emit(note or f"Sound goes to {output.name}.")
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
        if self._excerpts is not None:
            self._load_excerpts(self._excerpts)
            return
        offer, trial = self._mending.offer_in(work), self._trying.trial_in(work)
        if self._skip is not None and self._skip.base is not work.version:
            self._skip = None
        trial = self._skip or trial
        after, peak = work.version, work.peak
        if trial is not None:
            after, peak = trial.version, max(peak, trial.peak)
        elif offer is not None:
            after, peak = offer.mended.version, max(peak, offer.mended.peak)
        after = self._coursing.through(work, after)
        if self.matches_loudness:
            self._match(work, after)
        gain_db = fitting_gain_db(peak)
        loop = self.engine.loop if self._skip else self._loop()
        own_gain, beside = self.mix_for(work)
        self._load(Programme(work.history.original, after, self.hearing, loop, gain_db, self._trims, own_gain, beside))

    def _load_excerpts(self, excerpts: Excerpts) -> None:
        before, after = self._excerpts_played
        peak = max(float(np.abs(sound).max(initial=0)) for sound in (excerpts.before, excerpts.after))
        loop = (0, after.frames) if after.frames else None
        self._after = after
        self.engine.load(Programme(before, after, self.hearing, loop, fitting_gain_db(peak)))

    def _load(self, programme: Programme) -> None:
        """Have the engine play something; what the course makes of it is worked out first, so that no gap is heard."""
        if self._getting_ready is not None:
            self._getting_ready.cancel()
            self._getting_ready = None
        rendered = rendered_source(programme.after)
        now = self.engine.position
        span = now, min(now + round(_READY_SECONDS * programme.after.rate), programme.after.frames)
        if rendered is None or not self.engine.is_playing or span[0] >= span[1] or rendered.is_at_hand(*span):
            self._after = programme.after
            self.engine.load(programme)
            return

        def run(job: Job) -> None:
            rendered.read(*span)
            # At once, from here: the window's thread may be drawing.
            self.engine.load(programme, unless=job.is_cancelled)

        def ready(_: object) -> None:
            self._getting_ready = None
            self._after = programme.after

        # What works ahead turns to this at once, not to what is no longer heard.
        self._coursing.attend(programme.after, span, now)
        self._getting_ready = self._bench.jobs.start("working out the course", run, ready)

    def close(self) -> None:
        """Stop for good."""
        self._timer.stop()
        self.engine.close()

    def _loop(self) -> tuple[int, int] | None:
        work = self._bench.work
        if work is None or not self.loops:
            return None
        before, after = (round(ms * work.rate / 1000) for ms in self.leads_ms)
        trial = self._trying.trial_in(work)
        if trial is not None and trial.seam is not None:
            return max(0, trial.seam[0] - before), min(trial.version.frames, trial.seam[1] + after)
        if work.selection and not self.leads_selection:
            return work.selection.span
        span = work.selection.span if work.selection else ((work.focus.start, work.focus.stop) if work.focus else None)
        if span is None:
            return 0, work.frames
        return max(0, span[0] - before), min(work.frames, span[1] + after)

    def _heard_frame(self, work: Work, frame: float) -> float:
        """Return where a frame of the version that is worked on is in the one that is played."""
        if self._after is None or underneath(self._after) is work.version:
            return frame
        return map_position(work.version, self._after, min(max(0, round(frame)), work.frames))

    def _worked_frame(self, work: Work, frame: int) -> int:
        """Return where a frame of the version that is played is in the one that is worked on."""
        if self._excerpts is not None:
            return min(self._excerpts.place_of(frame), work.frames)
        if self._after is None or underneath(self._after) is work.version:
            return frame
        return map_position(self._after, work.version, min(max(0, frame), self._after.frames))

    def _follow_loop(self) -> None:
        if self._excerpts is None and self.loops and self._skip is None:
            self.engine.set_loop(self._loop())

    def _recording_changed(self) -> None:
        self.engine.stop()
        self._skip = None
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

    def _matched(self, trims: tuple[float, float]) -> None:
        if self.matches_loudness:
            self._trims = ((Hearing.BEFORE, trims[0]), (Hearing.AFTER, trims[1]))
            self.reload()

    def _tick(self) -> None:
        work = self._bench.work
        position = self.engine.position
        self.ticked.emit(self._worked_frame(work, position) if work else position, self.engine.reading)
        if not self.is_sounding:
            self._timer.stop()
            self.changed.emit()

    def _faulted(self, message: str) -> None:
        self._bench.failed.emit(message)
        self.changed.emit()


def _held(sound: npt.NDArray[np.float32], rate: int, name: str) -> Version:
    return Version.of(ArraySource(sound, rate, f"excerpt:{name}"))
