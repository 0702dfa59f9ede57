"""The Stage of an amplifier: conditions above, the sheet in the middle, and the curves that stand behind it."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QScrollArea, QSplitter, QVBoxLayout, QWidget

from ....contracts.finding import Curve, Finding
from ....desktop.parts.chart import Chart
from ....desktop.parts.widgets import Elided, Tabs, button, card
from ....engine.preparing import Prepared
from ....protocol.messages import Board
from ..sheet_reading import KEPT
from ..sheet_settings import PRECONDITION, tasks
from .conditions_view import ConditionsView
from .sheet_view import SheetHead, SheetView

CHARTS = (
    ("now", "Now", "", "ms", "V"),
    ("power", "Distortion against power", "distortion_power_", "W", "%"),
    ("response", "Response", "gain_", "Hz", "dB"),
    ("phase", "Phase", "between_", "Hz", "°"),
    ("noise", "Noise and hum", "noise_", "Hz", "µV"),
    ("spectrum", "Spectrum", "spectrum_", "Hz", "V"),
)
PLAIN = ("now", "response", "phase")
"""Charts whose upward axis is even"""
DEEPEST = 12.0
"""dB below its highest that a response is shown to: where it has fallen further it is of no use"""
FEW = 12
"""Points below which a response is one of spot tones"""
NAMED = 4.0
"""Times the noise about it by which a multiple of the mains must stand out to be named"""
FIRST = {"output-power": "power", "output-response": "response", "output-noise": "noise",
         "output-distortion": "spectrum", "output-intermodulation": "spectrum"}  # fmt: skip


class SheetStage(QWidget):
    """Conditions, sheet and curves."""

    picked_one = pyqtSignal(str)
    """a reading, by its task"""

    def __init__(self) -> None:
        super().__init__()
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        frame, column = card((14, 10, 14, 8), 6)
        outer.addWidget(frame)
        self.conditions = ConditionsView()
        column.addWidget(self.conditions)
        self.parts = QSplitter(Qt.Orientation.Vertical)
        self.parts.setChildrenCollapsible(False)
        column.addWidget(self.parts, 1)
        self.sheet = SheetView()
        self.sheet.chosen.connect(self.choose)
        self.area = QScrollArea()
        self.area.setWidgetResizable(True)
        self.area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.area.setWidget(self.sheet)
        self.sheet.setObjectName("clear")
        upper = QWidget()
        above = QVBoxLayout(upper)
        above.setContentsMargins(0, 0, 0, 0)
        above.setSpacing(0)
        self.head = SheetHead(self.sheet)
        above.addWidget(self.head)
        above.addWidget(self.area, 1)
        self.parts.addWidget(upper)
        lower = QWidget()
        below = QVBoxLayout(lower)
        below.setContentsMargins(0, 2, 0, 0)
        below.setSpacing(2)
        head = QHBoxLayout()
        self.tabs = Tabs([(key, title) for key, title, *_ in CHARTS])
        self.tabs.chosen.connect(lambda _key: self._draw())
        head.addWidget(self.tabs)
        self.told = Elided("", "muted")
        self.told.setAlignment(Qt.AlignmentFlag.AlignRight)
        head.addWidget(self.told, 1)
        self.make = button("Limits from units", tip="A corridor around this curve, for the takes to come")
        self.card = button(
            "Calibrate the sound card", tip="Its volts at full scale, its delay, and whether it loses samples"
        )
        for one in (self.make, self.card):
            one.hide()
            head.addWidget(one)
        below.addLayout(head)
        self.charts = {k: Chart(x, y, log_x=k != "now", log_y=k not in PLAIN)
                       for k, _, _, x, y in CHARTS}  # fmt: skip
        for chart in self.charts.values():
            below.addWidget(chart, 1)
            chart.hide()
        self.parts.addWidget(lower)
        self.parts.setSizes([270, 230])
        self.finding: Finding | None = None
        self.earlier: Finding | None = None
        self.prepared: Prepared | None = None
        self.picked: str | None = None

    # --- what is shown -----------------------------------------------------------------------------------------

    def show_prepared(self, prepared: Prepared, editable: bool) -> None:
        """The sheet as it is planned, empty."""
        self.card.setVisible(editable and prepared.rig.front_end.driver == "soundcard")
        self.prepared, self.finding, self.picked = prepared, None, None
        s = prepared.settings
        limit = prepared.rig.load.limit if prepared.rig.load else 120.0
        self.conditions.begin(s.supply.edges, s.supply.nominal, limit)
        self.sheet.show_rows(*planned(prepared))
        self.head.update()
        self.sheet.show_live(None, {})
        self._draw()

    def show_board(self, board: Board) -> None:
        """A moment of the run."""
        if board.instruments is not None and board.state in ("walk-round", "running", "easing"):
            self.conditions.add(board.t if board.state != "walk-round" else 0.0, board.instruments)
        live = board.live
        if board.state == "running" and "cells" in live:
            self.sheet.show_live(live.get("task"), live["cells"])
            line = self.sheet.line_of(live.get("task"))
            if line is not None:
                self.area.ensureVisible(0, int(line.top), 0, 90)
        if self.tabs.now == "now" and "t" in board.wave:
            self._waves(board.wave)

    def show_earlier(self, finding: Finding | None) -> None:
        """An earlier take, in thin ink behind the curves."""
        self.earlier = finding if finding is not None and finding.method == "amplifier-sheet" else None

    def show_finding(self, finding: Finding) -> None:
        """The sheet as it was read."""
        self.finding = finding
        held = (finding.detail or {}).get("sheet", {})
        if self.tabs.now == "now":
            self.tabs.choose("power", quiet=True)
        self.sheet.show_live(None, {})
        self.sheet.show_rows(held.get("columns", []), held.get("rows", []))
        self.head.update()
        self._draw()

    def show_events(self, events: list[dict[str, Any]]) -> None:
        """Conditions of a finished take."""
        self.conditions.show_events(events)

    def choose(self, task: str) -> None:
        """A reading was clicked: the curve behind it."""
        self.picked = task
        self.picked_one.emit(task)
        if self.prepared is None:
            return
        step = next(
            (t.step for t in tasks(self.prepared.settings.model_copy(update={"only": []})) if t.key == task), None
        )
        kind = FIRST.get(step.method) if step is not None else None
        if kind is not None:
            self.tabs.choose(kind)

    # --- curves ------------------------------------------------------------------------------------------------

    def _curves(self, start: str) -> list[Curve]:
        return [c for c in self.finding.curves if c.key.startswith(start)] if self.finding else []

    @property
    def curve_in_hand(self) -> Curve | None:
        """The curve of the reading that was clicked, else the first that limits could be made of."""
        start = next(row[2] for row in CHARTS if row[0] == self.tabs.now)
        held = [c for c in self._curves(start) if len(c.x) >= (FEW if self.tabs.now == "response" else 2)]
        return next((c for c in held if self.picked and c.key.endswith(f"_{self.picked}")), held[0] if held else None)

    def _draw(self) -> None:
        for key, chart in self.charts.items():
            chart.setVisible(key == self.tabs.now)
        _, _, start, *_ = next(row for row in CHARTS if row[0] == self.tabs.now)
        self.make.setVisible(self.finding is not None and self.tabs.now in ("power", "response"))
        chart = self.charts[self.tabs.now]
        chart.drop(*list(chart.series))
        if self.tabs.now == "now":
            self.told.setText("What the outputs do at this moment.")
            return
        curves = self._curves(start)
        if self.tabs.now in ("spectrum", "noise") and curves:
            self._spectrum(chart, curves)
            return
        self.told.setText("" if curves else "It appears when the take has been read.")
        if self.earlier is not None:
            for c in self.earlier.curves:
                if c.key.startswith(start):
                    chart.curve(f"_{c.key}", c.x, c.y, "muted", 0.9, "earlier", z=4)
        names = {}
        for i, c in enumerate(curves):
            role, style, name = look_of(c.label, self.sheet.columns)
            if self.tabs.now == "phase":
                role, style, name = ("teal", "ink", "brass", "plum")[i % 4], Qt.PenStyle.SolidLine, c.label
            few = len(c.x) < FEW
            chart.curve(c.key, c.x, c.y, role, 0.1 if few else 2.0, name, few, Qt.PenStyle.NoPen if few else style)
            names[name] = role
            spoiled = [i for i, good in enumerate(c.valid or ()) if not good]
            if spoiled:
                chart.struck(f"spoiled_{c.key}", [c.x[i] for i in spoiled], [c.y[i] for i in spoiled])
        if any(c.valid and not all(c.valid) for c in curves):
            self.told.setText("× does not count")
        if curves:
            chart.legend(names)
            self._mask(chart, curves)
            self._frame(chart, curves)

    def _waves(self, wave: dict[str, Any]) -> None:
        """The outputs, as they are now."""
        chart, t = self.charts["now"], 1e3 * np.asarray(wave["t"])
        top, names = 0.01, {}
        for name, role in zip([k for k in wave if k != "t"], ("teal", "ink"), strict=False):
            chart.curve(name, t, wave[name], role, 1.5, name)
            names[name] = role
            top = max(top, float(np.max(np.abs(wave[name]))))
        chart.legend(names)
        chart.window((float(t[0]), float(t[-1])), (-1.15 * top, 1.15 * top))

    @staticmethod
    def _mask(chart: Chart, curves: list[Curve]) -> None:
        for c in curves:
            if c.low is not None and c.high is not None:
                chart.corridor("mask", c.x, c.low, c.high)
                return

    def _frame(self, chart: Chart, curves: list[Curve]) -> None:
        x = np.concatenate([np.array(c.x) for c in curves])
        y = np.concatenate([np.array(c.y, float) for c in curves])
        if self.tabs.now in PLAIN:
            chart.window(*own_range(x, y, DEEPEST if self.tabs.now == "response" else math.inf))
            return
        good = np.isfinite(y) & (y > 0)
        chart.window(
            (float(x.min()) * 0.8, float(x.max()) * 1.25), (float(y[good].min()) * 0.6, float(y[good].max()) * 6)
        )

    def _spectrum(self, chart: Chart, curves: list[Curve]) -> None:
        """One spectrum, harmonics or mains multiples named: of the reading that was clicked, else the first."""
        at = next((c for c in curves if self.picked and c.key.endswith(f"_{self.picked}")), curves[0])
        by = 1e6 if self.tabs.now == "noise" else 1.0
        x, y = np.array(at.x), by * np.array(at.y, float)
        chart.curve("spectrum", x, y, "teal", 1.3, at.label)
        marks = next((c for c in self._curves("mains_") if c.key.split("_", 1)[1] == at.key.split("_", 1)[1]), None)
        keep = (x >= 15) & (y > 0)
        low, high = float(np.quantile(y[keep], 0.05)) * 0.3, float(y[keep].max()) * 6
        if self.tabs.now == "noise" and marks is not None:
            levels = by * np.array(marks.y, float)
            chart.curve("mains", marks.x, levels, "ink", 0.1, "of the mains", dots=True, style=Qt.PenStyle.NoPen)
            strongest = sorted(zip(levels, marks.x, strict=True), reverse=True)[:5]
            # Of hundreds of multiples some stand out of the noise by chance; those are not worth a word.
            ground = NAMED * float(np.median(y[keep]))
            for i, (level, f) in enumerate(one for one in strongest if one[0] > ground):
                chart.note(f"note{i}", f, level, f"{f:.0f} Hz")
        if self.tabs.now == "spectrum":
            for i, (f, level, text) in enumerate(tops(x, y)):
                chart.note(f"note{i}", f, level, text)
        chart.window((15, float(x.max())), (low, high))
        self.told.setText(at.label)

    def repaint_charts(self) -> None:
        for chart in self.charts.values():
            chart.apply_theme()
        self._draw()


def own_range(x: np.ndarray, y: np.ndarray, deepest: float) -> tuple[tuple[float, float], tuple[float, float]]:
    """Both axes' ends for curves over frequency: all of them, no more than `deepest` below the highest."""
    good = y[np.isfinite(y)]
    high = float(good.max()) if good.size else 1.0
    low = max(float(good.min()) if good.size else 0.0, high - deepest)
    # Along the axis as far as there is something to be seen.
    seen = x[np.isfinite(y) & (y >= low)]
    room = max(0.12 * (high - low), 0.25)
    # Above, where the names of the curves stand, twice as much.
    return (float(seen.min()) * 0.9, float(seen.max()) * 1.1), (low - room, high + 2.5 * room)


