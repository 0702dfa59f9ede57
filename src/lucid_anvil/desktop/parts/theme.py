"""Paper and ink: the palette by role, for day and night, and the style sheet made from it.

Brass is what we drive and choose; teal what we measure, and inside; plum what can't be told; clay stop, cut, outside.
"""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtGui import QColor, QFont, QFontDatabase
from PyQt6.QtWidgets import QApplication


@dataclass(frozen=True)
class Palette:
    """Colours by role."""

    ground: str = "#F3EFE6"
    card: str = "#FBF9F4"
    line: str = "#D9D2C3"
    sand: str = "#E9E1D0"
    ink: str = "#23282D"
    muted: str = "#6D726F"
    bar: str = "#2B3036"
    on_bar: str = "#F3EFE6"
    bar_muted: str = "#A9ACA8"
    stop_idle: str = "#F0A592"
    brass: str = "#A8641B"
    brass_light: str = "#DCA04C"
    teal: str = "#0D6E6E"
    plum: str = "#6B4C7A"
    clay: str = "#B3452C"
    corridor: str = "#CFE0D8"
    hatch: str = "#E9CDBD"
    selected: str = "#E9E1D0"


DAY = Palette()
NIGHT = Palette(
    ground="#1B1F23", card="#23282D", line="#3A4147", sand="#343A40", ink="#ECE7DC", muted="#9DA19C",
    bar="#14171A", brass="#D9964A", brass_light="#E5B06D", teal="#4FB3AC", plum="#B394C4", clay="#E27A5E",
    corridor="#20403C", hatch="#4A332B", selected="#343A40",
)  # fmt: skip

_now = [DAY]


def palette() -> Palette:
    """The palette in force."""
    return _now[0]


def use(night: bool) -> None:
    """Choose day or night; faces draw anew afterwards."""
    _now[0] = NIGHT if night else DAY


def color(name: str, alpha: int = 255) -> QColor:
    """A colour of the palette by role."""
    made = QColor(getattr(palette(), name))
    made.setAlpha(alpha)
    return made


def verdict_color(verdict: str) -> QColor:
    return color({"inside": "teal", "outside": "clay", "open": "plum"}.get(verdict, "muted"))


VERDICT_WORDS = {"inside": "inside", "outside": "outside", "open": "can't be told", "none": "not judged"}


def font(size: float = 10, weight: int = 400) -> QFont:
    made = QFont(family())
    made.setPixelSize(round(size * 1.3))
    made.setWeight(QFont.Weight(weight))
    return made


def family() -> str:
    return "Inter" if "Inter" in QFontDatabase.families() else QApplication.font().family()


