import os
import shutil
import sqlite3
from contextlib import suppress
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule

from tests.sounds import rng, write
from umbrick.casebook.casebook import Casebook, is_casebook
from umbrick.casebook.errors import CasebookError, CasebookInUseError, DamagedCasebookError
from umbrick.casebook.locating import Match, absolute, compare, relative
from umbrick.casebook.recovery import lift_off_broken, recover
from umbrick.casebook.surveys import Surveyed
from umbrick.casebook.unnamed import create_unnamed, left_behind
from umbrick.core.course.frozen import freeze
from umbrick.core.course.laid import Ground
from umbrick.core.course.learning import new_step
from umbrick.core.course.settling import settling
from umbrick.core.course.tiles import Tiles
from umbrick.core.mend.registry import METHODS
from umbrick.core.sound.identity import sha256_of
from umbrick.core.sound.recording import open_recording
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor
from umbrick.core.timeline import change as changes
from umbrick.core.timeline.history import Edit, Mend, StaleEditError
from umbrick.core.timeline.lifting import StandsOnError, lift_off, restore_here, switch_off, switch_on
from umbrick.core.timeline.marks import CourseTurn
from umbrick.core.timeline.patch import Nature, Patch

FRAMES = 400


@pytest.fixture
def recording(tmp_path):
    path = write(tmp_path / "tape.wav", 0.5 * rng(1).standard_normal((FRAMES, 2)).clip(-1, 1))
    recording = open_recording(path, tmp_path / "cache")
    yield recording
    recording.close()


@pytest.fixture
def casebook(tmp_path):
    casebook = Casebook.create(tmp_path / "work.casebook")
    yield casebook
    casebook.close()


def mend_of(version, start, stop, seed=0, length=None):
    """An edit that rebuilds a span of a version with noise."""
    patch = Patch(rng(seed).standard_normal((stop - start if length is None else length, 2)) / 8, version.rate)
    change = changes.replace(version, start, stop, patch)
    mend = Mend("bridge", start, stop, (0, 1), {"crossfade_ms": 1.0}, 0.5, change.time_shift, (f"f{seed}",))
    return Edit("bridge", (change,), (mend,), ((0, 1),))


def reopened(casebook, recording):
    casebook.close()
    again = Casebook.open(casebook.path)
    (shelf,) = again.shelves()
    restored = shelf.history(recording.source)
    assert not restored.lost
    return again, shelf, restored.history


def samples(version):
    return version.read_exact(0, version.frames)


def state_of(history):
    """All that can be seen of a history, as plain values."""
    return (
        history.current.key,
        history.now,
        [(edit.title, edit.made, edit.parts, edit.switched_on, edit.switched_off, edit.lifted, edit.kept, edit.made_at)
         for edit in history.all_edits],
        [(entry.number, entry.mend, entry.is_on, entry.first, entry.last) for entry in history.ledger],
        history.course,
    )  # fmt: skip


def offset_step(course=(), spans=None, offset=0.1):
    step = new_step(METHODS["dc"], {}, (1,), spans, course)
    return replace(step, profile={"offset": [offset]}, learned_from="what was there")


