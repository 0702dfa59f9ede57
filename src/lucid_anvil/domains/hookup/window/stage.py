"""The hook-up's Stage: the live look at every input, and the rig in words: guards, who answers, what it can serve."""

from __future__ import annotations

import datetime
from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QStackedWidget, QVBoxLayout, QWidget

from ....contracts import registry
from ....contracts.finding import Finding
from ....desktop.ledger.ledger_rows import due_words
from ....desktop.parts.copying import copyable
from ....desktop.parts.widgets import Tabs, Verdict, button, card, clear, label, scrolled, section
from ....engine.guards import label_of
from ....engine.newplan import suits
from ....engine.preparing import Prepared
from ....lab.exporting import Row
from ....lab.ledger import Entry
from ....lab.plans import GuardPart
from ....protocol.messages import Board
from ....rig.model import MEASURED, ChannelPart
from .device_sheets import INSTRUMENTS
from .input_lanes import InputLane, SensorCard, facts_from

AWAKE = ("walk-round", "preparing", "running", "easing")
"""States in which something comes in"""


class Rows(QWidget):
    """A column in a scroll area."""

    def __init__(self, spacing: int = 4) -> None:
        super().__init__()
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 6, 0)
        self.column.setSpacing(spacing)


class HookUpStage(QWidget):
    """Lanes, or the rig in words."""

    asked = pyqtSignal(int)
    plugged = pyqtSignal(int, str)
    add = pyqtSignal()
    table = pyqtSignal()
    guard = pyqtSignal(object)
    serve = pyqtSignal(str)
    shaker = pyqtSignal()
    front_end = pyqtSignal()
    instrument = pyqtSignal(str)
    gauge = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        frame, column = card((16, 10, 12, 8), 6)
        outer.addWidget(frame)
        head = QHBoxLayout()
        head.addWidget(label("Live look", "title"))
        self.tabs = Tabs([("wave", "waveform"), ("lines", "spectrum"), ("rig", "rig")], "chip")
        self.tabs.chosen.connect(self._chosen)
        head.addWidget(self.tabs)
        head.addStretch()
        self.told = label("", "muted")
        head.addWidget(self.told)
        self.more = button("Add an input", "chip")
        self.more.clicked.connect(self.add)
        self.paste = button("Paste a table", "chip", "All inputs at once, from a spreadsheet")
        self.paste.clicked.connect(self.table)
        head.addWidget(self.more)
        head.addWidget(self.paste)
        column.addLayout(head)
        self.stack = QStackedWidget()
        self.lanes_, self.words = Rows(0), Rows(2)
        self.stack.addWidget(scrolled(self.lanes_))
        self.stack.addWidget(scrolled(self.words))
        column.addWidget(self.stack, 1)
        self.lanes: list[InputLane] = []
        self.answers: dict[str, QWidget] = {}
        self.setProperty("help", "hook-up.md#Live look")
        copyable(self)

    def as_table(self) -> list[Row]:
        """The live look: an input a row."""
        head: Row = ("input", "name", "sensor", "rms", "peak", "mean", "unit", "frequency, Hz", "overload")
        return [head, *(lane.as_row() for lane in self.lanes)] if self.lanes else []

    def show_prepared(self, prepared: Prepared, editable: bool) -> None:
        """The rig's inputs, in the order of its file."""
        clear(self.lanes_.column)
        sensors = prepared.plan.sensors

        def detail(c: ChannelPart) -> str:
            held = sensors.get(c.role)
            if held is not None and held.sensitivity:
                return f"{held.serial} · {held.sensitivity:.4g} {held.unit}"
            if c.sensitivity is not None:
                return f"{c.sensor or 'a sensor'} · {c.sensitivity}, typed"
            if c.kind in MEASURED:
                return f"{c.sensor} · not in the ledger"
            return f"shunt {c.scale:g} V/A" if c.kind == "current" else "no sensor: bare volts"

        self.lanes = [InputLane(i, f) for i, f in enumerate(facts_from(prepared, detail))]
        for lane in self.lanes:
            lane.asked.connect(self.asked)
            lane.plugged.connect(self.plugged)
            lane.spectrum = self.tabs.now == "lines"
            self.lanes_.column.addWidget(lane, 1)
        self.lanes_.column.addStretch(0)
        for part in (self.more, self.paste):
            part.setVisible(editable)
        self._in_words(prepared, editable)

    def _in_words(self, prepared: Prepared, editable: bool) -> None:
        column, rig, end = self.words.column, prepared.rig, prepared.rig.front_end
        clear(column)
        column.addWidget(section("Who answers"))
        self.who = label("The front end is being woken.", wrap=True)
        column.addWidget(self.who)
        column.addWidget(section("Devices"))
        driver = "stand-in" if rig.is_standin else "sound card"
        volts = "" if rig.is_standin or end.card.known else " · its volts are not known yet: calibrate it"
        told = f"{driver} · {end.rate / 1e3:g} kS/s, {end.bits} bit{volts}"
        self._device(end.model, told, editable, self.front_end.emit)
        framed = rig.framed
        known = f"amplifier's gain {rig.amplifier.gain:g}"
        name = rig.shaker.model
        if rig.frame is not None:
            name = rig.frame.model
            known = f"{rig.frame.force / 1e3:g} kN, {1e3 * rig.frame.travel:g} mm of travel"
        elif framed:
            name, known = "Load frame", "not described: nothing can be pulled until it is"
        self._device(name, rig.undescribed or known, editable, self.shaker.emit)
        for key, words in INSTRUMENTS.items():
            part = rig.instruments.get(key)  # type: ignore[call-overload]
            where = f"{part.host}:{part.port}" if part is not None else "none"
            self._device(words, where, editable, partial(self.instrument.emit, key), part is None)
        gauge = rig.gauge
        where = "none" if gauge is None else f"{gauge.measures} in {gauge.unit}, over {gauge.over}"
        self._device("Reference over its own line", where, editable, self.gauge.emit, gauge is None)
        column.addWidget(section("Guards of this rig"))
        for guard in rig.guards:
            row = QHBoxLayout()
            name = guard.label or label_of(guard.watch)
            row.addWidget(label(name + (f" on {guard.channel}" if guard.channel else "")), 3)
            row.addWidget(label(limit_text(guard), "muted" if guard.limit is None else ""), 2)
            row.addWidget(label(guard.action, "muted"), 1)
            change = button("change", "chip")
            change.setEnabled(editable)
            change.clicked.connect(lambda _=False, g=guard: self.guard.emit(g))
            row.addWidget(change)
            column.addLayout(row)
        more = button("Add a guard", "chip")
        more.setEnabled(editable)
        more.clicked.connect(lambda: self.guard.emit(None))
        row = QHBoxLayout()
        row.addWidget(more)
        row.addStretch()
        column.addLayout(row)
        column.addWidget(section("This rig can serve"))
        for domain in registry.domains():
            for name in domain.methods:
                method = registry.get(name)
                if method.begun_as or method.reads_only or name == prepared.method.name:
                    continue
                why = suits(name, rig)
                row = QHBoxLayout()
                row.addWidget(Verdict("none" if why else "inside"))
                row.addWidget(label(method.title, "muted" if why else ""), 2)
                row.addWidget(label(why or "", "muted"), 3)
                begin = button("New test", "chip")
                begin.setVisible(why is None)
                begin.clicked.connect(lambda _=False, n=name: self.serve.emit(n))
                row.addWidget(begin)
                column.addLayout(row)
        column.addStretch()

    def _device(self, name: str, told: str, editable: bool, change: Callable[[], object], off: bool = False) -> None:
        """A row of the devices: its name, what is known of it, and a way to change that."""
        row = QHBoxLayout()
        row.addWidget(label(name, "muted" if off else ""), 2)
        row.addWidget(label(told, "muted", wrap=True), 4)
        act = button("add" if off else "change", "chip")
        act.setAccessibleName(f"change {name}")
        act.setEnabled(editable)
        act.clicked.connect(lambda _=False: change())
        row.addWidget(act)
        self.words.column.addLayout(row)

    def _chosen(self, key: str) -> None:
        self.stack.setCurrentIndex(1 if key == "rig" else 0)
        for lane in self.lanes:
            lane.spectrum = key == "lines"
            lane.update()

    def show_board(self, board: Board) -> None:
        """The inputs as they are now; a tap is looked for while nothing is driven."""
        if board.state not in AWAKE:
            return
        driven = board.state != "walk-round"
        self.told.setText("driven by hand" if driven else "tap something: its input lights up")
        if not driven:
            self.who.setText("\n".join(answer(*one) for one in board.who) or "The front end answers.")
        if not board.look:
            return
        for lane in self.lanes:
            lane.show_look(board.look, not driven)

    def sleep(self) -> None:
        """The rig is let go."""
        self.told.setText("asleep: Run again wakes it")
        self.who.setText("Nothing: the rig was let go.")
        for lane in self.lanes:
            lane.sleep()

    def show_earlier(self, _finding: Finding | None) -> None:
        """Nothing of an earlier look is drawn."""

    def repaint_charts(self) -> None:
        for lane in self.lanes:
            lane.update()


