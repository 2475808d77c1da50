import csv
import io
import json
import re
from html.parser import HTMLParser

import numpy as np
import pytest

from tests.published import faults_of
from tests.sounds import RATE, rng
from umbrick.core.errors import CancelledError
from umbrick.core.report.document import document
from umbrick.core.report.facts import Facts, done_in_words, states_of
from umbrick.core.report.page import MOST_LINES, MOST_PICTURES, page
from umbrick.core.report.table import COLUMNS, as_csv
from umbrick.core.sound.cues import Cue
from umbrick.core.sound.formats import FileFormat
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.finding import Finding, State
from umbrick.core.timeline.change import replace_many
from umbrick.core.timeline.history import Edit, History, Mend
from umbrick.core.timeline.lifting import restore_here, switch_off
from umbrick.core.timeline.patch import Patch
from umbrick.core.timeline.version import Version

FRAMES = 100_000


def mended(count, length=20):
    """A history in which ``count`` places were rebuilt, one finding each."""
    history = History(Version.of(ArraySource(0.3 * rng().standard_normal((FRAMES, 1)), RATE, "s")))
    starts = np.arange(count) * (FRAMES // max(1, count))
    patch = Patch(np.full((count * length, 1), 0.5), RATE)
    mends = tuple(Mend("declip", s, s + length, (0,), {"using": "curve"}, 0.9, 0, (f"f{s}",)) for s in starts.tolist())
    change = replace_many(history.current, patch, starts, starts + length)
    history.push(Edit("declip", (change,), mends, tuple((n, n + 1) for n in range(count))))
    return history


def facts_of(history, **more):
    findings = [
        Finding(m.finding_ids[0], "clipping", m.start, m.stop, (0,), 0.5, 0.9, f"flat <{m.start}>")
        for m in history.mends
    ]
    on = [entry.mend for entry in history.ledger if entry.is_on]
    off = [entry.mend for entry in history.ledger if not entry.is_on]
    states = states_of(history)
    form = FileFormat("WAV", "PCM_24")
    return Facts("a & b.wav", "ab" * 32, form, history.original, history.current, findings, states, on, off, **more)


class Tags(HTMLParser):
    def __init__(self):
        super().__init__()
        self.open, self.counts, self.outside = [], {}, []

    def handle_starttag(self, tag, attrs):
        self.counts[tag] = self.counts.get(tag, 0) + 1
        self.outside += [value for name, value in attrs if name in ("src", "href")]
        if tag not in ("meta", "br"):
            self.open.append(tag)

    def handle_endtag(self, tag):
        assert self.open.pop() == tag


def parsed(html):
    tags = Tags()
    tags.feed(html)
    assert tags.open == []
    return tags


def test_the_page_is_whole_and_needs_nothing_beside_it():
    history = mended(3)
    facts = facts_of(history, notes={history.mends[0].finding_ids[0]: "her <cup>"}, markers=[Cue(5, 0, "bell")])
    html = page([facts])
    tags = parsed(html)
    assert tags.outside == []
    assert "http" not in html
    assert tags.counts["svg"] == 4  # the provenance, and one for each mend
    for text in (
        "a &amp; b.wav",
        "flat &lt;0&gt;",
        "her &lt;cup&gt;",
        "3 mends",
        "bell",
        "Timing debt 0 ms",
        "ab" * 32,
    ):
        assert text in html
    assert "rebuilt 0.060 %" in html


def test_the_pictures_show_the_sound_before_and_after():
    html = page([facts_of(mended(1))])
    before, after = (re.search(f'class="{name}" points="([^"]+)"', html)[1].split() for name in ("before", "after"))
    assert len(before) == len(after) == 34
    assert before[:20] != after[:20]
    assert before[-14:] == after[-14:]


def test_a_long_page_shows_so_much_and_says_so():
    tags = parsed(html := page([facts_of(mended(MOST_LINES + 5, length=3))]))
    assert tags.counts["svg"] == 1 + MOST_PICTURES
    assert f"The first {MOST_LINES} of {MOST_LINES + 5} mends" in html


def test_writing_the_page_can_be_stopped():
    with pytest.raises(CancelledError):
        page([facts_of(mended(3))], is_cancelled=lambda: True)


def test_the_table_and_the_json_hold_every_finding_and_mend():
    history = mended(5)
    history.push(switch_off(history, ["m2"]))
    facts = facts_of(history)
    rows = list(csv.DictReader(io.StringIO(as_csv([facts]))))
    assert tuple(rows[0]) == COLUMNS
    assert [row["state"] for row in rows if row["line"] == "mend"] == ["on"] * 4 + ["switched off"]
    assert [row["state"] for row in rows if row["line"] == "finding"] == ["mended"] * 4
    held = json.loads(json.dumps(document([facts])))
    entry = held["recordings"][0]
    assert held["schema"] == "umbrick.report/1"
    assert [mend["is_on"] for mend in entry["mends"]] == [True] * 4 + [False]
    assert entry["measures_before"] is None
    assert sum(v for k, v in entry["provenance_percent"].items() if k != "deleted") == pytest.approx(100)
    assert entry["timing_debt_frames"] == 0
    assert faults_of(held, "umbrick.report/1") == []
    assert faults_of(held | {"recordings": [entry | {"sha256": "no sum"}]}, "umbrick.report/1")


def test_what_was_restored_is_open_again():
    history = mended(2)
    history.push(Edit("keep", kept=("x",)))
    history.push(restore_here(history, 0, 50))
    assert states_of(history) == {history.mends[1].finding_ids[0]: State.MENDED, "x": State.KEPT}
    assert done_in_words(history.mends) == "3 mends: 2 declip, 1 restore"
