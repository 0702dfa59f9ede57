"""After the run: the reading beside the last calibration and the nominal, verdicts, and what to do next."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from ....contracts.finding import Finding
from ....core.quantities import round_to_doubt
from ....desktop.parts import theme
from ....desktop.parts.copying import Row, copyable
from ....desktop.parts.panels import Margins, corridor_rows, lacking, reading_row
from ....desktop.parts.widgets import Tabs, Verdict, button, label, scrolled, section
from ....lab.exporting import readings_table
from ....lab.plans import Plan


class ResultPanel(QWidget):
    """After the run: the reading beside the last calibration and the nominal, verdicts, and what to do next."""

    accept = pyqtSignal(str, str, bool, str)
    """as state, initials, due date wanted, why one that is not complete is certified"""
    again = pyqtSignal()
    struck_again = pyqtSignal()
    certificate = pyqtSignal()
    report = pyqtSignal()

    def __init__(self, initials: str) -> None:
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
        self.cut.setAlignment(Qt.AlignmentFlag.AlignLeft)
        column.addWidget(self.cut)
        self.value = label("", "title")
        self.value.setStyleSheet("font-size: 17px; font-weight: 600;")
        column.addWidget(self.value)
        self.beside = label("", "muted", wrap=True)
        column.addWidget(self.beside)
        column.addSpacing(4)
        self.margins = Margins()
        column.addWidget(self.margins)
        self.notes = label("", "muted", wrap=True)
        column.addWidget(self.notes)
        column.addStretch()
        self.struck = button("Take struck points again")
        self.struck.clicked.connect(self.struck_again)
        column.addWidget(self.struck)
        self.box = QWidget()
        accept = QVBoxLayout(self.box)
        accept.setContentsMargins(0, 0, 0, 0)
        accept.setSpacing(5)
        row = QHBoxLayout()
        self.state = Tabs([("as found", "as found"), ("as left", "as left")], "chip")
        row.addWidget(self.state)
        row.addStretch()
        self.initials = QLineEdit(initials)
        self.initials.setMaximumWidth(60)
        self.initials.setToolTip("Initials of who accepts")
        row.addWidget(self.initials)
        accept.addLayout(row)
        self.due = QCheckBox("Due date on the certificate")
        self.due.setToolTip("Only where the customer asked for one (ISO/IEC 17025, 7.8.4.3)")
        accept.addWidget(self.due)
        self.reason = QLineEdit()
        self.reason.setPlaceholderText("Why it is certified all the same")
        self.reason.setToolTip("Stands on the certificate, beside what is missing")
        accept.addWidget(self.reason)
        self.go = button("Accept into the ledger", "main")
        self.go.clicked.connect(self._accept)
        accept.addWidget(self.go)
        column.addWidget(self.box)
        self.done = label("", "small", wrap=True)
        column.addWidget(self.done)
        self.paper = button("Open certificate", "main")
        self.paper.clicked.connect(self.certificate)
        column.addWidget(self.paper)
        self.draft = button("Report", tip="The paper of this take as it stands, into the Folio; no certificate")
        self.draft.clicked.connect(self.report)
        column.addWidget(self.draft)
        self.rerun = button(
            "Run again", tip="A new take of the same plan; after an adjustment it gives the as-left values"
        )
        self.rerun.clicked.connect(self.again)
        column.addWidget(self.rerun)

    def _accept(self) -> None:
        if not self.initials.text().strip():
            self.initials.setFocus()
            return
        if self.reason.isVisibleTo(self) and not self.reason.text().strip():
            self.reason.setFocus()
            return
        why = self.reason.text().strip() if self.reason.isVisibleTo(self) else ""
        self.accept.emit(self.state.now, self.initials.text().strip(), self.due.isChecked(), why)

    def as_table(self) -> list[Row]:
        return [] if self.finding is None else readings_table(self.finding)

    def show_finding(
        self, finding: Finding | None, plan: Plan, last: str, accepted: str | None, cut: str | None
    ) -> None:
        """`last`: how it stands to the last calibration; `accepted`: certificate number; `cut`: why it was cut."""
        self.finding = finding
        self.box.setVisible(finding is not None and accepted is None)
        self.paper.setVisible(accepted is not None)
        self.draft.setVisible(finding is not None and accepted is None)
        said = f"Accepted: certificate {accepted}." if accepted else ""
        if cut:
            said = "A take that was cut can't be accepted. It is kept; find the cause, then run again."
        self.done.setText(said)
        self.done.setVisible(bool(said))
        self.cut.setText(cut or "")
        self.cut.setVisible(cut is not None)
        self.state.choose(plan.as_state, quiet=True)
        if finding is None:
            self.glyph.set("outside")
            self.word.setText("cut" if cut else "nothing read")
            self.value.setText("")
            self.beside.setText("" if cut else "The take holds no complete point.")
            self.margins.show_rows([])
            self.notes.setText("")
            self.struck.hide()
            return
        self.glyph.set("outside" if cut else finding.verdict)
        self.word.setText("cut" if cut else theme.VERDICT_WORDS[finding.verdict])
        self.box.setVisible(accepted is None and cut is None)
        self.reason.setVisible(not finding.complete)
        if cut is None and not finding.complete:
            self.cut.setText(lacking(finding))
            self.cut.setVisible(True)
        reading = finding.reading("sensitivity")
        if reading.value is not None and reading.uncertainty:
            self.value.setText(
                f"{round_to_doubt(reading.value, reading.uncertainty)} ±"
                f" {round_to_doubt(reading.uncertainty, reading.uncertainty)} {reading.unit}"
            )
        else:
            self.value.setText("no valid sensitivity")
        at = f"at {finding.detail['reference_frequency']:g} Hz" if finding.detail else ""
        self.beside.setText("\n".join(t for t in (at, last) if t))
        rows = [reading_row(r) for r in finding.readings if r.key != "sensitivity"]
        self.margins.show_rows([*corridor_rows(finding), *rows])
        faults = [p for p in (finding.detail or {}).get("points", []) if p["fault"]]
        self.notes.setText("\n".join(f"{p['frequency']:g} Hz struck: {p['fault']}." for p in faults[:5]))
        self.struck.setVisible(bool(faults))
        self.go.setEnabled(reading.value is not None)
