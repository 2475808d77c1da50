import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from umbrick.core.model.parabola import top_of


@given(st.floats(-0.5, 0.5), st.floats(0.01, 100.0), st.floats(-5.0, 5.0))
def test_the_top_of_a_parabola_is_found_between_its_samples(at, bend, height):
    left, middle, right = (np.array([height - bend * (x - at) ** 2]) for x in (-1, 0, 1))
    assert np.allclose(top_of(left, middle, right), at, atol=1e-9)
