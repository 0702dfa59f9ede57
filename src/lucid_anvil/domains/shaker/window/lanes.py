"""Lanes: several signals over one time axis, each in a lane of its own with its scale written on it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from ....core.signal.sinefit import Floats
from ....desktop.parts import theme
from ....desktop.parts.widgets import small_text, three


@dataclass(frozen=True)
class Lane:
    """One signal; a second one may lie behind it."""

    name: str
    unit: str
    y: Floats
    role: str = "teal"
    behind: Floats | None = None


class Lanes(QWidget):
    """Painted by itself: at most two extremes a pixel, whatever the length."""

    def __init__(self) -> None:
        super().__init__()
        self.lanes: Sequence[Lane] = ()
        self.span = (0.0, 1.0)
        self.mark: tuple[float, str] | None = None
        self.x_unit = "s"
        self.setMinimumHeight(200)

    def show_lanes(
        self, lanes: Sequence[Lane], span: tuple[float, float], mark: tuple[float, str] | None = None
    ) -> None:
        """`span` [s] of the time axis; `mark` a moment with a word."""
        self.lanes, self.span, self.mark = lanes, span, mark
        self.update()

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not self.lanes:
            small_text(painter, 8, 30, "Nothing is recorded yet.", theme.color("muted"), 10)
            return
        left, bottom = 118.0, 26.0
        width, height = self.width() - left - 8, self.height() - bottom
        each = height / len(self.lanes)
        for i, lane in enumerate(self.lanes):
            box = QRectF(left, i * each + 3, width, each - 6)
            self._lane(painter, lane, box)
        self._axis(painter, QRectF(left, height, width, bottom))
        if self.mark is not None:
            at, word = self.mark
            x = left + width * (at - self.span[0]) / max(self.span[1] - self.span[0], 1e-9)
            painter.setPen(QPen(theme.color("clay"), 1.6))
            painter.drawLine(QPointF(x, 0), QPointF(x, height))
            painter.setFont(theme.font(9, 600))
            wide = painter.fontMetrics().horizontalAdvance(word) + 10
            painter.fillRect(QRectF(x - wide, height - 17, wide, 17), theme.color("clay"))
            small_text(painter, x - 5, height - 4, word, theme.color("card"), 9, 600, True)

    def _lane(self, painter: QPainter, lane: Lane, box: QRectF) -> None:
        painter.fillRect(box, theme.color("ground", 110))
        painter.setPen(QPen(theme.color("line"), 1))
        painter.drawLine(QPointF(box.left(), box.center().y()), QPointF(box.right(), box.center().y()))
        everything = lane.y if lane.behind is None else np.concatenate([lane.y, lane.behind])
        top = float(np.max(np.abs(everything), initial=0.0)) or 1.0
        small_text(painter, 4, box.top() + 15, lane.name, theme.color("ink"), 9.5, 600)
        small_text(painter, 4, box.top() + 31, f"±{three(top)} {lane.unit}", theme.color("muted"), 8.5)
        if lane.behind is not None:
            self._line(painter, lane.behind, top, box, "muted", 1.0)
        self._line(painter, lane.y, top, box, lane.role, 1.5)

    def _line(self, painter: QPainter, y: Floats, top: float, box: QRectF, role: str, width: float) -> None:
        n = y.size
        if n < 2:
            return
        pixels = max(int(box.width()), 10)
        if n > 3 * pixels:
            step = n // pixels
            rows = y[: n // step * step].reshape(-1, step)
            values = np.stack([rows.min(axis=1), rows.max(axis=1)], axis=1).ravel()
        else:
            values = y
        x = box.left() + box.width() * np.arange(values.size) / (values.size - 1)
        v = box.center().y() - values / top * box.height() * 0.46
        painter.setPen(QPen(theme.color(role), width))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolyline(QPolygonF([QPointF(a, b) for a, b in zip(x, v, strict=True)]))

    def _axis(self, painter: QPainter, box: QRectF) -> None:
        low, high = self.span
        step = 10.0 ** np.floor(np.log10(max(high - low, 1e-6) / 3))
        step = next(step * m for m in (1, 2, 5, 10) if (high - low) / (step * m) <= 7)
        first = np.ceil(low / step) * step
        for k in range(12):
            v = first + k * step
            if v > high + 1e-9:
                break
            x = box.left() + box.width() * (v - low) / (high - low)
            painter.setPen(QPen(theme.color("line"), 1))
            painter.drawLine(QPointF(x, box.top()), QPointF(x, box.top() + 5))
            small_text(painter, x + 3, box.top() + 15, f"{v:.4g} {self.x_unit}", theme.color("muted"), 8.5)
