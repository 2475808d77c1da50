"""Mutated files and hostile casebooks by fixed seeds; thousands more in ``./run bench breaking``."""

import pytest

from benchmarks.breaking import complaint_of_casebook, complaint_of_file, model_casebook


@pytest.mark.parametrize("part", range(2))
def test_no_mutated_file_breaks_anything(tmp_path, part):
    complaints = {}
    for seed in range(50 * part, 50 * part + 50):
        folder = tmp_path / str(seed)
        folder.mkdir()
        if complaint := complaint_of_file(seed, folder):
            complaints[seed] = complaint
    assert not complaints


def test_no_hostile_casebook_breaks_anything(tmp_path):
    model = model_casebook(tmp_path)
    complaints = {}
    for seed in range(50):
        folder = tmp_path / str(seed)
        folder.mkdir()
        if complaint := complaint_of_casebook(seed, model, folder):
            complaints[seed] = complaint
    assert not complaints
