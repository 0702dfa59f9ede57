"""Curves of several findings over one another: offset, normalised, taken together, and cursors that snap."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QSizePolicy, QStackedWidget, QVBoxLayout, QWidget

from ...contracts import registry
from ...contracts.finding import Curve, Finding
from ...core.signal import curves as sums
from ..parts import theme
from ..parts.chart import Chart, Handle
from ..parts.widgets import button, label
from ..parts.window_handles import WindowHandles, window_of
from .readings_panel import ReadingsPanel

_LINE = Qt.PenStyle
PENS = (("teal", 2.2, _LINE.SolidLine), ("ink", 1.4, _LINE.SolidLine), ("muted", 1.4, _LINE.SolidLine),
        ("teal", 1.4, _LINE.DashLine), ("ink", 1.2, _LINE.DashLine), ("muted", 1.2, _LINE.DashLine),
        ("teal", 1.2, _LINE.DotLine), ("ink", 1.0, _LINE.DotLine))  # fmt: skip
CURSORS = ("no cursor", "delta", "peak", "harmonics", "sidebands", "band", "order")


@dataclass(frozen=True)
class Shown:
    """One ticked finding."""

    name: str
    finding: Finding
    folder: Path | None = None
    """Of its take"""


OTHER = ("difference", "ratio", "spread")
"""Ways of taking curves together that give another quantity than theirs"""


def suffix(way: str) -> str:
    """How the key of a curve ends that was made of others; a sum, an average and a hold lie over what they are of."""
    return f"-{way}" if way in OTHER else ""


def axis_of(method: str, key: str) -> tuple[bool, bool]:
    """Whether a curve of a method goes on logarithmic axes: over x, over y."""
    for way in OTHER:
        key = key.removesuffix(suffix(way))
    for axis in registry.get(method).views:
        if axis.shows(key):
            return axis.x_log, axis.y_log
    return False, False


def _drawn_beside(method: str, curve: Curve) -> bool:
    """Whether a line of two points is drawn beside another curve, and is nothing to look at by itself."""
    return any(v.shows(curve.key) and v.curves[0] != curve.key for v in registry.get(method).views)


class OverlayView(QWidget):
    """The chart and its row of tools."""

    kept = pyqtSignal()
    """The curve that was made of the others is wanted as a finding"""
    window_moved = pyqtSignal(object, float, float)
    """The finding whose window was dragged, and both ends"""

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        row = QHBoxLayout()
        self.which = QComboBox()
        self.which.setMinimumWidth(150)
        self.which.activated.connect(lambda _i: self.draw())
        self.normal = button("Normalise", "chip", "Each curve over its own greatest value")
        self.offset = button("Offset", "chip", "Each curve a little above the one before")
        for one in (self.normal, self.offset):
            one.setCheckable(True)
            one.clicked.connect(lambda _c: self.draw())
        self.way = QComboBox()
        self.way.addItems(["apart", *sums.WAYS])
        self.way.setToolTip("Take the ticked curves together; difference and ratio are of the first and the others")
        self.way.activated.connect(lambda _i: self.draw())
        self.pick = QComboBox()
        self.pick.addItems(CURSORS)
        self.pick.activated.connect(lambda _i: self._set_cursor())
        self.keep = button("Keep", "chip", "Keep this curve as a finding of the first take, beside its others")
        self.keep.clicked.connect(self.kept)
        self.keep.hide()
        for widget in (self.which, self.normal, self.offset, self.way, self.keep, self.pick):
            row.addWidget(widget)
        self.legend = label("", "small")
        self.legend.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        row.addWidget(self.legend, 1)
        column.addLayout(row)
        self.stack = QStackedWidget()
        middle = QHBoxLayout()
        middle.setSpacing(6)
        middle.addWidget(self.stack, 1)
        self.readings = ReadingsPanel()
        self.readings.hide()
        middle.addWidget(self.readings)
        column.addLayout(middle, 1)
        self.charts: dict[tuple[bool, bool], Chart] = {}
        self.reading = label("", "small", wrap=True)
        self.reading.setMinimumHeight(20)
        column.addWidget(self.reading)
        self.shown: list[Shown] = []
        self.handles: list[Handle] = []
        self.notes: list[Any] = []
        self.window_: WindowHandles | None = None
        self.made: Curve | None = None
        self.first: sums.Curve | None = None
        self.chart = self._chart(True, False)

    def _chart(self, log_x: bool, log_y: bool) -> Chart:
        key = (log_x, log_y)
        if key not in self.charts:
            self.charts[key] = Chart("Hz", "", log_x=log_x, log_y=log_y)
            self.stack.addWidget(self.charts[key])
        return self.charts[key]

    def show_findings(self, shown: list[Shown]) -> None:
        """The ticked findings; the first one is the reference of all comparisons."""
        self.shown = shown
        keys: dict[str, str] = {}
        for one in shown:
            for c in one.finding.curves:
                if len(c.x) != 2 or not _drawn_beside(one.finding.method, c):
                    keys.setdefault(c.key, c.label)
        before = self.which.currentData()
        self.which.clear()
        for key, text in keys.items():
            self.which.addItem(text or key, key)
        preferred = [before, "deviation", "frf_magnitude", "order_1", "control"]
        at = next((self.which.findData(k) for k in preferred if k in keys), 0)
        self.which.setCurrentIndex(max(at, 0))
        self.draw()

    def choose(self, key: str) -> None:
        """Another curve."""
        self.which.setCurrentIndex(max(self.which.findData(key), 0))
        self.draw()

    def _values(self, c: Curve, step: int) -> sums.Curve:
        x = np.asarray(c.x, float)
        y = np.array([np.nan if v is None else v for v in c.y], float)
        if self.normal.isChecked():
            x, y = sums.normalised((x, y))
        if self.offset.isChecked() and step and np.isfinite(y).any():
            log = axis_of(self.shown[0].finding.method, c.key)[1]
            y = y * 10 ** (0.5 * step) if log else y + step * 0.35 * (np.nanmax(y) - np.nanmin(y) or 1.0)
        return x, y

    def draw(self) -> None:
        """All ticked curves, or what they make together."""
        key = self.which.currentData()
        chosen = [(s, c) for s in self.shown for c in s.finding.curves if c.key == key]
        log_x, log_y = axis_of(chosen[0][0].finding.method, key) if chosen else (True, False)
        way = self.way.currentText()
        self.chart = chart = self._chart(log_x, log_y and way not in ("difference",))
        self.stack.setCurrentWidget(chart)
        chart.drop(*list(chart.series))
        self.made, self.first = None, None
        for i, (s, c) in enumerate(chosen):
            x, y = self._values(c, i)
            together = way != "apart" and len(chosen) > 1
            role, width, style = PENS[i % len(PENS)]
            if i == 0:
                self.first = (x, y)
                plain = not (self.normal.isChecked() or self.offset.isChecked() or together)
                if plain and c.low and c.high:
                    chart.corridor("corridor", c.x, c.low, c.high)
                if plain and c.uncertainty and len(c.x) < 100:
                    chart.whiskers("doubt", c.x, c.y, c.uncertainty)
            if together:
                role, width = "muted", 1.0
            dots = i == 0 and len(c.x) < 80 and not together
            if not (together and way in OTHER):
                chart.curve(f"take{i}", x, y, role, width, s.name, dots=dots, style=style)
            chart.x_unit, chart.y_unit = c.x_unit, "" if self.normal.isChecked() else c.y_unit
        if self.window_ is not None:
            self.window_.drop()
            self.window_ = None
        if len(chosen) == 1 and not (self.normal.isChecked() or self.offset.isChecked()):
            self._lines_beside(chart, *chosen[0])
            self._offer_window(chart, chosen[0][0], key)
        if chosen and way != "apart" and len(chosen) > 1:
            x, y = sums.combined([self._values(c, 0) for _, c in chosen], way)
            self.first = (x, y)
            chart.curve("together", x, y, "teal", 2.4, way)
            chart.y_unit = "" if way == "ratio" else chart.y_unit
            held = tuple(None if not np.isfinite(v) else float(v) for v in y)
            name = f"{chosen[0][1].label or key}: {way} of {len(chosen)}"
            self.made = Curve(key + suffix(way), name, tuple(x), held, chosen[0][1].x_unit, chart.y_unit)
        self.keep.setVisible(self.made is not None)
        marks = {_LINE.SolidLine: "—", _LINE.DashLine: "- -", _LINE.DotLine: "···"}
        self.legend.setText("&nbsp;&nbsp; ".join(
            f'<span style="color:{theme.color(role).name()}">{marks[style]} {s.name}</span>'
            for (s, _), (role, _, style) in zip(chosen, PENS, strict=False)
        ))  # fmt: skip
        chart.apply_theme()
        chart.enableAutoRange()
        self._set_cursor()

    def _lines_beside(self, chart: Chart, shown: Shown, curve: Curve) -> None:
        """Straight lines that a curve was read by, such as a modulus line, thin beside it."""
        views = [v for v in registry.get(shown.finding.method).views if v.shows(curve.key)]
        for c in shown.finding.curves:
            if c is not curve and len(c.x) == 2 and any(v.shows(c.key) for v in views):
                y = [np.nan if v is None else v for v in c.y]
                chart.curve(f"line-{c.key}", c.x, y, "brass", 1.2, c.label, style=_LINE.DashLine)

    def _offer_window(self, chart: Chart, shown: Shown, key: str) -> None:
        """Both ends of the window that a finding was read in, to be dragged."""
        window = window_of(shown.finding)
        if window is not None and key in window["curves"]:
            self.window_ = WindowHandles(chart, window, lambda a, b: self.window_moved.emit(shown, a, b))

    # --- cursors ---------------------------------------------------------------------------------------------

    def _set_cursor(self) -> None:
        for chart in self.charts.values():
            for item in (*self.handles, *self.notes):
                if item.scene() is chart.scene():
                    chart.removeItem(item)
        self.handles, self.notes = [], []
        self.reading.setText("")
        kind = self.pick.currentText()
        if kind == "no cursor" or self.first is None or not np.isfinite(self.first[1]).any():
            return
        x = self.first[0][np.isfinite(self.first[1])]
        count = {"delta": 2, "band": 2, "sidebands": 2}.get(kind, 1)
        low, high = (max(float(x[0]), 1e-9), float(x[-1]))
        top = float(self.first[0][int(np.nanargmax(self.first[1]))])
        for i in range(count):
            handle = Handle(self.chart, 90, lambda v: f"{v:.5g}", 0.94 - 0.06 * i)
            share = (i + 1) / (count + 1)
            at = low * (high / low) ** share if self.chart.log_x else low + share * (high - low)
            if kind in ("peak", "harmonics", "sidebands", "order"):
                at = top + i * 0.06 * (high - low)
            handle.put(min(at, high))
            handle.sigPositionChanged.connect(lambda *_: self.read())
            handle.sigPositionChangeFinished.connect(lambda *_: self.snap())
            self.handles.append(handle)
        self.snap()

    def place_cursors(self, *at: float) -> None:
        """Cursors to given places."""
        self._set_cursor()
        for handle, x in zip(self.handles, at, strict=False):
            handle.put(x)
        self.read()

    def snap(self) -> None:
        """Cursors for peaks, harmonics and sidebands go to the nearest peak."""
        kind = self.pick.currentText()
        if kind in ("peak", "harmonics", "sidebands") and self.first is not None and self.handles:
            found = sums.nearest_peak(self.first, self.handles[0].get(), self.chart.log_x, 0.05)
            if found is not None:
                self.handles[0].put(found[0])
        self.read()

    def read(self) -> None:
        """What the cursors say, of the first curve."""
        for note in self.notes:
            self.chart.removeItem(note)
        self.notes = []
        if self.first is None or not self.handles:
            return
        kind, unit = self.pick.currentText(), self.chart.x_unit
        at = [h.get() for h in self.handles]
        y = [float(v) for v in sums.on_grid(self.first, np.array(at))]
        y_unit = self.chart.y_unit
        if kind == "delta":
            text = f"{at[0]:.5g} to {at[1]:.5g} {unit}: Δ {at[1] - at[0]:.5g} {unit}, Δ {y[1] - y[0]:.4g} {y_unit}"
            if y[0] > 0 and y[1] > 0:
                text += f", ratio {y[1] / y[0]:.4g} ({20 * np.log10(y[1] / y[0]):+.2f} dB)"
        elif kind == "band":
            low, high = sorted(at)
            value = sums.band_rms(self.first, low, high)
            text = f"{low:.5g} to {high:.5g} {unit}, {high - low:.4g} wide: rms of the band {value:.4g} {y_unit}"
        elif kind in ("harmonics", "order"):
            found = sums.harmonics(self.first, at[0], 12)
            self._mark([v[1] for v in found[1:]])
            text = f"{at[0]:.5g} {unit}: " + ", ".join(f"{k}. {v:.3g}" for k, _, v in found[:8]) + f" {y_unit}"
        elif kind == "sidebands":
            spacing = abs(at[1] - at[0])
            found = sums.sidebands(self.first, at[0], spacing) if spacing > 0 else []
            self._mark([v[1] for v in found if v[0]])
            sides = ", ".join(f"{k:+d}. {v:.3g}" for k, _, v in found if k)
            text = f"{at[0]:.5g} ± k·{spacing:.4g} {unit}: {sides} {y_unit}"
        else:
            text = f"{at[0]:.6g} {unit}: {y[0]:.4g} {y_unit}"
        self.reading.setText(text.replace("-", "−"))

    def _mark(self, where: list[float]) -> None:
        for x in where:
            line = pg.InfiniteLine(
                pos=np.log10(x) if self.chart.log_x else x, angle=90, pen=pg.mkPen(theme.color("brass", 120), width=1)
            )
            self.chart.addItem(line, ignoreBounds=True)
            self.notes.append(line)

    def repaint_charts(self) -> None:
        for chart in self.charts.values():
            chart.apply_theme()
        self.draw()
