"""The steps of an amplifier's sheet: added, copied, reordered, taken away, and each one's own values typed."""

from __future__ import annotations

import copy
from collections.abc import Sequence
from typing import Any

from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QListWidget, QMenu, QPlainTextEdit, QVBoxLayout, QWidget

from ....contracts import registry
from ....core.errors import BadInput
from ....desktop.parts.forms import Field, Fields, Over
from ....desktop.parts.widgets import button, label
from ....lab.editing import NOTHING, shown, typed
from ....lab.patterns import slug

Step = dict[str, Any]
FIELDS = (
    Field("label", "Label"),
    Field("name", "Key", hint="readings are called so"),
    Field("drive", "Driven", hint="such as {power: 1 W}, {power: 0.5 rated}, {distortion: 1 %}"),
    Field("loads", "Loads", hint="such as [8 ohm, 4 ohm]; those of the sheet where empty"),
    Field("channels", "Channels", hint="all where empty"),
    Field("driven", "Which", hint="both, or one at a time where empty"),
    Field("tones", "Tones", hint="such as [100, 1000, 6000]"),
    Field("span", "Sweep", hint="of a response, such as [1 Hz, 90 kHz]"),
    Field("reference", "Noise against", hint="key of the step whose output it is; published power where empty"),
    Field("settle", "Settle", hint="s"),
    Field("read", "Read", hint="s"),
    Field("settings", "Settings", hint="such as {weighting: A}"),
    Field("limits", "Limits", hint="such as {thd: {high: 0.1 %}}"),
)
QUIET = ("output-noise", "output-offset")
"""Steps that are not driven unless they say so"""


def methods() -> list[tuple[str, str]]:
    """Steps that a sheet can have: method and title; warming up is one without a reading."""
    made = [(n, registry.get(n).title) for n in registry.names() if registry.get(n).begun_as == "amplifier-sheet"]
    return [*made, ("output-precondition", "Warm up")]


def new_step(method: str, held: Sequence[Step]) -> Step:
    """A step of a method, able to run as it is, with a name that none of the others has."""
    title = dict(methods())[method]
    base = slug(title).replace("-", " ")
    taken = {s.get("name") for s in held}
    name = next(n for n in (base, *(f"{base} {k}" for k in range(2, 1000))) if n not in taken)
    number = name[len(base) :]
    made: Step = {"method": method, "name": name, "label": f"{title}{number}", "loads": ["8 ohm"]}
    if method not in QUIET:
        made["drive"] = {"power": "1 W"}
    if method == "output-precondition":
        made |= {"read": "10 min", "drive": {"power": "0.1 rated"}}
    return made


def with_field(step: Step, key: str, text: str) -> Step:
    """A step with one value as typed; nothing takes it away. Raises BadInput."""
    made = copy.deepcopy(step)
    value: Any = text.strip() if key in ("label", "name", "driven", "reference") else typed(text)
    if value is NOTHING or value == "":
        if key == "name":
            raise BadInput("Key: a step needs one: its readings are called so.")
        made.pop(key, None)
    else:
        made[key] = value
    return made


