"""Sweeps of several temperatures laid over one another: a master curve, and how far each was moved."""

from __future__ import annotations

import numpy as np
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from ...lab.superposing import Master
from ..parts.chart import Chart
from ..parts.widgets import label

INKS = ("teal", "ink", "brass", "plum", "muted")


class MasterView(QWidget):
    """The master curve at the left, lg of the shifts over temperature at the right, what they follow below."""

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        row = QHBoxLayout()
        self.curve = Chart("Hz, at the reference", "MPa", True, True)
        self.shifts = Chart("°C", "lg aT", False, False)
        row.addWidget(self.curve, 3)
        row.addWidget(self.shifts, 2)
        column.addLayout(row, 1)
        self.told = label("", wrap=True)
        column.addWidget(self.told)

    def show_master(self, made: Master) -> None:
        for chart in (self.curve, self.shifts):
            chart.drop(*chart.series)
        for i, sweep in enumerate(made.sweeps):
            ink, name = INKS[i % len(INKS)], f"{sweep.temperature:.0f} °C"
            self.curve.curve(f"sweep {i}", made.reduced(i), sweep.storage, ink, 1.8, name, dots=True)
        if len(made.sweeps) <= len(INKS):
            self.curve.legend({f"{s.temperature:.0f} °C": INKS[i] for i, s in enumerate(made.sweeps)})
        found = made.found
        heat = np.linspace(found.temperatures[0], found.temperatures[-1], 120)
        if found.wlf is not None:
            c1, c2 = found.wlf.values
            d = heat - found.reference
            self.shifts.curve("wlf", heat, -c1 * d / (c2 + d), "muted", 1.2, "WLF")
        x, y = np.array(found.temperatures), np.array(found.shifts)
        self.shifts.curve("shifts", x, y, "teal", 1.8, "shifts", dots=True)
        self.told.setText(" ".join(made.words()))

    def repaint_charts(self) -> None:
        for chart in (self.curve, self.shifts):
            chart.apply_theme()
