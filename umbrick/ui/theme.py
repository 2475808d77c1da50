"""Colours, type and spacing: the bench in daylight and at dusk."""

from __future__ import annotations

import html
from dataclasses import dataclass, fields
from importlib.resources import as_file, files

from PySide6.QtCore import QDir
from PySide6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PySide6.QtWidgets import QApplication

from umbrick.core.paths import cache_folder
from umbrick.core.survey.finding import Family

FAMILY_NAME = "IBM Plex Sans"


@dataclass(frozen=True)
class Theme:
    """The colours of one light."""

    name: str
    paper: str
    desk: str
    raised: str
    rule: str
    ink: str
    faint: str
    envelope: str
    body: str
    wrong: str
    mended: str
    ghost: str
    selection: str
    on_accent: str
    impulses: str
    gaps: str
    voice: str
    background: str

    def color(self, name: str, alpha: int = 255) -> QColor:
        """Return one of the colours, by its field's name."""
        color = QColor(getattr(self, name))
        color.setAlpha(alpha)
        return color

    def family(self, family: Family) -> QColor:
        """Return the tint of a family of findings."""
        return QColor(self.wrong if family is Family.LEVELS else getattr(self, family.value))


DAYLIGHT = Theme(
    "daylight", paper="#F6F1E7", desk="#E9E1D2", raised="#FBF8F1", rule="#CDBFA9", ink="#2A231D", faint="#6F6355",
    envelope="#C2A283", body="#6A4A32", wrong="#AD3E29", mended="#1E6A70", ghost="#968B7B", selection="#DDAF52",
    on_accent="#FBF8F1", impulses="#7A3E73", gaps="#3B5A8C", voice="#5D6B1E", background="#8F6A14",
)  # fmt: skip
DUSK = Theme(
    "dusk", paper="#211C18", desk="#2B2520", raised="#302923", rule="#463C33", ink="#EDE4D6", faint="#A89A88",
    envelope="#7C6148", body="#D0A97E", wrong="#E0715A", mended="#63B7BB", ghost="#8A7D6E", selection="#DDAF52",
    on_accent="#1B1714", impulses="#C48ABD", gaps="#8FAADB", voice="#A9B95F", background="#D3AC54",
)  # fmt: skip
THEMES = {theme.name: theme for theme in (DAYLIGHT, DUSK)}


def load_fonts() -> None:
    """Make the shipped typeface known to Qt."""
    for file in sorted(files("umbrick.ui.assets.fonts").iterdir(), key=lambda f: f.name):
        if file.name.endswith(".ttf"):
            with as_file(file) as path:
                QFontDatabase.addApplicationFont(str(path))


