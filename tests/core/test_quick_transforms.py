"""Quicker transforms are used where they are installed, and nothing is lost where they are not."""

import sys
import types

import numpy as np
import pytest
import scipy.fft

from umbrick.core.quick_transforms import use_quick_transforms


@pytest.fixture(autouse=True)
def fresh():
    use_quick_transforms.cache_clear()
    yield
    use_quick_transforms.cache_clear()
    scipy.fft.set_global_backend("scipy")


def test_without_the_extra_scipy_makes_them(monkeypatch):
    monkeypatch.setitem(sys.modules, "mkl_fft", None)
    assert use_quick_transforms() == "SciPy"


def test_with_the_extra_it_is_asked_in_one_thread_and_what_it_cannot_do_scipy_does(monkeypatch):
    asked, threads = [], []

    def answer(method, args, kwargs):
        asked.append(method.__name__)
        return np.fft.rfft(*args) if method.__name__ == "rfft" else NotImplemented

    backend = types.SimpleNamespace(__ua_domain__="numpy.scipy.fft", __ua_function__=answer)
    for name, module in {
        "mkl_fft": types.ModuleType("mkl_fft"),
        "mkl_fft.interfaces": types.ModuleType("mkl_fft.interfaces"),
        "mkl_fft.interfaces.scipy_fft": backend,
        "mkl": types.SimpleNamespace(set_num_threads=threads.append),
    }.items():
        monkeypatch.setitem(sys.modules, name, module)
    assert use_quick_transforms() == "MKL"
    wave = np.arange(8.0)
    assert np.allclose(scipy.fft.irfft(scipy.fft.rfft(wave)), wave)
    assert asked == ["rfft", "irfft"]
    assert threads == [1]
