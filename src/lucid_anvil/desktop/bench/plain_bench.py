"""The Bench of any method that brings no Stage of its own: its channels while it runs, its views when it was read."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QStackedWidget, QVBoxLayout, QWidget

from ...contracts.finding import Finding
from ...contracts.method import Axis, Calibrated
from ...core.errors import BadInput
from ...core.figures import axis_unit
from ...core.quantities import round_to_doubt
from ...engine.preparing import Prepared
from ...folio.accepting import accept_take
from ...lab.takes import Take
from ...protocol.messages import Board
from ..parts.chart import Chart
from ..parts.panels import Row
from ..parts.widgets import Elided, Tabs, button, card, label, three
from .calibrate_sheet import AcceptSheet
from .course_view import clock
from .gauge_view import GaugeView
from .run_orders import RunOrders
from .run_result import RunResult
from .side import Side
from .stretch_view import StretchView

if TYPE_CHECKING:
    from .place import BenchPlace

ROLES = ("teal", "ink", "brass", "plum")
"""Inks of the curves of one picture, in order"""


@dataclass(frozen=True)
class Scale:
    """What values are multiplied by on a picture, so that its axes can be read: 60 bar, not 6e+06 Pa."""

    by_x: float
    by_y: float

    @staticmethod
    def of(chart: Chart, axis: Axis, x: Sequence[Any], y: Sequence[Any], y_unit: str, x_unit: str = "") -> Scale:
        """The scale that fits all curves; the chart's axes are named by it. `x_unit`: where the axis says none."""
        own = axis.x_label or x_unit
        by_x, x_unit = (1.0, own) if axis.x_log else axis_unit(_most(x), own)
        by_y, y_unit = (1.0, y_unit) if axis.y_log else axis_unit(_most(y), y_unit)
        chart.name_axes(x_unit, y_unit)
        return Scale(by_x, by_y)

    def x(self, values: Any) -> np.ndarray:
        return self.by_x * np.array(values, float)

    def y(self, values: Any) -> np.ndarray:
        return self.by_y * np.array(values, float)


STYLES = (Qt.PenStyle.SolidLine, Qt.PenStyle.DashLine, Qt.PenStyle.DotLine, Qt.PenStyle.DashDotLine)


def inks(names: Sequence[str]) -> dict[str, tuple[str, Qt.PenStyle]]:
    """Ink and stroke of curves by name. Where there are more than inks, and their names say what of which ("Loss
    modulus, 5 Hz"), what has a stroke and which has an ink; those whose ink comes again do so in turn."""
    if len(names) <= len(ROLES):
        return {n: (ROLES[i], STYLES[0]) for i, n in enumerate(names)}
    parts = [n.partition(", ") for n in names]
    stems, members = (list(dict.fromkeys(p[k] for p in parts)) for k in (0, 2))
    return {
        n: (ROLES[members.index(which) % len(ROLES)], STYLES[stems.index(what) % len(STYLES)])
        for n, (what, _, which) in zip(names, parts, strict=True)
    }  # fmt: skip


def legend_of(names: Sequence[str]) -> dict[str, str]:
    """What is written above the curves: which has which ink, and what is not a whole line. Nothing for one alone."""
    held = inks(names)
    if len(names) <= len(ROLES):
        return {n: role for n, (role, _) in held.items()} if len(names) > 1 else {}
    made: dict[str, str] = {}
    for name, (role, _) in held.items():
        which = name.partition(", ")[2]
        if which and len(made) < len(ROLES):
            made.setdefault(which, role)
    words = {STYLES[1]: "dashed", STYLES[2]: "dotted", STYLES[3]: "dash and dot"}
    others = {n.partition(", ")[0]: words[style] for n, (_, style) in held.items() if style in words}
    return made | {f"{word}: {what.lower()}": "muted" for what, word in others.items()}


def _most(rows: Sequence[Any]) -> float:
    held = [np.nanmax(np.abs(v)) for r in rows if (v := np.array(r, float)).size and np.isfinite(v).any()]
    return float(max(held, default=0.0))


FALLING = " falling"
"""What a growing line's name ends with that goes on from the one of the name before it, the other way"""