class SavedAndReopened(RuleBasedStateMachine):
    """Whatever is done, closing and opening again gives the same state, and the same samples."""

    folder = None

    def __init__(self):
        super().__init__()
        self.path = self.folder / f"{os.urandom(6).hex()}.casebook"
        self.recording = open_recording(self.folder / "tape.wav", self.folder / "cache")
        self.casebook = Casebook.create(self.path)
        self.shelf = self.casebook.add(self.recording)
        self.history = self.shelf.history(self.recording.source).history
        self.seed = 0

    def commit(self, edit):
        if edit is not None:
            self.shelf.commit(self.history, edit)

    @rule(at=st.floats(0, 1), length=st.integers(1, 40), grown=st.sampled_from([None, None, 0, 7]))
    def mend(self, at, length, grown):
        version = self.history.current
        if version.frames:
            self.seed += 1
            start = int(at * (version.frames - 1))
            self.commit(mend_of(version, start, min(start + length, version.frames), self.seed, grown))

    @rule(at=st.floats(0, 1), what=st.sampled_from([switch_off, switch_on, lift_off]))
    @precondition(lambda self: self.history.ledger)
    def turn(self, at, what):
        ledger = self.history.ledger
        entry = ledger[int(at * (len(ledger) - 1))]
        if what is not lift_off and entry.is_on != (what is switch_off):
            return
        with suppress(StandsOnError):
            self.commit(what(self.history, [entry.mend.id]))

    @rule(at=st.floats(0, 1), length=st.integers(1, 200))
    def restore(self, at, length):
        frames = self.history.current.frames
        self.commit(restore_here(self.history, int(at * frames), min(frames, int(at * frames) + length)))

    @rule(where=st.lists(st.tuples(st.integers(0, 190), st.integers(200, FRAMES)), max_size=3), is_on=st.booleans())
    def lay(self, where, is_on):
        """Lay something over it, or take the first of what is laid over it off."""
        course = self.history.course
        if len(course) > 2:
            self.commit(Edit("take off", marks=(CourseTurn(course, course[1:]),)))
            return
        step = replace(offset_step(course, where or None, 0.1 * len(course)), is_on=is_on)
        self.commit(Edit("lay", marks=(CourseTurn(course, (*course, step)),)))

    @rule()
    def undo(self):
        self.shelf.undo(self.history)

    @rule()
    def redo(self):
        self.shelf.redo(self.history)

    @rule()
    def reopen(self):
        before, sound = state_of(self.history), samples(self.history.current)
        self.casebook, self.shelf, self.history = reopened(self.casebook, self.recording)
        assert state_of(self.history) == before
        assert np.array_equal(samples(self.history.current), sound)

    @invariant()
    def the_file_says_where_it_stands(self):
        assert self.shelf.reference().now == self.history.now

    def teardown(self):
        original = self.history.original
        self.reopen()
        while self.shelf.undo(self.history):
            pass
        assert np.array_equal(samples(self.history.current), samples(original))
        self.casebook.discard()
        self.recording.close()


def test_any_sequence_of_edits_survives_being_closed_and_opened_again(recording):
    SavedAndReopened.folder = recording.path.parent
    machine = SavedAndReopened.TestCase
    machine.settings = settings(
        max_examples=25, stateful_step_count=20, deadline=None, suppress_health_check=list(HealthCheck)
    )
    machine().runTest()


def test_what_a_step_has_learned_is_written_once_however_often_a_setting_changes(casebook, recording):
    shelf = casebook.add(recording)
    history = shelf.history(recording.source).history
    step = offset_step()
    for number in range(20):
        changed = replace(step, settings=step.settings | {"amount": number / 20})
        shelf.commit(history, Edit("change", marks=(CourseTurn(history.course, (changed,)),)))
    assert casebook.store.row("SELECT count(*) FROM profiles") == (1,)
    again, _, history = reopened(casebook, recording)
    assert history.course[0].settings["amount"] == 0.95
    assert history.course[0].profile == {"offset": [0.1]}
    again.close()


@pytest.mark.parametrize(
    "statement",
    [
        'UPDATE profiles SET profile = \'{"offset": ["much"]}\'',
        "UPDATE profiles SET profile = '{\"offset\": [0.1, 0.2]}'",
        "UPDATE profiles SET profile = '['",
        "DELETE FROM profiles",
        "UPDATE edits SET marks = replace(marks, '\"dc\"', '\"polish\"')",
        "UPDATE edits SET marks = replace(marks, '\"dc\"', '\"declick\"')",
        "UPDATE edits SET marks = replace(marks, '\"steady\"', '\"wild\"')",
        "UPDATE edits SET marks = replace(marks, '[10, 20]', '[20, 10]')",
        "UPDATE edits SET marks = replace(marks, '[10, 20]', '[10, 999999]')",
        "UPDATE edits SET marks = replace(marks, '[1]', '[7]')",
    ],
)
def test_a_course_that_makes_no_sense_is_left_out_and_told(casebook, recording, statement):
    shelf = casebook.add(recording)
    history = shelf.history(recording.source).history
    shelf.commit(history, Edit("lay", marks=(CourseTurn((), (offset_step(spans=[(10, 20)]),)),)))
    tampered(casebook, statement)
    again = Casebook.open(casebook.path)
    restored = again.shelves()[0].history(recording.source)
    assert "could not be read" in restored.lost
    assert restored.history.course == ()
    again.close()


