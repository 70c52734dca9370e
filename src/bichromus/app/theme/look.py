"""The three themes, the font, and the colours of the channel tags."""

from __future__ import annotations

from dataclasses import dataclass
from importlib.resources import files
from typing import Final

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QColor, QFont, QFontDatabase
from PyQt6.QtWidgets import QApplication


@dataclass(frozen=True)
class Theme:
    """Neutral greys, one accent for what wants a decision; ``red_only`` also turns pictures red."""

    id: str
    title: str
    ground: str
    panel: str
    raised: str
    line: str
    text: str
    muted: str
    faint: str
    strong: str
    accent: str
    stage: str
    red_only: bool = False


THEMES: Final = {
    t.id: t
    for t in (
        Theme(
            "dusk",
            "Dusk",
            "#171717",
            "#1b1b1b",
            "#272727",
            "#2f2f2f",
            "#d2d2d2",
            "#9a9a9a",
            "#5c5c5c",
            "#f4f4f4",
            "#e8a33d",
            "#0b0b0b",
        ),
        Theme(
            "red",
            "Red light",
            "#0b0000",
            "#0f0000",
            "#220000",
            "#2e0000",
            "#d23a2a",
            "#a82a1e",
            "#5a130d",
            "#ff5a44",
            "#ff5a44",
            "#050000",
            True,
        ),
        Theme(
            "day",
            "Day",
            "#e9e9e9",
            "#f3f3f3",
            "#ffffff",
            "#cfcfcf",
            "#2a2a2a",
            "#5d5d5d",
            "#a8a8a8",
            "#000000",
            "#9a5b00",
            "#bdbdbd",
        ),
    )
}

_TAGS: Final = {
    "S2": "#b5384f",
    "Ha": "#d9544d",
    "O3": "#35a79c",
    "Hb": "#4aa3e0",
    "R": "#b9746c",
    "G": "#7f9f74",
    "B": "#7288b8",
    "L": "#d8d8d8",
    "C": "#c9b48a",
}
HATCHED: Final = ("S2",)
THIN: Final = ("R", "G", "B")


class Look(QObject):
    """The theme in use. ``changed`` is emitted after a switch."""

    changed = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.theme = THEMES["dusk"]

    def use(self, theme_id: str) -> None:
        """Take another theme, and tell everyone.

        To replace a style sheet costs Qt five times as much as to take it off and set another: it
        then works each of a thousand widgets out again several times (2.0 s with the demo open,
        .35 this way; the pixels are the same).
        """
        self.theme = THEMES.get(theme_id, THEMES["dusk"])
        app = QApplication.instance()
        if isinstance(app, QApplication):
            app.setStyleSheet("")
            app.setStyleSheet(style_sheet(self.theme))
        self.changed.emit()


LOOK: Final = Look()


def tag_colour(channel: str) -> QColor:
    """Colour of a channel's tag; in red light only its lightness is kept."""
    colour = QColor(_TAGS.get(channel.partition("+")[0], "#999999"))
    if LOOK.theme.red_only:
        grey = round(0.2126 * colour.red() + 0.7152 * colour.green() + 0.0722 * colour.blue())
        return QColor(min(90 + grey, 255), round(grey * 0.12), round(grey * 0.10))
    if LOOK.theme.id == "day":
        return colour.darker(125)
    return colour


def load_fonts() -> None:
    """Register the shipped font and make it the application's."""
    folder = files("bichromus").joinpath("fonts")
    for name in ("Inter-Regular.otf", "Inter-Medium.otf", "Inter-SemiBold.otf"):
        QFontDatabase.addApplicationFontFromData(folder.joinpath(name).read_bytes())
    QApplication.setFont(font())


