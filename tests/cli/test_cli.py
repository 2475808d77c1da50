import json

import numpy as np
import pytest
import soundfile

from tests.core.survey.test_transfer_faults import slipped, strings
from tests.sounds import RATE, clipped, faultless, rng, runs, sine, voice, write

QUICKLY = ("--method", "declip", "--at", "all", "--set", "using=curve")


@pytest.fixture
def hot(tmp_path):
    """A recording clipped at full scale, with its truth."""
    sound, truth, mask = clipped(faultless(3.0), 0.01, rail=1.0)
    return write(tmp_path / "hot.wav", sound), truth, mask


def read(path):
    return soundfile.read(path, dtype="float64", always_2d=True)[0]


def test_survey_writes_findings_as_json_and_csv(umbrick, hot, tmp_path):
    status, out, _ = umbrick("survey", "hot.wav", "--json", "f.json", "--csv", "f.csv")
    assert status == 0
    assert "clipped" in out
    findings = json.loads((tmp_path / "f.json").read_text())["recordings"][0]["findings"]
    assert len(findings) == pytest.approx(len(runs(hot[2][:, 0])), abs=2)
    assert len((tmp_path / "f.csv").read_text().splitlines()) == len(findings) + 1
    status, out, err = umbrick("survey", "hot.wav", "--json", "-")
    assert (status, err) == (0, "")
    assert json.loads(out)["recordings"][0]["findings"] == findings


def test_survey_sifts_and_chooses_kinds(umbrick, hot):
    def count(*options):
        return len(json.loads(umbrick("survey", "hot.wav", "--json", "-", *options)[1])["recordings"][0]["findings"])

    assert count("--sensitivity", "clipping=1") >= count() >= count("--sensitivity", "clipping=0")
    assert count("--kinds", "clipping") == count()


def test_nothing_is_overwritten_unless_asked(umbrick, hot, tmp_path):
    (tmp_path / "f.json").write_text("precious")
    (tmp_path / "o.wav").write_bytes(b"precious")
    for call in (("survey", "hot.wav", "--json", "f.json"), ("mend", "hot.wav", "o.wav")):
        status, _, err = umbrick(*call)
        assert status == 1
        assert "exists already" in err
    assert (tmp_path / "f.json").read_text() == "precious"
    assert (tmp_path / "o.wav").read_bytes() == b"precious"
    assert umbrick("survey", "hot.wav", "--json", "f.json", "--overwrite")[0] == 0
    assert umbrick("mend", "hot.wav", "o.wav", *QUICKLY, "--overwrite")[0] == 0
    assert umbrick("mend", "hot.wav", "hot.wav")[0] == 1


def test_mend_rebuilds_and_lowers_so_that_nothing_is_cut_off(umbrick, hot, tmp_path):
    path, truth, mask = hot
    old = path.read_bytes()
    status, out, _ = umbrick("mend", "hot.wav", "o.wav", "--report", "r.json")
    assert status == 0
    assert "Lowered by" in out
    report = json.loads((tmp_path / "r.json").read_text())
    assert report["schema"] == "umbrick.report/1"
    entry = report["recordings"][0]
    mended = read(tmp_path / "o.wav") / 10 ** (entry["gain_db"] / 20)
    before = read(path)
    assert np.square(truth - mended)[mask].sum() < 0.2 * np.square(truth - before)[mask].sum()
    assert np.abs(before - mended)[~mask].max() < 1e-4
    assert {finding["state"] for finding in entry["findings"]} == {"mended"}
    assert len(entry["mends"]) == len(entry["findings"])
    assert entry["mends"][0]["method"] == "declip"
    assert entry["provenance_percent"]["rebuilt"] == pytest.approx(100 * mask.mean(), rel=0.1)
    assert entry["timing_debt_frames"] == 0
    assert entry["measures_after"]["clipped_share"] == 0
    assert path.read_bytes() == old