def test_snapshots_lead_to_the_same_version_as_the_edits(casebook, recording):
    shelf = casebook.add(recording)
    history = shelf.history(recording.source).history
    for number in range(150):
        shelf.commit(history, mend_of(history.current, number, number + 3, number))
    for _ in range(140):
        shelf.undo(history)
    shelf.commit(history, mend_of(history.current, 300, 310, 999))
    sound = samples(history.current)
    _, _, again = reopened(casebook, recording)
    assert state_of(again) == state_of(history)
    assert np.array_equal(samples(again.current), sound)


def test_patches_keep_their_nature_donor_and_every_bit_of_untouched_channels(casebook, recording):
    shelf = casebook.add(recording)
    history = shelf.history(recording.source).history
    exact = rng(3).standard_normal((9, 2))  # float64: more bits than float32 holds
    change = changes.replace(history.current, 10, 19, Patch(exact, 48000, Nature.GRAFTED, donor=77))
    shelf.commit(history, Edit("graft", (change,)))
    _, _, again = reopened(casebook, recording)
    patch = next(source for source in again.current.sources if source is not recording.source)
    assert np.array_equal(again.current.read_exact(10, 19), exact)
    assert (patch.nature, patch.donor) == (Nature.GRAFTED, 77)


def test_a_survey_view_and_identity_come_back(casebook, recording, tmp_path):
    shelf = casebook.add(recording)
    survey = Surveyor(recording.source, 24, list(KINDS.values())).run()
    hot = open_recording(write(tmp_path / "hot.wav", np.clip(rng(2).standard_normal((4800, 2)), -0.9, 0.9)), tmp_path)
    shelf = casebook.add(hot)
    survey = Surveyor(hot.source, 24, list(KINDS.values())).run()
    assert survey.table.findings
    shelf.write_survey(Surveyed(survey, 1, survey.table))
    shelf.write_view({"cursor": 7}, {"clipping": 0.25})
    shelf.write_sha256(sha256_of(hot.path))
    casebook.close()
    again = Casebook.open(casebook.path)
    shelf = again.shelves()[1]
    held = shelf.survey(4800)
    assert held.survey.table.findings == survey.table.findings == held.table.findings
    assert held.survey.measures({}) == survey.measures({})
    reference = shelf.reference()
    assert (reference.view, reference.sensitivity) == ({"cursor": 7}, {"clipping": 0.25})
    assert reference.is_own
    assert reference.path == hot.path
    hot.close()
    again.close()


def test_a_moved_casebook_finds_recordings_that_moved_with_it(casebook, recording, tmp_path):
    casebook.add(recording)
    casebook.close()
    elsewhere = tmp_path / "elsewhere"
    elsewhere.mkdir()
    for name in ("work.casebook", "tape.wav"):
        shutil.move(tmp_path / name, elsewhere / name)
    again = Casebook.open(elsewhere / "work.casebook")
    reference = again.shelves()[0].reference()
    assert reference.path == elsewhere / "tape.wav"
    assert not reference.is_own  # nobody has opened that file here yet: it may not be replaced without asking
    again.close()


