"""Help: the manual in a window of its own, and what is under the pointer explained (F1)."""

from __future__ import annotations

from importlib.resources import files

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QCursor
from PyQt6.QtWidgets import QApplication, QHBoxLayout, QLineEdit, QListWidget, QTextBrowser, QVBoxLayout, QWidget

from ..parts import theme
from ..parts.widgets import label

FIRST = "first-day.md"
MISSING = "The manual is not there: install the program anew."


def pages() -> dict[str, str]:
    """All pages of the manual by their file's name: those written by hand first."""
    place = files("lucid_anvil") / "data" / "manual"
    found = {p.name: p.read_text(encoding="utf-8") for p in place.iterdir() if p.name.endswith(".md")}
    order = sorted(found, key=lambda n: (n != FIRST, n.startswith("method-"), n))
    return {name: found[name] for name in order}


def title_of(text: str) -> str:
    return next((line[2:] for line in text.splitlines() if line.startswith("# ")), "")


def topic_at(widget: QWidget | None) -> tuple[str, str] | None:
    """Page and heading that explain a widget, or the nearest one around it that says so."""
    while widget is not None:
        told = widget.property("help")
        if isinstance(told, str) and told:
            page, _, heading = told.partition("#")
            return page, heading
        widget = widget.parentWidget()
    return None


class HelpWindow(QWidget):
    """The manual: pages at the left, found by their words; the page at the right."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Window)
        self.setWindowTitle("Manual")
        self.setObjectName("ground")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.resize(940, 680)
        self.setStyleSheet(theme.style_sheet())
        self.held = pages()
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 12, 12, 12)
        column = QVBoxLayout()
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find in the manual")
        self.search.setAccessibleName("find in the manual")
        self.search.setFixedWidth(240)
        self.search.textChanged.connect(self._sift)
        column.addWidget(self.search)
        self.list = QListWidget()
        self.list.setFixedWidth(240)
        self.list.currentRowChanged.connect(self._chosen)
        column.addWidget(self.list, 1)
        column.addWidget(label("F1 explains what is under the pointer", "muted"))
        row.addLayout(column)
        self.page = QTextBrowser()
        self.page.setOpenLinks(False)
        self.page.anchorClicked.connect(lambda url: self.open(url.fileName(), url.fragment()))
        row.addWidget(self.page, 1)
        self.shown: list[str] = []
        self._sift("")

    def _sift(self, text: str) -> None:
        words = text.lower().split()
        self.shown = [n for n, page in self.held.items() if all(w in page.lower() for w in words)]
        self.list.blockSignals(True)
        self.list.clear()
        self.list.addItems([title_of(self.held[n]) for n in self.shown])
        self.list.blockSignals(False)
        if self.shown:
            self.list.setCurrentRow(0)
        if words:
            self.page.find(words[0])

    def _chosen(self, at: int) -> None:
        if 0 <= at < len(self.shown):
            self.page.setMarkdown(self.held[self.shown[at]])

    def open(self, name: str, heading: str = "") -> None:
        """A page, at a heading or at the first place where its words stand."""
        self.search.clear()
        if name not in self.held:
            name = FIRST
        self.list.setCurrentRow(self.shown.index(name))
        self.page.setMarkdown(self.held.get(name, MISSING))
        if heading:
            self.page.find(heading)
        self.show()
        self.raise_()


def widget_under_pointer() -> QWidget | None:
    return QApplication.widgetAt(QCursor.pos()) or QApplication.focusWidget()
