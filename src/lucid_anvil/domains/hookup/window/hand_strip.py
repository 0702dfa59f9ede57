"""By hand: the signal, its frequency and its level, turned up and down under the guards; and the row that is noted."""

from __future__ import annotations

import math
import time
from collections.abc import Mapping
from typing import Any

from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPen, QWheelEvent
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from ....core.errors import BadInput
from ....core.quantities import parse, same_kind, split
from ....desktop.parts import theme
from ....desktop.parts.widgets import Tabs, button, label, small_text

SPAN = 60.0
"""dB that the bar shows below the highest level; its left end is silence"""
BEAT = 120
"""ms between two orders to move, while a key is held"""
CATCH_UP = 3.0
"""s that a level asked for may take to show in a look"""


class LevelBar(QWidget):
    """How far it is turned up: dragged, or by arrow keys 1 dB at a time. Home is silence."""

    turned = pyqtSignal(float)
    """V peak at the source"""

    def __init__(self) -> None:
        super().__init__()
        self.highest, self.wanted, self.level = 1.0, 0.0, 0.0
        self.asked: tuple[float, float] | None = None
        self.setFixedHeight(34)
        self.setMinimumWidth(180)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("level by hand")

    def show_level(self, level: float, wanted: float, highest: float) -> None:
        self.level, self.highest = level, highest
        # What was asked for a moment ago stands until a look has caught up with it: the next turn adds to it.
        if self.asked is not None and (
            abs(wanted - self.asked[0]) <= 1e-9 * highest or time.monotonic() > self.asked[1]
        ):
            self.asked = None
        if self.asked is None:
            self.wanted = wanted
        self.update()

    def _turn(self, volts: float) -> None:
        self.wanted = volts
        self.asked = (volts, time.monotonic() + CATCH_UP)
        self.turned.emit(volts)
        self.update()

    def _share(self, volts: float) -> float:
        return 0.0 if volts <= 0 else min(max(1 + 20 * math.log10(volts / self.highest) / SPAN, 0.0), 1.0)

    def _at(self, x: float) -> float:
        share = min(max((x - 8) / max(self.width() - 16, 1), 0.0), 1.0)
        return 0.0 if share <= 0.01 else self.highest * 10 ** ((share - 1) * SPAN / 20)

    def by(self, decibel: float) -> None:
        """So much louder or softer; below the bar's end there is silence, and the first step up leaves it."""
        if self.wanted <= 0:
            volts = self.highest * 10 ** (-SPAN / 20) if decibel > 0 else 0.0
        else:
            volts = self.wanted * 10 ** (decibel / 20)
        volts = 0.0 if volts < 0.999 * self.highest * 10 ** (-SPAN / 20) else min(volts, self.highest)
        self._turn(volts)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        self.mouseMoveEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self.isEnabled() and event.buttons() & Qt.MouseButton.LeftButton:
            self._turn(self._at(event.position().x()))

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is not None and self.isEnabled():
            self.by(1.0 if event.angleDelta().y() > 0 else -1.0)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        steps = {Qt.Key.Key_Up: 1.0, Qt.Key.Key_Right: 1.0, Qt.Key.Key_Down: -1.0, Qt.Key.Key_Left: -1.0,
                 Qt.Key.Key_PageUp: 6.0, Qt.Key.Key_PageDown: -6.0, Qt.Key.Key_Home: -1000.0}  # fmt: skip
        if event is not None and event.key() in steps:
            self.by(steps[Qt.Key(event.key())])
        else:
            super().keyPressEvent(event)

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        y, left, wide = 13.0, 8.0, self.width() - 16.0
        on = self.isEnabled()
        painter.fillRect(QRectF(left, y - 3, wide, 6), theme.color("sand"))
        if on:
            painter.fillRect(QRectF(left, y - 3, wide * self._share(self.level), 6), theme.color("brass"))
        for db in (0, -20, -40):
            x = left + wide * (1 + db / SPAN)
            painter.setPen(QPen(theme.color("clay" if db == 0 else "line"), 1.6 if db == 0 else 1))
            painter.drawLine(QPointF(x, y - 8), QPointF(x, y + 8))
            text, role = ("highest", "clay") if db == 0 else (f"−{-db} dB", "muted")
            small_text(painter, x if db == 0 else x + 12, 32, text, theme.color(role), 8, 400, True)
        x = left + wide * self._share(self.wanted)
        painter.setPen(QPen(theme.color("brass" if on else "line"), 2))
        painter.setBrush(theme.color("card"))
        painter.drawEllipse(QPointF(x, y), 7, 7)
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.color("ink"), 1))
            painter.drawEllipse(QPointF(x, y), 9.5, 9.5)


