"""Fonts and the style sheet, from a palette."""

from __future__ import annotations

from collections.abc import Generator
from contextlib import contextmanager
from pathlib import Path

from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtGui import QColor, QFont, QFontDatabase, QGuiApplication, QPalette
from PySide6.QtWidgets import QApplication, QStyleFactory

from eskret.desktop.theme.palette import LIGHT, THEMES, Palette

RESOURCES = Path(__file__).parent.parent / "resources"
FONTS = RESOURCES / "fonts"
FAMILY, NARROW = "Archivo", "Archivo Narrow"
SIZE = 13


class Theme(QObject):
    """The theme in force; painters ask it for colours and hear when it changes."""

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.palette: Palette = LIGHT
        self.follows = False
        """Whether it is as the desktop has it, and changes with it."""

    def use(self, name: str) -> None:
        """Change to ``light`` or ``dark``."""
        self.palette = THEMES[name]
        app = QApplication.instance()
        if isinstance(app, QApplication):
            app.setStyleSheet("")  # from one sheet to another each widget is dressed several times over, from none to one once
            app.setPalette(_qt_palette(self.palette))
            app.setStyleSheet(style_sheet(self.palette))
        self.changed.emit()

    def colour(self, name: str, alpha: int = 255) -> QColor:
        """A colour of the palette by its name."""
        colour = QColor(getattr(self.palette, name))
        colour.setAlpha(alpha)
        return colour


theme = Theme()


def font(size: int = SIZE, weight: QFont.Weight = QFont.Weight.Normal, family: str = FAMILY) -> QFont:
    """A font of the application, its size in pixels at 100 %."""
    made = QFont(family)
    made.setPixelSize(size)
    made.setWeight(weight)
    return made


@contextmanager
def undressed() -> Generator[None, None, None]:
    """While many widgets are put together: with a style sheet each is dressed anew whenever it, or what it is in, changes hands."""
    app = QApplication.instance()
    if not isinstance(app, QApplication):
        yield
        return
    sheet = app.styleSheet()
    app.setStyleSheet("")
    try:
        yield
    finally:
        app.setStyleSheet(sheet)


def desktop_theme() -> str:
    """Light or dark, as the desktop has it."""
    return "dark" if QGuiApplication.styleHints().colorScheme() == Qt.ColorScheme.Dark else "light"


def install(app: QApplication, name: str) -> None:
    """Load the fonts and dress the application: as ``light`` or ``dark``, or without a name as the desktop is, and along with it."""
    for file in sorted(FONTS.glob("*.ttf")):
        QFontDatabase.addApplicationFont(str(file))
    app.setStyle(QStyleFactory.create("Fusion"))
    app.setFont(font())
    theme.follows = not name
    theme.use(name or desktop_theme())
    QGuiApplication.styleHints().colorSchemeChanged.connect(lambda _: theme.use(desktop_theme()) if theme.follows else None)


def _qt_palette(p: Palette) -> QPalette:
    role = QPalette.ColorRole
    out = QPalette()
    for where, colour in (
        (role.Window, p.paper),
        (role.WindowText, p.ink),
        (role.Base, p.field),
        (role.AlternateBase, p.band),
        (role.Text, p.ink),
        (role.Button, p.paper),
        (role.ButtonText, p.ink),
        (role.Highlight, p.hand),
        (role.HighlightedText, p.hand_ink),
        (role.ToolTipBase, p.bar),
        (role.ToolTipText, p.bar_ink),
        (role.PlaceholderText, p.faint),
        (role.Link, p.good),
        (role.Light, p.paper),
        (role.Midlight, p.line),
        (role.Mid, p.line),
        (role.Dark, p.field_line),
        (role.Shadow, p.field_line),
        (role.Accent, p.hand),
    ):
        out.setColor(where, QColor(colour))
    for where in (role.Text, role.ButtonText, role.WindowText):
        out.setColor(QPalette.ColorGroup.Disabled, where, QColor(p.faint))
    return out


