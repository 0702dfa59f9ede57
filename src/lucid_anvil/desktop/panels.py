"""The right-hand side of the Bench: walk-round, margins and guards, result and acceptance."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QCheckBox, QHBoxLayout, QLineEdit, QScrollArea, QVBoxLayout, QWidget

from ..core.quantities import round_to_doubt
from ..lab.findings import Finding, Reading
from ..lab.plans import Plan
from ..protocol.messages import Board, CheckState, Room
from . import theme
from .widgets import Bar, Elided, Tabs, Verdict, button, clear, label, section, small_text


class CheckRow(QWidget):
    """One check: a mark, what it is, and what was seen or why it is not done."""

    clicked = pyqtSignal(str)

    def __init__(self, state: CheckState, number: int) -> None:
        super().__init__()
        self.state, self.number = state, number
        self.setFixedHeight(49)
        self.can_sign = state.kind == "signed" and not state.done
        if self.can_sign:
            self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setToolTip(f"{state.text}: {state.why}")
        self.setAccessibleName(f"{state.text}: {'done' if state.done else 'not done'}, {state.why}")

    def mousePressEvent(self, _event: QMouseEvent | None) -> None:
        if self.can_sign:
            self.clicked.emit(self.state.key)

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        s = self.state
        mark = QRectF(1, 6, 18, 18)
        role = "teal" if s.done else "brass" if s.kind == "signed" else "clay"
        painter.setPen(QPen(theme.color(role), 1.6))
        painter.setBrush(theme.color(role) if s.done else Qt.BrushStyle.NoBrush)
        if s.kind == "signed":
            painter.drawRoundedRect(mark, 3, 3)
        else:
            painter.drawEllipse(mark)
        if s.done:
            painter.setPen(QPen(theme.color("card"), 2, cap=Qt.PenCapStyle.RoundCap))
            painter.drawLine(5, 15, 9, 19)
            painter.drawLine(9, 19, 15, 11)
        else:
            small_text(painter, 7 if self.number < 10 else 4, 19, str(self.number), theme.color(role), 8.5, 600)
        width = self.width() - 28
        painter.setFont(theme.font(9.5, 500))
        text = painter.fontMetrics().elidedText(s.text, Qt.TextElideMode.ElideRight, width)
        small_text(painter, 28, 18, text, theme.color("ink"), 9.5, 500)
        painter.setFont(theme.font(8.5))
        why = painter.fontMetrics().elidedText(s.why, Qt.TextElideMode.ElideRight, width)
        small_text(painter, 28, 34, why, theme.color("muted" if s.done else role), 8.5)


class WalkRoundPanel(QWidget):
    """The checks in their order; Begin stays shut until all are done."""

    sign = pyqtSignal(str, str)
    begin = pyqtSignal()

    def __init__(self, initials: str) -> None:
        super().__init__()
        self.layout_ = QVBoxLayout(self)
        self.layout_.setContentsMargins(0, 0, 0, 0)
        self.layout_.setSpacing(4)
        head = QHBoxLayout()
        head.addWidget(section("Walk-round"))
        head.addStretch()
        self.count = label("", "muted")
        head.addWidget(self.count)
        self.layout_.addLayout(head)
        who = QHBoxLayout()
        who.addWidget(label("Signed by", "muted"))
        self.initials = QLineEdit(initials)
        self.initials.setMaximumWidth(70)
        self.initials.setToolTip("Your initials; they stand beside what you sign")
        who.addWidget(self.initials)
        who.addStretch()
        self.layout_.addLayout(who)
        self.rows = QVBoxLayout()
        self.rows.setSpacing(0)
        self.layout_.addLayout(self.rows)
        self.layout_.addStretch()
        self.why = label("", "muted", wrap=True)
        self.layout_.addWidget(self.why)
        self.go = button("Begin", "main")
        self.go.setMinimumHeight(42)
        self.go.clicked.connect(self.begin)
        self.layout_.addWidget(self.go)
        self.shown: list[CheckState] = []
        self.go.setEnabled(False)

    def show_checks(self, checks: list[CheckState], state: str) -> None:
        """Redraw only what changed, so that a click is never lost."""
        if checks != self.shown:
            clear(self.rows)
            for i, check in enumerate(checks, start=1):
                row = CheckRow(check, i)
                row.clicked.connect(self._sign)
                self.rows.addWidget(row)
            self.shown = checks
        missing = [c for c in checks if not c.done]
        self.count.setText(f"{len(checks) - len(missing)} of {len(checks)}")
        ready = bool(checks) and not missing and state == "walk-round"
        self.go.setEnabled(ready)
        if state in ("starting", ""):
            self.why.setText("Waiting for the devices.")
        elif state == "preparing":
            self.why.setText("Preparing the take.")
        elif missing:
            self.why.setText(f"Begin opens when all are done. Next: {missing[0].text[0].lower()}{missing[0].text[1:]}.")
        else:
            self.why.setText("All done. The drive comes up slowly; F12 brings it down.")

    def _sign(self, key: str) -> None:
        by = self.initials.text().strip()
        if not by:
            self.initials.setFocus()
            self.why.setText("Write your initials first.")
            return
        self.sign.emit(key, by)


class Margin(QWidget):
    """One margin: label, figure, bar with the doubt as a whisker, and a word when it can't be told."""

    def __init__(self) -> None:
        super().__init__()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 3, 0, 4)
        layout.setSpacing(1)
        row = QHBoxLayout()
        self.glyph = Verdict()
        self.name = Elided("", "small")
        self.figure = label("", "muted")
        row.addWidget(self.glyph)
        row.addWidget(self.name, 1)
        row.addWidget(self.figure)
        layout.addLayout(row)
        self.bar = Bar(7)
        layout.addWidget(self.bar)
        self.word = label("", "muted", wrap=True)
        self.word.hide()
        layout.addWidget(self.word)

    def show_it(self, name: str, figure: str, used: float | None, doubt: float, verdict: str, word: str = "") -> None:
        self.name.setText(name)
        self.figure.setText(figure)
        self.glyph.set(verdict)
        self.glyph.setVisible(verdict != "plain")
        self.bar.setVisible(used is not None)
        role = {"inside": "teal", "outside": "clay", "open": "plum"}.get(verdict, "teal")
        if used is not None:
            self.bar.set(used, role, doubt)
        self.word.setText(word)
        self.word.setVisible(bool(word))


