"""Questions in our own look: a line to be typed, or one of two ways to be chosen."""

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


class ChoiceDialog(Over):
    """Asks which of two ways to go; Esc leaves all as it is."""

    def __init__(self, parent: QWidget, question: str, text: str, first: str, second: str) -> None:
        super().__init__(parent, (18, 16, 18, 14), 10)
        self.setWindowTitle(question)
        self.frame.setMinimumWidth(520)
        self.column.addWidget(label(question, "title"))
        self.column.addWidget(label(text, "muted", wrap=True))
        row = QHBoxLayout()
        self.no, self.first, self.second = button("Leave it  Esc"), button(first), button(second, "main")
        for one in (self.no, self.first, self.second):
            one.setAutoDefault(False)
        self.no.clicked.connect(self.reject)
        row.addWidget(self.no)
        row.addStretch()
        row.addWidget(self.first)
        row.addWidget(self.second)
        self.column.addLayout(row)


def ask_which(
    parent: QWidget, question: str, text: str, first: tuple[str, Callable[[], object]],
    second: tuple[str, Callable[[], object]], neither: Callable[[], object],
) -> ChoiceDialog:  # fmt: skip
    """Ask; one of the three is called. Each way: its words and what it does."""
    made = ChoiceDialog(parent, question, text, first[0], second[0])
    for key, (_, go) in ((made.first, first), (made.second, second)):
        key.clicked.connect(made.accept)
        key.clicked.connect(lambda _=False, go=go: go())
    made.rejected.connect(neither)
    made.open()
    return made