def test_a_float_file_keeps_the_level_and_a_ceiling_is_kept(umbrick, hot, tmp_path):
    assert umbrick("mend", "hot.wav", "f.wav", *QUICKLY, "--subtype", "FLOAT", "--quiet") == (0, "", "")
    assert np.abs(read(tmp_path / "f.wav")).max() > 1.05
    status, out, _ = umbrick("mend", "hot.wav", "c.flac", *QUICKLY, "--ceiling", "-3 dBFS", "--json")
    assert status == 0
    assert json.loads(out)["gain_db"] < -3
    assert np.abs(read(tmp_path / "c.flac")).max() <= 10 ** (-3 / 20)


def test_in_place_keeps_the_old_file_and_names_it(umbrick, hot, tmp_path):
    old = hot[0].read_bytes()
    status, out, _ = umbrick("mend", "hot.wav", *QUICKLY, "--in-place")
    assert status == 0
    assert "hot.original.wav" in out
    assert (tmp_path / "hot.original.wav").read_bytes() == old
    assert hot[0].read_bytes() != old


@pytest.mark.parametrize("using", ["curve", "prediction", "sparse", "auto"])
def test_one_method_at_given_places(umbrick, hot, tmp_path, using):
    path, truth, mask = hot
    start, stop = max(runs(mask[:, 0]), key=lambda run: run[1] - run[0])
    arguments = ("--method", "declip", "--at", f"{start}-{stop}", "--set", f"using={using}", "--subtype", "FLOAT")
    assert umbrick("mend", "hot.wav", "o.wav", *arguments)[0] == 0
    before, after = read(path), read(tmp_path / "o.wav")
    outside = np.ones(len(before), bool)
    outside[start:stop] = False
    assert np.array_equal(before[outside], after[outside])
    assert np.square(truth - after)[start:stop].sum() < np.square(truth - before)[start:stop].sum()


def test_a_rail_and_everywhere_and_one_channel(umbrick, tmp_path):
    sound, _, _ = clipped(np.hstack([voice(1.0), voice(1.0, seed=2)]), 0.02, rail=0.5)
    write(tmp_path / "two.wav", sound)
    arguments = (
        "--method",
        "declip",
        "--at",
        "all",
        "--channels",
        "1",
        "--set",
        "rail_dbfs=-6.03",
        "--set",
        "using=curve",
    )
    assert umbrick("mend", "two.wav", "o.wav", *arguments)[0] == 0
    before, after = read(tmp_path / "two.wav"), read(tmp_path / "o.wav")
    assert np.array_equal(before[:, 0], after[:, 0])
    assert np.abs(after[:, 1]).max() > 0.52


@pytest.mark.parametrize(
    ("method", "settings", "longer_by"),
    [
        ("splice", ("time=close", "search_ms=0"), -4800),
        ("splice", ("time=keep",), 0),
        ("graft", ("donor=20000", "crossfade_ms=2"), 0),
        ("fade", ("direction=out", "shape=log"), 0),
        ("level", ("gain_db=-6", "ramp_ms=5"), 0),
        ("redraw", ("shape=line",), 0),
        ("trim", ("length=0.5 s",), 24000 - 144000),
    ],
)
def test_what_is_done_by_hand_can_be_done_without_a_window(umbrick, hot, tmp_path, method, settings, longer_by):
    path, _, _ = hot
    given = [word for setting in settings for word in ("--set", setting)]
    at = ("--method", method, "--at", "1s-1.1s", "--report", "r.json", "--subtype", "FLOAT")
    assert umbrick("mend", "hot.wav", "o.wav", *at, *given)[0] == 0
    before, after = read(path), read(tmp_path / "o.wav")
    assert len(after) - len(before) == longer_by
    if not longer_by:
        assert np.array_equal(before[:47000], after[:47000])
        assert not np.array_equal(before[48000:52800], after[48000:52800])
    report = json.loads((tmp_path / "r.json").read_text())["recordings"][0]
    assert (report["mends"][0]["method"], report["mends"][0]["time_shift"]) == (method, longer_by)