def font(pixels: int = 13, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
    """Return the typeface at a size in pixels."""
    result = QFont(FAMILY_NAME)
    result.setPixelSize(pixels)
    result.setWeight(weight)
    return result


def emphasised(text: str) -> str:
    """Return rich text in the heavier of the shipped weights."""
    return f'<span style="font-weight: 600;">{html.escape(text)}</span>'


def apply(application: QApplication, theme: Theme) -> None:
    """Dress the whole application; dressed so already, it is left alone: every widget would be gone through."""
    colors = {field.name: getattr(theme, field.name) for field in fields(theme)}
    colors["chevron"] = _tinted_icon("chevron-down", theme.faint)
    colors["check"] = _tinted_icon("check", theme.on_accent)
    sheet = _STYLE.format(**colors)
    if application.styleSheet() == sheet:
        return
    application.setStyle("Fusion")
    application.setFont(font())
    palette = QPalette()
    roles = QPalette.ColorRole
    for role, name in (
        (roles.Window, "desk"), (roles.Base, "raised"), (roles.AlternateBase, "desk"), (roles.Button, "raised"),
        (roles.WindowText, "ink"), (roles.Text, "ink"), (roles.ButtonText, "ink"), (roles.ToolTipBase, "raised"),
        (roles.ToolTipText, "ink"), (roles.PlaceholderText, "faint"), (roles.Highlight, "mended"),
        (roles.HighlightedText, "on_accent"), (roles.Link, "mended"),
    ):  # fmt: skip
        palette.setColor(role, theme.color(name))
    for role in (roles.WindowText, roles.Text, roles.ButtonText):
        palette.setColor(QPalette.ColorGroup.Disabled, role, theme.color("ghost"))
    application.setPalette(palette)
    application.setStyleSheet(sheet)


def _tinted_icon(name: str, color: str) -> str:
    """Return a shipped icon in a colour, for a style sheet, which can only name files."""
    path = cache_folder() / "icons" / f"{name}-{color[1:]}.svg"
    QDir.setSearchPaths(_TINTED, [str(path.parent)])
    if not path.exists():
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            svg = files("umbrick.ui.assets.icons").joinpath(f"{name}.svg").read_text()
            path.write_text(svg.replace("currentColor", color))
        except OSError:
            return ""  # without a cache folder the mark is left out, the control still works
    return f"{_TINTED}:{path.name}"


_TINTED = "tinted"

_STYLE = """
* {{ font-family: "IBM Plex Sans"; font-size: 13px; }}
QMainWindow, QDialog, QMenuBar, QStatusBar {{ background: {desk}; }}
QMenuBar {{ padding: 2px 8px; border-bottom: 1px solid {rule}; }}
QMenuBar::item {{ padding: 4px 8px; background: transparent; }}
QMenuBar::item:selected, QMenu::item:selected {{ background: {mended}; color: {on_accent}; }}
QMenu {{ background: {raised}; border: 1px solid {rule}; padding: 4px; }}
QMenu::item {{ padding: 4px 24px 4px 12px; }}
QMenu::item:disabled {{ color: {ghost}; }}
QMenu::separator {{ height: 1px; background: {rule}; margin: 4px 8px; }}
QSplitter::handle {{ background: {rule}; }}
QSplitter::handle:horizontal {{ width: 1px; }}
QSplitter::handle:vertical {{ height: 1px; }}
QPushButton, QToolButton {{
  background: {raised}; border: 1px solid {rule}; border-radius: 4px; padding: 4px 10px; color: {ink};
}}
QPushButton:hover, QToolButton:hover {{ border-color: {mended}; }}
QPushButton:focus, QToolButton:focus, QComboBox:focus, QLineEdit:focus, QSlider:focus, QCheckBox:focus,
QRadioButton:focus, QTableView:focus {{ border: 1px solid {mended}; }}
QPushButton:disabled, QToolButton:disabled {{ color: {ghost}; background: {desk}; }}
QPushButton:checked, QToolButton:checked {{ background: {mended}; color: {on_accent}; border-color: {mended}; }}
QPushButton[accent="true"] {{
  background: {mended}; color: {on_accent}; border-color: {mended}; font-weight: 600;
}}
QPushButton[accent="true"]:disabled {{ background: {desk}; color: {ghost}; border-color: {rule}; }}
QPushButton[accent="true"]:focus {{ border: 2px solid {ink}; }}
QLineEdit, QComboBox {{
  background: {raised}; border: 1px solid {rule}; border-radius: 4px; padding: 3px 8px;
  selection-background-color: {mended}; selection-color: {on_accent};
}}
QLineEdit[wrong="true"] {{ border-color: {wrong}; }}
QComboBox {{ padding-right: 24px; }}
QComboBox::drop-down {{ border: none; width: 24px; }}
QComboBox::down-arrow {{ image: url("{chevron}"); width: 14px; height: 14px; }}
QAbstractItemView::indicator, QCheckBox::indicator {{
  width: 12px; height: 12px; border: 1px solid {faint}; border-radius: 2px; background: {raised};
}}
QAbstractItemView::indicator:checked, QCheckBox::indicator:checked {{
  background: {mended}; border-color: {mended}; image: url("{check}");
}}
QComboBox QAbstractItemView {{ background: {raised}; border: 1px solid {rule}; }}
QListView, QTableView {{ background: transparent; border: 1px solid transparent; outline: none; }}
QTableView {{ selection-background-color: transparent; }}
QHeaderView::section {{ background: {desk}; border: none; border-bottom: 1px solid {rule}; padding: 4px; }}
QProgressBar {{ border: none; background: {rule}; height: 4px; border-radius: 2px; }}
QProgressBar::chunk {{ background: {mended}; border-radius: 2px; }}
QSlider {{ border: 1px solid transparent; border-radius: 4px; }}
QSlider::groove:horizontal {{ height: 2px; background: {rule}; }}
QSlider::sub-page:horizontal {{ background: {mended}; }}
QSlider::handle:horizontal {{
  width: 10px; height: 14px; margin: -6px 0; background: {raised}; border: 1px solid {mended}; border-radius: 3px;
}}
QCheckBox, QRadioButton {{ border: 1px solid transparent; border-radius: 4px; padding: 2px; }}
QToolTip {{ background: {raised}; color: {ink}; border: 1px solid {rule}; padding: 4px; }}
QScrollBar:vertical {{ background: transparent; width: 8px; }}
QScrollBar::handle:vertical {{ background: {rule}; border-radius: 4px; min-height: 24px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; width: 0; }}
QLabel[wrong="true"] {{ color: {wrong}; font-weight: 600; }}
QLabel[role="heading"] {{ font-size: 15px; font-weight: 600; }}
QLabel[role="faint"] {{ color: {faint}; font-size: 12px; }}
QLabel[role="note"] {{
  background: {raised}; border: 1px solid {rule}; border-radius: 4px; padding: 8px; font-size: 12px;
}}
QScrollArea[role="plain"], QScrollArea[role="plain"] > QWidget > QWidget {{ background: transparent; border: none; }}
QPushButton[role="plain"] {{ background: transparent; border: 1px solid transparent; padding: 1px 4px; }}
QPushButton[role="plain"]:hover, QPushButton[role="plain"]:focus {{ border-color: {mended}; }}
QPushButton[role="plain"]:checked {{ color: {ink}; background: {raised}; border-color: {rule}; }}
QTableView[role="ledger"] {{ selection-background-color: {selection}; selection-color: {ink}; }}
QTableView[role="ledger"]::item {{ padding: 0 4px; border: none; }}
QTableView[role="ledger"]::item:selected {{ background: {raised}; color: {ink}; }}
QWidget[role="notice"] {{ background: {raised}; border-bottom: 1px solid {rule}; }}
QWidget[role="notice"] QLabel {{ border: none; }}
QFrame[role="step"] {{ background: {desk}; border: 1px solid {rule}; border-radius: 4px; }}
QFrame[role="chosen_step"] {{ background: {raised}; border: 1px solid {mended}; border-radius: 4px; }}
QFrame[role="rule"] {{ background: {rule}; max-height: 1px; border: none; }}
"""
