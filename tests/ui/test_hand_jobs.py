"""Whole jobs done by hand, within the number of acts they may take, on the demo where it has the fault."""

import json

import numpy as np
import pytest

from tests.sounds import RATE, rng, sine, write
from umbrick.demo import recordings, truth_of


def of_demo(hands, name):
    """Open a demo recording; return its sound and what was planted."""
    path = next(path for path in recordings() if path.stem == name)
    hands.open(path)
    hands.work.recording.source.wait()
    hands.qtbot.waitUntil(lambda: hands.work.pyramid.is_complete, timeout=20_000)
    hands.settle()
    hands.acts = 0
    return hands.work.version.read(0, hands.work.frames), json.loads(truth_of(path).read_text())["planted"]


def sound_of(hands):
    return hands.work.version.read(0, hands.work.frames)


def look_near(hands, frame):
    """What the eye does before the hand: scroll there. Not an act."""
    hands.window.bench.set_cursor(frame - 3)
    hands.settle()


def click_sample(hands, frame):
    strip = hands.window.strips[2]
    hands.click(strip, strip.x_of(frame + 0.5), strip.content_rect().center().y())


def test_three_spikes_after_the_strikes_of_the_bell_on_the_left_alone(hands):
    """Two acts a spike: a click on it, and the key for the curve."""
    before, planted = of_demo(hands, "lock-bell")
    spikes = [fault["start"] for fault in planted if fault["kind"] == "click"]
    assert len(spikes) == 3
    for spike in spikes:
        look_near(hands, spike)
        click_sample(hands, spike)
        hands.press("Y")
    assert hands.acts == 2 * len(spikes)
    after = sound_of(hands)
    changed = np.argwhere(after != before)
    assert changed.tolist() == [[spike, 0] for spike in spikes]
    for spike in spikes:
        around = before[spike - 12 : spike + 13, 0].astype(float)
        usual = np.abs(np.diff(np.delete(around, 12), 2)).max()
        assert abs(np.diff(after[spike - 1 : spike + 2, 0].astype(float), 2)[0]) <= 1.5 * usual


def test_one_wrong_sample_in_a_quiet_low_note(hands, tmp_path):
    """Two acts: not audible and not visible afterwards, the neighbours untouched."""
    truth = sine(55.0, 2.0, level=0.03).astype(np.float32)
    wrong = truth.copy()
    wrong[41234] += 0.01
    hands.open(write(tmp_path / "low.wav", wrong, subtype="FLOAT"))
    hands.acts = 0
    look_near(hands, 41234)
    click_sample(hands, 41234)
    hands.press("Y")
    assert hands.acts == 2
    after = sound_of(hands)
    assert np.abs(after - truth).max() < 1e-5, "a hundred decibels below full scale"
    assert np.flatnonzero(after != wrong).tolist() == [41234]


def test_a_wrong_sample_of_the_waltz_by_the_same_two_acts(hands):
    before, planted = of_demo(hands, "concertina-waltz")
    glitch = max((f["start"] for f in planted if f.get("samples") == 1), key=int)
    look_near(hands, glitch)
    click_sample(hands, glitch)
    hands.press("Y")
    assert hands.acts == 2
    assert np.argwhere(sound_of(hands) != before).tolist() == [[glitch, 0]]


