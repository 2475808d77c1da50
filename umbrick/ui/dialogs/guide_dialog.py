"""The guide, as it ships with the program."""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, QUrl
from PySide6.QtGui import QImage, QTextDocument
from PySide6.QtWidgets import QDialog, QTextBrowser, QVBoxLayout, QWidget

_MARGIN = 48
_LEAST_WIDTH = 200


def guide_folder() -> Path:
    """Return the folder of the guide: in the installed program, or in the source tree it runs from."""
    packed = Path(str(files("umbrick"))) / "guide"
    return packed if packed.is_dir() else Path(str(files("umbrick"))).parent / "docs"


class _Pages(QTextBrowser):
    """Shows pictures no wider than itself."""

    def loadResource(self, kind: int, name: QUrl | str) -> Any:
        """Return a picture, made to fit."""
        found = super().loadResource(kind, name)
        if kind == QTextDocument.ResourceType.ImageResource.value:
            image = QImage(self.source().resolved(QUrl(name)).toLocalFile())
            widest = max(_LEAST_WIDTH, self.viewport().width() - _MARGIN // 2)
            if not image.isNull():
                return image.scaledToWidth(min(widest, image.width()), Qt.TransformationMode.SmoothTransformation)
        return found


class GuideDialog(QDialog):
    """A window of its own beside the bench, so that one can read while working."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Guide")
        self.resize(860, 760)
        self.pages = _Pages()
        self.pages.setAccessibleName("Guide")
        self.pages.setOpenExternalLinks(True)
        self.pages.setViewportMargins(_MARGIN // 2, 0, _MARGIN // 2, 0)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.pages)
        path = guide_folder() / "guide.md"
        self.pages.setSource(QUrl.fromLocalFile(str(path)), QTextDocument.ResourceType.MarkdownResource)
