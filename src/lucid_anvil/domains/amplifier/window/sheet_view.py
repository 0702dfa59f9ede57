"""The sheet of an amplifier, painted: a row a reading, a column a channel and load, each cell with its margin."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QBrush, QHelpEvent, QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QToolTip, QWidget

from ....core.figures import figure, limit_text
from ....desktop.parts import theme
from ....desktop.parts.copying import Row, copyable
from ....desktop.parts.widgets import draw_verdict, small_text

ROW, HEAD, BAND = 25, 26, 19
"""px: a reading, the columns' names, and the name of a step above its readings"""
ROOM = 226
"""px of a reading's name and its limit"""


@dataclass
class Line:
    """One line of the picture: a step's name, or a reading."""

    top: float
    height: float
    band: str | None = None
    row: dict[str, Any] = field(default_factory=dict)


class SheetView(QWidget):
    """The sheet itself. A click on a cell chooses its reading; hovering tells the conditions it was taken in."""

    chosen = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.columns: list[str] = []
        self.lines: list[Line] = []
        self.now: str | None = None
        self.live: dict[str, dict[str, Any]] = {}
        self.picked: str | None = None
        self.setMouseTracking(True)
        copyable(self)

    def as_table(self) -> list[Row]:
        """A row a reading, a column a channel and load; values as they are."""
        rows = [line.row for line in self.lines if line.band is None]
        if not rows:
            return []
        made: list[Row] = [("step", "reading", "unit", *self.columns, "limit low", "limit high")]
        for r in rows:
            cells = (r["cells"].get(c, {}).get("value") for c in self.columns)
            made.append((r["step"], r["reading"], r["unit"], *cells, r["low"], r["high"]))
        return made

    def show_rows(self, columns: list[str], rows: list[dict[str, Any]]) -> None:
        """Rows as a finding's detail has them: step, reading, unit, low, high, and cells by column."""
        self.columns = columns
        self.lines, at, step = [], 0.0, None
        for row in rows:
            if row["step"] != step:
                step = row["step"]
                self.lines.append(Line(at, BAND, step))
                at += BAND
            self.lines.append(Line(at, ROW, None, row))
            at += ROW
        self.setMinimumHeight(int(at) + 4)
        self.update()

    def show_live(self, now: str | None, cells: dict[str, dict[str, Any]]) -> None:
        """Which reading is being taken, and what the finished ones showed at a glance."""
        self.now, self.live = now, cells
        self.update()

    def line_of(self, task: str | None) -> Line | None:
        """The line that shows a reading, for scrolling there."""
        for line in self.lines:
            if any(c.get("task") == task for c in line.row.get("cells", {}).values()):
                return line
        return None

    # --- places ------------------------------------------------------------------------------------------------

    def _box(self, line: Line, column: int) -> QRectF:
        width = (self.width() - ROOM) / max(len(self.columns), 1)
        return QRectF(ROOM + column * width, line.top, width, line.height)

    def cell_at(self, at: QPointF) -> dict[str, Any] | None:
        for line in self.lines:
            if line.band is None and line.top <= at.y() < line.top + line.height:
                for i, name in enumerate(self.columns):
                    if self._box(line, i).contains(at):
                        held = line.row["cells"].get(name)
                        return None if held is None else {**held, "unit": line.row["unit"]}
        return None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        cell = self.cell_at(event.position())
        if cell is not None:
            self.picked = cell["task"]
            self.chosen.emit(cell["task"])
            self.update()

    def event(self, event: Any) -> bool:
        if isinstance(event, QHelpEvent):
            cell = self.cell_at(QPointF(event.pos()))
            QToolTip.showText(event.globalPos(), conditions(cell) if cell else "", self)
            return True
        return super().event(event)

    # --- painting ----------------------------------------------------------------------------------------------

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        ink = theme.color("ink")
        for line in self.lines:
            if line.band is not None:
                painter.fillRect(QRectF(0, line.top, self.width(), BAND), theme.color("sand", 120))
                small_text(painter, 4, line.top + 14, line.band, ink, 9, 600)
                continue
            self._row(painter, line)

    def _row(self, painter: QPainter, line: Line) -> None:
        row = line.row
        limit = limit_text(row["low"], row["high"], row["unit"])
        painter.setFont(theme.font(8.5))
        taken = painter.fontMetrics().horizontalAdvance(limit)
        painter.setFont(theme.font(9))
        text = painter.fontMetrics().elidedText(row["reading"], Qt.TextElideMode.ElideRight, ROOM - taken - 20)
        small_text(painter, 10, line.top + 16, text, theme.color("ink"), 9)
        small_text(painter, ROOM - 4, line.top + 16, limit, theme.color("muted"), 8.5, 400, True)
        for i, name in enumerate(self.columns):
            cell = row["cells"].get(name)
            if cell is not None:
                self._cell(painter, self._box(line, i), cell, row)
        painter.setPen(QPen(theme.color("line", 120), 1))
        y = line.top + line.height - 0.5
        painter.drawLine(QPointF(0, y), QPointF(self.width(), y))

    def _cell(self, painter: QPainter, box: QRectF, cell: dict[str, Any], row: dict[str, Any]) -> None:
        if cell["task"] == self.picked:
            painter.fillRect(box.adjusted(1, 0, 0, -1), theme.color("sand", 90))
        if cell["task"] == self.now:
            painter.fillRect(box.adjusted(1, 0, 0, -1), theme.color("sand", 160))
            draw_verdict(painter, "running", QRectF(box.right() - 22, box.top() + 8, 14, 8))
            return
        if "value" not in cell:
            seen = self.live.get(cell["task"])
            if seen is not None:
                small_text(
                    painter,
                    box.right() - 8,
                    box.top() + 16,
                    f"{seen['volts']:.3g} V",
                    theme.color("muted"),
                    9,
                    400,
                    True,
                )
            return
        if not cell["valid"] and cell.get("reason"):
            painter.fillRect(box.adjusted(2, 1, -1, -2), QBrush(theme.color("plum", 70), Qt.BrushStyle.BDiagPattern))
        text = self._text(cell, row["unit"])
        weight = 600 if cell["verdict"] == "outside" else 500
        role = "plum" if not cell["valid"] else "clay" if cell["verdict"] == "outside" else "ink"
        glyph = cell["verdict"] != "none"
        small_text(
            painter, box.right() - (27 if glyph else 8), box.top() + 15, text, theme.color(role), 9.5, weight, True
        )
        if glyph:
            draw_verdict(painter, cell["verdict"], QRectF(box.right() - 22, box.top() + 7, 14, 8))
        self._margin(painter, box, cell, row)

    @staticmethod
    def _text(cell: dict[str, Any], unit: str) -> str:
        if cell["value"] is not None:
            return figure(cell["value"], cell["uncertainty"], unit)
        span = cell.get("interval")
        if span and span[0] is not None and (span[1] is None or math.isinf(span[1])):
            return f"> {figure(span[0], abs(span[0]) * 0.01, unit)}"
        return "invalid" if not cell["valid"] else "–"

    def _margin(self, painter: QPainter, box: QRectF, cell: dict[str, Any], row: dict[str, Any]) -> None:
        """How much of the allowance is used: a thin bar that ends at the limit, doubt as a whisker."""
        low, high, value = row["low"], row["high"], cell["value"]
        if value is None or (low is None and high is None) or not cell["valid"]:
            return
        used = share_of(value, low, high)
        bar = QRectF(box.left() + 14, box.bottom() - 5, box.width() - 40, 2)
        painter.fillRect(bar, theme.color("sand"))
        role = {"inside": "teal", "outside": "clay", "open": "plum"}.get(cell["verdict"], "muted")
        painter.fillRect(QRectF(bar.left(), bar.top(), bar.width() * min(used / 1.25, 1.0), 2), theme.color(role))
        painter.setPen(QPen(theme.color("ink"), 1.2))
        x = bar.left() + bar.width() / 1.25
        painter.drawLine(QPointF(x, bar.top() - 2), QPointF(x, bar.bottom() + 1))


