"""The live look: every input in a lane of its own, with its sensor, its waveform and how much of its range it uses."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from PyQt6.QtCore import QMimeData, QPoint, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QDrag, QDragEnterEvent, QDropEvent, QMouseEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QApplication, QSizePolicy, QWidget

from ....desktop.parts import theme
from ....desktop.parts.widgets import small_text
from ....engine.tiles import number
from ....lab.exporting import Row

SENSOR = "application/x-lucid-anvil-sensor"
MOVED = 6.0
"""Times its own quiet level after which an input counts as tapped"""
STAYS = 20
"""Pictures that a tapped lane stays lit"""


@dataclass
class Quiet:
    """What an input shows at rest, learned as it goes; and for how many pictures it is still lit."""

    level: float = math.nan
    lit: int = 0

    def heed(self, rms: float) -> None:
        if math.isnan(self.level):
            self.level = rms
        elif rms > MOVED * self.level and rms > 1e-6:
            self.lit = STAYS
            self.level *= 1.02  # a new state that stays becomes the quiet one by and by
        else:
            self.level += 0.05 * (rms - self.level)
        self.lit = max(self.lit - 1, 0)


@dataclass
class InputFacts:
    """One input as the rig has it."""

    role: str
    number: int
    detail: str
    unit: str
    per: float
    """V per unit"""
    range: float
    """V"""
    quiet: Quiet = field(default_factory=Quiet)


class InputLane(QWidget):
    """One input. A sensor is dropped on it, a click opens what can be changed."""

    asked = pyqtSignal(int)
    plugged = pyqtSignal(int, str)
    picked = pyqtSignal(int)

    def __init__(self, index: int, facts: InputFacts) -> None:
        super().__init__()
        self.index, self.facts = index, facts
        self.seen: Mapping[str, Any] = {}
        self.t: Sequence[float] = ()
        self.f: Sequence[float] = ()
        self.spectrum = False
        self.over_it = ""
        self.setMinimumHeight(62)
        self.setMaximumHeight(112)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Expanding)
        self.setAcceptDrops(True)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(f"input {facts.number}, {facts.role}")
        self.setToolTip("Click to change this input; drop a sensor on it")

    @property
    def lit(self) -> bool:
        return self.facts.quiet.lit > 0

    def show_look(self, look: Mapping[str, Any], tapping: bool) -> None:
        seen = look.get(self.facts.role)
        if seen is None:
            return
        self.seen, self.t, self.f = seen, look["t"], look["f"]
        if tapping:
            self.facts.quiet.heed(float(seen["rms"]))
        else:
            self.facts.quiet.lit = 0
        self.update()

    def as_row(self) -> Row:
        """What is seen of it, in its own unit."""
        f, seen = self.facts, self.seen
        levels = [float(seen[k]) / f.per if k in seen else None for k in ("rms", "peak", "mean")]
        return (f.number, f.role, f.detail, *levels, f.unit, seen.get("frequency"), bool(seen.get("over")))

    def sleep(self) -> None:
        """Nothing comes in any more: no figure stands there as if it did."""
        self.seen = {}
        self.update()

    # --- hands -----------------------------------------------------------------------------------------------

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self.rect().contains(event.position().toPoint()):
            self.asked.emit(self.index)

    def keyPressEvent(self, event: Any) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.asked.emit(self.index)
        else:
            super().keyPressEvent(event)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        if event is not None and event.mimeData().hasFormat(SENSOR):
            self.over_it = bytes(event.mimeData().data(SENSOR)).decode()
            event.acceptProposedAction()
            self.update()

    def dragLeaveEvent(self, _event: Any) -> None:
        self.over_it = ""
        self.update()

    def dropEvent(self, event: QDropEvent | None) -> None:
        self.over_it = ""
        if event is not None:
            self.plugged.emit(self.index, bytes(event.mimeData().data(SENSOR)).decode())
            event.acceptProposedAction()

    # --- looks -----------------------------------------------------------------------------------------------

    def text(self) -> str:
        """The large figure: rms in the input's unit."""
        return number(float(self.seen["rms"]) / self.facts.per, self.facts.unit) if self.seen else "–"

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(0.5, 2.5, -0.5, -2.5)
        dropping, f, h = bool(self.over_it), self.facts, self.height()
        over = bool(self.seen.get("over"))
        edge = "brass" if dropping or self.hasFocus() or self.lit else "line"
        painter.setPen(QPen(theme.color(edge), 1.4 if self.lit else 1,
                            Qt.PenStyle.DashLine if dropping else Qt.PenStyle.SolidLine))  # fmt: skip
        painter.setBrush(theme.color("sand" if dropping or self.lit else "ground", 150))
        painter.drawRoundedRect(box, 4, 4)
        ink, muted = theme.color("ink"), theme.color("muted")
        small_text(painter, 12, 22, str(f.number), muted, 10, 600)
        small_text(painter, 32, 22, f.role, ink, 10, 600)
        detail = f"{self.over_it} here" if dropping else f.detail
        painter.setFont(theme.font(8.5))
        detail = painter.fontMetrics().elidedText(detail, Qt.TextElideMode.ElideRight, 172)
        small_text(painter, 32, 38, detail, theme.color("brass") if dropping else muted, 8.5)
        bias = self.seen.get("bias")
        mean = float(self.seen.get("mean", 0.0))
        below = f"bias {bias:.1f} V" if bias is not None else f"mean {number(mean / f.per, f.unit, 1e-6)}"
        if math.isfinite(f.quiet.level):
            below += f" · quiet {number(f.quiet.level / f.per, f.unit)}"
        small_text(painter, 32, 53, "moved" if self.lit else below, theme.color("brass") if self.lit else muted, 8.5)
        wide = self.width()
        self._picture(painter, QRectF(216, 8, max(wide - 216 - 250, 60), h - 16), over)
        if not self.seen:
            return
        small_text(painter, wide - 128, 26, self.text(), theme.color("clay") if over else ink, 12.5, 600, True)
        tone = self.seen.get("frequency")
        under = f"{tone:.4g} Hz" if tone is not None and math.isfinite(tone) else "no tone"
        small_text(painter, wide - 128, 43, f"rms · {under}", muted, 8.5, 400, True)
        peak = float(self.seen["peak"]) + abs(mean)
        small_text(painter, wide - 12, 22, f"± {f.range:g} V", muted, 8.5, 400, True)
        bar = QRectF(wide - 112, 29, 100, 5)
        painter.fillRect(bar, theme.color("line"))
        share = min(peak / f.range, 1.0)
        painter.fillRect(QRectF(bar.left(), bar.top(), bar.width() * share, 5), theme.color("clay" if over else "teal"))
        text = "overload" if over else f"peak {number(float(self.seen['peak']) / f.per, f.unit)}"
        small_text(painter, wide - 12, 50, text, theme.color("clay") if over else muted, 8.5, 400, True)

    def _picture(self, painter: QPainter, box: QRectF, over: bool) -> None:
        painter.setPen(QPen(theme.color("line"), 1))
        if not self.spectrum:
            painter.drawLine(QPointF(box.left(), box.center().y()), QPointF(box.right(), box.center().y()))
        y = np.asarray(self.seen.get("lines" if self.spectrum else "wave", ()), dtype=float)
        if y.size < 2:
            return
        if self.spectrum:  # 100 dB from its largest line down
            level = 20 * np.log10(np.maximum(y, 1e-12))
            share = np.clip((level - level.max() + 100) / 100, 0, 1)
            v = box.bottom() - share * box.height()
        else:
            y = y - float(self.seen["mean"])
            top = max(float(np.max(np.abs(y))), 1e-9)
            v = box.center().y() - y / top * box.height() * 0.47
        x = box.left() + box.width() * np.arange(y.size) / (y.size - 1)
        painter.setPen(QPen(theme.color("clay" if over else "teal"), 1.4))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolyline(QPolygonF([QPointF(a, b) for a, b in zip(x, v, strict=True)]))
        if self.spectrum and len(self.f) > 1:
            known, places = np.log(self.f), np.linspace(0, 1, len(self.f))
            for f in (10, 100, 1000, 10000):
                if self.f[0] < f < self.f[-1]:
                    at = box.left() + box.width() * float(np.interp(math.log(f), known, places))
                    small_text(painter, at, box.bottom() + 4, f"{f:g}", theme.color("muted"), 7)