def test_a_file_is_the_same_by_its_stamp_or_its_sha256(tmp_path):
    path = write(tmp_path / "a.wav", np.zeros((50, 1)))
    status, digest = path.stat(), sha256_of(path)
    os.utime(path, ns=(1, 1))
    assert compare(path, status.st_size, 1, "") is Match.SAME
    assert compare(path, status.st_size, 2, digest) is Match.SAME
    assert compare(path, status.st_size, 2, "") is Match.CHANGED
    assert compare(path, status.st_size + 1, 1, digest) is Match.CHANGED
    assert compare(tmp_path / "b.wav", 1, 1, "") is Match.MISSING


def test_a_copy_under_another_name_holds_the_same(casebook, recording, tmp_path):
    shelf = casebook.add(recording)
    history = shelf.history(recording.source).history
    shelf.commit(history, mend_of(history.current, 5, 9))
    (tmp_path / "below").mkdir()
    casebook.copy_to(tmp_path / "below" / "copy.casebook")
    copy = Casebook.open(tmp_path / "below" / "copy.casebook")
    assert copy.shelves()[0].reference().path == recording.path
    assert state_of(copy.shelves()[0].history(recording.source).history) == state_of(history)
    copy.close()
    with pytest.raises(CasebookError, match="exists already"):
        casebook.copy_to(tmp_path / "below" / "copy.casebook")
    with pytest.raises(CasebookError, match=r"cannot be written.*\n*.*Nothing was changed"):
        casebook.copy_to(tmp_path / "nowhere" / "copy.casebook")


def test_a_casebook_is_open_in_one_window_only(casebook):
    with pytest.raises(CasebookInUseError):
        Casebook.open(casebook.path)


def test_unnamed_work_is_offered_back_and_empty_casebooks_vanish(recording):
    empty, worked = create_unnamed(), create_unnamed()
    shelf = worked.add(recording)
    empty.add(recording)
    history = shelf.history(recording.source).history
    shelf.commit(history, mend_of(history.current, 5, 9))
    assert left_behind() == []  # both are open
    empty.close()
    worked.close()
    assert [left.path for left in left_behind()] == [worked.path]
    assert left_behind()[0].title.startswith("Work on tape of ")
    assert not empty.path.exists()


def test_a_full_disk_leaves_the_casebook_as_it_was(casebook, recording):
    shelf = casebook.add(recording)
    history = shelf.history(recording.source).history
    shelf.commit(history, mend_of(history.current, 5, 9))
    before = state_of(history)
    pages = casebook.store.row("PRAGMA page_count")[0]
    casebook.store.rows(f"PRAGMA max_page_count = {pages}")
    big = Patch(rng().standard_normal((200_000, 2)), 48000)
    with pytest.raises(CasebookError, match="no room left"):
        shelf.commit(history, Edit("big", (changes.insert(history.current, 0, big),)))
    assert state_of(history) == before
    casebook.store.rows("PRAGMA max_page_count = 100000")
    _, _, again = reopened(casebook, recording)
    assert state_of(again) == before


def test_a_strange_or_later_or_missing_file_is_refused_and_not_touched(tmp_path, casebook):
    text = tmp_path / "text.casebook"
    text.write_text("not a database " * 100)
    with pytest.raises(CasebookError, match="damaged"):
        Casebook.open(text)
    other = tmp_path / "other.casebook"
    with sqlite3.connect(other) as connection:
        connection.execute("CREATE TABLE t (x)")
    connection.close()
    with pytest.raises(CasebookError, match="not a casebook"):
        Casebook.open(other)
    casebook.store.rows("PRAGMA user_version = 999")
    casebook.close()
    with pytest.raises(CasebookError, match="later version"):
        Casebook.open(casebook.path)
    with pytest.raises(CasebookError, match="not there"):
        Casebook.open(tmp_path / "none.casebook")
    assert is_casebook(casebook.path)
    assert not is_casebook(tmp_path / "none.wav")


def tampered(casebook, *statements):
    casebook.close()
    connection = sqlite3.connect(casebook.path)
    for statement in statements:
        connection.execute(statement)
    connection.commit()
    connection.close()


