"""Sheets of fields in our own look: what is asked, one field below another, and what is wrong said at the foot."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent, QKeySequence
from PyQt6.QtWidgets import (
    QComboBox,
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPlainTextEdit,
    QVBoxLayout,
    QWidget,
)

from ...core.errors import BadInput
from .copying import copy_here
from .widgets import button, card, label


@dataclass(frozen=True)
class Field:
    """One thing to be typed or chosen."""

    key: str
    name: str
    held: str = ""
    hint: str = ""
    """What it may look like, in the empty field"""
    choices: Sequence[str] = ()
    long: bool = False
    """Several lines, such as a pasted table"""


class Fields(QWidget):
    """Fields with their names at the left, in two columns where there is room for both."""

    def __init__(self, fields: Sequence[Field]) -> None:
        super().__init__()
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(12)
        grid.setVerticalSpacing(7)
        self.boxes: dict[str, QLineEdit | QComboBox | QPlainTextEdit] = {}
        self.names: dict[str, QWidget] = {}
        for row, field in enumerate(fields):
            name = label(field.name, "small")
            name.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop)
            name.setContentsMargins(0, 7, 0, 0)
            grid.addWidget(name, row, 0)
            self.names[field.key] = name
            box = self._box(field)
            box.setAccessibleName(field.name)
            self.boxes[field.key] = box
            grid.addWidget(box, row, 1)
        grid.setColumnStretch(1, 1)

    @staticmethod
    def _box(field: Field) -> QLineEdit | QComboBox | QPlainTextEdit:
        if field.choices:
            chosen = QComboBox()
            chosen.addItems(list(field.choices))
            chosen.setCurrentText(field.held or field.choices[0])
            return chosen
        if field.long:
            text = QPlainTextEdit(field.held)
            text.setPlaceholderText(field.hint)
            text.setFixedHeight(110)
            text.setTabChangesFocus(True)
            return text
        line = QLineEdit(field.held)
        line.setPlaceholderText(field.hint)
        return line

    def reveal(self, key: str, on: bool) -> None:
        """Show a field, or not."""
        self.names[key].setVisible(on)
        self.boxes[key].setVisible(on)

    def values(self) -> dict[str, str]:
        """What stands in each field."""
        made = {}
        for key, box in self.boxes.items():
            if isinstance(box, QComboBox):
                made[key] = box.currentText()
            elif isinstance(box, QPlainTextEdit):
                made[key] = box.toPlainText()
            else:
                made[key] = box.text()
        return made


class Over(QDialog):
    """A dialog in our own look, over the window. Stop (F12) is reached through it, and it never waits inside a call."""

    def __init__(self, parent: QWidget, margins: tuple[int, int, int, int], spacing: int) -> None:
        super().__init__(parent, Qt.WindowType.FramelessWindowHint | Qt.WindowType.Dialog)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        self.frame, self.column = card(margins, spacing)
        outer.addWidget(self.frame)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """F12 leaves the dialog and stops the bench: a window's own keys do not come through a dialog."""
        if event is not None and event.key() == Qt.Key.Key_F12:
            above = self.parentWidget()
            self.reject()
            if above is not None and hasattr(above.window(), "bench_stop"):
                above.window().bench_stop()  # type: ignore[union-attr]
        elif event is not None and event.matches(QKeySequence.StandardKey.Copy):
            copy_here()
        else:
            super().keyPressEvent(event)

    def then(self, take: Callable[[], object]) -> None:
        """Show it; `take` is called when it was said yes to. The window stays awake meanwhile."""
        self.accepted.connect(take)
        self.open()


class Sheet(Over):
    """Fields and what becomes of them. `take` gets the values, and may refuse them with BadInput: nothing is lost."""

    def __init__(
        self, parent: QWidget, title: str, text: str, fields: Sequence[Field], yes: str,
        take: Callable[[Mapping[str, str]], None], more: Sequence[QWidget] = (),
    ) -> None:  # fmt: skip
        super().__init__(parent, (22, 18, 22, 16), 8)
        self.take = take
        self.frame.setMinimumWidth(560)
        column = self.column
        column.addWidget(label(title, "title"))
        if text:
            column.addWidget(label(text, "muted", wrap=True))
        column.addSpacing(4)
        self.fields = Fields(fields)
        column.addWidget(self.fields)
        for widget in more:
            column.addWidget(widget)
        self.wrong = label("", "cut", wrap=True)
        self.wrong.hide()
        column.addWidget(self.wrong)
        row = QHBoxLayout()
        row.addStretch()
        self.no, self.yes = button("Leave it  Esc"), button(yes, "main")
        self.yes.setDefault(True)
        self.no.setAutoDefault(False)
        self.no.clicked.connect(self.reject)
        self.yes.clicked.connect(self.done_with)
        row.addWidget(self.no)
        row.addWidget(self.yes)
        column.addLayout(row)

    def done_with(self) -> None:
        """Take what was typed, or say what is wrong with it."""
        try:
            self.take(self.fields.values())
        except BadInput as problem:
            self.wrong.setText(str(problem))
            self.wrong.show()
            return
        self.accept()
