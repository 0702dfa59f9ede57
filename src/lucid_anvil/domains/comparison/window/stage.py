"""The Stage: what is being measured, against its corridor; before the run, what will be driven."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from ....contracts.finding import Curve, Finding
from ....core.quantities import parse, round_to_doubt
from ....desktop.parts import theme
from ....desktop.parts.chart import Chart, Handle, frequency_text
from ....desktop.parts.widgets import Tabs, card, label
from ....engine.preparing import HEADROOM, Prepared
from ....protocol.messages import Board
from .budget_view import BudgetView

TABS = [
    ("level", "Level"), ("deviation", "Deviation"), ("phase", "Phase"), ("sensitivity", "Sensitivity"),
    ("voltages", "Voltages"), ("budget", "Budget"),
]  # fmt: skip
TITLES = {
    "level": "Level under what the bench allows", "deviation": "Deviation against corridor",
    "phase": "Phase, unit minus reference", "sensitivity": "Sensitivity", "voltages": "Both voltages",
    "budget": "Uncertainty budget",
}  # fmt: skip
LINE_NAMES = {
    "stroke": "stroke", "velocity": "velocity", "force": "force", "current": "coil current", "amplifier": "amplifier",
    "table": "table",
}  # fmt: skip


def corridor_of(prepared: Prepared) -> Any:
    """A function from frequency to (low, high) of the deviation [%]."""
    rows = prepared.settings.corridor
    if not rows:
        return lambda _f: (None, None)
    at = np.log([parse(r[0], "Hz") for r in rows])
    low, high = ([parse(r[i], "%") for r in rows] for i in (1, 2))
    return lambda f: (float(np.interp(np.log(f), at, low)), float(np.interp(np.log(f), at, high)))


class LevelChart(Chart):
    """The course's level under the capability lines; ends and level are dragged."""

    edited = pyqtSignal(dict)

    def __init__(self) -> None:
        super().__init__("Hz", "m/s² peak", log_x=True, log_y=True)
        self.low = Handle(self, 90, lambda f: f"{frequency_text(self._snap(f))} Hz", 0.06)
        self.high = Handle(self, 90, lambda f: f"{frequency_text(self._snap(f))} Hz", 0.06)
        self.level = Handle(self, 0, lambda v: f"{v:.3g} m/s²", 0.42)
        self.getPlotItem().getViewBox().setMouseEnabled(False, False)
        self.notes: list[Any] = []
        for handle in (self.low, self.high, self.level):
            handle.sigPositionChangeFinished.connect(self._finished)
            handle.sigPositionChanged.connect(self._preview)
        self.prepared: Prepared | None = None
        self.quiet = False

    @staticmethod
    def _snap(f: float) -> float:
        from ....core.quantities import preferred_frequencies

        near = preferred_frequencies(max(f / 2, 1), f * 2, 3)
        return min(near, key=lambda p: abs(math.log(p / f))) if near else f

    def show_prepared(self, prepared: Prepared, editable: bool) -> None:
        """Capability lines of the rig, the course, and the handles."""
        import pyqtgraph as pg

        self.prepared, self.quiet = prepared, True
        rig = prepared.rig
        f = np.geomspace(5, 14000, 220)
        lines = rig.capability_lines().lines(rig.plant(), f)
        envelope = HEADROOM * np.min(list(lines.values()), axis=0)
        self.forbidden("hatch", f, envelope, 2000.0)
        for note in self.notes:
            self.removeItem(note)
        self.notes = []
        names = list(lines)
        which = np.argmin(np.array(list(lines.values())), axis=0)
        for i, name in enumerate(names):
            part = which == i
            if part.any():
                y = np.where(part, envelope, np.nan)
                self.curve(f"line-{name}", f, y, "clay", 1.8, LINE_NAMES[name])
                at = int(np.median(np.flatnonzero(part)))
                text = pg.TextItem(LINE_NAMES[name], color=theme.color("clay"), anchor=(0.5, 1.15))
                text.setFont(theme.font(9, 500))
                text.setPos(np.log10(f[at]), np.log10(min(envelope[at], 1500)))
                self.addItem(text, ignoreBounds=True)
                self.notes.append(text)
        self._course(prepared)
        settings = prepared.settings
        frequencies = settings.frequencies()
        self.low.put(frequencies[0])
        self.high.put(frequencies[-1])
        self.level.put(settings.level)
        for handle in (self.low, self.high, self.level):
            handle.setMovable(editable)
        self.window((5, 14000), (1.0, 1500))
        self.quiet = False

    def _course(self, prepared: Prepared) -> None:
        items = [i for i in prepared.course() if i.frequency and i.level]
        if not items:  # a multi-sine drives all at once
            from ..run import tables

            bench = tables(prepared.settings)
            x = prepared.settings.frequencies()
            y = [bench.level(prepared.settings.level, f)[0] / math.sqrt(len(x)) / 1.5 for f in x]
        else:
            items.sort(key=lambda i: i.frequency or 0)
            x, y = [float(i.frequency or 0) for i in items], [float(i.level or 0) for i in items]
        self.curve("course", x, y, "brass", 2.6, "course", dots=True)

    def _preview(self) -> None:
        """The course follows while a handle moves; the plan is made anew when it is let go."""
        if self.quiet or self.prepared is None:
            return
        from ..run import tables

        bench, settings = tables(self.prepared.settings), self.prepared.settings
        from ....core.quantities import preferred_frequencies

        f = preferred_frequencies(self._snap(self.low.get()), self._snap(self.high.get()), settings.steps_per_octave)
        if f:
            self.curve("course", f, [bench.level(self.level.get(), x)[0] for x in f], "brass", 2.6, "course", dots=True)

    def _finished(self) -> None:
        if self.quiet:
            return
        low, high = self._snap(self.low.get()), self._snap(self.high.get())
        low, high = min(low, high), max(low, high)
        low, high = min(max(low, 5.0), 160.0), min(max(high, 160.0), 10000.0)
        level = float(f"{min(max(self.level.get(), 0.5), 400):.2g}")
        self.edited.emit({"start": f"{low:g} Hz", "stop": f"{high:g} Hz", "level": f"{level:g} m/s^2"})


