"""The bench's window: puts strips, panels and menus together, and asks what needs asking."""

from __future__ import annotations

from pathlib import Path
from typing import Protocol

from PySide6.QtCore import QEvent, QPoint, QSize, Qt, QTimer
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeyEvent, QKeySequence
from PySide6.QtWidgets import QApplication, QMainWindow, QMenu, QMessageBox, QPushButton

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
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.channel_lanes import ChannelLanes
from umbrick.ui.bench.coursing import Coursing
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.lifting import Lifting
from umbrick.ui.bench.linking import Linking
from umbrick.ui.bench.listening import Listening
from umbrick.ui.bench.looking import Looking
from umbrick.ui.bench.marking import Marking
from umbrick.ui.bench.mending import Mending
from umbrick.ui.bench.notice import Choice, Notice
from umbrick.ui.bench.picture import Picturing
from umbrick.ui.bench.rechecking import Rechecking
from umbrick.ui.bench.regimens import Regimens
from umbrick.ui.bench.rehearsing import Rehearsing
from umbrick.ui.bench.rehearsing_noise import RehearsingNoise
from umbrick.ui.bench.settling import Settling
from umbrick.ui.bench.surveying import Surveying
from umbrick.ui.bench.viewing import Viewing
from umbrick.ui.commands.areas import area_commands, spectral_commands
from umbrick.ui.commands.command import Actions
from umbrick.ui.commands.course import ADDING
from umbrick.ui.commands.lanes import lane_commands, picture_commands
from umbrick.ui.commands.regimens import regimen_commands
from umbrick.ui.commands.table import command_table
from umbrick.ui.dialogs.area_dialogs import AreaDialogs
from umbrick.ui.dialogs.command_finder import CommandFinder
from umbrick.ui.dialogs.file_dialogs import FileDialogs
from umbrick.ui.dialogs.guide_dialog import GuideDialog
from umbrick.ui.dialogs.hand_dialogs import HandDialogs
from umbrick.ui.dialogs.key_sheet import KeySheet
from umbrick.ui.dialogs.lane_dialogs import ask_gain, ask_joined, ask_offset, ask_rate, open_fellows
from umbrick.ui.dialogs.mend_dialogs import MendDialogs
from umbrick.ui.dialogs.regimen_dialogs import RegimenDialogs
from umbrick.ui.dialogs.sound_dialog import SoundDialog
from umbrick.ui.dialogs.typed_dialog import TypedDialog
from umbrick.ui.files.casebooks import Casebooks
from umbrick.ui.files.lifting_out import LiftingOut
from umbrick.ui.files.listing_out import ListingOut
from umbrick.ui.files.opening import Opening
from umbrick.ui.files.putting_back import PuttingBack
from umbrick.ui.files.reporting import Reporting
from umbrick.ui.files.saving import Saving
from umbrick.ui.hand.outlining import Outlining
from umbrick.ui.hand.strengthening import Strengthening
from umbrick.ui.hand.tools import Tools
from umbrick.ui.icons import icon
from umbrick.ui.panels.by_hand import ByHand
from umbrick.ui.panels.context import ContextPanel
from umbrick.ui.panels.course_page import CoursePage
from umbrick.ui.panels.docket import Docket
from umbrick.ui.panels.header import Header
from umbrick.ui.panels.ledger import Ledger
from umbrick.ui.panels.level_review import LevelReview
from umbrick.ui.panels.made_page import MadePage
from umbrick.ui.panels.notice_bar import NoticeBar
from umbrick.ui.panels.picture_pane import PicturePane
from umbrick.ui.panels.seam_page import SeamPage
from umbrick.ui.panels.status import StatusLine
from umbrick.ui.panels.treatment import Treatment
from umbrick.ui.soon import Soon
from umbrick.ui.strips.area_tool import AreaTool
from umbrick.ui.strips.carried_copy import CarriedCopy
from umbrick.ui.strips.fade_corners import FadeCorners
from umbrick.ui.strips.lanes import LanesPanel
from umbrick.ui.strips.lines import LevelLine, StrengthLine
from umbrick.ui.strips.loupe import LoupeStrip
from umbrick.ui.strips.passage import PassageStrip
from umbrick.ui.strips.seam_desk import SeamDesk
from umbrick.ui.strips.strip import TITLE_HEIGHT, Strip
from umbrick.ui.strips.whole import WholeStrip
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


