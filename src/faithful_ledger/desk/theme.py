"""Colours, fonts and the style sheet: ruled paper by day, slate by night.

Three signals, each with a shape and a word, so that colour is never alone: holds ◆, open ◇, broken ✕.
"""

from __future__ import annotations

from dataclasses import dataclass, fields
from functools import cache
from pathlib import Path
from string import Template

from PySide6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PySide6.QtWidgets import QApplication

__all__ = ["BROKEN", "HOLDS", "OPEN", "Colours", "apply_sheet", "apply_theme", "colours", "mono", "sans"]

HOLDS, OPEN, BROKEN = "◆", "◇", "✕"
FONTS = Path(__file__).parent / "fonts"


@dataclass(frozen=True)
class Colours:
    """One theme. `tint` marks what is selected, `pending` what an entry changes."""

    paper: str
    desk: str
    margin: str
    spine: str
    rule: str
    ink: str
    quiet: str
    faint: str
    head: str
    head_ink: str
    head_quiet: str
    head_field: str
    holds: str
    open: str
    broken: str
    tint: str
    pending: str
    button_ink: str

    def __getitem__(self, name: str) -> QColor:
        return QColor(getattr(self, name))


DAY = Colours(
    paper="#FFFDF6", desk="#EFEADC", margin="#F4EFE1", spine="#E6DFCC", rule="#E2DBC8", ink="#22302B",
    quiet="#5F675F", faint="#B4AE9C", head="#24352F", head_ink="#F4F0E4", head_quiet="#A9BBB2", head_field="#34483F",
    holds="#2E7D6B", open="#8A3F17", broken="#B3261E", tint="#E4EFE9", pending="#FBE7DA", button_ink="#FFFFFF",
)  # fmt: skip
NIGHT = Colours(
    paper="#222927", desk="#1A201E", margin="#1E2523", spine="#171D1B", rule="#36413D", ink="#E9E5D9",
    quiet="#A2ADA5", faint="#66716B", head="#10201A", head_ink="#F0ECE0", head_quiet="#8FA399", head_field="#20332B",
    holds="#63C2AB", open="#E8A57A", broken="#FF8A7E", tint="#2B3D37", pending="#46352A", button_ink="#10201A",
)  # fmt: skip

_present = DAY

SHEET = Template("""
* { outline: 0; }
QWidget { color: $ink; font-size: 13px; }
QMainWindow, #desk, #sheet, #page { background: $paper; }
#head { background: $head; }
#head QLabel { color: $head_ink; }
#head #chip { background: $head_field; border-radius: 4px; padding: 0px 10px; color: $head_quiet; }
#head QToolButton { color: $head_ink; font-size: 16px; font-weight: 600; border: none; padding: 4px 6px; border-radius: 4px; }
#head QToolButton:hover, #head QToolButton:focus { background: $head_field; }
#head QToolButton::menu-indicator { image: none; }
#head QLineEdit { background: $paper; color: $ink; border: 2px solid $paper; border-radius: 4px; padding: 4px 8px; }
#head QLineEdit:focus { border-color: $holds; }
#spine { background: $spine; }
#spine QPushButton { background: transparent; border: none; border-left: 4px solid transparent; border-radius: 0px; }
#spine QPushButton:hover { background: $desk; }
#spine QPushButton:focus { border-left-color: $faint; }
#spine QPushButton:checked { background: $paper; border-left-color: $holds; }
#aside, #aside QScrollArea, #aside #asidepage { background: $margin; }
#aside { border-left: 1px solid $rule; }
#tape { background: $desk; border-top: 2px solid $ink; }
#tapepaper, #tape QScrollArea { background: $desk; }
#tape QScrollBar:horizontal { height: 9px; }
#slip { background: $paper; border: 1px solid $open; border-radius: 2px; }
#slip QToolButton { border: none; color: $quiet; font-size: 14px; padding: 0px 3px; }
#slip QToolButton:hover, #slip QToolButton:focus { color: $broken; background: $pending; }
#banner { background: $pending; border-top: 1px solid $open; }
#banner[role="holds"] { background: $tint; border-top: 1px solid $holds; }
#banner[role="calm"] { background: $margin; border-top: 1px solid $rule; }
#banner QToolButton { border: none; font-size: 15px; }
QLabel[role="title"] { font-size: 17px; font-weight: 600; }
QLabel[role="heading"] { font-weight: 600; }
QLabel[role="quiet"] { color: $quiet; font-size: 12px; }
QLabel[role="holds"] { color: $holds; font-weight: 600; }
QLabel[role="open"] { color: $open; font-weight: 600; }
QLabel[role="broken"] { color: $broken; font-weight: 600; }
QFrame[role="rule"] { background: $rule; max-height: 1px; min-height: 1px; border: none; }
QPushButton { background: $paper; border: 1px solid $faint; border-radius: 3px; padding: 5px 12px; }
QPushButton:hover { border-color: $holds; }
QPushButton:focus { border-color: $holds; border-width: 2px; padding: 4px 11px; }
QPushButton:disabled { color: $faint; border-color: $rule; }
QPushButton[role="main"] { background: $holds; color: $button_ink; font-weight: 600; border: none; padding: 8px 18px; }
QPushButton[role="main"]:focus { border: 2px solid $ink; padding: 6px 16px; }
QPushButton[role="main"]:disabled { background: $rule; color: $quiet; }
QPushButton[role="link"] { background: transparent; border: none; color: $holds; text-decoration: underline; padding: 2px; }
QPushButton[role="link"]:focus { border: 1px dotted $holds; }
QPushButton[role="link"]:disabled { color: $faint; }
QPushButton[role="tab"] { background: transparent; border: none; border-bottom: 3px solid transparent; border-radius: 0px; color: $quiet; font-size: 13px; font-weight: 600; padding: 3px 4px; }
QPushButton[role="tab"]:checked { color: $ink; border-bottom-color: $holds; }
QPushButton[role="tab"]:focus { border-bottom-color: $faint; }
QComboBox { background: $paper; border: 1px solid $faint; border-radius: 3px; padding: 4px 8px; }
QComboBox:focus { border-color: $holds; }
QComboBox::drop-down { border: none; width: 18px; }
QComboBox QAbstractItemView, QListView, QMenu { background: $paper; color: $ink; border: 1px solid $faint; selection-background-color: $tint; selection-color: $ink; }
QListView::item { padding: 4px 6px; }
QMenu::item { padding: 5px 18px; }
QMenu::item:selected { background: $tint; }
QMenu::separator { height: 1px; background: $rule; margin: 4px 8px; }
QLineEdit, QPlainTextEdit { background: $paper; border: 1px solid $faint; border-radius: 3px; padding: 4px 6px; selection-background-color: $holds; selection-color: $button_ink; }
QLineEdit:focus, QPlainTextEdit:focus { border: 1px solid $holds; }
QLineEdit[role="reading"] { background: transparent; border: none; border-bottom: 1px solid transparent; padding: 1px 2px; }
QLineEdit[role="reading"][long="true"] { font-size: 11px; }
QLineEdit[role="reading"]:focus { background: $paper; border-bottom: 1px solid $holds; }
QTableView, QTreeView { background: $paper; border: none; gridline-color: $rule; selection-background-color: $tint; selection-color: $ink; }
QTableView::item { border-bottom: 1px solid $rule; padding: 0px 6px; }
QTreeView::item { border-bottom: 1px solid $rule; height: 25px; }
QTableView::item:selected, QTreeView::item:selected { background: $tint; color: $ink; }
QTableView QLineEdit, QTableView QComboBox { border: 1px solid $open; border-radius: 0px; padding: 0px 4px; }
QHeaderView { background: $paper; }
QHeaderView::section { background: $paper; color: $quiet; border: none; border-bottom: 2px solid $faint; padding: 4px 6px; font-size: 12px; }
QHeaderView::section:vertical { border-bottom: 1px solid $rule; }
QTableCornerButton::section { background: $paper; border: none; }
QScrollArea { background: $paper; border: none; }
QScrollBar:vertical { background: transparent; width: 11px; margin: 0; }
QScrollBar:horizontal { background: transparent; height: 11px; margin: 0; }
QScrollBar::handle { background: $faint; border-radius: 4px; min-height: 28px; min-width: 28px; margin: 2px; }
QScrollBar::add-line, QScrollBar::sub-line { width: 0; height: 0; }
QScrollBar::add-page, QScrollBar::sub-page { background: transparent; }
QSplitter::handle { background: $rule; }
QCheckBox { spacing: 7px; }
QProgressBar { background: $desk; border: 1px solid $rule; border-radius: 3px; }
QProgressBar::chunk { background: $holds; border-radius: 2px; }
QCheckBox::indicator, QTableView::indicator { width: 11px; height: 11px; border: 1px solid $quiet; background: $paper; }
QCheckBox::indicator:checked, QTableView::indicator:checked { background: $holds; border-color: $holds; }
QCheckBox::indicator:focus, QCheckBox::indicator:hover { border-color: $open; }
QToolTip { background: $paper; color: $ink; border: 1px solid $faint; padding: 4px; }
""")


