import json

import numpy as np
import pytest

from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import method_named
from umbrick.core.sound.recording import open_recording
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor
from umbrick.core.timeline.version import Version
from umbrick.demo import recordings, truth_of


@pytest.fixture(params=recordings(), ids=lambda path: path.stem)
def demo(request, tmp_path):
    recording = open_recording(request.param, tmp_path)
    recording.source.wait()
    yield recording, json.loads(truth_of(request.param).read_text())["planted"]
    recording.close()


def clipping_of(survey):
    return [finding for finding in survey.sifted({}) if finding.kind == "clipping"]


MUST_BE_FOUND = {"dropout": 0.001, "click": 0.001, "plosive": 0.02, "intrusion": 0.1, "hum": 1.0, "hard_edge": 0.001}


def test_what_was_planted_is_listed_as_what_it_is(demo):
    recording, planted = demo
    found = Surveyor(recording.source, recording.format.bits, list(KINDS.values())).run().sifted({})
    rate = recording.source.rate
    for kind, slack in MUST_BE_FOUND.items():
        faults = [fault for fault in planted if fault["kind"] == kind]
        places = [
            (finding.start - slack * rate, finding.stop + slack * rate) for finding in found if finding.kind == kind
        ]
        met = [any(a < fault["end"] and b > fault["start"] for a, b in places) for fault in faults]
        assert sum(met) >= 0.75 * len(met), kind


def test_the_planted_clipping_is_found_and_nothing_else_is(demo):
    recording, planted = demo
    truth = np.zeros((recording.source.frames, recording.source.channels), bool)
    for fault in planted:
        if fault["kind"] == "clipping":
            truth[fault["start"] : fault["end"], fault["channels"]] = True
    found = np.zeros_like(truth)
    for finding in clipping_of(Surveyor(recording.source, recording.format.bits, list(KINDS.values())).run()):
        found[finding.start : finding.stop, list(finding.channels)] = True
    assert np.count_nonzero(found & truth) >= 0.98 * np.count_nonzero(truth)
    assert np.count_nonzero(found & truth) >= 0.98 * np.count_nonzero(found)


def test_mending_it_touches_nothing_else_and_leaves_no_clipping(demo):
    recording, planted = demo
    if not any(fault["kind"] == "clipping" for fault in planted):
        pytest.skip("nothing is clipped in this one")
    clipping = [KINDS["clipping"]]
    survey = Surveyor(recording.source, recording.format.bits, clipping).run()
    places = [Place.of(finding) for finding in survey.sifted({})]
    original = Version.of(recording.source)
    mended = apply_method(original, method_named("declip"), {"using": "curve"}, places)
    before, after = (version.read(0, version.frames) for version in (original, mended.version))
    changed = np.flatnonzero((before != after).any(axis=1))
    spans = np.array([(place.start, place.stop) for place in places])
    inside = np.searchsorted(spans[:, 0], changed, side="right") - 1
    assert (changed < np.maximum.accumulate(spans[:, 1])[inside]).all()
    again = Surveyor(mended.version, None, clipping).run().sifted({})
    assert len(again) < 0.1 * len(places)


def test_every_planted_fault_lies_in_its_recording(demo):
    recording, planted = demo
    assert planted
    for fault in planted:
        assert 0 <= fault["start"] < fault["end"] <= recording.source.frames
        assert set(fault["channels"]) <= set(range(recording.source.channels))
