"""The course of a shaker test: stretches along time, the frequency's way drawn in each, and the playhead."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from functools import partial

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QContextMenuEvent, QMouseEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QLineEdit, QWidget

from ...contracts.method import CourseItem
from ..parts import theme
from ..parts.spots import Spot
from ..parts.widgets import small_text
from .course_view import clock

EDGE = 7
"""px from a block's right edge within which it is taken hold of."""


def in_words(text: str, room: float, width: Callable[[str], float]) -> list[str]:
    """A label in at most two lines of whole words; empty where not even that fits, so that a number may stand there.
    The last line loses whole words first."""
    if width(text) <= room:
        return [text]
    lines: list[str] = [""]
    for word in text.split():
        longer = f"{lines[-1]} {word}".strip()
        if width(longer) <= room:
            lines[-1] = longer
        elif width(word) > room or len(lines) == 2:
            break
        else:
            lines.append(word)
    while lines and lines[-1].rpartition(" ")[2] in ("of", "at", "to", "against", "and", "with"):
        lines[-1] = lines[-1].rpartition(" ")[0]
        lines = [line for line in lines if line]
    return [line for line in lines if line]


class StretchView(QWidget):
    """Blocks as wide as they take; a right edge is dragged, or a duration typed after a double click."""

    stretched = pyqtSignal(int, float)
    """item and its new duration [s]"""
    asked = pyqtSignal(int, object)
    """item, and the point of the screen where it was asked for: what can be done with it"""

    def __init__(self) -> None:
        super().__init__()
        self.items: Sequence[CourseItem] = ()
        self.now: int | None = None
        self.share = 0.0
        self.done: set[int] = set()
        self.editable = False
        self.dragged: int | None = None
        self.factor = 1.0
        self.entry: QLineEdit | None = None
        self.setFixedHeight(74)
        self.setMouseTracking(True)

    def show_course(self, items: Sequence[CourseItem], editable: bool) -> None:
        self.items, self.editable = items, editable
        self.now, self.done = None, set()
        self.update()

    def show_progress(self, now: int | None, share: float, all_done: bool = False) -> None:
        """`now` is the item that runs and `share` how far it is."""
        self.now, self.share = now, share
        self.done = set(range(len(self.items) if all_done else now or 0))
        self.update()

    @property
    def total(self) -> float:
        return sum(i.duration for i in self.items)

    def boxes(self) -> list[QRectF]:
        durations = [i.duration * (self.factor if k == self.dragged else 1.0) for k, i in enumerate(self.items)]
        total = max(sum(durations), 1e-9)
        gap = 3.0
        room = self.width() - gap * (len(durations) - 1)
        least = min(64.0, room / max(len(durations), 1) * 0.6)
        rest = room - least * len(durations)
        made, x = [], 0.0
        for d in durations:
            width = least + rest * d / total
            made.append(QRectF(x, 8, width, self.height() - 10))
            x += width + gap
        return made

    def _edge_at(self, x: float) -> int | None:
        for k, box in enumerate(self.boxes()):
            if abs(box.right() - x) < EDGE and k > 0:
                return k
        return None

    def spots(self) -> list[Spot]:
        """What can be done with a stretch is asked for; its duration is typed there too."""
        return [Spot(box, None, partial(self.asked.emit, k)) for k, box in enumerate(self.boxes()) if self.editable]

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self.editable:
            self.dragged = self._edge_at(event.position().x())
            self.factor = 1.0

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        x = event.position().x()
        if self.dragged is not None:
            box = self.boxes()[self.dragged]
            self.factor = min(max(self.factor * max(x - box.left(), 8.0) / box.width(), 0.1), 20.0)
            self.update()
            return
        edge = self._edge_at(x) if self.editable else None
        self.setCursor(Qt.CursorShape.SizeHorCursor if edge is not None else Qt.CursorShape.ArrowCursor)
        for item, box in zip(self.items, self.boxes(), strict=True):
            if box.contains(event.position()):
                self.setToolTip(f"{item.label}, {clock(item.duration)}")

    def mouseReleaseEvent(self, _event: QMouseEvent) -> None:
        if self.dragged is not None and abs(self.factor - 1) > 0.01:
            self.stretched.emit(self.dragged, self.items[self.dragged].duration * self.factor)
        self.dragged, self.factor = None, 1.0
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Type a duration on a block."""
        self.dragged = None
        if not self.editable:
            return
        for k, box in enumerate(self.boxes()):
            if k > 0 and box.contains(event.position()):
                entry = QLineEdit(f"{self.items[k].duration:.0f} s", self)
                entry.setGeometry(int(box.left()) + 4, 30, max(int(box.width()) - 8, 70), 26)
                entry.returnPressed.connect(lambda k=k, e=entry: self._typed(k, e.text()))
                entry.editingFinished.connect(entry.deleteLater)
                entry.show()
                entry.setFocus()
                entry.selectAll()
                self.entry = entry

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        """A right click, or the menu key."""
        if event is None or not self.editable:
            return
        for k, box in enumerate(self.boxes()):
            if box.contains(event.pos().toPointF()):
                self.asked.emit(k, event.globalPos())

    def _typed(self, k: int, text: str) -> None:
        from ...core.errors import BadInput
        from ...core.quantities import parse

        try:
            self.stretched.emit(k, parse(text, "s"))
        except BadInput:
            return

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        f = [v for i in self.items for v in (i.frequency, i.until) if v]
        low = math.log(min(f, default=10.0))
        high = max(math.log(max(f, default=1000.0)), low + 0.1)
        for k, (item, box) in enumerate(zip(self.items, self.boxes(), strict=True)):
            current = k == self.now
            fill = "card" if current else "corridor" if k in self.done else "sand"
            painter.setPen(QPen(theme.color("brass" if current else "line"), 1.6 if current else 1))
            painter.setBrush(theme.color(fill))
            painter.drawRoundedRect(box.adjusted(0.5, 0.5, -0.5, -0.5), 3, 3)
            weight = 600 if current else 500
            painter.setFont(theme.font(9, weight))
            lines = in_words(item.label, box.width() - 10, painter.fontMetrics().horizontalAdvance)
            for row, text in enumerate(lines or [str(k + 1)]):
                small_text(painter, box.left() + 6, box.top() + 15 + 12 * row, text, theme.color("ink"), 9, weight)
            time_text = clock(item.duration * (self.factor if k == self.dragged else 1.0))
            if len(lines) == 1 and painter.fontMetrics().horizontalAdvance(time_text) < box.width() - 8:
                small_text(painter, box.left() + 6, box.top() + 31, time_text, theme.color("muted"), 8.5)
            self._way(painter, item, box, low, high, k in self.done, self.share if current else None)
            if current:
                x = box.left() + box.width() * min(max(self.share, 0.0), 1.0)
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(theme.color("ink"))
                painter.drawPolygon(QPolygonF([QPointF(x - 6, 0), QPointF(x + 6, 0), QPointF(x, 8)]))
                painter.setPen(QPen(theme.color("ink"), 1.6))
                painter.drawLine(QPointF(x, 8), QPointF(x, self.height() - 1))

    def _way(self, painter: QPainter, item: CourseItem, box: QRectF, low: float, high: float, done: bool,
             share: float | None) -> None:  # fmt: skip
        """The frequency from start to end, or a bar for what has none."""

        def y(f: float) -> float:
            return box.bottom() - 6 - (math.log(f) - low) / (high - low) * (box.height() - 44)

        a = QPointF(box.left() + 5, y(item.frequency) if item.frequency else box.bottom() - 9)
        end = item.until or item.frequency
        b = QPointF(box.right() - 5, y(end) if end else box.bottom() - 9)
        painter.setPen(QPen(theme.color("teal" if done else "muted"), 2.4 if done else 1.3))
        painter.drawLine(a, b)
        if share is not None:
            painter.setPen(QPen(theme.color("teal"), 2.4))
            painter.drawLine(a, a + (b - a) * min(max(share, 0.0), 1.0))
