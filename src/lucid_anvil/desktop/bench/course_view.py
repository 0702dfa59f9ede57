"""The course: the plan along time, with its playhead; its ends are edited by dragging."""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import partial

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from ...contracts.method import CourseItem
from ..parts import theme
from ..parts.chart import frequency_text
from ..parts.spots import Spot
from ..parts.widgets import small_text


def clock(seconds: float) -> str:
    m, s = divmod(round(seconds), 60)
    h, m = divmod(m, 60)
    return f"{h} h {m:02d} min" if h else f"{m} min {s:02d} s" if m else f"{s} s"


class CourseView(QWidget):
    """One block a step, as wide as it takes, its frequency as a step of a staircase."""

    chosen = pyqtSignal(float)

    def __init__(self) -> None:
        super().__init__()
        self.items: Sequence[CourseItem] = ()
        self.done: dict[float, str] = {}
        """Frequency -> inside, struck"""
        self.now: float | None = None
        self.progress: float | None = None
        self.setFixedHeight(74)
        self.setMouseTracking(True)

    def show_course(self, items: Sequence[CourseItem]) -> None:
        self.items = items
        self.update()

    def show_progress(self, now: float | None, done: dict[float, str], running: bool) -> None:
        self.now, self.done = now, done
        self.running = running
        self.update()

    running = False

    @property
    def total(self) -> float:
        return sum(i.duration for i in self.items)

    def _boxes(self) -> list[QRectF]:
        total = max(self.total, 1e-9)
        gap = 2.0
        room = self.width() - gap * (len(self.items) - 1)
        # Time decides the width, but a step that can't be hit by a finger is no use: each has a least width.
        least = room / max(len(self.items), 1) * 0.55
        rest = room - least * len(self.items)
        made, x = [], 0.0
        for item in self.items:
            width = least + rest * item.duration / total
            made.append(QRectF(x, 8, width, self.height() - 10))
            x += width + gap
        return made

    def spots(self) -> list[Spot]:
        made = zip(self.items, self._boxes(), strict=True)
        return [Spot(box, partial(self.chosen.emit, item.frequency)) for item, box in made if item.frequency]

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for item, box in zip(self.items, self._boxes(), strict=True):
            if box.contains(event.position()) and item.frequency:
                self.chosen.emit(item.frequency)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        for item, box in zip(self.items, self._boxes(), strict=True):
            if box.contains(event.position()):
                level = f", {item.level:.3g} m/s²" if item.level else ""
                why = f" (all that the {item.limited_by} allows)" if item.limited_by else ""
                if item.label == "Gain ratio":
                    self.setToolTip("One signal to both inputs: takes the ratio of their gains out of the result")
                    continue
                self.setToolTip(f"{item.label}{level}{why}, {item.duration:.1f} s")

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        boxes = self._boxes()
        frequencies = [i.frequency for i in self.items if i.frequency]
        low = math.log(min(frequencies, default=10.0))
        high = max(math.log(max(frequencies, default=1e4)), low + 0.1)
        for item, box in zip(self.items, boxes, strict=True):
            current = self.running and (item.frequency == self.now or (item.frequency is None and self.now is None))
            state = self.done.get(item.frequency or -1.0)
            fill = theme.color("corridor") if state == "done" else theme.color("card" if current else "sand")
            if state == "struck":
                fill = theme.color("plum", 60)
            painter.setPen(QPen(theme.color("brass" if current else "line"), 1.6 if current else 1))
            painter.setBrush(fill)
            painter.drawRoundedRect(box.adjusted(0.5, 0.5, -0.5, -0.5), 3, 3)
            if item.frequency:
                share = (math.log(item.frequency) - low) / (high - low)
                y = box.bottom() - 6 - share * (box.height() - 26)
                role = "teal" if state == "done" else "plum" if state == "struck" else "brass" if current else "muted"
                painter.setPen(QPen(theme.color(role), 2.4 if state or current else 1.4))
                painter.drawLine(QPointF(box.left() + 4, y), QPointF(box.right() - 4, y))
                text = frequency_text(item.frequency)
            else:
                text = item.label
            painter.setFont(theme.font(8))
            if painter.fontMetrics().horizontalAdvance(text) < box.width() - 2:
                small_text(painter, box.left() + 3, box.top() + 12, text, theme.color("ink" if current else "muted"), 8)
            if current:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(theme.color("ink"))
                x = box.center().x()
                painter.drawPolygon(QPolygonF([QPointF(x - 6, 0), QPointF(x + 6, 0), QPointF(x, 8)]))
                painter.setPen(QPen(theme.color("ink"), 1.6))
                painter.drawLine(QPointF(x, 8), QPointF(x, self.height() - 1))
