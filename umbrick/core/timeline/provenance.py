"""Where the frames of a version come from."""

from __future__ import annotations

from umbrick.core.timeline.version import NO_ORIGIN, Version


def rebuilt_spans(
    version: Version, original: Version, start: int = 0, stop: int | None = None
) -> list[tuple[int, int]]:
    """Return the parts of a span of ``version`` (all of it by default) that are not the original's own frames."""
    own = original.sources[0]
    spans: list[tuple[int, int]] = []
    for piece, at in version.pieces(start, stop):
        if piece.source is own and piece.origin != NO_ORIGIN:
            continue
        if spans and spans[-1][1] == at:
            spans[-1] = (spans[-1][0], at + piece.length)
        else:
            spans.append((at, at + piece.length))
    return spans


def provenance_shares(version: Version, original: Version) -> dict[str, float]:
    """Return the share of the version's frames, in percent, that are ``original`` and ``rebuilt``."""
    rebuilt = sum(stop - start for start, stop in rebuilt_spans(version, original))
    share = 100.0 * rebuilt / version.frames if version.frames else 0.0
    return {"original": 100.0 - share, "rebuilt": share}
