"""The profile's breakpoints beside its curve, as a table: each cell typed, and the curve follows at once."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from typing import Any

from PyQt6.QtCore import QEvent, QObject, Qt, pyqtSignal
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from ....core.errors import BadInput
from ....core.quantities import split
from ....desktop.bench.course_view import clock
from ....desktop.parts import theme
from ....desktop.parts.widgets import button, label
from .. import breakpoints

LAW_WORDS = {"displacement": "displacement", "velocity": "velocity", "acceleration": "acceleration", "line": "line"}
FREQUENCY, LEVEL, LAW, BAND = range(4)
OF_DENSITY = "(m/s²)²/Hz"
"""Unit of the densities in the table; one that is typed in another says so"""


class ProfileTable(QWidget):
    """Breakpoints, bands and the sweep. `edited` gives the whole profile anew."""

    edited = pyqtSignal(dict)
    trouble = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setFixedWidth(336)
        self.setProperty("help", "shaker.md#Profile")
        self.data: dict[str, Any] = {}
        self.filling = False
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 0, 0, 0)
        column.setSpacing(6)
        self.table = QTableWidget(0, 4)
        self.table.setObjectName("breakpoints")
        self.table.verticalHeader().hide()
        self.table.setShowGrid(False)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.AllEditTriggers)
        self.table.setAccessibleName("breakpoints")
        head = self.table.horizontalHeader()
        head.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        for i, wide in enumerate((54, 94, 118, 58)):
            self.table.setColumnWidth(i, wide)
        head.setHighlightSections(False)
        head.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self.table.cellChanged.connect(self._typed)
        column.addWidget(self.table, 1)
        row = QHBoxLayout()
        self.add, self.take = button("Add a breakpoint", "chip"), button("Remove", "chip")
        self.add.clicked.connect(lambda: self._change(lambda d: breakpoints.added(d, max(self.table.currentRow(), 0))))
        self.take.clicked.connect(
            lambda: self._change(lambda d: breakpoints.removed(d, max(self.table.currentRow(), 0)))
        )
        row.addWidget(self.add)
        row.addWidget(self.take)
        row.addStretch()
        column.addLayout(row)
        self.grid = QGridLayout()
        self.grid.setHorizontalSpacing(8)
        self.grid.setVerticalSpacing(4)
        column.addLayout(self.grid)
        self.lines: dict[str, QLineEdit] = {}
        self.heads: dict[str, QWidget] = {}
        self.law = QComboBox()
        self.law.addItems(["log", "linear"])
        self.law.setAccessibleName("sweep law")
        self.law.activated.connect(lambda _i: self._sweep("law", self.law.currentText()))
        for i, (key, name) in enumerate((
            ("tolerance", "Tolerance"), ("abort", "Abort"), ("law", "Sweep"), ("rate", "Rate"),
            ("duration", "One sweep"), ("rms", "rms locked at"),
        )):  # fmt: skip
            self.heads[key] = label(name, "muted")
            self.grid.addWidget(self.heads[key], i // 2, 2 * (i % 2))
            if key == "law":
                self.grid.addWidget(self.law, 1, 1)
                continue
            box = QLineEdit()
            box.setAccessibleName(name)
            box.setFixedWidth(92)
            box.editingFinished.connect(lambda k=key: self._line(k))
            self.lines[key] = box
            self.grid.addWidget(box, i // 2, 2 * (i % 2) + 1)
        self.grid.setColumnStretch(4, 1)
        self.facts = label("", "muted", wrap=True)
        column.addWidget(self.facts)

    # --- showing ---------------------------------------------------------------------------------------------

    def show_profile(self, data: Mapping[str, Any], facts: str) -> None:
        """A profile that can be solved, and a line of what follows from it."""
        self.data, self.filling = dict(data), True
        try:
            self._fill(facts)
        finally:
            self.filling = False

    def _fill(self, facts: str) -> None:
        sine = "points" not in self.data
        rows = breakpoints.rows(self.data)
        self.table.setHorizontalHeaderLabels(["Hz", "level" if sine else OF_DENSITY, "to the next by", "±"])
        self.table.setRowCount(len(rows))
        muted = theme.color("muted")
        for i, row in enumerate(rows):
            level = row.level if sine else row.level.removesuffix(OF_DENSITY).strip()  # its unit stands above
            for k, text in enumerate((row.frequency, level, "" if sine else row.law, row.tolerance)):
                cell = QTableWidgetItem(text)
                typed = row.typed if k == FREQUENCY else row.level_typed if k == LEVEL else k == BAND
                if k == LAW or (k == BAND and sine and i == len(rows) - 1):
                    cell.setFlags(cell.flags() & ~Qt.ItemFlag.ItemIsEditable)
                if not typed:
                    cell.setForeground(QColor(muted))
                    cell.setToolTip("follows from what stands beside it")
                self.table.setItem(i, k, cell)
            self.table.removeCellWidget(i, LAW)
            if sine and row.law:
                box = QComboBox()
                box.addItems(list(LAW_WORDS.values()))
                box.setCurrentText(LAW_WORDS[row.law])
                box.setAccessibleName(f"law of row {i + 1}")
                box.installEventFilter(self)
                box.activated.connect(lambda _k, i=i, b=box: self._law(i, b.currentText()))
                self.table.setCellWidget(i, LAW, box)
            self.table.setRowHeight(i, 27)
        for key in ("law", "rate", "duration"):
            self._show(key, sine)
        self._show("rms", not sine)
        held = breakpoints.file_of(self.data)
        texts = {"tolerance": breakpoints.band_text(held.tolerance), "abort": breakpoints.band_text(held.abort)}
        if sine:
            texts |= breakpoints.sweep_texts(self.data)
            self.law.setCurrentText(texts["law"])
        else:
            texts["rms"] = str(self.data.get("rms", ""))
        for key, line in self.lines.items():
            line.setText(texts.get(key, ""))
            line.setCursorPosition(0)
        self.lines["abort"].setPlaceholderText("none")
        self.lines["tolerance"].setPlaceholderText("the standard's")
        self.facts.setText(facts)

    def _show(self, key: str, on: bool) -> None:
        self.heads[key].setVisible(on)
        (self.law if key == "law" else self.lines[key]).setVisible(on)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """The wheel scrolls the table; it changes no law by accident."""
        if event is not None and event.type() == QEvent.Type.Wheel:
            return True
        return super().eventFilter(watched, event)

    # --- hands -----------------------------------------------------------------------------------------------

    def _typed(self, i: int, k: int) -> None:
        if self.filling:
            return
        cell = self.table.item(i, k)
        text = cell.text() if cell is not None else ""
        if k == FREQUENCY:
            self._change(lambda d: breakpoints.with_frequency(d, i, text))
        elif k == LEVEL:
            if "points" in self.data and text.strip() and not split(text)[1]:
                text = f"{text} {OF_DENSITY}"
            self._change(lambda d: breakpoints.with_level(d, i, text))
        elif k == BAND:
            self._change(lambda d: breakpoints.with_tolerance(d, i, text))

    def _law(self, i: int, word: str) -> None:
        law = next(k for k, v in LAW_WORDS.items() if v == word)
        if law not in self.data["segments"][i]:
            self._change(lambda d: breakpoints.with_law(d, i, law))

    def _sweep(self, key: str, text: str) -> None:
        self._change(lambda d: breakpoints.with_sweep(d, key, text))

    def _line(self, key: str) -> None:
        text = self.lines[key].text().strip()
        held = breakpoints.file_of(self.data)
        if key in ("tolerance", "abort"):
            if text != breakpoints.band_text(getattr(held, key)):
                self._change(lambda d: breakpoints.with_band(d, key, text))
        elif key == "rms":
            if text != str(self.data.get("rms", "")):
                self._change(lambda d: breakpoints.with_rms(d, text))
        elif text and text != breakpoints.sweep_texts(self.data).get(key):
            self._sweep(key, text)

    def _change(self, change: Callable[[dict[str, Any]], dict[str, Any]]) -> None:
        """Make a change, or say why it can't be and put the table back."""
        before = self.facts.text()
        try:
            made = change(self.data)
        except BadInput as problem:
            self.trouble.emit(str(problem))
            self.show_profile(self.data, before)
            return
        if made == self.data:
            self.show_profile(self.data, before)
        else:
            self.edited.emit(made)