class SensorCard(QWidget):
    """A sensor of the ledger, to be dragged onto an input; Enter offers it to the next free one."""

    offered = pyqtSignal(str)

    def __init__(self, serial: str, kind: str, value: str, due: tuple[str, str]) -> None:
        super().__init__()
        self.serial, self.kind, self.value, self.due = serial, kind, value, due
        self.pressed: QPoint | None = None
        self.setFixedHeight(48)
        self.setCursor(Qt.CursorShape.OpenHandCursor)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(f"{serial}, {kind}")
        self.setToolTip("Drag it onto an input; a double click plugs it into the next free one")

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        self.pressed = event.position().toPoint() if event is not None else None

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None or self.pressed is None:
            return
        if (event.position().toPoint() - self.pressed).manhattanLength() < QApplication.startDragDistance():
            return
        self.pressed = None
        carried = QMimeData()
        carried.setData(SENSOR, self.serial.encode())
        drag = QDrag(self)
        drag.setMimeData(carried)
        drag.exec(Qt.DropAction.CopyAction)

    def mouseDoubleClickEvent(self, _event: Any) -> None:
        self.offered.emit(self.serial)

    def keyPressEvent(self, event: Any) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.offered.emit(self.serial)
        else:
            super().keyPressEvent(event)

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.color("brass" if self.hasFocus() else "line"), 1))
        painter.setBrush(theme.color("ground", 110))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 1.5, -0.5, -1.5), 4, 4)
        small_text(painter, 10, 20, self.serial, theme.color("ink"), 9.5, 600)
        small_text(painter, self.width() - 8, 20, self.kind, theme.color("muted"), 8, 400, True)
        small_text(painter, 10, 37, self.value, theme.color("muted"), 8)
        small_text(painter, self.width() - 8, 37, self.due[0], theme.color(self.due[1]), 8, 400, True)


def facts_from(prepared: Any, made: Callable[[Any], str]) -> list[InputFacts]:
    """The inputs of a prepared rig; `made` says what hangs on one."""
    units = {i.role: (i.unit, 1 / i.scale) for i in prepared.facts.inputs}
    return [InputFacts(c.role, c.input, made(c), *units[c.role], c.range) for c in prepared.rig.channels]
