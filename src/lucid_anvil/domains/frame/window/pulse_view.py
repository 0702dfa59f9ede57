"""One pulse of a take, chosen by its number: its course, what it measures, and two lines to measure anything else."""

from __future__ import annotations

from typing import Any

import numpy as np
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from ....core.figures import axis_unit
from ....desktop.parts.chart import Chart, Handle
from ....desktop.parts.widgets import Elided, button, label
from ..one_pulse import OnePulse, Pulses

INKS = ("ink", "brass", "plum")


def seconds(value: float | None) -> str:
    """A time as a person says it."""
    if value is None:
        return "–"
    return f"{1e3 * value:.3g} ms" if value < 1 else f"{value:.4g} s"


class PulseView(QWidget):
    """`wanted` names the pulse that was asked for."""

    wanted = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(label("Pulse", "muted"))
        self.back, self.on = button("‹", tip="The one before"), button("›", tip="The next one")
        self.typed = QLineEdit()
        self.typed.setFixedWidth(90)
        self.typed.setAccessibleName("number of the pulse")
        for one in (self.back, self.typed, self.on):
            row.addWidget(one)
        self.of = label("", "muted")
        row.addWidget(self.of)
        row.addSpacing(14)
        self.told = Elided("", "")
        row.addWidget(self.told, 1)
        column.addLayout(row)
        self.chart = Chart("ms", "N", log_x=False)
        column.addWidget(self.chart, 1)
        self.between = label("", "muted")
        column.addWidget(self.between)
        self.back.clicked.connect(lambda: self._step(-1))
        self.on.clicked.connect(lambda: self._step(1))
        self.typed.returnPressed.connect(self._typed)
        self.pulses: Pulses | None = None
        self.shown: OnePulse | None = None
        self.handles: list[Handle] = []

    def show_pulses(self, pulses: Pulses | None) -> None:
        """Those of a take; the last whole one is shown first. Nothing: none."""
        self.pulses, self.shown = pulses, None
        self.chart.drop(*self.chart.series)
        for handle in self.handles:
            self.chart.removeItem(handle)
        self.handles = []
        numbers = pulses.numbers if pulses is not None else np.zeros(0, int)
        self.of.setText(f"of {int(numbers.max())}" if numbers.size else "")
        self.told.setText("" if numbers.size else "No whole pulse.")
        self.between.setText("")
        for one in (self.back, self.on, self.typed):
            one.setEnabled(bool(numbers.size))
        if numbers.size:
            self.show_number(int(numbers.max()))

    def show_number(self, number: int) -> None:
        """That pulse; the nearest that the raw record holds."""
        if self.pulses is None:
            return
        there = self.pulses.nearest(number)
        one = self.shown = self.pulses.take(there)
        self.typed.setText(str(there))
        t = 1e3 * np.arange(one.record["force"].size) / one.rate
        force = one.record["force"]
        scale, unit = axis_unit(float(np.max(np.abs(force))), "N")
        self.chart.drop(*self.chart.series)
        self.chart.name_axes("ms", unit)
        self.chart.curve("force", t, scale * force, "teal", 2.2, "Force")
        # Lengths on the scale of the force: their course beside its own, not their figures.
        names = {"Force": "teal"}
        for (role, x), ink in zip(((r, x) for r, x in one.record.items() if r != "force"), INKS, strict=False):
            reach = float(np.ptp(x))
            if reach > 0:
                low, high = float(force.min()), float(force.max())
                y = low + (x - float(x.min())) / reach * (high - low)
                name = f"{role}, {1e3 * reach:.3g} mm high"
                self.chart.curve(role, t, scale * y, ink, 1.2, name)
                names[name.capitalize()] = ink
        self.chart.legend(names)
        m = one.measures
        away = "" if there == number else f"Pulse {number} was not kept; this one is the nearest. "
        self.told.setText(
            f"{away}Rise {seconds(m.rise)} · fall {seconds(m.fall)} · width {seconds(m.width)} · rest"
            f" {seconds(m.rest)} · {scale * m.least:.3g} to {scale * m.greatest:.4g} {unit}"
        )
        self.told.setToolTip("Rise and fall from 10 to 90 % of its height, width at half of it, rest below a tenth")
        self._handles(t, one)
        self._measure()

    def _handles(self, t: Any, one: OnePulse) -> None:
        if not self.handles:
            for i in range(2):
                line = Handle(self.chart, 90, lambda v: f"{v:.4g} ms", 0.93 - 0.08 * i)
                line.sigPositionChanged.connect(lambda *_: self._measure())
                self.handles.append(line)
        ends = one.measures.risen or (float(t[0]) / 1e3, float(t[-1]) / 1e3)
        for line, end in zip(self.handles, ends, strict=True):
            line.put(1e3 * end)

    def _measure(self) -> None:
        """What lies between both lines."""
        if self.shown is None or len(self.handles) < 2:
            return
        a, b = sorted(line.get() / 1e3 for line in self.handles)
        t = np.arange(self.shown.record["force"].size) / self.shown.rate
        said = [f"Between the lines: {seconds(b - a)}"]
        for role, x in self.shown.record.items():
            change = float(np.interp(b, t, x) - np.interp(a, t, x))
            said.append(f"force {change:+.4g} N" if role == "force" else f"{role} {1e3 * change:+.4g} mm")
        self.between.setText("   ".join(said))

    def _step(self, by: int) -> None:
        """The next one that is kept."""
        if self.pulses is None or self.shown is None:
            return
        numbers = np.sort(self.pulses.numbers)
        at = int(np.searchsorted(numbers, self.shown.number)) + by
        self.show_number(int(numbers[min(max(at, 0), numbers.size - 1)]))

    def _typed(self) -> None:
        text = self.typed.text().strip()
        if text.isdigit():
            self.show_number(int(text))
        elif self.shown is not None:
            self.typed.setText(str(self.shown.number))
