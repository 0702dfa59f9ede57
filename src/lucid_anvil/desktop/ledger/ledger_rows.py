"""The rows of the Ledger: what is said and drawn of a sensor or instrument, and in which order they stand."""

from __future__ import annotations

import datetime
import re
from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import QAbstractListModel, QModelIndex, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QStyle, QStyledItemDelegate, QStyleOptionViewItem

from ...core.quantities import round_to_doubt
from ...lab.ledger import Calibration, Change, Entry
from ..parts import theme
from ..parts.copying import Row
from ..parts.widgets import small_text

ROW = 58


def due_words(days: int | None) -> tuple[str, str]:
    """What is said of a due date, and in which colour role."""
    if days is None:
        return "no due date", "muted"
    if days < 0:
        return f"overdue {-days} d", "clay"
    if days == 0:
        return "due today", "clay"
    if days <= 60:
        return f"due in {days} d", "brass"
    if days < 400:
        return f"{round(days / 30.4)} months left", "muted"
    return f"{days / 365.25:.1f} years left", "muted"


def state_words(entry: Entry) -> tuple[str, str]:
    """Retired, or when it is due; and the colour role of that."""
    if entry.sensor.retired is not None:
        return f"retired {entry.sensor.retired.isoformat()}", "muted"
    return due_words(entry.days_left(datetime.date.today()))


def change_words(change: Change) -> str:
    """A change of an entry in a line."""
    was = {k.replace("_", " "): "empty" if v in (None, "") else v for k, v in change.was.items()}
    what = ", ".join(f"{k} was {v}" for k, v in was.items())
    return f"{change.at:%Y-%m-%d} {change.by}: {what}" + (f" ({change.why})" if change.why else "")


def searched(entry: Entry) -> str:
    """What a sensor is found by."""
    s = entry.sensor
    return f"{s.serial} {s.kind} {s.maker} {s.model} {s.owner} {s.note} {s.use}".lower()


def value_text(c: Calibration) -> str:
    doubt = c.sensitivity * c.uncertainty / 100 if c.uncertainty else None
    return f"{round_to_doubt(c.sensitivity, doubt)} {c.unit}"


def draw_history(painter: QPainter, box: QRectF, entry: Entry, big: bool) -> None:
    """Sensitivity over the calibrations, in percent of the nominal (or the first), inside its tolerance."""
    history = entry.history
    if not history:
        return
    base = entry.sensor.nominal or history[0].sensitivity
    values = [100 * (c.sensitivity / base - 1) for c in history]
    doubts = [c.uncertainty or 0.0 for c in history]
    tolerance = entry.sensor.tolerance
    reach = max([abs(v) + d for v, d in zip(values, doubts, strict=True)] + [tolerance * 1.25 if tolerance else 0.6])
    first, last = history[0].date.toordinal(), max(history[-1].date.toordinal(), history[0].date.toordinal() + 1)
    pad = 5 if not big else 0

    def at(c: Calibration, v: float) -> QPointF:
        x = box.left() + pad + (box.width() - 2 * pad) * (c.date.toordinal() - first) / (last - first)
        return QPointF(x, box.center().y() - v / reach * box.height() / 2)

    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    if tolerance:
        half = tolerance / reach * box.height() / 2
        painter.fillRect(
            QRectF(box.left(), box.center().y() - half, box.width(), 2 * half), theme.color("corridor", 130)
        )
    painter.setPen(QPen(theme.color("line"), 1))
    painter.drawLine(QPointF(box.left(), box.center().y()), QPointF(box.right(), box.center().y()))
    points = [at(c, v) for c, v in zip(history, values, strict=True)]
    painter.setPen(QPen(theme.color("teal"), 2.0 if big else 1.6))
    painter.drawPolyline(QPolygonF(points))
    for c, v, d, p in zip(history, values, doubts, points, strict=True):
        if big and d:
            painter.setPen(QPen(theme.color("teal"), 1.2))
            painter.drawLine(at(c, v - d), at(c, v + d))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.color("teal"))
        r = 3.4 if big else (2.6 if c is history[-1] else 1.5)
        painter.drawEllipse(p, r, r)


