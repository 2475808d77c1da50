"""Regimens: read, checked, and run."""

import json

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.published import faults_of
from tests.sounds import RATE, clipped, faultless
from umbrick.core.course.laid import Ground
from umbrick.core.course.tiles import Tiles
from umbrick.core.errors import FileError, ParameterError
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import METHODS
from umbrick.core.regimen.regimen import SCHEMA, Regimen, Where
from umbrick.core.regimen.running import run_regimen
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor
from umbrick.core.timeline.version import Version


def regimen(*steps, **more):
    return Regimen.parsed({"schema": SCHEMA, "name": "Worn disc", "steps": list(steps), **more})


def damaged():
    """A voice with a hole, ticks, and clipped shouts."""
    sound, _, _ = clipped(faultless(3.0), 0.002)
    sound[RATE : RATE + 480] = 0
    for at in (20000, 70000, 100000):
        sound[at, 0] += 0.4
    return Version.of(ArraySource(sound.astype(np.float32), RATE, "damaged"))


def surveyed(version):
    return Surveyor(version, 24, list(KINDS.values())).run().sifted({})


def ran(version, held, findings):
    return run_regimen(Ground(version, version, Tiles()), held, findings)


def outcome_of(version, done):
    return Ground(done.mended.version, version, Tiles()).through(done.course)


def test_a_regimen_is_what_its_steps_are_one_by_one():
    version = damaged()
    findings = surveyed(version)
    held = regimen(
        {"method": "bridge", "where": "findings:dropout,click"},
        {"method": "declip", "where": "findings:clipping"},
        {"method": "filter", "where": "all", "set": {"shape": "low_cut", "frequency_hz": 80}},
    )
    whole = ran(version, held, findings)
    by_hand = version
    for step in held.mends:
        places = [Place.of(f) for f in findings if f.kind in step.where.kinds and f.confidence >= 0.75]
        damage = [Place.of(f) for f in findings if f.kind in step.method.minds]
        by_hand = apply_method(by_hand, step.method, step.settings, places, damage).version
    assert np.array_equal(whole.mended.version.read(0, version.frames), by_hand.read(0, version.frames))
    only = ran(by_hand, Regimen("", held.course), [])
    frames = version.frames
    assert np.array_equal(outcome_of(version, whole).read(0, frames), outcome_of(by_hand, only).read(0, frames))
    assert len(whole.mended.mends) >= 4


