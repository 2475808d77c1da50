"""Every method. A new one is a module and one line here."""

from __future__ import annotations

from umbrick.core.course.treatments import dc, deess, dehum, denoise, dereverb, filter, lull, normalize
from umbrick.core.errors import ParameterError
from umbrick.core.mend.areas import area
from umbrick.core.mend.cutting import collapse, reorder, slip, splice, trim
from umbrick.core.mend.declipping import declip
from umbrick.core.mend.filling import bridge, graft
from umbrick.core.mend.impulses import declick, decrackle, dethump, redraw
from umbrick.core.mend.levelling import fade, level
from umbrick.core.mend.method import Method
from umbrick.core.mend.voice import plosive, sibilance
from umbrick.core.timeline.history import Mend

METHODS: dict[str, Method] = {
    module.METHOD.name: module.METHOD
    for module in (
        declip,
        declick,
        decrackle,
        dethump,
        bridge,
        graft,
        redraw,
        splice,
        collapse,
        slip,
        reorder,
        fade,
        level,
        plosive,
        sibilance,
        area,
        trim,
        filter,
        dc,
        lull,
        dehum,
        denoise,
        dereverb,
        deess,
        normalize,
    )
}


def method_named(name: str) -> Method:
    """Return the method of this name; ParameterError if there is none."""
    if name not in METHODS:
        raise ParameterError(f"There is no method “{name}”.", f"Methods so far: {', '.join(METHODS)}.")
    return METHODS[name]


def settings_told(mend: Mend) -> str:
    """Return in words which settings of a mend are not the usual ones; a dash for what no method made."""
    return METHODS[mend.method].told(mend.parameters) if mend.method in METHODS else "–"
