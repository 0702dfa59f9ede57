"""A beginning: where no lab is yet. Who the lab is, what is plugged in, and the labs that were open lately."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QFileDialog, QHBoxLayout, QVBoxLayout, QWidget

from ...core.errors import BadInput
from ...lab.beginning import begin_lab, lately
from ...lab.place import Lab, open_lab
from ..parts import theme
from ..parts.empty_stage import Row
from ..parts.forms import Field, Fields
from ..parts.widgets import button, card, head_bar, label, section


class BeginningWindow(QWidget):
    """The first thing seen: the left begins a lab in a folder, the right opens one that is there."""

    begun = pyqtSignal(object)
    """The lab"""

    def __init__(self, folder: Path | None = None, cards: list[dict[str, Any]] | None = None) -> None:
        super().__init__()
        self.setObjectName("ground")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setWindowTitle("Lucid Anvil")
        self.resize(1080, 680)
        self.setStyleSheet(theme.style_sheet())
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        bar, places = head_bar()
        places.addStretch()
        column.addWidget(bar)
        row = QHBoxLayout()
        row.setContentsMargins(40, 34, 40, 34)
        row.setSpacing(16)
        row.addWidget(self._new(folder or Path.home() / "lab"), 58)
        row.addWidget(self._known(cards), 42)
        column.addLayout(row, 1)

    def _new(self, folder: Path) -> QWidget:
        frame, column = card((28, 24, 28, 22), 10)
        title = label("Begin a lab", "title")
        title.setStyleSheet("font-size: 20px;")
        column.addWidget(title)
        column.addWidget(
            label(
                "A lab is a folder: its ledger of sensors, its benches, jobs and papers. All of it are plain files"
                " that you can read and carry away.", "muted", wrap=True,
            )
        )  # fmt: skip
        column.addSpacing(6)
        self.fields = Fields([
            Field("name", "Name", hint="as it shall stand on papers"),
            Field("address", "Address", hint="one line, parts apart by commas"),
            Field("initials", "Your initials", hint="who signs, such as K.B."),
            Field("folder", "Folder", str(folder)),
        ])  # fmt: skip
        column.addWidget(self.fields)
        row = QHBoxLayout()
        row.addStretch()
        browse = button("Choose a folder…")
        browse.clicked.connect(self._browse)
        row.addWidget(browse)
        column.addLayout(row)
        self.stand_ins = QCheckBox("With benches of stand-ins and their sensors, to practise on")
        self.stand_ins.setToolTip("Shakers, sensors, a hammer, a machine and an amplifier that are computed, not real")
        column.addWidget(self.stand_ins)
        column.addSpacing(10)
        self.go = button("Begin the lab", "main")
        self.go.clicked.connect(self.begin)
        column.addWidget(self.go)
        self.wrong = label("", "cut", wrap=True)
        self.wrong.hide()
        column.addWidget(self.wrong)
        column.addStretch()
        for box in self.fields.boxes.values():
            if hasattr(box, "returnPressed"):
                box.returnPressed.connect(self.begin)
        return frame

    def _known(self, cards: list[dict[str, Any]] | None) -> QWidget:
        frame, column = card((22, 22, 22, 18), 6)
        column.addWidget(section("Labs lately open"))
        held = lately()
        if not held:
            column.addWidget(label("None yet on this account.", "muted"))
        self.known: list[Row] = []
        for place in held[:6]:
            try:
                title = open_lab(place).facts.name
            except BadInput:
                continue
            row = Row(title, str(place))
            row.clicked.connect(lambda p=place: self.open(p))
            self.known.append(row)
            column.addWidget(row)
        other = Row("Another lab…", "Choose its folder.")
        other.clicked.connect(self._other)
        column.addWidget(other)
        column.addSpacing(12)
        column.addWidget(section("Sound cards found"))
        found = sound_cards() if cards is None else cards
        if isinstance(found, str):
            column.addWidget(label(found, "muted", wrap=True))
        elif not found:
            column.addWidget(label("None. One that is plugged in later is found then.", "muted", wrap=True))
        else:
            for one in found[:5]:
                column.addWidget(label(f"{one['name']} · {one['inputs']} in, {one['outputs']} out", "small"))
        column.addStretch()
        return frame

    def _browse(self) -> None:
        place = QFileDialog.getExistingDirectory(self, "The lab's folder", self.fields.values()["folder"])
        if place:
            self.fields.boxes["folder"].setText(place)  # type: ignore[union-attr]

    def _other(self) -> None:
        place = QFileDialog.getExistingDirectory(self, "A lab's folder")
        if place:
            self.open(Path(place))

    def open(self, place: Path) -> None:
        """Go on with a lab that is there."""
        try:
            self.begun.emit(open_lab(place))
        except BadInput as problem:
            self._say(str(problem))

    def begin(self) -> None:
        """Make the lab, or say what is wrong."""
        held = self.fields.values()
        address = [part.strip() for part in held["address"].split(",")]
        folder = Path(held["folder"]).expanduser()
        try:
            lab: Lab = begin_lab(folder, held["name"], address, held["initials"], self.stand_ins.isChecked())
        except BadInput as problem:
            self._say(str(problem))
            return
        self.begun.emit(lab)

    def _say(self, text: str) -> None:
        self.wrong.setText(text)
        self.wrong.show()


def sound_cards() -> list[dict[str, Any]] | str:
    """The cards there are, or why none can be looked for."""
    from ...rig.soundcard import cards

    try:
        return cards()
    except BadInput as problem:
        return str(problem)