@settings(deadline=None, max_examples=6)
@given(st.integers(0, 2 * RATE), st.integers(RATE // 4, RATE))
def test_outside_of_what_is_selected_nothing_changes(first, length):
    version = damaged()
    held = regimen(
        {"method": "bridge", "where": "findings:dropout,click"},
        {"method": "level", "where": "all", "set": {"gain_db": -6, "ramp_ms": 1}},
        {"method": "filter", "where": "all", "set": {"shape": "low_cut", "frequency_hz": 80}},
    )
    within = (first, first + length)
    done = run_regimen(Ground(version, version, Tiles()), held, surveyed(version), within=within)
    changed = np.flatnonzero(
        (outcome_of(version, done).read(0, version.frames) != version.read(0, version.frames)).any(1)
    )
    reach = RATE // 100  # a mend at the edge is whole, and a step goes over into what is beside it
    assert len(changed)
    assert first - reach <= changed[0]
    assert changed[-1] < first + length + reach
    assert [step.spans for step in done.course] == [(within,)]


def test_what_is_doubtful_is_left_and_told():
    version = damaged()
    findings = surveyed(version)
    held = regimen({"method": "bridge", "where": "findings:dropout"}, survey={"least_confidence": 1.0})
    done = ran(version, held, findings)
    assert not done.mended.mends
    assert {finding.kind for finding in done.doubtful} == {"dropout"}


def test_what_changes_the_length_moves_what_is_mended_after_it():
    version = damaged()
    findings = [finding for finding in surveyed(version) if finding.kind == "dropout"]
    held = regimen(
        {"method": "splice", "where": "spans:[[4800,9600]]", "set": {"search_ms": 0}},
        {"method": "bridge", "where": "findings:dropout"},
    )
    done = ran(version, held, findings)
    (hole,) = findings
    mend = done.mended.mends[-1]
    assert mend.method == "bridge"
    assert mend.start == hole.start - (version.frames - done.mended.version.frames)


def test_pauses_and_steps_that_are_off():
    version = damaged()
    held = regimen(
        {"method": "level", "where": "pauses", "set": {"gain_db": -6}},
        {"method": "level", "where": "all", "set": {"gain_db": -60}, "is_on": False},
    )
    done = ran(version, held, [])
    assert all(mend.parameters["gain_db"] == -6 for mend in done.mended.mends)


def test_a_treatment_that_finds_nothing_declines_and_the_rest_goes_on():
    version = Version.of(ArraySource(faultless(2.0).astype(np.float32), RATE, "clean"))
    held = regimen({"method": "dehum"}, {"method": "filter", "set": {"shape": "low_cut", "frequency_hz": 60}})
    done = ran(version, held, [])
    assert [step.method for step in done.course] == ["filter"]
    assert len(done.declined) == 1
    assert "hum" in done.declined[0].lower()


@given(
    st.lists(
        st.tuples(
            st.sampled_from(sorted(name for name in METHODS if name != "area")),
            st.sampled_from(["all", "pauses", "findings:click", "findings:click,dropout", "spans:[[0,100],[200,300]]"]),
            st.booleans(),
        ),
        max_size=6,
    ),
    st.floats(0, 1),
)
def test_writing_and_reading_is_the_identity(steps, confidence):
    held = regimen(
        *({"method": method, "where": where, "is_on": on} for method, where, on in steps),
        survey={"least_confidence": confidence, "sensitivity": {"click": 0.25}},
    )
    again = Regimen.parsed(json.loads(json.dumps(held.document())))
    assert again == held
    assert faults_of(held.document(), SCHEMA) == []
    assert len(again.mends) + len(again.course) == sum(on for _, _, on in steps)


@pytest.mark.parametrize(
    ("document", "said"),
    [
        ([], "not a regimen"),
        ({"schema": "umbrick.regimen/2", "steps": []}, "not a regimen"),
        ({"schema": SCHEMA}, "a list of steps"),
        ({"schema": SCHEMA, "steps": [1]}, "Step 1 of the regimen: It names no method"),
        ({"schema": SCHEMA, "steps": [{"method": "declick"}, {"method": "nothing"}]}, "Step 2"),
        ({"schema": SCHEMA, "steps": [{"method": "declick", "where": "somewhere"}]}, "does not say where"),
        ({"schema": SCHEMA, "steps": [{"method": "declick", "where": "findings:ghosts"}]}, "ghosts"),
        ({"schema": SCHEMA, "steps": [{"method": "declick", "where": "spans:[[5,2]]"}]}, "begins before it ends"),
        ({"schema": SCHEMA, "steps": [{"method": "declick", "where": "spans:oops"}]}, "spans"),
        ({"schema": SCHEMA, "steps": [{"method": "declick", "set": {"colour": 1}}]}, "colour"),
        ({"schema": SCHEMA, "steps": [{"method": "denoise", "set": {"reduction_db": -5000}}]}, "Step 1"),
        ({"schema": SCHEMA, "steps": [], "survey": {"sensitivity": {"click": 2}}}, "0 to 1"),
        ({"schema": SCHEMA, "steps": [], "survey": {"least_confidence": "high"}}, "0 to 1"),
    ],
)
def test_what_is_wrong_is_told_by_its_step(document, said):
    with pytest.raises(ParameterError, match=said):
        Regimen.parsed(document)


def test_files_that_are_no_regimens_are_told(tmp_path):
    for name, data in (("a.json", b"{"), ("b.json", b"\xff\xfe\x00"), ("c.json", b"[" * 100_000)):
        (tmp_path / name).write_bytes(data)
        with pytest.raises((FileError, ParameterError)):
            Regimen.load(tmp_path / name)
    with pytest.raises(FileError, match="cannot be read"):
        Regimen.load(tmp_path / "missing.json")
    (tmp_path / "d.json").write_text(json.dumps({"schema": SCHEMA, "steps": [{"method": "x"}]}))
    with pytest.raises(ParameterError, match=r"d\.json: Step 1"):
        Regimen.load(tmp_path / "d.json")


def test_where_is_read_as_written():
    assert Where.parsed("spans:[[5,9],[1,2]]").spans == ((1, 2), (5, 9))
