"""Limits of whatever a test gives: of readings in a table, of curves around the curve itself."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QHeaderView,
    QMenu,
    QStackedWidget,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from ...contracts.curvelimits import MARGIN
from ...contracts.finding import Finding
from ...contracts.limits import Limits, is_reading
from ...contracts.method import Method
from ...core.errors import BadInput
from ...core.quantities import parse, split
from ...lab.articles import Article, figures_in_unit
from ...lab.unit_limits import Unit
from .curve_limits import CurveLimitsPage
from .forms import Over
from .widgets import Tabs, button, label

LOW, HIGH, OF = 2, 3, 4
FROM = Qt.ItemDataRole.UserRole
"""Where the value in a cell comes from, in words"""


def limitable(method: Method, seen: Finding | None, held: Mapping[str, Any]) -> list[tuple[str, str, str]]:
    """Key, words and unit of the readings that can be limited: those of the last finding, those that the method always
    gives, those that are limited already. A key with a part in capitals stands for several and is none itself."""
    made: dict[str, tuple[str, str]] = {}
    for key, text in method.readings.items():
        if not re.search(r"[A-Z]", key):
            words, _, unit = text.rpartition(" [") if text.endswith("]") else (text, "", "")
            unit = unit.rstrip("]")
            made[key] = (words or text.strip("[]"), unit if unit and "," not in unit and " " not in unit else "")
    for r in seen.readings if seen is not None else ():
        if not r.key.startswith(MARGIN):  # a curve's own limits give it
            made[r.key] = (r.label, r.unit)
    for key in held:
        made.setdefault(key, (key.replace("_", " "), ""))
    return [(k, words, unit) for k, (words, unit) in made.items()]


def limits_typed(rows: Sequence[tuple[str, str, str, str, str, str]]) -> dict[str, dict[str, Any]]:
    """Limits as they were typed: key, unit, low, high, what they count from, where that comes from. Rows without any
    are left out. Raises BadInput."""
    made: dict[str, dict[str, Any]] = {}
    known = {key for key, *_ in rows}
    for key, unit, low, high, of, source in rows:
        base = of.replace("−", "-").strip()
        sides: dict[str, Any] = {}
        for name, text in (("low", low), ("high", high)):
            text = text.replace("−", "-").strip()
            if not text:
                continue
            value, own = split(text)
            if not own and unit not in ("", "1"):
                text = f"{text} {unit}"
            if unit and not base:
                parse(text, unit, f"{key}, {name}")
            sides[name] = text if own or unit else value
        if base and not sides:
            raise BadInput(f"{key}: it counts from {base}, but has no low and no high: give one of them.")
        if base:
            if is_reading(base) and base not in known:
                raise BadInput(f"{key}: '{base}' is no value and no reading of this test.")
            sides["of"] = base if is_reading(base) or split(base)[1] or unit in ("", "1") else f"{base} {unit}"
            if source:
                sides["from"] = source
        if sides and unit:
            Limits({key: sides}, {key: unit}, "guarded")
        if sides:
            made[key] = sides
    return made


class ReadingLimits(QWidget):
    """A row a reading: low, high, and what they count from."""

    def __init__(
        self, method: Method, seen: Finding | None, held: Mapping[str, Any], units: Callable[[], Sequence[Unit]],
        article: Article | None = None,
    ) -> None:  # fmt: skip
        """`units`: takes whose readings limits may count from; `article`: whose published figures they may."""
        super().__init__()
        self.rows, self.units, self.article = limitable(method, seen, held), units, article
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(label(
            "A value without a unit is in the reading's own; an empty cell is no limit. Where low and high count from"
            " something, 5 % is a share of it, 3 dB a ratio to it, and all else an offset.", "muted", wrap=True,
        ))  # fmt: skip
        self.table = QTableWidget(len(self.rows), 5)
        self.table.setObjectName("breakpoints")
        self.table.setHorizontalHeaderLabels(["reading", "unit", "low", "high", "counted from"])
        self.table.verticalHeader().hide()
        self.table.setShowGrid(False)
        head = self.table.horizontalHeader()
        head.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        head.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        for k, wide in ((1, 100), (LOW, 110), (HIGH, 110), (OF, 190)):
            self.table.setColumnWidth(k, wide)
        values = {r.key: r.value for r in seen.readings} if seen is not None else {}
        for i, (key, words, unit) in enumerate(self.rows):
            sides = held.get(key) or {}
            was = "" if values.get(key) is None else f", last {values[key]:.4g}"
            texts = (f"{words}{was}", unit, *(str(sides.get(k, "")) for k in ("low", "high", "of")))
            for k, text in enumerate(texts):
                cell = QTableWidgetItem(text)
                if k < LOW:
                    cell.setFlags(cell.flags() & ~Qt.ItemFlag.ItemIsEditable)
                cell.setToolTip(key)
                self.table.setItem(i, k, cell)
            if sides.get("from"):
                self._source(i, str(sides["from"]))
        self.table.cellChanged.connect(self._changed)
        self.table.currentCellChanged.connect(lambda row, *_: self._tell(row))
        column.addWidget(self.table, 1)
        row = QHBoxLayout()
        self.another = button("From another reading…", "chip", "Low and high of the chosen row count from it")
        self.earlier = button("From a take or a published figure…", "chip", "The chosen row counts from it")
        self.another.clicked.connect(self._ask_reading)
        self.earlier.clicked.connect(self._ask_take)
        self.told = label("", "muted")
        row.addWidget(self.another)
        row.addWidget(self.earlier)
        row.addWidget(self.told)
        row.addStretch()
        column.addLayout(row)

    def _source(self, row: int, said: str) -> None:
        cell = self.table.item(row, OF)
        if cell is not None:
            self.table.blockSignals(True)
            cell.setData(FROM, said)
            cell.setToolTip(said)
            self.table.blockSignals(False)

    def _tell(self, row: int) -> None:
        """Where the value comes from that the chosen row counts from."""
        cell = self.table.item(row, OF)
        source = str(cell.data(FROM) or "") if cell is not None else ""
        self.told.setText(f"{cell.text()}: {source}" if cell is not None and source else "")

    def _changed(self, row: int, column: int) -> None:
        """A value that was typed over comes from nowhere else."""
        if column == OF:
            self._source(row, "")

    def count_from(self, row: int, of: str, source: str = "") -> None:
        """Low and high of a row count from a reading's key, or from a value that comes from somewhere."""
        cell = self.table.item(row, OF)
        if cell is not None:
            cell.setText(of)
            self._source(row, source)
            self._tell(row)

    def offered(self, row: int) -> list[tuple[str, str, str]]:
        """What is published of the article, and what takes read, that a row could count from: what is shown, the
        value, where it comes from."""
        key, _, own = self.rows[row]
        made = [(f"{value} · published: {name}", value, f"published: {name}")
                for name, value in (figures_in_unit(self.article, own) if own else ())]  # fmt: skip
        for unit in self.units():
            found = next((r for r in unit.finding.readings if r.key == key), None)
            if found is not None and found.value is not None and found.valid:
                value = f"{found.value:.6g} {found.unit}".strip()
                where = f"{unit.name}, {unit.take.name}"
                made.append((f"{value} · {where}", value, where))
        return made

    def _ask_reading(self) -> None:
        row = self.table.currentRow()
        if row < 0:
            self.told.setText("Choose a row first.")
            return
        key, _, unit = self.rows[row]
        self._menu([(words, other, "") for other, words, its in self.rows if other != key and its == unit], row,
                   "There is no other reading of its kind.")  # fmt: skip

    def _ask_take(self) -> None:
        row = self.table.currentRow()
        if row < 0:
            self.told.setText("Choose a row first.")
            return
        self._menu(self.offered(row), row, "No take of this kind has read it yet, and nothing is published of it.")

    def _menu(self, acts: Sequence[tuple[str, str, str]], row: int, none: str) -> None:
        self.told.setText("" if acts else none)
        if not acts:
            return
        self.menu = QMenu(self)
        for shown, of, source in acts:
            self.menu.addAction(shown).triggered.connect(
                lambda _=False, of=of, source=source: self.count_from(row, of, source)
            )
        self.menu.popup(self.another.mapToGlobal(self.another.rect().bottomLeft()))

    def limits(self) -> dict[str, dict[str, Any]]:
        """As a plan has them. Raises BadInput."""

        def text(i: int, k: int) -> str:
            cell = self.table.item(i, k)
            return cell.text() if cell is not None else ""

        def source(i: int) -> str:
            cell = self.table.item(i, OF)
            return str(cell.data(FROM) or "") if cell is not None else ""

        return limits_typed([
            (key, unit, text(i, LOW), text(i, HIGH), text(i, OF), source(i))
            for i, (key, _, unit) in enumerate(self.rows)
        ])  # fmt: skip


