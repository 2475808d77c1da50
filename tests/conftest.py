import os

import pytest
from hypothesis import HealthCheck, settings

from umbrick.core.paths import HOME_VARIABLE

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

# The same examples at every run: what fails, fails for everybody.
settings.register_profile(
    "umbrick",
    deadline=None,
    derandomize=True,
    max_examples=40,
    suppress_health_check=[HealthCheck.function_scoped_fixture],
)
settings.load_profile("umbrick")


@pytest.fixture(autouse=True)
def own_home(tmp_path_factory, monkeypatch):
    """No test touches the person's own cache and settings."""
    home = tmp_path_factory.mktemp("home")
    monkeypatch.setenv(HOME_VARIABLE, str(home))
    return home
