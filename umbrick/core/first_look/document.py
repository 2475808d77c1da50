"""A first look as a regimen: what is advised as its steps, and beside them what had better be left out."""

from __future__ import annotations

from typing import Any

from umbrick.core.first_look.proposal import FirstLook, Proposal

SCHEMA = "umbrick.regimen/1"


def document(name: str, look: FirstLook) -> dict[str, Any]:
    """Return a regimen of plain JSON values; each step has its reason and what it is expected to change."""
    left_out = [_as_json(one) for one in look.proposals if not one.is_advised]
    return {
        "schema": SCHEMA,
        "name": name,
        "steps": [_as_json(one) for one in look.proposals if one.is_advised],
        "left_out": left_out,
    }


def _as_json(proposal: Proposal) -> dict[str, Any]:
    return {
        "method": proposal.method,
        "where": f"findings:{proposal.kind}" if proposal.kind else "all",
        "set": dict(proposal.settings),
        "reason": proposal.reason,
        "expected": proposal.expected,
    }
