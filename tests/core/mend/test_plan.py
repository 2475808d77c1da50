"""Plans: each finding gets its best mend, those alike together; stopping keeps what is done."""

from dataclasses import replace

import numpy as np
import pytest

from tests.sounds import RATE, faultless, sine, voice
from umbrick.core.errors import CancelledError
from umbrick.core.mend.plan import Plan, apart, carried_out, planned, run
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.finding import Finding
from umbrick.core.timeline.version import Version

COUNT = 40


def finding(number, kind, start, length):
    return Finding(f"{kind}{number}", kind, start, start + length, (0,), 0.5, 0.9, "planted")


@pytest.fixture(scope="module")
def clicked():
    sound = np.tile(faultless(1.0), (COUNT + 1, 1))
    findings = []
    for number in range(COUNT):
        at = (number + 1) * RATE - 2000
        sound[at] += 0.3
        findings.append(finding(number, "click", at, 1))
    return Version.of(ArraySource(sound.astype(np.float32), RATE, "s")), findings


def test_kinds_and_lengths_get_their_own_methods_in_one_change(clicked):
    version, clicks = clicked
    holes = [finding(n, "dropout", n * RATE + 9000, length) for n, length in ((2, 300), (5, 9000), (7, 300))]
    batches = planned([*clicks, *holes, finding(0, "hum", 0, version.frames)], version)
    assert {(batch.method.name, len(batch.places)) for batch in batches} == {
        ("declick", COUNT),
        ("bridge", 2),
        ("graft", 1),
    }
    shares = []
    done = carried_out(version, batches, [*clicks, *holes], shares.append).mended
    assert len(done.mends) == COUNT + 3
    starts = [mend.start for mend in done.mends]
    assert starts == sorted(starts)
    assert done.version.frames == version.frames
    assert shares[-1] == pytest.approx(1.0)
    assert {i for mend in done.mends for i in mend.finding_ids} == {f.id for f in [*clicks, *holes]}


def test_stopping_keeps_what_is_done(clicked):
    version, clicks = clicked
    shares = [0.0]
    first_part = 32 / COUNT
    stop = carried_out(version, planned(clicks, version), clicks, shares.append, lambda: shares[-1] >= first_part)
    done = stop.mended
    assert 0 < len(done.mends) < COUNT
    first = clicks[0].start
    assert abs(done.version.read(first, first + 1) - version.read(first, first + 1)).max() > 0.2
    with pytest.raises(CancelledError):
        carried_out(version, planned(clicks, version), clicks, is_cancelled=lambda: True)


def test_a_hole_that_nothing_fits_is_left_and_the_others_are_mended():
    sound = np.zeros((RATE, 1), np.float32)
    sound[:2000] = sine(300, 2000 / RATE)
    sound[700] += 0.5
    version = Version.of(ArraySource(sound, RATE, "s"))
    alone, click = finding(0, "dropout", 0, RATE), finding(1, "click", 700, 1)
    done = carried_out(version, planned([click, alone], version), [])
    assert [mend.finding_ids for mend in done.mended.mends] == [(click.id,)]
    assert [refused.place.finding_ids for refused in done.refused] == [(alone.id,)]
    nothing = carried_out(version, planned([alone], version), [])
    assert nothing.mended is None
    assert [refused.place for refused in nothing.refused] == [refused.place for refused in done.refused]


def test_of_two_that_lie_too_close_one_is_left_and_says_why():
    version = Version.of(ArraySource(voice(3.0).astype(np.float32), RATE, "s"))
    near, nearer, clear = (finding(n, "stutter", start, 2000) for n, start in enumerate((RATE, RATE + 2050, 2 * RATE)))
    done = carried_out(version, planned([near, nearer, clear], version), [])
    assert [mend.finding_ids for mend in done.mended.mends] == [(near.id,), (clear.id,)]
    assert [refused.place.finding_ids for refused in done.refused] == [(nearer.id,)]
    assert "too close" in done.refused[0].why.message


def test_what_lies_in_another_kinds_stretch_is_left_to_it():
    crackle, inside = finding(0, "crackle", 1000, 89_000), finding(1, "click", 5000, 10)
    edge, clear = finding(2, "click", 90_100, 10), finding(3, "click", 95_000, 3)
    assert apart([inside, clear, crackle, edge], RATE) == [crackle, clear]
    assert apart([inside, edge, clear], RATE) == [inside, edge, clear]


def test_a_part_that_both_its_ends_tell_of_is_levelled_once_and_both_are_mended():
    sound = voice(20.0)
    sound[6 * RATE : 13 * RATE] *= 0.2
    ends = [
        replace(finding(n, "level_step", at, 1), detail={"change_db": change_db, key: 7 * RATE})
        for n, (at, change_db, key) in enumerate([(6 * RATE, -14.0, "to_next"), (13 * RATE, 13.4, "to_previous")])
    ]
    version = Version.of(ArraySource(sound.astype(np.float32), RATE, "s"))
    outcome = run(version, Plan(tuple(ends)), ends)
    (mend,) = outcome.mends
    assert (mend.start, mend.stop) == (6 * RATE, 13 * RATE)
    assert set(mend.finding_ids) == {end.id for end in ends}
    assert (outcome.refused, outcome.better_left) == ((), 0)