class _Themed(Protocol):
    def set_theme(self, theme: themes.Theme) -> None: ...


class _Working(Protocol):
    job: Job | None

    def stop(self) -> None: ...


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
        self.bench = Bench()
        self.casebooks = Casebooks(self.bench)
        self.opening = Opening(self.bench, self.casebooks)
        self.surveying = Surveying(self.bench)
        self.rechecking = Rechecking(self.bench)
        self.listing_out = ListingOut(self.bench)
        self.mending = Mending(self.bench)
        self.rehearsing = Rehearsing(self.bench)
        self.lifting = Lifting(self.bench)
        self.saving = Saving(self.bench)
        self.putting_back = PuttingBack(self.bench, self.casebooks, self.opening, self.saving)
        self.reporting = Reporting(self.bench)
        self.marking = Marking(self.bench)
        self.tools = tools = Tools.of(self.bench, self.marking)
        self.coursing = Coursing(self.bench)
        self.strengthening = Strengthening(self.bench, self.coursing)
        self.rehearsing_noise = RehearsingNoise(self.bench, self.coursing)
        self.settling = Settling(self.bench)
        self.listening = Listening(self.bench, self.mending, tools.trying, self.coursing, output)
        self.looking = Looking(self.bench, self.surveying, self.listening)
        self.surveying.leaves_a_core = lambda: self.listening.engine.is_playing
        self.listening.leads_ms = settings.leads_ms()
        self.outlining = Outlining(self.bench, self.mending, self.listening, self.surveying, tools.handwork)
        self.lifting_out = LiftingOut(self.bench, self)
        self.linking = Linking(self.bench)
        self.regimens = Regimens(self.bench)
        self.listening.mix_for = self.linking.mix_for
        self.linking.written.connect(lambda path: self.opening.open([path]))
        self.linking.copied.connect(self.opening.open)
        self.channel_lanes = ChannelLanes(self.bench, self.linking)
        self.channel_lanes.written.connect(
            lambda paths: self.opening.open(paths, lambda: self.channel_lanes.link(paths))
        )
        self.linking.found.connect(self.mending.offer_for_selection)
        self.viewing = Viewing(
            self.bench, self.mending, tools.trying, self.listening, self.marking, tools.selecting, self.coursing
        )
        self.picturing = Picturing(self.bench, self.viewing)
        self._workers: tuple[tuple[str, _Working], ...] = (
            ("Surveying", self.surveying),
            ("Mending", self.mending),
            ("Mending", self.lifting),
            ("Rehearsing", self.rehearsing),
            ("Rehearsing", self.rehearsing_noise),
            ("First look", self.looking),
            ("Reporting", self.reporting),
            ("Working by hand", tools.handwork),
            ("Areas", self.outlining),
            ("Lifting out", self.lifting_out),
            ("Lanes", self.linking),
            ("Lanes", self.channel_lanes),
            ("Regimen", self.regimens),
            ("Measuring", self.coursing),
            ("Settling", self.settling),
            ("Saving", self.saving),
        )
        """What runs beside the window, and what it is called: the first with a job is told of, Esc stops them all."""
        self._ledger_is_open = False
        self.guide: GuideDialog | None = None
        hand_dialogs = HandDialogs(self.bench, tools, self.listening, self)
        self._file_dialogs = FileDialogs(
            self.bench,
            self.opening,
            self.casebooks,
            self.saving,
            self.marking,
            self.reporting,
            self.listing_out,
            tools.reviewing,
            self,
        )
        self._mend_dialogs = MendDialogs(
            self.bench,
            self.mending,
            self.rehearsing,
            self.rehearsing_noise,
            self.looking,
            self.listening,
            self.marking,
            lambda: self.theme,
            self,
        )
        self.regimen_dialogs = RegimenDialogs(self.bench, self.regimens, self)
        table = command_table(
            self.bench,
            self.surveying,
            self.mending,
            self.rehearsing,
            self.looking,
            self.lifting,
            self.marking,
            self.listening,
            self.saving,
            self.putting_back,
            self.viewing,
            self.coursing,
            self.strengthening,
            self.rehearsing_noise,
            self.settling,
            tools,
            spectral_commands(self.bench, self.viewing.spectral, lambda: self.passage.fit_spectrum()),
            area_commands(
                self.bench,
                self.outlining,
                self.viewing.spectral,
                self.lifting_out,
                AreaDialogs(self.bench, self.outlining, self.marking, self),
            ),
            lane_commands(
                self.bench,
                self.linking,
                self.channel_lanes,
                lambda: open_fellows(self.bench, self.linking, self.opening),
                lambda: ask_offset(self.linking, self),
                lambda: ask_rate(self.bench, self),
                lambda: ask_gain(self.linking, self),
                lambda: ask_joined(self.bench, self.channel_lanes, self),
            ),
            picture_commands(self.bench, self.picturing),
            regimen_commands(self.bench, self.regimens, self.regimen_dialogs),
            self,
            self._file_dialogs,
            self._mend_dialogs,
            hand_dialogs,
        )
        self.actions_ = Actions(table, self)
        self.actions_.fill(self.menuBar())
        self._menus = WorkMenus(self, lambda path: self.open([path]))
        self._menus.put_into(self.menuBar().actions()[0].menu(), self.actions_.actions["demo"])
        self.loupe = LoupeStrip(self.viewing, tools.drawing, self._loupe_buttons())
        self.passage = passage = PassageStrip(self.viewing)
        self.strips: list[Strip] = [WholeStrip(self.viewing), passage, self.loupe]
        passage.tools = [
            CarriedCopy(passage, tools.pasting),
            AreaTool(passage, self.outlining),
            StrengthLine(passage, self.strengthening),
            LevelLine(passage, tools.levelling),
            FadeCorners(passage, tools.handwork),
        ]
        self.loupe.tools = [CarriedCopy(self.loupe, tools.pasting)]
        for strip in self.strips:
            strip.menu_wanted.connect(self._show_menu)
        self.lanes = LanesPanel(self.bench, self.linking)
        self.seam_desk = SeamDesk(tools.seaming, self.listening)
        self.picture = PicturePane(
            self.bench,
            self.picturing,
            [self._button("picture_back", "◂"), self._button("picture_on", "▸")],
        )
        self.docket = Docket(self.bench, self.surveying, self._button("survey", "Survey  F5"))
        finding = Treatment(
            self.bench,
            self.mending,
            {
                "mend": self._button("mend", "Mend  Enter", accent=True),
                "keep": self._button("keep", "Keep  K"),
                "mend_all": self._button("mend_all", "Mend all alike…"),
                "put_back": self._button("put_back", "Put back and close  F2" if is_round_trip else "Put back  F2"),
                "save": self._button("save", "Save a copy…"),
                "adjust": self._button("adjust", "Settings  ⇧E"),
                "lay": self._button("lay_for_finding", "Lay it over all  Alt+Enter", accent=True),
            },
        )
        names = {
            "splice": "Splice out  ⌫", "keep_length": "Fill  ⇧⌫", "seam_desk": "Seam desk  W",
            "carry": "Carry a copy  P", "fit": "Fit it  ⇧P", "drop": "Drop it  Enter", "level_curve": "Curve  Ctrl+G",
            "fade_in": "In  I", "fade_out": "Out  O", "soften": "Soften the edges  ⇧I",
            "keep_only": "Keep only this  Ctrl+K", "exact_length": "Exact length…  Ctrl+L",
            "loop_check": "Loop check  ⇧L",
        }  # fmt: skip
        by_hand = ByHand(
            self.bench, tools.selecting, tools.handwork, tools.pasting, tools.levelling,
            {name: self._button(name, text) for name, text in names.items()},
        )  # fmt: skip
        seam = SeamPage(
            self.bench,
            tools.seaming,
            {
                "make": self._button("mend", "Make it  Enter", accent=True),
                "leave": self._button("stop", "Leave it  Esc"),
            },
        )
        course = CoursePage(
            self.bench,
            self.coursing,
            {"carry": self._button("carry_step", "Carry it here  Alt+P"), "back": self._button("course", "Done  F3")},
            [self.actions_.actions[name] for name in (*(name for name, *_ in ADDING), "lay_print", "lay_hum_print")],
        )
        self.treatment = ContextPanel(
            self.bench, tools, self.mending, self.coursing, finding, by_hand, seam, course,
            MadePage(self.bench, self.lifting), self.lifting,
        )  # fmt: skip
        hand_dialogs.panel, hand_dialogs.loupe = self.treatment, self.loupe
        self.header = Header(self.bench, self.listening, self.actions_.actions)
        self.notices = NoticeBar(self.bench)
        self.ledger = Ledger(
            self.bench,
            self.lifting,
            {
                "switch": self._button("switch", "Switch  X"),
                "settings": self._button("settings", "Settings…  E"),
                "lift_off": self._button("lift_off", "Lift off  Del"),
                "seam": self._button("reopen_seam", "Seam desk"),
            },
        )
        self.review = LevelReview(
            self.bench,
            self.tools.reviewing,
            [
                self._button("next_part", "Next to level  Shift+F4"),
                self._button("level_part", "Level it  Ctrl+Enter"),
                self._button("review_out", "Write…"),
            ],
        )
        self.status = StatusLine(
            self.bench, self.viewing, self.listening, self.tools.selecting, self._button("ledger", "Ledger")
        )
        self.status.stop.clicked.connect(self.stop_jobs)
        self.status.pictures_a_second = lambda: self.picturing.rate or settings.pictures_a_second()
        first_steps = [self._button("open", "Open…  Ctrl+O", True), self._button("demo", "Open the demo")]
        self._arrangement = Arrangement(
            self.header, self.notices, self.strips, self.lanes, self.seam_desk, self.picture, self.docket,
            self.treatment, self.review, self.ledger, self.status, first_steps,
        )  # fmt: skip
        self.setCentralWidget(self._arrangement)
        self._connect()
        self._remember()
        self._apply_theme()

    # The window's parts.

    def _button(self, name: str, text: str, accent: bool = False) -> QPushButton:
        """Return a button for a command, which is enabled and explained as the command is."""
        action = self.actions_.actions[name]
        button = QPushButton(text)
        button.setProperty("accent", accent)
        button.setAutoDefault(False)
        button.clicked.connect(action.trigger)

        def follow() -> None:
            button.setEnabled(action.isEnabled())
            button.setToolTip(action.toolTip())

        action.changed.connect(follow)
        follow()
        return button

    def _connect(self) -> None:
        self._soon = Soon(self, self._refresh)
        for signal in (
            self.bench.recording_changed,
            self.bench.recordings_changed,
            self.bench.edited,
            self.bench.learned,
            self.bench.findings_changed,
            self.bench.focus_changed,
            self.bench.place_changed,
            self.surveying.changed,
            self.mending.changed,
            self.rehearsing.changed,
            self.rehearsing_noise.changed,
            self.looking.changed,
            self.mending.offers_changed,
            self.lifting.changed,
            self.marking.changed,
            self.listening.changed,
            self.saving.changed,
            self.coursing.changed,
            self.reporting.changed,
            self.tools.selecting.changed,
            self.tools.handwork.changed,
            self.outlining.changed,
            self.lifting_out.changed,
            self.linking.changed,
            self.channel_lanes.changed,
            self.regimens.changed,
            self.bench.lanes_changed,
            self.viewing.spectral.changed,
            self.tools.drawing.changed,
            self.tools.pasting.changed,
            self.tools.levelling.changed,
            self.strengthening.changed,
            self.tools.seaming.changed,
            self.tools.seaming.desk_changed,
            self.tools.trying.changed,
            self.tools.reviewing.changed,
            self.listing_out.changed,
        ):
            signal.connect(self._soon.ask)
        self.tools.seaming.desk_changed.connect(self._show_desk)
        panel = self.treatment
        for page in (panel.finding, panel.by_hand, panel.seam, panel.course, panel.made):
            page.left.connect(self._free_keyboard)
        for working in (
            self.surveying,
            self.mending,
            self.rehearsing,
            self.rehearsing_noise,
            self.looking,
            self.saving,
            self.coursing,
            self.settling,
            self.reporting,
            self.outlining,
            self.linking,
            self.channel_lanes,
            self.regimens,
            self.tools.reviewing,
        ):
            working.progressed.connect(self.status.show_progress)
        self.opening.opened.connect(lambda path: settings.add_recent(str(path)))
        self.opening.find_wanted.connect(self._file_dialogs.ask_find)
        self.opening.loaded.connect(self.marking.offer_cues)
        self.opening.loaded.connect(self.settling.tell_of_other_sound)
        self.casebooks.changed.connect(self._soon.ask)
        self.putting_back.put_back_done.connect(self._close_trip)

    def _loupe_buttons(self) -> list[QPushButton]:
        """Return the small buttons in the Loupe's title: what can be done to single samples."""
        buttons = []
        for name, text in (("pen", "Draw  D"), ("redraw_curve", "Curve  Y"), ("redraw_line", "Straight  ⇧Y")):
            button = self._button(name, text)
            button.setProperty("role", "plain")
            button.setFixedHeight(TITLE_HEIGHT - 1)
            button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            action = self.actions_.actions[name]
            if action.isCheckable():
                button.setCheckable(True)
                action.toggled.connect(button.setChecked)
                button.clicked.connect(lambda _, button=button, action=action: button.setChecked(action.isChecked()))
            buttons.append(button)
        return buttons

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
        self.status.show_job(self.job_title())
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
        parts: tuple[_Themed, ...] = (
            *self.strips,
            self.lanes,
            self.picture,
            self.seam_desk,
            self.docket,
            self.treatment,
            self.review,
        )
        for part in parts:
            part.set_theme(self.theme)
        self.header.meter.theme = self.theme
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

    def stop_jobs(self) -> None:
        """Leave what is being tried by hand; else stop what is under way."""
        if self.tools.leave():
            return
        if self.outlining.holds and not self.job_title():
            self.outlining.leave()
            return
        if self.strengthening.holds:
            self.strengthening.leave()
            return
        for _, working in self._workers:
            working.stop()

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

    def can_stop(self) -> bool:
        """Whether something is under way, or being tried."""
        holding = self.tools, self.strengthening, self.outlining
        return bool(self.job_title()) or any(one.holds for one in holding)

    def job_title(self) -> str:
        """Return what is under way, or nothing."""
        return next((title for title, working in self._workers if working.job), "")

    def is_settled(self) -> bool:
        """Whether all that was begun is done and drawn."""
        visible = [strip for strip in self.strips if strip.isVisible()]
        is_at_rest = self.bench.jobs.is_idle and self.coursing.rendering.is_idle and self.seam_desk.is_idle
        return is_at_rest and self.lanes.is_idle and self.picturing.is_idle and all(strip.is_idle for strip in visible)

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
        for strip in self.strips:
            strip.close_renderer()
        self.lanes.close_renderer()
        self.picturing.close()
        self.seam_desk.close_renderer()
        for work in self.bench.works:
            work.recording.close()
        self.casebooks.close()
