"""A line to be typed, in our own look: what is asked, a field, and two keys."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QWidget

from .forms import Over
from .widgets import button, label


class LineDialog(Over):
    """Asks for one line."""

    def __init__(self, parent: QWidget, question: str, yes: str, held: str = "") -> None:
        super().__init__(parent, (18, 16, 18, 14), 10)
        self.setWindowTitle(question)
        column = self.column
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


def ask_line(parent: QWidget, question: str, yes: str, take: Callable[[str], object], held: str = "") -> LineDialog:
    """Ask; `take` gets what was typed, and is not called when it was left."""
    made = LineDialog(parent, question, yes, held)
    made.then(lambda: take(made.line.text().strip()))
    return made
