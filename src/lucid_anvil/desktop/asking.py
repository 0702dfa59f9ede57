"""A line to be typed, in our own look: what is asked, a field, and two keys."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from .widgets import button, card, label


class LineDialog(QDialog):
    """Asks for one line."""

    def __init__(self, parent: QWidget, question: str, yes: str, held: str = "") -> None:
        super().__init__(parent, Qt.WindowType.FramelessWindowHint | Qt.WindowType.Dialog)
        self.setWindowTitle(question)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        frame, column = card((18, 16, 18, 14), 10)
        outer.addWidget(frame)
        column.addWidget(label(question, "title"))
        self.line = QLineEdit(held)
        self.line.setMinimumWidth(380)
        column.addWidget(self.line)
        row = QHBoxLayout()
        row.addStretch()
        self.no, self.yes = button("Leave it  Esc"), button(f"{yes}  Enter", "main")
        self.no.clicked.connect(self.reject)
        self.yes.clicked.connect(self._take)
        self.line.returnPressed.connect(self._take)
        self.yes.setAutoDefault(False)
        self.no.setAutoDefault(False)
        row.addWidget(self.no)
        row.addWidget(self.yes)
        column.addLayout(row)
        self.line.setFocus()

    def _take(self) -> None:
        if self.line.text().strip():
            self.accept()
        else:
            self.line.setFocus()


def ask_line(parent: QWidget, question: str, yes: str, held: str = "") -> str | None:
    """What was typed; None when it was left."""
    made = LineDialog(parent, question, yes, held)
    return made.line.text().strip() if made.exec() else None
