import csv
import io
import itertools
import json
import threading
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.sounds import RATE, clipped, faultless, rng, voice, write
from umbrick.core.errors import CancelledError, ParameterError
from umbrick.core.sound.formats import HIGHEST_RATE, LOWEST_RATE
from umbrick.core.sound.recording import open_recording
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.document import as_csv, document, recording_as_json
from umbrick.core.survey.finding import Finding
from umbrick.core.survey.kinds.clipping import ClippingDetector
from umbrick.core.survey.registry import KINDS, kinds_named
from umbrick.core.survey.streaming import BLOCK_FRAMES, MARGIN_FRAMES, blocks
from umbrick.core.survey.survey import Surveyor
from umbrick.core.survey.table import FindingTable


def surveyor(sound):
    return Surveyor(ArraySource(sound, RATE, "s"), 24, list(KINDS.values()))


def test_blocks_cover_everything_once_with_what_is_around_them():
    sound = np.arange(2 * BLOCK_FRAMES + 1000, dtype=np.float32)[:, np.newaxis]
    stop = 0
    for block in blocks(ArraySource(sound, RATE, "s")):
        assert block.start == stop
        stop = block.stop
        assert block.samples[block.before, 0] == block.start
        assert block.before == min(block.start, MARGIN_FRAMES)
        assert block.samples[-1, 0] == min(block.stop + MARGIN_FRAMES, len(sound)) - 1
    assert stop == len(sound)


