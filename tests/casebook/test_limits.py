"""Values that a damaged page may show where a casebook holds others."""

from __future__ import annotations

import pytest

from umbrick.casebook.errors import DamagedCasebookError
from umbrick.casebook.limits import channels, loaded, names


@pytest.mark.parametrize("shown", [None, 3, b"[0]", "[", "[null]", '["\\ud800"]'])
def test_what_is_no_list_of_channels_or_names_is_damage(shown):
    with pytest.raises(DamagedCasebookError):
        channels(shown, 2)
    with pytest.raises(DamagedCasebookError):
        names(shown)


@pytest.mark.parametrize("shown", [None, 3, b"{}", "{", "[]"])
def test_what_is_no_json_of_its_kind_is_damage(shown):
    with pytest.raises(DamagedCasebookError):
        loaded(shown, dict)
