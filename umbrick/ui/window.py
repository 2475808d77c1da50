"""The bench's window: puts strips, panels and menus together, and asks what needs asking."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QEvent, QPoint, QSize, Qt, QTimer
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeyEvent, QKeySequence
from PySide6.QtWidgets import QApplication, QMainWindow, QMenu, QMessageBox

from umbrick import __version__
from umbrick.casebook.unnamed import Left
from umbrick.core.errors import ParameterError
from umbrick.core.paths import cache_folder
from umbrick.core.quick_transforms import use_quick_transforms
from umbrick.demo import recordings as demo_recordings
from umbrick.playback.output import Output, device_names
from umbrick.ui import settings
from umbrick.ui import theme as themes
from umbrick.ui.arrangement import Arrangement
from umbrick.ui.bench.notice import Choice, Notice
from umbrick.ui.commands.command import Actions
from umbrick.ui.commands.table import command_table
from umbrick.ui.controllers import Controllers
from umbrick.ui.dialogs.all_dialogs import AllDialogs
from umbrick.ui.dialogs.command_finder import CommandFinder
from umbrick.ui.dialogs.guide_dialog import GuideDialog
from umbrick.ui.dialogs.key_sheet import KeySheet
from umbrick.ui.dialogs.sound_dialog import SoundDialog
from umbrick.ui.dialogs.typed_dialog import TypedDialog
from umbrick.ui.icons import icon
from umbrick.ui.parts import Parts
from umbrick.ui.soon import Soon
from umbrick.ui.work_menus import WorkMenus

_MOST_ROOM_GB = 10_000
_SCRUBBING_KEYS = (Qt.Key.Key_Comma, Qt.Key.Key_Period)


_AT_CURSOR = (
    ("play", "set_marker"),
    ("paste", "paste_in"),
    ("zoom_in", "zoom_out", "fit_levels"),
)
_AT_FINDING = (("mend", "keep", "mend_all", "adjust", "rehearse"), ("note", "set_marker"), ("play", "flip"))
_AT_SELECTION = (
    ("offer_mends", "splice", "keep_length", "seam_desk", "restore"),
    ("copy", "cut", "paste"),
    ("fade_in", "fade_out", "level_curve"),
    ("set_marker", "survey_selection", "save_selection"),
    ("play", "show_selection"),
)
"""What a right click offers, in groups of commands' names."""

_FRAME = QSize(4, 36)
"""About what a desktop puts around a window; it tells once it has done so."""


