"""The state of an open recording, without a window."""

import numpy as np
import pytest

from tests.sounds import clipped, faultless, write
from umbrick.casebook.unnamed import create_unnamed
from umbrick.core.sound.pyramid import Pyramid, build
from umbrick.core.sound.recording import open_recording
from umbrick.core.survey.finding import Finding, State
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor
from umbrick.core.survey.table import FindingTable
from umbrick.core.timeline.change import delete, replace_many
from umbrick.core.timeline.history import Edit, Mend
from umbrick.core.timeline.patch import Patch
from umbrick.work.work import Work, merged


@pytest.fixture
def work(tmp_path):
    recording = open_recording(write(tmp_path / "a.wav", clipped(faultless(2.0), 0.004)[0]), tmp_path)
    pyramid = Pyramid(recording.source.frames, 1)
    build(pyramid, recording.source)
    casebook = create_unnamed()
    shelf = casebook.add(recording)
    work = Work(recording, pyramid, shelf, shelf.history(recording.source).history)
    survey(work)
    yield work
    casebook.close()
    recording.close()


def survey(work):
    work.survey_count += 1
    found = Surveyor(work.version, 24, list(KINDS.values()), prefix=f"{work.survey_count}.").run()
    work.found, work.survey = merged(found, work.decided()), found


def mend(work, findings):
    mends = tuple(Mend("declip", f.start, f.stop, f.channels, {}, finding_ids=(f.id,)) for f in findings)
    starts, stops = [f.start for f in findings], [f.stop for f in findings]
    patch = Patch(np.full((sum(stops) - sum(starts), 1), 1.7), work.rate)
    parts = tuple((n, n + 1) for n in range(len(findings)))
    edit = Edit("declip", (replace_many(work.version, patch, starts, stops),), mends, parts)
    work.shelf.commit(work.history, edit)


def test_states_follow_the_history_and_nothing_else(work):
    first, second, *_ = work.listing().open_findings()
    mend(work, [first])
    work.shelf.commit(work.history, Edit("keep", kept=(second.id,)))
    assert [work.state_of(f) for f in (first, second)] == [State.MENDED, State.KEPT]
    assert (work.listing().count(State.MENDED), work.listing().count(State.KEPT)) == (1, 1)
    work.history.undo()
    assert work.state_of(second) is State.OPEN
    work.history.undo()
    assert work.state_of(first) is State.OPEN
    work.history.redo()
    assert work.state_of(first) is State.MENDED


def test_the_listing_stays_the_same_object_until_something_changes(work):
    listing = work.listing()
    assert work.listing() is listing
    work.tried_sensitivity["clipping"] = 0.9
    assert work.listing() is not listing


def test_what_was_decided_stays_listed_at_any_sensitivity(work):
    first = work.listing().open_findings()[0]
    mend(work, [first])
    work.tried_sensitivity["clipping"] = 0.0
    assert first in [work.table.findings[row] for row in work.listing().rows]


def test_a_new_survey_keeps_decided_findings_and_gives_new_names(work):
    before = work.listing().open_findings()
    mend(work, before[:3])
    survey(work)
    assert work.listing().count(State.MENDED) == 3
    assert len(work.listing().open_findings()) == pytest.approx(len(before) - 3, abs=2)
    assert {finding.id[0] for finding in work.listing().open_findings()} == {"2"}
    work.history.undo()
    assert work.listing().count(State.OPEN) == pytest.approx(len(before), abs=2)


def test_neighbours_go_round_and_start_from_the_cursor_without_a_focus(work):
    findings = [Finding(f"x{n}", "clipping", n * 100, n * 100 + 3, (0,), 0.5, 1.0, "") for n in range(5)]
    work.found = FindingTable.of(findings)
    listing = work.listing()
    assert listing.neighbour(150, None, 1, singly=True) is findings[2]
    assert listing.neighbour(150, None, -1, singly=True) is findings[1]
    assert listing.neighbour(0, findings[4], 1, singly=True) is findings[0]
    assert listing.neighbour(0, findings[0], -1, singly=True) is findings[4]
    work.shelf.commit(work.history, Edit("keep", kept=("x2",)))
    assert work.listing().neighbour(0, findings[1], 1, singly=True) is findings[3]
    assert work.listing().neighbour(0, findings[2], -1, singly=True) is findings[1]
    assert [f.id for f in work.listing().open_near(findings[2], 100)] == ["x1", "x3"]
    work.found = FindingTable.of(())
    assert work.listing().neighbour(0, None, 1) is None


def test_those_that_belong_together_are_one_step(work):
    starts = (0, 100, 20_000, 40_000, 40_100)
    findings = [Finding(f"x{at}", "clipping", at, at + 3, (0,), 0.5, 1.0, "") for at in starts]
    work.found = FindingTable.of(findings)
    listing = work.listing()
    assert listing.neighbour(50, None, 1) is findings[2]
    assert listing.neighbour(0, findings[1], 1) is findings[2]
    assert listing.neighbour(0, findings[1], -1) is findings[3]
    assert listing.neighbour(0, findings[4], 1) is findings[0]
    assert listing.group_of(findings[4]) == findings[3:]
    work.shelf.commit(work.history, Edit("keep", kept=("x0",)))
    assert work.listing().neighbour(0, findings[4], 1) is findings[1]
    work.shelf.commit(work.history, Edit("keep", kept=("x100",)))
    assert work.listing().neighbour(0, findings[1], 1) is findings[2]


def test_peaks_are_remembered_for_each_version(work):
    assert work.measure_peak(work.version) == pytest.approx(0.9, abs=1e-6)
    mend(work, work.listing().open_findings()[:1])
    work.measure_peak(work.version)
    assert work.peak == pytest.approx(1.7, rel=1e-6)
    assert work.fitting_gain_db == pytest.approx(-4.7)
    work.history.undo()
    assert work.peak == pytest.approx(0.9, abs=1e-6)


def test_findings_move_with_their_sound_and_go_with_it(work):
    first, second, *_ = work.listing().open_findings()
    work.focus = second
    cut = delete(work.version, second.start - 40, second.start - 10)
    work.shelf.commit(work.history, Edit("cut", (cut,), (Mend("splice", 0, 30, (0,), {}, time_shift=-30),), ((0, 1),)))
    assert not work.history.is_in_place
    work.follow_focus()
    assert (work.focus.id, work.focus.start, work.focus.stop) == (second.id, second.start - 30, second.stop - 30)
    assert work.listing().open_findings()[0] == first
    whole = delete(work.version, work.focus.start - 1, work.focus.stop + 1)
    work.shelf.commit(work.history, Edit("cut", (whole,), (Mend("splice", 0, 9, (0,), {}),), ((0, 1),)))
    work.follow_focus()
    assert work.focus is None
    assert second.id not in work.table.rows
    work.history.undo()
    work.history.undo()
    assert work.history.is_in_place
    assert work.table.findings[work.table.rows[second.id]] == second


def test_a_survey_of_a_shortened_recording_finds_the_same_places_of_the_original(work):
    before = {(f.start, f.stop) for f in work.listing().open_findings()}
    cut = delete(work.version, 10, 1010)
    work.shelf.commit(work.history, Edit("cut", (cut,), (Mend("splice", 10, 1010, (0,), {}),), ((0, 1),)))
    found = Surveyor(work.version, 24, list(KINDS.values()), prefix="9.").run()
    moved = found.table.moved(work.version, work.history.original)
    after = {(f.start, f.stop) for f in moved.findings}
    assert len(before & after) >= 0.9 * len([span for span in before if span[0] > 1010])
