"""The settings sheet: the settings of any method in words, made from its own declaration, each beside its meaning."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QGridLayout, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from ...contracts.explained import Setting, explained, value_at
from ...contracts.method import Method
from ...lab.editing import shown
from . import theme
from .rows_sheet import RowsSheet
from .widgets import button, card, clear, label, scrolled, section

UNSET = "not set"
USUAL = "usual"


class SettingRow(QWidget):
    """One setting: its name, what holds, its unit and meaning; a mark where it is not the usual value."""

    changed = pyqtSignal(object, str)
    table = pyqtSignal()
    """it has an editor of its own, which is asked for"""

    def __init__(self, setting: Setting, held: Any, drawn: str = "", table: bool = False) -> None:
        """`drawn`: where it is changed on the thing itself; `table`: whether an editor of its own is offered."""
        super().__init__()
        self.setting, self.drawn = setting, drawn
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 2, 0, 4)
        grid.setHorizontalSpacing(10)
        grid.setVerticalSpacing(1)
        self.bar = QWidget()
        self.bar.setFixedWidth(3)
        self.bar.setObjectName("driven")
        grid.addWidget(self.bar, 0, 0, 2, 1)
        name = label(setting.name)
        name.setFixedWidth(210)
        name.setToolTip(setting.key)
        grid.addWidget(name, 0, 1)
        self.box: QLineEdit | QComboBox
        if setting.kind in ("flag", "choice"):
            self.box = QComboBox()
            if setting.usual is None and not setting.needed:  # else the first would stand there as if it were chosen
                self.box.addItem(UNSET)
            self.box.addItems(["on", "off"] if setting.kind == "flag" else list(setting.choices))
            self.box.activated.connect(lambda _i: self._tell())
        else:
            self.box = QLineEdit()
            self.box.setPlaceholderText(self._usual() or ("needed" if setting.needed else UNSET))
            self.box.editingFinished.connect(self._tell)
        if drawn:
            self.box.setParent(self)
            self.box.setEnabled(False)
            self.box.hide()
            grid.addWidget(label(drawn, "muted"), 0, 2, 1, 3)
        self.box.setFixedWidth(230)
        self.box.setAccessibleName(setting.key)
        if not drawn:
            grid.addWidget(self.box, 0, 2)
        grid.addWidget(label(setting.unit, "muted"), 0, 3)
        if table:
            edit = button("Edit…", "chip", "In a table")
            edit.clicked.connect(self.table)
            grid.addWidget(edit, 0, 3, Qt.AlignmentFlag.AlignLeft)
            self.edit = edit
        self.back = button(USUAL, "chip", f"Back to the usual value{': ' + self._usual() if self._usual() else ''}")
        self.back.clicked.connect(lambda: self.changed.emit(setting, ""))
        grid.addWidget(self.back, 0, 4, Qt.AlignmentFlag.AlignRight)
        grid.setColumnStretch(3, 1)
        if setting.meaning:
            grid.addWidget(label(setting.meaning, "muted", wrap=True), 1, 1, 1, 4)
        self.wrong = label("", "cut", wrap=True)
        self.wrong.hide()
        grid.addWidget(self.wrong, 2, 1, 1, 4)
        self.show_value(held)

    def _usual(self) -> str:
        usual = self.setting.usual
        plain = isinstance(usual, str) or (isinstance(usual, list) and all(isinstance(v, (int, float)) for v in usual))
        return "" if usual in (None, [], {}, ()) or self.setting.kind == "data" and not plain else shown(usual)

    def show_value(self, held: Any) -> None:
        """What the plan says; None: nothing, so that the usual value holds."""
        self.held, self.value = self.drawn or shown(held), held
        if isinstance(self.box, QComboBox):
            now = self.held or self._usual() or UNSET
            self.box.setCurrentText({"True": "on", "False": "off"}.get(now, now))
        elif not self.box.hasFocus() or self.box.text() != self.held:
            self.box.setText(self.held)
            self.box.setCursorPosition(0)
        differs = held is not None and not self.drawn and self.held != self._usual()
        colour = theme.color("brass").name() if differs else "transparent"
        self.bar.setStyleSheet(f"background: {colour};")
        self.back.setVisible(differs and not self.setting.needed)
        self.wrong.hide()

    def _tell(self) -> None:
        text = self.box.currentText() if isinstance(self.box, QComboBox) else self.box.text().strip()
        text = "" if text == UNSET else text
        if text != self.held and not (not self.held and text == self._usual()):
            self.changed.emit(self.setting, text)

    def refuse(self, why: str) -> None:
        """Say what is wrong with what was typed; it stays there to be mended."""
        self.wrong.setText(why)
        self.wrong.show()


class SettingsView(QWidget):
    """All settings of the method in hand, grouped, found by typing; those that few people touch when asked for."""

    changed = pyqtSignal(object, str)
    """A `Setting`, and what was typed for it; nothing: the usual value"""
    closed = pyqtSignal()
    table = pyqtSignal(object)
    """a `Setting` that is to be changed in an editor of its own"""
    tables: tuple[str, ...] = ()
    """Keys of settings that have one"""

    def __init__(self) -> None:
        super().__init__()
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        frame, column = card((16, 10, 12, 8), 6)
        outer.addWidget(frame)
        head = QHBoxLayout()
        self.title = label("Settings", "title")
        head.addWidget(self.title)
        head.addStretch()
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find a setting")
        self.search.setFixedWidth(180)
        self.search.textChanged.connect(lambda _t: self._sift())
        head.addWidget(self.search)
        self.rare = button("Rare ones too", "chip", "Settings that the bench fills in, or that few people touch")
        self.rare.setCheckable(True)
        self.rare.clicked.connect(lambda _c: self._sift())
        head.addWidget(self.rare)
        self.close_ = button("Close  Esc", tip="Back to the thing itself")
        self.close_.clicked.connect(self.closed)
        head.addWidget(self.close_)
        column.addLayout(head)
        inner = QWidget()
        self.rows_ = QVBoxLayout(inner)
        self.rows_.setContentsMargins(0, 4, 12, 0)
        self.rows_.setSpacing(0)
        column.addWidget(scrolled(inner), 1)
        self.rows: dict[str, SettingRow] = {}
        self.heads: list[tuple[QWidget, list[SettingRow]]] = []
        self.method = ""

    def show_method(self, method: Method, given: Mapping[str, Any]) -> None:
        """The settings of a method, and what a plan says of them."""
        if method.name == self.method:
            for row in self.rows.values():
                row.show_value(value_at(given, row.setting.path))
            return
        self.method = method.name
        self.title.setText(f"Settings · {method.title}")
        clear(self.rows_)
        self.rows, self.heads = {}, []
        groups: dict[str, list[Setting]] = {}
        for setting in explained(method.Settings):
            inside = setting.path[:-1]
            groups.setdefault(" · ".join(p.replace("_", " ") for p in inside), []).append(setting)
        for group, settings in groups.items():
            title = section(group or "The test")
            title.setContentsMargins(0, 10 if self.rows else 0, 0, 2)
            self.rows_.addWidget(title)
            rows = []
            for setting in settings:
                drawn = method.drawn.get(setting.key, "")
                own = setting.key in self.tables
                row = SettingRow(setting, value_at(given, setting.path), drawn, own or bool(setting.columns))
                row.table.connect(lambda s=setting, own=own: self.table.emit(s) if own else self._rows(s))
                row.setProperty("help", f"method-{method.name}.md#{setting.name}")
                row.changed.connect(self.changed)
                self.rows_.addWidget(row)
                self.rows[setting.key] = row
                rows.append(row)
            self.heads.append((title, rows))
        self.rows_.addStretch()
        self._sift()

    def _rows(self, setting: Setting) -> None:
        """A list of rows, as a table to be typed or pasted."""
        sheet = RowsSheet(self, setting, self.rows[setting.key].value)
        sheet.then(lambda: self.changed.emit(setting, sheet.text))

    def _sift(self) -> None:
        wanted = self.search.text().strip().lower()
        for title, rows in self.heads:
            for row in rows:
                s = row.setting
                found = not wanted or wanted in f"{s.key} {s.name} {s.meaning}".lower()
                told = bool(wanted) or self.rare.isChecked() or not s.rare or bool(row.held) or s.key in self.tables
                row.setVisible(found and told)
            title.setVisible(any(not r.isHidden() for r in rows))

    def refuse(self, setting: Setting, why: str) -> None:
        self.rows[setting.key].refuse(why)