def answer(name: str, said: str, took: float) -> str:
    """Who answers, what it says it is, and after how long."""
    after = f"{took:.1f} s" if took >= 1 else f"{1e3 * took:.0f} ms"
    name = name[:1].upper() + name[1:]
    return f"{name} answers after {after}" + (f" · {said}" if said else "")


def due_in_short(entry: Entry, today: datetime.date) -> tuple[str, str]:
    """Until when a sensor is in date, where there is little room."""
    days = entry.days_left(today)
    if days is None or days <= 60:
        return due_words(days)
    return f"to {today + datetime.timedelta(days):%Y-%m}", "teal"


def limit_text(guard: GuardPart) -> str:
    """A guard's limit as a person reads it."""
    if guard.limit is None:
        return "as built in"
    if isinstance(guard.limit, (int, float)) and guard.watch == "disk":
        return f"{guard.limit / 1e6:.0f} MB"
    return str(guard.limit)


class SensorsColumn(QWidget):
    """The ledger's sensors beside the lanes, to be dragged onto an input."""

    offered = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setFixedWidth(196)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        frame, column = card((12, 12, 8, 8), 6)
        outer.addWidget(frame)
        column.addWidget(section("Sensors"))
        self.search = QLineEdit()
        self.search.setPlaceholderText("serial, kind, maker")
        self.search.setAccessibleName("find a sensor")
        self.search.textChanged.connect(lambda _t: self._sift())
        column.addWidget(self.search)
        self.rows = Rows(2)
        column.addWidget(scrolled(self.rows), 1)
        self.new = button("New sensor", tip="Enter it into the ledger")
        self.back = button("Back to the docket", tip="Plans and takes of the job")
        column.addWidget(self.new)
        column.addWidget(self.back)
        self.cards: list[tuple[SensorCard, str]] = []

    def fill(self, entries: list[Entry], today: datetime.date) -> None:
        """Anew, from the ledger."""
        clear(self.rows.column)
        self.cards = []
        for e in entries:
            s = e.sensor
            if s.retired is not None:
                continue
            value = f"{e.last.sensitivity:.4g} {e.last.unit}" if e.last else (
                f"{s.nominal:g} {s.unit}, nominal" if s.nominal else "never calibrated"
            )  # fmt: skip
            made = SensorCard(s.serial, s.kind, value, due_in_short(e, today))
            made.offered.connect(self.offered)
            self.cards.append((made, f"{s.serial} {s.kind} {s.maker} {s.model}".lower()))
            self.rows.column.addWidget(made)
        if not entries:
            self.rows.column.addWidget(label("No sensor in the ledger yet.", "muted", wrap=True))
        self.rows.column.addStretch()
        self._sift()

    def _sift(self) -> None:
        wanted = self.search.text().lower().split()
        for made, words in self.cards:
            made.setVisible(all(w in words for w in wanted))
