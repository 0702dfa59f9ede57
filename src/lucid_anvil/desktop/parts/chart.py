"""Charts on pyqtgraph in our look: corridor, whiskers, cursor read-out, copy as picture and as table."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPoint, QPointF, QRectF, Qt
from PyQt6.QtGui import QBrush, QColor, QGuiApplication, QPainter, QPen, QPixmap
from PyQt6.QtWidgets import QFileDialog, QMenu

from . import theme
from .copying import Row, put
from .spots import Spot

pg.setConfigOptions(antialias=True, useNumba=False)

MANY = 10_000
"""Points above which a curve is drawn piece by piece, whatever it is"""


def frequency_text(f: float) -> str:
    return f"{f:g}" if f < 1000 else f"{f / 1000:g}k"


class FrequencyAxis(pg.AxisItem):
    """Ticks at 1, 2, 5 of each decade; the plot's x is log10 of the frequency."""

    def tickValues(self, low: float, high: float, _size: float) -> list[tuple[float, list[float]]]:
        values = [np.log10(m * 10.0**d) for d in range(-2, 6) for m in (1, 2, 5)]
        return [(1.0, [v for v in values if low - 1e-6 <= v <= high + 1e-6])]

    def tickStrings(self, values: Sequence[float], _scale: float, _spacing: float) -> list[str]:
        return [frequency_text(round(10**v, 6 if v < 0 else 3)) for v in values]


class LevelAxis(pg.AxisItem):
    """Ticks of a logarithmic y axis, as many as there is room for: 1, 2, 5 of each decade, decades, or fewer."""

    def tickValues(self, low: float, high: float, size: float) -> list[tuple[float, list[float]]]:
        room = size / max(high - low, 1e-9)
        if room >= 70:
            made = [np.log10(m) + d for d in range(-15, 12) for m in (1, 2, 5)]
        else:
            every = max(1, int(np.ceil(22 / max(room, 1e-9))))
            made = [float(d) for d in range(-15 - (-15 % every), 12, every)]
        return [(1.0, [v for v in made if low - 1e-6 <= v <= high + 1e-6])]

    def tickStrings(self, values: Sequence[float], _scale: float, _spacing: float) -> list[str]:
        return [f"{float(f'{10**v:.3g}'):g}" for v in values]


class Hatch(pg.GraphicsObject):
    """Hatched ground between a line and `top` (above or below it): what is not to be entered."""

    def __init__(self, x: np.ndarray, y: np.ndarray, top: float) -> None:
        super().__init__()
        self.x, self.y, self.top = x, y, top

    def boundingRect(self) -> Any:
        from PyQt6.QtCore import QRectF

        low, high = min(float(self.y.min()), self.top), max(float(self.y.max()), self.top)
        return QRectF(float(self.x[0]), low, float(np.ptp(self.x)), high - low)

    def paint(self, painter: QPainter, *_: Any) -> None:
        from PyQt6.QtCore import QRectF
        from PyQt6.QtGui import QPolygonF

        points = [QPointF(a, b) for a, b in zip(self.x, self.y, strict=True)]
        points += [QPointF(float(self.x[-1]), self.top), QPointF(float(self.x[0]), self.top)]
        device = painter.worldTransform()
        shape = device.map(QPolygonF(points))
        # Far beyond the picture a hatch would take long to paint.
        seen = QRectF(painter.viewport())
        shape = shape.intersected(QPolygonF(seen.adjusted(-40, -40, 40, 40)))
        painter.save()
        painter.resetTransform()
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.color("hatch", 90))
        painter.drawPolygon(shape)
        painter.setBrush(QBrush(theme.color("hatch"), Qt.BrushStyle.BDiagPattern))
        painter.drawPolygon(shape)
        painter.restore()