class Margins(QWidget):
    """A column of margins, kept and refilled."""

    def __init__(self) -> None:
        super().__init__()
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(0)
        self.kept: list[Margin] = []

    def show_rows(self, rows: list[tuple[str, str, float | None, float, str, str]]) -> None:
        while len(self.kept) < len(rows):
            made = Margin()
            self.kept.append(made)
            self.column.addWidget(made)
        for margin, row in zip(self.kept, rows, strict=False):
            margin.show_it(*row)
        for i, margin in enumerate(self.kept):
            margin.setVisible(i < len(rows))


def reading_row(r: Reading) -> tuple[str, str, float | None, float, str, str]:
    """A reading as a margin: how much of its allowance it uses."""
    value = "–" if r.value is None else round_to_doubt(r.value, r.uncertainty)
    doubt = f" ± {round_to_doubt(r.uncertainty, r.uncertainty)}" if r.uncertainty else ""
    figure = f"{value}{doubt} {r.unit}"
    word = r.reason or ""
    used, whisker = None, 0.0
    if r.value is not None and (r.low is not None or r.high is not None):
        if r.low is not None and r.high is not None:
            middle, half = (r.low + r.high) / 2, (r.high - r.low) / 2
        else:
            bound = r.high if r.high is not None else r.low or 0.0
            middle, half = 0.0, abs(bound) or 1.0
        used, whisker = abs(r.value - middle) / half, (r.uncertainty or 0.0) / half
        if r.verdict == "open" and not word:
            word = "can't be told apart from the limit"
    return r.label, figure, used, whisker, r.verdict, word


