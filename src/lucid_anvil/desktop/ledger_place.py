"""The Ledger: sensors with their drift, what is due, and what rests on them."""

from __future__ import annotations

import datetime
from typing import Any

from PyQt6.QtCore import QAbstractListModel, QModelIndex, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QLineEdit,
    QListView,
    QScrollArea,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from ..core.quantities import round_to_doubt
from ..lab.ledger import Calibration, Change, Entry
from ..lab.place import Lab
from ..lab.plans import SensorRecord
from . import theme
from .empty_stage import Row
from .sensor_forms import CertificateSheet, ChangeSheet, RetireSheet, SensorSheet
from .widgets import Elided, Tabs, button, card, clear, draw_verdict, label, section, small_text

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
            text = f"{entry.drift:+.1f} %".replace("-", "−")
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


class History(QWidget):
    """The large drift plot with dates."""

    def __init__(self) -> None:
        super().__init__()
        self.entry: Entry | None = None
        self.setMinimumHeight(170)

    def show_entry(self, entry: Entry) -> None:
        self.entry = entry
        self.update()

    def paintEvent(self, _event: object) -> None:
        if self.entry is None or not self.entry.history:
            return
        painter = QPainter(self)
        box = QRectF(self.rect()).adjusted(44, 8, -14, -24)
        history, muted = self.entry.history, theme.color("muted")
        base = self.entry.sensor.nominal or history[0].sensitivity
        tolerance = self.entry.sensor.tolerance
        reach = max(
            [abs(100 * (c.sensitivity / base - 1)) + (c.uncertainty or 0) for c in history]
            + [tolerance * 1.25 if tolerance else 0.6]
        )
        for v in (-tolerance, 0.0, tolerance) if tolerance else (0.0,):
            y = box.center().y() - v / reach * box.height() / 2
            small_text(
                painter, box.left() - 8, y + 4, f"{v:+g} %".replace("-", "−") if v else "0", muted, 8.5, 400, True
            )
        draw_history(painter, box, self.entry, True)
        for i, c in enumerate(history):
            if i in (0, len(history) - 1) or len(history) <= 5:
                span = max(history[-1].date.toordinal() - history[0].date.toordinal(), 1)
                x = box.left() + box.width() * (c.date.toordinal() - history[0].date.toordinal()) / span
                painter.setFont(theme.font(8.5))
                text = c.date.strftime("%Y-%m")
                w = painter.fontMetrics().horizontalAdvance(text)
                small_text(painter, min(max(x - w / 2, 0), self.width() - w), box.bottom() + 18, text, muted, 8.5)


class CalibrationRow(QWidget):
    """One calibration in the history list."""

    def __init__(self, c: Calibration) -> None:
        super().__init__()
        self.c = c
        self.setFixedHeight(36)

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        ink, muted, c = theme.color("ink"), theme.color("muted"), self.c
        draw_verdict(painter, c.verdict, QRectF(1, 8, 14, 8))
        small_text(painter, 24, 16, c.date.isoformat(), ink, 9.5, 500)
        small_text(painter, 24, 31, f"{c.as_state} · {c.by or c.lab}", muted, 8.5)
        small_text(painter, self.width() - 2, 16, value_text(c), ink, 9.5, 500, True)
        small_text(painter, self.width() - 2, 31, c.certificate, muted, 8.5, 400, True)


def not_here(sensor: SensorRecord) -> str:
    """Why a sensor can't be calibrated on this program's benches; empty where it can."""
    if sensor.retired is not None:
        return f"Retired on {sensor.retired.isoformat()}: nothing new may rest on it."
    if sensor.kind != "accelerometer":
        return f"Nothing here calibrates a {sensor.kind} yet; its value is that of its last certificate."
    if sensor.use == "reference":
        return "A reference is not calibrated here: others are compared with it. Its value is its certificate's."
    return ""


