"""What a package takes along is what the program itself says, and what a desktop accepts."""

import importlib.util
import shutil
import sqlite3
import subprocess
import sys
import tomllib
from pathlib import Path

import pytest

import umbrick
from umbrick.casebook import schema
from umbrick.ui.starting import DESKTOP_NAME

ROOT = Path(__file__).parent.parent
FOLDER = ROOT / "packaging"


def script(name):
    specification = importlib.util.spec_from_file_location(name, FOLDER / f"{name}.py")
    module = importlib.util.module_from_spec(specification)
    specification.loader.exec_module(module)
    return module


@pytest.fixture(scope="module")
def make():
    return script("make")


def test_manual_page_and_completions_are_made_from_the_commands_as_they_are(make):
    told = "run python packaging/make.py"
    assert (FOLDER / "umbrick.1").read_text() == make.manual_page(), told
    for shell, name in make.SHELLS.items():
        assert (FOLDER / name).read_text() == make.completion(shell), told


def test_the_reference_of_the_python_surface_is_made_from_its_docstrings_as_they_are():
    reference = script("reference")
    page = reference.PAGE.read_text(encoding="utf-8")
    assert page == reference.page(), "run ./run docs"
    for name in umbrick.__all__:
        assert f'id="{name}"' in page


def test_all_that_is_shared_exists_and_is_named_as_the_window_is():
    hatch = tomllib.loads((ROOT / "pyproject.toml").read_text())["tool"]["hatch"]["build"]["targets"]["wheel"]
    for source in (*hatch["shared-data"], *hatch["force-include"]):
        assert (ROOT / source).exists()
    assert f"share/applications/{DESKTOP_NAME}.desktop" in hatch["shared-data"].values()
    assert f"Icon={DESKTOP_NAME}\n" in (FOLDER / f"{DESKTOP_NAME}.desktop").read_text()


def test_a_casebook_is_known_by_its_first_bytes(tmp_path):
    connection = sqlite3.connect(tmp_path / "x")
    schema.create(connection)
    connection.close()
    described = (FOLDER / f"{DESKTOP_NAME}.mime.xml").read_text()
    head = (tmp_path / "x").read_bytes()[:72]
    for offset, value in ((0, b"SQLite format 3"), (68, b"UMBR")):
        assert f'value="{value.decode()}" offset="{offset}"' in described
        assert head[offset : offset + len(value)] == value


@pytest.mark.parametrize(
    ("command", "file"),
    [
        (["desktop-file-validate"], f"{DESKTOP_NAME}.desktop"),
        (["appstreamcli", "validate", "--no-net"], f"{DESKTOP_NAME}.metainfo.xml"),
    ],
)
def test_desktops_accept_what_describes_the_program(command, file):
    if shutil.which(command[0]) is None:
        pytest.skip(f"{command[0]} is not installed")
    run = subprocess.run([*command, FOLDER / file], capture_output=True, text=True)
    assert run.returncode == 0, run.stdout + run.stderr


def test_every_command_answers_h_and_the_module_is_the_program():
    for arguments in (["-V"], ["-h"], ["survey", "-h"]):
        run = subprocess.run([sys.executable, "-m", "umbrick", *arguments], capture_output=True, text=True)
        assert run.returncode == 0, run.stderr