class StepsSheet(Over):
    """The list at the left, the chosen step's values at the right. What was made is `steps`."""

    def __init__(self, parent: QWidget, steps: Sequence[Step]) -> None:
        super().__init__(parent, (20, 16, 20, 14), 8)
        self.steps = [copy.deepcopy(s) for s in steps]
        self.column.addWidget(label("Steps of the sheet", "title"))
        row = QHBoxLayout()
        row.setSpacing(14)
        left = QVBoxLayout()
        self.list = QListWidget()
        self.list.setFixedSize(260, 380)
        self.list.setSelectionMode(QListWidget.SelectionMode.ExtendedSelection)
        self.list.currentRowChanged.connect(self._show)
        left.addWidget(self.list)
        keys = QHBoxLayout()
        for text, act in (("Add", self.ask_new), ("Copy", self.copy), ("Earlier", lambda: self.move_(-1)),
                          ("Later", lambda: self.move_(1)), ("Remove", self.remove)):  # fmt: skip
            one = button(text, "chip")
            one.setAutoDefault(False)
            one.clicked.connect(lambda _=False, a=act: a())
            keys.addWidget(one)
        left.addLayout(keys)
        row.addLayout(left)
        right = QVBoxLayout()
        self.what = label("", "muted")
        right.addWidget(self.what)
        self.fields = Fields(FIELDS)
        self.fields.setMinimumWidth(420)
        for key, box in self.fields.boxes.items():
            assert not isinstance(box, (QComboBox, QPlainTextEdit))
            box.editingFinished.connect(lambda k=key: self._typed(k))
        right.addWidget(self.fields)
        right.addStretch()
        row.addLayout(right)
        self.column.addLayout(row)
        self.wrong = label("", "cut", wrap=True)
        self.column.addWidget(self.wrong)
        foot = QHBoxLayout()
        foot.addStretch()
        self.no, self.yes = button("Leave it  Esc"), button("Keep the steps", "main")
        self.no.clicked.connect(self.reject)
        self.yes.clicked.connect(self.done_with)
        for one in (self.no, self.yes):
            one.setAutoDefault(False)
            foot.addWidget(one)
        self.column.addLayout(foot)
        self.menu: QMenu | None = None
        self._fill(0)

    @property
    def at(self) -> int:
        return max(self.list.currentRow(), 0)

    def _fill(self, at: int) -> None:
        self.list.blockSignals(True)
        self.list.clear()
        for i, step in enumerate(self.steps, 1):
            self.list.addItem(f"{i}  {step.get('label') or step.get('name')}")
        self.list.blockSignals(False)
        self.list.setCurrentRow(min(max(at, 0), len(self.steps) - 1))
        self._show(self.list.currentRow())

    def _show(self, at: int) -> None:
        self.fields.setEnabled(0 <= at < len(self.steps))
        if not 0 <= at < len(self.steps):
            return
        step = self.steps[at]
        self.what.setText(dict(methods()).get(step["method"], step["method"]))
        for key, box in self.fields.boxes.items():
            box.setText(shown(step.get(key)))  # type: ignore[union-attr]
            box.setCursorPosition(0)  # type: ignore[union-attr]
        self.wrong.setText("")

    def _typed(self, key: str) -> None:
        text = self.fields.values()[key]
        if text == shown(self.steps[self.at].get(key)):
            return
        try:
            made = with_field(self.steps[self.at], key, text)
            if key == "name" and any(s.get("name") == made["name"] for k, s in enumerate(self.steps) if k != self.at):
                raise BadInput(f"Key: there is a step '{made['name']}' already.")
        except BadInput as problem:
            self.wrong.setText(str(problem))
            return
        self.steps[self.at] = made
        self.wrong.setText("")
        self.list.item(self.at).setText(f"{self.at + 1}  {made.get('label') or made.get('name')}")

    def ask_new(self) -> None:
        """A menu of what a step can be."""
        self.menu = QMenu(self)
        for method, title in methods():
            self.menu.addAction(title, lambda m=method: self.add(m))
        self.menu.popup(self.list.mapToGlobal(self.list.rect().bottomLeft()))

    def add(self, method: str) -> None:
        """A step behind the chosen one."""
        self.steps.insert(self.at + 1, new_step(method, self.steps))
        self._fill(self.at + 1)

    def copy(self) -> None:
        made = copy.deepcopy(self.steps[self.at])
        made["name"] = new_step(made["method"], [*self.steps])["name"]
        self.steps.insert(self.at + 1, made)
        self._fill(self.at + 1)

    def move_(self, by: int) -> None:
        """The chosen step earlier or later."""
        to = self.at + by
        if 0 <= to < len(self.steps):
            self.steps.insert(to, self.steps.pop(self.at))
            self._fill(to)

    def remove(self) -> None:
        """All that are selected."""
        gone = {self.list.row(i) for i in self.list.selectedItems()}
        self.steps = [s for k, s in enumerate(self.steps) if k not in gone]
        self._fill(min(gone, default=0))

    def done_with(self) -> None:
        """Keep what is there, if there is any."""
        if self.steps:
            self.accept()
        else:
            self.wrong.setText("A sheet needs a step at least.")