class LedgerPlace(QWidget):
    """The place itself."""

    calibrate = pyqtSignal(str)

    def __init__(self, lab: Lab) -> None:
        super().__init__()
        self.lab = lab
        self.entries: list[Entry] = []
        self.chosen: Entry | None = None
        self.model = Sensors()
        row = QHBoxLayout(self)
        row.setContentsMargins(10, 10, 10, 10)
        row.setSpacing(10)
        row.addWidget(self._list_card(), 62)
        row.addWidget(self._detail_card(), 38)
        self.reload()

    def _list_card(self) -> QWidget:
        frame, layout = card((0, 12, 0, 0), 8)
        head = QHBoxLayout()
        head.setContentsMargins(18, 0, 14, 0)
        head.addWidget(section("Sensors"))
        self.summary = label("", "muted")
        head.addSpacing(10)
        head.addWidget(self.summary)
        head.addStretch()
        self.filter = Tabs(
            [("all", "All"), ("due", "Due"), ("accelerometer", "Accelerometers"), ("other", "Others")], "chip"
        )
        self.filter.chosen.connect(lambda _k: self._fill())
        head.addWidget(self.filter)
        self.new = button("Enter a sensor", tip="A sensor that the ledger does not have yet")
        self.new.clicked.connect(self.enter_sensor)
        head.addSpacing(6)
        head.addWidget(self.new)
        layout.addLayout(head)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find a sensor: serial, kind, maker, model, owner, note")
        self.search.setAccessibleName("find a sensor")
        self.search.textChanged.connect(lambda _t: self._fill())
        finding = QHBoxLayout()
        finding.setContentsMargins(18, 0, 14, 0)
        finding.addWidget(self.search)
        layout.addLayout(finding)
        self.view = QListView()
        self.view.setModel(self.model)
        self.view.setItemDelegate(SensorRow())
        self.view.setMouseTracking(True)
        self.view.setVerticalScrollMode(QListView.ScrollMode.ScrollPerPixel)
        self.view.selectionModel().currentChanged.connect(lambda now, _before: self._choose(now))
        self.view.doubleClicked.connect(lambda index: self._ask(index.data(Qt.ItemDataRole.UserRole)))
        layout.addWidget(self.view)
        return frame

    def _detail_card(self) -> QWidget:
        frame, layout = card((18, 14, 18, 14), 6)
        top = QHBoxLayout()
        self.name = label("", "title")
        self.name.setStyleSheet("font-size: 20px;")
        top.addWidget(self.name)
        top.addStretch()
        self.paper = button("Certificate…", tip="Enter a certificate that another laboratory wrote")
        self.paper.clicked.connect(self.enter_certificate)
        top.addWidget(self.paper)
        self.go = button("Calibrate", "main", "Make a comparison plan and open it on the Bench")
        self.go.clicked.connect(lambda: self._ask(self.chosen))
        top.addWidget(self.go)
        layout.addLayout(top)
        row = QHBoxLayout()
        self.who = Elided("", "muted")
        row.addWidget(self.who, 1)
        self.edit, self.end = button("Change…", "chip"), button("Retire…", "chip")
        self.edit.clicked.connect(self.change_sensor)
        self.end.clicked.connect(self.retire_sensor)
        row.addWidget(self.edit)
        row.addWidget(self.end)
        layout.addLayout(row)
        self.value = label("", "big")
        layout.addWidget(self.value)
        self.due = label("", "small")
        layout.addWidget(self.due)
        self.why_not = label("", "muted", wrap=True)
        layout.addWidget(self.why_not)
        layout.addSpacing(8)
        self.drift, self.calibrated = section("Drift from nominal"), section("Calibrations")
        layout.addWidget(self.drift)
        self.history = History()
        layout.addWidget(self.history)
        layout.addSpacing(4)
        layout.addWidget(self.calibrated)
        self.past = QScrollArea()
        self.past.setWidgetResizable(True)
        inner = QWidget()
        inner.setObjectName("clear")
        self.list = QVBoxLayout(inner)
        self.list.setContentsMargins(0, 0, 6, 0)
        self.list.setSpacing(2)
        self.past.setWidget(inner)
        layout.addWidget(self.past, 1)
        return frame

    def reload(self, serial: str | None = None) -> None:
        """Read the ledger again; keep or choose a sensor."""
        ledger = self.lab.ledger()
        today = datetime.date.today()
        self.entries = sorted(
            ledger.entries(), key=lambda e: (e.days_left(today) is None, e.days_left(today) or 0, e.sensor.serial)
        )
        self.resting = ledger.all_traces()
        told = ledger.all_changes()
        self.changed = {serial: [change_words(c) for c in made] for serial, made in told.items()}
        ledger.close()
        overdue = sum(1 for e in self.entries if (e.days_left(today) or 0) < 0)
        soon = sum(1 for e in self.entries if e.due and 0 <= (e.due - today).days <= 60)
        self.summary.setText(f"{overdue} overdue, {soon} due within 60 days")
        self._fill(serial)

    def _fill(self, serial: str | None = None) -> None:
        today = datetime.date.today()
        kind, words = self.filter.now, self.search.text().lower().split()
        rows = [
            e for e in self.entries
            if all(w in searched(e) for w in words) and (kind == "all"
            or (kind == "due" and e.due and (e.due - today).days <= 60)
            or (kind == "accelerometer" and e.sensor.kind == kind)
            or (kind == "other" and e.sensor.kind != "accelerometer"))
        ]  # fmt: skip
        self.model.show(rows)
        wanted = serial or (self.chosen.sensor.serial if self.chosen else None)
        at = next((i for i, e in enumerate(rows) if e.sensor.serial == wanted), 0)
        if rows:
            self.view.setCurrentIndex(self.model.index(at))
        self._any(bool(self.entries))

    def _any(self, some: bool) -> None:
        """An empty ledger says what to do first."""
        parts: tuple[QWidget, ...] = (
            self.go, self.paper, self.edit, self.end, self.search, self.filter, self.summary, self.drift, self.history,
            self.calibrated,
        )  # fmt: skip
        for part in parts:
            part.setVisible(some)
        if not some:
            self.name.setText("No sensor yet")
            self.who.setText("Enter your reference first, then its certificate: all else is compared with it.")
            self.value.setText("")
            self.due.setText("")
            self.why_not.hide()
            clear(self.list)
            row = Row("Enter a sensor", "Its serial number, kind and nominal sensitivity.")
            row.clicked.connect(self.enter_sensor)
            self.list.addWidget(row)
            self.list.addStretch()

    def enter_sensor(self) -> None:
        """A new sensor, typed."""
        sheet = SensorSheet(self, self.lab)

        def entered() -> None:
            self.filter.choose("all", quiet=True)
            self.reload(sheet.serial)

        sheet.then(entered)

    def change_sensor(self) -> None:
        """The entry of the sensor in hand."""
        if self.chosen is not None:
            serial = self.chosen.sensor.serial
            ChangeSheet(self, self.lab, self.chosen.sensor).then(lambda: self.reload(serial))

    def retire_sensor(self) -> None:
        """The sensor in hand out of use."""
        if self.chosen is not None:
            serial = self.chosen.sensor.serial
            RetireSheet(self, self.lab, self.chosen.sensor).then(lambda: self.reload(serial))

    def enter_certificate(self) -> None:
        """A certificate from elsewhere for the sensor in hand."""
        if self.chosen is None:
            return
        serial = self.chosen.sensor.serial
        CertificateSheet(self, self.lab, self.chosen).then(lambda: self.reload(serial))

    def _choose(self, index: QModelIndex) -> None:
        if not index.isValid():
            return
        entry: Entry = index.data(Qt.ItemDataRole.UserRole)
        self.chosen = entry
        s = entry.sensor
        self.name.setText(s.serial)
        self.who.setText(f"{s.kind}, {s.maker} {s.model}" + (" · reference" if s.use == "reference" else ""))
        self.value.setText(value_text(entry.last) if entry.last else "never calibrated")
        words, role = state_words(entry)
        nominal = f" · nominal {s.nominal:g} {s.unit}" if s.nominal else ""
        colour = theme.color(role).name()
        self.due.setText(f'<span style="color:{colour}; font-weight:600">{words}</span>{nominal}')
        why = not_here(s)
        if not why and not any((self.lab.folder / "rigs").glob("*.rig.yaml")):
            why = "This lab has no bench to calibrate on yet: hook one up (Ctrl+R)."
        self.go.setEnabled(not why)
        self.why_not.setText(why)
        self.why_not.setVisible(bool(why))
        self.history.show_entry(entry)
        clear(self.list)
        for c in reversed(entry.history):
            self.list.addWidget(CalibrationRow(c))
        takes = self.resting.get(s.serial, [])
        if s.note:
            self.list.addWidget(label(s.note, "small", wrap=True))
        for text in self.changed.get(s.serial, [])[:6]:
            self.list.addWidget(label(text, "muted", wrap=True))
        self.list.addSpacing(8)
        self.list.addWidget(section("Takes that rest on it"))
        if not takes:
            self.list.addWidget(label("None yet.", "muted"))
        for t in takes[:12]:
            self.list.addWidget(label(f"{t['take'].removeprefix('jobs/')} · as {t['role']}", "small"))
        self.list.addStretch()

    def _ask(self, entry: Entry | None) -> None:
        if entry is not None and self.go.isEnabled():
            self.calibrate.emit(entry.sensor.serial)
