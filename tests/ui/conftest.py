import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt, QTimer
from PySide6.QtGui import QMouseEvent, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from tests.sounds import clipped, faultless, write
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import method_named
from umbrick.playback.simulated import SimulatedOutput
from umbrick.ui import theme
from umbrick.ui.collecting import Collecting
from umbrick.ui.window import BenchWindow

KEYS = {"Enter": Qt.Key.Key_Return, "Space": Qt.Key.Key_Space, "Esc": Qt.Key.Key_Escape, "Left": Qt.Key.Key_Left,
        "Right": Qt.Key.Key_Right, "Home": Qt.Key.Key_Home, "End": Qt.Key.Key_End, "+": Qt.Key.Key_Plus,
        "-": Qt.Key.Key_Minus, "Del": Qt.Key.Key_Delete,
        "Up": Qt.Key.Key_Up, "Down": Qt.Key.Key_Down, ",": Qt.Key.Key_Comma, ".": Qt.Key.Key_Period,
        "Backspace": Qt.Key.Key_Backspace, "PgDown": Qt.Key.Key_PageDown, "PgUp": Qt.Key.Key_PageUp}  # fmt: skip
MODIFIERS = {
    "Alt": Qt.KeyboardModifier.AltModifier,
    "Ctrl": Qt.KeyboardModifier.ControlModifier,
    "Shift": Qt.KeyboardModifier.ShiftModifier,
}


class Hands:
    """Does what a person does: presses keys, drags, turns the wheel, waits; counts deliberate acts."""

    def __init__(self, window, qtbot):
        self.window = window
        self.qtbot = qtbot
        self.acts = 0

    @property
    def work(self):
        return self.window.bench.work

    def settle(self, timeout=180_000):
        self.qtbot.waitUntil(self.window.is_settled, timeout=timeout)
        QApplication.processEvents()
        self.qtbot.waitUntil(self.window.is_settled, timeout=timeout)

    def press(self, keys, target=None):
        """Press a key such as ``Shift+N``, and wait for what it does."""
        modifiers, _, name = keys.rpartition("+") if not keys.endswith("+") else (keys[:-2], "", "+")
        modifier = Qt.KeyboardModifier.NoModifier
        for text in filter(None, modifiers.split("+")):
            modifier |= MODIFIERS[text]
        key = KEYS.get(name) or getattr(Qt.Key, f"Key_{name}")
        self.acts += 1
        QApplication.processEvents()  # a key comes through the loop of events, after what was posted before
        if target is None and not self.window.isActiveWindow():
            self.window.activateWindow()  # what a window manager does when a dialog has closed
            self.qtbot.waitUntil(self.window.isActiveWindow)
        QTest.keyClick(target or self.window, key, modifier)
        if target is None:
            self.settle()

    def type(self, text, widget=None):
        """Type into a field, replacing what is selected or in it, or into what has the keyboard."""
        self.acts += 1
        if widget is not None:
            widget.setFocus()
            widget.selectAll()
        for character in text:
            target = QApplication.focusWidget() or self.window
            key = {"\n": Qt.Key.Key_Return, "\t": Qt.Key.Key_Tab}.get(character)
            QTest.keyClick(target, key) if key else QTest.keyClicks(target, character)
        self.settle()

    def in_dialog(self, do):
        """Have ``do(dialog)`` run when the next dialog is open."""

        def look():
            dialog = QApplication.activeModalWidget()
            if dialog is None:
                QTimer.singleShot(20, look)
            else:
                try:
                    do(dialog)
                finally:
                    if dialog.isVisible():
                        dialog.reject()

        QTimer.singleShot(0, look)

    def click(self, widget, x=None, y=None, modifier=Qt.KeyboardModifier.NoModifier):
        self.acts += 1
        QApplication.processEvents()
        where = widget.rect().center() if x is None else QPoint(round(x), round(y))
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton, modifier, where)
        self.settle()

    def drag(self, widget, start, stop, modifier="", button="Left", on_the_way=lambda: None, steps=3):
        """Press at one point, move to another in steps, do something there, and let go."""
        self.acts += 1
        QApplication.processEvents()
        start, stop = (QPointF(round(x), round(y)) for x, y in (start, stop))
        held = MODIFIERS.get(modifier, Qt.KeyboardModifier.NoModifier)
        which = getattr(Qt.MouseButton, f"{button}Button")
        none = Qt.MouseButton.NoButton
        for kind, at, pressed in (
            (QEvent.Type.MouseButtonPress, start, which),
            *((QEvent.Type.MouseMove, start + (stop - start) * (n + 1) / steps, none) for n in range(steps)),
        ):
            QApplication.sendEvent(widget, QMouseEvent(kind, at, widget.mapToGlobal(at), pressed, which, held))
        QApplication.processEvents()
        on_the_way()
        release = QEvent.Type.MouseButtonRelease
        QApplication.sendEvent(widget, QMouseEvent(release, stop, widget.mapToGlobal(stop), which, none, held))
        self.settle()

    def wheel(self, widget, steps, x, y=None, modifier=""):
        at = QPointF(x, widget.height() / 2 if y is None else y)
        held = MODIFIERS.get(modifier, Qt.KeyboardModifier.NoModifier)
        event = QWheelEvent(
            at, widget.mapToGlobal(at), QPoint(), QPoint(0, 120 * steps), Qt.MouseButton.NoButton, held,
            Qt.ScrollPhase.NoScrollPhase, False,
        )  # fmt: skip
        QApplication.sendEvent(widget, event)
        self.settle()

    def open(self, *paths):
        self.window.open(list(paths))
        self.qtbot.waitUntil(lambda: len(self.window.bench.works) >= len(paths), timeout=60_000)
        self.settle()


