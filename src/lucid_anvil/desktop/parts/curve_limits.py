"""Limits of curves: two lines drawn around a curve, dragged by their points, typed or pasted, or made from units."""

from __future__ import annotations

import copy
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QGuiApplication, QKeySequence
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from ...contracts.curvelimits import CurveLimits, limited
from ...contracts.finding import Curve, Finding
from ...contracts.method import Axis, Method
from ...contracts.settings import check
from ...core.errors import BadInput
from ...core.quantities import parse
from ...lab.rowtext import from_text
from ...lab.unit_limits import Unit, lines_from
from . import theme
from .chart import Chart
from .widgets import Verdict, button, label

Limits = dict[str, Any]
COLUMNS = ("x", "low", "high")
SIDES = ("low", "high")


class Point(pg.TargetItem):
    """A point of a line, taken hold of and moved."""

    def __init__(self, at: int, side: str, spot: tuple[float, float], moved: Callable[[Point], None]) -> None:
        super().__init__(
            pos=spot, size=9, symbol="o", pen=pg.mkPen(theme.color("card"), width=1), brush=theme.color("brass"),
            hoverPen=pg.mkPen(theme.color("ink"), width=2), movable=True,
        )  # fmt: skip
        self.at, self.side = at, side
        self.setZValue(45)
        self.sigPositionChangeFinished.connect(lambda *_: moved(self))


class LimitsTable(QTableWidget):
    """Points of both lines; a table from a spreadsheet is pasted over them."""

    pasted = pyqtSignal(str)

    def keyPressEvent(self, event: Any) -> None:
        if event is not None and event.matches(QKeySequence.StandardKey.Paste):
            self.pasted.emit(QGuiApplication.clipboard().text())
            return
        super().keyPressEvent(event)