@pytest.mark.parametrize(
    "statement",
    [
        "CREATE TRIGGER t AFTER INSERT ON edits BEGIN DELETE FROM recordings; END",
        "CREATE VIEW v AS SELECT * FROM edits",
        "DROP TABLE snapshots",
    ],
)
def test_a_casebook_with_strange_tables_is_refused(casebook, statement):
    tampered(casebook, statement)
    with pytest.raises(DamagedCasebookError, match="tables"):
        Casebook.open(casebook.path)


@pytest.mark.parametrize(
    "statement",
    [
        "UPDATE changes SET starts = x'00' WHERE edit = 1",
        "UPDATE changes SET starts = x'ffffffffffffff7f' WHERE edit = 1",
        "UPDATE changes SET inserted = CAST(substr(inserted, 1, 24) || x'ffffffffffffff7f' || substr(inserted, 33)"
        " AS BLOB) WHERE edit = 1",
        "UPDATE mends SET channels = '[5]' WHERE edit = 1",
        "UPDATE mends SET parameters = '[' WHERE edit = 1",
        "UPDATE mends SET id = 'm1' WHERE edit = 1",
        "UPDATE edits SET ids = '[[\"m9\"], [], [], []]' WHERE number = 1",
        "UPDATE edits SET parts = x'' WHERE number = 1",
        "DELETE FROM patches WHERE edit = 1",
        "DELETE FROM edits WHERE number = 1",
    ],
)
def test_steps_that_make_no_sense_are_left_out_and_told(casebook, recording, statement):
    shelf = casebook.add(recording)
    history = shelf.history(recording.source).history
    for number in range(3):
        shelf.commit(history, mend_of(history.current, 20 * number, 20 * number + 5, number))
    tampered(casebook, statement)
    again = Casebook.open(casebook.path)
    restored = again.shelves()[0].history(recording.source)
    assert "could not be read" in restored.lost
    assert [mend.id for mend in restored.history.mends] == ["m1"]
    assert np.array_equal(restored.history.current.read(20, FRAMES), recording.source.read(20, FRAMES))
    again.close()


@pytest.mark.parametrize("damage", ["nature = 'dreamt'", "frames = -1"])
def test_patches_that_make_no_sense_leave_the_original_and_are_told(casebook, recording, damage):
    shelf = casebook.add(recording)
    history = shelf.history(recording.source).history
    for number in range(70):  # far enough for a version to be written down whole
        shelf.commit(history, mend_of(history.current, number, number + 3, number))
    tampered(casebook, f"UPDATE patches SET {damage} WHERE id = 3")
    again = Casebook.open(casebook.path)
    restored = again.shelves()[0].history(recording.source)
    assert "70 of 70 steps could not be read" in restored.lost
    assert restored.history.current.key == restored.history.original.key
    again.close()


def test_a_damaged_casebook_gives_what_can_be_saved_and_stays_as_it_is(casebook, recording):
    shelf = casebook.add(recording)
    history = shelf.history(recording.source).history
    for number in range(40):
        shelf.commit(history, mend_of(history.current, 8 * number, 8 * number + 4, number))
    page = casebook.store.row("SELECT rootpage FROM sqlite_schema WHERE name = 'patch_chunks'")[0]
    casebook.close()
    data = bytearray(casebook.path.read_bytes())
    data[4096 * (page - 1) : 4096 * page] = rng().bytes(4096)
    casebook.path.write_bytes(data)
    saved, lost = recover(casebook.path, casebook.path.parent)
    assert lost
    assert casebook.path.read_bytes() == data
    again = Casebook.open(saved)
    assert not again.store.complaints()
    shelf = again.shelves()[0]
    restored = shelf.history(recording.source)
    lift_off_broken(shelf, restored.history)
    assert np.isfinite(samples(restored.history.current)).all()
    assert "patch chunks" in lost
    again.close()


