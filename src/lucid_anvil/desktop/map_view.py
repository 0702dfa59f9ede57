"""A map of spectra over speed: an order cursor and a frequency cursor on it, and the slice of each beside it."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from . import theme
from .chart import Chart, Handle
from .widgets import label

DEPTH = 60.0
"""dB below its highest value at which the map is as pale as the paper"""
NEAR = 12
"""px from the order cursor at which it is taken hold of"""
HARMONICS = 4


def shades() -> pg.ColorMap:
    """From paper over teal to ink."""
    p = theme.palette()
    names = [p.card, p.corridor, p.teal, p.ink]
    return pg.ColorMap([0.0, 0.35, 0.8, 1.0], [pg.mkColor(n) for n in names])


class MapChart(Chart):
    """The map itself."""

    order_moved = pyqtSignal(float)

    def __init__(self) -> None:
        super().__init__("Hz", "rpm", log_x=False)
        self.image = pg.ImageItem(axisOrder="row-major")
        self.image.setZValue(-10)
        self.addItem(self.image)
        self.order = 2.0
        self.lines: list[Any] = []
        self.hold = False
        self.top = (1.0, 1.0)
        self.getPlotItem().getViewBox().setMouseEnabled(False, False)
        self.frequency = Handle(self, 90, lambda f: f"{f:.0f} Hz", 0.05)
        self.mark = pg.TextItem(anchor=(0, 1), color=theme.color("card"), fill=theme.color("brass"))
        self.mark.setFont(theme.font(9.5, 600))
        self.mark.setZValue(45)
        self.addItem(self.mark, ignoreBounds=True)

    def show_rows(self, f: np.ndarray, rpm: np.ndarray, rows: np.ndarray) -> None:
        """`rows` (speeds, lines) rms, `rpm` rising."""
        db = 20 * np.log10(np.maximum(rows, 1e-12))
        high = float(db.max())
        self.image.setLookupTable(shades().getLookupTable(nPts=256))
        self.image.setImage(db, levels=(high - DEPTH, high), autoLevels=False)
        df = float(f[1] - f[0]) if f.size > 1 else 1.0
        dv = float(np.median(np.diff(rpm))) if rpm.size > 1 else 50.0
        self.image.setRect(f[0] - df / 2, rpm[0] - dv / 2, f[-1] - f[0] + df, rpm[-1] - rpm[0] + dv)
        self.top = (float(f[-1] + df / 2), float(rpm[-1] + dv / 2))
        self.window((0.0, self.top[0]), (max(float(rpm[0] - dv / 2), 0.0), self.top[1]))
        self._draw()

    def put_order(self, order: float) -> None:
        self.order = order
        self._draw()

    def _draw(self) -> None:
        for line in self.lines:
            self.removeItem(line)
        self.lines = []
        for k in range(HARMONICS, 0, -1):
            pen = pg.mkPen(theme.color("brass", 255 if k == 1 else 110), width=2.2 if k == 1 else 1.0)
            line = pg.PlotDataItem([0, k * self.order * self.top[1] / 60], [0, self.top[1]], pen=pen)
            line.setZValue(30)
            self.addItem(line, ignoreBounds=True)
            self.lines.append(line)
        self.mark.setText(f"order {self.order:g}")
        box = self.getPlotItem().getViewBox().viewRange()
        at = box[1][0] + 0.8 * (box[1][1] - box[1][0])
        x = self.order * at / 60
        if x > 0.9 * box[0][1]:
            x = 0.88 * box[0][1]
            at = max(60 * x / self.order, box[1][0])
        self.mark.setPos(x, at)

    def _view(self, event: QMouseEvent) -> QPointF:
        return self.getPlotItem().getViewBox().mapSceneToView(self.mapToScene(event.position().toPoint()))

    def _close(self, event: QMouseEvent) -> bool:
        box = self.getPlotItem().getViewBox()
        at = self._view(event)
        line = box.mapViewToScene(QPointF(self.order * at.y() / 60, at.y()))
        return abs(line.x() - self.mapToScene(event.position().toPoint()).x()) < NEAR

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton and self._close(event):
            self.hold = True
            event.accept()
            return
        super().mousePressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if not self.hold:
            super().mouseMoveEvent(event)
            return
        at = self._view(event)
        if at.y() > 1:
            wanted = max(60 * at.x() / at.y(), 0.1)
            half = round(2 * wanted) / 2
            # It snaps to whole and half orders; between them it goes by hundredths.
            order = half if half and abs(wanted - half) < 0.08 else round(wanted, 2)
            self.put_order(order)
            self.order_moved.emit(order)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self.hold:
            self.hold = False
            return
        super().mouseReleaseEvent(event)


class MapView(QWidget):
    """The map, and the slices beside it: along the order, along the frequency."""

    def __init__(self) -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        self.chart = MapChart()
        row.addWidget(self.chart, 3)
        side = QVBoxLayout()
        side.setSpacing(2)
        self.titles = [label("", "small"), label("", "small")]
        self.slices = [Chart("rpm", "dB", log_x=False), Chart("rpm", "dB", log_x=False)]
        for title, chart in zip(self.titles, self.slices, strict=True):
            side.addWidget(title)
            side.addWidget(chart, 1)
        row.addLayout(side, 2)
        self.chart.order_moved.connect(lambda _k: self.cut())
        self.chart.frequency.sigPositionChanged.connect(lambda *_: self.cut())
        self.f = self.rpm = np.zeros(0)
        self.rows = np.zeros((0, 0))
        self.unit = "Pa"
        self.first = True

    def show_map(self, f: Any, rpm: Any, rows: Any, unit: str) -> None:
        """`rows` (speeds, lines) rms in `unit`; what was cut out of it follows."""
        rpm, rows = np.asarray(rpm, float), np.asarray(rows, float)
        self.f, self.unit = np.asarray(f, float), unit
        if rpm.size < 2 or rows.ndim != 2 or rows.shape[1] != self.f.size:
            return
        at = np.argsort(rpm)
        self.rpm, self.rows = rpm[at], rows[at]
        self.chart.show_rows(self.f, self.rpm, self.rows)
        if self.first:
            self.first = False
            self.chart.frequency.put(float(self.f[int(np.argmax(self.rows.mean(axis=0)))]))
        self.cut()

    def level(self, x: np.ndarray) -> np.ndarray:
        by = 20e-6 if self.unit == "Pa" else 1.0
        return np.asarray(20 * np.log10(np.maximum(x, 1e-12) / by))

    def along(self, lines: np.ndarray) -> np.ndarray:
        """The map's level where each speed's line [Hz] is, the largest of it and its neighbours; NaN outside."""
        df = float(self.f[1] - self.f[0])
        i = np.rint((lines - self.f[0]) / df).astype(int)
        inside = (i >= 0) & (i < self.f.size)
        i = np.clip(i, 1, self.f.size - 2)
        rows = np.arange(self.rpm.size)
        best = np.max([self.rows[rows, i + d] for d in (-1, 0, 1)], axis=0)
        return np.where(inside, self.level(best), np.nan)

    def cut(self) -> None:
        """Both slices anew."""
        if self.rpm.size < 2:
            return
        order, f = self.chart.order, self.chart.frequency.get()
        unit = "dB re 20 µPa" if self.unit == "Pa" else f"dB re 1 {self.unit}"
        self.titles[0].setText(f"Order {order:g}, {unit}")
        self.titles[1].setText(f"At {f:.0f} Hz, {unit}")
        self.slices[0].curve("order", self.rpm, self.along(order * self.rpm / 60), "teal", 2.0, f"order {order:g}")
        self.slices[1].curve("line", self.rpm, self.along(np.full(self.rpm.size, f)), "teal", 2.0, f"{f:.0f} Hz")
        for chart in self.slices:
            chart.enableAutoRange()

    def repaint_charts(self) -> None:
        for chart in (self.chart, *self.slices):
            chart.apply_theme()
        if self.rpm.size > 1:
            self.chart.show_rows(self.f, self.rpm, self.rows)
            self.cut()