def style_sheet() -> str:
    """The sheet for the whole window."""
    p = palette()
    return f"""
    QWidget {{ color: {p.ink}; font-family: "{family()}"; font-size: 13px; }}
    QMainWindow, #ground {{ background: {p.ground}; }}
    #card {{ background: {p.card}; border: 1px solid {p.line}; border-radius: 4px; }}
    #section {{ color: {p.muted}; font-size: 11px; font-weight: 600; letter-spacing: 0.6px; }}
    #muted {{ color: {p.muted}; font-size: 12px; }}
    #small {{ font-size: 12px; }}
    #cut {{ color: {p.clay}; font-weight: 600; }}
    #title {{ font-size: 15px; font-weight: 600; }}
    #big {{ font-size: 26px; font-weight: 600; }}
    #bar {{ background: {p.bar}; }}
    #bar QLabel {{ color: {p.on_bar}; }}
    #bar #muted {{ color: {p.bar_muted}; }}
    #place {{ background: transparent; color: {p.bar_muted}; border: none; border-bottom: 4px solid transparent;
              padding: 12px 14px 9px 14px; font-size: 15px; }}
    #place:checked {{ color: {p.on_bar}; font-weight: 600; border-bottom: 4px solid {p.brass_light}; }}
    #place:hover {{ color: {p.on_bar}; }}
    #stop {{ background: transparent; color: {p.stop_idle}; border: 2px solid {p.clay}; border-radius: 3px;
             font-size: 15px; font-weight: 700; padding: 6px 33px; }}
    #stop[live="true"] {{ background: {p.clay}; color: #FFFFFF; }}
    #stop:hover {{ background: #C9553A; color: #FFFFFF; }}
    #stop:disabled {{ background: #4A5057; color: {p.bar_muted}; }}
    #main {{ background: {p.brass}; color: #FFFFFF; border: none; border-radius: 4px; padding: 9px 18px;
             font-weight: 600; }}
    #main:hover {{ background: #BC7425; }}
    #main:disabled {{ background: {p.sand}; color: {p.muted}; }}
    #plain {{ background: {p.card}; border: 1px solid {p.line}; border-radius: 4px; padding: 6px 12px; }}
    #plain:hover {{ border-color: {p.brass}; }}
    #plain:disabled {{ color: {p.muted}; background: {p.ground}; }}
    #tab {{ background: transparent; border: none; border-bottom: 2px solid transparent; color: {p.muted};
            padding: 3px 2px; margin-right: 14px; }}
    #tab:checked {{ color: {p.ink}; font-weight: 600; border-bottom: 2px solid {p.brass}; }}
    #tab:hover {{ color: {p.ink}; }}
    #job {{ background: #363C44; border: 1px solid #4A5058; border-radius: 4px; padding: 6px 10px; color: #D9D4CA;
             text-align: left; font-size: 12px; }}
    #job:hover {{ border-color: #A9AFB5; }}
    #seek {{ background: transparent; border: 1px solid #4A5058; border-radius: 4px; padding: 5px 14px;
             color: #A9AFB5; text-align: left; font-size: 12px; min-width: 150px; }}
    #seek:hover {{ color: #F3EEE6; border-color: #A9AFB5; }}
    QTextBrowser {{ background: {p.card}; border: 1px solid {p.line}; border-radius: 4px; padding: 10px 16px; }}
    #chip {{ background: {p.card}; border: 1px solid {p.line}; border-radius: 10px; padding: 3px 12px;
             color: {p.muted}; font-size: 12px; }}
    #chip:checked {{ background: {p.ink}; color: {p.card}; border-color: {p.ink}; }}
    QLineEdit, QPlainTextEdit, QDoubleSpinBox, QComboBox {{ background: {p.card}; border: 1px solid {p.line};
             border-radius: 3px; padding: 4px 7px; selection-background-color: {p.brass}; }}
    QComboBox::drop-down {{ border: none; width: 20px; }}
    QComboBox::down-arrow {{ width: 0; height: 0; border-left: 4px solid {p.card}; border-right: 4px solid {p.card};
             border-top: 5px solid {p.muted}; }}
    QComboBox QAbstractItemView {{ background: {p.card}; border: 1px solid {p.line}; outline: none;
             selection-background-color: {p.sand};
             selection-color: {p.ink}; }}
    QLineEdit:focus, QPlainTextEdit:focus {{ border-color: {p.brass}; }}
    QTableWidget#breakpoints {{ font-size: 12px; }}
    QTableWidget#breakpoints QLineEdit {{ border-radius: 0; padding: 0 2px; }}
    QTableWidget#breakpoints QComboBox {{ border: none; background: transparent; padding: 0 2px; font-size: 12px; }}
    QHeaderView::section {{ background: transparent; border: none; border-bottom: 1px solid {p.line};
        color: {p.muted}; font-size: 11px; padding: 2px 4px; text-align: left; }}
    QListView, QTableView, QScrollArea, QListWidget, QGraphicsView {{ background: transparent; border: none;
             outline: none; }}
    #clear {{ background: transparent; }}
    QListWidget::item {{ padding: 7px 10px; }}
    QListWidget::item:selected {{ background: {p.selected}; color: {p.ink}; border-left: 3px solid {p.brass}; }}
    QScrollBar:vertical {{ background: transparent; width: 9px; margin: 0; }}
    QScrollBar::handle:vertical {{ background: {p.line}; border-radius: 4px; min-height: 30px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; width: 0; }}
    QScrollBar:horizontal {{ background: transparent; height: 9px; }}
    QScrollBar::handle:horizontal {{ background: {p.line}; border-radius: 4px; }}
    QCheckBox::indicator, QListWidget::indicator {{ width: 13px; height: 13px; border: 1px solid {p.muted};
             border-radius: 3px; background: {p.card}; }}
    QCheckBox::indicator:checked, QListWidget::indicator:checked {{ background: {p.brass}; border-color: {p.brass}; }}
    QToolTip {{ background: {p.ink}; color: {p.card}; border: none; padding: 5px 8px; }}
    QMenu {{ background: {p.card}; border: 1px solid {p.line}; }}
    QMenu::item:selected {{ background: {p.sand}; }}
    QDialog {{ background: {p.ground}; }}
    """
