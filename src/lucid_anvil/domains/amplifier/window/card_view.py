"""Calibrating the sound card by hand: what goes where is drawn, the tone plays, and a meter's reading is typed."""

from __future__ import annotations

import datetime
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QCloseEvent, QKeyEvent, QPainter, QPainterPath, QPen
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from ....core.errors import BadInput
from ....core.quantities import parse
from ....desktop.parts import theme
from ....desktop.parts.background import Background
from ....desktop.parts.widgets import button, label, small_text
from ....rig.card_calibration import CardChannel, CardTone, hook_up, put_card
from ....rig.instruments import Instrument, Trouble
from ....rig.model import Rig

FLOOR_DB = -80.0
"""Left end of the level bar"""


class HookUp(QWidget):
    """The card's sockets, the cable from one output to its input, the meter across it, and what the input hears."""

    def __init__(self, rig: Rig) -> None:
        super().__init__()
        self.names = [c.role for c in rig.channels[:2]]
        self.numbers = [c.input for c in rig.channels[:2]]
        self.side, self.on = 0, False
        self.heard = FLOOR_DB
        self.setMinimumSize(560, 230)

    def show_state(self, side: int, on: bool, heard: float) -> None:
        """`heard` [dB re full scale]."""
        self.side, self.on, self.heard = side, on, heard
        self.update()

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        ink, muted = theme.color("ink"), theme.color("muted")
        body = QRectF(24, 16, 150, self.height() - 32)
        painter.setPen(QPen(theme.color("line"), 1.2))
        painter.setBrush(theme.color("card"))
        painter.drawRoundedRect(body, 5, 5)
        small_text(painter, body.left() + 14, body.top() + 24, "Sound card", ink, 11, 600)
        pitch = (body.height() - 46) / 4
        places = {}
        sockets = [("out", i) for i in range(len(self.names))] + [("in", i) for i in range(len(self.names))]
        for row, (kind, i) in enumerate(sockets):
            y = body.top() + 46 + pitch * (row + 0.35)
            places[kind, i] = QPointF(body.right(), y)
            busy = i == self.side
            text = f"Output {i + 1}" if kind == "out" else f"Input {self.numbers[i]} · {self.names[i]}"
            small_text(painter, body.left() + 14, y + 4, text, ink if busy else muted, 10, 600 if busy else 400)
            painter.setPen(QPen(theme.color("ink" if busy else "line"), 1.6))
            painter.setBrush(theme.color("ground"))
            painter.drawEllipse(places[kind, i], 6, 6)
        self._cable(painter, places["out", self.side], places["in", self.side])

    def _cable(self, painter: QPainter, start: QPointF, end: QPointF) -> None:
        """From output to input, with the meter at the output's terminals and the level where it ends."""
        far = 180.0
        path = QPainterPath(start)
        path.cubicTo(start + QPointF(far, 0), end + QPointF(far, 0), end)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(theme.color("brass" if self.on else "muted"), 2.6))
        painter.drawPath(path)
        tap = path.pointAtPercent(0.14)
        meter = QPointF(self.width() - 190, tap.y() + 4)
        painter.setPen(QPen(theme.color("ink"), 1.2))
        painter.drawLine(tap, meter)
        painter.setBrush(theme.color("card"))
        painter.drawEllipse(meter, 23, 23)
        small_text(painter, meter.x() - 6, meter.y() + 6, "V", theme.color("ink"), 13, 600)
        small_text(painter, meter.x() + 34, meter.y() - 2, "Voltmeter", theme.color("ink"), 10, 600)
        small_text(painter, meter.x() + 34, meter.y() + 14, "V rms at the terminals", theme.color("muted"), 9)
        box = QRectF(self.width() - 214, self.height() - 48, 190, 9)
        share = min(max(1 - self.heard / FLOOR_DB, 0.0), 1.0) if self.on else 0.0
        painter.fillRect(box, theme.color("sand"))
        painter.fillRect(QRectF(box.left(), box.top(), box.width() * share, box.height()), theme.color("teal"))
        text = f"hears {self.heard:.1f} dB re full scale".replace("-", "−") if self.on and share else "hears nothing"
        small_text(
            painter, box.left(), box.top() - 8, f"Input {self.numbers[self.side]} {text}", theme.color("ink"), 10
        )