def test_mends_whose_samples_are_gone_are_lifted_off_with_those_that_stand_on_them(casebook, recording):
    shelf = casebook.add(recording)
    history = shelf.history(recording.source).history
    for start, stop in ((10, 20), (15, 18), (100, 120)):
        shelf.commit(history, mend_of(history.current, start, stop, start))
    tampered(casebook, "DELETE FROM patch_chunks WHERE patch = 1")
    again = Casebook.open(casebook.path)
    shelf = again.shelves()[0]
    restored = shelf.history(recording.source).history
    assert "2 mends" in lift_off_broken(shelf, restored)
    assert [mend.start for mend in restored.mends] == [100]
    assert np.array_equal(restored.current.read(0, 100), recording.source.read(0, 100))
    again.close()


def test_a_casebook_that_is_no_database_at_all_says_that_nothing_can_be_read(tmp_path):
    path = tmp_path / "x.casebook"
    path.write_bytes(rng().bytes(9000))
    with pytest.raises(CasebookError, match="Nothing can be read"):
        recover(path, tmp_path)
    assert [p.name for p in tmp_path.iterdir() if "saved" in p.name] == []


def test_an_edit_made_on_what_is_not_written_any_more_is_refused(casebook, recording):
    shelf = casebook.add(recording)
    one = shelf.history(recording.source).history
    other = casebook.shelves()[0].history(recording.source).history
    shelf.commit(one, mend_of(one.current, 0, 5, 1))
    with pytest.raises(CasebookError, match="edited from elsewhere"):
        shelf.commit(other, mend_of(other.current, 100, 105, 2))
    shelf.undo(one)
    with pytest.raises(CasebookError, match="edited from elsewhere"):
        shelf.commit(other, mend_of(other.current, 100, 105, 2))
    shelf.redo(one)
    again, _, history = reopened(casebook, recording)
    assert state_of(history) == state_of(one)
    again.close()


def test_an_edit_worked_out_on_another_version_is_refused(casebook, recording):
    shelf = casebook.add(recording)
    history = shelf.history(recording.source).history
    late = mend_of(history.current, 0, 5, 1)
    shelf.commit(history, mend_of(history.current, 3, 9, 2))
    with pytest.raises(StaleEditError):
        shelf.commit(history, late)
    assert history.now == 1


def test_what_was_copied_from_an_undone_mend_stays_what_it_was(casebook, recording):
    shelf = casebook.add(recording)
    history = shelf.history(recording.source).history
    shelf.commit(history, mend_of(history.current, 10, 20, 1))
    copied, wanted = history.current, samples(history.current)
    shelf.undo(history)
    shelf.commit(history, mend_of(history.current, 10, 20, 2))
    assert np.array_equal(samples(copied), wanted)
    ids = casebook.store.rows("SELECT id FROM patches")
    casebook.close()
    again = Casebook.open(casebook.path)
    assert len(again.store.rows("SELECT id FROM patches")) == len(ids) - 1, "nobody can read it any more"
    again.close()


def test_findings_closed_by_measuring_again_are_kept(casebook, recording):
    shelf = casebook.add(recording)
    assert shelf.closed() == ("", frozenset())
    shelf.write_closed("v1", frozenset({"f1", "f2"}))
    shelf.write_closed("v2", frozenset({"f2"}))
    assert shelf.closed() == ("v2", frozenset({"f2"}))


def test_a_path_that_is_no_text_comes_back_byte_for_byte(tmp_path):
    for name in (b"t\xe4pe.wav", b"escaped:x.wav", b"escaped:", "käse.wav".encode()):
        path = tmp_path / os.fsdecode(name)
        assert absolute(relative(path, tmp_path), tmp_path) == path
        relative(path, tmp_path).encode()


