"""What a treatment is: something laid over a recording, worked out block by block as it is heard, drawn or saved."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import NamedTuple, Protocol

import numpy as np
import numpy.typing as npt

from umbrick.core.course.step import AMOUNT, RAMP_MS, STRENGTH, WITHIN_HZ, Profile
from umbrick.core.course.strength import parsed_strength
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.sound.source import Source

Wave = npt.NDArray[np.float64]

COMMON = (
    Parameter(RAMP_MS, "number", 20.0, "how long it takes to come and go at the edges of a span", (), "ms", 0.0, 1e4),
    Parameter(AMOUNT, "number", 1.0, "how much of what it does is done: 0 nothing, 1 all", (), "", 0.0, 1.0),
    Parameter(STRENGTH, "curve", "", "how much is done along time, as FRAME:PERCENT FRAME:PERCENT", unit="%",
              check=parsed_strength),
    Parameter(WITHIN_HZ, "band", "", "the only band in which it is done, as LOW-HIGH; nothing for all", unit="Hz"),
)  # fmt: skip
"""Settings that every treatment has, as far as it has none of its own by these names."""


class Block(NamedTuple):
    """Sound on its way through a treatment, of shape ``(before + frames + after, channels)``.

    ``start`` is the position of the first of its own frames in the recording; ``before`` and ``after`` are as many
    frames as the treatment's context, also at the recording's ends: there, the sound is turned about its end.
    ``frames`` is the recording's length.
    """

    samples: Wave
    start: int
    before: int
    after: int
    rate: int
    frames: int

    @property
    def own(self) -> Wave:
        """The block without what is around it."""
        return self.samples[self.before : len(self.samples) - self.after]


class Process(Protocol):
    """Treats a block; a pure function."""

    def __call__(self, block: Block, settings: Parameters, profile: Profile, /) -> Wave:
        """Return what becomes of the block's own frames."""
        ...


class Learn(Protocol):
    """Learns a profile from the sound that comes to a step."""

    def __call__(
        self,
        sound: Source,
        spans: Sequence[tuple[int, int]],
        channels: Sequence[int],
        settings: Parameters,
        progress: Callable[[float], None],
        is_cancelled: Callable[[], bool],
        /,
    ) -> Profile:
        """Return the profile of some spans on some channels.

        ParameterError if nothing can be learned there; CancelledError soon after ``is_cancelled`` says so.
        """
        ...


class Places(Protocol):
    """Finds where a treatment belongs, in the sound that comes to a step."""

    def __call__(
        self,
        sound: Source,
        spans: Sequence[tuple[int, int]],
        settings: Parameters,
        progress: Callable[[float], None],
        is_cancelled: Callable[[], bool],
        /,
    ) -> list[tuple[int, int]]:
        """Return spans inside of others.

        ParameterError if there are none; CancelledError soon after ``is_cancelled`` says so.
        """
        ...


@dataclass(frozen=True, slots=True)
class Treatment:
    """How a method treats sound.

    ``context`` is how many frames on either side of a block it needs, from settings, profile and rate: the borders of
    blocks cannot be seen. ``version`` counts up when the same settings would sound different from before; what
    the earlier one made is found again, where it is still kept, as long as ``context`` stays the same.
    ``changes_nothing`` tells from settings and profile whether the sound stays as it is, bit for bit; ``told`` says in
    a few words what is done with them. ``is_profile`` tells whether something can be a profile for so many channels: a
    casebook may come from anywhere. ``places`` finds the spans that a step acts on; ``measured_by`` are the settings
    after whose change it is to learn, or find, again. ``is_quick`` means that it is made as fast as it could be read
    back, so that nothing of it is kept on the disk.
    """

    process: Process
    context: Callable[[Parameters, Profile, int], int]
    changes_nothing: Callable[[Parameters, Profile], bool]
    told: Callable[[Parameters, Profile], str]
    learn: Learn | None = None
    is_profile: Callable[[Profile, int], bool] = lambda profile, _: not profile
    places: Places | None = None
    measured_by: tuple[str, ...] = ()
    version: int = 1
    is_quick: bool = False

    @property
    def measures(self) -> bool:
        """Whether a step of it is set by something it measures."""
        return self.learn is not None or self.places is not None
