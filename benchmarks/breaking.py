"""Trying to break it: mutated sound files of every container, and hostile casebooks, by fixed seeds.

Each is surveyed, mended and reported as a person would have it done. What must not happen: a traceback, an
"unexpected fault", anything that takes long or much memory, a source that is changed, a file left behind.
"""

from __future__ import annotations

import contextlib
import hashlib
import io
import json
import os
import resource
import shutil
import sqlite3
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import soundfile

from umbrick.casebook.casebook import Casebook
from umbrick.casebook.errors import CasebookError
from umbrick.casebook.surveys import Surveyed
from umbrick.cli import main
from umbrick.core.course.frozen import freeze
from umbrick.core.course.laid import Ground
from umbrick.core.course.learning import learned, new_step
from umbrick.core.course.settling import settling
from umbrick.core.course.step import Course
from umbrick.core.course.tiles import Tiles
from umbrick.core.errors import UmbrickError
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import METHODS
from umbrick.core.paths import HOME_VARIABLE
from umbrick.core.sound.recording import open_recording
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor
from umbrick.core.timeline.history import Edit
from umbrick.core.timeline.lifting import switch_off
from umbrick.core.timeline.marks import CourseTurn, Marker, MarkerTurn

COUNT = 5000
LONGEST_SECONDS, MOST_MIB = 25.0, 2048
_FORMS = (
    ("wav", "WAV", "PCM_16"), ("wav", "WAV", "FLOAT"), ("wav", "WAV", "IMA_ADPCM"), ("wav", "RF64", "PCM_24"),
    ("w64", "W64", "PCM_16"), ("aiff", "AIFF", "PCM_16"), ("caf", "CAF", "PCM_16"), ("au", "AU", "PCM_16"),
    ("flac", "FLAC", "PCM_16"), ("ogg", "OGG", "VORBIS"), ("opus", "OGG", "OPUS"), ("mp3", "MP3", "MPEG_LAYER_III"),
)  # fmt: skip
_EXTREMES = (0, 1, 0x7FFFFFFF, 0x80000000, 0xFFFFFFFF, 0xFFFFFFFE, 0xFFFF, 0x10000, 44)
_VALUES = (
    -1, 0, 1, 2**31, 2**62 - 1, -(2**63), 2**63 - 1, float("inf"), float("-inf"), 1e308, -0.5, "", "x" * 200_000,
    "\x00", "a\x00b", "[]", "{}", "[null]", "[[]]", "null", '["\\ud800"]', '{"a": 1e999}', "[NaN]", "[-Infinity]",
    "[" + "9" * 6000 + "]", "[" * 5000, '{"peak": {}}', "../../../../etc/passwd", "/dev/zero", "m" + "9" * 6000, "m1",
    b"", b"\x00" * 8, b"\xff" * 64, b"\x00" * 7, '{"cursor": 1e400}', '{"cursor": "here", "passage": [0]}',
    '{"preferred": [1], "adjusted": {"click": {"method": 7, "settings": {"a": []}}}}', "[0, 0, 7]", '[["marker"]]',
)  # fmt: skip