def test_one_entry_that_makes_no_sense_does_not_stand_in_the_way_of_others(casebook, recording, tmp_path):
    shelf = casebook.add(recording)
    casebook.store.write(
        "INSERT INTO recordings (ordinal, path, seal, bytes, modified_ns, container, subtype, rate, channels, frames)"
        " VALUES (0, 'x.wav', '', 0, 0, 'WAV', 'PCM_16', 48000, 1023, 5)"
    )
    assert casebook.shelf_of(recording.path).number == shelf.number
    casebook.copy_to(tmp_path / "copy.casebook")
    copy = Casebook.open(tmp_path / "copy.casebook")
    assert copy.shelf_of(recording.path)
    copy.close()


def test_a_casebook_that_cannot_be_made_leaves_nothing(tmp_path, monkeypatch):
    def refuse(_):
        raise sqlite3.OperationalError("disk I/O error")

    monkeypatch.setattr("umbrick.casebook.store.schema.create", refuse)
    with pytest.raises(CasebookError):
        Casebook.create(tmp_path / "new.casebook")
    assert not list(tmp_path.iterdir())


@pytest.fixture
def settled(casebook, recording):
    """A shelf with a step laid over a recording and settled in a part of it, its history, and the file."""
    shelf = casebook.add(recording)
    history = shelf.history(recording.source).history
    shelf.commit(history, Edit("lay", marks=(CourseTurn((), (offset_step(),)),)))
    ground = Ground(history.current, history.original, Tiles(), ())
    frozen = freeze(ground.through(history.course), ((100, 300),), casebook.store.settled_folder, False)
    shelf.commit(history, settling(history.current, ((100, 300),), frozen, history.course, history.original))
    return shelf, history, frozen.path


def test_settled_sound_is_in_a_file_beside_the_casebook_and_there_again(casebook, recording, settled):
    _, history, file = settled
    sound = samples(history.current)
    assert file.parent == casebook.path.with_suffix(".settled")
    assert casebook.store.row("SELECT count(*) FROM patch_chunks") == (0,)
    again, shelf, history = reopened(casebook, recording)
    assert np.array_equal(samples(history.current), sound)
    assert (history.settled[0].start, history.settled[0].stop) == (100, 300)
    copy = casebook.path.with_name("copy.casebook")
    again.copy_to(copy)
    other = Casebook.open(copy)
    assert np.array_equal(samples(other.shelves()[0].history(recording.source).history.current), sound)
    other.close()
    shelf.undo(history)
    shelf.commit(history, mend_of(history.current, 0, 5))
    again.close()
    assert not file.exists(), "what no edit refers to goes when the casebook is closed"
    Casebook.open(copy).discard()
    assert not copy.with_suffix(".settled").exists()


def test_settled_sound_that_is_gone_is_told_and_lifted_off(casebook, recording, settled):
    _, _, file = settled
    casebook.close()
    file.write_bytes(b"something else")
    again = Casebook.open(casebook.path)
    (shelf,) = again.shelves()
    restored = shelf.history(recording.source)
    assert "settled sound" in restored.lost
    assert "lost" in lift_off_broken(shelf, restored.history)
    assert np.array_equal(samples(restored.history.current), samples(restored.history.original))
    assert len(restored.history.course) == 1
    again.close()


@pytest.mark.parametrize(
    "statement",
    [
        "UPDATE patches SET file = '../../etc/passwd'",
        "UPDATE patches SET file = '/etc/passwd'",
        "UPDATE mends SET parameters = '{}' WHERE method = 'settle'",
        """UPDATE mends SET parameters = '{"spans": [[5, 1]], "steps": []}' WHERE method = 'settle'""",
        """UPDATE mends SET parameters = '{"spans": [[1, 5]], "steps": [7]}' WHERE method = 'settle'""",
    ],
)
def test_settled_sound_that_makes_no_sense_is_left_out(casebook, recording, settled, statement):
    tampered(casebook, statement)
    again = Casebook.open(casebook.path)
    restored = again.shelves()[0].history(recording.source)
    assert "could not be read" in restored.lost
    assert restored.history.settled == ()
    again.close()