def corridor_rows(finding: Finding) -> list[tuple[str, str, float | None, float, str, str]]:
    """The deviation curve against its corridor: the point that uses most of it."""
    c = finding.curve("deviation")
    if c.low is None or c.high is None:
        return []
    used, inside, worst = [], 0, "inside"
    for y, u, low, high in zip(c.y, c.uncertainty or [0.0] * len(c.x), c.low, c.high, strict=True):
        if y is None or low is None or high is None:
            worst = "open" if worst == "inside" else worst
            continue
        half, doubt = (high - low) / 2, (u or 0.0)
        share = abs(y - (high + low) / 2) / half
        used.append((share, doubt / half))
        said = "inside" if share + doubt / half <= 1 else "outside" if share - doubt / half > 1 else "open"
        inside += said == "inside"
        worst = "outside" if "outside" in (said, worst) else "open" if "open" in (said, worst) else worst
    if not used:
        return []
    most = max(used)
    return [("Points in the corridor", f"{inside} of {len(c.x)}", most[0], most[1], worst, "")]


class GuardRow(QWidget):
    """One guard and the room it has left."""

    def __init__(self) -> None:
        super().__init__()
        self.room: Room | None = None
        self.setFixedHeight(32)

    def show_room(self, room: Room) -> None:
        self.room = room
        self.setToolTip(f"{room.label}: {room.action} at the limit")
        self.update()

    def paintEvent(self, _event: object) -> None:
        if self.room is None:
            return
        painter = QPainter(self)
        room = self.room
        small_text(painter, 0, 15, room.label, theme.color("ink"), 9.5)
        text, share = room_text(room)
        role = "clay" if room.used >= 1 else "brass" if room.used > 0.85 else "teal"
        small_text(painter, self.width(), 15, text, theme.color("clay" if room.used >= 1 else "ink"), 9.5, 600, True)
        bar = QRectF(0, 22, self.width(), 3)
        painter.fillRect(bar, theme.color("sand"))
        painter.fillRect(QRectF(0, 22, self.width() * min(max(share, 0), 1), 3), theme.color(role))


def room_text(room: Room) -> tuple[str, float]:
    """The room left in words, and as a share of the bar."""
    if room.key in ("overload", "control_lost", "supply"):
        return ("armed" if room.used < 1 else "tripped"), 1.0
    if room.key == "disk":
        return f"{room.value / 1e9:.0f} GB", 1.0 if room.used < 1 else 0.0
    left = room.limit - room.value
    if room.key == "stroke":
        return f"{1e3 * left:.1f} mm", 1 - room.used
    digits = 1 if room.limit >= 2 else 2
    return f"{left:.{digits}f} {room.unit}", 1 - room.used


class RunPanel(QWidget):
    """While it runs: the point being measured against its allowances, and the guards."""

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(3)
        head = QHBoxLayout()
        head.addWidget(section("Margins"))
        head.addStretch()
        self.at = label("", "muted")
        head.addWidget(self.at)
        column.addLayout(head)
        self.margins = Margins()
        column.addWidget(self.margins)
        column.addSpacing(6)
        head = QHBoxLayout()
        head.addWidget(section("Guards"))
        head.addStretch()
        head.addWidget(label("room left", "muted"))
        column.addLayout(head)
        self.guards: list[GuardRow] = []
        self.rows = QVBoxLayout()
        self.rows.setSpacing(0)
        column.addLayout(self.rows)
        column.addStretch()

    def show_board(self, board: Board, corridor: Any) -> None:
        while len(self.guards) < len(board.rooms):
            row = GuardRow()
            self.guards.append(row)
            self.rows.addWidget(row)
        for row, room in zip(self.guards, board.rooms, strict=False):
            row.show_room(room)
        point = board.points[-1] if board.points else None
        self.at.setText(f"at {point['frequency']:g} Hz" if point else "first point coming")
        self.margins.show_rows(live_rows(board, corridor))


