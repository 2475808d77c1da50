"""All that asks something before it is done, for the commands."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QWidget

from umbrick.ui.controllers import Controllers
from umbrick.ui.dialogs.area_dialogs import AreaDialogs
from umbrick.ui.dialogs.file_dialogs import FileDialogs
from umbrick.ui.dialogs.hand_dialogs import HandDialogs
from umbrick.ui.dialogs.lane_dialogs import LaneDialogs
from umbrick.ui.dialogs.mend_dialogs import MendDialogs
from umbrick.ui.dialogs.regimen_dialogs import RegimenDialogs
from umbrick.ui.theme import Theme


class AllDialogs:
    """The dialogs by what they are about, over a parent."""

    def __init__(self, controllers: Controllers, theme: Callable[[], Theme], parent: QWidget) -> None:
        c = controllers
        self.files = FileDialogs(
            c.bench, c.opening, c.casebooks, c.saving, c.marking, c.reporting, c.listing_out, c.tools.reviewing, parent
        )
        self.mends = MendDialogs(
            c.bench, c.mending, c.rehearsing, c.rehearsing_noise, c.looking, c.listening, c.marking, theme, parent
        )
        self.hand = HandDialogs(c.bench, c.tools, c.listening, parent)
        self.areas = AreaDialogs(c.bench, c.outlining, c.marking, parent)
        self.lanes = LaneDialogs(c.bench, c.linking, c.channel_lanes, c.opening, parent)
        self.regimens = RegimenDialogs(c.bench, c.regimens, parent)
