"""Makes the reference of Umbrick's Python surface from its docstrings: one page, ``docs/api/umbrick.html``.

Run by hand after a change to ``umbrick/api.py``: ``./run docs``. The page is committed.
"""

from __future__ import annotations

from pathlib import Path

import pdoc
import pdoc.doc
import pdoc.render

PAGE = Path(__file__).parent.parent / "docs" / "api" / "umbrick.html"


def page() -> str:
    """Return the page, the same each time it is made of the same docstrings."""
    pdoc.render.configure(docformat="numpy", show_source=False, search=False, footer_text="Umbrick from Python")
    module = pdoc.doc.Module.from_name("umbrick.api")
    made: str = pdoc.render.html_module(module, {module.modulename: module})
    return "\n".join(line.rstrip() for line in made.splitlines()) + "\n"


def main() -> None:
    """Write it."""
    PAGE.parent.mkdir(parents=True, exist_ok=True)
    PAGE.write_text(page(), encoding="utf-8")


if __name__ == "__main__":
    main()