class PointFigures(QWidget):
    """Large figures of the point being measured."""

    def __init__(self) -> None:
        super().__init__()
        grid = QGridLayout(self)
        grid.setContentsMargins(8, 2, 0, 2)
        grid.setVerticalSpacing(0)
        self.values: dict[str, Any] = {}
        rows = (("frequency", "frequency"), ("level", "level"), ("sensitivity", "sensitivity"), ("stage", "now"))
        for i, (key, title) in enumerate(rows):
            name = label(title, "muted")
            value = label("", "title")
            grid.addWidget(name, 2 * i, 0)
            grid.addWidget(value, 2 * i + 1, 0)
            self.values[key] = value
        self.setFixedWidth(150)

    def show_board(self, board: Board) -> None:
        live = board.live
        f = live.get("frequency")
        self.values["frequency"].setText(f"{f:g} Hz" if f else "–")
        level = live.get("level")
        self.values["level"].setText(f"{level:.3g} m/s²" if level else "–")
        good = [p for p in board.points if "sensitivity" in p]
        text = "–"
        if good:
            s, u = good[-1]["sensitivity"], good[-1]["uncertainty"]
            text = round_to_doubt(s, s * u / 100)
        self.values["sensitivity"].setText(text)
        stage = {"levelling": "levelling", "measuring": "measuring", "done": "read", "insert": "gain ratio"}
        repeat = live.get("repeat", 1)
        word = stage.get(live.get("stage", ""), board.state)
        self.values["stage"].setText(f"{word}, again" if word == "measuring" and repeat > 1 else word)


