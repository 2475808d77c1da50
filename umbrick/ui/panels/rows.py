"""Lists of very many rows."""

from __future__ import annotations

from typing import TypeVar

from PySide6.QtCore import QAbstractItemModel
from PySide6.QtWidgets import QHeaderView, QTableView

from umbrick.ui.own_keys import keep_keys

_View = TypeVar("_View", bound=QTableView)


def rows_of(model: QAbstractItemModel, name: str, row_height: int) -> QTableView:
    """Return a list of a model's rows.

    It is a table also where it has one column: a list view lays out every row, and there may be hundreds of thousands.
    """
    return with_rows(QTableView(), model, name, row_height)


def with_rows(view: _View, model: QAbstractItemModel, name: str, row_height: int) -> _View:
    """Have a table of one's own list a model's rows, and return it."""
    view.setAccessibleName(name)
    view.setModel(model)
    keep_keys(view)
    view.verticalHeader().hide()
    view.verticalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
    view.verticalHeader().setDefaultSectionSize(row_height)
    view.setShowGrid(False)
    view.setTabKeyNavigation(False)
    return view
