"""What a person does by hand in the window: with pointer and keys, checked by samples and by sound."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from tests.sounds import RATE, chord, rng, sine, voice, write
from umbrick.core.mend.levelling.level_curve import LevelCurve
from umbrick.ui.hand.selecting import Snap
from umbrick.ui.strips.lines import LevelLine


def opened(hands, tmp_path, sound, name="hand.wav"):
    hands.open(write(tmp_path / name, sound, subtype="FLOAT"))
    return sound_of(hands)


def sound_of(hands):
    return hands.work.version.read(0, hands.work.frames)


def undone(hands, before):
    """One undo brings back exactly what there was."""
    hands.press("Ctrl+Z")
    return np.array_equal(sound_of(hands), before) and hands.work.history.now == 0


def passage(hands):
    return hands.window.strips[1]


def loupe(hands):
    return hands.window.strips[2]


def middle_of(strip):
    return strip.content_rect().center().y()


def select(hands, start, stop):
    """Select in the Passage by dragging; to the pixel."""
    strip = passage(hands)
    y = middle_of(strip) + 20
    hands.drag(strip, (strip.x_of(start), y), (strip.x_of(stop), y))


@pytest.fixture
def spoken(hands, tmp_path):
    """A phrase, a pause of room tone, another phrase: opened; the sound as it was."""
    pause = 0.002 * rng(3).standard_normal((RATE // 2, 1))
    return opened(hands, tmp_path, np.vstack([voice(1.5), pause, voice(1.5, seed=4)]).astype(np.float32))


# Selecting.


def test_edges_move_by_samples_cycles_crossings_and_marks(hands, spoken):
    hands.press("G")
    hands.type("0:00.5000\t\t625 smp\n")
    assert hands.work.selection.span == (24000, 24625)
    assert passage(hands).hasFocus(), "the keys are commands again"
    assert hands.work.loupe.start < 24000 < hands.work.loupe.stop
    hands.press("Alt+Right")
    assert hands.work.selection.stop == 24626
    hands.press("A")
    hands.press("Alt+Left")
    assert hands.work.selection.start == 23999
    hands.press("Z")
    start = hands.work.selection.start
    wave = spoken[:, 0]
    assert (wave[start - 1] >= 0) != (wave[start] >= 0)
    hands.press("Alt+Up")
    assert 200 < hands.work.selection.start - start < 560, "a cycle of a voice of 120 Hz"
    hands.press("Ctrl+D")
    hands.press("T")
    hands.press("End")
    hands.press("Shift+J")
    assert hands.work.cursor == hands.window.controllers.marking.placed()[0].start


def shown(work):
    return work.selection.span if work.selection else (work.cursor, work.cursor)


def test_typed_start_end_and_length_take_units_and_beats(hands, spoken):
    page = hands.window.treatment.by_hand
    hands.press("G")
    for field, text, expected in (
        (page.start, "500 ms", (24000, 24000)),
        (page.length, "30000 smp", (24000, 54000)),
        (page.stop, "0:01.250", (24000, 60000)),
        (page.length, "1 beat at 96", (24000, 54000)),
        (page.length, "60/96 s", (24000, 54000)),
    ):
        hands.type(text + "\n", field)
        assert shown(hands.work) == expected
    hands.type("soon\n", page.start)
    assert "not a time" in hands.window.status.message.text()
    assert page.start.hasFocus()
    hands.press("Esc", page.start)
    assert page.start.text() == "0:00.5000"
    assert hands.work.selection.span == (24000, 54000)


def test_snapping_has_three_states_and_ctrl_turns_it_off(hands, spoken):
    wave = spoken[:, 0]
    assert "off" in hands.window.status.snap.text()
    hands.press("Q")
    assert "zero crossings" in hands.window.status.snap.text()
    select(hands, 20000, 30000)
    for edge in hands.work.selection.span:
        assert (wave[edge - 1] >= 0) != (wave[edge] >= 0)
    strip = passage(hands)
    y = middle_of(strip) + 20
    hands.drag(strip, (strip.x_of(70000), y), (strip.x_of(80000), y), modifier="Ctrl")
    pixel = strip.frame_at(1) - strip.frame_at(0)
    assert abs(hands.work.selection.start - 70000) <= pixel
    hands.press("Q")
    assert hands.window.tools.selecting.snap is Snap.MARKERS
    hands.press("Home")
    hands.press("T")
    select(hands, 3 * pixel, 20000)
    assert hands.work.selection.start == 0


def test_any_single_sample_can_be_selected_in_the_loupe(hands, spoken):
    hands.press("Home")
    strip = loupe(hands)
    y = middle_of(strip)
    hands.drag(strip, (strip.x_of(40) + 1, y), (strip.x_of(41) - 1, y))
    assert hands.work.selection.span == (40, 41)


def test_one_channel_can_be_selected_and_only_that_changes(hands, tmp_path):
    before = opened(hands, tmp_path, np.hstack([voice(2.0), voice(2.0, seed=2)]))
    select(hands, 20000, 40000)
    hands.press("Shift+C")
    hands.press("Shift+C")
    hands.press("O")
    after = sound_of(hands)
    assert np.array_equal(after[:, 0], before[:, 0])
    assert not np.array_equal(after[:, 1], before[:, 1])
    assert undone(hands, before)


def test_the_ruler_counts_beats(hands, spoken):
    hands.in_dialog(lambda dialog: (dialog.fields[0].setText("120"), dialog.accept()))
    hands.press("Ctrl+U")
    hands.press("U")
    hands.press("U")
    assert [tick.text for tick in passage(hands).ruler_ticks(hands.work) if tick.text][:3] == ["1.1", "1.2", "1.3"]


# Redrawing.


@pytest.mark.parametrize("zoom", [24, 60, 150])
def test_a_click_with_the_pen_sets_the_sample_under_the_pointer_to_within_a_pixel(hands, spoken, zoom):
    hands.window.bench.set_cursor(30000)
    hands.window.bench.zoom_loupe(zoom / hands.work.loupe.length, 30000.5)
    hands.settle()
    hands.press("D")
    strip = loupe(hands)
    frame = int(hands.work.loupe.start) + zoom // 2
    x, y = strip.x_of(frame + 0.5), strip.content_rect().top() + 40
    value, pixel = strip.value_at(y), strip.value_of_a_pixel()
    hands.click(strip, x, y)
    after = sound_of(hands)
    assert abs(after[frame, 0] - value) <= pixel
    changed = np.flatnonzero((after != spoken).any(axis=1))
    assert changed.tolist() == [frame]
    assert undone(hands, spoken)


def test_a_stroke_is_one_step_and_the_curve_and_true_peak_follow_while_drawing(hands, spoken):
    hands.window.bench.set_cursor(30000)
    hands.press("D")
    strip = loupe(hands)
    rect = strip.content_rect()
    seen = []
    peaks = [strip.caption]

    def look():
        peaks.append(strip.caption)
        seen.append(hands.window.tools.drawing.stroke)

    hands.drag(strip, (200, rect.top() + 10), (400, rect.bottom() - 10), on_the_way=look, steps=12)
    assert seen[0] is not None
    assert peaks[0] != peaks[1]
    assert "true peak" in peaks[1]
    after = sound_of(hands)
    first, last = (int(strip.frame_at(x)) for x in (200, 400))
    changed = np.flatnonzero((after != spoken).any(axis=1))
    assert first <= changed[0] <= changed[-1] <= last
    assert np.all(np.diff(after[first : last + 1, 0]) <= 0), "drawn downwards"
    assert hands.work.history.latest.made[0].method == "redraw"
    assert undone(hands, spoken)


def test_shift_draws_a_straight_line_and_linked_channels_change_by_as_much(hands, tmp_path):
    before = opened(hands, tmp_path, np.hstack([voice(1.0), voice(1.0, seed=2)]))
    hands.press("D")
    hands.press("Shift+D")
    strip = loupe(hands)
    rect = strip.content_rect()
    hands.drag(strip, (100, rect.top() + 20), (300, rect.top() + 90), modifier="Shift", steps=7)
    after = sound_of(hands).astype(float)
    first, last = (int(strip.frame_at(x)) for x in (100, 300))
    line = after[first : last + 1, 0]
    assert np.abs(np.diff(line, 2)).max() < 1e-6
    by = after - before
    assert by[:, 0] == pytest.approx(by[:, 1], abs=1e-6)


def test_samples_are_nudged_typed_and_smoothed(hands, spoken):
    hands.window.bench.set_cursor(30000)
    hands.settle()
    pixel = loupe(hands).value_of_a_pixel()
    for key in ("Up", "Up", "Shift+Up", "Down"):
        hands.press(key)
    hands.qtbot.waitUntil(lambda: hands.work.history.now == 1, timeout=3000)
    assert sound_of(hands)[30000, 0] - spoken[30000, 0] == pytest.approx(11 * pixel, rel=1e-3)
    hands.in_dialog(lambda dialog: (dialog.fields[0].setText("-20 dB"), dialog.accept()))
    hands.press("Ctrl+Y")
    assert abs(sound_of(hands)[30000, 0]) == pytest.approx(0.1)
    spiked = sound_of(hands)
    hands.window.bench.select(29990, 30011)
    hands.press("Alt+Y")
    rough, smooth = (np.abs(np.diff(s[29990:30011, 0].astype(float), 2)).sum() for s in (spiked, sound_of(hands)))
    assert smooth < 0.7 * rough


def test_too_many_samples_to_draw_on_says_so_and_one_key_zooms_in(hands, spoken):
    hands.press("D")
    hands.window.bench.zoom_loupe(20, 5000)
    hands.settle()
    strip = loupe(hands)
    assert "too many" in strip.caption
    hands.click(strip, 300, middle_of(strip))
    assert "Ctrl+0" in hands.window.status.message.text()
    assert hands.work.history.now == 0
    hands.press("Ctrl+0")
    assert hands.work.loupe.length < 200
    assert "true peak" in strip.caption


# Copying, pasting, carrying.


def test_cut_paste_over_paste_in_and_mix(hands, spoken):
    select(hands, 20000, 22000)
    start, stop = hands.work.selection.span
    clip = spoken[start:stop]
    hands.press("Ctrl+C")
    hands.window.bench.select(0, 0)
    hands.window.bench.set_cursor(80000)
    hands.press("Ctrl+V")
    assert np.allclose(sound_of(hands)[80000 : 80000 + len(clip)], clip, atol=1e-7)
    assert hands.work.frames == len(spoken)
    hands.press("Ctrl+Z")
    hands.press("Ctrl+Alt+V")
    mixed = spoken[80000 : 80000 + len(clip)] + clip
    assert np.allclose(sound_of(hands)[80000 : 80000 + len(clip)], mixed, atol=1e-6)
    hands.press("Ctrl+Z")
    hands.press("Ctrl+Shift+V")
    after = sound_of(hands)
    assert np.array_equal(after[80000 + len(clip) :], spoken[80000:])
    assert np.allclose(after[80240 : 80000 + len(clip) - 240], clip[240:-240], atol=1e-7)
    assert "later" in hands.window.status.message.text()
    hands.press("Ctrl+Z")
    hands.window.bench.select(start, stop)
    hands.press("Ctrl+X")
    assert hands.work.frames == len(spoken) - len(clip)
    assert hands.work.history.timing_debt == -len(clip)
    hands.press("Ctrl+Z")
    assert np.array_equal(sound_of(hands), spoken)


def test_a_copy_is_carried_fitted_levelled_and_dropped_over_a_hole(hands, tmp_path):
    truth = chord(3.0)
    holed = truth.copy()
    holed[70000:72000] = 0
    before = opened(hands, tmp_path, holed)
    hands.window.bench.select(30000, 32000)
    hands.press("P")
    assert "Carrying a copy" in hands.window.treatment.by_hand.carried.text()
    strip = passage(hands)
    y = middle_of(strip) + 30
    hands.drag(strip, (strip.x_of(31000), y), (strip.x_of(71000), y), modifier="Ctrl")
    carried = hands.window.tools.pasting.carried
    assert abs(carried.start - 70000) < 2 * (strip.frame_at(1) - strip.frame_at(0))
    assert np.array_equal(sound_of(hands), before), "nothing is done before it is dropped"
    shown = hands.window.viewing.shown_version(hands.work)
    assert np.abs(shown.read(70800, 71200)).max() > 0.1, "the strips show what it would be"
    hands.press("Left")
    hands.press("Shift+Right")
    assert hands.window.tools.pasting.carried.start == carried.start + 9
    hands.press("Up")
    assert hands.window.tools.pasting.carried.gain_db == pytest.approx(0.5)
    hands.press("I")
    assert hands.window.tools.pasting.carried.inverted
    hands.press("I")
    hands.window.tools.pasting.carry_to(70000)
    hands.press("Shift+P")
    fitted = hands.window.tools.pasting.carried
    assert fitted.start == 70000, "the hole stays covered"
    assert abs(fitted.clip.start - 30000) <= 960
    hands.press("Enter")
    after = sound_of(hands)
    assert hands.window.tools.pasting.carried is None
    assert np.square(after - truth).sum() < 0.3 * np.square(before - truth).sum()
    assert len(after) == len(before)
    assert undone(hands, before)


def test_a_carried_copy_can_be_left(hands, spoken):
    select(hands, 20000, 22000)
    hands.press("P")
    hands.press("Right")
    hands.press("Esc")
    assert hands.window.tools.pasting.carried is None
    assert hands.work.history.now == 0
    assert hands.window.viewing.shown_version(hands.work) is hands.work.version


# Splicing.


def test_splicing_out_tells_the_shift_and_everything_after_follows(hands, spoken):
    hands.window.bench.set_cursor(100000)
    hands.press("T")
    select(hands, 30000, 36000)
    start, stop = hands.work.selection.span
    hands.press("Backspace")
    mend = hands.work.history.latest.made[0]
    assert mend.start <= start
    assert mend.stop >= stop
    removed = mend.stop - mend.start
    fade = round(mend.parameters["crossfade_ms"] * 48)
    assert np.array_equal(sound_of(hands)[mend.start + fade :], spoken[mend.stop + fade :])
    assert "earlier by" in hands.window.status.message.text()
    assert hands.window.status.debt.text() != "Timing debt 0 ms"
    assert hands.window.controllers.marking.placed()[0].start == 100000 - removed
    hands.press("Ctrl+Z")
    assert np.array_equal(sound_of(hands), spoken)


def test_the_seam_desk_slides_by_samples_while_the_loop_plays(hands, spoken):
    select(hands, 30000, 36000)
    hands.press("W")
    desk = hands.window.tools.seaming.desk
    assert hands.window.seam_desk.isVisible()
    assert hands.window.treatment.currentWidget() is hands.window.treatment.seam
    first = desk.seam
    hands.press("L")
    hands.press("Space")
    heard = hands.window.listening.engine.programme.after
    hands.press("Right")
    hands.press("Shift+Right")
    hands.press("Left")
    assert desk.seam.into == first.into + 10
    assert hands.window.listening.engine.programme.after is not heard
    assert hands.window.listening.engine.programme.after.frames == len(spoken) - desk.seam.removed
    assert hands.window.listening.is_playing
    hands.press("Ctrl+Right")
    wave = spoken[:, 0]
    into = desk.seam.into
    rises = wave[desk.seam.out] >= wave[desk.seam.out - 1]
    assert (wave[into - 1] < 0 <= wave[into]) if rises else (wave[into - 1] >= 0 > wave[into])
    hands.press("2")
    assert desk.seam == desk.proposals[1]
    assert "Seam score" in hands.window.treatment.seam.measured.text()
    page = hands.window.treatment.seam
    hands.type("10 ms\n", page.crossfade)
    assert desk.seam.fade == 480
    hands.press("Space")
    hands.press("Enter")
    mend = hands.work.history.latest.made[0]
    assert (mend.method, mend.stop - mend.start) == ("splice", desk.seam.removed)
    assert np.array_equal(sound_of(hands)[mend.start + 480 :], spoken[mend.stop + 480 :])
    assert not hands.window.seam_desk.isVisible()


@pytest.mark.parametrize(
    ("time", "told"), [("keep", "nothing moves"), ("payback", "of room tone in the next pause, sync kept after it")]
)
def test_the_desk_keeps_the_length_or_pays_it_back_in_the_next_pause(hands, spoken, time, told):
    select(hands, 30000, 34000)
    hands.press("W")
    hands.click(hands.window.treatment.seam.time_buttons[time])
    assert told in hands.window.treatment.seam.effect.text()
    hands.press("Enter")
    after = sound_of(hands)
    assert len(after) == len(spoken)
    assert hands.work.history.timing_debt == 0
    assert not np.array_equal(after[30000:34000], spoken[30000:34000])
    assert np.array_equal(after[2 * RATE :], spoken[2 * RATE :])


def test_a_seam_in_the_ledger_can_be_laid_on_the_desk_again_with_later_work_kept(hands, spoken):
    select(hands, 30000, 36000)
    hands.press("Backspace")
    first = hands.work.history.latest.made[0]
    select(hands, 120000, 130000)
    hands.press("O")
    hands.press("F6")
    row = next(r for r in range(2) if hands.window.ledger.model.entry(r).mend.id == first.id)
    hands.window.ledger.list.selectRow(row)
    hands.press("Shift+W")
    desk = hands.window.tools.seaming.desk
    assert (desk.seam.out, desk.seam.into) == (first.start, first.stop)
    hands.press("Shift+Right")
    hands.press("Enter")
    again = next(m for m in hands.work.history.mends if m.method == "splice")
    assert again.stop == first.stop + 10
    assert [m.method for m in hands.work.history.mends].count("fade") == 1
    assert hands.work.frames == len(spoken) - (again.stop - again.start)


# Fades, level, trim and loops.


def test_dragging_a_corner_of_the_selection_fades(hands, spoken):
    select(hands, 20000, 60000)
    start, stop = hands.work.selection.span
    strip = passage(hands)
    top = strip.content_rect().top() + 5
    hands.drag(strip, (strip.x_of(start) + 6, top), (strip.x_of(start) + 60, top))
    at = round(strip.frame_at(strip.x_of(start) + 60))
    after = sound_of(hands)
    changed = np.flatnonzero((after != spoken).any(axis=1))
    assert start <= changed[0]
    assert changed[-1] < at + 2 * (strip.frame_at(1) - strip.frame_at(0))
    assert after[start, 0] == 0
    assert hands.work.history.latest.made[0].parameters["direction"] == "in"
    assert hands.work.selection.span == (start, stop)
    assert undone(hands, spoken)


def test_the_shape_of_fades_and_the_room_tone_are_chosen_in_the_panel(hands, spoken):
    select(hands, 60000, 71000)
    page = hands.window.treatment.by_hand
    page.shape.setCurrentIndex(page.shape.findData("log"))
    page.shape.activated.emit(page.shape.currentIndex())
    hands.click(page.to_tone, 8, page.to_tone.height() / 2)
    hands.press("O", passage(hands))
    hands.settle()
    parameters = hands.work.history.latest.made[0].parameters
    assert (parameters["shape"], parameters["to"], parameters["direction"]) == ("log", "room_tone", "out")
    stop = hands.work.selection.stop
    assert 0.001 < sound_of(hands)[stop - 1000 : stop].std() < 0.004


def test_soften_edges_fades_both_ends_of_the_recording_as_one_step(hands, tmp_path):
    before = opened(hands, tmp_path, 0.3 + 0 * sine(seconds=1.0))
    hands.press("Shift+I")
    after = sound_of(hands)[:, 0]
    assert after[0] == after[-1] == 0
    assert np.array_equal(after[240:-240], before[240:-240, 0])
    assert len(hands.work.history.mends) == 2
    assert undone(hands, before)


def test_a_typed_level_change_shows_the_new_peak_before_it_is_made(hands, spoken):
    select(hands, 20000, 60000)
    start, stop = hands.work.selection.span
    page = hands.window.treatment.by_hand
    hands.press("Shift+G")
    hands.type("6 dB")
    hands.qtbot.waitUntil(lambda: "New peak" in page.new_peak.text(), timeout=5000)
    expected = 20 * np.log10(np.abs(spoken[start:stop]).max()) + 6
    told = float(page.new_peak.text().split()[2].replace("−", "-"))
    assert told == pytest.approx(expected, abs=0.06)
    assert hands.work.history.now == 0
    hands.type("\n")
    hands.settle()
    after = sound_of(hands)
    assert after[30000:50000] == pytest.approx(spoken[30000:50000] * 10 ** (6 / 20), rel=1e-5)
    assert np.array_equal(after[:start], spoken[:start])


def test_the_level_curve_is_dragged_typed_copied_and_deleted_and_stays_editable(hands, spoken):
    levelling = hands.window.tools.levelling
    strip = passage(hands)
    line = next(tool for tool in strip.tools if isinstance(tool, LevelLine))
    rect = strip.content_rect()
    hands.press("Ctrl+G")
    select(hands, 20000, 60000)
    start, stop = hands.work.selection.span
    x = strip.x_of(40000)
    drop = line.y_of(-12, rect)

    def look():
        shown = hands.window.viewing.shown_version(hands.work)
        assert np.abs(shown.read(30000, 50000)).max() < 0.5 * np.abs(spoken[30000:50000]).max()

    hands.drag(strip, (x, line.y_of(0, rect)), (x, drop), on_the_way=look)
    after = sound_of(hands)
    gain_db = 20 * np.log10(np.abs(after[40000:50000]).max() / np.abs(spoken[40000:50000]).max())
    assert gain_db == pytest.approx(-12, abs=0.3)
    nodes = levelling.curve(hands.work).nodes
    assert len(nodes) == 4
    assert (nodes[0].frame, nodes[-1].frame) == (start, stop)
    hands.drag(strip, (strip.x_of(nodes[1].frame), line.y_of(nodes[1].gain_db, rect)), (strip.x_of(30000), drop))
    assert len(hands.work.history.ledger) == 1, "changes that follow each other are one line of the ledger"
    assert abs(levelling.curve(hands.work).nodes[1].frame - 30000) < 200
    hands.window.treatment.by_hand.gain.setText("-20 dB")
    hands.window.treatment.by_hand.level.click()
    hands.settle()
    moved = levelling.curve(hands.work).nodes[1]
    assert moved.gain_db == pytest.approx(-20)
    hands.drag(
        strip,
        (strip.x_of(moved.frame), line.y_of(-20, rect)),
        (strip.x_of(35000), line.y_of(-5, rect)),
        modifier="Ctrl",
    )
    assert len(levelling.curve(hands.work).nodes) == 5
    hands.press("Del")
    assert len(levelling.curve(hands.work).nodes) == 4
    written = LevelCurve.parsed(hands.work.history.ledger[0].mend.parameters["curve"])
    assert written.nodes[0].gain_db == written.nodes[-1].gain_db == 0
    for _ in range(hands.work.history.now):
        hands.press("Ctrl+Z")
    assert np.array_equal(sound_of(hands), spoken)


def test_keep_only_and_an_exact_length(hands, spoken):
    select(hands, 20000, 60000)
    start, stop = hands.work.selection.span
    hands.press("Ctrl+K")
    assert hands.work.frames == stop - start
    assert np.array_equal(sound_of(hands)[200:-200], spoken[start + 200 : stop - 200])
    hands.press("Ctrl+Z")
    assert np.array_equal(sound_of(hands), spoken)


def test_a_loop_is_checked_and_mended(hands, spoken):
    hands.window.bench.select(20000, 50000)
    hands.press("Shift+L")
    desk = hands.window.tools.seaming.desk
    assert desk.kind == "loop"
    assert hands.window.listening.loops
    assert hands.window.listening.engine.loop is not None
    assert "Seam score now" in hands.window.treatment.seam.measured.text()
    assert desk.after.smoothness > desk.seam.reading.smoothness
    hands.press("Enter")
    assert hands.work.frames == len(spoken)
    loop = np.tile(sound_of(hands)[20000:50000, 0], 2).astype(float)
    steps = np.abs(np.diff(loop))
    assert steps[29999] <= np.quantile(steps, 0.99)


# Listening.


def test_the_selection_can_be_heard_left_out_before_it_is_spliced(hands, spoken):
    select(hands, 30000, 60000)
    hands.press("Ctrl+Space")
    programme = hands.window.listening.engine.programme
    assert programme.after.frames < len(spoken) - 29000
    assert hands.work.history.now == 0
    hands.press("Space")
    hands.press("Space")
    assert hands.window.listening.engine.programme.after.frames == len(spoken)


def test_speeds_leads_and_play_from_the_pointer(hands, spoken):
    listening = hands.window.listening
    hands.press("H")
    hands.press("Ctrl+H")
    assert (listening.engine.pace.speed, listening.engine.pace.keeps_pitch) == (0.5, True)
    hands.press("Shift+H")
    assert listening.engine.pace.speed == 0.25
    hands.press("Shift+H")
    assert listening.engine.pace.speed == 1.0

    def fill(dialog):
        dialog.lead_in.setText("250 ms")
        dialog.around_selection.setChecked(True)
        dialog.accept()

    hands.in_dialog(fill)
    hands.press("Ctrl+Shift+O")
    select(hands, 40000, 50000)
    hands.press("L")
    start, stop = hands.work.selection.span
    assert listening.engine.loop == (start - 12000, stop + 24000)
    hands.press("L")
    strip = passage(hands)
    QTest.mouseMove(strip, strip.content_rect().center().toPoint())
    # Asked at once: it plays on while one waits for the window.
    QTest.keyClick(hands.window, Qt.Key.Key_Space, Qt.KeyboardModifier.ShiftModifier)
    assert listening.engine.position == pytest.approx(strip.frame_at(strip.width() / 2), abs=6000)


def test_holding_a_key_scrubs_until_it_is_let_go(hands, spoken):
    hands.window.bench.set_cursor(50000)
    listening = hands.window.listening
    QTest.keyPress(hands.window, Qt.Key.Key_Comma)
    hands.qtbot.waitUntil(lambda: listening.engine.position < 48000, timeout=5000)
    assert listening.is_scrubbing
    QTest.keyRelease(hands.window, Qt.Key.Key_Comma)
    assert not listening.is_scrubbing
    assert hands.work.cursor < 48500
