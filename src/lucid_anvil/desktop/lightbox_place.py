"""The Lightbox: takes looked into and laid over one another; the raw record as it came."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PyQt6.QtCore import QSize, Qt
from PyQt6.QtWidgets import QHBoxLayout, QListWidget, QListWidgetItem, QStackedWidget, QWidget

from ..core.errors import BadInput
from ..lab.place import Lab
from ..lab.takes import Take, list_takes
from .chart import Chart
from .widgets import Tabs, card, label, section

PENS = (("teal", Qt.PenStyle.SolidLine), ("ink", Qt.PenStyle.SolidLine), ("muted", Qt.PenStyle.SolidLine),
        ("muted", Qt.PenStyle.DashLine))  # fmt: skip


class LightboxPlace(QWidget):
    """Tick takes to lay their curves over one another; the raw record of the one in hand."""

    def __init__(self, lab: Lab) -> None:
        super().__init__()
        self.lab = lab
        row = QHBoxLayout(self)
        row.setContentsMargins(10, 10, 10, 10)
        row.setSpacing(10)
        frame, column = card((0, 12, 0, 8), 6)
        frame.setFixedWidth(250)
        head = section("Takes")
        head.setContentsMargins(14, 0, 0, 4)
        column.addWidget(head)
        self.list = QListWidget()
        self.list.setIconSize(QSize(0, 0))
        self.list.itemChanged.connect(lambda _i: self.draw())
        self.list.currentItemChanged.connect(lambda _a, _b: self.draw_raw())
        column.addWidget(self.list, 1)
        row.addWidget(frame)
        main, sheet = card((16, 10, 12, 10), 6)
        top = QHBoxLayout()
        self.title = label("Takes over one another", "title")
        top.addWidget(self.title)
        top.addStretch()
        self.tabs = Tabs(
            [("deviation", "Deviation"), ("phase", "Phase"), ("sensitivity", "Sensitivity"), ("raw", "Raw record")]
        )
        self.tabs.chosen.connect(lambda _k: self.draw())
        top.addWidget(self.tabs)
        sheet.addLayout(top)
        self.stack = QStackedWidget()
        self.chart = Chart("Hz", "%")
        self.raw = Chart("s", "V", log_x=False)
        self.raw.getPlotItem().getViewBox().sigXRangeChanged.connect(lambda *_: self._fine())
        self.empty = label(
            "No take yet. Run a plan on the Bench; every take is kept and can be looked at here.", "muted"
        )
        for widget in (self.chart, self.raw, self.empty):
            self.stack.addWidget(widget)
        sheet.addWidget(self.stack, 1)
        self.hint = label("", "muted")
        sheet.addWidget(self.hint)
        row.addWidget(main, 1)
        self.channels: list[tuple[str, np.ndarray, float]] = []
        self.busy = False
        self.reload()

    def reload(self) -> None:
        self.list.blockSignals(True)
        self.list.clear()
        for i, take in enumerate(reversed(list_takes(self.lab.jobs))):
            name = f"{take.folder.parent.name.removeprefix('comparison-').upper()} · {take.name}"
            item = QListWidgetItem(f"{name} · {take.status()}")
            item.setData(256, take.folder)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if i < 2 else Qt.CheckState.Unchecked)
            self.list.addItem(item)
        self.list.blockSignals(False)
        if self.list.count():
            self.list.setCurrentRow(0)
        self.draw()

    def draw(self) -> None:
        """The ticked takes' curves, or the raw record of the one in hand."""
        if not self.list.count():
            self.stack.setCurrentWidget(self.empty)
            return
        key = self.tabs.now
        if key == "raw":
            self.stack.setCurrentWidget(self.raw)
            self.draw_raw()
            return
        self.stack.setCurrentWidget(self.chart)
        self.chart.drop(*list(self.chart.series))
        self.chart.y_unit = {"deviation": "%", "phase": "°", "sensitivity": "mV/(m/s²)"}[key]
        self.chart.apply_theme()
        shown = 0
        for i in range(self.list.count()):
            item = self.list.item(i)
            if item.checkState() != Qt.CheckState.Checked:
                continue
            finding = Take(item.data(256)).finding()
            if finding is None:
                continue
            curve = finding.curve(key)
            role, style = PENS[min(shown, len(PENS) - 1)]
            if shown == 0 and curve.low and curve.high:
                self.chart.corridor("corridor", curve.x, curve.low, curve.high)
            name = item.text().rsplit(" · ", 1)[0]
            self.chart.curve(
                f"take{i}", curve.x, curve.y, role, 2.2 if not shown else 1.4, name, dots=not shown, style=style
            )
            if not shown and curve.uncertainty:
                self.chart.whiskers("doubt", curve.x, curve.y, curve.uncertainty)
            shown += 1
        self.hint.setText(
            "Point at a curve to read it; the right button copies it as a picture or a table."
            if shown
            else "Tick takes on the left to lay their curves over one another."
        )
        self.chart.enableAutoRange()

    def repaint_charts(self) -> None:
        """Take on the palette in force."""
        self.raw.apply_theme()
        self.draw()

    def draw_raw(self) -> None:
        """Load the record of the take in hand: all of it as its least and greatest values, samples when zoomed in."""
        item = self.list.currentItem()
        if item is None or self.tabs.now != "raw":
            return
        try:
            record = Take(Path(item.data(256))).recording()
        except BadInput as problem:
            self.hint.setText(str(problem))
            return
        self.channels = [
            (c.label, c.samples(), c.rate) for c in record.channels if c.label in ("reference", "unit", "drive")
        ]
        self.raw.drop(*list(self.raw.series))
        length = max((x.size / r for _, x, r in self.channels), default=1.0)
        self.raw.setXRange(0, length, padding=0.01)
        self.hint.setText(f"{item.text()} · {length:.1f} s · zoom with the wheel, down to single samples")
        self._fine()

    def _fine(self) -> None:
        """Draw what is in sight with as many points as the screen has."""
        if self.busy or not self.channels:
            return
        self.busy = True
        low, high = self.raw.getPlotItem().getViewBox().viewRange()[0]
        for (name, x, rate), role in zip(self.channels, ("ink", "teal", "brass"), strict=False):
            a, b = max(int(low * rate), 0), min(int(high * rate) + 2, x.size)
            if b - a < 2:
                continue
            t, y = envelope(x[a:b], 1200)
            self.raw.curve(name, (a + t) / rate, y, role, 1.2, name)
        self.busy = False


def envelope(x: np.ndarray, columns: int) -> tuple[np.ndarray, np.ndarray]:
    """Least and greatest of each column of samples, as indices and values; the samples themselves when few."""
    if x.size <= 2 * columns:
        return np.arange(x.size, dtype=float), x
    step = x.size // columns
    cut = x[: step * columns].reshape(columns, step)
    y = np.empty(2 * columns)
    y[0::2], y[1::2] = cut.min(axis=1), cut.max(axis=1)
    return np.repeat(np.arange(columns) * step, 2).astype(float), y