class Band(pg.GraphicsObject):
    """Ground between two lines of one axis, piece by piece where both or one of them is there."""

    def __init__(self, x: np.ndarray, low: np.ndarray, high: np.ndarray) -> None:
        super().__init__()
        self.x, self.low, self.high = x, low, high

    def boundingRect(self) -> Any:
        from PyQt6.QtCore import QRectF

        held = np.concatenate([self.low[np.isfinite(self.low)], self.high[np.isfinite(self.high)]])
        if not held.size:
            return QRectF()
        # A lone line's ground reaches to the edge of whatever is shown.
        far = 1e3 * max(float(np.ptp(held)), float(np.max(np.abs(held))), 1.0)
        return QRectF(float(self.x[0]), float(held.min()) - far, float(np.ptp(self.x)), float(np.ptp(held)) + 2 * far)

    def paint(self, painter: QPainter, *_: Any) -> None:
        from PyQt6.QtCore import QRectF
        from PyQt6.QtGui import QPolygonF

        device, seen = painter.worldTransform(), QRectF(painter.viewport()).adjusted(-40, -40, 40, 40)
        held = self.boundingRect()
        painter.save()
        painter.resetTransform()
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.color("corridor", 190))
        lows, highs = (np.isfinite(v[:-1]) & np.isfinite(v[1:]) for v in (self.low, self.high))
        kinds = lows + 2 * highs
        edges = [0, *(np.flatnonzero(np.diff(kinds)) + 1), kinds.size]
        for first, last in zip(edges, edges[1:], strict=False):
            if first == last or not kinds[first]:
                continue
            part = slice(first, last + 1)
            x = self.x[part]
            bottom = self.low[part] if lows[first] else np.full(x.size, held.top())
            top = self.high[part] if highs[first] else np.full(x.size, held.bottom())
            spots = [*zip(x, bottom, strict=True), *zip(x[::-1], top[::-1], strict=True)]
            shape = device.map(QPolygonF([QPointF(float(a), float(b)) for a, b in spots]))
            painter.drawPolygon(shape.intersected(QPolygonF(seen)))
        painter.restore()


def _floats(y: Any) -> np.ndarray:
    """Values with NaN where there is none."""
    return np.asarray(y if isinstance(y, np.ndarray) else [np.nan if v is None else v for v in y], dtype=float)


