"""Any table as text for the clipboard: whatever can say its rows is copied by Ctrl+C, or from its own menu."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Protocol, runtime_checkable

from PyQt6.QtCore import QAbstractItemModel, QPoint, Qt
from PyQt6.QtGui import QCursor, QGuiApplication
from PyQt6.QtWidgets import QAbstractItemView, QApplication, QLineEdit, QMenu, QTableWidget, QWidget

from ...lab.exporting import Row


@runtime_checkable
class Copied(Protocol):
    """A widget or a model that shows a table."""

    def as_table(self) -> Sequence[Row]:
        """Its rows with the head first, values as they are and not as they are rounded; none where it is empty."""
        ...


def cell(value: Any) -> str:
    """A value in a cell: numbers as they are, nothing for what is not known, no tabs or new lines."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return repr(float(value))
    return " ".join(str(value).split())


def as_text(rows: Sequence[Row]) -> str:
    """Tab-separated, as spreadsheets take it."""
    return "\n".join("\t".join(cell(v) for v in row) for row in rows)


def of_view(view: QAbstractItemView) -> list[Row]:
    """The rows of a list or table of Qt's, with the head where it has one; what is typed in a cell's own box too."""
    model: QAbstractItemModel | None = view.model()
    if model is None:
        return []
    if isinstance(model, Copied):
        return list(model.as_table())
    across = range(view.columnCount() if isinstance(view, QTableWidget) else 1)
    made: list[Row] = []
    if isinstance(view, QTableWidget):
        made.append([model.headerData(c, Qt.Orientation.Horizontal) or "" for c in across])
    for r in range(model.rowCount()):
        cells = []
        for c in across:
            index = model.index(r, c)
            box = view.indexWidget(index)
            own = box.text() if isinstance(box, QLineEdit) else getattr(box, "currentText", str)()
            cells.append(model.data(index) or own)
        made.append(cells)
    return made


def table_of(widget: QWidget | None) -> Sequence[Row]:
    """The rows of the nearest thing around a widget that shows a table, itself included; none where there is none."""
    while widget is not None:
        rows: Sequence[Row] = ()
        if isinstance(widget, Copied):
            rows = widget.as_table()
        elif isinstance(widget, QAbstractItemView):
            rows = of_view(widget)
        if rows:
            return rows
        widget = widget.parentWidget()
    return ()


def copy_here() -> str:
    """Copy the table under the pointer, or the one that has the keys; what was done, in words."""
    for widget in (QApplication.widgetAt(QCursor.pos()), QApplication.focusWidget()):
        rows = table_of(widget)
        if rows:
            put(rows)
            return f"Copied as a table: {len(rows) - 1 or 1} rows."
    return "Nothing here is a table: point at readings, a list or a curve."


def put(rows: Sequence[Row]) -> None:
    """Rows into the clipboard."""
    board = QGuiApplication.clipboard()
    if board is not None:
        board.setText(as_text(rows))


def copyable(widget: QWidget) -> None:
    """Give a widget that can say its rows a menu to copy them."""

    def ask(at: QPoint) -> None:
        rows = table_of(widget)
        menu = QMenu(widget)
        act = menu.addAction("Copy as table", lambda: put(rows))
        if act is not None:
            act.setEnabled(bool(rows))
        menu.popup(widget.mapToGlobal(at))

    widget.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
    widget.customContextMenuRequested.connect(ask)