def test_findings_appear_while_the_survey_runs():
    sound, _, _ = clipped(voice(40.0), 0.005)
    came = []
    whole = surveyor(sound).run(found=came.append)
    assert [survey.frames // BLOCK_FRAMES for survey in came] == [1, 2, 4]
    assert 0 < len(came[0].table.findings) < len(came[1].table.findings) < len(whole.table.findings)
    assert whole.frames == len(sound)


def test_a_stopped_survey_keeps_what_came():
    sound, _, _ = clipped(voice(40.0), 0.005)
    running = surveyor(sound)
    answers = iter([False, False, True])
    with pytest.raises(CancelledError):
        running.run(is_cancelled=lambda: next(answers))
    assert running.so_far().frames == 2 * BLOCK_FRAMES
    assert running.so_far().table.findings


def test_while_something_plays_one_thread_works_and_nothing_else_changes():
    sound, _, _ = clipped(voice(40.0), 0.005)
    fed_by = set()

    class Watching(ClippingDetector):
        def feed(self, block):
            fed_by.add(threading.current_thread())
            super().feed(block)

    kinds = [replace(KINDS["clipping"], make=Watching)]
    source = ArraySource(sound, RATE, "s")
    alone = Surveyor(source, 24, kinds).run(leaves_a_core=lambda: True)
    assert fed_by == {threading.current_thread()}
    answers = itertools.cycle([True, False, False])
    mixed = Surveyor(source, 24, kinds).run(leaves_a_core=lambda: next(answers))
    assert alone.table.findings == mixed.table.findings == Surveyor(source, 24, kinds).run().table.findings


def table(*spans):
    return FindingTable.of(
        Finding(f"f{n}", kind, start, stop, (n % 2,), 0.5, n / 10, "") for n, (kind, start, stop) in enumerate(spans, 1)
    )


def test_sensitivity_sifts_without_measuring():
    findings = table(*[("clipping", n, n + 1) for n in range(9)])
    assert findings.passing({}).sum() == 5
    assert findings.passing({"clipping": 1.0}).all()
    assert findings.passing({"clipping": 0.2}).sum() == 2
    assert not findings.passing({"clipping": 0.0}).any()
    assert not FindingTable.of(()).passing({}).any()


@given(
    st.lists(st.tuples(st.integers(0, 300), st.integers(1, 80)), max_size=40), st.integers(0, 300), st.integers(1, 60)
)
def test_a_table_finds_what_reaches_into_a_span(spans, start, length):
    findings = table(*[("clipping" if n % 3 else "click", a, a + b) for n, (a, b) in enumerate(spans)])
    assert list(findings.starts) == sorted(a for a, _ in spans)
    expected = [r for r, f in enumerate(findings.findings) if f.start < start + length and f.stop > start]
    assert findings.within(start, start + length).tolist() == expected
    for name in ("clipping", "click", "squeak"):
        assert findings.of_kind(name).tolist() == [finding.kind == name for finding in findings.findings]
    assert all(findings.findings[row].id == name for name, row in findings.rows.items())


def test_the_document_follows_the_schema(tmp_path):
    sound, _, mask = clipped(voice(3.0), 0.01)
    path = write(tmp_path / "a.wav", sound)
    recording = open_recording(path, tmp_path)
    survey = Surveyor(recording.source, recording.format.bits, list(KINDS.values())).run()
    whole = document([recording_as_json("a.wav", recording, survey, {})])
    recording.close()
    json.dumps(whole, allow_nan=False)
    assert whole["schema"] == "umbrick.findings/1"
    entry = whole["recordings"][0]
    assert (entry["path"], entry["rate"], entry["channels"], entry["frames"]) == ("a.wav", RATE, 1, len(sound))
    assert entry["measures"]["clipped_share"] == pytest.approx(mask.mean(), rel=0.02)
    assert entry["measures"]["prognosis"] in ("good", "fair", "poor")
    assert entry["measures"]["prognosis_reason"].endswith(".")
    finding = entry["findings"][0]
    assert set(finding) == {"id", "kind", "start", "end", "channels", "severity", "confidence", "evidence", "detail"}
    assert finding["id"] == "f1"
    assert len({f["id"] for f in entry["findings"]}) == len(entry["findings"])
    rows = list(csv.DictReader(io.StringIO(as_csv(whole))))
    assert "g1" in [row["group"] for row in rows]
    assert [row["group"] for row in rows] == [f["detail"].get("group", "") for f in entry["findings"]]
    assert [int(row["start"]) for row in rows] == [f["start"] for f in entry["findings"]]
    assert float(rows[0]["seconds"]) == pytest.approx(finding["start"] / RATE, abs=1e-6)


def test_kinds_are_chosen_by_name():
    assert [kind.name for kind in kinds_named(["clipping"])] == ["clipping"]
    with pytest.raises(ParameterError, match="no kind of finding “squeak”"):
        kinds_named(["squeak"])


@pytest.mark.parametrize(
    ("share", "grade", "says"),
    [(0.0, "good", "Nothing is clipped"), (0.003, "good", "clean result"), (0.15, "poor", "some harshness will stay")],
)
def test_the_prognosis_is_honest(share, grade, says):
    sound = clipped(voice(6.0), share)[0] if share else voice(6.0)
    measures = surveyor(sound).run().measures({})
    assert measures.prognosis.grade == grade
    assert says in measures.prognosis.reason


@pytest.mark.parametrize(
    ("milliseconds", "count", "grade", "says"),
    [
        (8, 3, "good", "expect it to be filled"),
        (90, 2, "fair", "up to 90 ms at once"),
        (300, 3, "poor", "brought back"),
    ],
)
def test_the_prognosis_tells_what_is_missing(milliseconds, count, grade, says):
    sound = faultless(12.0)
    for at in (np.arange(count) + 1) * 2 * RATE + RATE // 3:
        sound[at : at + milliseconds * RATE // 1000] = 0
    measures = surveyor(sound).run().measures({})
    assert measures.prognosis.grade == grade
    assert says in measures.prognosis.reason


def test_the_prognosis_tells_when_sound_is_buried_in_noise():
    sound = faultless(8.0)
    sound[3 * RATE : 5 * RATE] = 0
    noise = rng(1).standard_normal(sound.shape)
    measures = surveyor(0.5 * sound + 0.02 * noise).run().measures({})
    assert measures.prognosis.grade == "fair"
    assert "The noise is" in measures.prognosis.reason
    assert surveyor(0.5 * sound + 0.1 * noise).run().measures({}).prognosis.grade == "poor"


def test_a_few_deeply_clipped_passages_are_told_apart():
    sound = 0.45 * voice(30.0)
    sound[:RATE] = np.clip(voice(1.0) * 6, -0.45, 0.45)
    measures = surveyor(sound).run().measures({})
    assert measures.prognosis.grade in ("fair", "poor")
    assert "deeply" in measures.prognosis.reason


@pytest.mark.parametrize("rate", [LOWEST_RATE, HIGHEST_RATE])
@pytest.mark.parametrize("frames", [1, 900, 20_000])
def test_every_detector_works_at_the_ends_of_the_rates(rate, frames):
    wave = np.clip(0.3 * np.sin(np.arange(frames) * 0.3) + 0.05 * rng(1).standard_normal(frames), -0.3, 0.3)
    source = ArraySource(wave[:, np.newaxis].astype(np.float32), rate, "ends")
    survey = Surveyor(source, 16, list(KINDS.values())).run()
    assert survey.frames == frames
    assert all(0 <= finding.start < finding.stop <= frames for finding in survey.table.findings)