def test_fixed_parameters_keep_their_names(umbrick):
    listed = {
        m["name"]: {p["name"] for p in m["parameters"]} for m in json.loads(umbrick("methods", "--json")[1])["methods"]
    }
    for method, names in {
        "declip": {"rail_dbfs", "using"},
        "graft": {"crossfade_ms", "donor"},
        "splice": {"time", "crossfade_ms"},
        "fade": {"direction", "shape"},
        "level": {"gain_db", "ramp_ms"},
        "trim": {"length"},
    }.items():
        assert names <= listed[method]


def test_methods_are_listed(umbrick):
    status, out, _ = umbrick("methods", "--json")
    assert status == 0
    declip = json.loads(out)["methods"][0]
    assert declip["name"] == "declip"
    parameters = {p["name"]: p for p in declip["parameters"]}
    assert parameters["using"]["choices"] == ["auto", "curve", "prediction", "sparse"]
    assert (parameters["rail_dbfs"]["default"], parameters["rail_dbfs"]["unit"]) == ("auto", "dBFS")
    assert "rail_dbfs" in umbrick("methods")[1]


@pytest.mark.parametrize(
    "arguments",
    [
        ("mend", "hot.wav"),
        ("mend", "hot.wav", "o.wav", "--in-place"),
        ("mend", "hot.wav", "o.wav", "--method", "declip"),
        ("mend", "hot.wav", "o.wav", "--method", "polish", "--at", "all"),
        ("mend", "hot.wav", "o.wav", "--method", "declip", "--at", "nowhere"),
        ("mend", "hot.wav", "o.wav", "--method", "declip", "--at", "1-2", "--set", "using=magic"),
        ("mend", "hot.wav", "o.wav", "--method", "declip", "--at", "1-2", "--set", "using"),
        ("mend", "hot.wav", "o.wav", "--method", "declip", "--at", "1-2", "--channels", "left"),
        ("mend", "hot.wav", "o.wav", "--set", "using=curve"),
        ("mend", "hot.wav", "o.wav", "--ceiling", "high"),
        ("survey",),
        ("survey", "hot.wav", "--kinds", "squeak"),
        ("survey", "hot.wav", "--sensitivity", "clipping=2"),
        ("survey", "hot.wav", "--nonsense"),
    ],
)
def test_wrong_usage_ends_with_two_and_one_line(umbrick, hot, arguments):
    status, out, err = umbrick(*arguments)
    assert status == 2
    assert out == ""
    assert len(err.strip().splitlines()) == 1


def _make_bad(folder):
    whole = write(folder / "whole.wav", sine(seconds=2.0)).read_bytes()
    (folder / "empty.wav").write_bytes(b"")
    (folder / "header.wav").write_bytes(whole[:44])
    (folder / "text.wav").write_text("no sound\n" * 20)
    (folder / "short.wav").write_bytes(whole[: len(whole) // 2])
    broken = sine(seconds=0.1)
    broken[7] = np.nan
    write(folder / "nan.wav", broken, subtype="FLOAT")
    (folder / "sub").mkdir()


@pytest.mark.parametrize("name", ["empty.wav", "header.wav", "text.wav", "short.wav", "nan.wav", "sub", "missing.wav"])
@pytest.mark.parametrize("command", ["survey", "mend"])
def test_bad_input_ends_with_one_and_one_sentence_and_harms_nothing(umbrick, tmp_path, name, command):
    _make_bad(tmp_path)
    before = {path: path.read_bytes() for path in tmp_path.iterdir() if path.is_file()}
    status, _, err = umbrick(command, name, *(["o.wav"] if command == "mend" else []))
    assert status == 1
    assert len(err.strip().splitlines()) == 1
    assert name in err
    assert {path: path.read_bytes() for path in tmp_path.iterdir() if path.is_file()} == before


def test_one_bad_file_does_not_keep_the_others_from_being_surveyed(umbrick, hot, tmp_path):
    _make_bad(tmp_path)
    status, out, err = umbrick("survey", "empty.wav", "hot.wav", "--json", "-")
    assert status == 1
    assert "empty.wav is empty" in err
    assert [entry["path"] for entry in json.loads(out)["recordings"]] == ["hot.wav"]


@pytest.mark.parametrize(
    "sound", [np.zeros((1, 1)), np.zeros((RATE, 2)), sine(seconds=0.02, channels=16)], ids=["one", "silence", "sixteen"]
)
def test_odd_but_whole_recordings_are_mended_to_themselves(umbrick, tmp_path, sound):
    path = write(tmp_path / "odd.wav", sound)
    assert umbrick("survey", "odd.wav")[0] == 0
    assert umbrick("mend", "odd.wav", "o.wav")[0] == 0
    assert np.array_equal(read(path), read(tmp_path / "o.wav"))


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (("nowhere/o.wav",), "no folder"),
        (("o.xyz",), "not an ending"),
        (("o.wav", "--report", "hot.wav"), "hot.wav exists already"),
        (("o.wav", "--method", "declip", "--at", "5-99999999"), "not a span"),
        (("o.wav", "--method", "declip", "--at", "1-2", "--channels", "7"), "channels 0 to 0"),
        (("o.wav", "--method", "declip", "--at", "0s-0.04s"), "found nothing to mend"),
    ],
)
def test_what_cannot_be_done_says_why(umbrick, hot, arguments, says):
    status, _, err = umbrick("mend", "hot.wav", *arguments)
    assert status == 1
    assert says in err


