"""Ctrl+K: any plan, take, sensor, paper, page of the manual or action, by typing."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter
from PyQt6.QtWidgets import QLineEdit, QWidget

from ...lab.finding_things import Thing, find
from ..parts import theme
from ..parts.forms import Over
from ..parts.widgets import label, small_text

ROW, SHOWN = 34, 11


class Found(QWidget):
    """What was found, one row each; the chosen one is marked."""

    taken = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.rows: Sequence[Thing] = ()
        self.now = 0
        self.setFixedSize(640, ROW * SHOWN)

    def show_rows(self, rows: Sequence[Thing]) -> None:
        self.rows, self.now = rows, 0
        self.update()

    @property
    def first(self) -> int:
        """The row at the top, so that the chosen one is seen."""
        return max(0, self.now - SHOWN + 1)

    def step(self, by: int) -> None:
        self.now = min(max(self.now + by, 0), max(len(self.rows) - 1, 0))
        self.update()

    @property
    def chosen(self) -> Thing | None:
        return self.rows[self.now] if self.rows else None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        at = self.first + int(event.position().y() // ROW) if event is not None else -1
        if 0 <= at < len(self.rows):
            self.now = at
            self.taken.emit()

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        if not self.rows:
            small_text(painter, 10, 24, "Nothing of that name here.", theme.color("muted"), 10)
        for i, thing in enumerate(self.rows[self.first : self.first + SHOWN]):
            box = QRectF(0, i * ROW, self.width(), ROW)
            if self.first + i == self.now:
                painter.fillRect(box, theme.color("selected"))
                painter.fillRect(QRectF(0, box.top(), 3, ROW), theme.color("brass"))
            painter.setFont(theme.font(10, 500))
            title = painter.fontMetrics().elidedText(thing.title, Qt.TextElideMode.ElideMiddle, 300)
            wide = painter.fontMetrics().horizontalAdvance(title)
            small_text(painter, 12, box.top() + 22, title, theme.color("ink"), 10, 500)
            painter.setFont(theme.font(9))
            room = int(self.width() - wide - 110)
            detail = painter.fontMetrics().elidedText(thing.detail, Qt.TextElideMode.ElideRight, max(room, 20))
            small_text(painter, 24 + wide, box.top() + 22, detail, theme.color("muted"), 9)
            small_text(painter, self.width() - 12, box.top() + 22, thing.kind, theme.color("muted"), 9, 400, True)


class Finder(Over):
    """A field and what it finds. `take` gets what was chosen."""

    def __init__(self, parent: QWidget, held: Sequence[Thing], take: Callable[[Thing], object]) -> None:
        super().__init__(parent, (14, 12, 14, 10), 6)
        self.held = held
        self.line = QLineEdit()
        self.line.setPlaceholderText("Find anything: a plan, a take, a sensor, a paper, what to do")
        self.line.setAccessibleName("find anything")
        self.line.textChanged.connect(self._find)
        self.found = Found()
        self.found.taken.connect(self.accept)
        self.column.addWidget(self.line)
        self.column.addWidget(self.found)
        self.column.addWidget(label("Enter opens it · arrows choose · Esc leaves", "muted"))
        self._find("")
        self.line.setFocus()
        self.accepted.connect(lambda: take(self.found.chosen) if self.found.chosen is not None else None)

    def _find(self, text: str) -> None:
        self.found.show_rows(find(self.held, text))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrows choose while the hand stays in the field."""
        steps = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1, Qt.Key.Key_PageDown: SHOWN, Qt.Key.Key_PageUp: -SHOWN}
        if event is not None and event.key() in steps:
            self.found.step(steps[Qt.Key(event.key())])
        elif event is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.accept()
        else:
            super().keyPressEvent(event)
