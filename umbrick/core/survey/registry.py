"""Every kind of finding that can be surveyed. A new detector is a module and one line here."""

from __future__ import annotations

from umbrick.core.errors import ParameterError
from umbrick.core.survey.detector import Kind
from umbrick.core.survey.kinds import (
    click,
    clipping,
    crackle,
    dc_offset,
    discontinuity,
    dropout,
    hard_edge,
    hiss,
    hum,
    intrusion,
    level_step,
    mouth_click,
    peak,
    plosive,
    rumble,
    sibilance,
    slip,
    stutter,
    thump,
)

KINDS: dict[str, Kind] = {
    kind.name: kind
    for kind in (
        clipping.KIND,
        peak.KIND,
        level_step.KIND,
        dc_offset.KIND,
        hard_edge.KIND,
        click.KIND,
        crackle.KIND,
        mouth_click.KIND,
        dropout.KIND,
        discontinuity.KIND,
        stutter.KIND,
        slip.KIND,
        plosive.KIND,
        sibilance.KIND,
        hum.KIND,
        hiss.KIND,
        rumble.KIND,
        thump.KIND,
        intrusion.KIND,
    )
}


def kinds_named(names: list[str] | None) -> list[Kind]:
    """Return the kinds with these names, all if None; ParameterError for an unknown name."""
    if names is None:
        return list(KINDS.values())
    for name in names:
        if name not in KINDS:
            raise ParameterError(f"There is no kind of finding “{name}”.", f"Kinds so far: {', '.join(KINDS)}.")
    return [KINDS[name] for name in names]
