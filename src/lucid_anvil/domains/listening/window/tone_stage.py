"""The Stage of a microphone check: the level against the last check, until it is steady and read."""

from __future__ import annotations

import numpy as np
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from ....contracts.finding import Finding
from ....desktop.parts.chart import Chart
from ....desktop.parts.widgets import Elided, card, label
from ....engine.preparing import Prepared
from ....protocol.messages import Board

FIGURES = (("sensitivity", "sensitivity"), ("change", "against the last check"), ("distortion", "distortion"),
           ("tone", "tone"))  # fmt: skip


class ToneStage(QWidget):
    """Level over time in the band within which it must stay; large figures beside it."""

    def __init__(self) -> None:
        super().__init__()
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        frame, column = card((16, 10, 12, 8), 6)
        outer.addWidget(frame)
        head = QHBoxLayout()
        head.addWidget(label("Level against the last check", "title"))
        self.told = Elided("", "muted")
        head.addWidget(self.told, 1)
        column.addLayout(head)
        row = QHBoxLayout()
        self.level = Chart("s", "dB", log_x=False)
        row.addWidget(self.level, 3)
        side = QGridLayout()
        side.setVerticalSpacing(0)
        self.figures = {}
        for i, (key, title) in enumerate(FIGURES):
            name, value = label(title, "muted"), label("–", "title")
            value.setStyleSheet("font-size: 26px; font-weight: 600;" if i < 2 else "font-size: 17px;")
            side.addWidget(name, 2 * i, 0)
            side.addWidget(value, 2 * i + 1, 0)
            self.figures[key] = value
        side.setRowStretch(2 * len(FIGURES), 1)
        holder = QWidget()
        holder.setLayout(side)
        holder.setFixedWidth(190)
        row.addWidget(holder)
        column.addLayout(row, 3)
        lower = QHBoxLayout()
        self.wave = Chart("ms", "V", log_x=False)
        self.spectrum = Chart("Hz", "V", log_x=True, log_y=True)
        lower.addWidget(self.wave, 1)
        lower.addWidget(self.spectrum, 1)
        column.addLayout(lower, 2)
        self.spectrum.hide()

    def show_prepared(self, prepared: Prepared, _editable: bool) -> None:
        for chart in (self.level, self.wave, self.spectrum):
            chart.drop(*[k for k in chart.series if k != "legend"])
        self.spectrum.hide()
        self.wave.show()
        for value in self.figures.values():
            value.setText("–")
        s = prepared.settings
        self.told.setText(f"{s.level:g} dB at {s.frequency:g} Hz; steady within {s.steadiness:g} dB is wanted")

    def show_board(self, board: Board) -> None:
        live = board.live
        if "levels" not in live:
            wave = board.wave
            if "microphone" in wave and board.state in ("starting", "walk-round", "preparing"):
                self.wave.curve("wave", 1e3 * np.asarray(wave["t"]), wave["microphone"], "teal", 1.4, "microphone")
            return
        words = {"no tone": "No tone", "settling": "Settling", "steady": "Steady"}
        self.told.setText(f"{words[live['stage']]}: {live['text']}")
        levels = np.asarray(live["levels"])
        if levels.size:
            t = live["every"] * np.arange(levels.size)
            middle, half = float(np.median(levels[-24:])), live["steadiness"] / 2
            self.level.corridor("band", [0, max(t[-1], 1)], [middle - half] * 2, [middle + half] * 2)
            steady = live["stage"] == "steady"
            self.level.curve("level", t, levels, "teal" if steady else "ink", 2.2, "level")
            span = max(float(np.ptp(levels[-80:])), 6 * half)
            self.level.window((0, max(t[-1], 10)), (middle - span, middle + span))
        self.wave.curve("wave", live["picture"]["t"], live["picture"]["v"], "teal", 1.4, "microphone")
        s, c, d, f = live["sensitivity"], live["change"], live["distortion"], live["tone"]
        self.figures["sensitivity"].setText(f"{s:.2f} mV/Pa" if s and f else "–")
        self.figures["change"].setText(f"{c:+.2f} dB".replace("-", "−") if c is not None else "–")
        self.figures["distortion"].setText(f"{d:.1f} %" if d and f else "–")
        self.figures["tone"].setText(f"{f:.1f} Hz" if f else "none")

    def show_earlier(self, _finding: Finding | None) -> None:
        """Nothing of an earlier take is drawn here; the change says it."""

    def show_finding(self, finding: Finding) -> None:
        by = {r.key: r for r in finding.readings}
        for key, reading, text in (
            ("sensitivity", "sensitivity", "{:.2f} mV/Pa"), ("change", "change", "{:+.2f} dB"),
            ("distortion", "tone_distortion", "{:.1f} %"), ("tone", "tone_frequency", "{:.1f} Hz"),
        ):  # fmt: skip
            value = by[reading].value if reading in by else None
            self.figures[key].setText("–" if value is None else text.format(value).replace("-", "−"))
        c = finding.curve("spectrum")
        f = np.array(c.x, float)
        keep = f >= 20
        self.spectrum.curve("spectrum", f[keep], np.array(c.y, float)[keep], "teal", 1.4, "spectrum")
        self.spectrum.show()
        self.told.setText(finding.notes[0] if finding.notes else "")

    def repaint_charts(self) -> None:
        for chart in (self.level, self.wave, self.spectrum):
            chart.apply_theme()
