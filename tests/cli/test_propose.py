"""``umbrick propose``: a draft that nothing comes of by itself."""

import json

import numpy as np
import soundfile

from tests.sounds import RATE, clipped, faultless, rng, write


def speech(seconds=16):
    phrase = np.concatenate([0.3 * faultless(2.0, seed=4), np.zeros((2 * RATE, 1))])
    return np.tile(phrase, (seconds // 4, 1))


def test_a_draft_is_told_and_written_and_the_recording_stays(umbrick, tmp_path):
    sound = speech()
    sound += 0.003 * rng(2).standard_normal(sound.shape)
    for start in (30_000, 222_222, 431_000):
        sound[start : start + 3] += 0.5
    source = write(tmp_path / "v.wav", sound)
    before = source.read_bytes()
    status, said, _ = umbrick("propose", source, "--out", tmp_path / "r.json")
    assert status == 0
    assert "Take out clicks. 3 places" in said
    told = json.loads((tmp_path / "r.json").read_text())
    assert told["schema"] == "umbrick.regimen/1"
    assert {"method": "declick", "where": "findings:click"}.items() <= told["steps"][0].items()
    assert any(step["method"] == "denoise" and step["set"]["reduction_db"] >= 6 for step in told["steps"])
    assert source.read_bytes() == before
    status, _, why = umbrick("propose", source, "--out", tmp_path / "r.json")
    assert status == 1
    assert "exists already" in why


def test_a_clean_recording_has_an_empty_draft(umbrick, tmp_path):
    status, said, _ = umbrick("propose", write(tmp_path / "v.wav", speech(12)), "--out", "-")
    assert status == 0
    assert json.loads(said)["steps"] == []


def test_a_proposed_regimen_can_be_run(tmp_path, umbrick):
    sound, _, _ = clipped(faultless(2.0), 0.004)
    path = write(tmp_path / "hot.wav", sound)
    assert umbrick("propose", path, "--out", tmp_path / "first.json", "--quiet")[0] == 0
    status, out, _ = umbrick(
        "mend", path, tmp_path / "out.wav", "--regimen", tmp_path / "first.json", "--subtype", "FLOAT"
    )
    assert status == 0
    assert "mend" in out
    before, after = soundfile.read(path)[0], soundfile.read(tmp_path / "out.wav")[0]
    assert len(before) == len(after)
    assert np.ptp(np.sort(np.abs(after))[-20:]) > 20 * np.ptp(np.sort(np.abs(before))[-20:])


def test_a_regimen_goes_with_no_other_choice(tmp_path, umbrick):
    path = write(tmp_path / "a.wav", faultless(0.2))
    (tmp_path / "r.json").write_text('{"schema": "umbrick.regimen/1", "steps": []}')
    status, _, err = umbrick("mend", path, tmp_path / "b.wav", "--regimen", tmp_path / "r.json", "--kinds", "click")
    assert status == 2
    assert "--regimen says itself" in err
    (tmp_path / "r.json").write_text('{"schema": "umbrick.regimen/1", "steps": [{"method": "no"}]}')
    status, _, err = umbrick("mend", path, tmp_path / "b.wav", "--regimen", tmp_path / "r.json")
    assert status == 1
    assert "Step 1 of the regimen" in err
    assert not (tmp_path / "b.wav").exists()