def colours() -> Colours:
    """The theme in use."""
    return _present


def apply_theme(application: QApplication, *, dark: bool) -> None:
    """Give the whole application its fonts and palette; `apply_sheet` does the rest."""
    global _present
    _present = NIGHT if dark else DAY
    _load_fonts()
    application.setStyle("Fusion")
    application.setFont(sans())
    palette = QPalette()
    for role, name in (
        (QPalette.ColorRole.Window, "paper"),
        (QPalette.ColorRole.Base, "paper"),
        (QPalette.ColorRole.AlternateBase, "desk"),
        (QPalette.ColorRole.Button, "paper"),
        (QPalette.ColorRole.WindowText, "ink"),
        (QPalette.ColorRole.Text, "ink"),
        (QPalette.ColorRole.ButtonText, "ink"),
        (QPalette.ColorRole.Highlight, "tint"),
        (QPalette.ColorRole.HighlightedText, "ink"),
        (QPalette.ColorRole.PlaceholderText, "quiet"),
        (QPalette.ColorRole.Mid, "rule"),
        (QPalette.ColorRole.Link, "holds"),
    ):
        palette.setColor(role, _present[name])
    application.setPalette(palette)


def apply_sheet(application: QApplication) -> None:
    """Set the style sheet. After the window is built, because Qt does not look again at ancestors that came later."""
    application.setStyleSheet(
        SHEET.substitute({field.name: getattr(_present, field.name) for field in fields(Colours)})
    )


@cache
def _load_fonts() -> None:
    for path in sorted(FONTS.glob("*.[ot]tf")):
        QFontDatabase.addApplicationFont(str(path))


def sans(pixels: int = 13, *, strong: bool = False) -> QFont:
    """The font of words. Digits are tabular, so that columns of numbers stand in line."""
    font = QFont()
    font.setFamilies(["Inter", "DejaVu Sans Mono"])
    font.setPixelSize(pixels)
    font.setWeight(QFont.Weight.DemiBold if strong else QFont.Weight.Normal)
    font.setFeature(QFont.Tag("tnum"), 1)
    return font


@cache
def mono(pixels: int = 13) -> QFont:
    """The font of bytes and offsets."""
    font = QFont()
    font.setFamilies(["DejaVu Sans Mono"])
    font.setPixelSize(pixels)
    return font
