"""Several specimens beside each other: a row a reading, a column a take, and what they have in common."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QHelpEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QToolTip, QWidget

from ...core.figures import fitting, limit_text, significant
from ...core.quantities import round_to_doubt
from ...lab.specimens import Series, SeriesRow, words
from ..parts import theme
from ..parts.copying import Row, copyable
from ..parts.page_cards import shorter
from ..parts.widgets import small_text

FIRST, COLUMN, ROW, HEAD = 210, 84, 40, 34
"""px: the readings' names, a take, a row, the heads"""
FINEST = 5e-4
"""Share of a value that the table does not go below"""
TOGETHER = ("mean", "s", "s, %", "inside")


def digits(row: SeriesRow) -> tuple[float, str, float]:
    """What values are multiplied by, their unit then, and the doubt that their digits follow: the values' own, else a
    tenth of their spread."""
    known = [v for v in row.values if v is not None]
    scale, unit = fitting(max(known, key=abs, default=0.0), row.unit)
    doubts = [u for u in row.uncertainties if u]
    s = row.of_all.standard_deviation if row.of_all is not None else None
    least = max(doubts) if doubts else (s or 0.0) / 10
    return scale, unit, max(least, FINEST * max(map(abs, known), default=0.0)) * scale


def shown(value: float | None, scale: float, doubt: float) -> str:
    """A value with the digits that its doubt leaves, five at most where none is known."""
    if value is None:
        return "–"
    return round_to_doubt(value * scale, doubt) if doubt > 0 else significant(value * scale, 5)


def together(row: SeriesRow) -> tuple[str, ...]:
    """Mean, spread, spread in percent of the mean, and how many are inside: as text. Of all values, outliers too: which
    they are is said, and leaving them out is a person's business."""
    of_all = row.of_all
    if of_all is None:
        return ("–",) * 4
    scale, _unit, doubt = digits(row)
    s = of_all.standard_deviation
    s = s if s and s > 1e-9 * abs(of_all.mean) else None  # less is what arithmetic leaves
    judged = [v for v in row.verdicts if v != "none"]
    share = "–" if not s or not of_all.mean else significant(100 * s / abs(of_all.mean), 2)
    return (shown(of_all.mean, scale, doubt), "–" if s is None else significant(s * scale, 2), share,
            f"{row.inside} of {len(judged)}" if judged else "–")  # fmt: skip


class SeriesView(QWidget):
    """The table. What lies off is ringed, and said when pointed at."""

    def __init__(self) -> None:
        super().__init__()
        self.made: Series | None = None
        self.setMouseTracking(True)
        self.setAccessibleName("specimens beside each other")
        copyable(self)

    def as_table(self) -> list[Row]:
        """A row a reading, as they are and not as they are rounded."""
        if self.made is None:
            return []
        made: list[Row] = [("reading", "unit", *self.made.names, "mean", "s", "limit low", "limit high")]
        for r in self.made.rows:
            of_all = (r.of_all.mean, r.of_all.standard_deviation) if r.of_all is not None else (None, None)
            made.append((r.label, r.unit, *r.values, *of_all, r.low, r.high))
        return made

    def show_series(self, made: Series | None) -> None:
        self.made = made
        count, rows = (len(made.names), len(made.rows)) if made is not None else (0, 0)
        self.setMinimumSize(FIRST + COLUMN * (count + len(TOGETHER)) + 20, HEAD + ROW * rows + 20)
        self.update()

    def sizeHint(self) -> QSize:
        return self.minimumSize()

    def cell_help(self, row: int) -> str:
        """What is to be said of a row: what lies off in it, and the mean without it."""
        if self.made is None:
            return ""
        held = self.made.rows[row]
        said = words(held, self.made.names)
        if held.without is not None:
            scale, unit, doubt = digits(held)
            said += f". Without: mean {shown(held.without.mean, scale, doubt)} {unit}"
            if held.without.standard_deviation is not None:
                said += f", s {significant(held.without.standard_deviation * scale, 2)} {unit}"
        return said

    def event(self, event: object) -> bool:
        if isinstance(event, QHelpEvent) and self.made is not None:
            row = int((event.pos().y() - HEAD) // ROW)
            said = self.cell_help(row) if 0 <= row < len(self.made.rows) else ""
            QToolTip.showText(event.globalPos(), said, self)
            return True
        return super().event(event)  # type: ignore[arg-type]

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        if self.made is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        names = self.made.names
        muted, line = theme.color("muted"), theme.color("line")
        for i, name in enumerate([*names, *TOGETHER]):
            right = FIRST + COLUMN * (i + 1) - 10
            text = shorter(painter, name, COLUMN - 12, 9, 600)
            small_text(painter, right, HEAD - 12, text, muted, 9, 600, True)
        width = FIRST + COLUMN * (len(names) + len(TOGETHER))
        x = FIRST + COLUMN * len(names)
        painter.fillRect(QRectF(x + 4, HEAD, width - x - 4, ROW * len(self.made.rows)), theme.color("sand", 90))
        painter.setPen(QPen(theme.color("ink"), 1))
        painter.drawLine(QPointF(0, HEAD), QPointF(width, HEAD))
        for k, row in enumerate(self.made.rows):
            self._row(painter, row, HEAD + k * ROW)
            painter.setPen(QPen(line, 1))
            painter.drawLine(QPointF(0, HEAD + (k + 1) * ROW), QPointF(width, HEAD + (k + 1) * ROW))

    def _row(self, painter: QPainter, row: SeriesRow, top: float) -> None:
        scale, unit, doubt = digits(row)
        ink, muted = theme.color("ink"), theme.color("muted")
        base = top + 25
        small_text(painter, 4, top + 18, shorter(painter, row.label, FIRST - 20, 10, 600), ink, 10, 600)
        limits = limit_text(row.low, row.high, row.unit)
        below = f"{unit} · {limits}" if limits and unit else unit or limits
        small_text(painter, 4, top + 33, shorter(painter, below, FIRST - 20, 8.5, 400), muted, 8.5)
        for i, value in enumerate(row.values):
            right = FIRST + COLUMN * (i + 1) - 10
            colour = {"outside": "clay", "open": "plum"}.get(row.verdicts[i], "ink" if value is not None else "muted")
            text = shown(value, scale, doubt)
            small_text(painter, right, base, text, theme.color(colour), 10, 600 if colour == "clay" else 400, True)
            if i in row.far.outliers or i in row.far.stragglers:
                wide = painter.fontMetrics().horizontalAdvance(text)
                strong = i in row.far.outliers
                style = Qt.PenStyle.SolidLine if strong else Qt.PenStyle.DashLine
                painter.setPen(QPen(theme.color("brass"), 1.6, style))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRoundedRect(QRectF(right - wide - 6, base - 15, wide + 12, 21), 10, 10)
        for i, text in enumerate(together(row)):
            right = FIRST + COLUMN * (len(row.values) + i + 1) - 10
            small_text(painter, right, base, text, ink, 10, 600 if i == 0 else 400, True)