@pytest.mark.parametrize("where", ["demo", "own"])
def test_a_hole_is_closed_without_a_click_and_the_shift_told(hands, tmp_path, where):
    """Three acts: select it, splice it out, hear it in a loop."""
    if where == "demo":
        before, planted = of_demo(hands, "concertina-waltz")
        hole = next((f["start"], f["end"]) for f in planted if f["kind"] == "dropout")
    else:
        before = sum(sine(196.0 * n, 4.0, level=0.3 / n) for n in (1, 2, 3, 5)).astype(np.float32)
        before += 0.0005 * rng(1).standard_normal(before.shape).astype(np.float32)
        hole = (80000, 80500)
        before[slice(*hole)] = 0
        hands.open(write(tmp_path / "line.wav", before, subtype="FLOAT"))
    hands.window.bench.set_cursor(sum(hole) // 2)
    hands.window.bench.zoom_loupe(1800 / hands.work.loupe.length, sum(hole) / 2)
    hands.window.bench.set_passage(hands.work.passage.showing(*hole, hands.work.frames))
    hands.settle()
    hands.acts = 0
    strip = hands.window.strips[2]
    y = strip.content_rect().center().y()
    hands.drag(strip, (strip.x_of(hole[0]) - 1, y), (strip.x_of(hole[1]) + 1, y))
    hands.press("Backspace")
    assert "earlier by" in hands.window.status.message.text()
    hands.press("Space")
    assert hands.window.listening.is_playing
    assert hands.acts == 3
    after, mend = sound_of(hands).astype(float), hands.work.history.latest.made[0]
    removed = mend.stop - mend.start
    assert hands.work.history.timing_debt == -removed
    assert removed < hole[1] - hole[0] + 0.03 * hands.work.rate
    assert mend.seam_score >= 0.5
    seam = mend.start
    steps = np.abs(np.diff(after, 3, axis=0)).max(axis=1)
    around = np.r_[steps[seam - 20000 : seam - 2000], steps[seam + 2000 : seam + 20000]]
    assert steps[seam - 300 : seam + 300].max() <= around.max()
    for edge in (mend.start, mend.stop):
        channel = before[:, 0]
        assert (channel[edge - 1] >= 0) != (channel[edge] >= 0) or before.shape[1] > 1


def test_a_bar_at_96_is_cut_exactly_and_loops_clean(hands):
    """Five acts: the sheet for the length, its length typed, its Return, the loop heard, and measured."""
    before, _ = of_demo(hands, "paddle-gear")

    def fill(dialog):
        hands.type("1 bar at 96", dialog.fields[0])
        dialog.choice.setCurrentIndex(dialog.choice.findData("loop"))
        hands.press("Enter", dialog)

    hands.in_dialog(fill)
    hands.press("Ctrl+L")
    assert hands.work.frames == round(2.5 * RATE)
    hands.press("Shift+L")
    assert hands.window.listening.is_playing
    assert hands.acts <= 5
    desk = hands.window.tools.seaming.desk
    assert desk.seam.reading.smoothness >= 0.9
    assert f"{desk.seam.reading.smoothness:.2f}" in hands.window.treatment.seam.measured.text()
    naive = before[: hands.work.frames, 0].astype(float)
    loop = sound_of(hands)[:, 0].astype(float)

    def jump(wave):
        return np.abs(np.diff(np.r_[wave[-8:], wave[:8]], 2))[5:9].max()

    assert jump(loop) < 0.3 * jump(naive)


def test_scrubbing_to_where_it_goes_wrong_and_marking_it_without_letting_go(hands):
    """Three acts: drag with the right button, T while it is held, let go."""
    _, planted = of_demo(hands, "concertina-waltz")
    hole = next(f["start"] for f in planted if f["kind"] == "dropout")
    hands.window.bench.set_passage(hands.work.passage.showing(hole - 40000, hole + 4000, hands.work.frames))
    hands.settle()
    strip = hands.window.strips[1]
    y = strip.content_rect().center().y()
    heard = []

    def meanwhile():
        listening = hands.window.listening
        assert listening.is_scrubbing
        hands.qtbot.waitUntil(lambda: abs(listening.engine.position - hole) < 0.02 * hands.work.rate, timeout=3000)
        heard.append(listening.engine.position)
        hands.press("T")
        assert listening.is_scrubbing, "the mark is set without letting go"

    hands.drag(
        strip, (strip.x_of(hole - 30000), y), (strip.x_of(hole), y), button="Right", on_the_way=meanwhile, steps=20
    )
    assert hands.acts == 2, "a drag and a key; letting go is the end of the drag"
    marker = hands.window.controllers.marking.placed()[0]
    assert abs(marker.start - hole) < 0.02 * hands.work.rate + (strip.frame_at(1) - strip.frame_at(0))
    assert not hands.window.listening.is_sounding
    assert abs(hands.work.cursor - hole) < 0.03 * hands.work.rate
