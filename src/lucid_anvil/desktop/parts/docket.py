"""The Docket: the job, its articles and plans, and the takes of the plan in hand."""

from __future__ import annotations

import math
from functools import partial
from pathlib import Path
from typing import Any

from PyQt6 import sip
from PyQt6.QtCore import QPointF, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QContextMenuEvent, QMouseEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from ...contracts.finding import Finding
from ...lab.docketing import article_of, plan_name
from ...lab.place import Lab
from ...lab.takes import Take, plans_and_takes
from . import theme
from .spots import Spot
from .widgets import button, card, clear, draw_verdict, label, scrolled, section, small_text

IN = 34
"""px by which takes stand in, below their plan"""
LOOKED = 3
"""Newest takes of a plan of which one with a finding gives its verdict"""


def take_facts(take: Take) -> dict[str, Any]:
    """What a row shows of a take; read without opening its raw streams."""
    events = take.events()
    status = take.status()
    finding = take.finding()
    values = small_curve(finding) if finding else []
    said = take.remark() or {}
    return {
        "said": said.get("name", ""),
        "remark": said.get("text", ""),
        "name": take.name.replace("take-", "take ").replace(" 00", " ").replace(" 0", " "),
        "status": status,
        "reason": take.reason() if status != "done" else take.doubt(),
        "doubtful": take.doubt() is not None,
        "verdict": finding.verdict if finding else None,
        "curve": values,
        "accepted": any(e["kind"] == "accepted" for e in events),
        "folder": take.folder,
    }


