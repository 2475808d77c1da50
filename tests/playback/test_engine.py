import threading
import time

import numpy as np
import pytest
import soundfile

from tests.sounds import RATE, rng, sine
from umbrick.core.sound.source import ArraySource
from umbrick.core.timeline.change import delete, replace
from umbrick.core.timeline.version import Version
from umbrick.playback.engine import AHEAD_SECONDS, BLOCK_FRAMES, CROSSFADE_SECONDS, Engine
from umbrick.playback.output import Choice, OutputError, output_for
from umbrick.playback.pace import Pace
from umbrick.playback.programme import Hearing, Programme
from umbrick.playback.scrub import SCRUB_FRAMES
from umbrick.playback.simulated import SimulatedOutput

FADE = round(CROSSFADE_SECONDS * RATE)


@pytest.fixture
def versions():
    before = Version.of(ArraySource(0.3 * rng(1).standard_normal((RATE, 2)), RATE, "o"))
    patch = ArraySource(0.3 * rng(2).standard_normal((20_000, 2)), RATE, "p")
    return before, replace(before, 10_000, 30_000, patch).apply(before)


@pytest.fixture
def output():
    return SimulatedOutput(keeps_time=False, keeps_sound=True)


@pytest.fixture
def engine(output):
    engine = Engine(output, threaded=False)
    yield engine
    engine.close()


def play(engine, blocks):
    for _ in range(blocks):
        engine.step()


def all_of(version):
    return version.read(0, version.frames)


@pytest.mark.parametrize("hearing", list(Hearing))
def test_what_is_played_is_the_version_sample_for_sample(engine, output, versions, hearing):
    before, after = versions
    engine.load(Programme(before, after, hearing))
    engine.play(0)
    while engine.is_playing:
        engine.step()
    expected = {
        Hearing.BEFORE: all_of(before),
        Hearing.AFTER: all_of(after),
        Hearing.RESIDUE: all_of(before) - all_of(after),
    }[hearing]
    assert np.allclose(output.played()[FADE:RATE], expected[FADE:], atol=1e-7)
    assert not output.played()[RATE:].any()
    assert engine.position == RATE
    assert engine.step() is False


def test_it_starts_with_a_short_fade(engine, output, versions):
    engine.load(Programme(*versions))
    engine.play(5000)
    play(engine, 1)
    ramp = (np.arange(FADE) + 0.5) / FADE
    assert np.allclose(output.played()[:FADE], versions[1].read(5000, 5000 + FADE) * ramp[:, None], atol=1e-6)


def test_switching_keeps_the_place_and_leaves_no_gap(engine, output, versions):
    before, after = versions
    engine.load(Programme(before, after))
    engine.play(12_000)
    play(engine, 2)
    engine.hear(Hearing.BEFORE)
    play(engine, 2)
    sound = output.played()
    border = 2 * BLOCK_FRAMES
    assert np.array_equal(sound[FADE:border], after.read(12_000 + FADE, 12_000 + border))
    expected = before.read(12_000 + border + FADE, 12_000 + 2 * border)
    assert np.array_equal(sound[border + FADE :], expected)
    rising = ((np.arange(FADE) + 0.5) / FADE)[:, None]
    at = slice(12_000 + border, 12_000 + border + FADE)
    mixed = all_of(before)[at] * rising + all_of(after)[at] * (1 - rising)
    assert np.allclose(sound[border : border + FADE], mixed, atol=1e-6)


def test_a_loop_goes_round_exactly(engine, output, versions):
    _, after = versions
    loop = (9_000, 12_500)
    engine.load(Programme(*versions))
    engine.play(loop[0], loop)
    length = loop[1] - loop[0]
    while len(output.played()) < 3 * length:
        engine.step()
    sound = output.played()
    once = after.read(*loop)
    for turn in range(3):
        start = turn * length
        assert np.array_equal(sound[start + FADE : start + length], once[FADE:])
    tail = after.read(loop[1], loop[1] + FADE)
    rising = ((np.arange(FADE) + 0.5) / FADE)[:, None]
    assert np.allclose(sound[length : length + FADE], once[:FADE] * rising + tail * (1 - rising), atol=1e-6)


def test_seeking_while_playing_is_crossfaded(engine, output, versions):
    engine.load(Programme(*versions))
    engine.play(0)
    play(engine, 1)
    engine.play(40_000)
    play(engine, 1)
    sound = output.played()[BLOCK_FRAMES:]
    assert np.array_equal(sound[FADE:], versions[1].read(40_000 + FADE, 40_000 + BLOCK_FRAMES))
    rising = ((np.arange(FADE) + 0.5) / FADE)[:, None]
    old = versions[1].read(BLOCK_FRAMES, BLOCK_FRAMES + FADE)
    assert np.allclose(sound[:FADE], versions[1].read(40_000, 40_000 + FADE) * rising + old * (1 - rising), atol=1e-6)


