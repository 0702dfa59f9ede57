"""The Bench while nothing is planned: what one may begin with, and what was worked on last."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from ...lab.docketing import article_of, plan_name
from ...lab.place import Lab
from ...lab.takes import list_takes
from . import theme
from .docket import take_facts
from .widgets import card, clear, draw_verdict, label, section, small_text

MOST = 6
"""Plans that are shown"""
BEGIN = (
    ("New", "New test", "What do you want to know, on which rig, of what: the plan then stands here.", "Ctrl T"),
    ("Rig", "Hook up a rig", "Wake it without a test: look at every input, plug sensors, drive by hand.", "Ctrl R"),
    ("Ledger", "Calibrate a sensor", "Choose it in the Ledger and press Calibrate.", "Ctrl 1"),
    ("Lightbox", "Look at a record", "Of this bench or from elsewhere, in the Lightbox.", "Ctrl 3"),
)


class Row(QWidget):
    """One thing to begin with: a title, a sentence, and a key or a verdict at its right."""

    clicked = pyqtSignal()

    def __init__(self, title: str, text: str, key: str = "", verdict: str = "") -> None:
        super().__init__()
        self.title, self.text, self.key, self.verdict = title, text, key, verdict
        self.over = False
        self.setFixedHeight(54)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(title)

    def enterEvent(self, _event: object) -> None:
        self.over = True
        self.update()

    def leaveEvent(self, _event: object) -> None:
        self.over = False
        self.update()

    def mousePressEvent(self, _event: QMouseEvent | None) -> None:
        self.clicked.emit()

    def keyPressEvent(self, event: object) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):  # type: ignore[attr-defined]
            self.clicked.emit()

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(0.5, 2.5, -0.5, -2.5)
        marked = self.over or self.hasFocus()
        painter.setPen(QPen(theme.color("brass" if marked else "line"), 1))
        painter.setBrush(theme.color("sand", 90) if marked else Qt.BrushStyle.NoBrush)
        painter.drawRoundedRect(box, 4, 4)
        small_text(painter, 14, 24, self.title, theme.color("ink"), 11, 600)
        small_text(painter, 14, 41, self.text, theme.color("muted"), 9)
        if self.key:
            small_text(painter, self.width() - 14, 31, self.key, theme.color("muted"), 9, 500, True)
        if self.verdict:
            draw_verdict(painter, self.verdict, QRectF(self.width() - 34, 22, 20, 11))


class EmptyStage(QWidget):
    """What stands where the test will."""

    place = pyqtSignal(str)
    plan = pyqtSignal(object)

    def __init__(self, lab: Lab) -> None:
        super().__init__()
        self.lab = lab
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        frame, self.column = card((28, 24, 28, 18), 6)
        outer.addWidget(frame)

    def fill(self) -> None:
        """Anew, from the lab as it is now."""
        clear(self.column)
        self.column.addWidget(label("Nothing is planned", "title"))
        self.column.addWidget(label("The bench is asleep: no signal is given out and none is read.", "muted"))
        self.column.addSpacing(10)
        self.column.addWidget(section("Begin"))
        for place, title, text, key in BEGIN:
            row = Row(title, text, key)
            row.clicked.connect(lambda p=place: self.place.emit(p))
            self.column.addWidget(row)
        last = self._last()
        if last:
            self.column.addSpacing(10)
            self.column.addWidget(section("Go on with"))
        for file, title, text, verdict in last:
            row = Row(title, text, verdict=verdict)
            row.clicked.connect(lambda f=file: self.plan.emit(f))
            self.column.addWidget(row)
        self.column.addStretch()

    def _last(self) -> list[tuple[Path, str, str, str]]:
        """Plans, the one worked on last first."""
        made = []
        for file in self.lab.jobs.rglob("*.plan.yaml"):
            takes = list_takes(file.parent)
            when = max((t.folder.stat().st_mtime for t in takes), default=file.stat().st_mtime)
            made.append((when, file, takes))
        rows = []
        for _, file, takes in sorted(made, key=lambda m: m[0], reverse=True)[:MOST]:
            title = f"{article_of(file.parent, self.lab.jobs)} · {plan_name(file)}"
            if takes:
                facts = take_facts(takes[-1])
                words = {"done": theme.VERDICT_WORDS.get(facts["verdict"] or "", "kept")}
                text = f"{facts['name']}, {words.get(facts['status'], facts['status'])}"
                verdict = "outside" if facts["status"] == "cut" else facts["verdict"] or "none"
            else:
                text, verdict = "not run yet", "none"
            rows.append((file, title, text, verdict))
        return rows