class JogKeys(QWidget):
    """Up and down: the crosshead moves as long as one of them is held."""

    moved = pyqtSignal(float)
    """m/s, again and again while a key is held; 0 when it is let go"""

    def __init__(self) -> None:
        super().__init__()
        self.fastest, self.way = 1e-3, 0
        self.beat = QTimer(self)
        self.beat.setInterval(BEAT)
        self.beat.timeout.connect(lambda: self.moved.emit(self.way * self.speed))
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        row = QHBoxLayout()
        row.setSpacing(4)
        self.up, self.down = button("▲ Up", tip="Hold it: the crosshead goes up"), button("▼ Down", tip="Hold it")
        for one, way in ((self.up, 1), (self.down, -1)):
            one.pressed.connect(lambda w=way: self._go(w))
            one.released.connect(self.let_go)
            row.addWidget(one)
        column.addLayout(row)
        line = QHBoxLayout()
        line.setSpacing(4)
        self.box = QLineEdit("20 mm/min")
        self.box.setFixedWidth(86)
        self.box.setAccessibleName("speed of the crosshead by hand")
        line.addWidget(self.box)
        self.told = label("", "muted")
        line.addWidget(self.told, 1)
        column.addLayout(line)

    @property
    def speed(self) -> float:
        """m/s, as typed; no faster than the settings allow."""
        try:
            return min(abs(parse(self.box.text(), "m/s", "speed")), self.fastest)
        except BadInput:
            return 0.0

    def wake(self, on: bool) -> None:
        for part in (self.up, self.down, self.box):
            part.setEnabled(on)
        if not on:
            self.let_go()

    def _go(self, way: int) -> None:
        self.way = way
        self.moved.emit(way * self.speed)
        self.beat.start()

    def let_go(self) -> None:
        """It stands."""
        if self.way:
            self.way = 0
            self.beat.stop()
            self.moved.emit(0.0)

    def show_live(self, live: Mapping[str, Any]) -> None:
        self.fastest = float(live["fastest"])
        if self.speed <= 0:
            self.told.setText("a speed, such as 20 mm/min")
        elif live["shut"]:
            side = "up" if live["shut"] > 0 else "down"
            self.told.setText(f"{abs(live['load']):.0f} N: no further {side}")
        else:
            load = "" if live["load"] is None else f"{live['load']:.0f} N · ".replace("-", "−")
            self.told.setText(f"{load}{6e4 * live['speed']:.0f} mm/min".replace("-", "−"))

    def hideEvent(self, event: Any) -> None:
        self.let_go()
        super().hideEvent(event)

    def changeEvent(self, event: Any) -> None:
        """Another window in front: nobody watches any more."""
        if event.type() == QEvent.Type.ActivationChange and not self.isActiveWindow():
            self.let_go()
        super().changeEvent(event)


