"""A record from elsewhere: which method reads it, which channel is what, by which settings; kept as a take."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QGridLayout, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from ...contracts import registry
from ...contracts.explained import Setting
from ...core.errors import BadInput
from ...core.quantities import same_kind
from ...engine.adopting import Adoption, adopt
from ...formats import Recording, read
from ...lab.editing import typed
from ...lab.place import Lab
from ...lab.takes import Take
from ..bench.new_test import MethodRow
from ..parts.background import Background
from ..parts.forms import Over
from ..parts.limits_sheet import LimitsSheet
from ..parts.settings_view import SettingsView
from ..parts.widgets import button, clear, label, scrolled, section
from .again_view import with_limits, with_value

NONE = "none"
UNITS = {"force": "N", "displacement": "m", "extension": "m", "transverse": "m", "pressure": "Pa", "torque": "N*m",
         "angle": "deg", "microphone": "Pa", "current": "A", "voltage": "V"}  # fmt: skip
"""What a role is usually recorded in, to offer the channel that is likely meant"""


def likely(role: str, record: Recording, taken: set[int]) -> int | None:
    """Number, from 0, of the channel that is likely meant: of that name, else the first in its unit."""
    for i, c in enumerate(record.channels):
        if i not in taken and c.label.strip().lower() == role:
            return i
    for i, c in enumerate(record.channels):
        if i not in taken and role in c.label.strip().lower().split():
            return i
    unit = UNITS.get(role)
    for i, c in enumerate(record.channels):
        if i not in taken and unit and c.unit and same_kind(c.unit, unit):
            return i
    if role == "temperature":
        return next((i for i, c in enumerate(record.channels) if i not in taken and c.unit in ("°C", "K")), None)
    return None


class ReadingSheet(Over):
    """Choose, map, set; what is wrong is said at the foot and nothing is lost."""

    def __init__(self, parent: QWidget, lab: Lab, file: Path) -> None:
        """Raises BadInput where no reader understands the file."""
        self.lab, self.file = lab, file
        self.records: dict[bool, Recording] = {}
        self.take: Take | None = None
        self.given: dict[str, Any] = {}
        self.name = ""
        first = self._record(False)
        super().__init__(parent, (22, 18, 22, 16), 8)
        self.frame.setMinimumSize(1120, 700)
        self.column.addWidget(label(f"Read {file.name}", "title"))
        told = "; ".join(f"{c.label} [{c.unit or '?'}]" for c in first.channels[:6])
        more = f" and {len(first.channels) - 6} more" if len(first.channels) > 6 else ""
        length = max((float(c.time()[-1]) for c in first.channels if c.length), default=0.0)
        self.column.addWidget(label(f"{told}{more} · {_span(length)}", "muted", wrap=True))
        row = QHBoxLayout()
        row.setSpacing(18)
        row.addWidget(self._methods())
        row.addLayout(self._right(), 1)
        self.column.addLayout(row, 1)
        self.wrong = label("", "cut", wrap=True)
        self.wrong.hide()
        self.column.addWidget(self.wrong)
        foot = QHBoxLayout()
        foot.addStretch()
        self.no, self.yes = button("Leave it  Esc"), button("Read it", "main", "It is kept as a take with its finding")
        self.no.setAutoDefault(False)
        self.yes.setAutoDefault(False)
        self.no.clicked.connect(self.reject)
        self.yes.clicked.connect(self.done_with)
        foot.addWidget(self.no)
        foot.addWidget(self.yes)
        self.column.addLayout(foot)
        self.aside = Background(self)
        self.aside.failed.connect(self._refuse)
        self.choose(self._likely())

    def _record(self, logs: bool) -> Recording:
        """The file, as any record or as a logger's table."""
        if logs not in self.records:
            try:
                self.records[logs] = read(self.file, logs=logs)
            except BadInput:
                if logs:
                    raise
                self.records[logs] = self._record(True)  # a log, which some methods take
        return self.records[logs]

    def _likely(self) -> str:
        """The method that the file's channels are called for: all that it needs, and most of what it takes."""
        labels = {c.label.lower() for c in self._record(False).channels}

        def fits(name: str) -> tuple[bool, int, int]:
            method = registry.get(name)
            there = {*method.roles, *method.optional_roles} & labels
            return set(method.roles) <= labels, len(there), len(method.roles)

        return max((n for n in registry.names() if registry.get(n).roles), key=fits)

    def _methods(self) -> QWidget:
        inner = QWidget()
        column = QVBoxLayout(inner)
        column.setContentsMargins(0, 0, 8, 0)
        column.setSpacing(2)
        self.rows: dict[str, MethodRow] = {}
        first = self._likely()
        domains = sorted(registry.domains(), key=lambda d: first not in d.methods)
        for domain in domains:
            names = [n for n in domain.methods if registry.get(n).roles]
            if names:
                column.addWidget(section(domain.title))
            for name in names:
                row = MethodRow(name, registry.get(name).title, registry.get(name).about)
                row.clicked.connect(self.choose)
                column.addWidget(row)
                self.rows[name] = row
        column.addStretch()
        self.list = scrolled(inner)
        self.list.setFixedWidth(430)
        return self.list

    def _right(self) -> QVBoxLayout:
        column = QVBoxLayout()
        column.setSpacing(8)
        self.about = label("", "muted", wrap=True)
        column.addWidget(self.about)
        self.roles_ = QGridLayout()
        self.roles_.setHorizontalSpacing(10)
        self.roles_.setColumnStretch(1, 1)
        column.addLayout(self.roles_)
        self.boxes: dict[str, QComboBox] = {}
        self.sheet = SettingsView()
        self.sheet.close_.hide()
        self.sheet.changed.connect(self._set)
        self.sheet.tables = ("limits", "curve_limits")
        self.sheet.table.connect(lambda _s: self.edit_limits())
        column.addWidget(self.sheet, 1)
        names = QGridLayout()
        names.setHorizontalSpacing(10)
        self.article, self.title_ = QLineEdit(), QLineEdit()
        self.article.setPlaceholderText("what was recorded, as the customer calls it")
        self.title_.setPlaceholderText("of this reading; the method's when left empty")
        for i, (name, box) in enumerate((("Article", self.article), ("Name", self.title_))):
            box.setAccessibleName(name)
            head = label(name, "small")
            head.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            names.addWidget(head, i, 0)
            names.addWidget(box, i, 1)
        column.addLayout(names)
        return column

    def choose(self, name: str) -> None:
        """A method: its channels are offered, its settings shown."""
        if name == self.name:
            return
        self.name, self.given = name, {}
        for key, row in self.rows.items():
            row.chosen = key == name
            row.update()
        self.list.ensureWidgetVisible(self.rows[name])
        method = registry.get(name)
        self.about.setText(f"{method.title}: {method.about}." if method.about else method.title)
        clear(self.roles_)
        self.boxes = {}
        record = self._record(method.logs)
        names = [f"{i + 1} · {c.label} [{c.unit or '?'}]" for i, c in enumerate(record.channels)]
        taken: set[int] = set()
        roles = [(r, True) for r in method.roles] + [(r, False) for r in method.optional_roles]
        for i, (role, needed) in enumerate(roles):
            box = QComboBox()
            box.addItems([*names] if needed else [NONE, *names])
            box.setAccessibleName(role)
            at = likely(role, record, taken)
            if at is None and needed:
                at = next((k for k in range(len(names)) if k not in taken), None)
            if at is not None:
                taken.add(at)
                box.setCurrentIndex(at + (0 if needed else 1))
            head = label(role.replace("_", " ").capitalize(), "small")
            head.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            self.roles_.addWidget(head, i, 0)
            self.roles_.addWidget(box, i, 1)
            self.boxes[role] = box
        self.sheet.method = ""
        self.sheet.show_method(method, self.given)
        self.wrong.hide()

    def edit_limits(self) -> None:
        """Limits that it is to be read with; nothing was read yet."""
        method = registry.get(self.name)
        sheet = LimitsSheet(self, method, None, self.given, lambda _key: [])

        def taken() -> None:
            self.given = with_limits(self.given, sheet)
            self.sheet.show_method(method, self.given)

        sheet.then(taken)

    def _set(self, setting: Setting, text: str) -> None:
        """Take a setting; what contradicts others is said when it is read, since several may be needed at once."""
        try:
            self.given = with_value(self.given, setting.path, typed(text))
        except BadInput as problem:
            self.sheet.refuse(setting, str(problem))
            return
        self.sheet.show_method(registry.get(self.name), self.given)

    def wanted(self) -> Adoption:
        """What is chosen now."""
        roles = {r: box.currentText().split(" · ")[0] for r, box in self.boxes.items() if box.currentText() != NONE}
        by = self.lab.facts.operator
        return Adoption(self.file, self.name, self.article.text(), roles, self.given, self.title_.text(), by)

    def done_with(self) -> None:
        """Read it, or say what is wrong."""
        wanted = self.wanted()
        self.yes.setEnabled(False)
        self.wrong.hide()
        self.aside.run("read", lambda: adopt(self.lab, wanted), self._kept)

    def _kept(self, take: Take) -> None:
        self.take = take
        self.accept()

    def _refuse(self, why: str) -> None:
        self.yes.setEnabled(True)
        self.wrong.setText(why)
        self.wrong.show()


def _span(seconds: float) -> str:
    if seconds < 120:
        return f"{seconds:.4g} s"
    return f"{seconds / 60:.4g} min" if seconds < 7200 else f"{seconds / 3600:.4g} h"