class LimitsSheet(Over):
    """Both pages; what was made is `limits` and `curve_limits`."""

    def __init__(
        self, parent: QWidget, method: Method, seen: Finding | None, held: Mapping[str, Any],
        units: Callable[[str], Sequence[Unit]], only: str = "", article: Article | None = None,
    ) -> None:  # fmt: skip
        """`held`: the settings of a plan; `units`: those that have a curve, or any finding for no name; `only`: the one
        curve that is to be limited, and no reading."""
        super().__init__(parent, (22, 18, 22, 16), 8)
        self.limits: dict[str, Any] = {}
        self.curve_limits: dict[str, Any] = {}
        self.frame.setMinimumSize(1080, 600)
        self.setProperty("help", "limits.md")
        head = QHBoxLayout()
        head.addWidget(label("Limits", "title"))
        head.addStretch()
        self.pages = QStackedWidget()
        self.curves = CurveLimitsPage(method, seen, held.get("curve_limits") or {}, units, only)
        self.readings = ReadingLimits(method, seen, held.get("limits") or {}, lambda: units(""), article)
        self.tabs = Tabs([("readings", "Readings"), ("curves", "Curves")])
        self.tabs.chosen.connect(lambda key: self.pages.setCurrentIndex(0 if key == "readings" else 1))
        if not only:
            head.addWidget(self.tabs)
        self.column.addLayout(head)
        for page in (self.readings, self.curves):
            self.pages.addWidget(page)
        self.pages.setCurrentIndex(1 if only else 0)
        self.column.addWidget(self.pages, 1)
        self.wrong = label("", "cut", wrap=True)
        self.wrong.hide()
        self.column.addWidget(self.wrong)
        self.curves.said.connect(self._say)
        row = QHBoxLayout()
        row.addStretch()
        self.no, self.yes = button("Leave it  Esc"), button("Set them", "main")
        self.no.clicked.connect(self.reject)
        self.yes.clicked.connect(self.done_with)
        for one in (self.no, self.yes):
            one.setAutoDefault(False)  # Enter belongs to the cells
            row.addWidget(one)
        self.column.addLayout(row)

    @property
    def table(self) -> QTableWidget:
        return self.readings.table

    @property
    def rows(self) -> list[tuple[str, str, str]]:
        return self.readings.rows

    def _say(self, text: str) -> None:
        self.wrong.setText(text)
        self.wrong.setVisible(bool(text))

    def done_with(self) -> None:
        """Take what stands there, or say what is wrong with it."""
        try:
            self.limits = self.readings.limits()
        except BadInput as problem:
            self.tabs.choose("readings")
            self._say(str(problem))
            return
        self.curve_limits = self.curves.made
        self.accept()
