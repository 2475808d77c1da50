"""The rules about who may import whom are checked by lint-imports; here, that they can fail."""

import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from umbrick.demo import recordings, truth_of

ROOT = Path(__file__).parents[1]


@pytest.mark.parametrize(
    ("module", "planted"),
    [
        ("umbrick/core/view/planted.py", "import PySide6.QtCore\n"),
        ("umbrick/core/view/planted.py", "import umbrick.ui.theme\n"),
        ("umbrick/playback/planted.py", "from PySide6 import QtCore\n"),
        ("umbrick/work/planted.py", "from PySide6 import QtCore\n"),
        ("umbrick/work/planted.py", "import umbrick.ui.theme\n"),
        ("umbrick/casebook/planted.py", "import umbrick.work.listing\n"),
        ("umbrick/ui/planted.py", "import umbrick.cli.main\n"),
    ],
)
def test_a_forbidden_import_is_caught(tmp_path, module, planted):
    shutil.copytree(ROOT / "umbrick", tmp_path / "umbrick", ignore=shutil.ignore_patterns("*.flac", "__pycache__"))
    shutil.copy(ROOT / "pyproject.toml", tmp_path)
    (tmp_path / module).write_text(planted)
    command = [Path(sys.executable).with_name("lint-imports"), "--no-cache"]
    environment = {"PYTHONPATH": str(tmp_path), "PATH": "/usr/bin:/bin"}
    checked = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, env=environment)
    assert checked.returncode == 1
    assert "BROKEN" in checked.stdout


def test_core_playback_and_the_command_line_do_without_qt():
    code = (
        "import sys; sys.modules['PySide6'] = None; import umbrick.core.survey.survey, umbrick.core.mend.applying, "
        "umbrick.core.report.page, umbrick.casebook.reporting, umbrick.core.sound.saving, "
        "umbrick.core.view.columns, umbrick.playback.engine, umbrick.work.loading, umbrick.work.whereabouts; "
        "import umbrick.cli"
    )
    assert subprocess.run([sys.executable, "-c", code], capture_output=True).returncode == 0


def test_what_ships_is_there():
    for recording in recordings():
        assert recording.stat().st_size < 4_000_000
        assert truth_of(recording).exists()
    for folder, least in (("fonts", 3), ("icons", 9)):
        assert len(list((ROOT / "umbrick" / "ui" / "assets" / folder).iterdir())) > least
