"""What is done to a record before it is played: cut, scale, filters, taper, typed beside its picture; and which records
are played one after the other."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QGridLayout, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from ....contracts.explained import value_at
from ....core.errors import BadInput
from ....desktop.parts.widgets import button, label, scrolled, section
from ....lab.editing import NOTHING, shown, typed

FIELDS = (
    ("file", "File", "beside the plan"), ("channel", "Channel", "the only one"), ("unit", "Unit", "as the file says"),
    ("cut.start", "Cut from", "0 s"), ("cut.stop", "to", "its end"), ("scale", "Scale", "1"),
    ("resample", "Resample at", "as recorded"), ("high_pass", "High-pass", "as low as fits"),
    ("low_pass", "Low-pass", "none"), ("taper", "Taper", "0 s"), ("stroke", "Fit into a stroke of", "the shaker's"),
    ("times", "Played times", "once"), ("after", "At rest before", "1 s"),
)  # fmt: skip
"""Part of a record, its name, and what holds where nothing is typed"""


def records_of(data: Mapping[str, Any]) -> list[dict[str, Any]]:
    """The records of a time profile, in order."""
    return [dict(data), *(dict(p) for p in data.get("then") or ())]


def with_part(data: Mapping[str, Any], key: str, text: str, number: int = 0) -> dict[str, Any]:
    """A time profile with one part of its record `number` as typed; nothing takes it away. Raises BadInput for what is
    no value."""
    parts = [{k: dict(v) if isinstance(v, dict) else v for k, v in p.items()} for p in records_of(data)]
    made = parts[number]
    value = typed(text)
    first, _, rest = key.partition(".")
    at = made.setdefault(first, {}) if rest else made
    if not isinstance(at, dict):
        raise BadInput(f"{first}: it is no table of values: mend the plan's text.")
    if value is NOTHING:
        at.pop(rest or first, None)
        if rest and not at:
            del made[first]
    else:
        at[rest or first] = value
    return _whole(parts)


def with_record(data: Mapping[str, Any], part: Mapping[str, Any]) -> dict[str, Any]:
    """A time profile that plays another record at its end."""
    return _whole([*records_of(data), dict(part)])


def without_record(data: Mapping[str, Any], number: int) -> dict[str, Any]:
    """A time profile without one of its records. Raises BadInput for the only one."""
    parts = records_of(data)
    if len(parts) < 2:
        raise BadInput("It is the only record: add another one first.")
    whole = {k: v for k, v in parts[0].items() if k in OF_ALL}
    parts.pop(number)
    if number == 0:
        parts[0] = {**whole, **parts[0]}
    return _whole(parts)


OF_ALL = ("lucid-anvil-profile", "kind", "title", "moving_mass")
"""What a time profile says once, whatever it plays"""


def _whole(parts: list[dict[str, Any]]) -> dict[str, Any]:
    first = {k: v for k, v in parts[0].items() if k != "then"}
    return {**first, "then": parts[1:]} if len(parts) > 1 else first


class RecordFields(QWidget):
    """The fields of the record that is chosen."""

    edited = pyqtSignal(int, str, str)
    """its number, the part and what was typed"""
    more = pyqtSignal()
    """another record is wanted"""
    less = pyqtSignal(int)
    """this one is to go"""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedWidth(300)
        self.held: dict[str, str] = {}
        self.number = 0
        self.parts: list[dict[str, Any]] = []
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 0, 0, 0)
        column.addWidget(section("Records"))
        self.which = QComboBox()
        self.which.setAccessibleName("record")
        self.which.activated.connect(self.choose)
        column.addWidget(self.which)
        row = QHBoxLayout()
        self.add, self.drop = button("Add a record…", "chip"), button("Remove", "chip")
        self.add.clicked.connect(self.more)
        self.drop.clicked.connect(lambda: self.less.emit(self.number))
        row.addWidget(self.add)
        row.addWidget(self.drop)
        row.addStretch()
        column.addLayout(row)
        column.addWidget(section("What is done to it"))
        inner = QWidget()
        grid = QGridLayout(inner)
        grid.setContentsMargins(0, 0, 6, 0)
        grid.setVerticalSpacing(5)
        column.addWidget(scrolled(inner), 1)
        self.boxes: dict[str, QLineEdit] = {}
        for i, (key, name, hint) in enumerate(FIELDS):
            grid.addWidget(label(name, "muted"), i, 0)
            box = QLineEdit()
            box.setPlaceholderText(hint)
            box.setAccessibleName(name)
            box.editingFinished.connect(lambda k=key: self._typed(k))
            box.setMinimumHeight(28)
            self.boxes[key] = box
            grid.addWidget(box, i, 1)
        grid.addWidget(label("Drift taken out", "muted"), len(FIELDS), 0)
        self.compensate = QComboBox()
        self.compensate.addItems(["on", "off"])
        self.compensate.activated.connect(
            lambda _i: self.edited.emit(self.number, "compensate", self.compensate.currentText())
        )
        grid.addWidget(self.compensate, len(FIELDS), 1)
        grid.setRowStretch(len(FIELDS) + 1, 1)

    def show_profile(self, data: Mapping[str, Any]) -> None:
        """A time profile as the plan's own file has it."""
        self.parts = records_of(data)
        self.number = min(self.number, len(self.parts) - 1)
        self.which.clear()
        self.which.addItems([f"{i + 1} · {p.get('file', '')}" for i, p in enumerate(self.parts)])
        self.drop.setEnabled(len(self.parts) > 1)
        self.choose(self.number)

    def choose(self, number: int) -> None:
        """The fields of one record."""
        self.number, data = number, self.parts[number]
        self.which.setCurrentIndex(number)
        for key, box in self.boxes.items():
            self.held[key] = shown(value_at(data, key.split(".")))
            box.setText(self.held[key])
            box.setCursorPosition(0)
        self.compensate.setCurrentText("off" if data.get("compensate") in (False, "off") else "on")

    def _typed(self, key: str) -> None:
        text = self.boxes[key].text().strip()
        if text != self.held.get(key, ""):
            self.held[key] = text
            self.edited.emit(self.number, key, text)
