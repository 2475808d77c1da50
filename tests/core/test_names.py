import subprocess
import sys

from umbrick.core.mend.registry import METHODS
from umbrick.core.names import KIND_NAMES, METHOD_NAMES
from umbrick.core.survey.registry import KINDS


def test_the_names_are_those_of_the_registries():
    assert tuple(KINDS) == KIND_NAMES
    assert tuple(METHODS) == METHOD_NAMES


def test_help_and_a_survey_do_without_what_takes_long_to_load():
    loaded = "import sys, umbrick.cli.{}; print([n for n in {} if n in sys.modules])"
    for module, heavy in (("main", ["numpy", "scipy", "soundfile"]), ("survey", ["scipy.signal", "PySide6"])):
        script = loaded.format(module, heavy)
        if module == "survey":
            script = script.replace("; print", ", umbrick.core.survey.registry; print")
        run = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
        assert run.stdout.strip() == "[]"
