"""Findings that belong together."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from umbrick.core.survey.finding import Finding
from umbrick.core.survey.groups import Group, Groups, names_of_groups, together
from umbrick.core.survey.table import FindingTable
from umbrick.core.survey.turning_period import turning_period, turns

RATE = 1000


def finding(kind, start, stop, severity=0.5, channel=0):
    return Finding(f"{kind}{start}", kind, start, stop, (channel,), severity, 0.9, f"{stop - start} samples")


def test_tops_of_a_passage_are_one_and_those_of_the_next_another():
    tops = [finding("clipping", at, at + 3, channel=at % 2) for at in (100, 110, 300, 900, 905)]
    first, second = together([*tops, finding("click", 200, 201)], RATE), None
    entries = list(first)
    assert [type(entry) for entry in entries] == [Group, Finding, Group]
    passage, click, second = entries
    assert [one.start for one in passage.findings] == [100, 110, 300]
    assert click.kind == "click"
    assert [one.start for one in second.findings] == [900, 905]
    assert passage.clock(RATE) == "0:00.100 to 0:00.303"


def test_the_worst_comes_first_and_is_told():
    tops = [finding("clipping", 0, 3, 0.2), finding("clipping", 50, 59, 0.9), finding("clipping", 90, 94, 0.4)]
    (passage,) = together(tops, RATE)
    assert [one.severity for one in passage.worst_first] == [0.9, 0.4, 0.2]
    assert passage.evidence == "3 tops; the worst: 9 samples"
    assert passage.severity == 0.9


def test_what_means_all_of_the_recording_stays_by_itself():
    assert all(isinstance(entry, Finding) for entry in together([finding("hum", 0, 999), finding("hum", 0, 1)], RATE))


def test_a_scratch_is_one_by_the_turning_of_its_disc():
    rng = np.random.default_rng(3)
    scratch = 400 + 1800 * np.arange(9) + rng.integers(-2, 3, 9)
    others = rng.choice(16_000, 20, replace=False)
    clicks = [finding("click", int(at), int(at) + 1) for at in sorted({*scratch.tolist(), *others.tolist()})]
    groups = [entry for entry in together(clicks, RATE) if isinstance(entry, Group) and entry.period]
    assert len(groups) == 1
    assert groups[0].period == pytest.approx(1.8, abs=0.004)
    assert {int(at) for at in scratch} <= {one.start for one in groups[0].findings}
    assert len(groups[0].findings) <= 11
    assert "a scratch" in groups[0].evidence
    assert "every 1.80 s" in groups[0].evidence


def test_clicks_at_random_have_no_turning_period():
    rng = np.random.default_rng(1)
    for count in (0, 1, 3, 5, 12, 40, 40, 40, 100, 300):
        assert turning_period(np.sort(rng.uniform(0, 60, count))) == 0.0


def test_a_chain_of_turns_ends_where_one_is_missing():
    seconds = np.array([0.0, 1.8, 3.6, 5.4, 9.0, 10.8])
    assert [chain.tolist() for chain in turns(seconds, 1.8)] == [[0, 1, 2, 3]]


@given(
    st.lists(st.tuples(st.sampled_from(["clipping", "click", "hum", "dropout"]), st.integers(0, 20_000)), max_size=60)
)
def test_every_finding_is_in_one_group(places):
    findings = [finding(kind, start, start + 5) for kind, start in dict.fromkeys(places)]
    entries = list(together(findings, RATE))
    members = [one for entry in entries for one in (entry.findings if isinstance(entry, Group) else (entry,))]
    assert sorted(one.id for one in members) == sorted(one.id for one in findings)
    assert all(len({one.kind for one in entry.findings}) == 1 for entry in entries if isinstance(entry, Group))
    names = names_of_groups(findings, RATE)
    assert {one.id for entry in entries if isinstance(entry, Group) for one in entry.findings} == set(names)


def test_rows_that_are_not_looked_at_have_no_group():
    table = FindingTable.of([finding("click", at, at + 1) for at in (0, 10, 20)])
    groups = Groups(table, np.array([0, 2]), RATE)
    assert groups.labels.tolist() == [0, -1, 0]
    assert [one.start for one in groups.group(0).findings] == [0, 20]
