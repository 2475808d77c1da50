"""What of the docket is shown: a few typed words sift it by what is said of a finding, its state and its confidence."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from umbrick.core.survey.finding import Family, State
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.table import FindingTable, Mask

_CONFIDENCE = re.compile(r"^([<>])\s*(\d{1,3})\s*%?$")


@dataclass(frozen=True)
class Sieve:
    """Findings pass if every word fits: in the kind's name, its family or the evidence; a state; ``>80`` or ``<80``."""

    words: tuple[str, ...] = ()
    states: tuple[State, ...] = ()
    least: float = 0.0
    most: float = 1.0

    @classmethod
    def parsed(cls, text: str) -> Sieve:
        """Return the sieve that a person typed; several states let each of them pass."""
        words: list[str] = []
        states: list[State] = []
        least, most = 0.0, 1.0
        for word in text.casefold().split():
            if word in {state.value for state in State}:
                states.append(State(word))
            elif match := _CONFIDENCE.match(word):
                bound = min(100, int(match[2])) / 100
                least, most = (bound, most) if match[1] == ">" else (least, bound)
            else:
                words.append(word)
        return cls(tuple(words), tuple(states), least, most)

    @property
    def lets_all_pass(self) -> bool:
        """Whether nothing is sifted out."""
        return self == Sieve()

    def passing(self, table: FindingTable, codes: np.ndarray, code_of: dict[State, int]) -> Mask:
        """Return which rows of a table pass; ``codes`` holds their states as ``code_of`` tells them."""
        passing = (table.confidences >= self.least) & (table.confidences <= self.most)
        if self.states:
            passing &= np.isin(codes, [code_of[state] for state in self.states])
        if self.words:
            named = {name: _names(name) for name in table.kind_names}
            # Runs alike share their words: each is looked at once.
            known: dict[tuple[str, str], bool] = {}
            for row in np.flatnonzero(passing).tolist():
                finding = table.findings[row]
                key = finding.kind, finding.evidence
                if key not in known:
                    said = f"{named[finding.kind]} {finding.evidence.casefold()}"
                    known[key] = all(word in said for word in self.words)
                passing[row] = known[key]
        return np.asarray(passing)


def _names(kind: str) -> str:
    known = KINDS.get(kind)
    family = known.family if known else Family.LEVELS
    return f"{kind} {kind.replace('_', ' ')} {known.title.casefold() if known else ''} {family.value}"
