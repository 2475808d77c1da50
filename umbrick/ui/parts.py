"""The parts of the window: strips and panels, made for what acts on the bench, with buttons for commands."""

from __future__ import annotations

from typing import Protocol

from umbrick.ui import settings
from umbrick.ui import theme as themes
from umbrick.ui.buttons import Buttons
from umbrick.ui.commands.command import Actions
from umbrick.ui.commands.course import ADDING
from umbrick.ui.controllers import Controllers
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
from umbrick.ui.strips.area_tool import AreaTool
from umbrick.ui.strips.carried_copy import CarriedCopy
from umbrick.ui.strips.fade_corners import FadeCorners
from umbrick.ui.strips.lanes import LanesPanel
from umbrick.ui.strips.lines import LevelLine, StrengthLine
from umbrick.ui.strips.loupe import LoupeStrip
from umbrick.ui.strips.passage import PassageStrip
from umbrick.ui.strips.seam_desk import SeamDesk
from umbrick.ui.strips.strip import Strip
from umbrick.ui.strips.whole import WholeStrip


class _Themed(Protocol):
    def set_theme(self, theme: themes.Theme) -> None: ...


class Parts:
    """What the window is made of; ``puts_back_and_closes`` as on a round trip for another program."""

    def __init__(self, controllers: Controllers, actions: Actions, puts_back_and_closes: bool) -> None:
        self._controllers = c = controllers
        self._actions = actions
        self._buttons = buttons = Buttons(actions)
        self.passage, self.loupe = self._passage(), self._loupe()
        self.strips: list[Strip] = [WholeStrip(c.viewing), self.passage, self.loupe]
        self.lanes = LanesPanel(c.bench, c.linking)
        self.seam_desk = SeamDesk(c.tools.seaming, c.listening)
        turning = [buttons.button("picture_back", "◂"), buttons.button("picture_on", "▸")]
        self.picture = PicturePane(c.bench, c.picturing, turning)
        self.docket = Docket(c.bench, c.surveying, buttons.button("survey", "Survey  F5"))
        self.treatment = self._treatment("Put back and close  F2" if puts_back_and_closes else "Put back  F2")
        self.header = Header(c.bench, c.listening, actions.actions)
        self.notices = NoticeBar(c.bench)
        self.ledger = Ledger(
            c.bench,
            c.lifting,
            {
                "switch": buttons.button("switch", "Switch  X"),
                "settings": buttons.button("settings", "Settings…  E"),
                "lift_off": buttons.button("lift_off", "Lift off  Del"),
                "seam": buttons.button("reopen_seam", "Seam desk"),
            },
        )
        leveling = (
            ("next_part", "Next to level  Shift+F4"),
            ("level_part", "Level it  Ctrl+Enter"),
            ("review_out", "Write…"),
        )
        self.review = LevelReview(c.bench, c.tools.reviewing, [buttons.button(*one) for one in leveling])
        self.status = StatusLine(c.bench, c.viewing, c.listening, c.tools.selecting, buttons.button("ledger", "Ledger"))
        self.status.pictures_a_second = lambda: c.picturing.rate or settings.pictures_a_second()
        self.first_steps = [buttons.button("open", "Open…  Ctrl+O", True), buttons.button("demo", "Open the demo")]

    def _passage(self) -> PassageStrip:
        c, passage = self._controllers, PassageStrip(self._controllers.viewing)
        passage.tools = [
            CarriedCopy(passage, c.tools.pasting),
            AreaTool(passage, c.outlining),
            StrengthLine(passage, c.strengthening),
            LevelLine(passage, c.tools.levelling),
            FadeCorners(passage, c.tools.handwork),
        ]
        return passage

    def _loupe(self) -> LoupeStrip:
        """Make the Loupe; in its title are small buttons for what can be done to single samples."""
        c, small = self._controllers, self._buttons.small
        buttons = [small("pen", "Draw  D"), small("redraw_curve", "Curve  Y"), small("redraw_line", "Straight  ⇧Y")]
        loupe = LoupeStrip(c.viewing, c.tools.drawing, buttons)
        loupe.tools = [CarriedCopy(loupe, c.tools.pasting)]
        return loupe

    def _treatment(self, put_back: str) -> ContextPanel:
        c, tools, buttons = self._controllers, self._controllers.tools, self._buttons
        finding = Treatment(
            c.bench,
            c.mending,
            {
                "mend": buttons.button("mend", "Mend  Enter", accent=True),
                "keep": buttons.button("keep", "Keep  K"),
                "mend_all": buttons.button("mend_all", "Mend all alike…"),
                "put_back": buttons.button("put_back", put_back),
                "save": buttons.button("save", "Save a copy…"),
                "adjust": buttons.button("adjust", "Settings  ⇧E"),
                "lay": buttons.button("lay_for_finding", "Lay it over all  Alt+Enter", accent=True),
            },
        )
        by_hand = ByHand(
            c.bench, tools.selecting, tools.handwork, tools.pasting, tools.levelling,
            buttons.named(
                splice="Splice out  ⌫", keep_length="Fill  ⇧⌫", seam_desk="Seam desk  W", carry="Carry a copy  P",
                fit="Fit it  ⇧P", drop="Drop it  Enter", level_curve="Curve  Ctrl+G", fade_in="In  I",
                fade_out="Out  O", soften="Soften the edges  ⇧I", keep_only="Keep only this  Ctrl+K",
                exact_length="Exact length…  Ctrl+L", loop_check="Loop check  ⇧L",
            ),
        )  # fmt: skip
        making = {
            "make": buttons.button("mend", "Make it  Enter", True),
            "leave": buttons.button("stop", "Leave it  Esc"),
        }
        seam = SeamPage(c.bench, tools.seaming, making)
        going = {
            "carry": buttons.button("carry_step", "Carry it here  Alt+P"),
            "back": buttons.button("course", "Done  F3"),
        }
        adding = (*(name for name, *_ in ADDING), "lay_print", "lay_hum_print")
        course = CoursePage(c.bench, c.coursing, going, [self._actions.actions[name] for name in adding])
        made = MadePage(c.bench, c.lifting)
        return ContextPanel(c.bench, tools, c.mending, c.coursing, finding, by_hand, seam, course, made, c.lifting)

    def set_theme(self, theme: themes.Theme) -> None:
        """Use another theme's colours."""
        themed: tuple[_Themed, ...] = (
            *self.strips, self.lanes, self.picture, self.seam_desk, self.docket, self.treatment, self.review,
        )  # fmt: skip
        for part in themed:
            part.set_theme(theme)
        self.header.meter.theme = theme

    @property
    def is_drawn(self) -> bool:
        """Whether all that can be seen shows what there is."""
        visible = [strip for strip in self.strips if strip.isVisible()]
        return self.seam_desk.is_idle and self.lanes.is_idle and all(strip.is_idle for strip in visible)

    def close_renderers(self) -> None:
        """Stop what draws beside the window."""
        for strip in self.strips:
            strip.close_renderer()
        self.lanes.close_renderer()
        self.seam_desk.close_renderer()
