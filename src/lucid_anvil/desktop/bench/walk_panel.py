"""The walk-round: checks in their order, sensed or signed; Begin stays shut until all are done."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PyQt6.QtCore import QPoint, QRectF, QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QImage, QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from ...protocol.messages import CheckState
from ..parts import theme
from ..parts.photo import Large, picture
from ..parts.spots import Spot
from ..parts.widgets import button, clear, label, scrolled, section, small_text

SMALL = QSize(38, 28)
"""px of a photo in its row"""
ROW, LOW, FEW = 46, 38, 8
"""px of a row, of one where there are many, and how many are few"""


class CheckRow(QWidget):
    """One check: a mark, what it is, what was seen or why it is not done; beside it how it looks when it is right."""

    clicked = pyqtSignal(str)
    looked = pyqtSignal(str)
    """at its photo"""
    asked = pyqtSignal(str, QPoint)
    """what else can be done with it, and where"""

    def __init__(self, state: CheckState, number: int, photo: Path | None = None) -> None:
        super().__init__()
        self.state, self.number = state, number
        self.shown = QImage() if photo is None else picture(photo, SMALL * 2)
        self.can_sign = state.kind == "signed" and not state.done
        if self.can_sign:
            self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setToolTip(f"{state.text}: {state.why}")
        self.setAccessibleName(f"{state.text}: {'done' if state.done else 'not done'}, {state.why}")

    @property
    def frame(self) -> QRectF:
        """Where the photo is."""
        return QRectF(self.width() - SMALL.width() - 2, 5, SMALL.width(), SMALL.height())

    def spots(self) -> list[Spot]:
        key = self.state.key
        does = (lambda: self.clicked.emit(key)) if self.can_sign else None
        return [Spot(QRectF(self.rect()), does, partial(self.asked.emit, key))]

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and event.button() == Qt.MouseButton.RightButton:
            self.asked.emit(self.state.key, event.globalPosition().toPoint())
        elif event is not None and not self.shown.isNull() and self.frame.contains(event.position()):
            self.looked.emit(self.state.key)
        elif self.can_sign:
            self.clicked.emit(self.state.key)

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        s = self.state
        mark = QRectF(1, 6, 18, 18)
        role = "teal" if s.done else "brass" if s.kind == "signed" else "clay"
        painter.setPen(QPen(theme.color(role), 1.6))
        painter.setBrush(theme.color(role) if s.done else Qt.BrushStyle.NoBrush)
        if s.kind == "signed":
            painter.drawRoundedRect(mark, 3, 3)
        else:
            painter.drawEllipse(mark)
        if s.done:
            painter.setPen(QPen(theme.color("card"), 2, cap=Qt.PenCapStyle.RoundCap))
            painter.drawLine(5, 15, 9, 19)
            painter.drawLine(9, 19, 15, 11)
        else:
            small_text(painter, 7 if self.number < 10 else 4, 19, str(self.number), theme.color(role), 8.5, 600)
        width = self.width() - 28
        if not self.shown.isNull():
            width -= SMALL.width() + 6
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            box = self.frame
            by = max(box.width() / self.shown.width(), box.height() / self.shown.height())
            cut = QRectF(0, 0, box.width() / by, box.height() / by)
            cut.moveCenter(QRectF(self.shown.rect()).center())
            painter.drawImage(box, self.shown, cut)
        painter.setFont(theme.font(9.5, 500))
        text = painter.fontMetrics().elidedText(s.text, Qt.TextElideMode.ElideRight, width)
        small_text(painter, 28, 18, text, theme.color("ink"), 9.5, 500)
        painter.setFont(theme.font(8.5))
        why = painter.fontMetrics().elidedText(s.why, Qt.TextElideMode.ElideRight, width)
        small_text(painter, 28, 34, why, theme.color("muted" if s.done else role), 8.5)


class WalkRoundPanel(QWidget):
    """The checks in their order; Begin stays shut until all are done."""

    sign = pyqtSignal(str, str)
    begin = pyqtSignal()
    edit = pyqtSignal()
    asked = pyqtSignal(str, QPoint)
    """what else can be done with a check"""

    def __init__(self, initials: str) -> None:
        super().__init__()
        self.layout_ = QVBoxLayout(self)
        self.layout_.setContentsMargins(0, 0, 0, 0)
        self.layout_.setSpacing(4)
        head = QHBoxLayout()
        head.addWidget(section("Walk-round"))
        head.addStretch()
        self.count = label("", "muted")
        head.addWidget(self.count)
        self.layout_.addLayout(head)
        who = QHBoxLayout()
        who.addWidget(label("Signed by", "muted"))
        self.initials = QLineEdit(initials)
        self.initials.setMaximumWidth(70)
        self.initials.setToolTip("Your initials; they stand beside what you sign")
        who.addWidget(self.initials)
        who.addStretch()
        change = button("Edit…", "chip", "Add, reword, reorder its lines")
        change.clicked.connect(self.edit)
        who.addWidget(change)
        self.layout_.addLayout(who)
        self.rows = QVBoxLayout()
        self.rows.setSpacing(0)
        inner = QWidget()
        inner.setLayout(self.rows)
        self.rows.setContentsMargins(0, 0, 0, 0)
        self.area = scrolled(inner)
        self.layout_.addWidget(self.area, 1)
        self.why = label("", "muted", wrap=True)
        self.layout_.addWidget(self.why)
        self.go = button("Begin", "main")
        self.go.setMinimumHeight(42)
        self.go.clicked.connect(self.begin)
        self.layout_.addWidget(self.go)
        self.shown: list[CheckState] = []
        self.photos: dict[str, Path] = {}
        """By check"""
        self.go.setEnabled(False)

    def show_photos(self, photos: dict[str, Path]) -> None:
        """How each check looks when it is right, where there is a photo of it."""
        if photos != self.photos:
            self.photos, self.shown = photos, []

    def show_checks(self, checks: list[CheckState], state: str, wanted: int = 1, unread: str = "") -> None:
        """Redraw only what changed, so that a click is never lost. `wanted`: how many checks the plan has; `unread`:
        why the run would not go by the plan as it now stands."""
        if checks != self.shown:
            clear(self.rows)
            for i, check in enumerate(checks, start=1):
                row = CheckRow(check, i, self.photos.get(check.key))
                row.clicked.connect(self._sign)
                row.looked.connect(lambda key: Large(self, [self.photos[key]]).open())
                row.asked.connect(self.asked)
                row.setFixedHeight(ROW if len(checks) <= FEW else LOW)
                self.rows.addWidget(row)
            self.rows.addStretch()
            self.shown = checks
            QTimer.singleShot(0, self._to_next)
        missing = [c for c in checks if not c.done]
        self.count.setText(f"{len(checks) - len(missing)} of {len(checks)}")
        ready = len(checks) >= wanted and not missing and state == "walk-round" and not unread
        self.go.setEnabled(ready)
        if state in ("starting", "") or len(checks) < wanted:
            self.why.setText("Waiting for the devices.")
        elif state == "preparing":
            self.why.setText("Preparing the take.")
        elif unread:
            self.why.setText(unread)
        elif missing:
            self.why.setText(f"Begin opens when all are done. Next: {missing[0].text[0].lower()}{missing[0].text[1:]}.")
        else:
            all_done = "All done." if checks else "This plan has no walk-round: look over the hook-up yourself."
            self.why.setText(f"{all_done} The drive comes up slowly; F12 brings it down.")

    def _to_next(self) -> None:
        """The first check that is not done is seen, with the one behind it."""
        rows = [w for i in range(self.rows.count()) if isinstance(w := self.rows.itemAt(i).widget(), CheckRow)]
        at = next((i for i, r in enumerate(rows) if not r.state.done), 0)
        if rows:
            self.area.ensureWidgetVisible(rows[min(at + 1, len(rows) - 1)], 0, 0)
            self.area.ensureWidgetVisible(rows[at], 0, 0)

    def _sign(self, key: str) -> None:
        by = self.initials.text().strip()
        if not by:
            self.initials.setFocus()
            self.why.setText("Write your initials first.")
            return
        self.sign.emit(key, by)