class SheetHead(QWidget):
    """The columns' names, which stay while the sheet below is scrolled."""

    def __init__(self, sheet: SheetView) -> None:
        super().__init__()
        self.sheet = sheet
        self.setFixedHeight(HEAD)

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        whole = self.sheet.width()
        small_text(painter, ROOM - 4, 17, "published", theme.color("muted"), 8.5, 400, True)
        width = (whole - ROOM) / max(len(self.sheet.columns), 1)
        for i, name in enumerate(self.sheet.columns):
            small_text(painter, ROOM + (i + 1) * width - 8, 17, name, theme.color("ink"), 9.5, 600, True)
        painter.setPen(QPen(theme.color("line"), 1))
        painter.drawLine(0, HEAD - 2, self.width(), HEAD - 2)


def share_of(value: float, low: float | None, high: float | None) -> float:
    """Share of an allowance that a value uses: 1 is at its limit."""
    if low is not None and high is not None:
        middle, half = (low + high) / 2, (high - low) / 2
        return abs(value - middle) / half if half > 0 else 2.0
    if high is not None:
        return value / high if high > 0 else (2.0 if value > high else 0.5)
    assert low is not None
    return low / value if value > 0 else 2.0


def conditions(cell: dict[str, Any]) -> str:
    """What a reading was taken under, for the tool tip."""
    lines = []
    if cell.get("reason"):
        lines.append(cell["reason"])
    if cell.get("value") is not None and cell.get("uncertainty"):
        shown = figure(cell["value"], cell["uncertainty"], cell["unit"])
        lines.append(f"{shown}, ± {figure(cell['uncertainty'], None, cell['unit'])} (k = 2)")
    if cell.get("supply"):
        lines.append(f"supply {min(cell['supply']):.1f} V to {max(cell['supply']):.1f} V")
    if cell.get("ohm"):
        lines.append(f"load {cell['ohm']:.3f} Ω at {cell['temperature']:.0f} °C")
    if cell.get("drive") is not None:
        lines.append(f"driven with {figure(cell['drive'], None, 'V')}")
    if cell.get("t") is not None:
        lines.append(f"{cell['t']:.1f} s into the take")
    return "\n".join(lines)
