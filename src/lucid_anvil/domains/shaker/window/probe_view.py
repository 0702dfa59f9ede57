"""The probe run as a picture: the loop's response over what the rig should give, and the predicted headroom."""

from __future__ import annotations

from typing import Any

import numpy as np
from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from ....core.figures import significant
from ....desktop.parts import theme
from ....desktop.parts.chart import Chart
from ....desktop.parts.widgets import label, small_text, three

LEAST, MOST = 34, 44
"""px from one bar to the next"""


class HeadroomBars(QWidget):
    """One bar a limit: how much of it full level will use."""

    def __init__(self) -> None:
        super().__init__()
        self.rows: list[list[Any]] = []
        self.setMinimumWidth(230)

    def show_rows(self, rows: list[list[Any]]) -> None:
        """(name, share, value, limit, unit)"""
        self.rows = sorted(rows, key=lambda r: -float(r[1]))
        self.setMinimumHeight(LEAST * len(rows) + 8)
        self.update()

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        width = self.width() - 14
        pitch = min(MOST, (self.height() - 8) / max(len(self.rows), 1))
        for i, (name, share, value, limit, unit) in enumerate(self.rows):
            y = pitch * i + 4
            over = share > 1
            by, shown = (1e3, "mm") if unit == "m" else (1.0, unit)
            small_text(painter, 0, y + 12, name, theme.color("ink"), 9.5, 600 if i == 0 else 400)
            text = f"{three(by * value)} of {three(by * limit)} {shown}"
            small_text(painter, width, y + 12, text, theme.color("clay" if over else "muted"), 9, 400, True)
            box = QRectF(0, y + 18, width, 9)
            painter.fillRect(box, theme.color("sand"))
            part = min(share / 1.2, 1.0)
            painter.fillRect(QRectF(0, y + 18, width * part, 9), theme.color("clay" if over else "brass"))
            painter.setPen(QPen(theme.color("ink"), 1.8))
            x = width / 1.2
            painter.drawLine(QPointF(x, y + 15), QPointF(x, y + 30))


class ProbeView(QWidget):
    """Response on the left, headroom on the right, what it says below."""

    def __init__(self) -> None:
        super().__init__()
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        self.said = label(
            "The probe run has not been made yet: it is the first thing that happens after Begin.", "muted", wrap=True
        )
        row = QHBoxLayout()
        row.setSpacing(16)
        self.chart = Chart("Hz", "m/s² per V", log_x=True, log_y=True)
        row.addWidget(self.chart, 1)
        side = QVBoxLayout()
        side.addWidget(label("Predicted at full level", "small"))
        self.bars = HeadroomBars()
        side.addWidget(self.bars, 1)
        row.addLayout(side)
        outer.addLayout(row, 1)
        outer.addWidget(self.said)
        self.shown: Any = None

    def show_probe(self, probe: dict[str, Any]) -> None:
        if not probe or probe is self.shown:
            return
        self.shown = probe
        f = np.array(probe["frequency"])
        chart = self.chart
        chart.drop(*[k for k in chart.series if k.startswith("response")])
        good = np.array(probe["coherence"]) > 0.5
        control = np.array(probe["response"][0])
        chart.curve("expected", f, probe["expected"], "muted", 1.2, "rig file", z=3)
        for i, role in enumerate(probe["roles"][1:], 1):
            chart.curve(f"response-{role}", f, probe["response"][i], "muted", 1.1, role, z=4)
        chart.curve("control", f, np.where(good, control, np.nan), "teal", 2.4, "control")
        rows = [control, np.array(probe["expected"])]
        low, high = min(float(r[good].min()) for r in rows) / 2, max(float(r.max()) for r in rows) * 3
        chart.window((f[0], f[-1]), (low, high))
        chart.legend({"control": "teal", "rig file": "muted", "responses": "muted"})
        self.bars.show_rows(probe["used"])
        modes = ", ".join(f"{a:.4g} Hz ({significant(b)} Hz wide)" for a, b in probe["modes"][:3])
        delay, noise = significant(1e3 * probe["delay"]), significant(probe["noise"][0])
        said = [f"Delay {delay} ms, noise {noise} m/s² rms on control."]
        if modes:
            said.append(f"Sharpest in the control: {modes}.")
        said += probe["notes"]
        if probe["why"]:
            said.insert(0, f"Not gone on: {probe['why']}")
        self.said.setText(" ".join(said))
        self.said.setObjectName("cut" if probe["why"] else "muted")
        self.said.setStyleSheet(self.said.styleSheet())
        self.said.style().unpolish(self.said)
        self.said.style().polish(self.said)