def font(points: float = 10.0, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
    """The shipped sans with tabular figures. ``points`` are pixels / 1.3."""
    made = QFont("Inter")
    made.setPixelSize(max(9, round(points * 1.3)))
    made.setWeight(weight)
    made.setFeature(QFont.Tag("tnum"), 1)
    return made


def _tick(t: Theme) -> str:
    """The tick of a checked box, dark on a light one and light on a dark one."""
    kind = "dark" if QColor(t.text).lightness() > QColor(t.panel).lightness() else "light"
    found = files("bichromus.app.theme").joinpath("icons", f"tick-{kind}.svg")
    return str(found).replace("\\", "/")


def style_sheet(t: Theme) -> str:
    """Everything that is not painted by hand."""
    return f"""
    QWidget {{ background: {t.panel}; color: {t.text}; font-family: Inter; font-size: 13px; }}
    QMainWindow, #ground {{ background: {t.ground}; }}
    #rule {{ background: {t.line}; }}
    #sheet {{ background: {t.raised}; border: 1px solid {t.muted}; border-radius: 6px; }}
    #sheet QWidget {{ background: transparent; }}
    #sheet QLineEdit, #sheet QListWidget {{ background: {t.ground}; }}
    QLabel {{ background: transparent; }}
    QLabel[role="title"] {{ color: {t.strong}; font-weight: 600; font-size: 15px; }}
    QLabel[role="head"] {{ color: {t.strong}; font-weight: 600; }}
    QLabel[role="muted"] {{ color: {t.muted}; font-size: 12px; }}
    QLabel[role="wants"] {{ color: {t.accent}; }}
    QLabel[role="figure"] {{ color: {t.strong}; }}
    QPushButton {{ background: {t.raised}; border: 1px solid {t.line}; border-radius: 4px;
        padding: 5px 12px; }}
    QPushButton:hover {{ border-color: {t.muted}; }}
    QPushButton:focus, QComboBox:focus, QLineEdit:focus {{ border-color: {t.text}; }}
    QPushButton:disabled {{ color: {t.faint}; }}
    QPushButton[role="primary"] {{ background: {t.text}; color: {t.ground}; font-weight: 600;
        border: 0;
        padding: 8px 14px; }}
    QPushButton[role="primary"]:hover {{ background: {t.strong}; }}
    QPushButton[role="primary"]:focus {{ border: 2px solid {t.muted}; }}
    QPushButton[role="primary"]:disabled {{ background: {t.raised}; color: {t.faint}; }}
    QPushButton[role="link"] {{ background: transparent; border: 0; color: {t.accent};
        padding: 2px 6px;
        text-decoration: underline; }}
    QPushButton[role="link"]:focus {{ color: {t.strong}; }}
    QPushButton[role="fold"] {{ background: transparent; border: 0; color: {t.strong};
        font-weight: 600; padding: 0;
        text-align: left; }}
    QPushButton[role="fold"]:hover, QPushButton[role="fold"]:focus {{ text-decoration: underline; }}
    QPushButton[role="quiet"] {{ background: transparent; border: 0; color: {t.muted};
        padding: 2px 6px; }}
    QPushButton[role="quiet"]:hover, QPushButton[role="quiet"]:focus {{ color: {t.strong}; }}
    QPushButton[role="choice"] {{ text-align: left; padding: 3px 9px; background: transparent; }}
    QPushButton[role="choice"]:checked {{ background: {t.line}; color: {t.strong};
        border-color: {t.muted}; }}
    QPushButton[role="chip"] {{ padding: 3px 4px; background: transparent; }}
    QPushButton[role="chip"]:checked {{ background: {t.line}; color: {t.strong};
        border-color: {t.muted}; font-weight: 600; }}
    QPushButton[role="ask"] {{ border-color: {t.accent}; color: {t.accent}; }}
    QComboBox {{ background: {t.raised}; border: 1px solid {t.line}; border-radius: 4px;
        padding: 4px 8px; }}
    QComboBox::drop-down {{ border: 0; width: 18px; }}
    QComboBox QAbstractItemView {{ background: {t.raised}; border: 1px solid {t.line};
        selection-background-color: {t.line}; selection-color: {t.strong}; }}
    QLineEdit, QPlainTextEdit, QTextEdit {{ background: {t.ground}; border: 1px solid {t.line};
        border-radius: 4px;
        padding: 4px 6px; selection-background-color: {t.muted}; }}
    QListWidget {{ background: {t.panel}; border: 0; outline: 0; }}
    QListWidget::item {{ padding: 6px 8px; }}
    QListWidget::item:selected {{ background: {t.raised}; color: {t.strong}; }}
    QTableWidget {{ background: {t.panel}; border: 0; outline: 0;
        selection-background-color: {t.line}; selection-color: {t.strong}; }}
    QTableWidget::item {{ padding: 2px 8px; border: 0; }}
    QTableWidget::item:selected {{ background: {t.line}; color: {t.strong}; }}
    QHeaderView, QHeaderView::section {{ background: {t.panel}; color: {t.muted}; border: 0;
        padding: 4px 8px; font-size: 12px; }}
    QCheckBox, QRadioButton {{ spacing: 8px; background: transparent; }}
    QCheckBox::indicator, QRadioButton::indicator {{ width: 13px; height: 13px;
        border: 1px solid {t.muted};
        background: transparent; }}
    QCheckBox::indicator {{ border-radius: 3px; }}
    QRadioButton::indicator {{ border-radius: 7px; }}
    QCheckBox::indicator:checked, QRadioButton::indicator:checked {{ background: {t.text};
        border-color: {t.text}; }}
    QCheckBox::indicator:checked {{ image: url("{_tick(t)}"); }}
    QCheckBox:focus, QRadioButton:focus {{ color: {t.strong}; }}
    QScrollArea, QScrollArea > QWidget > QWidget {{ background: {t.panel}; border: 0; }}
    QScrollBar:vertical {{ background: transparent; width: 8px; margin: 0; }}
    QScrollBar::handle:vertical {{ background: {t.line}; border-radius: 4px; min-height: 30px; }}
    QScrollBar:horizontal {{ background: transparent; height: 8px; }}
    QScrollBar::handle:horizontal {{ background: {t.line}; border-radius: 4px; min-width: 30px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
    QToolTip {{ background: {t.raised}; color: {t.text}; border: 1px solid {t.line};
        padding: 4px 6px; }}
    QDialog {{ background: {t.panel}; }}
    QMenu {{ background: {t.raised}; border: 1px solid {t.line}; padding: 4px; }}
    QMenu::item {{ padding: 5px 18px; background: transparent; }}
    QMenu::item:selected {{ background: {t.line}; color: {t.strong}; }}
    QMenu::item:disabled {{ color: {t.faint}; }}
    """