def test_stopping_fades_out_and_stays_where_it_is(engine, output, versions):
    engine.load(Programme(*versions))
    engine.play(1000)
    play(engine, 1)
    engine.stop()
    assert not engine.is_playing
    play(engine, 3)
    assert len(output.played()) == BLOCK_FRAMES + FADE
    assert np.abs(output.played()[-1]).max() < 0.01
    assert engine.position == 1000 + BLOCK_FRAMES


def test_an_edit_while_playing_goes_on_at_the_same_musical_place(engine, output, versions):
    before, after = versions
    shorter = delete(after, 2000, 5000).apply(after)
    engine.load(Programme(before, after))
    engine.play(20_000)
    play(engine, 1)
    engine.load(Programme(before, shorter))
    play(engine, 1)
    start = 20_000 + BLOCK_FRAMES - 3000
    assert np.array_equal(output.played()[BLOCK_FRAMES + FADE :], shorter.read(start + FADE, start + BLOCK_FRAMES))
    engine.hear(Hearing.BEFORE)
    play(engine, 1)
    at = 20_000 + 2 * BLOCK_FRAMES
    assert np.array_equal(output.played()[2 * BLOCK_FRAMES + FADE :], before.read(at + FADE, at + BLOCK_FRAMES))


def test_another_recording_starts_afresh(engine, output, versions):
    engine.load(Programme(*versions))
    engine.play(5000)
    play(engine, 1)
    other = Version.of(ArraySource(sine(rate=44100), 44100, "x"))
    engine.load(Programme(other, other))
    assert not engine.is_playing
    assert engine.position == 0


def test_gains_lower_what_goes_out_but_not_what_is_metered(engine, output):
    loud = Version.of(ArraySource(sine(level=1.5, seconds=0.2), RATE, "o"))
    engine.load(Programme(loud, loud, gain_db=-6.0, trims_db=((Hearing.AFTER, -6.0),)))
    engine.play(0)
    play(engine, 4)
    assert np.abs(output.played()).max() == pytest.approx(1.5 * 10 ** (-12 / 20), rel=1e-3)
    assert engine.reading.held_dbfs == pytest.approx(20 * np.log10(1.5), abs=0.01)
    assert engine.reading.over > 100
    engine.reset_meters()
    assert engine.reading.over == 0


class _Gone:
    name = "loudspeaker"

    def __init__(self, when):
        self._when = when

    def open(self, rate, channels):
        if self._when == "open":
            raise OutputError("The loudspeaker is busy.")

    def write(self, block):
        if self._when == "write":
            raise OutputError("The loudspeaker has gone.")

    def latency_frames(self):
        return 0

    def flush(self):
        pass

    def close(self):
        pass


@pytest.mark.parametrize("when", ["open", "write"])
def test_a_device_that_fails_is_replaced_by_the_simulated_one_and_told(versions, when):
    said = []
    engine = Engine(_Gone(when), threaded=False, on_fault=said.append)
    engine.load(Programme(*versions))
    engine.play(0)
    play(engine, 2)
    assert engine.output_name == "simulated output"
    assert engine.is_playing
    assert len(said) == 1
    assert "simulated output" in said[0]
    engine.close()


def test_without_a_sound_card_the_simulated_output_says_why():
    output, note = output_for(Choice())
    assert output.name == "simulated output" or note == ""
    if output.name == "simulated output":
        assert "Sound goes to the simulated output" in note
    output.close()


def test_the_thread_keeps_time_and_records_what_it_played(tmp_path, versions):
    done = tmp_path / "played.wav"
    output = SimulatedOutput(record_to=done)
    engine = Engine(output)
    before, _ = versions
    short = delete(before, 12_000, before.frames).apply(before)
    engine.load(Programme(short, short))
    engine.play(0)
    while engine.is_playing:
        assert engine.position <= 12_000
    engine.close()
    assert np.array_equal(soundfile.read(done, dtype="float32")[0][FADE:12_000], short.read(FADE, 12_000))


class _Gated(SimulatedOutput):
    """A device that takes a block whenever it is let."""

    def __init__(self):
        super().__init__(keeps_time=False, keeps_sound=True)
        self.may_take, self.is_asked = threading.Semaphore(0), threading.Event()

    def write(self, block):
        self.is_asked.set()
        self.may_take.acquire()
        super().write(block)


class _Counted(ArraySource):
    """Knows how much of it has been read."""

    read_to = 0

    def read(self, start, stop):
        self.read_to = max(self.read_to, stop)
        return super().read(start, stop)