class Chart(pg.PlotWidget):
    """One plot. `log_x` and `log_y` take plain values and do the logarithms themselves."""

    def __init__(self, x_label: str, y_label: str, log_x: bool = True, log_y: bool = False) -> None:
        axes: dict[str, Any] = {}
        if log_x:
            axes["bottom"] = FrequencyAxis("bottom")
        if log_y:
            axes["left"] = LevelAxis("left")
        super().__init__(axisItems=axes)
        self.log_x, self.log_y = log_x, log_y
        self.x_unit, self.y_unit = x_label, y_label
        self.series: dict[str, Any] = {}
        self.table: dict[str, tuple[np.ndarray, np.ndarray]] = {}
        self.named: dict[str, str] = {}
        """What the legend says"""
        self.on_click: Callable[[float], None] | None = None
        self.names: dict[str, str] = {}
        self.units: dict[str, str] = {}
        """Of curves whose unit is not the axis's"""
        self.setMenuEnabled(False)
        self.hideButtons()
        self.getPlotItem().getViewBox().setMouseMode(pg.ViewBox.PanMode)
        self.cursor_line = pg.InfiniteLine(angle=90, movable=False)
        self.readout = pg.TextItem(anchor=(0, 0), fill=theme.color("ink"), color=theme.color("card"))
        for item in (self.cursor_line, self.readout):
            item.setZValue(50)
            self.addItem(item, ignoreBounds=True)
            item.hide()
        self.scene().sigMouseMoved.connect(self._moved)
        self.scene().sigMouseClicked.connect(self._clicked)
        self.apply_theme()

    def apply_theme(self) -> None:
        """Take on the palette in force."""
        self.setBackground(None)
        p = theme.palette()
        for name, text in (("bottom", self.x_unit), ("left", self.y_unit)):
            axis = self.getAxis(name)
            axis.setPen(pg.mkPen(p.line))
            axis.setTextPen(pg.mkPen(p.muted))
            axis.setTickFont(theme.font(9))
            axis.setStyle(tickLength=-4, maxTickLevel=0, hideOverlappingLabels=True)
            # Set by hand: the call that turns prefixes off computes one from what is shown now, and keeps it.
            axis.autoSIPrefix, axis.autoSIPrefixScale, axis.labelUnitPrefix = False, 1.0, ""
            axis.setLabel(text, color=p.muted, **{"font-size": "12px"})
        self.showGrid(x=True, y=True, alpha=0.28)
        self.cursor_line.setPen(pg.mkPen(p.ink, width=1))
        self.readout.setFont(theme.font(9.5, 500))

    def places(self, x: Any, y: Any) -> tuple[np.ndarray, np.ndarray]:
        """Values as the plot's own coordinates: their logarithms where an axis has one."""
        a = np.asarray(x, dtype=float)
        b = _floats(y)
        with np.errstate(divide="ignore", invalid="ignore"):
            return (np.log10(a) if self.log_x else a), (np.log10(b) if self.log_y else b)

    def name_axes(self, x_unit: str, y_unit: str) -> None:
        """The units of what is drawn, where they are only known with it."""
        if (x_unit, y_unit) != (self.x_unit, self.y_unit):
            self.x_unit, self.y_unit = x_unit, y_unit
            self.apply_theme()

    def curve(self, key: str, x: Any, y: Any, role: str = "teal", width: float = 2.2, name: str = "",
              dots: bool = False, style: Qt.PenStyle = Qt.PenStyle.SolidLine, z: float = 10, dense: bool = False,
              pieces: bool = False) -> None:  # fmt: skip
        """Draw or redraw one curve. `dense`: least and greatest of each column of the screen, without gaps; drawn in
        hairlines, which are many times quicker. `pieces`: up and down at nearly every point, like noise; drawn line by
        line, since the outline of one smoothed path would take ten times as long."""
        a, b = self.places(x, y)
        pen = pg.mkPen(theme.color(role), width=1 if dense else width, style=style)
        if key not in self.series:
            self.series[key] = pg.PlotDataItem(pen=pen, connect="finite")
            self.series[key].setZValue(z)
            self.addItem(self.series[key])
        item = self.series[key]
        apart = (pieces or a.size > MANY) and not dense and style == Qt.PenStyle.SolidLine
        item.curve.setSegmentedLineMode("on" if apart else "auto")
        if dots:
            item.setData(a, b, pen=pen, symbol="o", symbolSize=6, symbolBrush=theme.color(role), symbolPen=None)
        elif dense:
            item.setData(a, b, pen=pen, antialias=False, connect="all", skipFiniteCheck=True)
        else:
            item.setData(a, b, pen=pen, antialias=True, connect="finite", skipFiniteCheck=False)
        self.table[key] = (np.asarray(x, dtype=float), _floats(y))
        self.names[key] = name or key

    def whiskers(self, key: str, x: Any, y: Any, doubt: Any, role: str = "teal") -> None:
        """Expanded uncertainty as whiskers."""
        a, b = self.places(x, y)
        u = np.asarray([0.0 if v is None else v for v in doubt], dtype=float)
        good = np.isfinite(b)
        if key in self.series:
            self.removeItem(self.series.pop(key))
        if not good.any():
            return
        item = pg.ErrorBarItem(
            x=a[good], y=b[good], height=2 * u[good], beam=0.012, pen=pg.mkPen(theme.color(role), width=1.2)
        )
        item.setZValue(9)
        self.series[key] = item
        self.addItem(item)

    def corridor(self, key: str, x: Any, low: Any, high: Any) -> None:
        """The filled band between tolerance lines; beyond a line that is alone it reaches to the edge of the picture,
        and where there is none there is no band."""
        for part in (f"{key}-band", f"{key}-low", f"{key}-high"):
            if part in self.series:
                self.removeItem(self.series.pop(part))
        a, b = self.places(x, low)
        _, c = self.places(x, high)
        pen = pg.mkPen(theme.color("corridor"), width=1)
        lower, upper = (pg.PlotDataItem(a, v, pen=pen, connect="finite") for v in (b, c))
        for part, item, z in ((f"{key}-low", lower, 1), (f"{key}-high", upper, 1), (f"{key}-band", Band(a, b, c), 0)):
            item.setZValue(z)
            self.series[part] = item
            self.addItem(item, ignoreBounds=part.endswith("-band"))

    def forbidden(self, key: str, x: Any, y: Any, top: float) -> None:
        """Hatched ground from a line to `top`, which may lie below it."""
        a, b = self.places(x, y)
        if key in self.series:
            self.removeItem(self.series.pop(key))
        item = Hatch(a, b, float(np.log10(top)) if self.log_y else top)
        item.setZValue(-5)
        self.series[key] = item
        self.addItem(item, ignoreBounds=True)

    def struck(self, key: str, x: Any, y: Any) -> None:
        """Points that could not be used: plum crosses."""
        a, b = self.places(x, y)
        if key not in self.series:
            self.series[key] = pg.ScatterPlotItem(symbol="x", size=11, pen=pg.mkPen(theme.color("plum"), width=2))
            self.series[key].setZValue(20)
            self.addItem(self.series[key])
        self.series[key].setData(a, b)

    def note(self, key: str, x: float, y: float, text: str) -> None:
        """A word above a point."""
        if key in self.series:
            self.removeItem(self.series.pop(key))
        item = pg.TextItem(text, color=theme.color("ink"), anchor=(0.5, 1.05))
        item.setFont(theme.font(8.5, 600))
        item.setPos(float(np.log10(x)) if self.log_x else x, float(np.log10(y)) if self.log_y else y)
        item.setZValue(40)
        self.series[key] = item
        self.addItem(item, ignoreBounds=True)

    def legend(self, names: dict[str, str]) -> None:
        """Names of the curves, in their colours, in the upper right corner."""
        if "legend" in self.series and self.named == names:
            return
        self.drop("legend")
        self.named = dict(names)
        text = "&nbsp;&nbsp;".join(f'<span style="color:{theme.color(r).name()}">{n}</span>' for n, r in names.items())
        item = pg.TextItem(html=text, anchor=(1, 0))
        item.setFont(theme.font(9, 600))
        item.setParentItem(self.getPlotItem().getViewBox())
        item.setZValue(60)
        self.series["legend"] = item
        box = self.getPlotItem().getViewBox()
        box.sigResized.connect(lambda b: item.setPos(b.width() - 4, 2))
        item.setPos(box.width() - 4, 2)

    def drop(self, *keys: str) -> None:
        for key in keys:
            for part in (key, f"{key}-band", f"{key}-low", f"{key}-high"):
                if part in self.series:
                    item = self.series.pop(part)
                    self.removeItem(item)
                    if part == "legend":  # it hangs on the box, not on the plot
                        item.setParentItem(None)
                        if item.scene() is not None:
                            item.scene().removeItem(item)
            self.table.pop(key, None)

    def window(self, x: tuple[float, float], y: tuple[float, float]) -> None:
        """The range shown."""
        xs = np.log10(x) if self.log_x else x
        ys = np.log10(y) if self.log_y else y
        self.setRange(xRange=tuple(xs), yRange=tuple(ys), padding=0)

    def _moved(self, at: QPointF) -> None:
        box = self.getPlotItem().getViewBox()
        if not self.table or not box.sceneBoundingRect().contains(at):
            self.cursor_line.hide()
            self.readout.hide()
            return
        x = box.mapSceneToView(at).x()
        self.show_cursor(float(10**x) if self.log_x else float(x))

    def show_cursor(self, x: float) -> None:
        """The read-out at the nearest point of every curve that has one there."""
        lines, nearest = [], None
        for key, (a, b) in self.table.items():
            good = np.isfinite(b)
            if not good.any() or key.startswith("_"):
                continue
            distance = np.abs(np.log(a[good] / x)) if self.log_x and x > 0 else np.abs(a[good] - x)
            i = int(np.argmin(distance))
            nearest = float(a[good][i]) if nearest is None else nearest
            value = float(b[good][i])
            digits = f"{value:.3g}" if abs(value) < 1000 else f"{value:.0f}"
            lines.append(f"{self.names[key]}  {digits} {self.units.get(key, self.y_unit)}".replace("-", "−"))
        if nearest is None:
            return
        unit = self.x_unit
        self.readout.setText("\n".join([f"{nearest:.4g} {unit}", *lines]))
        at = np.log10(nearest) if self.log_x else nearest
        box = self.getPlotItem().getViewBox().viewRange()
        right = at > (box[0][0] + box[0][1]) / 2
        self.readout.setAnchor((1.03 if right else -0.03, 0))
        self.readout.setPos(at, box[1][1])
        self.cursor_line.setPos(at)
        self.cursor_line.show()
        self.readout.show()

    def leaveEvent(self, event: Any) -> None:
        self.cursor_line.hide()
        self.readout.hide()
        super().leaveEvent(event)

    def _clicked(self, event: Any) -> None:
        if event.double():
            self.enableAutoRange()
            return
        at = self.getPlotItem().getViewBox().mapSceneToView(event.scenePos()).x()
        if event.button() == Qt.MouseButton.LeftButton and self.on_click:
            self.on_click(float(10**at) if self.log_x else float(at))

    def contextMenuEvent(self, event: Any) -> None:
        self.ask(event.globalPos())

    def spots(self) -> list[Spot]:
        return [Spot(QRectF(self.rect()), None, self.ask)]

    def ask(self, at: QPoint) -> None:
        """What can be done with the curves, at a point of the screen."""
        menu = QMenu(self)
        menu.addAction("Copy as picture", self.copy_picture)
        menu.addAction("Copy as table", self.copy_table)
        menu.addAction("Save as picture…", self.save_picture)
        menu.addAction("Show all", self.enableAutoRange)
        menu.popup(at)

    def picture(self) -> QPixmap:
        """The chart as it is seen, on its card's ground."""
        picture = QPixmap(self.size())
        picture.fill(QColor(theme.palette().card))
        painter = QPainter(picture)
        painter.drawPixmap(0, 0, self.grab())
        painter.end()
        return picture

    def copy_picture(self) -> None:
        QGuiApplication.clipboard().setPixmap(self.picture())

    def save_picture(self) -> None:
        """Into a PNG file; what the curves are called and where they come from travels in its text fields."""
        name, _ = QFileDialog.getSaveFileName(self, "Save as picture", "", "Picture (*.png)")
        if not name:
            return
        image = self.picture().toImage()
        image.setText("Title", self.windowTitle() or "Lucid Anvil")
        image.setText("Description", "; ".join(self.names[k] for k in self.table if not k.startswith("_")))
        image.setText("Software", "Lucid Anvil")
        image.save(name if name.lower().endswith(".png") else f"{name}.png")

    def as_table(self) -> list[Row]:
        """A pair of columns a curve."""
        columns = [(self.names[k], a, b) for k, (a, b) in self.table.items() if not k.startswith("_")]
        if not columns:
            return []
        made: list[Row] = [[text for name, _, _ in columns for text in (self.x_unit, f"{name} [{self.y_unit}]")]]
        for i in range(max(a.size for _, a, _ in columns)):
            made.append([v for _, a, b in columns for v in ((a[i], b[i]) if i < a.size else ("", ""))])
        return made

    def copy_table(self) -> None:
        """The curves as text into the clipboard."""
        put(self.as_table())


