"""The list in the docket: how its rows are painted, and how groups are opened and shut."""

from __future__ import annotations

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QPointF, QRectF, QSizeF, Qt, Signal
from PySide6.QtGui import QFont, QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF, QTextLayout
from PySide6.QtWidgets import QStyle, QStyledItemDelegate, QStyleOptionViewItem, QTableView, QWidget

from umbrick.core.survey.detector import Kind
from umbrick.core.survey.finding import Finding, State
from umbrick.core.survey.groups import Group
from umbrick.core.survey.registry import KINDS
from umbrick.core.units import format_integer
from umbrick.ui import theme as themes
from umbrick.ui.icons import draw_glyph
from umbrick.ui.panels.docket_model import DocketModel

_Index = QModelIndex | QPersistentModelIndex
ROW_HEIGHT, HEADING_HEIGHT = 54, 36
TEXT_LEFT = 36
"""Left of it are the glyphs of kinds, and the marks that open a group."""

_INDENT = 14


class DocketList(QTableView):
    """Lists the rows; the mark beside a group, and the arrow keys, open and shut it."""

    turn_wanted = Signal(Group)

    def __init__(self, model: DocketModel) -> None:
        super().__init__()
        self._model = model

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Open a group by the right arrow, shut it by the left one."""
        if event.key() not in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            super().keyPressEvent(event)
            return
        index = self.currentIndex()
        entry = self._model.entry(index.row()) if index.isValid() else None
        if isinstance(entry, Group) and self._model.is_open(entry) is (event.key() == Qt.Key.Key_Left):
            self.turn_wanted.emit(entry)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Open or shut a group at its mark; elsewhere choose rows."""
        index = self.indexAt(event.position().toPoint())
        entry = self._model.entry(index.row()) if index.isValid() and event.position().x() < TEXT_LEFT else None
        if isinstance(entry, Group):
            self.turn_wanted.emit(entry)
        else:
            super().mousePressEvent(event)


class DocketRows(QStyledItemDelegate):
    """Paints the rows of the docket."""

    def __init__(self, model: DocketModel, parent: QWidget) -> None:
        super().__init__(parent)
        self._model = model
        self.theme = themes.DAYLIGHT
        self.sifted: Kind | None = None

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: _Index) -> None:
        """Paint a row."""
        entry = index.data(DocketModel.ENTRY)
        rect = QRectF(option.rect)
        if isinstance(entry, Kind):
            self._paint_kind(painter, rect, entry)
        else:
            chosen = bool(option.state & QStyle.StateFlag.State_Selected)
            self._paint_finding(painter, rect, entry, chosen, _INDENT if self._model.is_inside(index.row()) else 0)

    def _paint_kind(self, painter: QPainter, rect: QRectF, kind: Kind) -> None:
        theme = self.theme
        painter.setPen(theme.color("rule"))
        painter.drawLine(rect.topLeft() + QPointF(12, 0.5), rect.topRight() + QPointF(-12, 0.5))
        if kind is self.sifted:
            painter.fillRect(QRectF(rect.left() + 3, rect.top() + 8, 3, rect.height() - 16), theme.color("ink"))
        draw_glyph(
            painter, kind.family, QPointF(rect.left() + 22, rect.center().y()), 11, theme.family(kind.family), True
        )
        painter.setFont(themes.font(13, QFont.Weight.Medium))
        painter.setPen(theme.color("ink"))
        inner = rect.adjusted(TEXT_LEFT, 0, -14, 0)
        painter.drawText(
            inner, Qt.AlignmentFlag.AlignVCenter, f"{kind.title} …" if self._model.is_shut(kind) else kind.title
        )
        painter.setPen(theme.color("faint"))
        painter.drawText(
            inner, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, format_integer(self._model.count(kind))
        )

    def _paint_finding(
        self, painter: QPainter, rect: QRectF, entry: Finding | Group, chosen: bool, indent: float
    ) -> None:
        theme = self.theme
        state, told = self._model.state_of(entry), self._model.state_told(entry)
        if chosen:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(theme.color("mended"))
            painter.setBrush(theme.color("raised"))
            painter.drawRoundedRect(rect.adjusted(6.5, 1.5, -6.5, -1.5), 4, 4)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        inner = rect.adjusted(TEXT_LEFT + indent, 4, -14, -4)
        if isinstance(entry, Group):
            self._draw_chevron(painter, QPointF(rect.left() + 23, rect.top() + 13), self._model.is_open(entry))
        upper, lower = QRectF(inner.topLeft(), QSizeF(inner.width(), 18)), inner.adjusted(0, 18, 0, 0)
        painter.setFont(themes.font(13, QFont.Weight.Medium))
        painter.setPen(theme.color("ink" if state is State.OPEN else "faint"))
        painter.drawText(upper, Qt.AlignmentFlag.AlignVCenter, self._model.clock(entry))
        right = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
        if told:
            painter.setFont(themes.font(12))
            painter.setPen(theme.color("mended" if state is State.MENDED else "faint"))
            painter.drawText(upper, right, told)
        else:
            bar = QRectF(inner.right() - 44, upper.center().y() - 1, 44, 3)
            painter.fillRect(bar, theme.color("rule"))
            bar.setWidth(44 * entry.severity)
            painter.fillRect(bar, theme.family(KINDS[entry.kind].family))
        painter.setFont(themes.font(11))
        painter.setPen(theme.color("faint"))
        first = QRectF(lower.topLeft(), QSizeF(lower.width(), painter.fontMetrics().lineSpacing()))
        painter.drawText(first, right, f"{100 * entry.confidence:.0f} %")
        _draw_two_lines(painter, lower.adjusted(0, 0, -40, 0), entry.evidence)

    def _draw_chevron(self, painter: QPainter, center: QPointF, is_open: bool) -> None:
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.translate(center)
        painter.rotate(90 if is_open else 0)
        painter.setPen(QPen(self.theme.color("faint"), 1.5))
        painter.drawPolyline(QPolygonF([QPointF(-2, -4), QPointF(2, 0), QPointF(-2, 4)]))
        painter.restore()


def _draw_two_lines(painter: QPainter, rect: QRectF, text: str) -> None:
    """Draw a text on two lines at most; what does not go on them is cut off with an ellipsis."""
    layout = QTextLayout(text, painter.font())
    layout.beginLayout()
    line = layout.createLine()
    line.setLineWidth(rect.width())
    layout.endLayout()
    first, rest = text[: line.textLength()].rstrip(), text[line.textLength() :]
    metrics = painter.fontMetrics()
    painter.drawText(rect, Qt.AlignmentFlag.AlignTop, first)
    if rest:
        rest = metrics.elidedText(rest, Qt.TextElideMode.ElideRight, int(rect.width()))
        painter.drawText(rect.adjusted(0, metrics.lineSpacing(), 0, 0), Qt.AlignmentFlag.AlignTop, rest)
