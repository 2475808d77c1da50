"""Texts from elsewhere (names of files, labels in them) made fit to be shown on one line."""

from __future__ import annotations

import unicodedata

_UNSEEN = {"Cc", "Cs", "Co", "Cn", "Zl", "Zp"}
_TURNS_DIRECTION = {"\u202a", "\u202b", "\u202c", "\u202d", "\u202e", "\u2066", "\u2067", "\u2068", "\u2069"}


def plain_line(text: str) -> str:
    """Return a text as one line in which nothing acts on a terminal, and every byte can be encoded.

    What is no letter, such as an escape sequence or a byte that is no UTF-8, is written out: ``\\x1b``, ``\\xff``.
    """
    return plain(" ".join(text.split()))


def plain(text: str) -> str:
    """Return a text of several lines made as harmless as :func:`plain_line` makes one."""
    if text.isascii() and text.isprintable():
        return text
    return "".join(letter if letter == "\n" else _written(letter) for letter in text)


def _written(letter: str) -> str:
    if unicodedata.category(letter) not in _UNSEEN and letter not in _TURNS_DIRECTION:
        return letter
    code = ord(letter)
    # How Python stands for a byte of a file name that is no UTF-8.
    code = code - 0xDC00 if 0xDC80 <= code <= 0xDCFF else code
    return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}"
