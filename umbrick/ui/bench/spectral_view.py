"""How spectrograms are shown: beside the waveform or instead of it, along which frequencies, how sharp and how dark."""

from __future__ import annotations

from dataclasses import replace
from enum import Enum

from PySide6.QtCore import QObject, Signal

from umbrick.core.view.frequency_scale import FrequencyScale, Spacing
from umbrick.core.view.spectrogram import LENGTHS_SECONDS, USUAL_LENGTH, Sharpening
from umbrick.ui.bench.bench import Bench

_FLOOR_DB, _CEILING_DB = -105.0, -25.0
_LEAST_RANGE_DB, _LOWEST_DB = 12.0, -140.0


class Wash(Enum):
    """A colour map. The blue one is told apart by every kind of colour vision."""

    INK = "sepia and ink"
    BLUE = "blue"


class Face(Enum):
    """What the Passage shows."""

    WAVE = "the waveform"
    BOTH = "waveform and spectrogram"
    SPECTRUM = "the spectrogram"
    OVER = "the waveform over the spectrogram"

    @property
    def has_spectrum(self) -> bool:
        """Whether there is a spectrogram."""
        return self is not Face.WAVE

    @property
    def has_wave(self) -> bool:
        """Whether there is a waveform."""
        return self is not Face.SPECTRUM


class SpectralView(QObject):
    """Holds how spectrograms are shown, for all recordings."""

    changed = Signal()

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self._bench = bench
        self.face = Face.WAVE
        self.whole = False
        """Whether the Whole shows a spectrogram."""
        self.divider = 0.42
        """The share of the height that the waveform has where both are shown."""
        self.length = USUAL_LENGTH
        self.sharpening = Sharpening.SEVERAL
        self.floor_db, self.ceiling_db = _FLOOR_DB, _CEILING_DB
        self.wash = Wash.INK
        self._scale = FrequencyScale(Spacing.MEL, 24_000.0)

    def scale(self, rate: int) -> FrequencyScale:
        """Return the frequencies shown of a recording at a rate."""
        return replace(self._scale, top_hz=rate / 2)

    def whole_scale(self, rate: int) -> FrequencyScale:
        """Return the frequencies that the Whole shows: all of them."""
        return FrequencyScale(self._scale.spacing, rate / 2)

    def toggle_whole(self) -> None:
        """Have the Whole show a spectrogram, or the waveform."""
        self.whole = not self.whole
        self.changed.emit()

    def next_face(self) -> None:
        """Show the next of waveform, both, spectrogram, and the one over the other."""
        faces = list(Face)
        self.show_face(faces[(faces.index(self.face) + 1) % len(faces)])
        self._bench.said.emit(f"The Passage shows {self.face.value}.")

    def show_face(self, face: Face) -> None:
        """Show something in the Passage."""
        self.face = face
        self.changed.emit()

    def divide(self, share: float) -> None:
        """Give the waveform a share of the height."""
        self.divider = min(max(0.12, share), 0.88)
        self.changed.emit()

    def sharpen(self, step: int) -> None:
        """Have windows shorter (−1: sharper in time) or longer (1: sharper in pitch)."""
        self.length = min(max(0, self.length + step), len(LENGTHS_SECONDS) - 1)
        self.changed.emit()
        self._bench.said.emit(f"Windows of {1000 * LENGTHS_SECONDS[self.length]:.0f} ms.")

    def next_sharpening(self) -> None:
        """Sharpen by three lengths of windows, by reassigning, or not at all."""
        ways = list(Sharpening)
        self.sharpening = ways[(ways.index(self.sharpening) + 1) % len(ways)]
        self.changed.emit()
        self._bench.said.emit(f"Spectrogram: {self.sharpening.value}.")

    def next_spacing(self) -> None:
        """Space frequencies in another way."""
        ways = list(Spacing)
        chosen = ways[(ways.index(self._scale.spacing) + 1) % len(ways)]
        self._scale = FrequencyScale(chosen, self._scale.top_hz)
        self.changed.emit()
        self._bench.said.emit(f"Frequencies are {chosen.value}.")

    def next_wash(self) -> None:
        """Draw in another colour map."""
        ways = list(Wash)
        self.wash = ways[(ways.index(self.wash) + 1) % len(ways)]
        self.changed.emit()

    def zoom(self, factor: float, share: float) -> None:
        """Show so many times as much of the frequencies, about a share of the height."""
        self._scale = self._scale.zoomed(factor, share)
        self.changed.emit()

    def scroll(self, share: float) -> None:
        """Move by a share of the frequencies shown, up or down."""
        self._scale = self._scale.scrolled(share)
        self.changed.emit()

    def show_scale(self, scale: FrequencyScale) -> None:
        """Show the frequencies of a scale."""
        self._scale = scale
        self.changed.emit()

    def show_all_frequencies(self) -> None:
        """Show everything from 0 Hz up."""
        self._scale = replace(self._scale, low=0.0, high=1.0)
        self.changed.emit()

    def set_range(self, floor_db: float, ceiling_db: float) -> None:
        """Draw levels from a floor, which is paper, to a ceiling, which is ink."""
        self.ceiling_db = min(max(_LOWEST_DB + _LEAST_RANGE_DB, ceiling_db), 6.0)
        self.floor_db = min(max(_LOWEST_DB, floor_db), self.ceiling_db - _LEAST_RANGE_DB)
        self.changed.emit()
        self._bench.said.emit(f"Spectrogram from {self.floor_db:.0f} to {self.ceiling_db:.0f} dB.".replace("-", "−"))

    def stored(self) -> str:
        """Return how it stands, for the next start."""
        names = self.face.name, self.sharpening.name, self.wash.name, self._scale.spacing.name
        return " ".join([*names, f"{self.divider:.3f}", str(self.length), str(int(self.whole))])

    def restore(self, stored: str) -> None:
        """Go back to how it stood; what makes no sense is left out."""
        try:
            face, sharpening, wash, spacing, divider, length, whole = stored.split()
            self.face, self.divider = Face[face], min(max(0.12, float(divider)), 0.88)
            self.length = min(max(0, int(length)), len(LENGTHS_SECONDS) - 1)
            self.sharpening, self.wash = Sharpening[sharpening], Wash[wash]
            self._scale = FrequencyScale(Spacing[spacing], self._scale.top_hz)
            self.whole = whole == "1"
        except (ValueError, KeyError):
            return
        self.changed.emit()
