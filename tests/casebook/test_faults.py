"""What happens when the program is killed, the disk is full, or a folder may not be written to."""

import hashlib
import multiprocessing
import os
import resource
import shutil
import signal
import tempfile
import time
from contextlib import suppress
from pathlib import Path

import numpy as np
import pytest
import soundfile

from tests.casebook.test_casebook import mend_of
from tests.sounds import rng, write
from umbrick.casebook.casebook import Casebook
from umbrick.casebook.errors import CasebookError
from umbrick.casebook.unnamed import adopted
from umbrick.core.errors import FileError
from umbrick.core.sound.formats import FileFormat
from umbrick.core.sound.identity import sha256_of
from umbrick.core.sound.recording import open_recording
from umbrick.core.sound.saving import save
from umbrick.core.timeline.lifting import switch_off

KILLS, ROUNDS = 120, 3
FRAMES = 4000
FORK = multiprocessing.get_context("fork")
FLOAT = FileFormat("WAV", "FLOAT")


def content_of(version):
    return hashlib.sha256(version.read(0, version.frames).tobytes()).hexdigest()


def work_until_killed(casebook_path, source, target, seed, said):
    """Edit, undo, switch and save without end, and say each time what is done."""
    random = np.random.default_rng(seed)
    recording = open_recording(source, source.parent / "cache")
    casebook = Casebook.open(casebook_path)
    (shelf,) = casebook.shelves()
    history = shelf.history(recording.source).history

    def tell(what, *values):
        os.write(said, (" ".join(map(str, (what, *values))) + "\n").encode())

    while True:
        tell("state", len(history.all_edits), history.now, history.current.key)
        chance = random.random()
        if chance < 0.15:
            shelf.undo(history)
        elif chance < 0.25:
            shelf.redo(history)
        elif chance < 0.35 and history.mends:
            shelf.commit(history, switch_off(history, [history.mends[-1].id]))
        elif chance < 0.55:
            tell("saving", content_of(history.current))
            save(history.current, target, FLOAT, overwrite=True)
            tell("saved", content_of(history.current))
        else:
            start = int(random.integers(0, FRAMES - 300))
            length = int(random.integers(1, 300))
            shelf.commit(history, mend_of(history.current, start, start + length, int(random.integers(1 << 30))))


def killed_after(seconds, target, *arguments):
    """Run something in a process of its own, kill it, and return the whole lines it said."""
    reads, writes = os.pipe()
    process = FORK.Process(target=target, args=(*arguments, writes))
    process.start()
    os.close(writes)
    with os.fdopen(reads, "rb") as pipe:
        first = pipe.readline()  # the clock runs from the first thing it says
        time.sleep(seconds)
        os.kill(process.pid, signal.SIGKILL)
        rest = pipe.read()
    process.join()
    assert process.exitcode == -signal.SIGKILL, "it ended by itself"
    return [line.split() for line in (first + rest).decode().split("\n")[:-1]]


@pytest.fixture
def quick_folder(tmp_path):
    """A folder in memory where there is one: being killed is the same there, and the disk need not be waited for."""
    if not os.access("/dev/shm", os.W_OK):
        yield tmp_path
        return
    with tempfile.TemporaryDirectory(dir="/dev/shm", prefix="umbrick-test-") as folder:
        yield Path(folder)


