"""The Ledger: sensors with their drift, what is due, and what rests on them."""

from __future__ import annotations

import datetime
from pathlib import Path

from PyQt6.QtCore import QModelIndex, QPoint, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QImageReader, QPainter
from PyQt6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QListView,
    QMenu,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from ...core.errors import BadInput
from ...lab.entering import INSTRUMENTS
from ...lab.ledger import Calibration, Entry
from ...lab.photos import keep_photo, photos_of
from ...lab.place import Lab
from ...lab.plans import SensorRecord
from ...lab.steps_planning import QUANTITY, method_for, read_for, rigs_for, weights_for
from ..parts import theme
from ..parts.background import Background
from ..parts.empty_stage import Row
from ..parts.photo import Photo
from ..parts.widgets import Elided, Tabs, button, card, clear, draw_verdict, label, section, small_text
from .ledger_rows import (
    ORDERS,
    SensorRow,
    Sensors,
    change_words,
    draw_history,
    searched,
    state_words,
    value_text,
)  # fmt: skip
from .sensor_forms import CertificateSheet, ChangeSheet, RetireSheet, SensorSheet


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
    if sensor.kind != "accelerometer" and not method_for(sensor.kind):
        return f"Nothing here calibrates this kind ({sensor.kind}) yet; its value is that of its last certificate."
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
        self.order = "due"
        self.benches: dict[str, bool] = {}
        self.aside = Background(self)
        self.aside.failed.connect(lambda why: self.why_not.setText(why))
        self.stamps: tuple[tuple[str, int], ...] = ()
        self.model = Sensors()
        row = QHBoxLayout(self)
        row.setContentsMargins(10, 10, 10, 10)
        row.setSpacing(10)
        row.addWidget(self._list_card(), 62)
        row.addWidget(self._detail_card(), 38)
        self.reload()
        self.sort_by(self.order)

    def _list_card(self) -> QWidget:
        frame, layout = card((0, 12, 0, 0), 8)
        head = QHBoxLayout()
        head.setContentsMargins(18, 0, 14, 0)
        head.addWidget(section("Sensors and instruments"))
        self.summary = label("", "muted")
        head.addSpacing(10)
        head.addWidget(self.summary)
        head.addStretch()
        self.filter = Tabs(
            [
                ("all", "All"),
                ("due", "Due"),
                ("accelerometer", "Accelerometers"),
                ("other", "Other sensors"),
                ("instrument", "Instruments"),
            ],
            "chip",
        )
        self.filter.chosen.connect(lambda _k: self._fill())
        self.new = button("Enter…", tip="A sensor or instrument that the ledger does not have yet")
        self.new.clicked.connect(self.enter_sensor)
        head.addSpacing(6)
        head.addWidget(self.new)
        layout.addLayout(head)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find by any word that stands in it")
        self.search.setAccessibleName("find a sensor")
        self.search.textChanged.connect(lambda _t: self._fill())
        finding = QHBoxLayout()
        finding.setContentsMargins(18, 0, 14, 0)
        finding.addWidget(self.search, 1)
        finding.addWidget(self.filter)
        self.sorted = button("", "chip", "In which order they stand")
        self.sorted.clicked.connect(self._ask_order)
        finding.addWidget(self.sorted)
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
        self.picture = button("Photo…", "chip", "Keep a photo of it in the lab's folder")
        self.picture.clicked.connect(self.add_photo)
        self.edit.clicked.connect(self.change_sensor)
        self.end.clicked.connect(self.retire_sensor)
        row.addWidget(self.edit)
        row.addWidget(self.picture)
        row.addWidget(self.end)
        layout.addLayout(row)
        shown = QHBoxLayout()
        words = QVBoxLayout()
        words.setSpacing(6)
        self.value = label("", "big")
        words.addWidget(self.value)
        self.due = label("", "small")
        words.addWidget(self.due)
        words.addStretch()
        shown.addLayout(words, 1)
        self.photo = Photo()
        shown.addWidget(self.photo)
        layout.addLayout(shown)
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
            or (kind == "other" and e.sensor.kind != "accelerometer" and e.sensor.kind not in INSTRUMENTS)
            or (kind == "instrument" and e.sensor.kind in INSTRUMENTS))
        ]  # fmt: skip
        rows.sort(key=ORDERS[self.order][1])
        self.model.show(rows)
        wanted = serial or (self.chosen.sensor.serial if self.chosen else None)
        at = next((i for i, e in enumerate(rows) if e.sensor.serial == wanted), 0)
        if rows:
            self.view.setCurrentIndex(self.model.index(at))
        self._any(bool(self.entries))

    def _ask_order(self) -> None:
        menu = QMenu(self)
        for key, (name, _) in ORDERS.items():
            menu.addAction(name).triggered.connect(lambda _=False, k=key: self.sort_by(k))
        menu.popup(self.sorted.mapToGlobal(QPoint(0, self.sorted.height())))

    def sort_by(self, order: str) -> None:
        """The rows in another order."""
        self.order = order
        self.sorted.setText(f"By {ORDERS[order][0].lower()}")
        self._fill()

    def _any(self, some: bool) -> None:
        """An empty ledger says what to do first."""
        parts: tuple[QWidget, ...] = (
            self.go, self.paper, self.edit, self.picture, self.end, self.search, self.sorted, self.filter,
            self.summary, self.drift, self.history, self.calibrated,
        )  # fmt: skip
        for part in parts:
            part.setVisible(some)
        if not some:
            self.name.setText("No sensor yet")
            self.who.setText("Enter your reference first, then its certificate: all else is compared with it.")
            self.value.setText("")
            self.due.setText("")
            self.why_not.hide()
            self.photo.show_photos([])
            clear(self.list)
            row = Row("Enter a sensor", "Its serial number, kind and nominal value.")
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

    def add_photo(self, photo: Path | None = None) -> None:
        """A photo of the one in hand, kept."""
        if self.chosen is None:
            return
        if not isinstance(photo, Path):
            chosen, _ = QFileDialog.getOpenFileName(self, "A photo", "", "Photos (*.jpg *.jpeg *.png)")
            if not chosen:
                return
            photo = Path(chosen)
        serial = self.chosen.sensor.serial
        try:
            if QImageReader(str(photo)).size().isEmpty():
                raise BadInput(f"{photo.name}: it can't be read as a picture.")
            keep_photo(self.lab, serial, photo)
        except BadInput as problem:
            self.why_not.setText(str(problem))
            self.why_not.show()
            return
        self.photo.show_photos(photos_of(self.lab, serial))

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
        method = method_for(s.kind)
        found = self._benches(s.serial, method) if not why and method else True
        if found is None:
            why = "Looking for a rig that compares it."
        elif not found:
            kind = QUANTITY[method][0]
            why = f"No rig compares {kind} with it: hook one up (Ctrl+R) with the roles reference and unit."
        if not why and not any((self.lab.folder / "rigs").glob("*.rig.yaml")):
            why = "This lab has no bench to calibrate on yet: hook one up (Ctrl+R)."
        self.go.setEnabled(not why)
        self.why_not.setText(why)
        self.why_not.setVisible(bool(why))
        self.history.show_entry(entry)
        self.photo.show_photos(photos_of(self.lab, s.serial))
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

    def _benches(self, serial: str, method: str) -> bool | None:
        """Whether a rig compares it; None while that is being found out. Rigs are read from their files, which takes
        long: aside, and only when they changed."""
        places = (self.lab.folder / "rigs").glob("*.rig.yaml")
        stamps = tuple(sorted((p.name, p.stat().st_mtime_ns) for p in places))
        if stamps != self.stamps:
            self.stamps = stamps
            self.benches.clear()
        if serial in self.benches:
            return self.benches[serial]
        lab, ways = self.lab, {False, bool(weights_for(self.entries, method) or read_for(self.entries, method))}

        def then(found: bool) -> None:
            self.benches[serial] = found
            if self.chosen is not None and self.chosen.sensor.serial == serial:
                self._choose(self.view.currentIndex())

        self.aside.run("benches", lambda: any(rigs_for(lab, serial, method, by) for by in ways), then)
        return None

    def _ask(self, entry: Entry | None) -> None:
        if entry is not None and self.go.isEnabled():
            self.calibrate.emit(entry.sensor.serial)