class Sensors(QAbstractListModel):
    """The rows, soonest due first."""

    def __init__(self) -> None:
        super().__init__()
        self.rows: list[Entry] = []

    def show(self, rows: list[Entry]) -> None:
        self.beginResetModel()
        self.rows = rows
        self.endResetModel()

    def as_table(self) -> list[Row]:
        """A row an entry that is shown."""
        made: list[Row] = [("serial", "kind", "maker", "model", "sensitivity", "unit", "uncertainty, %", "calibrated",
                            "state")]  # fmt: skip
        for e in self.rows:
            last = e.last
            value = (last.sensitivity, last.unit, last.uncertainty, last.date.isoformat()) if last else ("",) * 4
            made.append((e.sensor.serial, e.sensor.kind, e.sensor.maker, e.sensor.model, *value, state_words(e)[0]))
        return made

    def rowCount(self, _parent: QModelIndex = QModelIndex()) -> int:
        return len(self.rows)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        entry = self.rows[index.row()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
            words = due_words(entry.days_left(datetime.date.today()))[0]
            return f"{entry.sensor.serial}, {entry.sensor.kind}, {words}"
        return entry if role == Qt.ItemDataRole.UserRole else None


class SensorRow(QStyledItemDelegate):
    """One sensor as a row: who, what it gives, how it drifted, when it is due."""

    def sizeHint(self, _option: QStyleOptionViewItem, _index: QModelIndex) -> QSize:
        return QSize(400, ROW)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        entry: Entry = index.data(Qt.ItemDataRole.UserRole)
        box = QRectF(option.rect)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(box, theme.color("selected"))
            painter.fillRect(QRectF(box.left(), box.top(), 3, box.height()), theme.color("brass"))
        elif option.state & QStyle.StateFlag.State_MouseOver:
            painter.fillRect(box, theme.color("sand", 90))
        painter.setPen(QPen(theme.color("line", 160), 1))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        ink, muted = theme.color("ink"), theme.color("muted")
        left, middle = box.left() + 18, box.top()
        small_text(painter, left, middle + 25, entry.sensor.serial, ink, 11, 600)
        small_text(
            painter, left, middle + 43, f"{entry.sensor.kind} · {entry.sensor.maker} {entry.sensor.model}", muted, 9
        )
        x = box.left() + box.width() * 0.42
        if entry.last:
            small_text(painter, x, middle + 25, value_text(entry.last), ink, 10.5, 500)
            small_text(painter, x, middle + 43, f"calibrated {entry.last.date.isoformat()}", muted, 9)
        spark = QRectF(box.left() + box.width() * 0.66, middle + 11, box.width() * 0.14, ROW - 22)
        draw_history(painter, spark, entry, False)
        if entry.drift is not None:
            text = f"{entry.drift:+.1f} %".replace("-", "−") if abs(entry.drift) >= 0.05 else "0.0 %"
            small_text(painter, spark.right() + 8, middle + 36, text, muted, 9)
        words, role = state_words(entry)
        small_text(
            painter, box.right() - 16, middle + 25, words, theme.color(role), 10, 600 if role != "muted" else 400, True
        )
        if entry.sensor.use == "reference":
            small_text(painter, box.right() - 16, middle + 43, "reference", muted, 9, 400, True)
        elif entry.due:
            small_text(painter, box.right() - 16, middle + 43, entry.due.isoformat(), muted, 9, 400, True)
        painter.restore()


def soonest(entry: Entry) -> tuple[Any, ...]:
    """Overdue first, those without a date last."""
    due = entry.due if entry.sensor.retired is None else None
    return due is None, due or datetime.date.max, natural(entry.sensor.serial)


def natural(text: str) -> list[tuple[int, int, str]]:
    """As people count: GA-9 before GA-11."""
    return [(0, int(p), "") if p.isdigit() else (1, 0, p.lower()) for p in re.split(r"(\d+)", text) if p]


ORDERS: dict[str, tuple[str, Callable[[Entry], Any]]] = {
    "due": ("Due", soonest),
    "serial": ("Serial", lambda e: natural(e.sensor.serial)),
    "kind": ("Kind", lambda e: (e.sensor.kind, natural(e.sensor.serial))),
    "calibrated": (
        "Last calibrated",
        lambda e: (-(e.last.date.toordinal() if e.last else 0), natural(e.sensor.serial)),
    ),
    "drift": ("Drift", lambda e: (-abs(e.drift or 0.0), natural(e.sensor.serial))),
}
