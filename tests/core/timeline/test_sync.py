"""Where sound is out of sync with the original."""

import numpy as np

from umbrick.core.sound.source import ArraySource
from umbrick.core.timeline.change import applied, delete, insert
from umbrick.core.timeline.patch import Patch
from umbrick.core.timeline.sync import OffSync, off_sync
from umbrick.core.timeline.version import Version


def test_debt_in_the_middle_is_found():
    version = Version.of(ArraySource(np.zeros((1000, 1), np.float32), 48000, "a"))
    assert off_sync(version) == []
    shorter = applied(version, [delete(version, 100, 130)])
    assert off_sync(shorter) == [OffSync(100, 970, -30)]
    paid = applied(shorter, [insert(shorter, 500, Patch(np.zeros((30, 1)), 48000))])
    assert off_sync(paid) == [OffSync(100, 500, -30)]
    longer = applied(paid, [insert(paid, 700, Patch(np.zeros((5, 1)), 48000))])
    assert off_sync(longer) == [OffSync(100, 500, -30), OffSync(700, 1005, 5)]
