"""Rehearsing: faults planted at clean places, every mend measured, the same result every time."""

import numpy as np
import pytest

from tests.sounds import RATE, chord, clipped, runs, voice
from umbrick.core.errors import CancelledError, ParameterError
from umbrick.core.mend.rehearsal import rehearse
from umbrick.core.mend.remedies import first_remedy, remedies
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.finding import Finding
from umbrick.core.timeline.version import Version


def finding(kind, start, stop, **detail):
    return Finding("f", kind, start, stop, (0,), 0.5, 0.9, "planted", detail)


def opened(sound):
    return Version.of(ArraySource(sound.astype(np.float32), RATE, "s"))


def holed():
    sound = chord(8.0)
    sound[4 * RATE : 4 * RATE + 480] = 0
    return opened(sound), finding("dropout", 4 * RATE, 4 * RATE + 480)


def test_what_is_nearest_to_the_truth_comes_first():
    version, hole = holed()
    shares = []
    found = rehearse(hole, version, [hole], shares.append)
    assert len(found.places) == 6
    assert all(abs(place - hole.start) > RATE // 10 for place in found.places)
    means = [row.mean_db for row in found.rows]
    assert means == sorted(means, reverse=True)
    assert {row.title for row in found.rows} >= {"All that is known", "Both sides", "Like sound nearby"}
    assert found.best.mean_db > 30
    assert shares[-1] == 1.0
    assert rehearse(hole, version, [hole]) == found


def test_a_click_and_clipping_are_planted_as_they_are():
    sound = voice(8.0)
    sound[2 * RATE] += 0.5
    click = finding("click", 2 * RATE, 2 * RATE + 1)
    found = rehearse(click, opened(sound), [click])
    assert found.best.mean_db > next(row.mean_db for row in found.rows if row.title == "Curve") - 1e-9
    flat, _, mask = clipped(voice(8.0), 0.002)
    start, stop = next((a, b) for a, b in runs(mask[:, 0]) if b - a >= 3)
    rows = rehearse(finding("clipping", start, stop), opened(flat), []).rows
    assert [row.title for row in rows][-1] == "Smooth curve"


def test_what_cannot_be_rehearsed_says_why():
    version, hole = holed()
    with pytest.raises(ParameterError, match="cannot be simulated"):
        rehearse(finding("stutter", 100, 900), version, [])
    with pytest.raises(ParameterError, match="too long"):
        rehearse(finding("dropout", 0, 3 * RATE), version, [])
    with pytest.raises(ParameterError, match="too few clean places"):
        rehearse(hole, version, [finding("crackle", second * RATE, (second + 1) * RATE) for second in range(8)])
    with pytest.raises(CancelledError):
        rehearse(hole, version, [], is_cancelled=lambda: True)


def test_a_preferred_mend_comes_first():
    version, hole = holed()
    assert remedies(hole, version)[0].title == "All that is known"
    assert remedies(hole, version, "Both sides")[0].title == "Both sides"
    assert first_remedy(hole, version, "Both sides").settings == {"using": "prediction"}
    assert first_remedy(hole, version, "Something else").title == "All that is known"


@pytest.mark.parametrize(
    ("kind", "length", "method"),
    [
        ("dropout", 100, "bridge"),
        ("dropout", 10_000, "graft"),
        ("click", 3, "declick"),
        ("crackle", 9000, "decrackle"),
        ("discontinuity", 2, "bridge"),
        ("stutter", 2000, "collapse"),
        ("peak", 800, "level"),
        ("hard_edge", 1, "fade"),
    ],
)
def test_every_kind_gets_its_method_and_five_mends_at_most(kind, length, method):
    sound = voice(4.0)
    sound[RATE + 1 :] *= -1
    version = opened(sound)
    fault = finding(kind, RATE, RATE + length, excess_db=5.0)
    offered = remedies(fault, version)
    assert 2 <= len(offered) <= 5
    assert len({remedy.title for remedy in offered}) == len(offered)
    first = first_remedy(fault, version)
    assert first.method.name == method
    assert (first.title, first.settings, first.place) == (offered[0].title, offered[0].settings, offered[0].place)
    for remedy in offered:
        remedy.method.checked(remedy.settings)


def test_what_no_method_mends_is_offered_nothing():
    assert remedies(finding("hum", 0, 100), opened(voice(1.0))) == []
    assert first_remedy(finding("hum", 0, 100), opened(voice(1.0))) is None
