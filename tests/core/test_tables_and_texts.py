import csv
import io

from hypothesis import given
from hypothesis import strategies as st

from umbrick.core.csv_table import csv_text, unguarded
from umbrick.core.plain_text import plain, plain_line

CELLS = st.text(st.characters(codec="utf-8", exclude_characters="\r\n\0"), max_size=12) | st.sampled_from(
    ["=1+1", "+cmd", "-2 dB", "@x", "'=x", "'", "''", "-3.5", "+2", "  =x", "\t=x"]
)


@given(st.lists(CELLS, min_size=1, max_size=4))
def test_no_cell_is_a_formula_and_every_one_comes_back(cells):
    (row,) = csv.reader(io.StringIO(csv_text([cells])))
    assert [unguarded(cell) for cell in row] == cells
    for cell, was in zip(row, cells, strict=True):
        is_number = was.lstrip("+-").replace(".", "", 1).isdecimal() and was.isascii()
        assert is_number or not cell.lstrip().startswith(("=", "+", "-", "@"))


@given(st.text(st.characters(exclude_categories=[]), max_size=30))
def test_whatever_a_name_holds_it_can_be_printed_and_does_nothing(text):
    for shown in (plain_line(text), plain(text)):
        shown.encode()
        assert "\x1b" not in shown
        assert "\x9b" not in shown
    assert "\n" not in plain_line(text)


def test_what_is_no_letter_is_written_out():
    assert plain_line("a\x1b[2J\udce4\u202eb\nc") == r"a\x1b[2J\xe4\u202eb c"
    assert plain_line("Südtor — ½") == "Südtor — ½"