def mutant(seed: int, folder: Path) -> Path:
    """Write the mutated sound file of a seed, and return it."""
    random = np.random.default_rng(seed)
    ending, container, subtype = _FORMS[seed % len(_FORMS)]
    rate = 48000 if subtype == "OPUS" else 8000
    sound = np.clip(0.8 * np.sin(np.arange(rate // 4) * 0.2) + 0.05 * random.standard_normal(rate // 4), -0.7, 0.7)
    path = folder / f"mutant.{ending}"
    soundfile.write(path, sound, rate, subtype=subtype, format=container)
    data = bytearray(path.read_bytes())
    for _ in range(int(random.integers(1, 4))):
        _mutate(data, random)
    path.write_bytes(data)
    return path


def _mutate(data: bytearray, random: np.random.Generator) -> None:
    if not data:
        return
    # Headers are at the beginning: half of what is done is done there.
    reach = min(len(data), 120) if random.random() < 0.5 else len(data)
    at = int(random.integers(reach))
    match int(random.integers(7)):
        case 0:
            data[at] ^= 1 << int(random.integers(8))
        case 1:
            del data[at:]
        case 2:
            extreme = _EXTREMES[int(random.integers(len(_EXTREMES)))]
            data[at : at + 4] = extreme.to_bytes(4, "little" if random.random() < 0.5 else "big")
        case 3:
            data[at:at] = random.bytes(int(random.integers(1, 40)))
        case 4:
            del data[at : at + int(random.integers(1, 40))]
        case 5:
            data[at : at + 8] = bytes(8)
        case _:
            length = int(random.integers(1, 200))
            data[at:at] = data[at : at + length]


def hostile(seed: int, model: Path, folder: Path) -> Path:
    """Write the hostile casebook of a seed, made from a whole one, and return it."""
    random = np.random.default_rng(seed)
    path = folder / "hostile.casebook"
    shutil.copyfile(model, path)
    if seed % 3 == 0:
        data = bytearray(path.read_bytes())
        for _ in range(int(random.integers(1, 6))):
            _mutate(data, random)
        path.write_bytes(data)
        return path
    connection = sqlite3.connect(path)
    tables = [row[0] for row in connection.execute("SELECT name FROM sqlite_schema WHERE type = 'table' ORDER BY name")]
    for _ in range(int(random.integers(1, 4))):
        table = tables[int(random.integers(len(tables)))]
        columns = [row[1] for row in connection.execute(f"PRAGMA table_info({table})")]
        column, value = columns[int(random.integers(len(columns)))], _VALUES[int(random.integers(len(_VALUES)))]
        with contextlib.suppress(sqlite3.Error, OverflowError, UnicodeError):
            connection.execute(f"UPDATE {table} SET {column} = ?", (value,))
    if seed % 7 == 0:
        with contextlib.suppress(sqlite3.Error):
            connection.execute("CREATE TRIGGER t AFTER UPDATE ON recordings BEGIN DELETE FROM edits; END")
    connection.commit()
    connection.close()
    return path


def model_casebook(folder: Path) -> Path:
    """Make a casebook that holds some of everything, and the recording beside it."""
    sound = np.clip(np.sin(np.arange(4000) * 0.1), -0.7, 0.7)
    soundfile.write(folder / "tape.wav", np.stack([sound, sound], axis=1), 8000, subtype="PCM_16")
    recording = open_recording(folder / "tape.wav", folder / "cache")
    casebook = Casebook.create(folder / "model.casebook")
    shelf = casebook.add(recording)
    history = shelf.history(recording.source).history
    survey = Surveyor(recording.source, 16, list(KINDS.values())).run()
    shelf.write_survey(Surveyed(survey, 1, survey.table))
    for name, settings, start in (("level", {"gain_db": -3.0}, 100), ("fade", {"direction": "in"}, 2000)):
        place = Place(start, start + 200, (0, 1))
        shelf.commit(history, apply_method(history.current, METHODS[name], settings, [place]).edit(name))
    shelf.commit(history, switch_off(history, ["m1"]))
    shelf.commit(history, Edit("mark", marks=(MarkerTurn(None, Marker("k1", 3, 9, "laugh")),)))
    ground = Ground(history.current, history.original, Tiles(), history.settled)
    course: Course = ()
    for name, spans in (("filter", [(10, 300), (900, 2000)]), ("dc", None)):
        course = (*course, learned(ground, course, new_step(METHODS[name], {}, (1,), spans, course)))
    shelf.commit(history, Edit("lay", marks=(CourseTurn((), course),)))
    frozen = freeze(ground.through(course), ((50, 150),), casebook.store.settled_folder, False)
    shelf.commit(history, settling(history.current, ((50, 150),), frozen, course, history.original))
    shelf.write_view({"cursor": 7, "passage": [0, 400]}, {"click": 0.7})
    shelf.write_closed(history.current.key, frozenset({"f1"}))
    casebook.close()
    recording.close()
    return casebook.path


def complaint_of_file(seed: int, folder: Path) -> str:
    """Return what went wrong with the mutated file of a seed, or nothing."""
    path = mutant(seed, folder)
    return _tried(path, folder, lambda: (
        _said("survey", path, "--json", folder / "out.json", "--quiet"),
        _said("mend", path, folder / f"out{path.suffix}", "--quiet"),
    ))  # fmt: skip


def complaint_of_casebook(seed: int, model: Path, folder: Path) -> str:
    """Return what went wrong with the hostile casebook of a seed, or nothing."""
    path = hostile(seed, model, folder)
    shutil.copyfile(model.with_name("tape.wav"), folder / "tape.wav")
    shutil.copytree(model.with_suffix(".settled"), path.with_suffix(".settled"))
    return _tried(folder / "tape.wav", folder, lambda: (
        _said("report", path, "--json", folder / "out.json", "--html", folder / "out.html", "--quiet"),
        _opened_in_a_window(path),
    ))  # fmt: skip


def _opened_in_a_window(path: Path) -> str:
    """Load a casebook as the window does, and return what a person would be told."""
    from umbrick.ui.files.casebooks import opened
    from umbrick.ui.files.opening import Ready, prepared
    from umbrick.work.loading import load_shelf

    said = []
    try:
        casebook, lost = opened(path)
    except UmbrickError as error:
        return str(error)
    said.append(lost)
    try:
        for shelf in casebook.shelves():
            try:
                ready = prepared(load_shelf(shelf), Tiles())
                if isinstance(ready, Ready):
                    ready.work.listing().open_findings()
                    ready.work.outcome.read(0, ready.work.frames)
                    ready.work.recording.close()
            except UmbrickError as error:
                said.append(str(error))
    except CasebookError as error:
        said.append(str(error))
    finally:
        casebook.close()
    return " ".join(said)


def _said(*arguments: object) -> str:
    """Run the command line, and return what it wrote to standard error."""
    errors = io.StringIO()
    before = sys.argv
    sys.argv = ["umbrick", *map(str, arguments)]
    try:
        with contextlib.redirect_stderr(errors), contextlib.redirect_stdout(io.StringIO()):
            main()
    except SystemExit:
        pass
    finally:
        sys.argv = before
    return errors.getvalue()


def _tried(source: Path, folder: Path, try_it: Callable[[], tuple[str, ...]]) -> str:
    identity, began = _identity(source), time.monotonic()
    try:
        said = " ".join(try_it())
    except Exception as error:
        return f"{type(error).__name__}: {error}"
    for word in ("Traceback", "unexpected fault"):
        if word in said:
            return said
    if time.monotonic() - began > LONGEST_SECONDS:
        return f"it took {time.monotonic() - began:.0f} s"
    if resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024 > MOST_MIB:
        return "it took more than 2 GiB"
    if _identity(source) != identity:
        return "the source was changed"
    left = [path.name for path in folder.rglob("*") if ".part" in path.name]
    return f"left behind: {left}" if left else ""


def _identity(path: Path) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()


@contextlib.contextmanager
def _own_folder() -> Iterator[Path]:
    with tempfile.TemporaryDirectory(prefix="umbrick-breaking-") as name:
        yield Path(name)


def run(*_: object) -> None:
    """Print every seed that broke something, and how many did."""
    count = int(os.environ.get("UMBRICK_BENCH_COUNT", COUNT))
    with _own_folder() as home:
        os.environ[HOME_VARIABLE] = str(home / "home")
        model = model_casebook(home)
        for what, complain in (
            ("files", complaint_of_file),
            ("casebooks", lambda seed, folder: complaint_of_casebook(seed, model, folder)),
        ):
            broken, slowest = 0, 0.0
            for seed in range(count):
                began = time.monotonic()
                with _own_folder() as folder:
                    if complaint := complain(seed, folder):
                        broken += 1
                        print(json.dumps({"what": what, "seed": seed, "complaint": complaint[-800:]}))
                slowest = max(slowest, time.monotonic() - began)
            print(f"{count} {what}: {broken} broke something; the slowest took {slowest:.1f} s")