class BenchWindow(QMainWindow):
    """The main window."""

    def __init__(self, output: Output, is_round_trip: bool = False) -> None:
        """Make the window; on a round trip for another program, putting back closes it."""
        super().__init__()
        self._is_round_trip = is_round_trip
        self.put_back_in_trip = False
        """Whether, on a round trip, the file was put back changed."""
        self.setWindowTitle("Umbrick")
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self.theme = themes.DAYLIGHT
        self._ledger_is_open = False
        self.guide: GuideDialog | None = None
        self.controllers = c = Controllers(output, self)
        self.bench, self.tools, self.viewing = c.bench, c.tools, c.viewing
        self.surveying, self.mending, self.lifting, self.rehearsing = c.surveying, c.mending, c.lifting, c.rehearsing
        self.coursing, self.looking, self.outlining, self.linking = c.coursing, c.looking, c.outlining, c.linking
        self.listening, self.regimens, self.picturing = c.listening, c.regimens, c.picturing
        self.casebooks, self.opening, self.saving, self.putting_back = c.casebooks, c.opening, c.saving, c.putting_back
        dialogs = AllDialogs(c, lambda: self.theme, self)
        self.regimen_dialogs = dialogs.regimens
        self.actions_ = Actions(command_table(c, dialogs, self), self)
        self.actions_.fill(self.menuBar())
        self._menus = WorkMenus(self, lambda path: self.open([path]))
        self._menus.put_into(self.menuBar().actions()[0].menu(), self.actions_.actions["demo"])
        self.parts = parts = Parts(c, self.actions_, is_round_trip)
        self.strips, self.passage, self.loupe, self.lanes = parts.strips, parts.passage, parts.loupe, parts.lanes
        self.seam_desk, self.picture, self.docket = parts.seam_desk, parts.picture, parts.docket
        self.treatment, self.review, self.ledger = parts.treatment, parts.review, parts.ledger
        self.header, self.notices, self.status = parts.header, parts.notices, parts.status
        dialogs.hand.panel, dialogs.hand.loupe = self.treatment, self.loupe
        self._arrangement = Arrangement(
            self.header, self.notices, self.strips, self.lanes, self.seam_desk, self.picture, self.docket,
            self.treatment, self.review, self.ledger, self.status, parts.first_steps,
        )  # fmt: skip
        self.setCentralWidget(self._arrangement)
        self._connect(dialogs)
        self._remember()
        self._apply_theme()

    # The window's parts.

    def _connect(self, dialogs: AllDialogs) -> None:
        controllers = self.controllers
        self._soon = Soon(self, self._refresh)
        for signal in controllers.changes:
            signal.connect(self._soon.ask)
        for signal in controllers.progresses:
            signal.connect(self.status.show_progress)
        self.status.stop.clicked.connect(controllers.stop)
        self.tools.seaming.desk_changed.connect(self._show_desk)
        panel = self.treatment
        for page in (panel.finding, panel.by_hand, panel.seam, panel.course, panel.made):
            page.left.connect(self._free_keyboard)
        for strip in self.strips:
            strip.menu_wanted.connect(self._show_menu)
        self.opening.find_wanted.connect(dialogs.files.ask_find)
        self.putting_back.put_back_done.connect(self._close_trip)

    def _free_keyboard(self) -> None:
        """Give the keyboard back to the strips, so that keys are commands again."""
        (self.seam_desk if self.tools.seaming.desk is not None else self.strips[1]).setFocus()

    def _show_desk(self) -> None:
        is_open = self.tools.seaming.desk is not None
        if self._arrangement.show_desk(is_open):
            (self.seam_desk if is_open else self.strips[1]).setFocus()

    def _refresh(self) -> None:
        self.actions_.refresh()
        if self._arrangement.show_recording(self.bench.work is not None) and self.bench.work:
            self.strips[1].setFocus()
        self.status.show_job(self.controllers.job_title)
        play = self.actions_.actions["play"]
        name = "stop" if self.listening.is_playing else "play"
        if play.property("shown") != (name, self.theme.name):
            play.setProperty("shown", (name, self.theme.name))
            play.setIcon(icon(name, self.theme.color("ink")))
        work = self.bench.work
        parts = [work.home.name] if work else []
        if self.casebooks.name:
            parts.append(self.casebooks.name)
        self.setWindowTitle(" — ".join([*parts, "Umbrick"]))

    # Themes, and what is remembered.

    def _apply_theme(self) -> None:
        application = QApplication.instance()
        assert isinstance(application, QApplication)
        themes.apply(application, self.theme)
        self.parts.set_theme(self.theme)
        for name, command in self.actions_.commands.items():
            if command.icon:
                self.actions_.actions[name].setIcon(
                    icon(command.icon, self.theme.color("ink"), self.theme.color("on_accent"))
                )
        self._refresh()

    def fit_into_screen(self) -> None:
        """Make the window no larger than what the screen has room for, with a frame around it."""
        self.resize(self.size().boundedTo(self.screen().availableGeometry().size() - _FRAME))

    def _remember(self) -> None:
        remembered = settings.open_settings()
        if (geometry := remembered.value("geometry")) is not None:
            self.restoreGeometry(geometry)
        self._arrangement.restore(remembered)
        self._ledger_is_open = settings.is_set(remembered, "ledger")
        self.ledger.setVisible(self._ledger_is_open)
        self.theme = themes.THEMES.get(str(remembered.value("theme", "daylight")), themes.DAYLIGHT)
        self.docket.setHidden(settings.is_set(remembered, "docket_hidden"))
        self.treatment.setHidden(settings.is_set(remembered, "treatment_hidden"))
        self.viewing.follows = settings.is_set(remembered, "follow", default=True)
        self.listening.set_loops(settings.is_set(remembered, "loop"))
        self.viewing.spectral.restore(str(remembered.value("spectral", "")))
        self.tools.selecting.restore(str(remembered.value("snap", "")), str(remembered.value("ruler", "")))

    def store(self) -> None:
        """Remember how the window stands, for the next start."""
        store = settings.open_settings()
        store.setValue("geometry", self.saveGeometry())
        self._arrangement.save(store)
        store.setValue("ledger", self._ledger_is_open)
        store.setValue("theme", self.theme.name)
        store.setValue("docket_hidden", self.docket.isHidden())
        store.setValue("treatment_hidden", self.treatment.isHidden())
        store.setValue("follow", self.viewing.follows)
        store.setValue("loop", self.listening.loops)
        store.setValue("spectral", self.viewing.spectral.stored())
        store.setValue("snap", self.tools.selecting.snap.value)
        store.setValue("ruler", self.tools.selecting.ruler.value)

    # What commands ask of the window.

    def open(self, paths: list[Path]) -> None:
        """Open files."""
        self.opening.open(paths)

    def open_demo(self) -> None:
        """Open the demo recordings, and look at the first."""
        paths = demo_recordings()
        self.opening.open(paths, lambda: self.bench.show_work(self.bench.find_open(paths[0])))

    def close_recording(self) -> None:
        """Take the current recording off the bench; its work stays in the casebook."""
        self.tools.drawing.end()
        if work := self.bench.work:
            if self.surveying.job:
                self.surveying.stop()
            self.opening.close(work)

    def offer_work_left(self, found: list[Left]) -> None:
        """Offer the newest unnamed work of earlier starts back, if it is in no file; the menu lists all of it."""
        self._menus.left = found
        waiting = [left for left in found if not left.is_in_files]
        if waiting:
            newest = waiting[0]
            go_on = Choice("Go on with it", lambda: self.open([newest.path]))
            throw = Choice("Throw away…", lambda: self._throw_away(newest))
            more = f" There is more under Recording, Work without a name ({len(found) - 1})." if len(found) > 1 else ""
            self.bench.noticed.emit(Notice(f"{newest.title} was given no name; it is kept.{more}", (go_on, throw)))

    def _throw_away(self, left: Left) -> None:
        answer = QMessageBox.question(
            self,
            "Throw work away",
            f"{left.title} would be gone for good. The recordings themselves are not touched.",
            QMessageBox.StandardButton.Discard | QMessageBox.StandardButton.Cancel,
            QMessageBox.StandardButton.Cancel,
        )
        if answer == QMessageBox.StandardButton.Discard:
            self.casebooks.forget(left.path)

    def is_round_trip(self) -> bool:
        """Whether another program opened the file here and waits for it."""
        return self._is_round_trip

    def _close_trip(self) -> None:
        if self._is_round_trip:
            self.put_back_in_trip = True
            QTimer.singleShot(0, self.close)

    def focus_search(self) -> None:
        """Type what the docket is to show."""
        self.docket.show()
        self.docket.search.setFocus()
        self.docket.search.selectAll()

    def _show_menu(self, at: QPoint) -> None:
        """Show what can be done at the cursor, with the selection or with the finding in focus."""
        work = self.bench.work
        if work is None:
            return
        groups = _AT_SELECTION if work.selection else _AT_FINDING if work.focus is not None else _AT_CURSOR
        menu = QMenu(self)
        menu.setToolTipsVisible(True)
        for group in groups:
            menu.addSeparator()
            for name in group:
                menu.addAction(self.actions_.actions[name])
        menu.popup(at)

    def find_command(self) -> None:
        """Find a command by a word of it, and do it."""
        commands = [command for command in self.actions_.commands.values() if command.name != "find_command"]
        finder = CommandFinder(commands, self)
        if finder.exec():
            QTimer.singleShot(0, self.actions_.actions[finder.chosen].trigger)

    def show_guide(self) -> None:
        """Show the guide in a window beside this one."""
        if self.guide is None:
            self.guide = GuideDialog(self)
        self.guide.show()
        self.guide.raise_()

    def show_keys(self) -> None:
        """Show the sheet of keys."""
        KeySheet(self.actions_.commands.values(), self).exec()

    def show_about(self) -> None:
        """Show version and licences."""
        QMessageBox.about(
            self,
            "About Umbrick",
            f"<b>Umbrick {__version__}</b><p>Finds faults in recordings and mends each with the least change that "
            f"works.</p><p>Fourier transforms by {use_quick_transforms()}.</p><p>Free software under the GNU General "
            "Public License, version 3 or later. Typeface: IBM Plex "
            "Sans (SIL Open Font License). Icons: Lucide (ISC).</p>",
        )

    def fit_spectrum(self) -> None:
        """Have the spectrogram show levels from what is faint in view to what is loudest."""
        self.passage.fit_spectrum()

    def toggle_docket(self) -> None:
        """Show or hide the docket."""
        self.docket.setVisible(self.docket.isHidden())

    def toggle_ledger(self) -> None:
        """Open or shut the ledger."""
        self._ledger_is_open = not self._ledger_is_open
        self.ledger.setVisible(self._ledger_is_open)
        (self.ledger.list if self._ledger_is_open else self.strips[1]).setFocus()

    def is_ledger_open(self) -> bool:
        """Whether the ledger is open."""
        return self._ledger_is_open

    def toggle_review(self) -> None:
        """Open or shut the level review."""
        reviewing = self.tools.reviewing
        reviewing.set_open(not reviewing.is_open)
        (self.review.chart if reviewing.is_open else self.strips[1]).setFocus()

    def toggle_settings(self) -> None:
        """Show the settings of the chosen candidate, to be typed, or do not."""
        self.treatment.show()
        self.mending.set_shows_settings(not self.mending.shows_settings)
        if self.mending.shows_settings:
            self.treatment.finding.settings.focus_first()

    def show_settings_of_mend(self) -> None:
        """Show the settings of the mend that is chosen in the ledger, to be typed."""
        self.treatment.show()
        self.lifting.set_shows_settings(True)
        self.treatment.made.settings.focus_first()

    def ask_course_room(self) -> None:
        """Ask how much room on the disk what the course makes may take."""

        def check(values: list[str]) -> str:
            text = values[0].upper().removesuffix("GB").strip()
            if not text.isdigit() or not 1 <= int(text) <= _MOST_ROOM_GB:
                raise ParameterError(f"Room is a whole number of GB from 1 to {_MOST_ROOM_GB}.")
            return (
                f"Up to {text} GB in {cache_folder()}. It can be deleted at any time; what is gone is worked out again."
            )

        shown = f"{settings.tile_limit_bytes() >> 30} GB"
        dialog = TypedDialog("Room for the course", [("On the disk", shown)], check, "Set", parent=self)
        if dialog.exec():
            limit = int(dialog.values[0].upper().removesuffix("GB").strip())
            settings.set_tile_limit_gb(limit)
            self.bench.tiles.set_limit(limit << 30)

    def toggle_course(self) -> None:
        """Show the course in the treatment panel, or what is at the place one looks at."""
        self.treatment.show()
        self.coursing.set_open(not self.coursing.is_open)

    def toggle_treatment(self) -> None:
        """Show or hide the treatment panel."""
        self.treatment.setVisible(self.treatment.isHidden())

    def toggle_dusk(self) -> None:
        """Change between daylight and dusk."""
        self.theme = themes.DAYLIGHT if self.is_dusk() else themes.DUSK
        self._apply_theme()

    def is_dusk(self) -> bool:
        """Whether the dark theme is on."""
        return self.theme is themes.DUSK

    def ask_sound(self) -> None:
        """Ask for the sound output and the leads of loops."""
        choice, listening = settings.output_choice(), self.listening
        dialog = SoundDialog(choice, device_names(), listening.leads_ms, listening.leads_selection, self)
        if dialog.exec():
            listening.set_leads(*dialog.leads_ms, dialog.around_selection.isChecked())
            settings.set_leads_ms(*dialog.leads_ms)
            if dialog.choice != choice:
                settings.set_output_choice(dialog.choice)
                listening.use_output(dialog.choice)

    def is_settled(self) -> bool:
        """Whether all that was begun is done and drawn."""
        is_at_rest = self.bench.jobs.is_idle and self.coursing.rendering.is_idle and self.picturing.is_idle
        return is_at_rest and self.parts.is_drawn

    # Qt's events.

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """A key whose command cannot run now says why: Qt lets it come here then."""
        if reason := self.actions_.why_not(QKeySequence(event.keyCombination())):
            self.bench.said.emit(reason)
        else:
            super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        """Letting go of a key that scrubs ends it."""
        if event.key() in _SCRUBBING_KEYS and not event.isAutoRepeat():
            self.listening.end_scrub()
        super().keyReleaseEvent(event)

    def changeEvent(self, event: QEvent) -> None:
        """Coming back to the window, see whether another program has changed the file."""
        super().changeEvent(event)
        if event.type() != QEvent.Type.ActivationChange:
            return
        if self.isActiveWindow():
            self.putting_back.look()
        else:
            self.listening.end_scrub()  # where the key that scrubs is let go of, nobody here will hear

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        """Take files."""
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        """Open the files dropped."""
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        event.acceptProposedAction()
        QTimer.singleShot(0, lambda: self._open_dropped(paths))

    def _open_dropped(self, paths: list[Path]) -> None:
        """Open files that were dropped together; several may be of one event."""

        def offer() -> None:
            opened = [work for path in paths if (work := self.bench.find_open(path)) is not None]
            if len(opened) > 1 and not self.linking.reason_not_to_link():
                text = f"{len(opened)} recordings were dropped together. If they are of one event, they can be linked."
                self.bench.noticed.emit(Notice(text, (Choice("Link them", self.linking.link),)))

        self.opening.open(paths, offer)

    def closeEvent(self, event: QCloseEvent) -> None:
        """Close; all work is in the casebook already, and is there or offered back at the next start."""
        self.tools.drawing.end()
        self.store()
        self.shut_down()
        event.accept()

    def shut_down(self) -> None:
        """Stop every thread and let go of every file."""
        self.listening.close()
        self.putting_back.close()
        self.coursing.close()
        self.bench.jobs.cancel_all()
        self.parts.close_renderers()
        self.picturing.close()
        for work in self.bench.works:
            work.recording.close()
        self.casebooks.close()
