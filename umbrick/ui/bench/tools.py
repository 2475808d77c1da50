"""The tools for working by hand, which share the bench and what is being tried."""

from __future__ import annotations

from dataclasses import dataclass

from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.drawing import Drawing
from umbrick.ui.bench.handwork import Handwork
from umbrick.ui.bench.levelling import Levelling
from umbrick.ui.bench.marking import Marking
from umbrick.ui.bench.pasting import Pasting
from umbrick.ui.bench.reviewing import Reviewing
from umbrick.ui.bench.seaming import Seaming
from umbrick.ui.bench.selecting import Selecting
from umbrick.ui.bench.trying import Trying


@dataclass(frozen=True)
class Tools:
    """All of them."""

    selecting: Selecting
    trying: Trying
    handwork: Handwork
    drawing: Drawing
    pasting: Pasting
    seaming: Seaming
    levelling: Levelling
    reviewing: Reviewing

    @classmethod
    def of(cls, bench: Bench, marking: Marking) -> Tools:
        """Return the tools of a bench."""
        selecting, trying, handwork = Selecting(bench, marking), Trying(bench), Handwork(bench)
        return cls(
            selecting,
            trying,
            handwork,
            Drawing(bench, handwork),
            Pasting(bench, handwork, selecting, trying),
            Seaming(bench, handwork, trying),
            Levelling(bench, handwork, trying),
            Reviewing(bench, handwork),
        )

    def let_go(self) -> bool:
        """Leave what is being tried, without doing it; whether there was anything."""
        if self.drawing.stroke is not None:
            self.drawing.drop()
        elif self.seaming.desk is not None:
            self.seaming.close()
        elif self.pasting.carried is not None:
            self.pasting.let_go()
        elif self.levelling.tried is not None:
            self.levelling.drop()
        else:
            return False
        return True

    @property
    def holds(self) -> bool:
        """Whether something is being tried."""
        return (
            self.drawing.stroke is not None
            or self.seaming.desk is not None
            or self.pasting.carried is not None
            or self.levelling.tried is not None
        )
