"""What a report says of one recording."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from umbrick.core.course.acting import acts
from umbrick.core.course.step import Course
from umbrick.core.sound.cues import Cue
from umbrick.core.sound.formats import FileFormat
from umbrick.core.survey.finding import Finding, State
from umbrick.core.survey.survey import Measures
from umbrick.core.timeline.history import History, Mend
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_count


@dataclass(frozen=True)
class Facts:
    """What is known of one recording.

    ``sha256`` is that of the source file, empty if it is not known. ``measures_after`` is None where nothing was
    changed or nothing could be measured; ``gain_db`` is the level change made on saving. ``mends`` act, those of
    ``switched_off`` do not. ``can_be_heard`` is false where the file with the sound is missing: ``original`` and
    ``version`` tell lengths and provenance then, but have no samples.
    """

    path: str
    sha256: str
    form: FileFormat
    original: Version
    version: Version
    findings: Sequence[Finding]
    states: Mapping[str, State]
    mends: Sequence[Mend]
    switched_off: Sequence[Mend] = ()
    measures_before: Measures | None = None
    measures_after: Measures | None = None
    gain_db: float = 0.0
    notes: Mapping[str, str] = field(default_factory=dict)
    markers: Sequence[Cue] = ()
    can_be_heard: bool = True
    course: Course = ()
    """What is laid over the mended version."""

    @property
    def timing_debt(self) -> int:
        """By how many frames the end has moved against the original."""
        return self.version.frames - self.original.frames

    def state_of(self, finding: Finding) -> State:
        """Return what was decided about a finding."""
        return self.states.get(finding.id, State.OPEN)


def states_of(history: History, closed: Iterable[str] = ()) -> dict[str, State]:
    """Return what has become of findings, by their ids; those not in it are open.

    ``closed`` are those that mends of others made go away, as measured again; they count as mended.
    """
    counts: Counter[str] = Counter()
    for mend in history.mends:
        counts.update(mend.finding_ids)
        counts.subtract(mend.reopened_ids)
    states = dict.fromkeys(closed, State.MENDED)
    states |= {name: State.KEPT for edit in history.edits for name in edit.kept}
    return states | {name: State.MENDED for name, count in counts.items() if count > 0}


def done_in_words(mends: Sequence[Mend], course: Course = ()) -> str:
    """Return what was done in a few words, for a file's coding history: ``12 mends: 11 declip, 1 bridge; filter``."""
    counts = Counter(mend.method for mend in mends)
    each = ", ".join(f"{count} {method}" for method, count in counts.most_common())
    made = f"{format_count(len(mends), 'mend')}: {each}" if mends else "no mends"
    laid = ", ".join(step.method for step in course if acts(step))
    return f"{made}; {laid}" if laid else made
