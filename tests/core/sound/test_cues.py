import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.core.sound.test_metadata import CHUNKS, with_chunks
from tests.sounds import RATE, sine, write
from umbrick.core.errors import ParameterError
from umbrick.core.marker_table import markers_from_csv, markers_to_csv
from umbrick.core.sound.cues import Cue, cue_chunks, read_cues

FRAMES = 1_000_000
WORDS = st.text(st.characters(exclude_characters="\0", exclude_categories=["Cs", "Cc"]), max_size=30).map(str.strip)


@st.composite
def cues(draw):
    start = draw(st.integers(0, FRAMES))
    return Cue(start, draw(st.integers(0, FRAMES - start)), draw(WORDS), draw(WORDS))


def test_cue_points_of_another_program_are_read(tmp_path):
    path = with_chunks(write(tmp_path / "a.wav", sine(seconds=0.1)))
    assert read_cues(path) == [Cue(100, 0, "gate")]
    assert read_cues(write(tmp_path / "b.wav", sine(seconds=0.1))) == []
    assert read_cues(write(tmp_path / "b.flac", sine(seconds=0.1))) == []


@given(held=st.lists(cues(), max_size=8))
def test_cue_points_survive_being_written_and_read(tmp_path_factory, held):
    path = write(tmp_path_factory.mktemp("cues") / "a.wav", sine(seconds=0.1))
    data = path.read_bytes()
    for name, body in cue_chunks(held):
        data += name + len(body).to_bytes(4, "little") + body + b"\0" * (len(body) & 1)
    path.write_bytes(data)
    assert read_cues(path) == sorted(held)


@given(held=st.lists(cues(), max_size=8))
def test_markers_survive_a_table(held):
    assert markers_from_csv(markers_to_csv(held, RATE), RATE, FRAMES) == sorted(held)


def test_a_table_made_by_hand_needs_only_clock_times():
    found = markers_from_csv("name,start,end\nlaugh,0:01.5,\nshout,2 s,2500 ms\n", 1000, 10_000)
    assert found == [Cue(1500, 0, "laugh"), Cue(2000, 500, "shout")]


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("name\nx\n", "no column"),
        ("name,start\nx,soon\n", "Row 2: .*not a time"),
        ("name,start\nx,\n", "Row 2 is not a place"),
        ("name,start,end\nx,5 s,4 s\n", "Row 2 is not a place"),
        ("name,start\nx,99999 s\n", "Row 2 is not a place"),
    ],
)
def test_a_table_that_makes_no_sense_names_the_row(text, says):
    with pytest.raises(ParameterError, match=says):
        markers_from_csv(text, 1000, 10_000)


def test_broken_chunks_give_what_can_be_read(tmp_path):
    path = with_chunks(write(tmp_path / "a.wav", sine(seconds=0.1)))
    data = path.read_bytes()
    cut = data.index(CHUNKS[b"cue "]) + 10
    path.write_bytes(data[:cut])
    assert read_cues(path) == []
