"""Whether what a line made up for lost packets has worn out, so that filling it anew betters it.

A decoder makes up the first packet from all that it knew, often better than anything that listens from outside; from
then on what it makes fades, and the sound on both sides says more.
"""

from __future__ import annotations

import numpy as np

from umbrick.core.mend.place import Place
from umbrick.core.timeline.version import Version

_LEAST_SECONDS = 0.036
_BESIDE_SECONDS, _LATE_SHARE = 0.02, 0.5
_FADED_DB = 5.0


def is_worn_out(version: Version, place: Place) -> bool:
    """Whether a concealed place is longer than a packet and its later half clearly fainter than the sound beside it."""
    length = place.stop - place.start
    if length < _LEAST_SECONDS * version.rate:
        return False
    beside = round(_BESIDE_SECONDS * version.rate)
    sound = version.read(max(0, place.start - beside), min(version.frames, place.stop + beside))[
        :, list(place.channels)
    ]
    power = np.square(sound.astype(np.float64)).mean(axis=1)
    first = min(place.start, beside)
    before, after = power[:first], power[first + length :]
    late = power[first + round((1 - _LATE_SHARE) * length) : first + length]
    if not (len(before) and len(after)):
        return False
    around = np.sqrt(float(before.mean()) * float(after.mean())) + 1e-12
    return bool(10 * np.log10((float(late.mean()) + 1e-12) / around) <= -_FADED_DB)
