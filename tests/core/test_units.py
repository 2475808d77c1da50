import pytest
from hypothesis import given
from hypothesis import strategies as st

from umbrick.core import units
from umbrick.core.errors import ParameterError


@pytest.mark.parametrize(
    ("text", "frames"),
    [
        ("30000", 30000),
        ("30000 smp", 30000),
        ("625 ms", 30000),
        ("60/96 s", 30000),
        ("1.25s", 60000),
        ("1,25 s", 60000),
        ("2 min", 5760000),
        ("0:12.402", 595296),
        ("1:02:03.4", 178723200),
        ("−0:01.5", -72000),
        ("1 h 2 min", 178560000),
        ("1 min 30 s", 4320000),
        ("2 s + 30 ms", 97440),
        ("30\u202f000 smp", 30000),
        ("30 000", 30000),
        ("-5 ms", -240),
    ],
)
def test_times_are_typed_with_units(text, frames):
    assert units.parse_frames(text, 48000) == frames


@pytest.mark.parametrize(
    "text", ["", "ms", "12 parsecs", "1:2:3", "1/0 s", "1 s 2", "2 s - 1 s", "3 s at 96", "9" * 5000]
)
def test_what_is_no_time_is_refused_with_an_example(text):
    with pytest.raises(ParameterError):
        units.parse_frames(text, 48000)


def test_a_time_of_thousands_of_digits_is_refused():
    with pytest.raises(ParameterError, match="not a time"):
        units.parse_frames("9" * 5000, 48000)


@pytest.mark.parametrize("text", ["1.5", "60/96", "1,5"])
def test_a_part_of_a_frame_is_asked_for_its_unit(text):
    with pytest.raises(ParameterError, match="has no unit"):
        units.parse_frames(text, 48000)


@given(st.integers(0, 48000 * 3600 * 5))
def test_what_is_printed_can_be_typed(frames):
    assert abs(units.parse_frames(units.format_clock(frames, 48000), 48000) - frames) <= 24
    assert units.parse_frames(units.format_length(frames, 48000), 48000) == pytest.approx(frames, abs=2400)
    assert units.parse_frames(units.format_integer(frames), 48000) == frames


@pytest.mark.parametrize(("text", "level"), [("-3 dB", -3.0), ("−3", -3.0), ("+0.5 dBFS", 0.5), ("-1,5dB", -1.5)])
def test_levels_are_typed_in_decibels(text, level):
    assert units.parse_db(text) == level


def test_what_is_no_level_is_refused():
    with pytest.raises(ParameterError, match="not a level"):
        units.parse_db("loud")


@given(st.floats(1e-8, 1e3))
def test_levels_and_amplitudes_invert(amplitude):
    assert units.db_to_amplitude(units.amplitude_to_db(amplitude)) == pytest.approx(amplitude)


def test_silence_has_a_finite_level_written_as_infinite():
    assert units.amplitude_to_db(0.0) == units.SILENCE_DBFS
    assert units.format_db(units.amplitude_to_db(0.0)) == "−∞ dBFS"


def test_positions_and_lengths_are_written_for_a_person():
    assert units.format_clock(595296, 48000) == "0:12.402"
    assert units.format_clock(3 * 3600 * 48000, 48000) == "3:00:00.000"
    assert units.format_clock(-48000, 48000) == "−0:01.000"
    assert units.format_clock(48000, 48000, 0) == "0:01"
    assert units.format_length(11, 48000) == "0.23 ms"
    assert units.format_length(4046, 48000) == "84.3 ms"
    assert units.format_length(24000, 48000) == "500 ms"
    assert units.format_length(100800, 48000) == "2.10 s"


def test_levels_are_written_with_a_real_minus_and_no_minus_zero():
    assert units.format_db(-0.12) == "−0.1 dBFS"
    assert units.format_db(2.43) == "+2.4 dBFS"
    assert units.format_db(-0.01) == "0.0 dBFS"
    assert units.format_count(1, "sample") == "1 sample"
    assert units.format_count(12400, "sample") == "12\u202f400 samples"


def test_a_lowering_and_a_channel_are_named():
    assert units.format_lowering(-5.2) == "5.2 dB"
    assert units.format_lowering(3.0) == "−3.0 dB"
    assert [units.channel_name(channel, 2) for channel in (0, 1)] == ["left", "right"]
    assert units.channel_name(0, 5) == "channel 1"


@pytest.mark.parametrize(
    ("share", "text"),
    [
        (0.0, "0 %"),
        (100.0, "100 %"),
        (33.333, "33.3 %"),
        (0.0601, "0.060 %"),
        (99.99838, "99.9984 %"),
        (1e-7, "under 0.0001 %"),
    ],
)
def test_a_share_never_looks_like_nothing_or_all_unless_it_is(share, text):
    assert units.format_percent(share) == text