def dashed(role: str, width: float = 1.2) -> QPen:
    return pg.mkPen(theme.color(role), width=width, style=Qt.PenStyle.DashLine)


class Handle(pg.InfiniteLine):
    """A line that can be dragged, with its value written on it."""

    def __init__(self, chart: Chart, angle: float, text: Callable[[float], str], position: float = 0.03) -> None:
        self.log = chart.log_x if angle == 90 else chart.log_y
        super().__init__(
            angle=angle, movable=True, pen=pg.mkPen(theme.color("brass"), width=2),
            hoverPen=pg.mkPen(theme.color("brass"), width=4),
        )  # fmt: skip
        self.note = pg.InfLineLabel(
            self, "", movable=False, position=position, color=theme.color("card"), fill=theme.color("brass"),
            anchors=[(0.5, 0.5), (0.5, 0.5)] if angle == 90 else [(0, 0.5), (0, 0.5)],
        )  # fmt: skip
        self.note.setFont(theme.font(9.5, 600))
        self.text = text
        self.setZValue(40)
        chart.addItem(self, ignoreBounds=True)
        self.sigPositionChanged.connect(self._tell)

    def get(self) -> float:
        return float(10 ** self.value()) if self.log else float(self.value())

    def put(self, value: float) -> None:
        self.setValue(float(np.log10(value)) if self.log else value)
        self._tell()

    def _tell(self) -> None:
        self.note.setText(self.text(self.get()))
