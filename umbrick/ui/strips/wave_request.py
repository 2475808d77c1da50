"""What the picture of a waveform depends on, in whichever strip."""

from __future__ import annotations

from dataclasses import dataclass, field

from umbrick.core.timeline.version import Version
from umbrick.core.view.columns import Columns
from umbrick.core.view.window import Window
from umbrick.ui.theme import Theme


@dataclass(frozen=True)
class WaveRequest:
    """``size`` is in pixels of the screen, the height that of one lane; ``top`` is the amplitude at a lane's upper
    edge; ``known`` counts what is known."""

    version: Version
    window: Window
    size: tuple[int, int]
    ratio: float
    top: float
    theme: Theme
    known: tuple[int, int]
    columns: Columns = field(compare=False)
    original: Version = field(compare=False)
