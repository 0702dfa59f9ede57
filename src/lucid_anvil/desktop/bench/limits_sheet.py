"""Limits of every reading that a test gives: low and high, typed in a table."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHeaderView, QTableWidget, QTableWidgetItem, QWidget

from ...contracts.finding import Finding
from ...contracts.method import Method
from ...core.errors import BadInput
from ...core.quantities import parse, split
from ..parts.forms import Sheet


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
        made[r.key] = (r.label, r.unit)
    for key in held:
        made.setdefault(key, (key.replace("_", " "), ""))
    return [(k, words, unit) for k, (words, unit) in made.items()]


def limits_typed(rows: list[tuple[str, str, str, str]]) -> dict[str, dict[str, Any]]:
    """Limits as they were typed: key, unit, low, high; rows without any are left out. Raises BadInput."""
    made: dict[str, dict[str, Any]] = {}
    for key, unit, low, high in rows:
        sides: dict[str, Any] = {}
        for name, text in (("low", low), ("high", high)):
            text = text.replace("−", "-").strip()
            if not text:
                continue
            value, own = split(text)
            if not own and unit not in ("", "1"):
                text = f"{text} {unit}"
            if unit:
                parse(text, unit, f"{key}, {name}")
            sides[name] = text if own or unit else value
        if "low" in sides and "high" in sides and unit and parse(sides["low"], unit) > parse(sides["high"], unit):
            raise BadInput(f"{key}: low is above high: exchange them.")
        if sides:
            made[key] = sides
    return made


class LimitsSheet(Sheet):
    """A row a reading; what was made is `limits`."""

    def __init__(self, parent: QWidget, method: Method, seen: Finding | None, held: Mapping[str, Any]) -> None:
        self.rows = limitable(method, seen, held)
        self.limits: dict[str, Any] = {}
        self.table = QTableWidget(len(self.rows), 4)
        self.table.setObjectName("breakpoints")
        self.table.setHorizontalHeaderLabels(["reading", "unit", "low", "high"])
        self.table.verticalHeader().hide()
        self.table.setShowGrid(False)
        self.table.setMinimumSize(640, 380)
        self.table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        values = {r.key: r.value for r in seen.readings} if seen is not None else {}
        for i, (key, words, unit) in enumerate(self.rows):
            sides = held.get(key) or {}
            was = "" if values.get(key) is None else f", last {values[key]:.4g}"
            for k, text in enumerate((f"{words}{was}", unit, str(sides.get("low", "")), str(sides.get("high", "")))):
                cell = QTableWidgetItem(text)
                if k < 2:
                    cell.setFlags(cell.flags() & ~Qt.ItemFlag.ItemIsEditable)
                cell.setToolTip(key)
                self.table.setItem(i, k, cell)
        super().__init__(
            parent, "Limits", "A value without a unit is in the reading's own. An empty cell is no limit.", [],
            "Set them", self._take, [self.table],
        )  # fmt: skip

    def _take(self, _held: Mapping[str, str]) -> None:
        def text(i: int, k: int) -> str:
            cell = self.table.item(i, k)
            return cell.text() if cell is not None else ""

        self.limits = limits_typed([(key, unit, text(i, 2), text(i, 3)) for i, (key, _, unit) in enumerate(self.rows)])
