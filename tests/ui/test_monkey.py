"""Commands in random order by fixed seeds; ten minutes of it in ``./run bench monkey``."""

import pytest

from benchmarks.monkey import Monkey
from umbrick.ui import theme


@pytest.mark.parametrize("seed", [0, 1])
def test_nothing_breaks_and_nothing_is_lost_whatever_is_done(qapp, tmp_path, seed):
    theme.load_fonts()
    assert Monkey(seed, tmp_path).play(6.0) == []