@pytest.mark.parametrize("rounds", range(ROUNDS))
def test_killed_at_any_moment_at_most_the_unfinished_edit_is_missing(quick_folder, rounds):
    source = write(quick_folder / "tape.wav", 0.3 * rng().standard_normal((FRAMES, 2)), subtype="FLOAT")
    identity = sha256_of(source)
    target, path = quick_folder / "copy.wav", quick_folder / "work.casebook"
    shutil.copyfile(source, target)
    recording = open_recording(source, quick_folder / "cache")
    casebook = Casebook.create(path)
    casebook.add(recording)
    casebook.close()
    random = np.random.default_rng(rounds)
    whole = {hashlib.sha256(recording.source.read(0, FRAMES).tobytes()).hexdigest()}
    states = set()
    for number in range(KILLS // ROUNDS):
        seed = KILLS * rounds + number
        lines = killed_after(random.uniform(0, 0.04), work_until_killed, path, source, target, seed)
        length, now, key = next(line[1:] for line in reversed(lines) if line[0] == "state")
        length, now = int(length), int(now)

        casebook = Casebook.open(path)
        assert not casebook.store.complaints()
        (shelf,) = casebook.shelves()
        restored = shelf.history(recording.source)
        assert not restored.lost
        history = restored.history
        found = len(history.all_edits), history.now
        assert found in {(length, now), (length, now - 1), (length, now + 1), (now + 1, now + 1)}
        if found == (length, now):
            assert history.current.key == key
        assert np.isfinite(history.current.read(0, FRAMES)).all()
        states.add(found)
        casebook.close()

        for word, *content in lines:
            if word == "saved":
                whole = set(content)
            elif word == "saving":
                whole |= set(content)
        sound, _ = soundfile.read(target, dtype="float32", always_2d=True)
        assert hashlib.sha256(sound.tobytes()).hexdigest() in whole
        assert sha256_of(source) == identity
    assert len(states) > 10, "it never got far"
    recording.close()


def fill_the_disk(casebook_path, source, target, limit, said):
    """Edit and save until no file may grow past a limit; say what was done and what was told."""
    signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
    recording = open_recording(source, source.parent / "cache")
    casebook = Casebook.open(casebook_path)
    (shelf,) = casebook.shelves()
    history = shelf.history(recording.source).history
    resource.setrlimit(resource.RLIMIT_FSIZE, (limit, limit))
    for number in range(1000):
        try:
            shelf.commit(history, mend_of(history.current, 0, FRAMES, number))
        except CasebookError as error:
            os.write(said, f"{history.now} {history.current.key} {error}\n".encode())
            break
    try:
        save(history.current, target, FLOAT, overwrite=True)
    except FileError as error:
        os.write(said, f"{error}\n".encode())


def run(target, *arguments):
    reads, writes = os.pipe()
    process = FORK.Process(target=target, args=(*arguments, writes))
    process.start()
    os.close(writes)
    with os.fdopen(reads, "rb") as pipe:
        said = pipe.read().decode().splitlines()
    process.join()
    assert process.exitcode == 0
    return said


def test_a_full_disk_stops_the_edit_and_the_save_and_loses_nothing(tmp_path):
    source = write(tmp_path / "tape.wav", 0.3 * rng().standard_normal((FRAMES, 2)), subtype="FLOAT")
    target = tmp_path / "copy.wav"
    shutil.copyfile(source, target)
    recording = open_recording(source, tmp_path / "cache")
    casebook = Casebook.create(tmp_path / "work.casebook")
    casebook.add(recording)
    casebook.close()
    # The log beside the casebook may grow a little, the file to be saved not to its full length.
    told, save_told = run(fill_the_disk, tmp_path / "work.casebook", source, target, 3 * FRAMES * 8 // 4)
    now, key, message = told.split(" ", 2)
    assert "room" in message
    assert "room" in save_told or "written" in save_told
    assert target.read_bytes() == source.read_bytes()
    assert not list(tmp_path.glob(".copy.wav*"))
    casebook = Casebook.open(tmp_path / "work.casebook")
    history = casebook.shelves()[0].history(recording.source).history
    assert (history.now, history.current.key) == (int(now), key)
    casebook.close()
    recording.close()


def work_in_a_read_only_folder(folder, home, said):
    """As somebody who may not write there: the casebook is opened as a copy, and a save is refused."""
    if os.getuid() == 0:
        os.setgid(65534)
        os.setuid(65534)
    os.environ["UMBRICK_HOME"] = str(home)
    with suppress(CasebookError):
        Casebook.open(folder / "work.casebook").close()
        os.write(said, b"opened where nothing may be written\n")
    casebook = adopted(folder / "work.casebook")
    (shelf,) = casebook.shelves()
    reference = shelf.reference()
    recording = open_recording(reference.path, home / "cache")
    history = shelf.history(recording.source).history
    shelf.commit(history, mend_of(history.current, 5, 9))
    try:
        save(history.current, folder / "copy.wav", FLOAT)
    except FileError as error:
        os.write(said, f"{reference.path} {reference.is_own} {len(history.mends)} {error}\n".encode())


def test_in_a_read_only_folder_one_works_on_a_copy(monkeypatch):
    base = Path(tempfile.mkdtemp(prefix="umbrick-test-"))
    try:
        folder, home = base / "archive", base / "home"
        folder.mkdir()
        home.mkdir()
        source = write(folder / "tape.wav", 0.3 * rng().standard_normal((FRAMES, 2)), subtype="FLOAT")
        recording = open_recording(source, base / "cache")
        casebook = Casebook.create(folder / "work.casebook")
        shelf = casebook.add(recording)
        history = shelf.history(recording.source).history
        shelf.commit(history, mend_of(history.current, 100, 120))
        casebook.close()
        recording.close()
        before = {path.name: path.read_bytes() for path in folder.iterdir()}
        for path in (folder, *folder.iterdir()):
            path.chmod(0o555 if path.is_dir() else 0o444)
        base.chmod(0o755)
        home.chmod(0o777)
        (said,) = run(work_in_a_read_only_folder, folder, home)
        assert said.startswith(f"{source} False 2 The folder {folder} may not be written to.")
        assert {path.name: path.read_bytes() for path in folder.iterdir()} == before
    finally:
        (base / "archive").chmod(0o755)
        shutil.rmtree(base, ignore_errors=True)


@pytest.mark.parametrize("gone", [True, False])
def test_a_casebook_outlives_its_recording(tmp_path, gone):
    from umbrick.casebook.locating import Match, compare

    source = write(tmp_path / "tape.wav", 0.3 * rng().standard_normal((FRAMES, 2)))
    recording = open_recording(source, tmp_path / "cache")
    casebook = Casebook.create(tmp_path / "work.casebook")
    shelf = casebook.add(recording)
    history = shelf.history(recording.source).history
    shelf.commit(history, mend_of(history.current, 100, 120))
    key = history.current.key
    recording.close()
    kept = source.read_bytes()
    source.unlink() if gone else source.write_bytes(b"something else")
    reference = shelf.reference()
    match = compare(reference.path, reference.bytes, reference.modified_ns, reference.sha256)
    assert match is (Match.MISSING if gone else Match.CHANGED)
    stamp = reference.modified_ns
    source.write_bytes(kept)
    os.utime(source, ns=(stamp, stamp))
    recording = open_recording(source, tmp_path / "cache")
    assert shelf.history(recording.source).history.current.key == key
    casebook.close()
    recording.close()