class Stage(QWidget):
    """The card with tabs and charts."""

    edited = pyqtSignal(dict)

    def __init__(self) -> None:
        super().__init__()
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        frame, column = card((16, 10, 12, 8), 6)
        outer.addWidget(frame)
        head = QHBoxLayout()
        self.title = label(TITLES["level"], "title")
        head.addWidget(self.title)
        head.addStretch()
        self.tabs = Tabs(TABS)
        self.tabs.chosen.connect(self.choose)
        head.addWidget(self.tabs)
        column.addLayout(head)
        self.pages = QStackedWidget()
        column.addWidget(self.pages, 1)
        self.level = LevelChart()
        self.level.edited.connect(self.edited)
        self.charts = {
            "deviation": Chart("Hz", "%"),
            "phase": Chart("Hz", "°"),
            "sensitivity": Chart("Hz", "mV/(m/s²)"),
        }
        self.wave = Chart("ms", "V", log_x=False)
        self.budget = BudgetView()
        self.order = {"level": self.level, **self.charts, "voltages": self.wave, "budget": self.budget}
        for widget in self.order.values():
            self.pages.addWidget(widget)
        self.under = QWidget()
        row = QHBoxLayout(self.under)
        row.setContentsMargins(0, 0, 0, 0)
        self.small = Chart("ms", "V", log_x=False)
        self.small.setFixedHeight(136)
        row.addWidget(self.small, 1)
        self.figures = PointFigures()
        row.addWidget(self.figures)
        column.addWidget(self.under)
        self.under.hide()
        for chart in self.charts.values():
            chart.on_click = self._open_point
        self.corridor: Any = lambda _f: (None, None)
        self.finding: Finding | None = None
        self.points_shown = -1

    def choose(self, key: str) -> None:
        self.tabs.choose(key, quiet=True)
        self.title.setText(TITLES[key])
        self.pages.setCurrentWidget(self.order[key])

    def _open_point(self, frequency: float) -> None:
        """A click on a curve opens the budget of its nearest point."""
        if self.finding is not None and self.finding.detail:
            self.budget.show_budgets(self.finding.detail["budgets"], frequency)
            self.choose("budget")

    def show_prepared(self, prepared: Prepared, editable: bool) -> None:
        self.corridor = corridor_of(prepared)
        self.finding, self.points_shown = None, -1
        self.level.show_prepared(prepared, editable)
        for chart in self.charts.values():
            chart.drop(*list(chart.series))
        unit = "pC/(m/s²)" if prepared.settings.conditioner_gain else "mV/(m/s²)"
        self.charts["sensitivity"].y_unit = unit
        self.charts["sensitivity"].apply_theme()
        self._draw_corridor(prepared.settings.frequencies())
        self.budget.show_budgets([], None)

    def _draw_corridor(self, frequencies: Sequence[float]) -> None:
        sides = [self.corridor(f) for f in frequencies]
        if sides and sides[0][0] is not None:
            low, high = [s[0] for s in sides], [s[1] for s in sides]
            self.charts["deviation"].corridor("corridor", frequencies, low, high)
            reach = 1.25 * max(max(high), -min(low))
            self.charts["deviation"].window((frequencies[0] / 1.15, frequencies[-1] * 1.15), (-reach, reach))

    def show_earlier(self, earlier: Curve | None) -> None:
        """The last calibration or take behind, in thin ink."""
        chart = self.charts["deviation"]
        chart.drop("earlier")
        if earlier is not None:
            chart.curve("earlier", earlier.x, earlier.y, "muted", 1.2, "last time", z=3)

    def show_board(self, board: Board) -> None:
        """Live: the waves, and the curves as far as they have grown."""
        running = board.state in ("running", "easing")
        self.under.setVisible(running and self.tabs.now in ("deviation", "phase", "sensitivity"))
        self._waves(self.wave if self.tabs.now == "voltages" else self.small, board)
        self.figures.show_board(board)
        if len(board.points) != self.points_shown:
            self.points_shown = len(board.points)
            self._grow(board.points)

    def _waves(self, chart: Chart, board: Board) -> None:
        wave = board.wave
        if not wave:
            return
        t = [1e3 * v for v in wave["t"]]
        chart.curve("reference", t, wave["reference"], "line", 6.0, "reference")
        chart.curve("unit", t, wave["unit"], "teal", 1.8, "unit", z=12)
        chart.legend({"reference": "muted", "unit": "teal"})
        peak = max(max(map(abs, wave["reference"])), max(map(abs, wave["unit"])), 1e-4) * 1.15
        # Room above for the names of the curves.
        chart.window((0, max(t)), (-peak, 1.35 * peak))

    def _grow(self, points: list[dict[str, Any]]) -> None:
        good = sorted((p for p in points if "sensitivity" in p), key=lambda p: p["frequency"])
        struck = [p["frequency"] for p in points if p.get("fault")]
        base = next((p["sensitivity"] for p in points if "sensitivity" in p), None)
        chart = self.charts["deviation"]
        chart.struck("struck", struck, [0.0] * len(struck))
        if base is None:
            return
        x = [p["frequency"] for p in good]
        d = [100 * (p["sensitivity"] / base - 1) for p in good]
        chart.curve("deviation", x, d, "teal", 2.2, "deviation", dots=True)
        chart.whiskers("doubt", x, d, [p["uncertainty"] for p in good])
        self._line("phase", x, [p["phase"] for p in good])
        self._line("sensitivity", x, [p["sensitivity"] for p in good])

    def _line(self, key: str, x: Any, y: Any, doubt: Any = None) -> None:
        chart = self.charts[key]
        chart.curve(key, x, y, "teal", 2.2, key, dots=True)
        if doubt is not None:
            chart.whiskers("doubt", x, y, doubt)
        good = [v for v in y if v is not None]
        if good:
            middle, half = (
                (max(good) + min(good)) / 2,
                max((max(good) - min(good)) * 0.7, abs(np.mean(good)) * 0.02, 0.4),
            )
            low, high = min(x) / 1.15, max(x) * 1.15
            chart.window((low, max(high, low * 2)), (middle - half, middle + half))

    def show_finding(self, finding: Finding, frequencies: Sequence[float]) -> None:
        """The finding's curves with their doubt, and its budgets; `frequencies` are the planned ones."""
        self.finding = finding
        self.under.hide()
        d = finding.curve("deviation")
        chart = self.charts["deviation"]
        if d.low is not None and d.high is not None:
            chart.corridor("corridor", d.x, d.low, d.high)
        chart.curve("deviation", d.x, d.y, "teal", 2.2, "deviation", dots=True)
        chart.whiskers("doubt", d.x, d.y, d.uncertainty or [0.0] * len(d.x))
        struck = [f for f, y in zip(d.x, d.y, strict=True) if y is None]
        chart.struck("struck", struck, [0.0] * len(struck))
        # A take that was cut is shown against all that was planned.
        x = sorted({*d.x, *frequencies})
        sides = [v for f in x for v in self.corridor(f) if v is not None]
        if sides:
            self._draw_corridor(x)
        values = [v for v in (*sides, *(d.low or ()), *(d.high or ()), *d.y) if v is not None]
        if values:
            reach = 1.2 * max(map(abs, values))
            chart.window((x[0] / 1.15, x[-1] * 1.15), (-reach, reach))
        for key in ("phase", "sensitivity"):
            c = finding.curve(key)
            self._line(key, c.x, c.y, c.uncertainty or [0.0] * len(c.x))
        self.budget.show_budgets((finding.detail or {}).get("budgets", []), None)
