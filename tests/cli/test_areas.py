import json

import numpy as np
import soundfile

from tests.core.areas.test_treating import level_db, with_whistle
from tests.sounds import RATE, write


def test_an_area_is_changed_at_its_place_and_nowhere_else(umbrick, tmp_path):
    _, wrong = with_whistle()
    source, target = write(tmp_path / "a.wav", wrong), tmp_path / "b.wav"
    where = ("--method", "area", "--at", f"{2 * RATE - 400}-{3 * RATE + 400}")
    for number, settings in enumerate(
        (("action=auto", "band_hz=2200-2400"), ("outline=0:2150 48800:2150 48800:2450 0:2450",))
    ):
        words = [part for setting in settings for part in ("--set", setting)]
        target = tmp_path / f"b{number}.wav"
        status, _, told = umbrick("mend", source, target, *where, *words)
        assert status == 0, told
        before, after = (soundfile.read(path, always_2d=True)[0] for path in (source, target))
        assert np.array_equal(before[: 2 * RATE - 400], after[: 2 * RATE - 400])
        assert np.array_equal(before[3 * RATE + 400 :], after[3 * RATE + 400 :])
        inside = slice(2 * RATE, 3 * RATE)
        assert level_db(after[inside, 0], 2200, 2400) < level_db(before[inside, 0], 2200, 2400) - 12


def test_intrusions_are_rebuilt_by_kind(umbrick, tmp_path):
    _, wrong = with_whistle(8.0, 4 * RATE, 6 * RATE)
    source, target = write(tmp_path / "a.wav", wrong), tmp_path / "b.wav"
    status, _, told = umbrick("mend", source, target, "--kinds", "intrusion", "--report", tmp_path / "r.json")
    assert status == 0, told
    (recording,) = json.loads((tmp_path / "r.json").read_text())["recordings"]
    assert {mend["method"] for mend in recording["mends"]} == {"area"}


def test_what_is_no_area_is_said_in_one_line(umbrick, tmp_path):
    source = write(tmp_path / "a.wav", with_whistle()[1])
    status, _, told = umbrick(
        "mend", source, tmp_path / "b.wav", "--method", "area", "--at", "0-9000", "--set", "outline=nonsense"
    )
    assert status in (1, 2)
    assert "is no area" in told
    assert not (tmp_path / "b.wav").exists()
