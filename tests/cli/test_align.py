"""Putting recordings on one clock through the command line."""

import json

from tests.core.linking.test_alignment import event
from tests.sounds import RATE, write


def test_offsets_are_written_as_the_contract_says(tmp_path, umbrick):
    whole = event(14.0)[:, None]
    first, other = write(tmp_path / "a.wav", whole[4800:]), write(tmp_path / "b.wav", whole)
    status, out, err = umbrick("align", first, other, "--json", "-")
    assert (status, err) == (0, "")
    told = json.loads(out)
    assert told["schema"] == "umbrick.align/1"
    assert told["recordings"][0] == {"path": str(first), "offset_frames": 0.0, "drift_ppm": 0.0, "confidence": 1.0}
    assert abs(told["recordings"][1]["offset_frames"] - 4800) <= 1
    assert set(told["recordings"][1]) == {"path", "offset_frames", "drift_ppm", "confidence"}
    status, out, _ = umbrick("align", first, other)
    assert status == 0
    assert "(0.1000 s) earlier than the first, no drift" in out


def test_another_event_is_an_error_and_the_rest_is_written(tmp_path, umbrick):
    whole = event(14.0)[:, None]
    files = [write(tmp_path / "a.wav", whole), write(tmp_path / "b.wav", event(14.0, 5)[:, None]),
             write(tmp_path / "c.wav", whole[RATE:])]  # fmt: skip
    status, _, err = umbrick("align", *files, "--json", tmp_path / "out.json")
    assert status == 1
    assert "not recordings of the same event" in err
    told = json.loads((tmp_path / "out.json").read_text())["recordings"]
    assert [entry["path"] for entry in told] == [str(files[0]), str(files[2])]


def test_one_file_is_wrong_usage(tmp_path, umbrick):
    assert umbrick("align", write(tmp_path / "a.wav", event(2.0)[:, None]))[0] == 2
