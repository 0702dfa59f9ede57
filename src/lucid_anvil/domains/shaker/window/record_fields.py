"""What is done to a record before it is played: cut, scale, filters, taper, typed beside its picture."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QGridLayout, QLineEdit, QVBoxLayout, QWidget

from ....contracts.explained import value_at
from ....core.errors import BadInput
from ....desktop.parts.widgets import label, section
from ....lab.editing import NOTHING, shown, typed

FIELDS = (
    ("file", "File", "beside the plan"), ("channel", "Channel", "the only one"), ("unit", "Unit", "as the file says"),
    ("cut.start", "Cut from", "0 s"), ("cut.stop", "to", "its end"), ("scale", "Scale", "1"),
    ("resample", "Resample at", "as recorded"), ("high_pass", "High-pass", "as low as fits"),
    ("low_pass", "Low-pass", "none"), ("taper", "Taper", "0 s"), ("stroke", "Fit into a stroke of", "the shaker's"),
)  # fmt: skip
"""Part of a time profile, its name, and what holds where nothing is typed"""


def with_part(data: Mapping[str, Any], key: str, text: str) -> dict[str, Any]:
    """A time profile with one part as typed; nothing takes it away. Raises BadInput for what is no value."""
    made = {k: dict(v) if isinstance(v, dict) else v for k, v in data.items()}
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
    return made


class RecordFields(QWidget):
    """The fields. `edited` gives the part and what was typed."""

    edited = pyqtSignal(str, str)

    def __init__(self) -> None:
        super().__init__()
        self.setFixedWidth(300)
        self.held: dict[str, str] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 0, 0, 0)
        column.addWidget(section("What is done to it"))
        grid = QGridLayout()
        grid.setVerticalSpacing(5)
        column.addLayout(grid)
        self.boxes: dict[str, QLineEdit] = {}
        for i, (key, name, hint) in enumerate(FIELDS):
            grid.addWidget(label(name, "muted"), i, 0)
            box = QLineEdit()
            box.setPlaceholderText(hint)
            box.setAccessibleName(name)
            box.editingFinished.connect(lambda k=key: self._typed(k))
            self.boxes[key] = box
            grid.addWidget(box, i, 1)
        grid.addWidget(label("Drift taken out", "muted"), len(FIELDS), 0)
        self.compensate = QComboBox()
        self.compensate.addItems(["on", "off"])
        self.compensate.activated.connect(lambda _i: self.edited.emit("compensate", self.compensate.currentText()))
        grid.addWidget(self.compensate, len(FIELDS), 1)
        column.addStretch()

    def show_profile(self, data: Mapping[str, Any]) -> None:
        """A time profile as the plan's own file has it."""
        for key, box in self.boxes.items():
            self.held[key] = shown(value_at(data, key.split(".")))
            box.setText(self.held[key])
            box.setCursorPosition(0)
        self.compensate.setCurrentText("off" if data.get("compensate") in (False, "off") else "on")

    def _typed(self, key: str) -> None:
        text = self.boxes[key].text().strip()
        if text != self.held.get(key, ""):
            self.held[key] = text
            self.edited.emit(key, text)
