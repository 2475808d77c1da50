"""The tools for working by hand, which share the bench and what is being tried."""

from __future__ import annotations

from dataclasses import dataclass

from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.marking import Marking
from umbrick.ui.bench.trying import Trying
from umbrick.ui.hand.drawing import Drawing
from umbrick.ui.hand.handwork import Handwork
from umbrick.ui.hand.held import Held
from umbrick.ui.hand.levelling import Levelling
from umbrick.ui.hand.pasting import Pasting
from umbrick.ui.hand.reviewing import Reviewing
from umbrick.ui.hand.seaming import Seaming
from umbrick.ui.hand.selecting import Selecting


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

    @property
    def held(self) -> Held | None:
        """What the keys act on instead of what they usually mean: the desk, or the copy that is carried."""
        return next((tool for tool in (self.seaming, self.pasting) if tool.holds), None)

    def leave(self) -> bool:
        """Leave what is being tried, without doing it; whether there was anything."""
        tried = next((tool for tool in self._leavable if tool.holds), None)
        if tried is not None:
            tried.leave()
        return tried is not None

    @property
    def holds(self) -> bool:
        """Whether something is being tried."""
        return any(tool.holds for tool in self._leavable)

    @property
    def _leavable(self) -> tuple[Drawing | Seaming | Pasting | Levelling, ...]:
        return self.drawing, self.seaming, self.pasting, self.levelling