def small(value: float, least: float = 0.01) -> str:
    """Percent, to no more digits than anybody needs."""
    return f"< {least:g} %" if value < least else f"{value:.2g} %"


def live_rows(board: Board, corridor: Any) -> list[tuple[str, str, float | None, float, str, str]]:
    """Margins of the newest point: deviation, spread, distortion, transverse motion."""
    if not board.points:
        return []
    point = board.points[-1]
    if point.get("fault"):
        return [("Struck", "", None, 0.0, "open", point["fault"])]
    rows: list[tuple[str, str, float | None, float, str, str]] = []
    base = board.points[0].get("sensitivity")
    if base and len(board.points) > 1 and "sensitivity" in point:
        d, u = 100 * (point["sensitivity"] / base - 1), point["uncertainty"]
        low, high = corridor(point["frequency"])
        if low is not None and high is not None:
            half = (high - low) / 2
            used = abs(d - (high + low) / 2) / half
            said = "inside" if used + u / half <= 1 else "outside" if used - u / half > 1 else "open"
            rows.append(("Deviation", f"{round_to_doubt(d, u)} ± {u:.2g} %", used, u / half, said, ""))
    for name, value in (("Distortion, unit", point["distortion"][1]), ("Distortion, motion", point["distortion"][0])):
        rows.append((name, f"{small(value)} of ≤ 5", value / 5, 0.0, "inside" if value < 5 else "outside", ""))
    sideways = point.get("transverse")
    if sideways is not None:
        said = "inside" if sideways < 10 else "open"
        rows.append(("Transverse motion", f"{small(sideways)} of ≤ 10", sideways / 10, 0.0, said, ""))
    spread = point["spread"]
    said = "open" if point.get("unsteady") else "inside"
    word = "the repeats did not settle down" if point.get("unsteady") else ""
    rows.append(("Spread of repeats", f"{small(spread, 0.001)} of ≤ 0.02", spread / 0.02, 0.0, said, word))
    return rows


class ResultPanel(QWidget):
    """After the run: the reading beside the last calibration and the nominal, verdicts, and what to do next."""

    accept = pyqtSignal(str, str, bool)
    """as state, initials, due date wanted"""
    again = pyqtSignal()
    struck_again = pyqtSignal()
    certificate = pyqtSignal()

    def __init__(self, initials: str) -> None:
        super().__init__()
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        inner = QWidget()
        inner.setObjectName("clear")
        column = QVBoxLayout(inner)
        column.setContentsMargins(0, 0, 4, 0)
        column.setSpacing(4)
        scroll.setWidget(inner)
        outer.addWidget(scroll)
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
        self.go = button("Accept into the ledger", "main")
        self.go.clicked.connect(self._accept)
        accept.addWidget(self.go)
        column.addWidget(self.box)
        self.done = label("", "small", wrap=True)
        column.addWidget(self.done)
        self.paper = button("Open certificate", "main")
        self.paper.clicked.connect(self.certificate)
        column.addWidget(self.paper)
        self.rerun = button(
            "Run again", tip="A new take of the same plan; after an adjustment it gives the as-left values"
        )
        self.rerun.clicked.connect(self.again)
        column.addWidget(self.rerun)

    def _accept(self) -> None:
        if not self.initials.text().strip():
            self.initials.setFocus()
            return
        self.accept.emit(self.state.now, self.initials.text().strip(), self.due.isChecked())

    def show_finding(
        self, finding: Finding | None, plan: Plan, last: str, accepted: str | None, cut: str | None
    ) -> None:
        """`last`: how it stands to the last calibration; `accepted`: certificate number; `cut`: why it was cut."""
        self.box.setVisible(finding is not None and accepted is None)
        self.paper.setVisible(accepted is not None)
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
