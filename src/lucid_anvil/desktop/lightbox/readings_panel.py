"""The readings of a finding beside its curves: value, doubt, limit and verdict of each, its own words below."""

from __future__ import annotations

from PyQt6.QtWidgets import QHBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from ...contracts.finding import Finding
from ...lab.exporting import Row, readings_table
from ..parts import theme
from ..parts.copying import copyable
from ..parts.panels import Margins, lacking, reading_row
from ..parts.widgets import Verdict, label, scrolled, section

MOST = 40
"""Readings that are listed"""


class ReadingsPanel(QWidget):
    """Kept and refilled."""

    def __init__(self) -> None:
        super().__init__()
        self.finding: Finding | None = None
        copyable(self)
        self.setFixedWidth(276)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(8, 0, 0, 0)
        head = QHBoxLayout()
        head.addWidget(section("Readings"))
        head.addStretch()
        self.glyph, self.word = Verdict("none", (20, 11)), label("", "small")
        head.addWidget(self.glyph)
        head.addWidget(self.word)
        outer.addLayout(head)
        inner = QWidget()
        column = QVBoxLayout(inner)
        column.setContentsMargins(0, 0, 6, 0)
        column.setSpacing(4)
        self.margins = Margins()
        self.margins.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Maximum)
        column.addWidget(self.margins)
        self.notes = label("", "muted", wrap=True)
        column.addWidget(self.notes)
        column.addStretch()
        outer.addWidget(scrolled(inner), 1)

    def as_table(self) -> list[Row]:
        return [] if self.finding is None else readings_table(self.finding)

    def show_finding(self, finding: Finding | None) -> None:
        """None: a record that nothing was read of yet."""
        self.finding = finding
        self.setVisible(finding is not None)
        if finding is None:
            return
        self.glyph.set(finding.verdict)
        self.word.setText("" if finding.verdict == "none" else theme.VERDICT_WORDS[finding.verdict])
        # What was measured comes first; what does not apply here is named after it.
        there = [r for r in finding.readings if r.value is not None or r.interval is not None]
        absent = [r for r in finding.readings if r not in there]
        limited = [r for r in absent if (r.low, r.high) != (None, None) or not r.valid]
        self.margins.show_rows([reading_row(r) for r in (*limited, *there)][:MOST])
        why: dict[str, list[str]] = {}
        for r in absent:
            if r not in limited:
                why.setdefault(str(r.reason), []).append(r.label)
        said = [f"Not read: {'; '.join(labels)} ({reason})." for reason, labels in why.items()]
        missing = [lacking(finding)] if not finding.complete else []
        self.notes.setText("\n".join([*missing, *finding.notes, *said]))