def test_every_level_has_help(umbrick):
    for call in ((), ("survey",), ("mend",), ("methods",), ("demo",)):
        status, out, _ = umbrick(*call, "--help")
        assert status == 0
        assert "Usage" in out
    assert "umbrick" in umbrick("--version")[1]


def test_a_missing_file_is_told_before_a_window_opens(umbrick):
    assert umbrick("nothing-here.wav") == (1, "", "umbrick: There is no file nothing-here.wav.\n")


def test_what_changes_the_length_is_done_at_once_whatever_its_kind(umbrick, tmp_path):
    sound = strings(6.0)
    faulty, places = slipped(sound, 1)
    blank = places[1] - RATE // 4
    write(tmp_path / "longer.wav", np.concatenate([faulty[:blank], np.zeros((700, 1)), faulty[blank:]]))
    status, _, _ = umbrick("mend", "longer.wav", "o.wav", "--kinds", "dropout,slip", "--subtype", "FLOAT")
    assert status == 0
    made = read(tmp_path / "o.wav")
    assert len(made) - len(sound) < len(places) / 2
    # However few of the slips were found, what is between two of them is as it was.
    after = made[places[1] + 200 : places[1] + 1000]
    assert min(np.abs(after - sound[places[1] + 200 + by :][:800]).max() for by in range(-3, 3)) < 1e-6
    middle = made[blank - 1000 : places[1] + 1000]
    assert np.abs(np.diff(middle, 2, axis=0)).max() <= 1.01 * np.abs(np.diff(sound, 2, axis=0)).max()


def test_sound_that_is_made_of_clicks_keeps_them_unless_they_are_named(umbrick, tmp_path):
    random, t = rng(5), np.arange(RATE // 100) / RATE
    rain = 0.004 * random.standard_normal(10 * RATE)
    for at in random.integers(0, len(rain) - len(t), 4000).tolist():
        drop = np.exp(-t * random.uniform(300, 1500)) * np.sin(2 * np.pi * random.uniform(1500, 8000) * t)
        rain[at : at + len(t)] += 0.1 * random.pareto(3.0) * drop
    path = write(tmp_path / "rain.wav", (0.6 * rain / np.abs(rain).max())[:, np.newaxis])
    assert umbrick("mend", "rain.wav", "o.wav", "--subtype", "FLOAT")[0] == 0
    before, after = read(path), read(tmp_path / "o.wav")
    assert np.square(after - before).sum() < 1e-6 * np.square(before).sum()
    named = ("--kinds", "click", "--sensitivity", "click=0.9")
    assert umbrick("mend", "rain.wav", "named.wav", "--subtype", "FLOAT", *named)[0] == 0
    assert np.square(read(tmp_path / "named.wav") - before).sum() > 0.03 * np.square(before).sum()
