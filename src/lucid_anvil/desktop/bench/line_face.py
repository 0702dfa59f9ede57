"""The face for a line: one part after the other, one large word, nothing to set.

A part's serial is typed or scanned and Enter begins; the same plan is made for that unit, its walk-round signed by
whoever signed for the shift, run, read and judged. What is not inside is named. The next part may be put on meanwhile.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QEvent, QObject, QRectF, Qt, QTimer
from PyQt6.QtGui import QColor, QKeyEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from ...contracts.finding import Finding, Reading
from ...core.errors import BadInput
from ...core.figures import figure, limit_text
from ...lab import patterns
from ...lab.takes import Take
from ...lab.textfiles import load_yaml
from ..parts import theme
from ..parts.forms import Field, Sheet
from ..parts.widgets import button, label

if TYPE_CHECKING:
    from .place import BenchPlace

LOOK = 60
"""ms between two looks at what became of a part"""
MOST = 5
"""readings that are named at most"""
WORDS = {"inside": ("Good", "teal"), "outside": ("Fault", "clay"), "open": ("Can't be told", "brass"),
         "none": ("Not judged", "muted"), "cut": ("Stopped", "clay"), "wait": ("", "muted")}  # fmt: skip


def named(finding: Finding) -> list[str]:
    """What is not inside, worst first in the finding's order, with its limit."""

    def said(r: Reading) -> str:
        if r.value is None:
            return f"{r.label}: {r.reason or 'not read'}"
        shown = f"{r.value:g} {r.unit}".strip() if r.uncertainty == 0 else figure(r.value, r.uncertainty, r.unit)
        wanted = f"{r.low:g}" if r.low is not None and r.low == r.high else limit_text(r.low, r.high, r.unit)
        return f"{r.label}: {shown}, wanted {wanted}".replace("-", "−")

    made = [said(r) for r in finding.readings if r.verdict in ("outside", "open")]
    made += [c.label for c in finding.curves if c.low is not None and finding.verdict != "inside" and beyond(c)]
    return made[:MOST] + ([f"and {len(made) - MOST} more"] if len(made) > MOST else [])


def beyond(curve: object) -> bool:
    """Whether a curve leaves its limits."""
    low, high, y = (getattr(curve, k) for k in ("low", "high", "y"))
    return any(
        v is not None and ((a is not None and v < a) or (b is not None and v > b))
        for v, a, b in zip(y, low, high, strict=False)
    )


class Big(QWidget):
    """One word, as large as there is room."""

    def __init__(self) -> None:
        super().__init__()
        self.word, self.ink = "", "muted"
        self.setMinimumHeight(180)

    def show_word(self, word: str, ink: str) -> None:
        self.word, self.ink = word, ink
        self.setAccessibleName(word)
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        strong = self.ink in ("teal", "clay")
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.color(self.ink) if strong else theme.color("sand", 140))
        painter.drawRoundedRect(box, 8, 8)
        painter.setPen(QColor("white") if strong else theme.color("ink"))
        size = 20.0
        while size < 110:
            painter.setFont(theme.font(size + 4, 650))
            m = painter.fontMetrics()
            if m.horizontalAdvance(self.word) > box.width() - 80 or m.height() > box.height() - 40:
                break
            size += 4
        painter.setFont(theme.font(size, 650))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, self.word)


