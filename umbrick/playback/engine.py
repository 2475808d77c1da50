"""The engine: plays a version before, after, or what was taken out, and switches between them without a gap."""

from __future__ import annotations

import sys
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from umbrick.core.errors import CancelledError, FileError
from umbrick.core.fault_log import fault_named, note_fault
from umbrick.playback.feed import Feed, Made
from umbrick.playback.meter import Meter, Reading
from umbrick.playback.output import Block, Output
from umbrick.playback.pace import Pace, Pacer, pacer_for
from umbrick.playback.programme import Hearing, Programme, moved
from umbrick.playback.scrub import SCRUB_FRAMES, Hand, Scrubber, reach_of, resampled

BLOCK_FRAMES = 1024
_LEAST_FRAMES = 256
AHEAD_SECONDS = 0.3
"""How much is made before it is handed to the output: what changes meanwhile is made anew, and heard at once."""

_BLOCKS_AT_ONCE = 4

_SWITCH_SECONDS = 0.0005
"""How soon a thread that computes lets another one of the interpreter go on. A block takes some dozen turns: at the
usual 5 ms each, it would not be there in time."""

_PACED_AHEAD_SECONDS = 0.04
"""The same for slow playing, where what was made cannot be taken back: what slows it down has gone on."""

CROSSFADE_SECONDS = 0.005
"""Every jump (start, stop, switch, seek, end of a loop) is joined by a linear crossfade of this length."""


@dataclass(frozen=True, slots=True)
class _State:
    """Where the playing is. ``sounding`` is what the last block was read from (None: silence before this one);
    ``fade_from`` is what goes on under the next block, fading."""

    programme: Programme | None = None
    position: int = 0
    playing: bool = False
    stopping: bool = False
    sounding: Programme | None = None
    fade_from: tuple[Programme, int] | None = None


