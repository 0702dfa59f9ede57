"""The Lookout in the window: on or off, the sign that a telephone reads, the word for orders."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent
from PyQt6.QtWidgets import QApplication, QHBoxLayout, QVBoxLayout, QWidget

from ...core.errors import BadInput
from ...lookout.certificate import fingerprint
from ...lookout.keys import keys
from ...lookout.serve import Standing, standing, start, stop
from ..parts.background import Background
from ..parts.forms import Over
from ..parts.widgets import button, label


class Sign(QWidget):
    """A link as a sign that a telephone's camera reads (ISO/IEC 18004)."""

    def __init__(self) -> None:
        super().__init__()
        self.rows: list[bytes] = []
        self.setFixedSize(210, 210)
        self.setAccessibleName("sign of the link to look")

    def show_link(self, link: str) -> None:
        """Empty: no sign."""
        import segno

        self.rows = [bytes(r) for r in segno.make(link, error="m", micro=False).matrix] if link else []
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        if not self.rows:
            return
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor("white"))  # dark on light by day and by night: cameras want it
        size = len(self.rows) + 8
        step = min(self.width(), self.height()) // size
        edge = (self.width() - step * len(self.rows)) / 2
        for y, row in enumerate(self.rows):
            for x, dark in enumerate(row):
                if dark:
                    painter.fillRect(QRectF(edge + x * step, edge + y * step, step, step), QColor("black"))


class LookoutSheet(Over):
    """What is on, and how it is opened."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent, (22, 18, 22, 16), 10)
        self.frame.setMinimumWidth(640)
        self.aside = Background(self)
        self.aside.failed.connect(self._failed)
        self.column.addWidget(label("Lookout", "title"))
        self.column.addWidget(label(
            "A page for a telephone or a browser elsewhere in the house: state, curves, guards and time to the end of"
            " every run on this machine. Who looks from there does not count as somebody at the bench. Stopping from"
            " there is no emergency stop.", "muted", wrap=True,
        ))  # fmt: skip
        row = QHBoxLayout()
        row.setSpacing(18)
        self.sign = Sign()
        row.addWidget(self.sign)
        words = QVBoxLayout()
        words.setSpacing(8)
        self.state = label("", "title")
        self.places, self.act, self.print_ = (label("", "small", wrap=True) for _ in range(3))
        for part in (self.places, self.act, self.print_):
            part.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        for part in (self.state, self.places, self.act, self.print_):
            words.addWidget(part)
        words.addStretch()
        row.addLayout(words, 1)
        self.column.addLayout(row)
        self.wrong = label("", "cut", wrap=True)
        self.wrong.hide()
        self.column.addWidget(self.wrong)
        foot = QHBoxLayout()
        self.copy = button("Copy the link")
        self.anew = button("New words", tip="What was handed out no longer opens anything")
        self.close_, self.turn = button("Close  Esc"), button("Turn it on", "main")
        for one in (self.copy, self.anew, self.close_, self.turn):
            one.setAutoDefault(False)
        self.copy.clicked.connect(self._copy)
        self.anew.clicked.connect(self._anew)
        self.close_.clicked.connect(self.reject)
        self.turn.clicked.connect(self._turn)
        foot.addWidget(self.copy)
        foot.addWidget(self.anew)
        foot.addStretch()
        foot.addWidget(self.close_)
        foot.addWidget(self.turn)
        self.column.addLayout(foot)
        self._told(standing())

    def _told(self, found: Standing | None) -> None:
        self.now = found
        on = found is not None
        self.turn.setEnabled(True)
        self.turn.setText("Turn it off" if on else "Turn it on")
        self.state.setText("On" if on else "Off")
        for part in (self.sign, self.copy, self.anew, self.places, self.act, self.print_):
            part.setVisible(on)
        if found is not None:
            self.sign.show_link(found.link())
            self.places.setText("\n".join(found.places()))
            self.act.setText(f"The word for orders, typed there each time: {keys().act}")
            try:
                shown = fingerprint(Path(found.certificate))
            except BadInput as problem:
                shown = str(problem)
            self.print_.setText(f"Its certificate, SHA-256, to be held against the browser's: {shown[:47]}…")
            self.print_.setToolTip(shown)
        self.frame.layout().activate()
        self.adjustSize()

    def _turn(self) -> None:
        self.turn.setEnabled(False)
        self.wrong.hide()
        if self.now is None:
            self.aside.run("turn", start, self._told)
        else:
            self.aside.run("turn", stop, lambda _off: self._told(None))

    def _anew(self) -> None:
        keys(anew=True)
        self._told(standing())

    def _copy(self) -> None:
        board = QApplication.clipboard()
        if self.now is not None and board is not None:
            board.setText(self.now.link())

    def _failed(self, why: str) -> None:
        self.wrong.setText(why)
        self.wrong.show()
        self._told(standing())
