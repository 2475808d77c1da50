"""Where rulers and level scales have their marks, and what the marks say."""

from __future__ import annotations

import math
from typing import NamedTuple

from umbrick.core.units import BEATS_A_BAR, amplitude_to_db, db_to_amplitude, format_clock, format_integer
from umbrick.core.view.window import Window

_SECONDS = (1e-3, 2e-3, 5e-3, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600)


class Tick(NamedTuple):
    """A mark at a frame or an amplitude; only major marks have a text."""

    at: float
    text: str


def time_ticks(window: Window, rate: int, width: float, spacing: float = 90.0) -> list[Tick]:
    """Return the marks of a time ruler, about ``spacing`` pixels between two texts, five parts between."""
    wanted = window.length / rate * spacing / width
    step = next((s for s in _SECONDS if s >= wanted), 3600 * math.ceil(wanted / 3600))
    decimals = max(0, -math.floor(math.log10(step) + 1e-9))
    minor = step / 5
    first = math.ceil(window.start / rate / minor - 1e-9)
    last = math.floor(window.stop / rate / minor + 1e-9)
    return [
        Tick(i * minor * rate, format_clock(round(i * minor * rate), rate, decimals) if i % 5 == 0 else "")
        for i in range(first, last + 1)
    ]


def beat_ticks(window: Window, rate: int, tempo: float, width: float, spacing: float = 60.0) -> list[Tick]:
    """Return marks at beats, or at bars where these are close, written as bar and beat: ``1.1`` is the start.

    ``tempo`` is in beats a minute; a bar has four.
    """
    beat = 60.0 * rate / tempo
    wanted = window.length * spacing / width / beat
    beats = next((count for count in (1, 4, 16, 64, 256, 1024) if count >= wanted), 4096)
    minor = max(1, beats // 4)
    first, last = math.ceil(window.start / beat / minor), math.floor(window.stop / beat / minor)
    ticks = []
    for number in range(first, last + 1):
        at = number * minor
        text = f"{at // BEATS_A_BAR + 1}.{at % BEATS_A_BAR + 1}" if at % beats == 0 else ""
        ticks.append(Tick(at * beat, text))
    return ticks


def sample_ticks(window: Window, width: float, spacing: float = 100.0) -> list[Tick]:
    """Return marks at round sample numbers, about ``spacing`` pixels apart."""
    wanted = max(1.0, window.length * spacing / width)
    power = 10 ** math.floor(math.log10(wanted))
    step = next(int(m * power) for m in (1, 2, 5, 10) if m * power >= wanted)
    first = math.ceil(window.start / step)
    return [Tick(i * step, format_integer(i * step)) for i in range(first, math.floor(window.stop / step) + 1)]


def level_ticks(top: float, height: float, spacing: float = 26.0) -> list[Tick]:
    """Return the level lines of one polarity up to amplitude ``top``: amplitudes with their dB, loudest first.

    ``height`` is the pixels from zero to ``top``; lines closer than ``spacing`` to a louder one, or to zero, are
    left out. Full scale is there wherever the top reaches it.
    """
    ticks: list[Tick] = []
    above = [db for db in (24, 18, 12, 6, 3) if db < amplitude_to_db(top)]
    for db in (0, *above, -3, -6, -12, -18, -24, -30, -40, -50, -60, -70, -80, -90):
        at = db_to_amplitude(db)
        if at > top:
            continue
        y = at * height / top
        if y < spacing * 0.6 or any(abs(y - tick.at * height / top) < spacing for tick in ticks):
            continue
        ticks.append(Tick(at, f"{db:+d}".replace("-", "−") if db else "0"))
    return sorted(ticks, reverse=True)
