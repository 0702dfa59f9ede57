"""The uncertainty budget of one point, opened: every entry as a bar, the largest named."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPen, QWheelEvent
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from ....core.figures import significant
from ....desktop.parts import theme
from ....desktop.parts.chart import frequency_text
from ....desktop.parts.copying import Row, copyable
from ....desktop.parts.widgets import label, small_text

SHORT = {"normal": "normal", "normal k=2": "normal, k = 2", "u-shaped": "U-shaped"}


def fewer(entries: list[dict[str, Any]], combined: float) -> list[dict[str, Any]]:
    """The entries that matter, and the rest together: those whose sum would not change the second digit."""
    kept = [e for e in entries if e["share"] >= 0.0005]
    rest = [e for e in entries if e["share"] < 0.0005]
    if len(rest) < 2:
        return entries
    together = sum(e["contribution"] ** 2 for e in rest) ** 0.5
    share = (together / combined) ** 2 if combined else 0.0
    name = f"{len(rest)} smaller ones together"
    more = {"label": name, "contribution": together, "share": share, "distribution": "", "half_width": 0.0, "unit": "%"}
    return [*kept, more]


class Bars(QWidget):
    """The entries, largest first."""

    def __init__(self) -> None:
        super().__init__()
        self.budget: dict[str, Any] | None = None
        self.setMinimumHeight(180)

    def paintEvent(self, _event: object) -> None:
        if self.budget is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        entries = fewer(self.budget["entries"], self.budget["combined"])
        ink, muted = theme.color("ink"), theme.color("muted")
        left, w = 236, self.width()
        columns = w - 270
        small_text(painter, 0, 13, "Source", muted, 8.5, 600)
        small_text(painter, left, 13, "Standard uncertainty, %", muted, 8.5, 600)
        small_text(painter, w - 168, 13, "half-width", muted, 8.5, 600, True)
        small_text(painter, w - 156, 13, "distribution", muted, 8.5, 600)
        small_text(painter, w - 2, 13, "share", muted, 8.5, 600, True)
        biggest = max((e["contribution"] for e in entries), default=1.0) or 1.0
        room = max(self.height() - 24, 10)
        step = min(27.0, room / max(len(entries), 1))
        for i, e in enumerate(entries):
            y = 24 + i * step
            first = i == 0
            small_text(painter, 0, y + step * 0.66, e["label"], ink, 9.5, 600 if first else 400)
            span = max(columns - left, 60)
            bar = QRectF(left, y + step * 0.24, max(span * e["contribution"] / biggest, 1.5), step * 0.5)
            painter.fillRect(bar, theme.color("plum" if first else "teal", 255 if first else 190))
            small_text(painter, bar.right() + 6, y + step * 0.66, f"{significant(e['contribution'])}", ink, 9)
            if not e["distribution"]:
                continue
            width = (
                f"{significant(e['half_width'])} {e['unit']}"
                if e["unit"] == "%"
                else f"{significant(100 * e['half_width'])} % motion"
            )
            small_text(painter, w - 168, y + step * 0.66, width, muted, 8.5, 400, True)
            kind = SHORT.get(e["distribution"], e["distribution"])
            small_text(painter, w - 156, y + step * 0.66, kind, muted, 8.5)
            small_text(
                painter,
                w - 2,
                y + step * 0.66,
                "< 1 %" if e["share"] < 0.01 else f"{100 * e['share']:.0f} %",
                ink,
                9,
                600 if first else 400,
                True,
            )
            painter.setPen(QPen(theme.color("line", 120), 1))
            painter.drawLine(0, int(y + step), w, int(y + step))


class Strip(QWidget):
    """All points as small columns of expanded uncertainty; one is chosen by a click or the wheel."""

    chosen = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self.values: list[float] = []
        self.frequencies: list[float] = []
        self.at = 0
        self.setFixedHeight(78)
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self.values:
            i = int(event.position().x() / self.width() * len(self.values))
            self.chosen.emit(min(max(i, 0), len(self.values) - 1))

    def wheelEvent(self, event: QWheelEvent) -> None:
        step = -1 if event.angleDelta().y() > 0 else 1
        if self.values:
            self.chosen.emit(min(max(self.at + step, 0), len(self.values) - 1))

    def paintEvent(self, _event: object) -> None:
        if not self.values:
            return
        painter = QPainter(self)
        w = self.width() / len(self.values)
        top = max(self.values)
        for i, (f, v) in enumerate(zip(self.frequencies, self.values, strict=True)):
            h = (self.height() - 36) * v / top
            box = QRectF(i * w + 2, self.height() - 18 - h, w - 4, h)
            painter.fillRect(box, theme.color("brass" if i == self.at else "teal", 255 if i == self.at else 120))
            if i == self.at:
                painter.setFont(theme.font(9, 600))
                text = f"{significant(v)} %"
                x = min(max(box.center().x() - painter.fontMetrics().horizontalAdvance(text) / 2, 0), self.width() - 44)
                small_text(painter, x, box.top() - 4, text, theme.color("ink"), 9, 600)
            if w > 34 or i % 3 == 0:
                small_text(painter, i * w + 2, self.height() - 4, frequency_text(f), theme.color("muted"), 8)


class BudgetView(QWidget):
    """The whole view."""

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(8)
        head = QHBoxLayout()
        self.title = label("", "title")
        head.addWidget(self.title)
        head.addStretch()
        self.largest = label("", "small")
        head.addWidget(self.largest)
        column.addLayout(head)
        self.detail = label("", "muted")
        column.addWidget(self.detail)
        self.bars = Bars()
        column.addWidget(self.bars, 1)
        column.addWidget(label("Expanded uncertainty of every point; choose one", "muted"))
        self.strip = Strip()
        self.strip.chosen.connect(self.choose)
        column.addWidget(self.strip)
        self.budgets: list[dict[str, Any]] = []
        copyable(self)

    def as_table(self) -> list[Row]:
        """Every entry of the point that is chosen, the small ones too."""
        if not self.budgets:
            return []
        b = self.budgets[self.strip.at]
        made: list[Row] = [("source", "standard uncertainty, %", "half-width", "unit", "distribution", "share")]
        made += [(e["label"], e["contribution"], e["half_width"], e["unit"], e["distribution"], e["share"])
                 for e in b["entries"]]  # fmt: skip
        return [*made, (f"combined, {b['frequency']:g} Hz", b["combined"]), ("expanded", b["expanded"])]

    def show_budgets(self, budgets: list[dict[str, Any]], frequency: float | None) -> None:
        """Budgets as a finding's detail holds them."""
        self.budgets = budgets
        self.strip.values = [b["expanded"] for b in budgets]
        self.strip.frequencies = [b["frequency"] for b in budgets]
        if not budgets:
            self.title.setText("No budget yet: it comes with the finding.")
            return
        wanted = frequency or 160.0
        self.choose(min(range(len(budgets)), key=lambda i: abs(budgets[i]["frequency"] / wanted - 1)))

    def choose(self, i: int) -> None:
        b = self.budgets[i]
        self.strip.at = i
        self.title.setText(f"{b['frequency']:g} Hz:  U = {significant(b['expanded'])} %")
        self.largest.setText(f"Largest: {b['dominant']}" if b["dominant"] else "")
        dof = "∞" if b["dof"] is None or b["dof"] > 9999 else f"{b['dof']:.0f}"
        floor = "  ·  the declared capability decides" if b["floored"] else ""
        self.detail.setText(
            f"combined {significant(b['combined'])} %  ·  effective degrees of freedom {dof}"
            f"  ·  coverage k = {b['coverage']:.2f}{floor}"
        )
        self.bars.budget = b
        self.bars.update()
        self.strip.update()
