"""A reading followed over takes and units: its course, its spread, and how well it keeps its limits."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QVBoxLayout, QWidget

from ...contracts import registry
from ...core.figures import significant
from ...core.quality.spread import Spread, histogram, spread
from ...lab.exporting import Row
from ...lab.trends import Followed, Read, counted, follow, readings_in, trend_table
from ..parts.chart import Chart
from ..parts.copying import copyable
from ..parts.widgets import button, label

LEAST = 10
"""Values from which capability indices say something; below they are said to be rough"""


def words_of(s: Spread, unit: str, left_out: int) -> str:
    """The spread in a line."""
    told = [f"{s.count} values", f"mean {significant(s.mean, 4)} {unit}"]
    if s.standard_deviation is not None:
        told.append(f"s {significant(s.standard_deviation, 2)} {unit}")
    told.append(f"{significant(s.minimum, 4)} to {significant(s.maximum, 4)} {unit}")
    if s.cm is not None:
        told.append(f"cm {s.cm:.2f}")
    if s.cmk is not None:
        told.append(f"cmk {s.cmk:.2f}".replace("-", "−") + (f", rough from {s.count}" if s.count < LEAST else ""))
    if left_out:
        told.append(f"{left_out} without a value that counts left out")
    return " · ".join(told)


class TrendView(QWidget):
    """Which test, which reading; over the takes in the order in which they were made."""

    export = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.read: Sequence[Read] = ()
        self.rows: list[Followed] = []
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        head = QHBoxLayout()
        self.method, self.reading = QComboBox(), QComboBox()
        self.method.setAccessibleName("test")
        self.reading.setAccessibleName("reading")
        self.method.activated.connect(lambda _i: self._method_chosen())
        self.reading.activated.connect(lambda _i: self.draw())
        self.method.setMinimumWidth(190)
        self.reading.setMinimumWidth(260)
        self.out = button("Table…", "chip", "Every value with its take, as csv or xlsx")
        self.out.clicked.connect(self.export)
        head.addWidget(self.method)
        head.addWidget(self.reading)
        head.addStretch()
        head.addWidget(self.out)
        column.addLayout(head)
        charts = QHBoxLayout()
        self.chart, self.bars = Chart("take, oldest first", "", log_x=False), Chart("how many", "", log_x=False)
        self.bars.setFixedWidth(210)
        self.bars.setYLink(self.chart.getPlotItem())
        charts.addWidget(self.chart, 1)
        charts.addWidget(self.bars)
        column.addLayout(charts, 1)
        self.told = label("", wrap=True)
        column.addWidget(self.told)
        copyable(self)

    def as_table(self) -> list[Row]:
        return trend_table(self.rows, self.label) if self.rows else []

    def show_takes(self, read: Sequence[Read], method: str | None = None) -> None:
        """Takes that were read; the test that was chosen stays, or the given or newest one is."""
        self.read = read
        names = list(dict.fromkeys(r.finding.method for r in reversed(read)))
        wanted = self.method.currentData() or method
        self.method.clear()
        for name in names:
            self.method.addItem(registry.get(name).title if name in registry.modules() else name, name)
        if wanted in names:
            self.method.setCurrentIndex(names.index(wanted))
        self._method_chosen()

    def _method_chosen(self) -> None:
        was = self.reading.currentData()
        self.reading.clear()
        for key, text, unit in readings_in(self.read, self.method.currentData() or ""):
            self.reading.addItem(f"{text} [{unit}]" if unit else text, key)
        at = self.reading.findData(was)
        self.reading.setCurrentIndex(max(at, 0))
        self.draw()

    @property
    def label(self) -> str:
        return self.reading.currentText().rsplit(" [", 1)[0]

    def draw(self) -> None:
        """The reading that is chosen."""
        key = self.reading.currentData()
        self.rows = follow(self.read, self.method.currentData(), key) if key else []
        held = counted(self.rows)
        for chart in (self.chart, self.bars):
            chart.drop(*[k for k in chart.series if k != "legend"])
        self.out.setEnabled(bool(self.rows))
        if not held:
            self.told.setText("No take has this reading yet." if self.read else "No take that is whole was read yet.")
            return
        unit = held[-1].unit
        for chart in (self.chart, self.bars):
            chart.y_unit = unit
            chart.apply_theme()
        x, y = np.arange(1.0, len(held) + 1), np.array([r.value for r in held], dtype=float)
        low, high = held[-1].low, held[-1].high
        s = spread(y.tolist(), low, high)
        self.chart.curve("values", x, y, "teal", 1.4, self.label, dots=True)
        self.chart.whiskers("doubt", x, y, [r.uncertainty for r in held])
        ends = np.array([0.5, len(held) + 0.5])
        self.chart.curve("mean", ends, [s.mean, s.mean], "muted", 1.0, "mean")
        for name, value in (("low", low), ("high", high)):
            if value is not None:
                self.chart.curve(name, ends, [value, value], "clay", 1.4, f"limit, {name}")
        edges, counts = histogram(y.tolist())
        steps: tuple[Any, Any] = (np.repeat(counts.astype(float), 2), np.repeat(edges, 2)[1:-1])
        self.bars.curve("bars", np.concatenate([[0.0], steps[0], [0.0]]),
                        np.concatenate([[edges[0]], steps[1], [edges[-1]]]), "teal", 1.6, "values")  # fmt: skip
        span = " to ".join(dict.fromkeys(f"{r.when:%Y-%m-%d}" for r in (held[0], held[-1])))
        self.told.setText(f"{words_of(s, unit, len(self.rows) - len(held))} · {span}")

    def repaint_charts(self) -> None:
        for chart in (self.chart, self.bars):
            chart.apply_theme()
        self.draw()
