"""A take read again: its settings in words, changed beside the finding that is there, and what differs after."""

from __future__ import annotations

import copy
from collections.abc import Sequence
from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from ...contracts import registry
from ...contracts.explained import Setting
from ...contracts.finding import Finding
from ...contracts.settings import check
from ...core.errors import BadInput
from ...lab.editing import NOTHING, typed
from ...lab.takes import Take
from ...lab.unit_limits import Unit
from ..parts.limits_sheet import LimitsSheet
from ..parts.settings_view import SettingsView
from ..parts.widgets import button, label, three


def with_value(settings: dict[str, Any], path: Sequence[str], value: Any) -> dict[str, Any]:
    """Settings with one of them set, or taken away."""
    made = copy.deepcopy(settings)
    at = made
    for key in path[:-1]:
        if not isinstance(at.get(key), dict):
            at[key] = {}
        at = at[key]
    if value is NOTHING:
        at.pop(path[-1], None)
    else:
        at[path[-1]] = value
    return made


def with_limits(settings: dict[str, Any], sheet: LimitsSheet) -> dict[str, Any]:
    """Settings with the limits that were set in a sheet."""
    for key, value in (("limits", sheet.limits), ("curve_limits", sheet.curve_limits)):
        settings = with_value(settings, [key], value or NOTHING)
    return settings


def difference(before: Finding | None, after: Finding) -> str:
    """What differs between two findings of one take, in a sentence or two."""
    if before is None:
        return f"{len(after.readings)} readings; nothing was read of it before."
    held = {r.key: r for r in before.readings}
    told = []
    for r in after.readings:
        was = held.get(r.key)
        if was is None:
            told.append((9.0, f"{r.label}: new"))
        elif (was.value is None) != (r.value is None):
            told.append((8.0, f"{r.label}: {_shown(was.value)} → {_shown(r.value)} {r.unit}"))
        elif r.value is not None and was.value is not None and r.value != was.value:
            share = abs(r.value - was.value) / max(abs(was.value), 1e-12)
            told.append((share, f"{r.label}: {_shown(was.value)} → {_shown(r.value)} {r.unit}"))
    gone = [k for k in held if k not in {r.key for r in after.readings}]
    verdict = "" if before.verdict == after.verdict else f" The verdict was {before.verdict} and is {after.verdict}."
    if not told and not gone:
        return f"No reading differs.{verdict}"
    told.sort(key=lambda t: -t[0])
    more = f" {len(gone)} readings are gone." if gone else ""
    return f"{len(told)} of {len(after.readings)} readings differ. {'; '.join(t for _, t in told[:3])}.{more}{verdict}"


def _shown(value: float | None) -> str:
    return "nothing" if value is None else three(value) if abs(value) < 1e-3 or abs(value) >= 1e5 else f"{value:.5g}"


class AgainView(QWidget):
    """The settings of a take; nothing in the take changes until it is read."""

    read = pyqtSignal(object, dict)
    """the take, and the settings to read it with"""
    closed = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.take: Take | None = None
        self.given: dict[str, Any] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.sheet = SettingsView()
        self.sheet.changed.connect(self._set)
        self.sheet.closed.connect(self.closed)
        self.sheet.tables = ("limits", "curve_limits")
        self.sheet.table.connect(lambda _s: self.edit_limits())
        column.addWidget(self.sheet, 1)
        foot = QHBoxLayout()
        self.told = label("", "muted", wrap=True)
        foot.addWidget(self.told, 1)
        self.go = button("Read it again", "main", "Another finding of the same take; the one that is there stays")
        self.go.clicked.connect(self._read)
        foot.addWidget(self.go)
        column.addLayout(foot)

    def show_take(self, take: Take) -> None:
        """The settings that a take was run with. Raises BadInput where its plan can't be read."""
        step = take.plan().step
        self.take, self.given = take, copy.deepcopy(step.settings)
        self.sheet.method = ""
        self.sheet.show_method(registry.get(step.method), self.given)
        self.told.setText(f"{take.name}: change what should differ, then read it again.")

    def edit_limits(self) -> None:
        """Limits that it is to be read with, of readings and of curves, around what it read before."""
        if self.take is None:
            return
        method, seen = registry.get(self.take.plan().step.method), self.take.finding()
        one = [] if seen is None else [Unit(self.take.folder.parent.name, self.take.folder, seen)]
        sheet = LimitsSheet(self, method, seen, self.given, lambda key: [u for u in one if not key or u.curve(key)])

        def taken() -> None:
            self.given = with_limits(self.given, sheet)
            self.sheet.show_method(method, self.given)

        sheet.then(taken)

    def _read(self) -> None:
        if self.take is not None:
            self.read.emit(self.take, self.given)

    def _set(self, setting: Setting, text: str) -> None:
        assert self.take is not None
        method = registry.get(self.take.plan().step.method)
        try:
            made = with_value(self.given, setting.path, typed(text))
            check(method.Settings, method.beside(made, self.take.folder), "the settings")
        except BadInput as problem:
            self.sheet.refuse(setting, str(problem))
            return
        self.given = made
        self.sheet.show_method(method, made)