@pytest.fixture
def ahead(versions):
    """What plays before a gate after which nothing has been let through, though more is made, and what it plays."""
    source = _Counted(0.3 * rng(1).standard_normal((RATE, 2)), RATE, "o")
    before = Version.of(source)
    after = replace(before, 0, RATE, ArraySource(0.3 * rng(2).standard_normal((RATE, 2)), RATE, "p")).apply(before)
    output = _Gated()
    engine = Engine(output)
    engine.load(Programme(before, after, Hearing.BEFORE))
    engine.play(0)
    poll(lambda: source.read_to >= AHEAD_SECONDS * RATE and output.is_asked.is_set())
    yield engine, output, before, after
    output.may_take.release(1000)
    engine.close()


def test_what_was_made_ahead_is_taken_back_when_something_else_is_to_be_heard(ahead):
    engine, output, before, after = ahead
    engine.hear(Hearing.AFTER)
    output.may_take.release(1000)
    poll(lambda: not engine.is_playing)
    poll(lambda: len(output.played()) >= RATE)
    sound = output.played()
    # The one block that was on its way is heard; the next is of the other version, at the same place.
    first = BLOCK_FRAMES
    assert np.array_equal(sound[FADE:first], all_of(before)[FADE:first])
    assert np.array_equal(sound[first + FADE : RATE], all_of(after)[first + FADE :])


def test_a_seek_and_a_stop_do_not_play_what_was_made_ahead(ahead):
    engine, output, _, _ = ahead
    engine.play(20_000)
    assert engine.position == 20_000
    engine.stop()
    output.may_take.release(1000)
    poll(lambda: not engine.is_playing and engine.position == 20_000)
    poll(lambda: len(output.played()) == BLOCK_FRAMES + FADE)


def test_the_newest_of_two_that_are_loaded_wins(engine, versions):
    before, after = versions
    engine.load(Programme(before, before))
    engine.load(Programme(before, after), unless=lambda: True)
    assert engine.programme.after is before
    engine.load(Programme(before, after), unless=lambda: False)
    assert engine.programme.after is after


class Clock:
    """Seconds that pass when they are told to."""

    def __init__(self):
        self.now = 100.0

    def __call__(self):
        return self.now

    def pass_(self, seconds):
        self.now += seconds


@pytest.fixture
def ramped():
    """A recording whose samples tell where they are, and what scrubs over it."""
    frames = 4 * RATE
    version = Version.of(ArraySource(np.linspace(0, 0.5, frames)[:, np.newaxis], RATE, "ramp"))
    clock, output = Clock(), SimulatedOutput(keeps_time=False, keeps_sound=True)
    engine = Engine(output, threaded=False, clock=clock)
    engine.load(Programme(version, version))
    yield engine, clock, output, frames
    engine.close()


@pytest.mark.parametrize("speed", [1.0, -1.0, 0.1, -0.25, 3.0, 0.0])
def test_scrubbed_sound_follows_the_hand_within_twenty_milliseconds(ramped, speed):
    engine, clock, output, frames = ramped
    begin = clock.now
    start = frames / 2
    next_told = 0.0
    lags = []
    engine.scrub(start)
    while (elapsed := clock.now - begin) < 0.5:
        if elapsed >= next_told:  # a pointer tells its place 125 times a second
            engine.scrub(start + speed * elapsed * RATE)
            next_told += 0.008
        assert engine.step()
        clock.now += SCRUB_FRAMES / RATE
        heard = output.played()[-1, 0]
        if abs(speed) >= 0.1 and elapsed > 0.1:
            place = heard / 0.5 * (frames - 1)
            hand = start + speed * (clock.now - begin) * RATE
            lags.append((hand - place) / RATE)
            assert abs(engine.position - hand) / RATE < 0.02 * max(1, abs(speed))
    if speed:
        assert np.abs(lags).max() < 0.02 * max(1, abs(speed))
    else:
        assert not output.played()[-SCRUB_FRAMES:].any(), "a hand that rests is silent"
    engine.end_scrub()
    assert engine.step() is False


def test_scrubbing_backward_plays_the_sound_backward(output):
    tone = Version.of(ArraySource(sine(300.0, 2.0), RATE, "t"))
    clock = Clock()
    engine = Engine(output, threaded=False, clock=clock)
    engine.load(Programme(tone, tone))
    for block in range(90):
        engine.scrub(1.5 * RATE - block * SCRUB_FRAMES)
        engine.step()
        clock.now += SCRUB_FRAMES / RATE
    heard = output.played()[40 * SCRUB_FRAMES :, 0]
    assert heard.max() == pytest.approx(0.5, rel=0.05)
    spectrum = np.abs(np.fft.rfft(heard * np.hanning(len(heard))))
    assert np.argmax(spectrum) * RATE / len(heard) == pytest.approx(300, abs=6)


