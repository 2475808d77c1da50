"""The names of all kinds of finding and all methods, for those who only list them: what they do takes long to load."""

from __future__ import annotations

KIND_NAMES = (
    "clipping",
    "peak",
    "level_step",
    "dc_offset",
    "hard_edge",
    "click",
    "crackle",
    "mouth_click",
    "dropout",
    "discontinuity",
    "stutter",
    "slip",
    "plosive",
    "sibilance",
    "hum",
    "hiss",
    "rumble",
    "thump",
    "intrusion",
)

METHOD_NAMES = (
    "declip",
    "declick",
    "decrackle",
    "dethump",
    "bridge",
    "graft",
    "redraw",
    "splice",
    "collapse",
    "slip",
    "reorder",
    "fade",
    "level",
    "trim",
    "filter",
    "dc",
    "normalize",
)
