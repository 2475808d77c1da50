"""Areas of every sort, for property tests."""

from hypothesis import strategies as st

from umbrick.core.areas.area import Area, Join
from umbrick.core.areas.shapes import Box, Mosaic, Outline, Point, Stroke

frames = st.integers(0, 20_000).map(float)
hz = st.integers(0, 12_000).map(float)
points = st.builds(Point, frames, hz)


@st.composite
def boxes(draw):
    start, low = draw(frames), draw(hz)
    return Box(start, start + draw(st.integers(1, 9000)), low, low + draw(st.integers(50, 5000)))


outlines = st.lists(points, min_size=3, max_size=7).map(lambda found: Outline(tuple(found)))
strokes = st.builds(
    Stroke,
    st.integers(50, 2000).map(float),
    st.integers(50, 1000).map(float),
    st.lists(points, min_size=1, max_size=4).map(tuple),
)
rows = st.lists(st.tuples(st.integers(0, 200), st.integers(1, 20)).map(lambda r: (r[0], r[0] + r[1])), max_size=1)
mosaics = st.builds(
    Mosaic, frames, st.just(512.0), st.just(46.875), st.lists(rows.map(tuple), min_size=1, max_size=8).map(tuple)
)
shapes = st.one_of(boxes(), outlines, strokes, mosaics)
areas = st.builds(
    lambda first, more, harmonics: Area(((Join.ADD, first), *more), harmonics),
    shapes,
    st.lists(st.tuples(st.sampled_from(Join), shapes), max_size=2).map(tuple),
    st.integers(1, 3),
)
