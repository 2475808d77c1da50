"""The ``bext`` chunk of broadcast WAV files: the line that says what was done, and where the sound begins.

References
----------
EBU Tech 3285, "Specification of the Broadcast Wave Format", version 2, 2011; the line's form: EBU R 98, 1999.
"""

from __future__ import annotations

import struct

from umbrick import __version__
from umbrick.core.sound.formats import FileFormat

BEXT = b"bext"
_HISTORY_AT = 602
TIME_REFERENCE_AT = 338
_MODES = {1: "mono", 2: "stereo"}


def coding_line(form: FileFormat, rate: int, channels: int, done: str) -> str:
    """Return the line for one generation: ``A=PCM,F=48000,W=24,M=mono,T=Umbrick 1.0; 12 mends``."""
    algorithm = "PCM" if form.bits or form.subtype in ("FLOAT", "DOUBLE") else form.subtype
    width = form.bits or {"FLOAT": 32, "DOUBLE": 64}.get(form.subtype, 0)
    parts = [f"A={algorithm}", f"F={rate}"]
    if width:
        parts.append(f"W={width}")
    parts.append(f"M={_MODES.get(channels, 'multitrack')}")
    text = f"Umbrick {__version__}{'; ' if done else ''}{done}".replace(",", ";").replace("\r", " ").replace("\n", " ")
    return f"{','.join(parts)},T={text}"


def with_line(body: bytes, line: str, later_by: int = 0) -> bytes:
    """Return the body of a ``bext`` chunk with a line added to its history.

    ``later_by`` frames are added to its time reference, when the file begins later than the one it came from.
    """
    fixed = body[:_HISTORY_AT].ljust(_HISTORY_AT, b"\0")
    if later_by:
        # A time that would pass 64 bits (after millions of years) was none: it stays what it is.
        since = struct.unpack_from("<Q", fixed, TIME_REFERENCE_AT)[0]
        since = since + later_by if since + later_by < 2**64 else since
        fixed = fixed[:TIME_REFERENCE_AT] + struct.pack("<Q", since) + fixed[TIME_REFERENCE_AT + 8 :]
    history = body[_HISTORY_AT:].rstrip(b"\0")
    if history and not history.endswith(b"\r\n"):
        history += b"\r\n"
    return fixed + history + line.encode("ascii", "replace") + b"\r\n"