class Engine:
    """Plays programmes into an output.

    Parameters
    ----------
    output : Output
    threaded : bool
        Whether threads of the engine's own do the playing. Without, :meth:`step` plays one block (for tests).
    on_fault : callable
        Told in one sentence, from a thread, when the device or the file fails.
    clock : callable
        Seconds, by which the hand's movements are timed while scrubbing.

    Notes
    -----
    One thread makes blocks some time ahead, another hands them to the output and does nothing else. Each block that
    waits between them knows the state it was made from: a change of what is played takes back all that wait, and goes
    on from the state of the first of them. Programme and state are immutable and exchanged as a whole: reading sound
    holds no lock, and nothing that edits ever waits for what plays. Meters read what has been handed over. With
    threads, the interpreter is told to switch between all of its threads more often.
    """

    def __init__(
        self,
        output: Output,
        threaded: bool = True,
        on_fault: Callable[[str], None] = lambda _: None,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self._on_fault = on_fault
        self._clock = clock
        self._pace = Pace()
        self._paced: tuple[Pace, Pacer | None] = (Pace(), None)
        self._hand: Hand | None = None
        self._scrubber: Scrubber | None = None
        self._changed = threading.Condition()
        self._state = _State()
        self._closing = False
        self._form: tuple[int, int] | None = None
        self._meter: Meter | None = None
        self._metered: tuple[int, int] | None = None
        self._resets_meters = False
        self._feed: Feed[_State] = Feed(output, self._changed, on_fault, self._is_quiet)
        self._thread = threading.Thread(target=self._run, name="playback", daemon=True) if threaded else None
        if self._thread:
            sys.setswitchinterval(_SWITCH_SECONDS)
            self._thread.start()
            self._feed.start()

    @property
    def output_name(self) -> str:
        """Where the sound goes, or will from the next block on."""
        return self._feed.output_name

    @property
    def underruns(self) -> int:
        """How often a simulated output had nothing left to play; 0 for others, which do not tell."""
        return int(getattr(self._feed.output, "underruns", 0))

    @property
    def is_playing(self) -> bool:
        """Whether sound is coming."""
        state = self._front
        return state.playing and not state.stopping

    @property
    def position(self) -> int:
        """The frame that is being heard."""
        state, scrubber = self._front, self._scrubber
        if scrubber is not None and self._hand is not None:
            return round(scrubber.position)
        latency = self._feed.output.latency_frames() * self._pace.speed if state.playing else 0
        heard = state.position - round(latency)
        loop = state.programme.loop if state.programme else None
        if loop and loop[0] <= state.position < loop[1] and heard < loop[0]:
            heard += loop[1] - loop[0]
        return max(0, heard)

    @property
    def latency_seconds(self) -> float:
        """How long after it was handed over sound is heard."""
        return self._feed.output.latency_frames() / self._form[0] if self._form else 0.0

    @property
    def reading(self) -> Reading:
        """The meters, at the level of the version that is heard."""
        return Reading() if self._resets_meters or self._meter is None else self._meter.reading

    def reset_meters(self) -> None:
        """Forget peaks and counts."""
        self._resets_meters = True

    def load(self, programme: Programme, unless: Callable[[], bool] = lambda: False) -> None:
        """Play this from now on: at the same place if it is another version of the same recording.

        Any thread may call it. ``unless`` is asked at the last moment, when nothing else can be loaded meanwhile:
        whether something newer is to be played.
        """
        with self._changed:
            if unless():
                return
            state = self._taken_back()
            old = state.programme
            if old is None or old.before.sources[0] is not programme.before.sources[0]:
                self._state = _State(programme)
                self._hand = None
            else:
                self._state = replace(state, programme=programme, position=moved(state.position, old, programme))
            self._changed.notify_all()

    def hear(self, hearing: Hearing) -> None:
        """Switch between before, after and residue, at the same place."""
        self._change_programme(hearing=hearing)

    @property
    def programme(self) -> Programme | None:
        """What is played, or would be."""
        return self._state.programme

    @property
    def sounding(self) -> Programme | None:
        """What the last block that was handed over was made from; None in silence."""
        return self._front.sounding

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
            state = self._taken_back()
            if state.programme is None:
                return
            goes_on = state.playing and state.sounding is not None
            self._state = _State(
                replace(state.programme, loop=loop),
                min(max(0, start), state.programme.after.frames),
                playing=True,
                sounding=state.sounding if goes_on else None,
                fade_from=(state.sounding, state.position) if goes_on and state.sounding else None,
            )
            self._changed.notify_all()

    def stop(self) -> None:
        """Stop where it is, with a short fade."""
        with self._changed:
            self._stop()

    @property
    def pace(self) -> Pace:
        """How fast it plays."""
        return self._pace

    def set_pace(self, pace: Pace) -> None:
        """Play faster or slower from the next block on."""
        with self._changed:
            self._state = self._taken_back()
            self._pace = pace
            self._changed.notify_all()

    def use(self, output: Output) -> None:
        """Play into another output from the next block on; the old one is closed."""
        self._feed.use(output)

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
                self._stop()
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
        is_made = self._make()
        self._feed.hand_over()
        self._measure()
        return is_made

    def close(self) -> None:
        """Stop and let go of the output."""
        with self._changed:
            self._closing = True
            self._changed.notify_all()
        if self._thread:
            self._thread.join()
        self._feed.close()

    @property
    def _front(self) -> _State:
        """The state that the next block to be handed over was made from, or will be."""
        with self._changed:
            return self._feed.front or self._state

    def _taken_back(self) -> _State:
        """Take back what is made and not handed over; the state from which to go on."""
        _, pacer = self._paced
        return self._state if pacer is not None else self._feed.take_back() or self._state

    def _stop(self) -> None:
        state = self._taken_back()
        self._state = replace(state, stopping=state.playing)
        self._changed.notify_all()

    def _change_programme(self, **changes: Any) -> None:
        with self._changed:
            state = self._taken_back()
            if state.programme is not None:
                self._state = replace(state, programme=replace(state.programme, **changes))
            self._changed.notify_all()

    def _is_quiet(self) -> bool:
        return not self._state.playing and self._hand is None

    def _has_room(self) -> bool:
        """Whether another block is to be made now."""
        if self._state.playing:
            seconds = AHEAD_SECONDS if self._paced[1] is None else _PACED_AHEAD_SECONDS
            rate = self._form[0] if self._form else 1
            return self._feed.frames < seconds * rate
        return self._hand is not None and self._feed.is_empty

    def _is_wanted(self) -> bool:
        return self._closing or self._feed.has_handed or self._has_room()

    def _run(self) -> None:
        while not self._closing:
            try:
                with self._changed:
                    self._changed.wait_for(self._is_wanted)
                    has_room = self._has_room()
                if has_room:
                    self._make()
                self._measure()
            except CancelledError:
                continue  # the recording was closed
            except FileError as error:
                self._on_fault(str(error))
            except Exception as error:
                note_fault(error)
                self._on_fault(f"Playing stopped: a {fault_named(error)}.")

    def _make(self) -> bool:
        """Make the next block, or some; False if there is none to be made. After an error, nothing plays any more."""
        try:
            if self._hand is None:
                self._scrubber = None
            state = self._state
            if state.programme is not None and (state.playing or self._hand is not None):
                self._take_up(state.programme.form)
            if not state.playing or state.programme is None:
                return self._make_scrubbed(state)
            self._make_played(state, state.programme)
            return True
        except BaseException:
            with self._changed:
                self._state = replace(self._state, playing=False, stopping=False, sounding=None, fade_from=None)
                self._hand = self._scrubber = None
            raise

    def _make_played(self, state: _State, programme: Programme) -> None:
        metered, sound, after = self._rendered(state, programme)
        with self._changed:
            if self._state is not state:
                return  # something was changed meanwhile: what follows is made from that
            for at in range(0, len(sound), self._block_frames()):
                part = slice(at, at + self._block_frames())
                paced = self._at_pace(sound[part], programme)
                self._feed.put(Made(paced, metered[part], programme.form, state))
                state = replace(state, position=state.position + len(sound[part]), sounding=programme, fade_from=None)
            self._state = after

    def _rendered(self, state: _State, programme: Programme) -> tuple[Block, Block, _State]:
        """Return the next blocks at the version's level and at the output's, and the state after them."""
        loop, start = programme.loop, state.position
        frames = self._frames_at_once(state, programme)
        metered = programme.read(start, frames)
        sound = metered * np.float32(programme.output_gain())
        _fade_in(sound, programme, state)
        after = replace(state, position=start + frames, sounding=programme, fade_from=None)
        if state.stopping:
            sound *= _ramp(frames)[::-1]
            return metered, sound, replace(after, position=start, playing=False, stopping=False, sounding=None)
        if loop and after.position == loop[1]:
            return metered, sound, replace(after, position=loop[0], fade_from=(programme, loop[1]))
        if after.position >= programme.after.frames:
            return metered, sound, replace(after, position=programme.after.frames, playing=False, sounding=None)
        return metered, sound, after

    def _frames_at_once(self, state: _State, programme: Programme) -> int:
        frames = self._block_frames()
        if state.stopping:
            return _fade_frames(programme, frames)
        several = _BLOCKS_AT_ONCE * frames
        has_time = self._feed.frames >= BLOCK_FRAMES and self._paced[1] is None
        if has_time and programme.after.frames - state.position > several:
            # Each read may have to wait for other threads.
            frames = several
        loop = programme.loop
        return min(frames, loop[1] - state.position) if loop and loop[0] <= state.position < loop[1] else frames

    def _block_frames(self) -> int:
        # A slow pace makes more of each block; it must not take longer until a switch is heard.
        return max(_LEAST_FRAMES, round(BLOCK_FRAMES * self._pace.speed))

    def _take_up(self, form: tuple[int, int]) -> None:
        """Get ready for the form of what is made next."""
        if form != self._form:
            self._form = form
            self._paced = (Pace(), None)
            self._scrubber = None

    def _measure(self) -> None:
        """Feed the meters what has been handed over."""
        while (made := self._feed.take_handed()) is not None:
            if self._meter is None or made.form != self._metered:
                self._meter, self._metered = Meter(*made.form), made.form
            if self._resets_meters:
                self._meter.reset()
                self._resets_meters = False
            self._meter.feed(made.metered)

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

    def _make_scrubbed(self, state: _State) -> bool:
        """Make a short block under the hand; False if there is none."""
        hand, programme = self._hand, state.programme
        if hand is None or programme is None:
            self._scrubber = None
            return False
        rate, frames = programme.after.rate, programme.after.frames
        if self._scrubber is None:
            self._scrubber = Scrubber(hand.expected(self._clock()), rate, frames)
        # The hand is followed as closely as the output allows.
        output = self._feed.output
        output.drain_to(2 * SCRUB_FRAMES)
        # What is made now is heard when the output has played what it holds.
        heard_at = self._clock() + (output.latency_frames() + SCRUB_FRAMES) / rate
        path = self._scrubber.path(hand, heard_at, SCRUB_FRAMES)
        first, last = reach_of(path)
        sound = programme.read(max(0, first), last - max(0, first))
        sound = self._scrubber.faded(resampled(sound, max(0, first), path))
        self._feed.put(Made(sound * np.float32(programme.output_gain()), sound, programme.form, state))
        return True


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
        old, old_start = state.sounding, moved(state.position, programme, state.sounding)
    else:
        return
    if old.form != programme.form:
        sound[:length] *= rising
        return
    fading = old.read(old_start, length) * np.float32(old.output_gain())
    sound[:length] = sound[:length] * rising + fading * (1 - rising)


def _fade_frames(programme: Programme, most: int) -> int:
    return min(most, max(1, round(CROSSFADE_SECONDS * programme.after.rate)))


def _ramp(frames: int) -> Block:
    return ((np.arange(frames, dtype=np.float32) + 0.5) / np.float32(frames))[:, np.newaxis]
