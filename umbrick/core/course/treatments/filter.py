"""Filter: cuts, shelves, bells and notches without phase, any number in one step."""

from __future__ import annotations

from umbrick.core.course.laid_filters import filtered_by, reach_of
from umbrick.core.course.step import Profile
from umbrick.core.course.treatment import COMMON, Block, Treatment
from umbrick.core.filters.shapes import (
    HIGHEST_HZ,
    LEAST_GAIN_DB,
    LEAST_Q,
    LEVELLING,
    LOWEST_HZ,
    MOST_GAIN_DB,
    MOST_Q,
    SHAPES,
    SLOPES_DB,
    USUAL_Q,
    Point,
    parsed_points,
)
from umbrick.core.filters.zero_phase import Wave
from umbrick.core.mend.method import Method
from umbrick.core.mend.parameters import Parameter, Parameters

Points = tuple[Point, ...]


def points_of(settings: Parameters) -> Points:
    """Return the filters that settings mean."""
    own = Point(
        str(settings["shape"]),
        float(settings["frequency_hz"]),
        float(settings["gain_db"]),
        float(settings["q"]),
        int(settings["slope_db"]),
    )
    return (own, *parsed_points(str(settings["also"])))


def settings_of(points: Points) -> dict[str, float | str]:
    """Return the settings that mean some filters, at least one."""
    own, *more = points
    return {
        "shape": own.shape,
        "frequency_hz": own.frequency_hz,
        "gain_db": own.gain_db,
        "q": own.q,
        "slope_db": str(own.slope_db),
        "also": " ".join(point.text for point in more),
    }


def process(block: Block, settings: Parameters, profile: Profile) -> Wave:
    """Return a block filtered: convolved with the symmetric kernel of the filters' magnitudes."""
    return filtered_by(points_of(settings), block)


def context(settings: Parameters, profile: Profile, rate: int) -> int:
    """Return how long the filters ring."""
    return reach_of(points_of(settings), rate)


def told(settings: Parameters, profile: Profile) -> str:
    """Return the first filter in words, and how many more there are."""
    point, *more = points_of(settings)
    hz = point.frequency_hz
    place = f"{hz / 1000:.3g} kHz" if hz >= 1000 else f"{hz:.4g} Hz"
    gain = f", {point.gain_db:g} dB".replace("-", "−") if point.shape in LEVELLING else ""
    others = f" and {len(more)} more" if more else ""
    return f"{point.shape.replace('_', ' ').capitalize()} {place}{gain}{others}"


METHOD = Method(
    name="filter",
    title="Filter",
    summary="Cuts, shelves, bells and notches without shifting phase, laid over the recording or a span of it.",
    parameters=(
        Parameter("shape", "choice", "low_cut", "what the first filter does", SHAPES),
        Parameter("frequency_hz", "number", 80.0, "where it does it", (), "Hz", LOWEST_HZ, HIGHEST_HZ),
        Parameter("gain_db", "number", -6.0, "how much a shelf or bell raises", (), "dB", LEAST_GAIN_DB, MOST_GAIN_DB),
        Parameter("q", "number", USUAL_Q, "how sharp it is", (), "", LEAST_Q, MOST_Q),
        Parameter("slope_db", "choice", "24", "how steep a cut is, in dB an octave", tuple(map(str, SLOPES_DB))),
        Parameter("also", "text", "", "more filters as SHAPE:HZ:DB:Q, with spaces between them", check=parsed_points),
        *COMMON,
    ),
    does=Treatment(
        process,
        context,
        lambda settings, _: all(point.changes_nothing for point in points_of(settings)),
        told,
    ),
)  # fmt: skip