def facts_of(prepared: Any) -> str:
    """What follows from a profile: its largest values and its length, in a line."""
    from ..profiles import SineFile, profile_of

    held = profile_of(prepared.settings.profile, "profile")
    if not isinstance(held, SineFile):
        solved = held.solved()  # type: ignore[union-attr]
        rms = solved.rms()  # type: ignore[union-attr]
        return (
            f"{rms:.4g} m/s² rms ({rms / 9.80665:.3g} g) · {solved.rms('velocity'):.3g} m/s rms ·"  # type: ignore[union-attr]
            f" {6e3 * solved.rms('displacement'):.3g} mm, three sigma peak to peak"  # type: ignore[union-attr]
        )
    solved = held.solved()
    d, at = solved.peak("displacement")
    v, _ = solved.peak("velocity")
    text = f"Largest {1e3 * d:.3g} mm pk-pk at {at:.4g} Hz, {v:.3g} m/s"
    for one, two in zip(solved.pieces, solved.pieces[1:], strict=False):
        step = 20 * math.log10(float(two.at(one.high)) / float(one.at(one.high)))
        if abs(step) > 0.1:
            text += f" · steps by {step:+.1f} dB at {one.high:.4g} Hz".replace("-", "−")
    course = held.sweeping()
    if course is not None:
        text += f" · one sweep {clock(course.one.duration)}, {course.one.cycles:.0f} cycles"
    return text
