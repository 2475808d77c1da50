"""``umbrick methods``: lists the methods and their parameters."""

from __future__ import annotations

import json
from typing import Any

import click

from umbrick.cli.output import say
from umbrick.core.mend.method import Method
from umbrick.core.mend.parameters import Parameter
from umbrick.core.mend.registry import METHODS


@click.command("methods")
@click.option("--json", "as_json", is_flag=True, help="As JSON.")
def methods_command(as_json: bool) -> None:
    """List methods with their parameters, units, ranges and defaults."""
    if as_json:
        say(json.dumps({"methods": [_described(method) for method in METHODS.values()]}, indent=1, ensure_ascii=False))
        return
    for method in METHODS.values():
        say(f"{method.name}: {method.summary}")
        for parameter in method.parameters:
            default = "nothing" if parameter.default == "" else parameter.default
            say(f"  {parameter.name} ({_range(parameter)}; {default} if not given): {parameter.summary}")


def _described(method: Method) -> dict[str, Any]:
    return {
        "name": method.name,
        "title": method.title,
        "summary": method.summary,
        "time": method.time_shift,
        "parameters": [
            {
                "name": p.name,
                "type": p.kind,
                "default": p.default,
                "choices": list(p.choices),
                "unit": p.unit,
                "min": p.low,
                "max": p.high,
                "summary": p.summary,
            }
            for p in method.parameters
        ],
    }


def _range(parameter: Parameter) -> str:
    if parameter.kind == "band":
        return f"LOW-HIGH in {parameter.unit}, nothing for all"
    if parameter.kind in ("text", "curve"):
        return "text"
    parts = list(parameter.choices)
    if parameter.kind == "number":
        parts.append(f"{parameter.low:g} to {parameter.high:g} {parameter.unit}".strip())
    return " or ".join(parts) if parameter.kind == "number" else ", ".join(parts)
