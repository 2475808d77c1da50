"""A real window on a virtual display, with a window manager, driven by real key and pointer events."""

import os
import shutil
import sqlite3
import subprocess
import sys
import time
from contextlib import suppress

import numpy as np
import pytest
import soundfile

from tests.sounds import clipped, faultless, write

NEEDED = ("Xvfb", "openbox", "xdotool")
pytestmark = pytest.mark.skipif(
    not all(shutil.which(program) for program in NEEDED), reason=f"needs {', '.join(NEEDED)}"
)


@pytest.fixture
def display():
    """A virtual display with a window manager; without one, shortcuts stop after a dialog closes."""
    reader, writer = os.pipe()
    server = subprocess.Popen(
        ["Xvfb", "-displayfd", str(writer), "-screen", "0", "1280x800x24", "-nolisten", "tcp"],
        pass_fds=[writer],
        stderr=subprocess.DEVNULL,
    )
    os.close(writer)
    with os.fdopen(reader) as pipe:
        name = f":{pipe.readline().strip()}"
    environment = os.environ | {"DISPLAY": name, "QT_QPA_PLATFORM": "xcb"}
    manager = subprocess.Popen(["openbox"], env=environment, stderr=subprocess.DEVNULL)
    yield environment
    for process in (manager, server):
        process.terminate()
        process.wait()


def until(holds, seconds=120):
    deadline = time.monotonic() + seconds
    while not (result := holds()):
        assert time.monotonic() < deadline, "it did not happen in time"
        time.sleep(0.1)
    return result


def written(home, query):
    """What the casebook that the window works in says, read from outside; 0 until there is one."""
    for path in (home / "work" / "unnamed").glob("*.casebook"):
        with suppress(sqlite3.Error):
            connection = sqlite3.connect(f"{path.as_uri()}?mode=ro", uri=True)
            try:
                return connection.execute(query).fetchone()[0]
            finally:
                connection.close()
    return 0


def test_a_person_mends_and_saves_by_key_and_pointer(display, tmp_path, own_home):
    sound, truth, mask = clipped(faultless(2.0), 0.004, rail=0.99)
    path = write(tmp_path / "hot.wav", sound)

    def hands(*arguments):
        done = subprocess.run(["xdotool", *map(str, arguments)], env=display, capture_output=True, text=True)
        return done.stdout.strip()

    def window_named(name):
        return until(lambda: hands("search", "--onlyvisible", "--name", name).split("\n")[0])

    program = subprocess.Popen(
        [sys.executable, "-c", "from umbrick.cli import main; main()", path],
        env=display,
        stderr=subprocess.PIPE,
        text=True,
    )
    try:
        bench = window_named("hot.wav")
        hands("windowactivate", "--sync", bench)
        hands("windowsize", "--sync", bench, 1280, 780)
        until(lambda: written(own_home, "SELECT count(*) FROM recordings"))
        hands("key", "F5")
        until(lambda: written(own_home, "SELECT count(*) FROM surveys"))
        # A drag in the Passage selects, and a click takes that back: both must leave the recording as it is.
        hands("mousemove", 500, 420, "mousedown", 1, "mousemove", 560, 420, "mousemove", 640, 420, "mouseup", 1)
        hands("mousemove", 700, 420, "click", 1)
        hands("key", "alt+n")

        def mend_one():
            hands("key", "Return")
            return written(own_home, "SELECT count(*) FROM edits")

        edits = until(mend_one)
        hands("key", "shift+Return")
        hands("windowfocus", "--sync", window_named("Mend all like this"))
        hands("key", "Return")
        until(lambda: written(own_home, "SELECT count(*) FROM mends") > edits + 3)
        hands("key", "space", "b", "space")
        hands("key", "ctrl+s")
        hands("windowfocus", "--sync", window_named("Save a copy"))
        saved = tmp_path / "hot-mended.wav"

        def save():
            hands("key", "Return")
            return saved.exists()

        until(save)
        hands("key", "ctrl+q")
        said = program.communicate(timeout=120)[1]
    finally:
        program.kill()
        program.communicate()
    assert program.returncode == 0
    assert "Traceback" not in said
    before, _ = soundfile.read(path, always_2d=True)
    after, _ = soundfile.read(saved, always_2d=True)
    reliable = ~mask & (np.abs(before) > 0.1)
    gain = np.median(after[reliable] / before[reliable])
    assert gain < 1.0
    assert np.abs(after[reliable] / gain - before[reliable]).max() < 1e-5
    assert np.square(truth - after / gain)[mask].sum() < 0.25 * np.square(truth - before)[mask].sum()
