"""The engine: plays a version before, after, or what was taken out, and switches between them without a gap."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from enum import Enum
from typing import Any

import numpy as np

from umbrick.core.course.laid import underneath
from umbrick.core.errors import CancelledError, FileError
from umbrick.core.fault_log import fault_named, note_fault
from umbrick.core.timeline.positions import map_position
from umbrick.core.timeline.version import Version
from umbrick.core.units import db_to_amplitude
from umbrick.playback.meter import Meter, Reading
from umbrick.playback.output import Block, Output, OutputError
from umbrick.playback.pace import Pace, Pacer, pacer_for
from umbrick.playback.scrub import SCRUB_FRAMES, Hand, Scrubber, reach_of, resampled
from umbrick.playback.simulated import SimulatedOutput

BLOCK_FRAMES = 1024
_LEAST_FRAMES = 256
CROSSFADE_SECONDS = 0.005
"""Every jump (start, stop, switch, seek, end of a loop) is joined by a linear crossfade of this length."""


class Hearing(Enum):
    """What is listened to."""

    BEFORE = "before"
    AFTER = "after"
    RESIDUE = "residue"


@dataclass(frozen=True, slots=True)
class Programme:
    """What is played. Positions, the loop and ``stop`` are frames of ``after``.

    ``gain_db`` lowers what goes to the output, the same for all; ``trims_db`` further changes one of the three, to
    match their loudness.
    """

    before: Version
    after: Version
    hearing: Hearing = Hearing.AFTER
    loop: tuple[int, int] | None = None
    gain_db: float = 0.0
    trims_db: tuple[tuple[Hearing, float], ...] = ()

    def read(self, start: int, frames: int) -> Block:
        """Return ``frames`` frames from ``start`` on, silence after the end."""
        sound = np.zeros((frames, self.after.channels), np.float32)
        if self.hearing is not Hearing.BEFORE:
            self._add(sound, self.after, start, 1.0 if self.hearing is Hearing.AFTER else -1.0)
        if self.hearing is not Hearing.AFTER:
            self._add(sound, self.before, map_position(self.after, self.before, min(start, self.after.frames)), 1.0)
        return sound

    @property
    def form(self) -> tuple[int, int]:
        """Rate and number of channels."""
        return self.after.rate, self.after.channels

    def output_gain(self) -> float:
        """Return the factor between the version's level and the output's."""
        return db_to_amplitude(self.gain_db + dict(self.trims_db).get(self.hearing, 0.0))

    @staticmethod
    def _add(sound: Block, version: Version, start: int, sign: float) -> None:
        stop = min(start + len(sound), version.frames)
        if start < stop:
            sound[: stop - start] += np.float32(sign) * version.read(start, stop)


@dataclass(frozen=True, slots=True)
class _State:
    """Where the playing is. ``sounding`` is what the last block was read from (None: silence before this one);
    ``fade_from`` is what goes on under the next block, fading; ``jumps`` counts the moves to another place."""

    programme: Programme | None = None
    position: int = 0
    playing: bool = False
    stopping: bool = False
    sounding: Programme | None = None
    fade_from: tuple[Programme, int] | None = None
    jumps: int = 0


class Engine:
    """Plays programmes into an output.

    Parameters
    ----------
    output : Output
    threaded : bool
        Whether a thread of the engine's own does the playing. Without, :meth:`step` plays one block (for tests).
    on_fault : callable
        Told in one sentence, from the playing thread, when the device or the file fails.
    clock : callable
        Seconds, by which the hand's movements are timed while scrubbing.

    Notes
    -----
    Programme and state are immutable and exchanged as a whole: reading sound holds no lock, and nothing that edits
    ever waits for what plays. The form that is played, the meters and the device belong to the playing thread alone:
    it takes up another form, output or a reset of the meters between two blocks.
    """

    def __init__(
        self,
        output: Output,
        threaded: bool = True,
        on_fault: Callable[[str], None] = lambda _: None,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self._output = output
        self._on_fault = on_fault
        self._clock = clock
        self._pace = Pace()
        self._paced: tuple[Pace, Pacer | None] = (Pace(), None)
        self._new_output: Output | None = None
        self._hand: Hand | None = None
        self._scrubber: Scrubber | None = None
        self._changed = threading.Condition()
        self._state = _State()
        self._closing = False
        self._form: tuple[int, int] | None = None
        self._meter = Meter(48000, 1)
        self._resets_meters = False
        self._thread = threading.Thread(target=self._run, name="playback", daemon=True) if threaded else None
        if self._thread:
            self._thread.start()

    @property
    def output_name(self) -> str:
        """Where the sound goes, or will from the next block on."""
        return (self._new_output or self._output).name

    @property
    def is_playing(self) -> bool:
        """Whether sound is coming."""
        return self._state.playing and not self._state.stopping

    @property
    def position(self) -> int:
        """The frame that is being heard."""
        state, scrubber = self._state, self._scrubber
        if scrubber is not None and self._hand is not None:
            return round(scrubber.position)
        latency = self._output.latency_frames() * self._pace.speed if state.playing else 0
        heard = state.position - round(latency)
        loop = state.programme.loop if state.programme else None
        if loop and loop[0] <= state.position < loop[1] and heard < loop[0]:
            heard += loop[1] - loop[0]
        return max(0, heard)

    @property
    def latency_seconds(self) -> float:
        """How long after it was made sound is heard."""
        return self._output.latency_frames() / self._form[0] if self._form else 0.0

    @property
    def reading(self) -> Reading:
        """The meters, at the level of the version that is heard."""
        return Reading() if self._resets_meters else self._meter.reading

    def reset_meters(self) -> None:
        """Forget peaks and counts."""
        self._resets_meters = True

    def load(self, programme: Programme) -> None:
        """Play this from now on: at the same place if it is another version of the same recording."""
        with self._changed:
            state = self._state
            old = state.programme
            if old is None or old.before.sources[0] is not programme.before.sources[0]:
                self._state = _State(programme, jumps=state.jumps + 1)
                self._hand = None
            else:
                self._state = replace(state, programme=programme, position=_moved(state.position, old, programme))

    def hear(self, hearing: Hearing) -> None:
        """Switch between before, after and residue, at the same place."""
        self._change_programme(hearing=hearing)

    @property
    def programme(self) -> Programme | None:
        """What is played, or would be."""
        return self._state.programme

    @property
    def loop(self) -> tuple[int, int] | None:
        """What is played round and round, in frames of what is played."""
        return self._state.programme.loop if self._state.programme else None

    def set_loop(self, loop: tuple[int, int] | None) -> None:
        """Change the loop while playing."""
        self._change_programme(loop=loop)

    def play(self, start: int, loop: tuple[int, int] | None = None) -> None:
        """Play from a frame on; with a loop, round and round once it gets there."""
        with self._changed:
            state = self._state
            if state.programme is None:
                return
            goes_on = state.playing and state.sounding is not None
            self._state = _State(
                replace(state.programme, loop=loop),
                min(max(0, start), state.programme.after.frames),
                playing=True,
                sounding=state.sounding if goes_on else None,
                fade_from=(state.sounding, state.position) if goes_on and state.sounding else None,
                jumps=state.jumps + 1,
            )
            self._changed.notify_all()

    def stop(self) -> None:
        """Stop where it is, with a short fade."""
        with self._changed:
            self._state = replace(self._state, stopping=self._state.playing)

    @property
    def pace(self) -> Pace:
        """How fast it plays."""
        return self._pace

    def set_pace(self, pace: Pace) -> None:
        """Play faster or slower from the next block on."""
        self._pace = pace

    def use(self, output: Output) -> None:
        """Play into another output from the next block on; the old one is closed."""
        with self._changed:
            self._new_output = output
            self._changed.notify_all()

    @property
    def is_scrubbing(self) -> bool:
        """Whether the sound follows a hand."""
        return self._hand is not None

    def scrub(self, position: float) -> None:
        """Have the sound follow the hand, which is at a frame now; what played stops."""
        with self._changed:
            if self._state.programme is None:
                return
            if self._hand is None:
                self._hand = Hand(position, self._clock())
                self._state = replace(self._state, stopping=self._state.playing)
            else:
                self._hand.moved(position, self._clock())
            self._changed.notify_all()

    def end_scrub(self) -> None:
        """Let go."""
        with self._changed:
            self._hand = None

    def step(self) -> bool:
        """Play one block; False if there was nothing to play.

        Raises
        ------
        FileError
            If the recording cannot be read; playing and scrubbing have stopped then, as after any other error.
        """
        try:
            return self._step()
        except BaseException:
            with self._changed:
                self._state = replace(self._state, playing=False, stopping=False, sounding=None, fade_from=None)
                self._hand = self._scrubber = None
            raise

    def _step(self) -> bool:
        if self._new_output is not None:
            self._exchange_output()
        if self._hand is None:
            self._scrubber = None
        state = self._state
        if state.programme is not None and (state.playing or self._hand is not None):
            self._take_up(state.programme)
        if not state.playing or state.programme is None:
            return self._step_scrub(state.programme)
        sound, after = self._rendered(state, state.programme)
        with self._changed:
            self._state = _joined(state, after, self._state)
        self._write(self._at_pace(sound, state.programme))
        return True

    def close(self) -> None:
        """Stop and let go of the output."""
        with self._changed:
            self._closing = True
            self._changed.notify_all()
        if self._thread:
            self._thread.join()
        self._output.close()

    def _change_programme(self, **changes: Any) -> None:
        with self._changed:
            if self._state.programme is not None:
                self._state = replace(self._state, programme=replace(self._state.programme, **changes))

    def _is_wanted(self) -> bool:
        return self._state.playing or self._hand is not None or self._new_output is not None or self._closing

    def _run(self) -> None:
        while not self._closing:
            try:
                if not self._is_wanted():
                    self._output.flush()  # which may take as long as the device's buffer lasts: nobody waits for it
                with self._changed:
                    self._changed.wait_for(self._is_wanted)
                self.step()
            except CancelledError:
                continue  # the recording was closed
            except FileError as error:
                self._on_fault(str(error))
            except Exception as error:
                note_fault(error)
                self._on_fault(f"Playing stopped: a {fault_named(error)}.")

    def _rendered(self, state: _State, programme: Programme) -> tuple[Block, _State]:
        """Return the next block, and the state after it if nothing else happens meanwhile."""
        loop, start = programme.loop, state.position
        # A slow pace makes more of each block; it must not take longer until a switch is heard.
        frames = max(_LEAST_FRAMES, round(BLOCK_FRAMES * self._pace.speed))
        if state.stopping:
            frames = _fade_frames(programme, frames)
        elif loop and loop[0] <= start < loop[1]:
            frames = min(frames, loop[1] - start)
        sound = programme.read(start, frames)
        self._measure(sound)
        sound *= np.float32(programme.output_gain())
        _fade_in(sound, programme, state)
        after = replace(state, position=start + frames, sounding=programme, fade_from=None)
        if state.stopping:
            sound *= _ramp(frames)[::-1]
            return sound, replace(after, position=start, playing=False, stopping=False, sounding=None)
        if loop and after.position == loop[1]:
            return sound, replace(after, position=loop[0], fade_from=(programme, loop[1]))
        if after.position >= programme.after.frames:
            return sound, replace(after, position=programme.after.frames, playing=False, sounding=None)
        return sound, after

    def _take_up(self, programme: Programme) -> None:
        """Get meters and device ready for the form of what is played next."""
        form = programme.form
        if form != self._form:
            self._form = form
            self._meter = Meter(*form)
            self._paced = (Pace(), None)
            self._scrubber = None
            self._open()

    def _measure(self, sound: Block) -> None:
        if self._resets_meters:
            self._meter.reset()
            self._resets_meters = False
        self._meter.feed(sound)

    def _at_pace(self, sound: Block, programme: Programme) -> Block:
        """Return a block at the pace asked for; a new pace fades in, as a jump does."""
        pace, pacer = self._paced
        is_new = pace != self._pace
        if is_new:
            pacer = pacer_for(self._pace, programme.after.rate, programme.after.channels)
            self._paced = self._pace, pacer
        sound = sound if pacer is None else pacer.feed(sound)
        if is_new and len(sound):
            length = _fade_frames(programme, len(sound))
            sound[:length] *= _ramp(length)
        return sound

    def _step_scrub(self, programme: Programme | None) -> bool:
        """Play a short block under the hand; False if there is none."""
        hand = self._hand
        if hand is None or programme is None:
            self._scrubber = None
            return False
        rate, frames = programme.after.rate, programme.after.frames
        if self._scrubber is None:
            self._scrubber = Scrubber(hand.expected(self._clock()), rate, frames)
        # The hand is followed as closely as the output allows.
        self._output.drain_to(2 * SCRUB_FRAMES)
        # What is made now is heard when the output has played what it holds.
        heard_at = self._clock() + (self._output.latency_frames() + SCRUB_FRAMES) / rate
        path = self._scrubber.path(hand, heard_at, SCRUB_FRAMES)
        first, last = reach_of(path)
        sound = programme.read(max(0, first), last - max(0, first))
        sound = self._scrubber.faded(resampled(sound, max(0, first), path))
        self._measure(sound)
        self._write(sound * np.float32(programme.output_gain()))
        return True

    def _write(self, sound: Block) -> None:
        try:
            if len(sound):
                self._output.write(sound)
        except OutputError as error:
            self._fall_back(str(error))

    def _exchange_output(self) -> None:
        with self._changed:
            output, self._new_output = self._new_output, None
        if output is not None:
            self._output.close()
            self._output = output
            if self._form:
                self._open()

    def _open(self) -> None:
        assert self._form is not None
        try:
            self._output.open(*self._form)
        except OutputError as error:
            self._fall_back(str(error))

    def _fall_back(self, reason: str) -> None:
        self._output.close()
        self._output = SimulatedOutput()
        if self._form:
            self._output.open(*self._form)
        self._on_fault(f"{reason} Sound goes to the simulated output.")


def _joined(before: _State, after: _State, now: _State) -> _State:
    """Return the state after a block was played, when it may have changed while the block was made."""
    if now is before:
        return after
    if now.jumps != before.jumps:
        goes_over = after.sounding and now.playing and now.programme and now.programme.form == after.sounding.form
        return replace(now, fade_from=(after.sounding, after.position) if after.sounding and goes_over else None)
    assert now.programme is not None
    return replace(
        after,
        programme=now.programme,
        position=_moved(after.position, before.programme, now.programme),
        stopping=now.stopping and after.playing,
    )


def _moved(position: int, old: Programme | None, new: Programme) -> int:
    if old is None or underneath(old.after) is underneath(new.after):
        return position
    return map_position(old.after, new.after, min(position, old.after.frames))


def _fade_in(sound: Block, programme: Programme, state: _State) -> None:
    """Let what was heard until now go over into this block."""
    length = _fade_frames(programme, len(sound))
    rising = _ramp(length)
    if state.fade_from is not None:
        old, old_start = state.fade_from
    elif state.sounding is None:
        sound[:length] *= rising
        return
    elif state.sounding is not programme:
        old, old_start = state.sounding, _moved(state.position, programme, state.sounding)
    else:
        return
    fading = old.read(old_start, length) * np.float32(old.output_gain())
    sound[:length] = sound[:length] * rising + fading * (1 - rising)


def _fade_frames(programme: Programme, most: int) -> int:
    return min(most, max(1, round(CROSSFADE_SECONDS * programme.after.rate)))


def _ramp(frames: int) -> Block:
    return ((np.arange(frames, dtype=np.float32) + 0.5) / np.float32(frames))[:, np.newaxis]