def look_of(label: str, columns: list[str]) -> tuple[str, Qt.PenStyle, str]:
    """Colour by channel and stroke by load, in the order of the sheet's columns, and the name that a legend shows."""
    column = label.rsplit(", ", 1)[-1]
    parts = [(c.split(" · ") + [""])[:2] for c in columns]
    channels, loads = (list(dict.fromkeys(p[k] for p in parts)) for k in (0, 1))
    channel, load = (column.split(" · ") + [""])[:2]
    strokes = (Qt.PenStyle.SolidLine, Qt.PenStyle.DashLine, Qt.PenStyle.DotLine)
    role = ("teal", "ink", "muted")[channels.index(channel) % 3] if channel in channels else "ink"
    return role, strokes[loads.index(load) % 3] if load in loads else strokes[0], column


def tops(x: np.ndarray, y: np.ndarray, count: int = 6) -> list[tuple[float, float, str]]:
    """The strongest lines of a spectrum with names: the tone's frequency, and which harmonic of it the others are."""
    order = np.argsort(-np.where(x >= 18, y, 0.0))
    made: list[tuple[float, float, str]] = []
    ground = float(np.median(y[x >= 18]))
    for i in order:
        if len(made) >= count or y[i] < 8 * ground:
            break
        if any(abs(np.log(x[i] / f)) < 0.06 for f, *_ in made):
            continue
        first = made[0][0] if made else float(x[i])
        ratio = float(x[i]) / first
        near = round(ratio)
        if not made:
            text = f"{x[i]:.0f} Hz"
        elif near >= 2 and abs(ratio - near) < 0.03 * near:
            text = f"{near}"
        else:
            text = f"{x[i]:.0f}"
        made.append((float(x[i]), float(y[i]), text))
    return made