def small_curve(finding: Finding) -> list[float]:
    """The deviation of a finding in at most sixty points: from its reference, or of the control from its target."""
    by = {c.key: c for c in finding.curves}
    if "deviation" in by:
        values = [y for y in by["deviation"].y if y is not None]
    elif "control" in by and "target" in by and by["control"].x_unit == "Hz":
        values = [
            20 * math.log10(y / t) for y, t in zip(by["control"].y, by["target"].y, strict=True) if y and t and y > 0
        ]
    elif "control" in by:
        values = [y for y in by["control"].y if y is not None]
    else:
        values = []
    return values[:: max(1, len(values) // 60)]


class TakeRow(QWidget):
    """One take: name, what became of it, and its curve in small."""

    clicked = pyqtSignal(object)
    asked = pyqtSignal(object, object)

    def __init__(self, facts: dict[str, Any], chosen: bool) -> None:
        super().__init__()
        self.facts, self.chosen = facts, chosen
        self.setFixedHeight(42)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setToolTip(" · ".join(t for t in (facts["remark"], facts["reason"]) if t))

    def spots(self) -> list[Spot]:
        take = self.facts["folder"]
        return [Spot(QRectF(self.rect()), partial(self.clicked.emit, take), partial(self.asked.emit, take))]

    def mousePressEvent(self, _event: QMouseEvent | None) -> None:
        if _event is None or _event.button() == Qt.MouseButton.LeftButton:
            self.clicked.emit(self.facts["folder"])

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        if event is not None:
            self.asked.emit(self.facts["folder"], event.globalPos())

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        f = self.facts
        if self.chosen:
            painter.fillRect(self.rect(), theme.color("selected"))
            painter.fillRect(QRectF(0, 0, 3, self.height()), theme.color("brass"))
        painter.setFont(theme.font(9.5))
        name = f["name"] + (f" · {f['said']}" if f["said"] else "")
        name = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, self.width() - 34 - IN)
        small_text(painter, IN, 17, name, theme.color("ink"), 9.5, 600 if self.chosen else 400)
        words = {"done": theme.VERDICT_WORDS.get(f["verdict"] or "", "kept"), "cut": "cut", "running": "running"}
        text = words.get(f["status"], f["status"]) + (" · accepted" if f["accepted"] else "")
        text += " · doubtful" if f["doubtful"] else ""
        small_text(painter, IN, 33, text, theme.color("muted"), 8.5)
        known = {"running": "running", "cut": "outside"}.get(f["status"])
        verdict = known or ("open" if f["doubtful"] else f["verdict"] or "none")
        box = QRectF(self.width() - 24, 8, 16, 9)
        draw_verdict(painter, verdict, box)
        values = f["curve"]
        if len(values) > 2:
            area = QRectF(self.width() - 66, 22, 58, 15)
            reach = max(max(map(abs, values)), 0.5)
            points = [
                QPointF(
                    area.left() + area.width() * i / (len(values) - 1),
                    area.bottom() - 3 - v / reach * area.height() * 0.7,
                )
                for i, v in enumerate(values)
            ]
            painter.setPen(QPen(theme.color("clay" if f["status"] == "cut" else "teal"), 1.5))
            painter.drawPolyline(QPolygonF(points))


class PlanRow(QWidget):
    """One plan under its article."""

    clicked = pyqtSignal(object)
    asked = pyqtSignal(object, object)
    """the plan, and the point of the screen"""

    def __init__(self, place: Path, text: str, verdict: str, chosen: bool) -> None:
        super().__init__()
        self.place, self.text, self.verdict, self.chosen = place, text, verdict, chosen
        self.setFixedHeight(26)
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def spots(self) -> list[Spot]:
        return [Spot(QRectF(self.rect()), partial(self.clicked.emit, self.place), partial(self.asked.emit, self.place))]

    def mousePressEvent(self, _event: QMouseEvent | None) -> None:
        if _event is None or _event.button() == Qt.MouseButton.LeftButton:
            self.clicked.emit(self.place)

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        if event is not None:
            self.asked.emit(self.place, event.globalPos())

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        if self.chosen:
            painter.fillRect(self.rect(), theme.color("selected"))
            painter.fillRect(QRectF(0, 0, 3, self.height()), theme.color("brass"))
        weight = 600 if self.chosen else 400
        painter.setFont(theme.font(9.5, weight))
        text = painter.fontMetrics().elidedText(self.text, Qt.TextElideMode.ElideRight, self.width() - 22 - 30)
        self.setToolTip(self.text if text != self.text else "")
        small_text(painter, 22, 18, text, theme.color("ink"), 9.5, weight)
        draw_verdict(painter, self.verdict, QRectF(self.width() - 24, 9, 16, 9))


class Docket(QWidget):
    """The column on the left."""

    plan_chosen = pyqtSignal(object)
    take_chosen = pyqtSignal(object)
    plan_asked = pyqtSignal(object, object)
    """a plan, and the point of the screen where it was asked what can be done with it"""
    take_asked = pyqtSignal(object, object)

    def __init__(self, lab: Lab) -> None:
        super().__init__()
        self.lab = lab
        self.setFixedWidth(196)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        frame, column = card((0, 12, 0, 8), 4)
        outer.addWidget(frame)
        head = section("Docket")
        head.setContentsMargins(12, 0, 0, 0)
        column.addWidget(head)
        title = label(f"{lab.facts.job} {lab.facts.job_title}", "title", wrap=True)
        title.setContentsMargins(12, 0, 8, 4)
        title.setStyleSheet("font-size: 13px;")
        column.addWidget(title)
        self.new = button("New test", "chip", "Ctrl+T: what do you want to know, on which rig, of what")
        self.join = button("Join plans", "chip", "Plans that are there, one after the other as one plan")
        row = QHBoxLayout()
        row.setContentsMargins(12, 0, 10, 4)
        row.addWidget(self.new)
        row.addWidget(self.join)
        row.addStretch()
        column.addLayout(row)
        inner = QWidget()
        self.rows = QVBoxLayout(inner)
        self.rows.setContentsMargins(0, 0, 0, 0)
        self.rows.setSpacing(1)
        self.area = scrolled(inner)
        column.addWidget(self.area, 1)
        self.seen: QWidget | None = None
        self.later = QTimer(self)
        self.later.setSingleShot(True)
        self.later.timeout.connect(self._see)

    def show_plan(self, plan: Path | None, take: Path | None, running: bool) -> None:
        """Plans of the job, and the takes of the chosen one."""
        clear(self.rows)
        at: QWidget | None = None
        plans, by_folder = plans_and_takes(self.lab.jobs)
        if not plans:
            empty = label(
                "No plan yet: begin a new test, or calibrate a sensor from the Ledger.",
                "muted",
                wrap=True,
            )
            empty.setContentsMargins(12, 4, 10, 0)
            self.rows.addWidget(empty)
        before = None
        for folder in sorted({p.parent for p in plans}):
            name = article_of(folder, self.lab.jobs)
            if name != before:
                article = label(name, "muted")
                article.setContentsMargins(12, 6, 0, 0)
                self.rows.addWidget(article)
            before = name
            takes = by_folder.get(folder, [])
            for place in sorted(p for p in plans if p.parent == folder):
                chosen = plan is not None and place == plan
                verdict = "running" if chosen and running else _verdict_of(takes)
                row = PlanRow(place, plan_name(place), verdict, chosen)
                row.clicked.connect(self.plan_chosen)
                row.asked.connect(self.plan_asked)
                self.rows.addWidget(row)
                if chosen:
                    at = self._show_takes(takes, take, running) or row
        self.rows.addStretch()
        if at is not None:  # once all have their places
            self.seen = at
            self.later.start(0)

    def _show_takes(self, takes: list[Take], take: Path | None, running: bool) -> QWidget | None:
        """Takes of the chosen plan, newest first, right below it; the one that is open, else the newest."""
        found: QWidget | None = None
        for t in reversed(takes):
            facts = take_facts(t)
            if running and take is not None and t.folder == take:
                facts |= {"status": "running", "reason": None}
            row = TakeRow(facts, take is not None and t.folder == take)
            row.clicked.connect(self.take_chosen)
            row.asked.connect(self.take_asked)
            self.rows.addWidget(row)
            found = row if found is None or t.folder == take else found
        return found

    def _see(self) -> None:
        """What is chosen lies in sight."""
        if self.seen is not None and not sip.isdeleted(self.seen):
            self.area.ensureWidgetVisible(self.seen, 0, 60)


def _verdict_of(takes: list[Take]) -> str:
    for t in takes[: -LOOKED - 1 : -1]:
        if t.status() != "done":
            return "outside"
        finding = t.finding()
        if finding is not None:
            return finding.verdict
    return "none"
