"""Drawing in the Loupe, sliding on the seam desk, and sound under the hand.

Targets: from the pointer to the picture within 16 ms while drawing; scrubbed sound follows the hand within 20 ms.
"""

from __future__ import annotations

import time
from pathlib import Path

import numpy as np

from benchmarks.bench_window import opened, settle


def run(files: list[Path]) -> None:
    """Measure and print."""
    from PySide6.QtCore import QEvent, QPointF, Qt
    from PySide6.QtGui import QMouseEvent

    with opened() as (window, application):
        bench, loupe, drawing = window.bench, window.loupe, window.tools.drawing
        bench.set_cursor(1_000_000)
        drawing.toggle()
        for shown in (24, 96, 375):
            bench.zoom_loupe(shown / bench.work.loupe.length, 1_000_000)
            settle(window, application)
            rect = loupe.content_rect()

            def send(kind, x, buttons, rect=rect):
                at = QPointF(x, rect.top() + rect.height() * (0.5 + 0.3 * np.sin(x / 40)))
                button = Qt.MouseButton.NoButton if kind is QEvent.Type.MouseMove else Qt.MouseButton.LeftButton
                event = QMouseEvent(kind, at, loupe.mapToGlobal(at), button, buttons, Qt.KeyboardModifier.NoModifier)
                application.sendEvent(loupe, event)

            send(QEvent.Type.MouseButtonPress, 50, Qt.MouseButton.LeftButton)
            times = []
            for x in range(50, 700, 5):
                began = time.perf_counter()
                send(QEvent.Type.MouseMove, x, Qt.MouseButton.LeftButton)
                loupe.repaint()
                times.append(1e3 * (time.perf_counter() - began))
            send(QEvent.Type.MouseButtonRelease, 700, Qt.MouseButton.NoButton)
            settle(window, application)
            print(
                f"draw on {shown:3} samples     pointer to picture ms: median {np.median(times):.1f}, "
                f"95 % {np.percentile(times, 95):.1f}, longest {max(times):.1f}"
            )
        drawing.toggle()
        bench.select(2_000_000, 2_010_000)
        window.tools.seaming.open()
        settle(window, application)
        times = []
        for _ in range(40):
            began = time.perf_counter()
            window.tools.seaming.slide(1)
            application.processEvents()
            times.append(1e3 * (time.perf_counter() - began))
        settle(window, application)
        print(f"slide a seam          key to heard ms: median {np.median(times):.1f}, longest {max(times):.1f}")
        window.tools.seaming.leave()

        listening = window.listening
        for speed in (0.2, 1.0, -1.0, 3.0):
            lags = []
            begin, start = time.perf_counter(), 60.0 * bench.work.rate
            while (elapsed := time.perf_counter() - begin) < 2.0:
                hand = start + speed * elapsed * bench.work.rate
                listening.scrub(hand)
                application.processEvents()
                if elapsed > 0.2:
                    # What is heard now was made one latency ago.
                    late = listening.engine.latency_seconds
                    lags.append(abs(hand + speed * late * bench.work.rate - listening.engine.position))
                time.sleep(0.008)
            listening.end_scrub()
            lag_ms = 1e3 * np.array(lags) / bench.work.rate / max(abs(speed), 1e-9)
            print(
                f"scrub at speed {speed:4}   hand to sound ms: median {np.median(lag_ms):.1f}, "
                f"95 % {np.percentile(lag_ms, 95):.1f}"
            )