def planned(prepared: Prepared) -> tuple[list[str], list[dict[str, Any]]]:
    """Columns and rows of a sheet that is not taken yet."""
    from ....contracts import registry
    from ....core.quantities import parse

    columns: list[str] = []
    rows: dict[str, dict[str, Any]] = {}
    for task in tasks(prepared.settings):
        if task.step.method == PRECONDITION:
            continue
        if task.column not in columns:
            columns.append(task.column)
        known = registry.get(task.step.method).readings
        name = task.step.label or task.step.name
        if len(task.step.tones) > 1:
            name = f"{name}, {task.tone / 1000:g} kHz" if task.tone >= 1000 else f"{name}, {task.tone:g} Hz"
        keys = ("series",) if task.step.series is not None else KEPT[task.step.method]
        for key in keys:
            text = known.get(key, "Distortion against power [%]")
            reading, _, unit = text.rpartition(" [")
            unit = unit.rstrip("]")
            sides = task.step.limits.get(key, {})
            low, high = (None if sides.get(s) is None else parse(sides[s], unit, s) for s in ("low", "high"))
            row = rows.setdefault(f"{name}|{key}", {"step": name, "reading": reading, "unit": unit, "low": low,
                                                    "high": high, "cells": {}})  # fmt: skip
            row["cells"][task.column] = {"task": task.key}
    return columns, list(rows.values())
