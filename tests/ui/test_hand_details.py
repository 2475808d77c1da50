"""The smaller things that hands meet: fields, handles, other recordings, what cannot be done, and devices."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from tests.sounds import RATE, rng, sine, voice, write
from tests.ui.conftest import has_color
from umbrick.playback.output import SIMULATED, Choice, OutputError
from umbrick.playback.simulated import SimulatedOutput
from umbrick.ui import settings
from umbrick.ui.dialogs.sound_dialog import SoundDialog
from umbrick.ui.dialogs.typed_dialog import TypedDialog
from umbrick.ui.panels.typed_field import TypedField


@pytest.fixture
def spoken(hands, tmp_path):
    pause = 0.002 * rng(3).standard_normal((RATE // 2, 1))
    sound = np.vstack([voice(1.5), pause, voice(1.5, seed=4)]).astype(np.float32)
    hands.open(write(tmp_path / "spoken.wav", sound, subtype="FLOAT"))
    return sound


def sound_of(hands):
    return hands.work.version.read(0, hands.work.frames)


# Fields.


def test_a_typed_field_takes_leaves_and_refuses(qtbot):
    field, other = TypedField("Length", "5 ms"), TypedField("Other")
    for widget in (other, field):
        qtbot.addWidget(widget)
        widget.show()
    field.activateWindow()
    qtbot.waitUntil(field.isActiveWindow)
    typed, left = [], []
    field.typed.connect(typed.append)
    field.left.connect(lambda: left.append(True))
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, "7 ms")
    field.show_value("9 ms")
    assert field.text() == "7 ms", "what is being typed is not written over"
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert (typed, len(left)) == (["7 ms"], 1)
    QTest.keyClicks(field, "x")
    QTest.keyClick(field, Qt.Key.Key_Escape)
    assert field.text() == "9 ms"
    assert (typed, len(left)) == (["7 ms"], 2)
    field.typed.connect(lambda _: field.refuse())
    QTest.keyClicks(field, "y")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert len(left) == 2, "a value that makes no sense is typed again"


def test_a_dialog_for_values_says_what_they_mean_before_it_takes_them(qtbot):
    from umbrick.core.errors import ParameterError

    def check(values):
        if values[0] != "good":
            raise ParameterError("That is not good.")
        return "That is good."

    dialog = TypedDialog("Title", [("Value", "bad")], check, "Do", [("a", "First"), ("b", "Second")])
    qtbot.addWidget(dialog)
    assert not dialog.accept_button.isEnabled()
    assert "not good" in dialog.note.text()
    dialog.fields[0].setText(" good ")
    assert dialog.accept_button.isEnabled()
    assert (dialog.values, dialog.choice.currentData()) == (["good"], "a")


def test_a_level_that_is_none_is_said_and_nothing_changes(hands, spoken):
    hands.window.bench.select(20_000, 30_000)
    page = hands.window.treatment.by_hand
    hands.press("Shift+G")
    for text, says in (("loud\n", "not a level"), ("90 dB\n", "from -60 to 40")):
        hands.type(text, page.gain)
        assert says in hands.window.status.message.text()
        assert page.gain.hasFocus()
    hands.type("0 smp\n", page.ramp)
    assert "at least one sample long" in hands.window.status.message.text()
    assert hands.work.history.now == 0


# Reasons.


def test_what_cannot_be_done_by_hand_says_why(hands, spoken):
    actions = hands.window.actions_.actions
    for name, says in (
        ("splice", "Select something first"),
        ("carry", "Select something first"),
        ("paste", "Copy something first"),
        ("fit", "Carry a copy first"),
        ("match_right", "seam desk first"),
        ("link_channels", "one channel"),
        ("reopen_seam", "ledger"),
    ):
        assert not actions[name].isEnabled(), name
        assert says in actions[name].toolTip(), name
    hands.window.bench.select(0, len(spoken))
    hands.press("Backspace")
    assert "Nothing would be left" in hands.window.status.message.text()
    assert hands.work.held == ""
    assert hands.work.history.now == 0


def test_a_shift_that_cannot_be_paid_back_says_so_on_the_desk(hands, tmp_path):
    hands.open(write(tmp_path / "tone.wav", sine(seconds=3.0)))
    hands.window.bench.select(30_000, 33_000)
    hands.press("W")
    page = hands.window.treatment.seam
    hands.click(page.time_buttons["payback"])
    assert "no pause" in page.effect.text()
    hands.press("Enter")
    assert "no pause" in hands.window.status.message.text()
    assert hands.work.history.now == 0
    hands.press("Esc")
    assert not hands.window.seam_desk.isVisible()
    assert hands.window.viewing.shown_version(hands.work) is hands.work.version


def test_esc_drops_a_stroke_and_closing_the_recording_keeps_a_nudge(hands, spoken, tmp_path):
    hands.window.bench.set_cursor(30_000)
    hands.settle()
    drawing = hands.window.tools.drawing
    drawing.begin(30_000, 0.9)
    hands.press("Esc")
    assert drawing.stroke is None
    assert np.array_equal(sound_of(hands), spoken)
    QTest.keyClick(hands.window, Qt.Key.Key_Up)
    assert drawing.stroke is not None
    work = hands.work
    hands.press("Ctrl+W")
    assert work.history.now == 1


# Handles.


def test_the_handles_of_a_carried_copy_change_its_level_and_turn_it_over(hands, spoken):
    hands.window.bench.select(20_000, 60_000)
    hands.press("P")
    pasting, strip = hands.window.tools.pasting, hands.window.strips[1]
    pasting.carry_to(80_000)
    hands.settle()
    tool = strip.tools[0]
    rect = strip.content_rect()
    level = tool.handle("level", rect).center()
    hands.drag(strip, (level.x(), level.y()), (level.x(), level.y() + 60))
    assert pasting.carried.gain_db == pytest.approx(-6.0)
    turn = tool.handle("turn", rect).center()
    hands.click(strip, turn.x(), turn.y())
    assert pasting.carried.inverted
    assert has_color(strip, hands.window.theme.mended)
    hands.press("Enter")
    after = sound_of(hands)
    expected = -(10 ** (-6 / 20)) * spoken[30_000:50_000]
    assert after[90_000:110_000] == pytest.approx(expected, abs=1e-5)
    parameters = hands.work.history.latest.made[0].parameters
    assert (parameters["polarity"], parameters["donor"]) == ("inverted", 20_000)


def test_the_ends_of_the_recording_have_corners_too(hands, spoken):
    hands.press("0")
    strip = hands.window.strips[1]
    top = strip.content_rect().top() + 5
    hands.drag(strip, (strip.width() - 4, top), (strip.width() - 100, top))
    mend = hands.work.history.latest.made[0]
    assert (mend.method, mend.parameters["direction"], mend.stop) == ("fade", "out", len(spoken))
    assert sound_of(hands)[-1, 0] == 0


def test_a_loops_tail_can_be_faded_instead(hands, spoken):
    hands.window.bench.select(20_000, 50_000)
    hands.press("Shift+L")
    page = hands.window.treatment.seam
    hands.type("20 ms\n", page.crossfade)
    hands.click(page.end_buttons[True])
    assert "the length stays" in page.effect.text()
    hands.press("Right")
    assert "edges of its selection" in hands.window.status.message.text()
    hands.press("Enter")
    after = sound_of(hands)
    assert after[49_999, 0] == 0
    assert np.array_equal(after[:49_039], spoken[:49_039])
    assert np.array_equal(after[50_000:], spoken[50_000:])


def test_the_desk_draws_both_sides_and_zooms(hands, spoken):
    hands.window.bench.select(30_000, 34_000)
    hands.press("W")
    desk = hands.window.seam_desk
    assert has_color(desk, hands.window.theme.mended)
    assert has_color(desk, hands.window.theme.wrong)
    half = desk.half
    hands.wheel(desk, 2, desk.width() / 2)
    assert desk.half < half
    assert "taken out" in desk.title(hands.window.tools.seaming.desk)


# Other recordings and devices.


def test_a_copy_goes_to_another_recording_of_the_same_rate_only(hands, spoken, tmp_path):
    hands.window.bench.select(20_000, 24_000)
    hands.press("Ctrl+C")
    first = hands.work
    hands.open(write(tmp_path / "other.wav", sine(seconds=1.0, channels=2)))
    hands.qtbot.waitUntil(lambda: hands.work is not first)
    hands.window.bench.set_cursor(10_000)
    hands.press("Ctrl+V")
    after = sound_of(hands)
    for channel in (0, 1):
        assert after[10_000:14_000, channel] == pytest.approx(spoken[20_000:24_000, 0], abs=1e-6)
    assert hands.work.history.latest.made[0].parameters["donor"] == "another recording"
    hands.open(write(tmp_path / "slow.wav", sine(seconds=1.0, rate=32_000), rate=32_000))
    hands.qtbot.waitUntil(lambda: hands.work.rate == 32_000)
    action = hands.window.actions_.actions["paste"]
    assert not action.isEnabled()
    assert "48000 Hz" in action.toolTip()


def test_the_sound_dialog_lists_devices_and_a_missing_one(qtbot):
    dialog = SoundDialog(Choice("Headphones", "low", 512), ["Loudspeaker"], (500, 250), False)
    qtbot.addWidget(dialog)
    names = [dialog.device.itemText(row) for row in range(dialog.device.count())]
    assert names == ["the system's own choice", "Loudspeaker", SIMULATED, "Headphones (not there)"]
    assert dialog.choice == Choice("Headphones", "low", 512)
    assert dialog.leads_ms == (500, 250)
    dialog.lead_in.setText("a while")
    assert not dialog.accept_button.isEnabled()


def test_another_output_is_used_and_remembered(hands, spoken):
    def choose(dialog):
        dialog.device.setCurrentIndex(dialog.device.findData(SIMULATED))
        dialog.buffer.setCurrentIndex(dialog.buffer.findData(1024))
        dialog.accept()

    hands.in_dialog(choose)
    hands.press("Ctrl+Shift+O")
    assert settings.output_choice().device == SIMULATED
    hands.qtbot.waitUntil(lambda: SIMULATED in hands.window.status.message.text(), timeout=3000)


def test_an_unplugged_device_falls_back_with_a_message(hands, spoken):
    class Unplugged(SimulatedOutput):
        name = "Headphones"

        def write(self, block):
            raise OutputError("The sound device Headphones has gone.")

    hands.window.listening.engine.use(Unplugged())
    hands.press("Space")
    hands.qtbot.waitUntil(lambda: "has gone" in hands.window.status.message.text(), timeout=5000)
    assert "simulated output" in hands.window.status.message.text()
    assert hands.window.listening.engine.output_name == SIMULATED


def test_the_level_curve_survives_undo_later_mends_and_a_restart_of_the_view(hands, spoken):
    levelling = hands.window.tools.levelling
    hands.window.bench.select(20_000, 60_000)
    hands.press("Ctrl+G")
    levelling.try_step(-6.0)
    levelling.make()
    hands.settle()
    curve = levelling.curve(hands.work)
    hands.window.bench.select(30_000, 30_004)
    hands.press("Y")
    assert levelling.curve(hands.work) == curve, "a later mend inside does not hide it"
    hands.window.bench.select(2_000, 3_000)
    hands.press("Ctrl+X")
    moved = levelling.curve(hands.work)
    assert [n.frame for n in moved.nodes] == [n.frame - 1000 for n in curve.nodes]
    for _ in range(3):
        hands.press("Ctrl+Z")
    assert levelling.curve(hands.work).nodes == ()
    assert np.array_equal(sound_of(hands), spoken)


def test_a_pasted_copy_made_again_takes_the_same_sound_whatever_was_cut_before_it(hands, tmp_path):
    sound = np.hstack([voice(3.0, seed=1), voice(3.0, seed=2)])
    hands.open(write(tmp_path / "two.wav", sound, subtype="FLOAT"))
    bench, pasting = hands.window.bench, hands.window.tools.pasting
    bench.select(100_000, 104_000)
    bench.select_channels((1,))
    pasting.copy()
    bench.select_channels((0,))
    bench.select(60_000, 60_000)
    bench.set_cursor(60_000)
    pasting.paste_over()
    hands.settle()
    pasted = hands.work.history.mends[-1]
    assert (pasted.parameters["donor"], pasted.parameters["donor_channels"]) == (100_000, "1")
    copied = hands.work.version.read(61_000, 63_000)
    assert np.array_equal(copied[:, 0], sound[101_000:103_000, 1].astype(np.float32))
    bench.select_channels((0, 1))
    bench.select(10_000, 30_000)
    hands.window.tools.handwork.apply("splice", {"search_ms": 0}, hands.work.place())
    hands.settle()
    shift = hands.work.frames - len(sound)
    lifting = hands.window.lifting
    lifting.choose([pasted.id])
    assert lifting.reason_not_to_change() == ""
    lifting.make_again({**pasted.parameters, "gain_db": 0.0})
    hands.settle()
    again = hands.work.history.mends[-1]
    assert (again.method, again.parameters["donor"]) == ("graft", 100_000)
    assert np.array_equal(hands.work.version.read(61_000 + shift, 63_000 + shift), copied)


def test_a_device_that_comes_back_is_played_on_again(hands, spoken, monkeypatch):
    window = hands.window
    back = SimulatedOutput(keeps_time=False)
    back.name = "Loudspeaker"
    window.listening.wanted = Choice()
    there = []
    monkeypatch.setattr("umbrick.ui.bench.listening.device_for", lambda _: back if there else None)
    hands.press("Space")
    assert window.listening.engine.output_name == SIMULATED
    hands.press("Space")
    there.append(True)
    hands.press("Space")
    assert window.listening.engine.output_name == "Loudspeaker"
    hands.press("Space")