def test_after_scrubbing_the_playhead_is_where_it_plays(engine, output):
    version = Version.of(ArraySource(0.3 * rng(1).standard_normal((RATE, 1)), RATE, "s"))
    engine.load(Programme(version, version))
    engine.scrub(1000.0)
    play(engine, 3)
    engine.scrub(3000.0)
    play(engine, 3)
    engine.end_scrub()
    engine.play(20_000)
    play(engine, 5)
    assert engine.position == 20_000 + 5 * BLOCK_FRAMES


@pytest.mark.parametrize(("speed", "keeps"), [(0.5, False), (0.25, False), (0.5, True), (0.25, True)])
def test_slow_playing_lasts_longer_and_keeps_the_pitch_if_asked(engine, output, speed, keeps):
    tone = Version.of(ArraySource(sine(400.0, 1.0, channels=2), RATE, "t"))
    engine.load(Programme(tone, tone))
    engine.set_pace(Pace(speed, keeps))
    engine.play(0)
    while engine.step():
        pass
    heard = output.played()
    assert len(heard) / RATE == pytest.approx(1 / speed, rel=0.12)
    middle = heard[RATE // 2 : RATE // 2 + RATE, 0]
    pitch = np.argmax(np.abs(np.fft.rfft(middle * np.hanning(len(middle)))))
    assert pitch == pytest.approx(400 if keeps else 400 * speed, abs=2)


def test_the_output_can_be_exchanged_while_playing(engine, output, versions):
    _, after = versions
    engine.load(Programme(after, after))
    engine.play(0)
    play(engine, 4)
    other = SimulatedOutput(keeps_time=False, keeps_sound=True)
    engine.use(other)
    play(engine, 4)
    assert engine.output_name == other.name
    heard = np.concatenate([output.played(), other.played()])
    assert np.array_equal(heard[FADE:], all_of(after)[FADE : len(heard)])


def test_a_simulated_output_counts_when_it_ran_dry(monkeypatch):
    clock = Clock()
    monkeypatch.setattr("umbrick.playback.simulated.time.monotonic", clock)
    monkeypatch.setattr("umbrick.playback.simulated.time.sleep", clock.pass_)
    output = SimulatedOutput(buffer_frames=480)
    output.open(RATE, 1)
    block = np.zeros((480, 1), np.float32)
    output.write(block)
    output.write(block)
    assert output.underruns == 0
    clock.pass_(0.05)
    output.write(block)
    assert output.underruns == 1
    output.flush()
    clock.pass_(0.02)
    output.write(block)
    assert output.underruns == 1


def test_another_form_can_be_chosen_while_playing_and_scrubbing_and_it_goes_on_playing(versions):
    other = Version.of(ArraySource(0.3 * rng(4).standard_normal((20_000, 1)), 44_100, "q"))
    said = []
    output = SimulatedOutput(keeps_time=False, keeps_sound=False)
    engine = Engine(output, on_fault=said.append)
    for number in range(40):
        chosen = (other, versions[1])[number % 2]
        engine.load(Programme(chosen, chosen))
        if number % 3 == 0:
            engine.scrub(100.0)
            engine.scrub(4000.0)
        else:
            engine.play(0, (0, 9000))
    engine.end_scrub()
    engine.load(Programme(other, other))
    engine.reset_meters()
    engine.play(0)
    poll(lambda: not engine.is_playing)
    assert engine.position == other.frames
    assert engine.reading.peak_dbfs > -40
    assert said == []
    engine.close()


class _Broken(ArraySource):
    def read(self, start, stop):
        raise RuntimeError("the pack of cards fell down")


def test_any_fault_is_told_and_the_next_recording_plays(versions):
    said = []
    engine = Engine(SimulatedOutput(keeps_time=False), on_fault=said.append)
    broken = Version.of(_Broken(np.zeros((9000, 2)), RATE, "b"))
    engine.load(Programme(broken, broken))
    engine.play(0)
    poll(lambda: said)
    assert "pack of cards" in said[0]
    assert not engine.is_playing
    engine.load(Programme(versions[0], versions[0]))
    engine.play(0)
    poll(lambda: not engine.is_playing)
    assert engine.position == versions[0].frames
    engine.close()


class _SlowToEnd(SimulatedOutput):
    """Takes as long as it is let to play what it holds."""

    def __init__(self):
        super().__init__(keeps_time=False)
        self.flushing, self.may_end = threading.Event(), threading.Event()

    def flush(self):
        self.flushing.set()
        self.may_end.wait(20)


def test_nobody_waits_while_a_device_plays_what_it_holds(versions):
    output = _SlowToEnd()
    engine = Engine(output)
    output.flushing.wait(20)
    engine.load(Programme(versions[0], versions[0]))
    engine.play(0)
    engine.stop()
    assert not output.may_end.is_set()
    output.may_end.set()
    engine.close()


def poll(is_true, seconds=20.0):
    limit = time.monotonic() + seconds
    while not is_true():
        assert time.monotonic() < limit
        time.sleep(0.002)
