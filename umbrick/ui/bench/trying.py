"""What is being tried by hand and not applied yet: the strips show it, and it can be heard."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QObject, Signal

from umbrick.core.mend.applying import Mended
from umbrick.core.timeline.version import Version
from umbrick.ui.bench.bench import Bench
from umbrick.work.work import Work


@dataclass(frozen=True, eq=False)
class Trial:
    """A version as it would be.

    ``base`` is the one that is worked on, ``shows`` whether the strips are to draw it, and ``seam`` the span of the
    version as it would be that a loop goes round, if there is one.
    """

    base: Version
    version: Version
    peak: float = 0.0
    shows: bool = True
    seam: tuple[int, int] | None = None

    @classmethod
    def of(cls, base: Version, mended: Mended, shows: bool = True, seam: tuple[int, int] | None = None) -> Trial:
        """Return the trial of something mended."""
        return cls(base, mended.version, mended.peak, shows, seam)


class Trying(QObject):
    """Holds the one thing that is being tried; another edit, or another recording, ends it."""

    changed = Signal()

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self._bench = bench
        self._trial: Trial | None = None
        bench.recording_changed.connect(self.end)

    def show(self, trial: Trial) -> None:
        """Try something, instead of what was tried before."""
        self._trial = trial
        self.changed.emit()

    def end(self) -> None:
        """Try nothing any more."""
        if self._trial is not None:
            self._trial = None
            self.changed.emit()

    def trial_in(self, work: Work) -> Trial | None:
        """Return what is tried, if it was made for the version that is worked on now."""
        trial = self._trial
        return trial if trial is not None and trial.base is work.version else None
