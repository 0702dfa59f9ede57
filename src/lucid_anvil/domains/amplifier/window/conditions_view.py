"""The conditions of an amplifier's run along its time: supply in its window, loads against what they bear."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from ....desktop.parts import theme
from ....desktop.parts.widgets import small_text

MOST = 900
"""Points that are kept of a course"""


class ConditionsView(QWidget):
    """Two strips side by side: volts in their window, degrees below their limit."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(62)
        self.edges, self.nominal, self.limit = (227.7, 232.3), 230.0, 120.0
        self.t: list[float] = []
        self.volts: list[float] = []
        self.heat: list[list[float]] = []
        self.names: list[str] = []

    def begin(self, edges: tuple[float, float], nominal: float, limit: float) -> None:
        """A new course with its window [V] and the loads' limit [°C]."""
        self.edges, self.nominal, self.limit = edges, nominal, limit
        self.t, self.volts, self.heat = [], [], []
        self.update()

    def add(self, t: float, shown: dict[str, Any]) -> None:
        """What the instruments show at t [s]."""
        if self.t and t <= self.t[-1]:
            return
        self.names = list(shown["temperature"])
        self.t.append(t)
        self.volts.append(float(shown["supply"]))
        self.heat.append([float(v) for v in shown["temperature"].values()])
        if len(self.t) > 2 * MOST:
            self.t, self.volts, self.heat = self.t[::2], self.volts[::2], self.heat[::2]
        self.update()

    def show_events(self, events: Sequence[dict[str, Any]]) -> None:
        """The whole course, from a take's record."""
        held = [e for e in events if e["kind"] == "conditions"]
        for e in held[:: max(len(held) // MOST, 1)]:
            self.add(float(e["t"]), e)

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        half = self.width() * 0.56
        span = max(self.nominal - self.edges[0], 0.1)
        now = f"{self.volts[-1]:.1f} V" if self.volts else "–"
        out = bool(self.volts) and not self.edges[0] <= self.volts[-1] <= self.edges[1]
        self._strip(painter, QRectF(0, 0, half - 14, self.height()), "Supply", now, "plum" if out else "ink",
                    (self.nominal - 2.2 * span, self.nominal + 2.2 * span), [self.volts], self.edges)  # fmt: skip
        hot = max(self.heat[-1]) if self.heat else None
        courses = [list(c) for c in zip(*self.heat, strict=True)] if self.heat else []
        top = max(1.1 * self.limit, 40)
        self._strip(painter, QRectF(half, 0, self.width() - half, self.height()), "Loads",
                    "–" if hot is None else f"{hot:.0f} °C", "clay" if hot and hot > self.limit else "ink",
                    (15.0, top), courses, (15.0, self.limit))  # fmt: skip

    def _strip(self, painter: QPainter, box: QRectF, title: str, now: str, role: str, span: tuple[float, float],
               courses: list[list[float]], window: tuple[float, float]) -> None:  # fmt: skip
        small_text(painter, box.left(), 14, title, theme.color("muted"), 8.5)
        small_text(painter, box.left(), 38, now, theme.color(role), 14, 600)
        plot = box.adjusted(82, 4, -34, -4)

        def y(v: float) -> float:
            return float(plot.bottom() - np.clip((v - span[0]) / (span[1] - span[0]), 0, 1) * plot.height())

        painter.fillRect(plot, theme.color("sand", 70))
        painter.fillRect(QRectF(plot.left(), y(window[1]), plot.width(), y(window[0]) - y(window[1])),
                         theme.color("corridor", 170))  # fmt: skip
        if len(self.t) > 1:
            last = max(self.t[-1], 1e-3)
            for course, colour in zip(courses, ("teal", "ink"), strict=False):
                points = [
                    QPointF(plot.left() + t / last * plot.width(), y(v)) for t, v in zip(self.t, course, strict=False)
                ]
                painter.setPen(QPen(theme.color(colour), 1.4))
                painter.drawPolyline(QPolygonF(points))
        edge = f"{window[1]:.1f}" if title == "Supply" else f"{window[1]:.0f}"
        small_text(painter, plot.right() + 4, y(window[1]) + 7, edge, theme.color("muted"), 7.5)
        if title == "Supply":
            small_text(painter, plot.right() + 4, y(window[0]) + 1, f"{window[0]:.1f}", theme.color("muted"), 7.5)