class PlainStage(QWidget):
    """What comes in now; and, once there is a finding, each of the method's views, the finding before it behind."""

    names_curves = True
    """Off where what is drawn is written beside it"""

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
        self.gauge = GaugeView()
        column.addWidget(self.gauge)
        self.asked = label("", "big", wrap=True)
        self.asked.hide()
        column.addWidget(self.asked)
        self.typing = 0
        """Number of the reading that is being typed; none: 0"""
        self.typed = QLineEdit()
        self.typed.setAccessibleName("reading of an instrument that no cable reaches")
        self.typed.setPlaceholderText("such as 10.02 kN, then Enter")
        self.typed.setFixedWidth(260)
        self.typed.setStyleSheet("font-size: 18px;")
        self.typed.hide()
        column.addWidget(self.typed)
        self.charts = QStackedWidget()
        column.addWidget(self.charts, 1)
        self.now = Chart("ms", "V", log_x=False)
        self.charts.addWidget(self.now)
        self.views: dict[str, tuple[Axis, Chart]] = {}
        self.own: list[tuple[str, str, QWidget]] = []
        """Views that a Stage brings beside its method's: key, title, what is shown"""
        self.begun: set[str] = set()
        """What was shown for the first time since this plan was opened"""
        self.tabs: Tabs | None = None
        self.earlier: Finding | None = None

    def show_prepared(self, prepared: Prepared, _editable: bool) -> None:
        self.title.setText(prepared.method.title)
        count = len(prepared.rig.channels)
        self.told.setText(f"{count} channel{'' if count == 1 else 's'}")
        for _, chart in self.views.values():
            self.charts.removeWidget(chart)
            chart.deleteLater()
        if self.tabs is not None:
            self.tab_row.removeWidget(self.tabs)
            self.tabs.deleteLater()
        self.now.drop(*[k for k in self.now.series if k != "legend"])
        self.begun.clear()
        shown = prepared.method.shown(prepared.settings)
        self.views = {a.key: (a, Chart(a.x_label, a.y_label, a.x_log, a.y_log)) for a in shown}
        for _, chart in self.views.values():
            self.charts.addWidget(chart)
        self.tabs = Tabs([("now", "Now"), *((k, a.title) for k, (a, _) in self.views.items()),
                          *((k, title) for k, title, _ in self.own)])  # fmt: skip
        self.tabs.chosen.connect(self._chosen)
        self.tab_row.addWidget(self.tabs)
        self.charts.setCurrentWidget(self.now)

    def _chosen(self, key: str) -> None:
        own = next((w for k, _, w in self.own if k == key), None)
        self.charts.setCurrentWidget(own or (self.now if key == "now" else self.views[key][1]))

    def show_board(self, board: Board) -> None:
        self.gauge.show_gauge(board.live.get("gauge") if board.live and board.state == "running" else None)
        asks = str(board.live.get("ask", "")).rstrip(".") if board.live and board.live.get("stage") == "asking" else ""
        self.asked.setText(f"{asks}." if asks else "")
        self.asked.setVisible(bool(asks))
        typing = int(board.live.get("typing") or 0) if asks else 0
        if typing != self.typing:
            # Another reading: the one before must not stand there as if it were the next.
            self.typing = typing
            self.typed.clear()
            self.typed.setVisible(typing > 0)
            if typing:
                self.typed.setFocus()
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
            own = axis.y_label or str((board.live.get("units") or {}).get(key, ""))
            over = str((board.live.get("units_x") or {}).get(key, ""))
            scale = Scale.of(chart, axis, [x for x, _ in lines.values()], [y for _, y in lines.values()], own, over)
            fresh = "growing" not in self.begun
            whole = [name for name in lines if not name.endswith(FALLING)]
            held = inks(whole)
            for name, (x, y) in lines.items():
                # A branch that falls has the ink of the one that rose, thinner.
                wide = 1.2 if name.endswith(FALLING) else 2.2
                role, style = held.get(name.removesuffix(FALLING), (ROLES[0], STYLES[0]))
                chart.curve(f"growing {name}", scale.x(x), scale.y(y), role, wide, name, style=style, dots=len(x) < 4)
            self._named(chart, whole)
            if fresh and self.tabs is not None:
                self.begun.add("growing")
                self.tabs.choose(axis.key)

    def _named(self, chart: Chart, names: Sequence[str]) -> None:
        """What the curves are, in their inks, where there are several."""
        if self.names_curves and (written := legend_of(names)):
            chart.legend(written)

    def show_earlier(self, finding: Finding | None) -> None:
        self.earlier = finding

    def show_finding(self, finding: Finding) -> None:
        self.gauge.show_gauge(None)
        self.asked.hide()
        self.typed.hide()
        self.begun.add("read")
        for axis, chart in self.views.values():
            chart.drop(*chart.series)
            there = [c for c in finding.curves if axis.shows(c.key)]
            own = axis.y_label or (there[0].y_unit if there else "")
            over = there[0].x_unit if there else ""
            scale = Scale.of(chart, axis, [c.x for c in there], [c.y for c in there], own, over)
            before = self.earlier if self.earlier is not None and self.earlier.method == finding.method else None
            for i, c in enumerate(c for c in (before.curves if before else ()) if axis.shows(c.key)):
                chart.curve(f"before {i}", scale.x(c.x), scale.y(c.y), "muted", 1.0, "before")
            held = inks([c.label for c in there])
            for i, c in enumerate(there):
                if c.low is not None and c.high is not None:
                    chart.corridor(f"limits of {c.key}", scale.x(c.x), scale.y(c.low), scale.y(c.high))
                role, style = held[c.label]
                chart.curve(c.key, scale.x(c.x), scale.y(c.y), role, 2.2 if i == 0 else 1.4, c.label, style=style)
            self._named(chart, [c.label for c in there])
        shown = next((k for k, (a, _) in self.views.items() if any(a.shows(c.key) for c in finding.curves)), None)
        if shown is not None and self.tabs is not None:
            self.tabs.choose(shown)

    def repaint_charts(self) -> None:
        for chart in (self.now, *(c for _, c in self.views.values())):
            chart.apply_theme()


