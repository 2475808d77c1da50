"""Seals: they show that a path in a casebook was opened by this machine's person, and not written in by a stranger.

Only a sealed path is ever written to without asking where. The key never leaves Umbrick's own folder.
"""

from __future__ import annotations

import hashlib
import hmac
import os
import secrets
from pathlib import Path

from umbrick.core.paths import work_folder
from umbrick.core.sound.part_file import PartFile

_KEY_BYTES = 32


def seal_of(casebook_id: str, path: Path) -> str:
    """Return the seal of a path in a casebook; OSError if the key can be neither read nor made."""
    text = casebook_id.encode() + b"\0" + os.fsencode(path)
    return hmac.new(_key(), text, hashlib.sha256).hexdigest()


def is_sealed(seal: str, casebook_id: str, path: Path) -> bool:
    """Return whether a seal is this machine's for that path in that casebook."""
    try:
        return hmac.compare_digest(seal, seal_of(casebook_id, path))
    except (OSError, TypeError):
        return False


def _key() -> bytes:
    path = work_folder() / "seal.key"
    try:
        key = path.read_bytes()
    except FileNotFoundError:
        key = b""
    if len(key) == _KEY_BYTES:
        return key
    path.parent.mkdir(parents=True, exist_ok=True)
    with PartFile(path.parent) as part:
        part.write(secrets.token_bytes(_KEY_BYTES))
        os.fsync(part.handle)
        os.replace(part.path, path)  # with the rights that it was made with: for this person alone
    return path.read_bytes()