class LineFace(QWidget):
    """Over the whole Bench. Esc, or its key, leaves it; F12 stops what runs, as everywhere."""

    def __init__(self, bench: BenchPlace, plan: Path, by: str) -> None:
        super().__init__(bench)
        self.bench, self.plan, self.by = bench, plan, by
        self.count: Counter[str] = Counter()
        self.serial = ""
        self.under_way = False
        self.begun = False
        self.setObjectName("line")
        self.setAutoFillBackground(True)
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setStyleSheet(f"#line {{ background: {theme.color('ground').name()}; }}")
        column = QVBoxLayout(self)
        column.setContentsMargins(36, 26, 36, 26)
        column.setSpacing(14)
        head = QHBoxLayout()
        self.title = label("", "title")
        head.addWidget(self.title)
        head.addStretch()
        self.tally = label("", "title")
        head.addWidget(self.tally)
        column.addLayout(head)
        self.big = Big()
        column.addWidget(self.big, 3)
        self.why = label("", "", wrap=True)
        self.why.setStyleSheet("font-size: 24px;")
        self.why.setMinimumHeight(120)
        self.why.setAlignment(Qt.AlignmentFlag.AlignTop)
        column.addWidget(self.why, 1)
        foot = QHBoxLayout()
        self.line = QLineEdit()
        self.line.setStyleSheet("font-size: 22px;")
        self.line.setMinimumHeight(52)
        self.line.setPlaceholderText("Serial of the next part: type or scan it, then Enter")
        self.line.setAccessibleName("serial of the next part")
        self.line.returnPressed.connect(self.next_part)
        foot.addWidget(self.line, 1)
        leave = button("Leave  Esc")
        leave.setMinimumHeight(52)
        leave.clicked.connect(self.leave)
        foot.addWidget(leave)
        column.addLayout(foot)
        self.timer = QTimer(self)
        self.timer.timeout.connect(self.look)
        self._tell()
        self.show_state("Put the first part on", "muted", "")
        bench.aside.failed.connect(self.could_not)
        bench.installEventFilter(self)
        self.setGeometry(bench.rect())
        self.show()
        self.raise_()
        self.line.setFocus()

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if watched is self.bench and event is not None and event.type() == QEvent.Type.Resize:
            self.setGeometry(self.bench.rect())
        return False

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() == Qt.Key.Key_Escape:
            self.leave()
        else:
            super().keyPressEvent(event)

    def show_state(self, word: str, ink: str, why: str) -> None:
        self.big.show_word(word, ink)
        self.why.setText(why)

    def next_part(self) -> None:
        """The part that is on: its own plan, and off it goes."""
        text = self.line.text().strip()
        if not text or self.under_way:
            return  # what was typed stays, for when the part before it is judged
        try:
            place = patterns.for_unit(self.bench.lab, self.plan, text)
        except BadInput as problem:
            self.show_state("Can't begin", "brass", str(problem))
            return
        self.serial, self.under_way, self.begun = text, True, False
        self.line.clear()
        self.show_state(text, "muted", "")
        self.bench.open_plan(place)
        self.timer.start(LOOK)

    def look(self) -> None:
        """Sign, begin, wait, judge: whichever is due."""
        bench = self.bench
        if bench.aside.open or bench.plan_file is None:
            return
        if bench.state == "walk-round" and not self.begun:
            for check in bench.walk.shown:
                if check.kind == "signed" and not check.done:
                    bench.walk.sign.emit(check.key, self.by)
            if bench.walk.go.isEnabled():
                self.begun = True
                bench.walk.begin.emit()
            elif bench.walk.shown and all(c.done or c.kind == "sensed" for c in bench.walk.shown):
                missing = [f"{c.text}: {c.why}" for c in bench.walk.shown if not c.done]
                self.why.setText("; ".join(missing) or bench.walk.why.text())
        elif bench.state == "failed":
            latest = bench.link.latest
            self._judged("cut", (latest.message if latest else None) or "The run could not be begun.")
        elif bench.state == "done" and self.begun and bench.take is not None:
            take = Take(bench.take)
            if take.status() != "done":
                self._judged("cut", take.reason() or "The run was stopped.")
            elif bench.finding is None:
                self._judged("cut", "Nothing was read of it.")
            else:
                self._judged(bench.finding.verdict, "\n".join(named(bench.finding)))

    def could_not(self, why: str) -> None:
        """Its plan could not be opened: the part is not judged, and the next may come."""
        if self.under_way and not self.begun:
            self.timer.stop()
            self.under_way = False
            self.show_state("Can't begin", "brass", f"{self.serial}\n{why}")
            self.line.setFocus()

    def _judged(self, verdict: str, why: str) -> None:
        self.timer.stop()
        self.under_way = False
        word, ink = WORDS[verdict]
        self.count[verdict] += 1
        self.show_state(word, ink, f"{self.serial}\n{why}".strip())
        self._tell()
        self.line.setFocus()
        if self.line.text().strip():
            self.next_part()  # it was scanned while this one ran

    def _tell(self) -> None:
        plan = self.plan.parent.name.replace("-", " ").capitalize()
        self.title.setText(f"{plan} · signed for the shift by {self.by}")
        judged = self.count["inside"] + self.count["outside"] + self.count["open"]
        if not judged:
            self.tally.setText("")
            return
        share = 100 * self.count["inside"] / judged
        self.tally.setText(f"{judged} judged · {self.count['inside']} good · yield {share:.0f} %")

    def leave(self) -> None:
        """The Bench again; what runs goes on there."""
        self.timer.stop()
        self.bench.aside.failed.disconnect(self.could_not)
        self.bench.removeEventFilter(self)
        self.bench.line = None
        self.hide()
        self.deleteLater()


def ask_shift(bench: BenchPlace, place: Path) -> None:
    """Who signs for the shift what a person checks; then the face."""
    checks = [str(c.get("text")) for c in load_yaml(place).get("walk_round") or [] if not c.get("sense")]

    def signed(held: Mapping[str, str]) -> None:
        if not held["by"].strip():
            raise BadInput("signed for the shift by: write your initials.")

    sheet = Sheet(
        bench, "One part after the other",
        "Before the first one: " + "; ".join(checks) + "." if checks else "Nothing is to be checked by a person.",
        [Field("by", "Signed for the shift by", bench.lab.facts.operator)], "Begin the shift", signed,
    )  # fmt: skip

    def go() -> None:
        bench.line = LineFace(bench, place, sheet.fields.boxes["by"].text().strip())

    sheet.then(go)