@pytest.fixture(autouse=True)
def collecting(qapp):
    """As in the application: no thread but the interface's may destroy what is Qt's."""
    collecting = Collecting(qapp)
    yield collecting
    collecting.stop()
    collecting.deleteLater()


@pytest.fixture
def window(qapp, qtbot):
    theme.load_fonts()
    qapp.setStyleSheet("")  # a window dresses when it is whole, as at a start, and not again with every part put in
    window = BenchWindow(SimulatedOutput())
    window.resize(1280, 800)
    window.show()
    window.activateWindow()
    qtbot.waitUntil(window.isActiveWindow)
    yield window
    window.shut_down()
    window.deleteLater()
    QApplication.processEvents()


@pytest.fixture
def hands(window, qtbot):
    return Hands(window, qtbot)


@pytest.fixture
def hot(tmp_path):
    """A short interview recorded too hot: the file, the truth, and where it is clipped."""
    sound, truth, mask = clipped(faultless(2.0), 0.004, rail=0.99)
    return write(tmp_path / "hot.wav", sound), truth, mask


@pytest.fixture
def surveyed(hands, hot):
    """The window with that recording open and surveyed."""
    hands.open(hot[0])
    hands.press("F5")
    return hands


def focus_longest(hands):
    """Look at the finding whose mend surely passes full scale, and return it."""
    finding = max(hands.work.listing().open_findings(), key=lambda f: f.stop - f.start)
    hands.window.bench.focus(finding)
    hands.settle()
    return finding


def mend_quickly(hands, count=1):
    """Mend the longest open findings by the quickest method, one step each."""
    work = hands.work
    longest = sorted(work.listing().open_findings(), key=lambda f: f.start - f.stop)[:count]
    for finding in longest:
        mended = apply_method(work.version, method_named("declip"), {"using": "curve"}, [Place.of(finding)])
        assert hands.window.bench.commit(work, mended.edit("declip at one place"), mended.version)
    hands.settle()


def has_color(widget, name, rect=None):
    """Whether a color is anywhere in a widget as painted."""
    image = widget.grab().toImage().convertToFormat(widget.grab().toImage().Format.Format_RGB32)
    pixels = np.frombuffer(image.constBits(), np.uint32).reshape(image.height(), image.width()) & 0xFFFFFF
    if rect is not None:
        pixels = pixels[int(rect.top()) : int(rect.bottom()), int(rect.left()) : int(rect.right())]
    return bool((pixels == int(name[1:], 16)).any())
