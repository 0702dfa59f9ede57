"""After a run: the verdict, the figure that is told first, the others, and what to do next."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from ...contracts import registry
from ...contracts.finding import Finding, Reading
from ...core.figures import figure, fitting
from ...lab.exporting import readings_table
from ..parts import theme
from ..parts.copying import copyable
from ..parts.panels import Margins, Row, lacking, reading_row
from ..parts.widgets import Verdict, button, label, scrolled, section, three


def leading(finding: Finding) -> Reading | None:
    """The reading that is told first where a method says nothing of it: the first with a limit, else the first."""
    there = [r for r in finding.readings if r.value is not None and r.valid]
    return next((r for r in there if r.verdict != "none"), there[0] if there else None)


class RunResult(QWidget):
    """After the run: how much was within tolerance, the figures, and what to do next."""

    again = pyqtSignal()
    carry_on = pyqtSignal()
    report = pyqtSignal()
    nothing = "Nothing was driven at level."
    """said of a run that was cut before there was anything to read"""

    def __init__(self) -> None:
        super().__init__()
        self.finding: Finding | None = None
        copyable(self)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        inner = QWidget()
        column = QVBoxLayout(inner)
        column.setContentsMargins(0, 0, 4, 0)
        column.setSpacing(4)
        outer.addWidget(scrolled(inner))
        head = QHBoxLayout()
        head.addWidget(section("Result"))
        head.addStretch()
        self.glyph = Verdict("none", (20, 11))
        self.word = label("", "small")
        head.addWidget(self.glyph)
        head.addWidget(self.word)
        column.addLayout(head)
        self.cut = label("", "cut", wrap=True)
        column.addWidget(self.cut)
        self.big = label("", "title", wrap=True)
        column.addWidget(self.big)
        self.margins = Margins()
        self.margins.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Maximum)
        column.addWidget(self.margins)
        self.notes = label("", "muted", wrap=True)
        column.addWidget(self.notes)
        column.addStretch()
        self.column = column
        self.more = button("Continue from where it was cut", "main")
        self.more.clicked.connect(self.carry_on)
        column.addWidget(self.more)
        self.paper = button("Report", tip="The report of this take, into the Folio")
        self.paper.clicked.connect(self.report)
        column.addWidget(self.paper)
        self.rerun = button("Run again", tip="A new take of the same plan; this one is kept")
        self.rerun.clicked.connect(self.again)
        column.addWidget(self.rerun)

    def as_table(self) -> Sequence[Sequence[Any]]:
        return [] if self.finding is None else readings_table(self.finding)

    def show_finding(self, finding: Finding | None, cut: str | None, position: bool) -> None:
        """`cut`: why it was cut; `position`: whether it could be continued."""
        self.finding = finding
        self.cut.setText(cut or "")
        self.cut.setVisible(cut is not None)
        self.more.setVisible(cut is not None and position)
        self.paper.setVisible(finding is not None)
        if finding is None:
            self.glyph.set("outside")
            self.word.setText("cut" if cut else "nothing read")
            self.big.setText(self.nothing if cut else "")
            self.margins.show_rows([])
            self.notes.setText("")
            return
        self.glyph.set("outside" if cut else finding.verdict)
        self.word.setText("cut" if cut else theme.VERDICT_WORDS[finding.verdict])
        if cut is None and not finding.complete:
            self.cut.setText(lacking(finding))
            self.cut.setVisible(True)
        self.show_figures(finding)

    def show_figures(self, finding: Finding) -> None:
        """The figure told first, and the others."""
        headline = registry.get(finding.method).headline
        value: Any = None
        if headline is not None:
            value = next((r.value for r in finding.readings if r.key == headline[0]), None)
        elif (first := leading(finding)) is not None:
            value = f"{first.label}: {figure(first.value or 0.0, first.uncertainty, first.unit)}"
        text = headline[1] if headline is not None else "{}"
        nothing = "read as curves alone" if any(c.x for c in finding.curves) else "nothing could be read"
        self.big.setText(nothing if value is None else text.format(value))
        rows: list[Row] = []
        for r in finding.readings:
            told = headline is not None and r.key == headline[0]
            if told or r.value is None or len(rows) >= 12:
                continue
            name, shown, used, doubt, verdict, word = reading_row(r)
            if r.uncertainty is None:
                scale, unit = fitting(r.value, r.unit)
                shown = f"{three(r.value * scale)} {unit}"
            rows.append((name, shown, used, doubt, verdict if verdict != "none" else "plain", word))
        self.margins.show_rows(rows)
        self.notes.setText("\n".join(finding.notes[:4]))