class HandStrip(QWidget):
    """The strip itself. What is asked for goes out as the body of an order; what is wrong is said."""

    drive = pyqtSignal(dict)
    row = pyqtSignal(dict)
    said = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setProperty("help", "hook-up.md#By hand")
        self.live: Mapping[str, Any] = {}
        self.load: float | None = None
        """Ω behind the inputs that measure volts, where it is known"""
        self.inputs: dict[str, tuple[str, float]] = {}
        outer = QHBoxLayout(self)
        outer.setContentsMargins(0, 2, 0, 0)
        outer.setSpacing(12)
        self.shape = Tabs([("sine", "sine"), ("noise", "noise"), ("sweep", "sweep")], "chip")
        self.shape.chosen.connect(self._shaped)
        column = QVBoxLayout()
        column.setSpacing(3)
        column.addWidget(label("signal", "muted"))
        column.addWidget(self.shape)
        column.addStretch()
        outer.addLayout(column)
        self.frequency, self.to, self.level = QLineEdit("160 Hz"), QLineEdit("1 kHz"), QLineEdit("0 V")
        for name, box, wide in (("frequency", self.frequency, 76), ("to", self.to, 70), ("level", self.level, 92)):
            column = QVBoxLayout()
            column.setSpacing(1)
            head = label(name, "muted")
            column.addWidget(head)
            box.setFixedWidth(wide)
            box.setAccessibleName(name)
            column.addWidget(box)
            column.addStretch()
            outer.addLayout(column)
            if name == "to":
                self.to_head = head
        self.frequency.returnPressed.connect(lambda: self._typed("frequency", self.frequency))
        self.to.returnPressed.connect(lambda: self._typed("to", self.to))
        self.level.returnPressed.connect(self._level_typed)
        self.level.setToolTip("V peak at the source, dB re 1 V rms, or what an input shows now: 3 m/s², 2 N, 10 W")
        self.bar = LevelBar()
        self.bar.turned.connect(lambda volts: self.drive.emit({"level": volts}))
        column = QVBoxLayout()
        column.setSpacing(0)
        self.told = label("", "muted")
        column.addWidget(self.told)
        column.addWidget(self.bar)
        outer.addLayout(column, 1)
        self.jog = JogKeys()
        self.jog.hide()
        outer.addWidget(self.jog)
        self.meter = QLineEdit()
        self.meter.setPlaceholderText("meter: 1.02 V")
        self.meter.setFixedWidth(122)
        self.note = button("Note it  N", "main", "Put what is seen now as a row into the log")
        self.note.clicked.connect(self.note_it)
        column = QVBoxLayout()
        column.setSpacing(4)
        column.addWidget(self.note)
        column.addWidget(self.meter)
        outer.addLayout(column)
        self.wake(False, {})
        self._shaped("sine", quiet=True)

    def wake(self, on: bool, inputs: dict[str, tuple[str, float]]) -> None:
        """Whether the drive is armed; unit and V per unit of the inputs by role."""
        self.inputs = inputs
        self.jog.wake(on)
        for part in (self.shape, self.frequency, self.to, self.level, self.bar, self.note, self.meter):
            part.setEnabled(on)
        if not on:
            self.live = {}
            self.bar.asked = None
            self.bar.show_level(0.0, 0.0, self.bar.highest)
            self.told.setText("Begin arms the drive; it starts at zero and never leaves the guards.")

    def show_live(self, live: Mapping[str, Any]) -> None:
        self.live = live
        if not live:
            return
        self.jog.setVisible("jog" in live)
        if "jog" in live:
            self.jog.show_live(live["jog"])
        self.bar.show_level(float(live["level"]), float(live["wanted"]), float(live["highest"]))
        if not self.level.hasFocus():
            self.level.setText(_volts(float(live["wanted"])))
        way = f" · {live['frequency']:.4g} Hz" if live.get("frequency") else ""
        self.told.setText(f"now {_volts(float(live['level']))} peak{way} · rows noted {live['rows']}")

    def _shaped(self, shape: str, quiet: bool = False) -> None:
        self.to.setVisible(shape != "sine")
        self.to_head.setVisible(shape != "sine")
        if not quiet:
            self.drive.emit({"shape": shape, "level": 0.0})

    def _typed(self, key: str, box: QLineEdit) -> None:
        try:
            value = parse(box.text(), "Hz", key)
            if value <= 0:
                raise BadInput(f"{key}: it must be above zero.")
        except BadInput as problem:
            self.said.emit(str(problem))
            return
        self.drive.emit({key: value})

    def _level_typed(self) -> None:
        try:
            volts = level_in_volts(self.level.text(), self.live, self.inputs, self.load)
        except BadInput as problem:
            self.said.emit(str(problem))
            return
        if volts > self.bar.highest:
            most = _volts(self.bar.highest)
            self.said.emit(f"level: {_volts(volts)} is more than the highest, {most}: see the settings.")
            return
        self.level.clearFocus()
        self.drive.emit({"level": volts})

    def note_it(self) -> None:
        """A row, with what a meter shows if it was typed."""
        if not self.note.isEnabled():
            return
        typed = self.meter.text().strip()
        if typed:
            try:
                if not split(typed)[1]:
                    raise BadInput(f"meter: '{typed}' has no unit: write it like '1.02 V'.")
            except BadInput as problem:
                self.said.emit(str(problem))
                return
        self.meter.clear()
        self.row.emit({"meter": typed} if typed else {})


def level_in_volts(
    text: str, live: Mapping[str, Any], inputs: Mapping[str, tuple[str, float]], load: float | None = None
) -> float:  # fmt: skip
    """A level as it was typed, in V peak at the source: volts, dB re 1 V rms, or the rms that an input shall show, by
    what it shows now; in W what the first input that measures volts shall show into `load` [Ω]. Raises BadInput."""
    value, unit = split(text)
    if value is None or not unit:
        raise BadInput(f"level: '{text}' has no unit: write it like '120 mV', '−20 dB' or '3 m/s²'.")
    if unit in ("dB", "dBV"):
        return math.sqrt(2) * 10 ** (value / 20)
    if value < 0:
        raise BadInput(f"level: '{text}' is below zero.")
    if same_kind(unit, "V"):
        return parse(text, "V", "level")
    if same_kind(unit, "W"):
        if load is None:
            raise BadInput("level: it is not known into which load: type it in the settings (T), load.")
        text, unit = f"{math.sqrt(parse(text, 'W', 'level') * load)!r} V", "V"
    role = next((r for r, (u, _) in inputs.items() if same_kind(unit, u)), None)
    if role is None:
        raise BadInput(f"level: no input here measures {unit}.")
    shown = (live.get("figures") or {}).get(role)
    drive, level = float(live.get("drive") or 0.0), float(live.get("level") or 0.0)
    if not shown or drive <= 0 or shown.get("frequency") is None:
        raise BadInput(f"level: {role} shows nothing of the drive yet: turn it up a little first.")
    own, per = inputs[role]
    return level * parse(text, own, "level") * per / float(shown["rms"])


def _volts(value: float) -> str:
    if value <= 0:
        return "0 V"
    return f"{1e3 * value:.3g} mV" if value < 1 else f"{value:.3g} V"
