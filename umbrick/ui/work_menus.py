"""The two menus that list what was worked on before: recordings opened last, and work that was given no name."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from PySide6.QtGui import QAction
from PySide6.QtWidgets import QMenu, QWidget

from umbrick.casebook.unnamed import Left
from umbrick.ui import settings


class WorkMenus:
    """Puts both menus into another one; what they list is made up each time they are opened."""

    def __init__(self, parent: QWidget, open_file: Callable[[Path], None]) -> None:
        self._open = open_file
        self.left: Sequence[Left] = ()
        """Work of earlier starts that was given no name."""
        self._recent = QMenu("Open again", parent)
        self._recent.aboutToShow.connect(self._fill_recent)
        self._unnamed = QMenu("Work without a name", parent)
        self._unnamed.aboutToShow.connect(self._fill_unnamed)

    def put_into(self, menu: object, before: QAction) -> None:
        """Insert both before an entry of a menu, which Qt hands out as any object."""
        assert isinstance(menu, QMenu)
        menu.insertMenu(before, self._recent)
        menu.insertMenu(before, self._unnamed)

    def _fill_recent(self) -> None:
        paths = [Path(path) for path in settings.recent_files()]
        self._fill(self._recent, [(path.name, path) for path in paths], "Nothing has been opened yet")

    def _fill_unnamed(self) -> None:
        listed = [(left.title, left.path) for left in self.left]
        self._fill(self._unnamed, listed, "Nothing was left at the last start")

    def _opening(self, path: Path) -> Callable[[], None]:
        return lambda: self._open(path)

    def _fill(self, menu: QMenu, listed: Sequence[tuple[str, Path]], if_none: str) -> None:
        menu.clear()
        for title, path in listed:
            menu.addAction(title, self._opening(path)).setToolTip(str(path))
        if not listed:
            menu.addAction(if_none).setEnabled(False)