class CardView(QDialog):
    """Channel by channel: tone on, cable, meter, look; then keep."""

    kept = pyqtSignal(str)

    def __init__(self, rig: Rig, rig_file: Path, parent: QWidget | None = None,
                 tone: Callable[[Rig], CardTone] = CardTone) -> None:  # fmt: skip
        """`tone` makes what plays."""
        super().__init__(parent)
        self.rig, self.rig_file, self.make_tone = rig, rig_file, tone
        self.setWindowTitle("Calibrate the sound card")
        self.tone: CardTone | None = None
        self.found: list[CardChannel] = []
        self.aside = Background(self)
        self.aside.failed.connect(self._failed)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(20, 16, 20, 16)
        outer.setSpacing(10)
        self.told = label("", "title", wrap=True)
        outer.addWidget(self.told)
        self.picture = HookUp(rig)
        outer.addWidget(self.picture)
        row = QHBoxLayout()
        self.play = button("Tone on", "main", "Amplifier and loudspeaker must be off the outputs")
        self.play.clicked.connect(self.begin)
        self.volts = QLineEdit()
        self.volts.setPlaceholderText("what the voltmeter shows, like 0.612 V")
        self.volts.returnPressed.connect(self.look)
        self.meter = button("Read the meter", tip="Ask the voltmeter that the rig file names")
        self.meter.clicked.connect(self.read_meter)
        self.meter.setVisible("meter" in rig.instruments)
        self.take = button("Look", "main", "Three seconds of tone are looked at")
        self.take.clicked.connect(self.look)
        row.addWidget(self.play, 0, Qt.AlignmentFlag.AlignLeft)
        for widget in (self.volts, self.meter, self.take):
            row.addWidget(widget, int(widget is self.volts))
        outer.addLayout(row)
        self.lines = label("", "", wrap=True)
        self.problem = label("", "cut", wrap=True)
        outer.addWidget(self.lines)
        outer.addWidget(self.problem)
        foot = QHBoxLayout()
        foot.addStretch(1)
        self.leave = button("Leave it")
        self.leave.clicked.connect(self.reject)
        self.keep = button("Keep for this rig", "main")
        self.keep.clicked.connect(self._keep)
        foot.addWidget(self.leave)
        foot.addWidget(self.keep)
        outer.addLayout(foot)
        for one in (self.play, self.meter, self.take, self.leave, self.keep):
            one.setAutoDefault(False)  # Return in the field looks, and presses nothing else
        self.tick = QTimer(self)
        self.tick.timeout.connect(self._show)
        self._show()

    # --- what is done ------------------------------------------------------------------------------------------

    def begin(self) -> None:
        """The tone begins."""
        self.problem.clear()
        try:
            self.tone = self.make_tone(self.rig)
        except BadInput as problem:
            self._failed(str(problem))
            return
        self.tone.side = len(self.found)
        self.tone.start()
        self.tick.start(100)
        self.volts.setFocus()
        self._show()

    def read_meter(self) -> None:
        """Ask the meter that the rig file names."""
        part = self.rig.instruments["meter"]

        def work() -> float:
            try:
                one = Instrument("meter", part.host, part.port)
                try:
                    return one.number("MEAS:VOLT:AC?")
                finally:
                    one.close()
            except Trouble as trouble:
                raise BadInput(str(trouble)) from None

        self.aside.run("meter", work, lambda volts: self.volts.setText(f"{volts:.6g} V"))

    def look(self) -> None:
        """Look at the tone, with what the meter shows."""
        tone = self.tone
        if tone is None or not self.take.isEnabled():
            return
        self.problem.clear()
        try:
            volts = parse(self.volts.text(), "V", "the voltmeter")
        except BadInput as problem:
            self._failed(str(problem))
            return

        def work() -> CardChannel:
            found = tone.measure(volts)
            found.check()
            return found

        self.aside.run("look", work, self._looked)
        self._show()

    def _looked(self, found: CardChannel) -> None:
        self.found.append(found)
        self.volts.clear()
        if len(self.found) == len(self.picture.names):
            self._silence()
        elif self.tone is not None:
            self.tone.side = len(self.found)
        self._show()

    def _keep(self) -> None:
        try:
            put_card(self.rig_file, self.found, datetime.date.today())
        except (BadInput, OSError) as problem:
            self._failed(str(problem))
            return
        self.kept.emit(f"The sound card's volts and delay are in {self.rig_file.name}.")
        self.accept()

    # --- what is seen ------------------------------------------------------------------------------------------

    def _show(self) -> None:
        side = min(len(self.found), len(self.picture.names) - 1)
        on, whole = self.tone is not None, len(self.found) == len(self.picture.names)
        if on and self.tone is not None and self.tone.problem:
            self._failed(self.tone.problem)
            return
        busy = bool(self.aside.open)
        self.picture.show_state(side, on, max(self.tone.heard_db, FLOOR_DB) if self.tone else FLOOR_DB)
        if whole:
            self.told.setText("All channels are looked at.")
        elif on:
            self.told.setText(f"{hook_up(side, self.picture.numbers[side])}.")
        else:
            self.told.setText("Take amplifier and loudspeaker off the outputs, then turn the tone on.")
        self.play.setVisible(not on and not whole)
        for widget in (self.volts, self.take):
            widget.setVisible(on)
            widget.setEnabled(not busy)
        self.meter.setVisible(on and "meter" in self.rig.instruments)
        self.take.setText("Looking…" if busy else "Look")
        self.keep.setVisible(whole)
        self.lines.setText(
            "\n".join(f"{n}: {f.sentence()}" for n, f in zip(self.picture.names, self.found, strict=False))
        )

    def _failed(self, why: str) -> None:
        if self.tone is not None and self.tone.problem:
            self._silence()
        self.problem.setText(why)
        self._show()

    def _silence(self) -> None:
        self.tick.stop()
        tone, self.tone = self.tone, None
        if tone is not None:
            tone.stop()

    def done(self, code: int) -> None:
        """Silence before it closes, however it does."""
        self._silence()
        super().done(code)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        self._silence()
        super().closeEvent(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() == Qt.Key.Key_F12:
            self.reject()
            return
        super().keyPressEvent(event)