class CurveLimitsPage(QWidget):
    """The curves of a test on the left with what they can be made from, the one in hand in the middle, its points on
    the right. `made` holds the limits of all of them, as a plan has them."""

    said = pyqtSignal(str)

    def __init__(
        self, method: Method, seen: Finding | None, held: Mapping[str, Any], units: Callable[[str], Sequence[Unit]],
        only: str = "",
    ) -> None:  # fmt: skip
        """`units`: those that have a curve of some name. `only`: the one curve that is to be limited."""
        super().__init__()
        self.method, self.seen, self.units_with, self.only = method, seen, units, only
        self.made: dict[str, Limits] = {k: copy.deepcopy(dict(v)) for k, v in held.items()}
        self.units: list[Unit] = []
        self.points: list[Point] = []
        self.filling = False
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(14)
        row.addLayout(self._left())
        self.middle = QVBoxLayout()
        self.chart = Chart("", "")
        self.middle.addWidget(self.chart, 1)
        foot = QHBoxLayout()
        self.glyph = Verdict("none", (18, 10))
        self.told = label("", "muted", wrap=True)
        foot.addWidget(self.glyph)
        foot.addWidget(self.told, 1)
        self.middle.addLayout(foot)
        row.addLayout(self.middle, 1)
        row.addLayout(self._right())
        self._choose(0)

    # --- what stands where -----------------------------------------------------------------------------------

    def _left(self) -> QVBoxLayout:
        column = QVBoxLayout()
        column.setSpacing(6)
        self.which = QComboBox()
        self.which.setAccessibleName("curve")
        self.which.setFixedWidth(230)
        self.keys = [self.only] if self.only else limitable_curves(self.method, self.seen, self.made)
        for key in self.keys:
            self.which.addItem(self._curve(key).label if self.keys else "")
        self.which.currentIndexChanged.connect(self._choose)
        column.addWidget(self.which)
        column.addWidget(label("Made from units that are good", "muted"))
        self.list = QListWidget()
        self.list.setFixedWidth(230)
        self.list.itemChanged.connect(lambda _i: self._draw())
        column.addWidget(self.list, 1)
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(4)
        self.below, self.above, self.most = QLineEdit("3 s"), QLineEdit("3 s"), QLineEdit("24")
        for i, (name, box, tip) in enumerate((
            ("Below", self.below, "3 s: deviations of several units; 5 %: of the curve; or in its unit; empty: open"),
            ("Above", self.above, "3 s: deviations of several units; 5 %: of the curve; or in its unit; empty: open"),
            ("Points at most", self.most, "How many points carry the lines"),
        )):  # fmt: skip
            box.setAccessibleName(name)
            box.setToolTip(tip)
            grid.addWidget(label(name, "small"), i, 0)
            grid.addWidget(box, i, 1)
        column.addLayout(grid)
        self.make = button("Draw lines around them")
        self.make.clicked.connect(self.from_units)
        column.addWidget(self.make)
        return column

    def _right(self) -> QVBoxLayout:
        column = QVBoxLayout()
        column.setSpacing(6)
        self.table = LimitsTable(0, 3)
        self.table.setObjectName("breakpoints")
        self.table.setFixedWidth(252)
        self.table.verticalHeader().hide()
        self.table.setShowGrid(False)
        self.table.setAccessibleName("points of the limits")
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self.table.cellChanged.connect(self._typed)
        self.table.pasted.connect(self.paste)
        column.addWidget(self.table, 1)
        row = QHBoxLayout()
        self.add, self.take = button("Add a point", "chip"), button("Remove", "chip")
        self.none = button("No limits", "chip", "This curve is not limited")
        self.add.clicked.connect(self.add_point)
        self.take.clicked.connect(self.remove_point)
        self.none.clicked.connect(lambda: self._put(None))
        for one in (self.add, self.take, self.none):
            row.addWidget(one)
        row.addStretch()
        column.addLayout(row)
        more = QHBoxLayout()
        self.floats = QCheckBox("Float, at most by")
        self.floats.setToolTip("Both lines are moved up or down together to where the curve fits best")
        self.reach = QLineEdit()
        self.reach.setFixedWidth(76)
        self.reach.setPlaceholderText("3 dB")
        self.reach.setAccessibleName("float at most by")
        self.floats.clicked.connect(lambda _c: self._kind())
        self.reach.editingFinished.connect(self._kind)
        more.addWidget(self.floats)
        more.addWidget(self.reach)
        more.addStretch()
        column.addLayout(more)
        self.simple = QCheckBox("By its values alone, without doubt")
        self.simple.setToolTip("For a curve that states no uncertainty: else nothing of it can be inside")
        self.simple.clicked.connect(lambda _c: self._kind())
        column.addWidget(self.simple)
        return column

    # --- the curve in hand -----------------------------------------------------------------------------------

    @property
    def key(self) -> str:
        return self.keys[self.which.currentIndex()] if self.keys else ""

    def _curve(self, key: str) -> Curve:
        """The newest one of that name, or an empty one where none was measured yet."""
        found = next((c for c in self.seen.curves if c.key == key), None) if self.seen is not None else None
        if found is not None:
            return found
        axis = self._axis(key)
        words = axis.title if axis is not None and len(axis.curves) == 1 else key.replace("_", " ").capitalize()
        return Curve(key, words, (), (), axis.x_label if axis else "", axis.y_label if axis else "")

    def _axis(self, key: str) -> Axis | None:
        return next((a for a in self.method.views if a.shows(key)), None)

    def _choose(self, _index: int) -> None:
        """Another curve: its units, its points."""
        here = bool(self.keys)
        for part in (self.make, self.add, self.take, self.none, self.floats, self.reach, self.simple, self.table):
            part.setEnabled(here)
        if not here:
            self.told.setText("This test has given no curve yet: its limits are made once a take was read.")
            return
        curve, axis = self._curve(self.key), self._axis(self.key)
        self.units = list(self.units_with(self.key))
        self.filling = True
        self.list.clear()
        for i, unit in enumerate(self.units):
            item = QListWidgetItem(f"{unit.name} · {unit.take.name}")
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Unchecked if i else Qt.CheckState.Checked)
            self.list.addItem(item)
        self.filling = False
        self.below.setText("3 s" if len(self.units) > 2 else f"1 {curve.y_unit}" if curve.y_unit == "dB" else "10 %")
        self.above.setText(self.below.text())
        self.chart.deleteLater()
        log_x = axis.x_log if axis is not None else curve.x_unit == "Hz"
        log_y = axis.y_log if axis is not None else False
        self.points = []
        self.chart = Chart(curve.x_unit, curve.y_unit, log_x, log_y)
        self.middle.insertWidget(0, self.chart, 1)
        self.table.setHorizontalHeaderLabels([curve.x_unit or "x", "low", "high"])
        self._draw()

    def limits(self) -> Limits:
        """Of the curve in hand; empty where there are none."""
        return self.made.get(self.key, {})

    def _put(self, limits: Limits | None) -> None:
        """Other limits of the curve in hand, if they can be; else it is said and nothing changes."""
        if limits:
            try:
                check(CurveLimits, limits, "The limits").mask(self._curve(self.key))
            except BadInput as problem:
                self.said.emit(str(problem))
                self._draw()
                return
            self.made[self.key] = limits
        else:
            self.made.pop(self.key, None)
        self.said.emit("")
        self._draw()

    def numbers(self) -> tuple[np.ndarray, dict[str, np.ndarray]]:
        """x and both lines of the curve in hand, in its units; NaN where a line is open."""
        held, curve = self.limits(), self._curve(self.key)
        x = np.array([parse(v, curve.x_unit) for v in held.get("x", [])], float)
        lines = {
            side: np.array([np.nan if v is None else parse(v, curve.y_unit) for v in held.get(side) or [None] * x.size])
            for side in SIDES
        }
        return x, lines

    def _lines(self, x: Any, lines: Mapping[str, Any]) -> None:
        """Points put by hand: what they were made from is no longer true."""
        held = {k: v for k, v in self.limits().items() if k in ("floats", "most", "rule")}
        made: Limits = {"x": [float(f"{v:.5g}") for v in x]}
        for side in SIDES:
            values = [None if np.isnan(v) else float(f"{v:.5g}") for v in lines[side]]
            if any(v is not None for v in values):
                made[side] = values
        self._put({**made, **held} if len(made) > 1 else None)

    # --- changing --------------------------------------------------------------------------------------------

    def from_units(self) -> None:
        """Lines around the curves of the units that are ticked."""
        curves = [c for i, u in enumerate(self.units) if self._ticked(i) and (c := u.curve(self.key)) is not None]
        try:
            most = int(parse(self.most.text(), "1", "Points at most"))
            lines = lines_from(curves, self.below.text(), self.above.text(), most)
        except BadInput as problem:
            self.said.emit(str(problem))
            return
        held = {k: v for k, v in self.limits().items() if k in ("floats", "most", "rule")}
        self._put({**lines.plain(), **held})
        self.told.setText(f"{self.told.text()} {lines.x.size} points, off by {lines.off:.2g} at most.".strip())

    def add_point(self) -> None:
        """A point between the chosen one and the next; the first two stand at the ends of the curve."""
        x, lines = self.numbers()
        if x.size == 0:
            curve = self._curve(self.key)
            y = np.array([np.nan if v is None else v for v in curve.y], float)
            held = np.array(curve.x, float)[np.isfinite(y)]
            ends = (held[0], held[-1]) if held.size > 1 else (20.0, 20e3) if self.chart.log_x else (0.0, 1.0)
            low, high = (np.nanmin(y), np.nanmax(y)) if np.isfinite(y).any() else (-1.0, 1.0)
            room = max(high - low, 0.05 * abs(high), 1e-12) / 2
            bottom = low / 2 if self.chart.log_y and low - room <= 0 else low - room
            self._lines(ends, {"low": [bottom] * 2, "high": [high + room] * 2})
            return
        i = min(max(self.table.currentRow(), 0), x.size - 2)
        at = float(np.sqrt(x[i] * x[i + 1])) if self.chart.log_x else (x[i] + x[i + 1]) / 2
        new = {k: np.insert(v, i + 1, (v[i] + v[i + 1]) / 2) for k, v in lines.items()}
        self._lines(np.insert(x, i + 1, at), new)
        self.table.setCurrentCell(i + 1, 0)

    def remove_point(self) -> None:
        x, lines = self.numbers()
        i = self.table.currentRow()
        if not 0 <= i < x.size:
            self.said.emit("Choose the point in the table first.")
        elif x.size <= 2:
            self.said.emit("Two points at least make a line: 'No limits' takes them away.")
        else:
            self._lines(np.delete(x, i), {k: np.delete(v, i) for k, v in lines.items()})

    def paste(self, text: str) -> None:
        """A table from a spreadsheet, `x`, `low` and `high` in its heading, with their units where they are others."""
        try:
            rows = from_text(text, COLUMNS)
            if not rows:
                raise BadInput("There is nothing to paste: copy rows of x, low and high with their heading.")
            if any("x" not in r for r in rows):
                raise BadInput("A column x is wanted: head the columns x, low, high, with units like x [Hz].")
        except BadInput as problem:
            self.said.emit(str(problem))
            return
        made: Limits = {"x": [r["x"] for r in rows]}
        made |= {side: [r.get(side) for r in rows] for side in SIDES if any(side in r for r in rows)}
        self._put({**made, **{k: v for k, v in self.limits().items() if k in ("floats", "most", "rule")}})

    def _typed(self, row: int, column: int) -> None:
        if self.filling:
            return
        cell = self.table.item(row, column)
        text = cell.text().replace("−", "-").strip() if cell is not None else ""
        curve = self._curve(self.key)
        x, lines = self.numbers()
        try:
            unit = curve.x_unit if column == 0 else curve.y_unit
            if not text and column == 0:
                raise BadInput("A point needs its place; Remove takes it away.")
            value = parse(text, unit, COLUMNS[column]) if text else np.nan
        except BadInput as problem:
            self.said.emit(str(problem))
            self._draw()
            return
        if column == 0:
            x = x.copy()
            x[row] = value
        else:
            lines[COLUMNS[column]][row] = value
        self._lines(x, lines)

    def _dragged(self, point: Point) -> None:
        x, lines = self.numbers()
        at, value = (float(v) for v in (point.pos().x(), point.pos().y()))
        at, value = 10**at if self.chart.log_x else at, 10**value if self.chart.log_y else value
        least = x[point.at - 1] if point.at else -np.inf
        most = x[point.at + 1] if point.at + 1 < x.size else np.inf
        x[point.at] = at if least < at < most else x[point.at]
        lines[point.side][point.at] = value
        self._lines(x, lines)

    def _kind(self) -> None:
        """How the lines hold: floating, by values alone."""
        limits = dict(self.limits())
        if not limits:
            return
        for key, value in (
            ("floats", True if self.floats.isChecked() else None),
            ("most", self.reach.text().strip() if self.floats.isChecked() else None),
            ("rule", "simple" if self.simple.isChecked() else None),
        ):
            limits.pop(key, None)
            if value:
                limits[key] = value
        self._put(limits)

    # --- drawing ---------------------------------------------------------------------------------------------

    def _ticked(self, i: int) -> bool:
        item = self.list.item(i)
        return item is not None and item.checkState() == Qt.CheckState.Checked

    def _draw(self) -> None:
        """Everything as it stands: curves, lines, points, table, verdict of the newest take."""
        if self.filling or not self.keys:
            return
        limits, curve, chart = self.limits(), self._curve(self.key), self.chart
        for point in self.points:
            chart.removeItem(point)
        self.points = []
        for i, unit in enumerate(self.units):
            held = unit.curve(self.key)
            if held is not None and self._ticked(i):
                chart.curve(f"unit {i}", held.x, held.y, "muted", 1.2, unit.name)
            else:
                chart.drop(f"unit {i}")
        if curve.x:
            chart.curve("seen", curve.x, curve.y, "teal", 2.2, "newest take")
        chart.drop("limits")
        self.filling = True
        self.floats.setChecked(bool(limits.get("floats")))
        self.reach.setText(str(limits.get("most") or ""))
        self.simple.setChecked(limits.get("rule") == "simple")
        try:
            x, lines = self.numbers()
        except BadInput as problem:  # such as limits of a curve that was never measured, in units of their own
            self.filling = False
            self.table.setRowCount(0)
            for part in (self.add, self.take):
                part.setEnabled(False)
            self.glyph.set("none")
            self.told.setText(f"As they stand in the plan; they are drawn once it was measured ({problem})")
            return
        for part in (self.add, self.take):
            part.setEnabled(True)
        self.table.setRowCount(x.size)
        for i in range(x.size):
            for k, values in enumerate((x, lines["low"], lines["high"])):
                text = "" if np.isnan(values[i]) else f"{float(f'{values[i]:.4g}'):g}".replace("-", "−")
                self.table.setItem(i, k, QTableWidgetItem(text))
        self.filling = False
        if x.size:
            chart.corridor("limits", x, lines["low"], lines["high"])
            for side, values in lines.items():
                a, b = chart.places(x, values)
                for at in np.flatnonzero(np.isfinite(b)):
                    point = Point(int(at), side, (float(a[at]), float(b[at])), self._dragged)
                    self.points.append(point)
                    chart.addItem(point)
        self._judge(curve, limits)

    def _judge(self, curve: Curve, limits: Limits) -> None:
        """What the newest take says against these limits."""
        if not limits:
            self.glyph.set("none")
            self.told.setText("Not limited. Add a point, paste rows, or draw lines around good units.")
            return
        given = check(CurveLimits, limits, "The limits")
        if not curve.x:
            self.glyph.set("none")
            self.told.setText(given.made_from or "")
            return
        try:
            made = limited(curve, given, "guarded")
        except BadInput as problem:  # as a hand left them in the plan's text
            self.glyph.set("none")
            self.told.setText(str(problem))
            return
        self.glyph.set(made.verdict)
        room = made.margin.value
        said = f"Newest take: {theme.VERDICT_WORDS[made.verdict]}"
        if room is not None:
            said += f", nearest by {room:.3g} {curve.y_unit}".replace("-", "−")
        self.told.setText(" ".join([f"{said}.", *made.notes, f"({given.made_from})" if given.made_from else ""]))


def limitable_curves(method: Method, seen: Finding | None, held: Mapping[str, Any]) -> list[str]:
    """Curves that can be limited: those of the newest finding, those that the method's views name, those that are
    limited already."""
    made = [c.key for c in seen.curves] if seen is not None else []
    if not made:
        made = [c for a in method.views for c in a.curves if not c.endswith("*")]
    return list(dict.fromkeys([*made, *held]))
