"""The Bench of any method that brings no Stage of its own: its channels while it runs, its views when it was read."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtWidgets import QHBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from ..contracts.finding import Finding
from ..contracts.method import Axis
from ..engine.preparing import Prepared
from ..lab.takes import Take
from ..protocol.messages import Board
from .chart import Chart
from .course_view import clock
from .shaker_panels import Row, ShakerResult
from .side import Side
from .stretch_view import StretchView
from .widgets import Elided, Tabs, button, card, label, three

if TYPE_CHECKING:
    from .bench_place import BenchPlace

ROLES = ("teal", "ink", "brass", "plum")
"""Inks of the curves of one picture, in order"""


class PlainStage(QWidget):
    """What comes in now; and, once there is a finding, each of the method's views, the finding before it behind."""

    def __init__(self) -> None:
        super().__init__()
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        frame, column = card((16, 10, 12, 8), 6)
        outer.addWidget(frame)
        head = QHBoxLayout()
        self.title = label("", "title")
        head.addWidget(self.title)
        self.told = Elided("", "muted")
        head.addWidget(self.told, 1)
        self.tab_row = QHBoxLayout()
        head.addLayout(self.tab_row)
        column.addLayout(head)
        self.charts = QStackedWidget()
        column.addWidget(self.charts, 1)
        self.now = Chart("ms", "V", log_x=False)
        self.charts.addWidget(self.now)
        self.views: dict[str, tuple[Axis, Chart]] = {}
        self.begun: set[str] = set()
        """What was shown for the first time since this plan was opened"""
        self.tabs: Tabs | None = None
        self.earlier: Finding | None = None

    def show_prepared(self, prepared: Prepared, _editable: bool) -> None:
        self.title.setText(prepared.method.title)
        self.told.setText(f"{len(prepared.rig.channels)} channels")
        for _, chart in self.views.values():
            self.charts.removeWidget(chart)
            chart.deleteLater()
        if self.tabs is not None:
            self.tab_row.removeWidget(self.tabs)
            self.tabs.deleteLater()
        self.now.drop(*[k for k in self.now.series if k != "legend"])
        self.begun.clear()
        self.views = {a.key: (a, Chart(a.x_label, a.y_label, a.x_log, a.y_log)) for a in prepared.method.views}
        for _, chart in self.views.values():
            self.charts.addWidget(chart)
        self.tabs = Tabs([("now", "Now"), *((k, a.title) for k, (a, _) in self.views.items())])
        self.tabs.chosen.connect(self._chosen)
        self.tab_row.addWidget(self.tabs)
        self.charts.setCurrentWidget(self.now)

    def _chosen(self, key: str) -> None:
        self.charts.setCurrentWidget(self.now if key == "now" else self.views[key][1])

    def show_board(self, board: Board) -> None:
        self._growing(board)
        wave = board.wave
        if "t" not in wave:
            return
        names = [k for k in wave if k != "t"]
        for i, name in enumerate(names):
            self.now.curve(name, 1e3 * np.asarray(wave["t"]), wave[name], ROLES[i % len(ROLES)], 1.4, name)

    def _growing(self, board: Board) -> None:
        """Curves that a method draws while it runs, on the view that they belong to; it is shown when they begin."""
        curves = board.live.get("curves") if board.live and "read" not in self.begun else None
        for key, lines in (curves or {}).items():
            if key not in self.views:
                continue
            axis, chart = self.views[key]
            fresh = "growing" not in self.begun
            for i, (name, (x, y)) in enumerate(lines.items()):
                chart.curve(f"growing {name}", np.array(x, float), np.array(y, float), ROLES[i], 2.2, name)
            if fresh and self.tabs is not None:
                self.begun.add("growing")
                self.tabs.choose(axis.key)

    def show_earlier(self, finding: Finding | None) -> None:
        self.earlier = finding

    def show_finding(self, finding: Finding) -> None:
        self.begun.add("read")
        for axis, chart in self.views.values():
            chart.drop(*[k for k in chart.series if k != "legend"])
            before = self.earlier if self.earlier is not None and self.earlier.method == finding.method else None
            for i, c in enumerate(c for c in (before.curves if before else ()) if axis.shows(c.key)):
                chart.curve(f"before {i}", np.array(c.x, float), np.array(c.y, float), "muted", 1.0, "before")
            for i, c in enumerate(c for c in finding.curves if axis.shows(c.key)):
                if c.low is not None and c.high is not None:
                    chart.corridor(f"limits of {c.key}", c.x, c.low, c.high)
                role = ROLES[i % len(ROLES)]
                chart.curve(c.key, np.array(c.x, float), np.array(c.y, float), role, 2.2 if i == 0 else 1.4, c.label)
        shown = next((k for k, (a, _) in self.views.items() if any(a.shows(c.key) for c in finding.curves)), None)
        if shown is not None and self.tabs is not None:
            self.tabs.choose(shown)

    def repaint_charts(self) -> None:
        for chart in (self.now, *(c for _, c in self.views.values())):
            chart.apply_theme()


class PlainBench(Side):
    """What the Bench shows and does for a method that no other side knows."""

    def __init__(self, bench: BenchPlace) -> None:
        super().__init__(bench)
        self.stage = PlainStage()
        self.stretches = StretchView()
        self.result = ShakerResult()
        self.result.nothing = "Nothing was read."
        self.result.again.connect(bench.again)
        self.result.carry_on.connect(bench.carry_on)
        self.next = button("Next stretch  N", tip="Leave this stretch and go on with the next one")
        self.next.clicked.connect(self.skip)
        self.buttons = (self.next,)

    @property
    def here(self) -> bool:
        """Whether there is a plan that no other side takes."""
        others = (s for s in self.bench.sides if s is not self)
        return self.bench.prepared is not None and not any(s.here for s in others)

    def show_prepared(self, prepared: Prepared, editable: bool) -> None:
        self.stage.show_prepared(prepared, editable)
        self.stage.show_earlier(self.bench.finding_before())
        self.stretches.show_course(prepared.course(), False)
        total = sum(i.duration for i in prepared.course())
        self.bench.told.setText(f"{clock(total)} in all")

    def skip(self) -> None:
        if self.bench.state == "running":
            self.bench.link.order("skip")

    def show_running(self, board: Board) -> None:
        rows: list[Row] = [(k, v, None, 0.0, "plain", "") for k, v in board.live.get("shown", {}).items()] or [
            (name.replace("_", " ").capitalize(), three(value), None, 0.0, "plain", "")
            for name, value in board.live.items()
            if isinstance(value, (int, float)) and not isinstance(value, bool) and name not in ("item", "at", "of")
        ]
        self.bench.run.show_board(board, rows, "")
        if board.live.get("of"):
            item = int(board.live.get("item", 0))
            self.stretches.show_progress(item, min(float(board.live.get("at", 0.0)) / float(board.live["of"]), 1.0))
        self.bench.told.setText(f"{Path(board.take or '').name} · {clock(board.t)} recorded")

    def show_done(self, take: Take, status: str, reason: str | None) -> None:
        bench = self.bench
        bench.panels.setCurrentWidget(self.result)
        cut = reason or (status if status != "done" else None)
        if bench.finding is not None:
            self.stage.show_earlier(bench.finding_before())
            self.stage.show_finding(bench.finding)
        self.result.show_finding(bench.finding, cut, take.position() is not None)
        self.stretches.show_progress(None, 0.0, all_done=cut is None)
        bench.ended(take, "", reason)
