"""The panel at the right: the treatment of what one is working on, be it a finding, a selection or a seam."""

from __future__ import annotations

from PySide6.QtWidgets import QSizePolicy, QStackedWidget, QWidget

from umbrick.ui import theme as themes
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.coursing import Coursing
from umbrick.ui.bench.lifting import Lifting
from umbrick.ui.bench.mending import Mending
from umbrick.ui.hand.tools import Tools
from umbrick.ui.panels.by_hand import ByHand
from umbrick.ui.panels.course_page import CoursePage
from umbrick.ui.panels.made_page import MadePage
from umbrick.ui.panels.seam_page import SeamPage
from umbrick.ui.panels.treatment import Treatment


class ContextPanel(QStackedWidget):
    """Shows one of five pages; only that one takes room."""

    def __init__(
        self,
        bench: Bench,
        tools: Tools,
        mending: Mending,
        coursing: Coursing,
        finding: Treatment,
        by_hand: ByHand,
        seam: SeamPage,
        course: CoursePage,
        made: MadePage,
        lifting: Lifting,
    ) -> None:
        super().__init__()
        self._bench = bench
        self._tools = tools
        self._mending = mending
        self._coursing = coursing
        self._lifting = lifting
        self.finding, self.by_hand, self.seam, self.course, self.made = finding, by_hand, seam, course, made
        self._types = False
        for page in (finding, by_hand, seam, course, made):
            page.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Ignored)
            self.addWidget(page)
        for signal in (
            bench.recording_changed,
            bench.place_changed,
            bench.edited,
            tools.seaming.desk_changed,
            tools.pasting.changed,
            tools.levelling.changed,
            mending.offers_changed,
            coursing.changed,
            lifting.changed,
        ):
            signal.connect(self._choose)
        bench.focus_changed.connect(self._look_at_finding)
        mending.asked.connect(self._leave_course)
        self._choose()

    def set_theme(self, theme: themes.Theme) -> None:
        """Use another theme's colours."""
        self.finding.set_theme(theme)
        self.by_hand.set_theme(theme)
        self.course.set_theme(theme)

    def show_by_hand(self) -> ByHand:
        """Show the page for a selection, though nothing may be selected yet, and return it."""
        self._types = True
        self._choose()
        return self.by_hand

    def _look_at_finding(self) -> None:
        self._types = False
        if (work := self._bench.work) is not None and work.focus is not None:
            self._leave_course()
        self._choose()

    def _leave_course(self) -> None:
        """Let what was asked for be seen: Enter must not mend with a candidate that the course hides."""
        if self._coursing.is_open:
            self._coursing.set_open(False)

    def _choose(self) -> None:
        self.setCurrentWidget(self._page())

    def _page(self) -> QWidget:
        work = self._bench.work
        if work is None:
            return self.finding
        if self._tools.seaming.desk is not None:
            return self.seam
        if self._lifting.mend_shown() is not None:
            return self.made
        if self._coursing.is_open:
            return self.course
        if self._mending.place is not None:
            return self.finding
        by_hand = (
            work.selection or self._types or self._tools.pasting.carried or self._tools.levelling.chosen is not None
        )
        return self.by_hand if by_hand else self.finding