def style_sheet(p: Palette) -> str:
    """The style sheet. Object names and dynamic properties pick the parts."""
    wedge = (RESOURCES / f"wedge-{p.name}.svg").as_posix()
    return f"""
* {{ font-family: "{FAMILY}"; font-size: {SIZE}px; }}
QWidget {{ color: {p.ink}; }}
QMainWindow, QDialog {{ background: {p.paper}; }}
QToolTip {{ background: {p.bar}; color: {p.bar_ink}; border: 0; padding: 5px 8px; }}

#topBar {{ background: {p.bar}; }}
#topBar QLabel {{ color: {p.bar_faint}; }}
#topBar #workflowMenu {{ color: {p.bar_ink}; font-size: 15px; font-weight: 600; border: 0; padding: 4px 8px 4px 8px;
  background: transparent; text-align: left; border-radius: 4px; }}
#topBar #workflowMenu:hover, #topBar #workflowMenu:focus {{ background: {p.bar_field}; }}
#topBar #workflowMenu::menu-indicator {{ image: none; width: 0; }}
#topBar QPushButton#run {{ background: {p.hand}; color: {p.hand_ink}; border: 2px solid {p.hand}; font-weight: 600; }}
#topBar QPushButton {{ background: transparent; color: {p.bar_ink}; border: 1px solid {p.bar_faint}; border-radius: 4px;
  padding: 4px 13px; font-weight: 600; }}
#topBar QPushButton:hover {{ background: {p.bar_field}; }}
#topBar QPushButton#run:hover {{ background: {p.hand_row if p.name == "light" else p.hand}; }}
#topBar QPushButton:checked {{ background: {p.bar_ink}; color: {p.bar}; }}
#topBar QPushButton:focus {{ border: 2px solid {p.bar_ink}; padding: 3px 12px; }}
#topBar QPushButton#run:focus {{ border: 2px solid {p.bar_ink}; padding: 4px 13px; }}
#topBar QPushButton:disabled, #topBar QPushButton#run:disabled {{ color: {p.bar_faint}; border-color: {p.bar_field};
  background: {p.bar}; font-weight: 400; }}
#topBar QPushButton#chip {{ background: {p.bar_field}; border: 1px solid {p.bar_field}; font-weight: 400;
  color: {p.bar_ink}; padding: 4px 10px; }}
#topBar QPushButton#chip:hover, #topBar QPushButton#chip:focus {{ border: 1px solid {p.hand}; padding: 4px 10px; }}

#shelf {{ background: {p.shelf}; }}
#shelf QListWidget#shelfList {{ background: {p.shelf}; border: 0; padding: 0; }}
#shelf QTreeView {{ background: {p.shelf}; border: 0; outline: 0; }}
QLabel#eyebrow {{ color: {p.faint}; font-family: "{NARROW}"; font-size: 12px; font-weight: 600; }}
QLabel#faint {{ color: {p.faint}; }}
QLabel#title {{ font-size: 14px; font-weight: 600; }}

QTreeView, QTableView {{ background: {p.paper}; border: 0; outline: 0; selection-background-color: {p.hand_row};
  selection-color: {p.ink}; }}
QTreeView::item, QTreeView::item:selected, QTreeView::item:hover {{ background: transparent; border: 0; }}
QTreeView::branch {{ background: transparent; border-image: none; image: none; }}
QPushButton#entering {{ background: {p.field}; border: 1px solid {p.field_line}; border-radius: 3px; padding: 4px 24px 4px 8px;
  text-align: left; }}
QPushButton#entering:focus {{ border: 2px solid {p.ring}; padding: 3px 23px 3px 7px; }}
QAbstractScrollArea::corner {{ background: {p.paper}; border: 0; }}
#overMap {{ background: {p.paper}; border: 1px solid {p.line}; border-radius: 4px; }}
QHeaderView {{ background: {p.paper}; border: 0; }}
QHeaderView::section {{ background: {p.paper}; color: {p.faint}; border: 0; border-bottom: 1px solid {p.ink};
  padding: 5px 8px; font-family: "{NARROW}"; font-size: 12px; font-weight: 600; }}
QHeaderView::section:vertical {{ border-bottom: 1px solid {p.line}; }}
QFrame#rule {{ background: {p.line}; border: 0; max-height: 1px; }}
QFrame#upright {{ background: {p.line}; border: 0; max-width: 1px; }}
QTableCornerButton::section {{ background: {p.paper}; border: 0; }}
QTableView::item {{ padding: 0 6px; border: 0; }}
QSplitter::handle {{ background: {p.line}; }}
QSplitter::handle:hover {{ background: {p.hand}; }}
#ledgerSplit::handle {{ background: {p.bar}; }}

#pane {{ background: {p.paper}; }}
#paneHead {{ background: {p.paper}; border-bottom: 1px solid {p.line}; }}
QToolButton#quiet {{ border: 1px solid transparent; border-radius: 4px; background: transparent; color: {p.faint};
  padding: 3px 7px; }}
QToolButton#quiet:hover {{ color: {p.ink}; background: {p.band}; }}
QToolButton#quiet:focus {{ border: 1px solid {p.ink}; }}
QToolButton#quiet:checked {{ color: {p.ink}; background: {p.shelf_chosen}; }}
QToolButton#quiet:disabled {{ color: {p.line}; }}
QToolButton#bind {{ border: 1px solid transparent; border-radius: 3px; background: transparent; color: {p.faint}; padding: 0 5px;
  font-size: 12px; }}
QToolButton#bind:hover {{ color: {p.ink}; background: {p.band}; }}
QToolButton#bind:focus {{ border: 1px solid {p.ink}; }}
QListWidget {{ padding: 2px; outline: 0; alternate-background-color: {p.band}; }}
QListWidget:focus {{ border: 2px solid {p.ring}; padding: 1px; }}
QListWidget::item {{ padding: 2px 5px; color: {p.ink}; }}
QListWidget::item:selected {{ background: {p.hand_row}; color: {p.ink}; }}
QToolButton#quiet::menu-indicator {{ image: none; width: 0; }}
#viewSwitch QPushButton {{ border: 1px solid {p.ink}; background: {p.paper}; color: {p.ink}; padding: 3px 5px;
  border-radius: 0; margin-left: -1px; }}
#viewSwitch QPushButton:checked {{ background: {p.ink}; color: {p.paper}; }}
#viewSwitch QPushButton:focus {{ border: 2px solid {p.ring}; padding: 2px 4px; }}
#viewSwitch QPushButton:disabled {{ color: {p.faint}; border-color: {p.line}; }}

QCheckBox::indicator:unchecked {{ background: {p.field}; border: 1px solid {p.field_line}; border-radius: 2px; width: 12px; height: 12px; }}
QCheckBox::indicator:unchecked:disabled {{ background: {p.paper}; border-color: {p.line}; }}

QLineEdit, QPlainTextEdit, QComboBox, QSpinBox, QDateEdit, QListWidget {{ background: {p.field}; border: 1px solid {p.field_line};
  border-radius: 3px; padding: 4px 7px; color: {p.ink}; selection-background-color: {p.hand};
  selection-color: {p.hand_ink}; }}
QLineEdit:focus, QPlainTextEdit:focus, QComboBox:focus, QSpinBox:focus, QDateEdit:focus {{ border: 2px solid {p.ring};
  padding: 3px 6px; }}
QPlainTextEdit#code {{ font-family: "DejaVu Sans Mono", "Liberation Mono", monospace; font-size: 12px; }}
QSpinBox QLineEdit, QSpinBox QLineEdit:focus {{ border: 0; padding: 0; background: transparent; }}
QSpinBox::up-button, QSpinBox::down-button {{ width: 0; border: 0; }}
*[wrong="true"] {{ border: 2px solid {p.bad}; padding: 3px 6px; }}
QComboBox::drop-down {{ border: 0; width: 22px; }}
QComboBox::down-arrow {{ image: url("{wedge}"); width: 12px; height: 12px; }}
QComboBox QAbstractItemView {{ background: {p.field}; border: 1px solid {p.field_line}; outline: 0; padding: 3px; }}
QCheckBox {{ spacing: 8px; }}
QPushButton {{ background: {p.paper}; border: 1px solid {p.field_line}; border-radius: 4px; padding: 4px 12px; }}
QPushButton:hover {{ background: {p.band}; }}
QPushButton:focus {{ border: 2px solid {p.ring}; padding: 3px 11px; }}
QPushButton#primary {{ background: {p.hand}; color: {p.hand_ink}; border-color: {p.hand}; font-weight: 600; }}
QPushButton#primary:focus {{ border: 2px solid {p.ink}; }}
QScrollArea, QScrollArea > QWidget > QWidget#formBody {{ background: {p.paper}; border: 0; }}
QFrame#note {{ background: {p.note}; border: 0; border-left: 3px solid {p.hand}; }}
QFrame#noteMakes {{ background: {p.note}; border: 0; border-left: 3px solid {p.good}; }}
QFrame#noteWrong {{ background: {p.note}; border: 0; border-left: 3px solid {p.bad}; }}
QFrame#note QLabel, QFrame#noteMakes QLabel {{ color: {p.faint}; }}
QFrame#noteWrong QLabel {{ color: {p.bad}; }}
QLabel#wrong {{ color: {p.bad}; }}

QMenu {{ background: {p.field}; border: 1px solid {p.field_line}; padding: 4px 0; }}
QMenu::item {{ padding: 5px 26px 5px 18px; color: {p.ink}; }}
QMenu::item:selected {{ background: {p.hand_row}; }}
QMenu::item:disabled {{ color: {p.faint}; }}
QMenu::separator {{ height: 1px; background: {p.line}; margin: 4px 0; }}
#statusLine {{ background: {p.status}; }}
#statusLine QLabel {{ color: {p.ink}; }}
#banner {{ background: {p.hand_row}; border-bottom: 1px solid {p.hand}; }}
#guide {{ background: {p.note}; border-bottom: 2px solid {p.good}; }}
#guide QLabel#eyebrow {{ color: {p.good}; }}
#banner[tone="bad"] {{ border-bottom: 2px solid {p.bad}; }}
#finder {{ background: {p.field}; border: 1px solid {p.ink}; border-radius: 6px; }}
#finder QListView {{ background: {p.field}; border: 0; outline: 0; }}
#startView {{ background: {p.paper}; }}
QPushButton#door {{ text-align: left; padding: 12px 16px; border: 1px solid {p.field_line}; border-radius: 6px;
  background: {p.field}; }}
QPushButton#door:hover {{ background: {p.hand_row}; border-color: {p.hand}; }}
QPushButton#door:focus {{ border: 2px solid {p.ring}; padding: 11px 15px; }}
QPushButton#link {{ border: 0; background: transparent; color: {p.good}; text-align: left; padding: 3px 0; }}
QPushButton#link:hover, QPushButton#link:focus {{ text-decoration: underline; border: 0; }}
QProgressBar {{ border: 0; background: {p.line}; height: 4px; max-height: 4px; }}
QProgressBar::chunk {{ background: {p.good}; }}
QScrollBar:vertical {{ background: transparent; width: 11px; margin: 0; }}
QScrollBar:horizontal {{ background: transparent; height: 11px; margin: 0; }}
QScrollBar::handle {{ background: {p.field_line}; border-radius: 4px; min-height: 28px; min-width: 28px; margin: 2px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
"""
