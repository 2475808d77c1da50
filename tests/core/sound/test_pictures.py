"""The pictures of a video, and positions counted in them."""

from fractions import Fraction

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.sounds import faultless
from tests.videos import write_video
from umbrick.core.errors import FileError, ParameterError
from umbrick.core.sound.containers.pictures import Pictures
from umbrick.core.timecode import format_timecode, parse_rate, parse_timecode


def lit(shown):
    """How wide the bright part of a picture is: three pixels more in each picture."""
    return int((shown.pixels[10, :, 0] > 120).sum())


@pytest.fixture
def pictures(tmp_path):
    held = Pictures(write_video(tmp_path / "a.mkv", [("flac", faultless(1.0))], seconds=4.0), "MATROSKA")
    yield held
    held.close()


@pytest.mark.parametrize("order", [range(0, 20), range(19, -1, -1), [3, 15, 4, 4, 0, 19, 2]])
def test_the_picture_of_a_moment_is_shown_forward_backward_and_anywhere(pictures, order):
    assert pictures.rate == 25
    for number in order:
        shown = pictures.at(number / 25 + 0.013)
        assert abs(lit(shown) - 3 * number) <= 2
        assert (shown.begins, shown.ends) == pytest.approx((number / 25, (number + 1) / 25))


def test_past_the_end_the_last_picture_stays(pictures):
    assert pictures.at(100.0).begins == pytest.approx(99 / 25)
    assert abs(lit(pictures.at(0.0))) <= 2


def test_pictures_at_uneven_times_are_shown_until_the_next(tmp_path):
    steps = [0, 40, 95, 700, 1900]
    held = Pictures(write_video(tmp_path / "a.mkv", [("flac", faultless(1.0))], steps=steps), "MATROSKA")
    assert [held.at(at).begins for at in (0.01, 0.05, 0.5, 0.71, 1.8)] == pytest.approx([0, 0.04, 0.095, 0.7, 0.7])
    held.close()


def test_a_turned_picture_is_shown_turned(tmp_path):
    path = write_video(tmp_path / "a.mp4", [("aac", faultless(1.0))])
    data = bytearray(path.read_bytes())
    at = data.index(b"tkhd") + 4 + 40
    data[at : at + 20] = b"".join(n.to_bytes(4, "big") for n in (0, 0x10000, 0, 0xFFFF0000, 0))
    path.write_bytes(data)
    held = Pictures(path, "MP4")
    assert held.at(0.5).pixels.shape == (64, 48, 3)
    held.close()


def test_sound_alone_has_no_picture(tmp_path):
    path = write_video(tmp_path / "a.mkv", [("flac", faultless(1.0))], picture=False)
    with pytest.raises(FileError, match="no picture"):
        Pictures(path, "MATROSKA")


def test_a_damaged_video_shows_what_can_be_decoded(tmp_path):
    path = write_video(tmp_path / "a.mkv", [("flac", faultless(2.0))], seconds=4.0)
    data = bytearray(path.read_bytes())
    middle = len(data) // 2
    data[middle : middle + 300] = bytes(300)
    path.write_bytes(data)
    held = Pictures(path, "MATROSKA")
    assert isinstance(held.at(0.5).pixels, np.ndarray)
    for seconds in (1.0, 2.0, 3.0, 0.2):
        held.at(seconds)
    held.close()


RATES = st.sampled_from(
    [Fraction(24), Fraction(25), Fraction(30), Fraction(30000, 1001), Fraction(24000, 1001), Fraction(50)]
)


@given(RATES, st.integers(0, 24 * 3600 * 20))
def test_timecodes_come_back(rate, picture):
    seconds = picture / float(rate)
    assert round(parse_timecode(format_timecode(seconds, rate), rate) * float(rate)) == picture


@pytest.mark.parametrize("text", ["", "1:2:3", "00:00:00:25", "00:61:00:00", "a:b:c:d", "-1:00:00:00"])
def test_what_is_no_timecode_is_told(text):
    with pytest.raises(ParameterError):
        parse_timecode(text, Fraction(25))


def test_rates_are_typed_as_people_write_them():
    assert parse_rate("25") == 25
    assert parse_rate("29,97") == parse_rate("30000/1001") == Fraction(30000, 1001)
    assert parse_rate("23.976") == Fraction(24000, 1001)
    for text in ("", "0", "1/0", "1000", "x"):
        with pytest.raises(ParameterError):
            parse_rate(text)
