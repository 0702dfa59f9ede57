"""A map of spectra over speed: an order cursor and a frequency cursor on it, and the slice of each beside it."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from ....desktop.parts import theme
from ....desktop.parts.chart import Chart, Handle
from ....desktop.parts.widgets import label

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
        self.rpm = self.at = np.zeros(0)
        self.over = "Hz"
        self.bar = pg.ColorBarItem(values=(0.0, DEPTH), width=12, interactive=True, colorMap=shades(), rounding=1.0)
        self.bar.setImageItem(self.image, insert_in=self.getPlotItem())
        self.bar.sigLevelsChangeFinished.connect(lambda *_: setattr(self, "own_levels", True))
        self.enableAutoRange = self.whole
        self.own_levels = self.zoomed = False
        """Whether somebody set the scale of levels, or looks at a part: both stay while the map grows"""
        self.getPlotItem().getViewBox().sigRangeChangedManually.connect(lambda *_: setattr(self, "zoomed", True))
        self.frequency = Handle(self, 90, lambda f: f"{f:.0f} Hz", 0.05)
        self.mark = pg.TextItem(anchor=(0, 1), color=theme.color("card"), fill=theme.color("brass"))
        self.mark.setFont(theme.font(9.5, 600))
        self.mark.setZValue(45)
        self.addItem(self.mark, ignoreBounds=True)

    def show_rows(self, x: np.ndarray, y: np.ndarray, rows: np.ndarray, rpm: np.ndarray, over: str,
                  reference: float = 1.0) -> None:  # fmt: skip
        """`rows` (lines of y, columns of x) rms, `y` rising; `rpm` of each row; `over` Hz or order; `reference` of the
        levels."""
        if over != self.over:
            self.zoomed = False
        self.rpm, self.at, self.over = rpm, y, over
        db = 20 * np.log10(np.maximum(rows, 1e-12) / reference)
        self.image.setImage(db, autoLevels=False)
        if not self.own_levels:
            high = float(np.ceil(db.max()))
            self.bar.setLevels((high - DEPTH, high))
        dx = float(x[1] - x[0]) if x.size > 1 else 1.0
        dy = float(np.median(np.diff(y))) if y.size > 1 else 1.0
        self.image.setRect(x[0] - dx / 2, y[0] - dy / 2, x[-1] - x[0] + dx, y[-1] - y[0] + dy)
        self.frequency.setVisible(over == "Hz")
        if not self.zoomed:
            self.show_all()
        self._draw()

    def show_all(self) -> None:
        """The whole map."""
        self.zoomed = False
        held = self.image.mapRectToParent(self.image.boundingRect())
        self.window((0.0, held.right()), (held.top(), held.bottom()))

    def whole(self, *_given: Any, **_more: Any) -> None:
        """A double click: the whole map again, its scale of levels too."""
        if self.rpm.size:
            self.own_levels = False
            self.show_all()

    def apply_theme(self) -> None:
        super().apply_theme()
        if hasattr(self, "bar"):
            self.bar.setColorMap(shades())
            axis = self.bar.axis
            axis.setPen(pg.mkPen(theme.palette().line))
            axis.setTextPen(pg.mkPen(theme.palette().muted))
            axis.setTickFont(theme.font(9))

    def put_order(self, order: float) -> None:
        self.order = order
        self._draw()

    def place(self, order: float) -> np.ndarray:
        """x of an order in each row."""
        return order * self.rpm / 60 if self.over == "Hz" else np.full(self.rpm.size, order)

    def _draw(self) -> None:
        for line in self.lines:
            self.removeItem(line)
        self.lines = []
        if not self.rpm.size:
            return
        for k in range(HARMONICS, 0, -1):
            pen = pg.mkPen(theme.color("brass", 255 if k == 1 else 110), width=2.2 if k == 1 else 1.0)
            line = pg.PlotDataItem(self.place(k * self.order), self.at, pen=pen)
            line.setZValue(30)
            self.addItem(line, ignoreBounds=True)
            self.lines.append(line)
        self.mark.setText(f"order {self.order:g}")
        right = self.getPlotItem().getViewBox().viewRange()[0][1]
        x = self.place(self.order)
        inside = np.flatnonzero(x < 0.88 * right)
        i = int(min(inside[np.argmin(np.abs(inside - 0.8 * self.at.size))], self.at.size - 1)) if inside.size else 0
        self.mark.setPos(float(x[i]), float(self.at[i]))

    def _view(self, event: QMouseEvent) -> QPointF:
        return self.getPlotItem().getViewBox().mapSceneToView(self.mapToScene(event.position().toPoint()))

    def _close(self, event: QMouseEvent) -> bool:
        if not self.rpm.size:
            return False
        box = self.getPlotItem().getViewBox()
        at = self._view(event)
        line = box.mapViewToScene(QPointF(float(np.interp(at.y(), self.at, self.place(self.order))), at.y()))
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
        rpm = float(np.interp(at.y(), self.at, self.rpm))
        if rpm > 1:
            wanted = max(60 * at.x() / rpm if self.over == "Hz" else at.x(), 0.1)
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
        self.upward: np.ndarray = np.zeros(0)
        self.rows = np.zeros((0, 0))
        self.unit = "Pa"
        self.first = True

    def show_map(self, x: Any, rpm: Any, rows: Any, unit: str, times: Any = None, over: str = "Hz", up: str = "rpm"
                 ) -> None:  # fmt: skip
        """`rows` (speeds, lines) rms in `unit` over `x` in Hz or orders (`over`); upwards the speed, or the `times`
        where `up` is s. What was cut out of it follows."""
        rpm, rows = np.asarray(rpm, float), np.asarray(rows, float)
        self.f, self.unit = np.asarray(x, float), unit
        if rpm.size < 2 or rows.ndim != 2 or rows.shape[1] != self.f.size:
            return
        y = np.asarray(times, float) if up == "s" and times is not None else rpm
        at = np.argsort(y)
        self.rpm, self.rows, self.upward = rpm[at], rows[at], y[at]
        self.chart.x_unit, self.chart.y_unit = ("Hz" if over == "Hz" else "order"), ("s" if y is not rpm else "rpm")
        for chart in self.slices:
            chart.x_unit = self.chart.y_unit
            chart.apply_theme()
        self.chart.apply_theme()
        self.chart.show_rows(self.f, self.upward, self.rows, self.rpm, over, self.reference)
        if self.first and over == "Hz":
            self.first = False
            far = self.f.size // 4
            self.chart.frequency.put(float(self.f[far + int(np.argmax(self.rows.mean(axis=0)[far:]))]))
        self.cut()

    @property
    def reference(self) -> float:
        return 20e-6 if self.unit == "Pa" else 1.0

    def level(self, x: np.ndarray) -> np.ndarray:
        return np.asarray(20 * np.log10(np.maximum(x, 1e-12) / self.reference))

    def begin(self) -> None:
        """Nothing was set or looked at yet."""
        self.chart.own_levels = self.chart.zoomed = False

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
        self.slices[0].curve("order", self.upward, self.along(self.chart.place(order)), "teal", 2.0, f"order {order:g}")
        self.slices[1].drop("line", "all")
        if self.chart.over == "Hz":
            self.slices[1].curve(
                "line", self.upward, self.along(np.full(self.upward.size, f)), "teal", 2.0, f"{f:.0f} Hz"
            )
        else:
            self.titles[1].setText(f"All speeds, {unit} over orders")
            mean = self.level(np.sqrt(np.mean(self.rows**2, axis=0)))
            self.slices[1].x_unit = "order"
            self.slices[1].apply_theme()
            self.slices[1].curve("all", self.f, mean, "teal", 1.6, "all speeds")
        for chart in self.slices:
            chart.enableAutoRange()

    def repaint_charts(self) -> None:
        for chart in (self.chart, *self.slices):
            chart.apply_theme()
        if self.rpm.size > 1:
            self.chart.show_rows(self.f, self.upward, self.rows, self.rpm, self.chart.over, self.reference)
            self.cut()
