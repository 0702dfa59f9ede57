"""A list of rows, such as steps, as a table: typed, or pasted from a spreadsheet."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from PyQt6.QtWidgets import QWidget

from ...contracts.explained import Setting
from ...lab.editing import shown
from ...lab.rowtext import as_text, from_text
from .forms import Field, Sheet


class RowsSheet(Sheet):
    """The rows of one setting; `text` is what stands for them in a plan."""

    def __init__(self, parent: QWidget, setting: Setting, held: Any) -> None:
        self.setting = setting
        self.text = shown(held)
        rows = as_text(held if isinstance(held, list) else None, setting.columns)
        words = (
            f"A heading, then a line a row. Columns: {', '.join(setting.columns)}."
            " A unit may stand in the heading, like 'start [s]'."
        )
        super().__init__(parent, setting.name, words, [Field("rows", "Rows", rows, long=True)], "Take them", self._take)
        self.fields.boxes["rows"].setFixedHeight(260)
        self.frame.setMinimumWidth(680)

    def _take(self, values: Mapping[str, str]) -> None:
        rows = from_text(values["rows"], self.setting.columns)
        self.text = shown(rows) if rows else ""
