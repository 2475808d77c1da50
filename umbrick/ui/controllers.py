"""Everything that acts on the bench, and how one of them leads to another."""

from __future__ import annotations

from typing import Protocol

from PySide6.QtCore import SignalInstance
from PySide6.QtWidgets import QWidget

from umbrick.playback.output import Output
from umbrick.ui import settings
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
from umbrick.ui.bench.picture import Picturing
from umbrick.ui.bench.rechecking import Rechecking
from umbrick.ui.bench.regimens import Regimens
from umbrick.ui.bench.rehearsing import Rehearsing
from umbrick.ui.bench.rehearsing_noise import RehearsingNoise
from umbrick.ui.bench.settling import Settling
from umbrick.ui.bench.surveying import Surveying
from umbrick.ui.bench.viewing import Viewing
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


class Working(Protocol):
    """Does something beside the window, which can be stopped."""

    job: Job | None

    def stop(self) -> None:
        """Stop it, if there is something under way."""


class Controllers:
    """The bench, and all that opens, surveys, mends, listens and saves there; none knows of the window.

    ``parent`` is what asks where a file is to go stand over.
    """

    def __init__(self, output: Output, parent: QWidget) -> None:
        self.bench = bench = Bench()
        self.casebooks = Casebooks(bench)
        self.opening = Opening(bench, self.casebooks)
        self.saving = Saving(bench)
        self.putting_back = PuttingBack(bench, self.casebooks, self.opening, self.saving)
        self.reporting = Reporting(bench)
        self.listing_out = ListingOut(bench)
        self.lifting_out = LiftingOut(bench, parent)
        self.surveying = Surveying(bench)
        self.rechecking = Rechecking(bench)
        self.mending = Mending(bench)
        self.rehearsing = Rehearsing(bench)
        self.lifting = Lifting(bench)
        self.marking = Marking(bench)
        self.tools = tools = Tools.of(bench, self.marking)
        self.coursing = Coursing(bench)
        self.strengthening = Strengthening(bench, self.coursing)
        self.rehearsing_noise = RehearsingNoise(bench, self.coursing)
        self.settling = Settling(bench)
        self.listening = Listening(bench, self.mending, tools.trying, self.coursing, output)
        self.looking = Looking(bench, self.surveying, self.listening)
        self.outlining = Outlining(bench, self.mending, self.listening, self.surveying, tools.handwork)
        self.linking = Linking(bench)
        self.channel_lanes = ChannelLanes(bench, self.linking)
        self.regimens = Regimens(bench)
        self.viewing = Viewing(
            bench, self.mending, tools.trying, self.listening, self.marking, tools.selecting, self.coursing
        )
        self.picturing = Picturing(bench, self.viewing)
        self._lead_to_one_another()

    def _lead_to_one_another(self) -> None:
        self.surveying.leaves_a_core = lambda: self.listening.engine.is_playing
        self.listening.leads_ms = settings.leads_ms()
        self.listening.mix_for = self.linking.mix_for
        self.linking.written.connect(self.opening.open)
        self.channel_lanes.written.connect(self.opening.open)
        self.linking.found.connect(self.mending.offer_for_selection)
        self.opening.opened.connect(lambda path: settings.add_recent(str(path)))
        self.opening.loaded.connect(self.marking.offer_cues)
        self.opening.loaded.connect(self.settling.tell_of_other_sound)

    @property
    def workers(self) -> tuple[tuple[str, Working], ...]:
        """What runs beside the window, and what it is called: the first with a job is told of, Esc stops them all."""
        return (
            ("Surveying", self.surveying),
            ("Mending", self.mending),
            ("Mending", self.lifting),
            ("Rehearsing", self.rehearsing),
            ("Rehearsing", self.rehearsing_noise),
            ("First look", self.looking),
            ("Reporting", self.reporting),
            ("Working by hand", self.tools.handwork),
            ("Areas", self.outlining),
            ("Lifting out", self.lifting_out),
            ("Lanes", self.linking),
            ("Lanes", self.channel_lanes),
            ("Regimen", self.regimens),
            ("Measuring", self.coursing),
            ("Settling", self.settling),
            ("Saving", self.saving),
        )

    @property
    def changes(self) -> tuple[SignalInstance, ...]:
        """After which of their signals commands may be possible that were not, or the other way round."""
        bench, tools = self.bench, self.tools
        return (
            bench.recording_changed,
            bench.recordings_changed,
            bench.edited,
            bench.learned,
            bench.findings_changed,
            bench.focus_changed,
            bench.place_changed,
            bench.lanes_changed,
            self.casebooks.changed,
            self.surveying.changed,
            self.mending.changed,
            self.mending.offers_changed,
            self.rehearsing.changed,
            self.rehearsing_noise.changed,
            self.looking.changed,
            self.lifting.changed,
            self.marking.changed,
            self.listening.changed,
            self.saving.changed,
            self.coursing.changed,
            self.reporting.changed,
            self.listing_out.changed,
            self.lifting_out.changed,
            self.outlining.changed,
            self.linking.changed,
            self.channel_lanes.changed,
            self.regimens.changed,
            self.strengthening.changed,
            self.viewing.spectral.changed,
            tools.selecting.changed,
            tools.handwork.changed,
            tools.drawing.changed,
            tools.pasting.changed,
            tools.levelling.changed,
            tools.seaming.changed,
            tools.seaming.desk_changed,
            tools.trying.changed,
            tools.reviewing.changed,
        )

    @property
    def progresses(self) -> tuple[SignalInstance, ...]:
        """Which of their signals tell how far something has come."""
        return (
            self.surveying.progressed,
            self.mending.progressed,
            self.rehearsing.progressed,
            self.rehearsing_noise.progressed,
            self.looking.progressed,
            self.saving.progressed,
            self.coursing.progressed,
            self.settling.progressed,
            self.reporting.progressed,
            self.outlining.progressed,
            self.linking.progressed,
            self.channel_lanes.progressed,
            self.regimens.progressed,
            self.tools.reviewing.progressed,
        )

    @property
    def job_title(self) -> str:
        """What is under way, or nothing."""
        return next((title for title, working in self.workers if working.job), "")

    @property
    def can_stop(self) -> bool:
        """Whether something is under way, or being tried."""
        return bool(self.job_title) or any(one.holds for one in (self.tools, self.strengthening, self.outlining))

    def stop(self) -> None:
        """Leave what is being tried by hand; else stop what is under way."""
        if self.tools.leave():
            return
        if self.outlining.holds and not self.job_title:
            self.outlining.leave()
            return
        if self.strengthening.holds:
            self.strengthening.leave()
            return
        for _, working in self.workers:
            working.stop()
