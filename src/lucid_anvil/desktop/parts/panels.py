"""Margins and guards: how much of each allowance is used, with its doubt, and the room that guards have left."""

from __future__ import annotations

import math
from typing import Any

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter, QResizeEvent
from PyQt6.QtWidgets import QHBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from ...contracts.finding import Finding, Reading
from ...core.figures import fitting
from ...core.quantities import round_to_doubt
from ...protocol.messages import Board, Room
from . import theme
from .widgets import Bar, Verdict, label, section, small_text

Row = tuple[str, str, float | None, float, str, str]
"""Name, figure, share used of its allowance, doubt of that, verdict, and a word on it"""


class Margin(QWidget):
    """One margin: label, figure, bar with the doubt as a whisker, and a word when it can't be told."""

    def __init__(self) -> None:
        super().__init__()
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 3, 0, 4)
        layout.setSpacing(1)
        row = QHBoxLayout()
        row.setSpacing(7)
        self.glyph = Verdict()
        self.name = label("", "small", wrap=True)
        self.figure = label("", "muted")
        row.addWidget(self.glyph, 0, Qt.AlignmentFlag.AlignTop)
        row.addWidget(self.name, 1)
        row.addWidget(self.figure, 0, Qt.AlignmentFlag.AlignTop)
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
        held = self.layout()
        if held is not None:
            held.activate()  # at once: a figure that grew must not be cut off until the next turn of the event loop


class Margins(QWidget):
    """A column of margins, kept and refilled."""

    def __init__(self) -> None:
        super().__init__()
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(0)
        self.column.addStretch()
        self.kept: list[Margin] = []
        self.shown: list[Row] = []

    def show_rows(self, rows: list[Row]) -> None:
        self.shown = rows
        while len(self.kept) < len(rows):
            made = Margin()
            self.kept.append(made)
            self.column.insertWidget(len(self.kept) - 1, made)  # before the stretch
        for margin, row in zip(self.kept, rows, strict=False):
            margin.show_it(*row)
        for i, margin in enumerate(self.kept):
            margin.setVisible(i < len(rows))
        self._fit()

    def _fit(self) -> None:
        """Names that take two lines get their height: what a wrapped text needs is known only with its width."""
        for margin in self.kept:
            room = self.width() - margin.figure.sizeHint().width() - (30 if margin.glyph.isVisibleTo(margin) else 8)
            margin.name.setMinimumHeight(0)  # else what once took two lines never takes one again
            margin.name.setFixedHeight(margin.name.heightForWidth(max(room, 40)))

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._fit()


def lacking(finding: Finding) -> str:
    """What a finding that is not complete says of itself."""
    return f"Not complete. Missing: {'; '.join(finding.missing)}."


def share_of(off: float, half: float) -> float:
    """How much of an allowance is used, where it may lie `half` either way; a limit without any width is met or not."""
    return abs(off) / half if half > 0 else 1.0 if off == 0 else 2.0


def reading_row(r: Reading) -> Row:
    """A reading as a margin: how much of its allowance it uses."""
    scale, unit = fitting(r.value or 0.0, r.unit)
    u = None if r.uncertainty is None else r.uncertainty * scale
    value = "–" if r.value is None else round_to_doubt(r.value * scale, u)
    doubt = f" ± {round_to_doubt(u, u)}" if u else ""
    figure = f"{value}{doubt} {unit}"
    word = r.reason or ""
    used, whisker = None, 0.0
    if r.value is not None and (r.low is not None or r.high is not None):
        if r.low is not None and r.high is not None:
            middle, half = (r.low + r.high) / 2, (r.high - r.low) / 2
            used, whisker = share_of(r.value - middle, half), (r.uncertainty or 0.0) / half if half > 0 else 0.0
        elif r.high is not None:
            half = abs(r.high) or 1.0
            used, whisker = share_of(r.value, half), (r.uncertainty or 0.0) / half
        elif r.low:
            # The more it is above its least, the less of what there is is used.
            used = r.low / r.value if r.low > 0 and r.value > 0 else share_of(r.value, abs(r.low))
            whisker = used * (r.uncertainty or 0.0) / abs(r.value) if r.value else 0.0
        if r.verdict == "open" and not word:
            word = "can't be told apart from the limit"
    return r.label, figure, used, whisker, r.verdict, word


def corridor_rows(finding: Finding) -> list[Row]:
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
        share, wide = share_of(y - (high + low) / 2, half), doubt / half if half > 0 else 0.0
        used.append((share, wide))
        said = "inside" if share + wide <= 1 else "outside" if share - wide > 1 else "open"
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
        self.setToolTip(f"{room.label}: {room.action} at the limit; F1 explains it")
        self.setProperty("help", f"guards.md#{room.label}")
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
    if room.key == "abort":
        if room.limit is None or room.value <= 0 or not 0 < room.limit < 1e29:
            return "armed", 1.0
        db = abs(20 * math.log10(room.limit / room.value))
        return f"{db:.1f} dB", 1 - min(room.used, 1.0)
    if room.key in ("overload", "control_lost", "supply", "interlock", "instrument"):
        return ("armed" if room.used < 1 else "tripped"), 1.0
    if room.key == "disk":
        return f"{room.value / 1e9:.0f} GB", 1.0 if room.used < 1 else 0.0
    left = (room.limit or 0.0) - room.value
    if room.key.split("_")[0] in ("force", "length"):
        left = (room.limit or 0.0) - abs(room.value)  # either way counts
        return (f"{left / 1e3:.1f} kN" if room.unit == "N" else f"{1e3 * left:.1f} mm"), 1 - room.used
    if room.key == "stroke":
        return f"{1e3 * left:.1f} mm", 1 - room.used
    if room.unit == "m":
        return f"{1e3 * left:.2f} mm", 1 - room.used
    digits = 1 if (room.limit or 0.0) >= 2 else 2
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

    def show_board(self, board: Board, rows: list[Row], head: str) -> None:
        while len(self.guards) < len(board.rooms):
            row = GuardRow()
            self.guards.append(row)
            self.rows.addWidget(row)
        for row, room in zip(self.guards, board.rooms, strict=False):
            row.show_room(room)
        # Another bench may have fewer: none of its predecessor's may stand there as armed.
        for i, row in enumerate(self.guards):
            row.setVisible(i < len(board.rooms))
        self.at.setText(head)
        self.margins.show_rows(rows)


def head_of_points(board: Board) -> str:
    """Which point the margins are of."""
    return f"at {board.points[-1]['frequency']:g} Hz" if board.points else "first point coming"


def small(value: float, least: float = 0.01) -> str:
    """Percent, to no more digits than anybody needs."""
    return f"< {least:g} %" if value < least else f"{value:.2g} %"


def live_rows(board: Board, corridor: Any) -> list[Row]:
    """Margins of the newest point: deviation, spread, distortion, transverse motion."""
    if not board.points:
        return []
    point = board.points[-1]
    if point.get("fault"):
        return [("Struck", "", None, 0.0, "open", point["fault"])]
    rows: list[Row] = []
    base = board.points[0].get("sensitivity")
    if base and len(board.points) > 1 and "sensitivity" in point:
        d, u = 100 * (point["sensitivity"] / base - 1), point["uncertainty"]
        low, high = corridor(point["frequency"])
        if low is not None and high is not None:
            half = (high - low) / 2
            used, wide = share_of(d - (high + low) / 2, half), u / half if half > 0 else 0.0
            said = "inside" if used + wide <= 1 else "outside" if used - wide > 1 else "open"
            rows.append(("Deviation", f"{round_to_doubt(d, u)} ± {u:.2g} %", used, wide, said, ""))
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