class PlainBench(Side):
    """What the Bench shows and does for a method that no other side knows."""

    name = "plain"

    def __init__(self, bench: BenchPlace) -> None:
        super().__init__(bench)
        self.stage = PlainStage()
        self.stretches = StretchView()
        self.result = RunResult()
        self.result.nothing = "Nothing was read."
        self.result.again.connect(bench.again)
        self.result.carry_on.connect(bench.carry_on)
        self.next = button("Next stretch  N", tip="Leave this stretch and go on with the next one")
        self.next.clicked.connect(self.skip)
        self.done = button("Done, go on", "main", "What the window asks for is done")
        self.done.clicked.connect(self.go)
        self.done.hide()
        self.stage.typed.returnPressed.connect(self.go)
        self.orders = RunOrders(bench)
        self.buttons = (*self.orders.buttons, self.next, self.done)
        self.enter = button("Accept into the ledger…", "main", "As the unit's calibration, with a certificate")
        self.enter.clicked.connect(self.accept)
        self.enter.hide()
        self.result.column.insertWidget(self.result.column.indexOf(self.result.more), self.enter)

    @property
    def here(self) -> bool:
        """Whether there is a plan that no other side takes."""
        others = (s for s in self.bench.sides if s is not self)
        return self.bench.prepared is not None and not any(s.here for s in others)

    def show_prepared(self, prepared: Prepared, editable: bool) -> None:
        self.stage.show_prepared(prepared, editable)
        self.orders.offer(prepared.method)
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
        asking = board.live.get("stage") == "asking"
        self.done.setVisible(asking)
        # No step of a series is left out, nor what a method could not do without.
        self.next.setVisible("gauge" not in board.live and "skip" in self.orders.taken)
        self.orders.show_offered(board.live)
        self.bench.told.setText(
            str(board.live["ask"]) if asking else f"{Path(board.take or '').name} · {clock(board.t)} recorded"
        )

    def go(self) -> None:
        """What is asked for is done; or what was to be read is typed."""
        if not self.done.isVisible():
            return
        if not self.stage.typed.isVisibleTo(self.stage):
            self.bench.link.order("go")
        elif self.stage.typed.text().strip():
            self.bench.link.order("row", meter=self.stage.typed.text().strip())
            self.stage.typed.selectAll()

    def accept(self) -> None:
        """The finding as the unit's calibration: into the ledger, with a certificate."""
        bench = self.bench
        if bench.take is None or bench.finding is None:
            return
        take, finding = Take(bench.take), bench.finding
        plan = take.plan()
        serial = plan.sensors["unit"].serial

        def go(state: str, by: str, due: bool, reason: str) -> None:
            def then(number: str) -> None:
                self.enter.hide()
                bench.said.emit(f"Accepted. Certificate {number} is in the Folio.")
                bench.accepted.emit(serial)

            bench.aside.run("accept", lambda: accept_take(bench.lab, take, finding, state, by, due, reason), then)

        missing = "; ".join(finding.missing)
        AcceptSheet(bench, serial, plan.as_state, bench.lab.facts.operator, missing, go).open()

    def _calibration(self, take: Take) -> Calibrated | None:
        """What the finding says of the unit, where it calibrates one."""
        prepared, finding = self.bench.prepared, self.bench.finding
        unit = take.plan().sensors.get("unit")
        if prepared is None or finding is None or unit is None or not prepared.method.calibrates:
            return None
        try:
            return prepared.method.calibration(finding, unit.unit)
        except BadInput:
            return None

    def show_done(self, take: Take, status: str, reason: str | None) -> None:
        bench = self.bench
        bench.panels.setCurrentWidget(self.result)
        cut = reason or (status if status != "done" else None)
        if bench.finding is not None:
            self.stage.show_earlier(bench.finding_before())
            self.stage.show_finding(bench.finding)
        self.result.show_finding(bench.finding, cut, take.position() is not None)
        self.stretches.show_progress(None, 0.0, all_done=cut is None)
        self.done.hide()
        found = self._calibration(take)
        if found is not None:
            doubt = None if found.uncertainty is None else found.value * found.uncertainty / 100
            said = round_to_doubt(found.value, doubt)
            more = f" ± {round_to_doubt(doubt, doubt)}" if doubt else ""
            self.result.big.setText(f"{said}{more} {found.unit}, {found.at}")
        self.enter.setVisible(found is not None and not any(e["kind"] == "accepted" for e in take.events()))
        bench.ended(take, "", reason)
