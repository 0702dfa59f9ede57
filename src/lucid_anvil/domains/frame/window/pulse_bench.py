"""The Bench of a specimen that is pulsed: the trend that grows, and beneath it what each cycle shows, as measured and
as calculated."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QVBoxLayout, QWidget

from ....core.errors import BadInput
from ....desktop.bench.plain_bench import PlainBench, PlainStage
from ....desktop.parts import theme
from ....desktop.parts.forms import Field, Sheet
from ....desktop.parts.widgets import small_text
from ....engine.evaluating import material
from ....engine.preparing import Prepared
from ....formats import read
from ....formats.files import ENDINGS
from ....lab.editing import put
from ....lab.exporting import Row
from ....lab.takes import Take
from ....protocol.messages import Board, Room
from ..one_pulse import Pulses, pulses_of
from ..pulse_shapes import course_of
from .pictures import PictureChoice
from .pulse_view import PulseView
from .shape_pictures import SHAPES

if TYPE_CHECKING:
    from ....desktop.bench.place import BenchPlace

HIGH, HEAD = 22, 38
STEP, UNIT = 56, 40
"""Pixels between figures, and of their unit"""
CRITICAL = 0.9
"""Share of its limit from which on a channel is marked"""
COLUMNS = ("max", "min", "swing")


def four(value: float | None) -> str:
    """Four digits, three below one: more a live cycle does not deserve."""
    return "–" if value is None else f"{value:.4g}" if abs(value) >= 1 else f"{value:.3g}"


class CycleTable(QWidget):
    """Rows of a name, three figures and their unit; behind each name what it is computed by, or at its end a bar of how
    much of its limit is used."""

    def __init__(self, title: str, bar: int = 0) -> None:
        """`bar`: pixels that bars of limits take."""
        super().__init__()
        self.title, self.bar = title, bar
        self.rows: list[tuple[str, str, Sequence[float | None], str, float | None]] = []
        self.setMinimumWidth(340)
        self.show_rows([])

    def show_rows(self, rows: Sequence[tuple[str, str, Sequence[float | None], str, float | None]]) -> None:
        """Each a name, its formula, three figures, their unit, and the share of its limit that is used."""
        self.rows = list(rows)
        self.setFixedHeight(HEAD + HIGH * max(len(self.rows), 1) + 6)
        told = "; ".join(f"{n} {' '.join(map(four, v))} {u}" for n, _, v, u, _ in self.rows)
        self.setAccessibleName(f"{self.title}: {told}" if told else f"{self.title}: no cycle yet")
        self.setToolTip("\n".join(f"{n} = {f}" for n, f, *_ in self.rows if f))
        self.update()

    def as_table(self) -> list[Row]:
        """For the clipboard."""
        if not self.rows:
            return []
        head: Row = [self.title, "formula", *COLUMNS, "unit", "of its limit"]
        return [head, *([n, f, *v, u, used] for n, f, v, u, used in self.rows)]

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        units = self.width() - self.bar - UNIT
        ends = [units - STEP * k - 8 for k in (2, 1, 0)]
        small_text(painter, 4, 18, self.title, theme.color("ink"), 10.5, 600)
        if any(v is not None for _, _, values, _, _ in self.rows for v in values[:2]):
            for word, x in zip(COLUMNS, ends, strict=True):
                small_text(painter, x, 18, word, theme.color("muted"), 8.5, right=True)
        if not self.rows:
            small_text(painter, 4, HEAD + 4, "No whole cycle yet", theme.color("muted"), 9.5)
        for i, (name, formula, values, unit, used) in enumerate(self.rows):
            y = HEAD + HIGH * i + 4
            critical = used is not None and used >= CRITICAL
            ink = theme.color("clay" if critical else "ink")
            small_text(painter, 4, y, name, ink, 10.5, 600)
            at = 12 + painter.fontMetrics().horizontalAdvance(name)
            # One figure a cycle leaves the room of the others to its formula.
            first = next((x for v, x in zip(values, ends, strict=True) if v is not None), ends[2])
            painter.setFont(theme.font(8.5))
            room = int(first - STEP + 10 - at)
            if formula and room > 20:
                text = painter.fontMetrics().elidedText(f"= {formula}", Qt.TextElideMode.ElideRight, room)
                small_text(painter, at, y, text, theme.color("muted"), 8.5)
            for value, x in zip(values, ends, strict=True):
                if value is not None:
                    small_text(painter, x, y, four(value), ink, 11, 500, right=True)
            small_text(painter, units, y, unit, theme.color("muted"), 9)
            if used is not None and self.bar:
                self._bar(painter, QRectF(self.width() - self.bar, y - 9, self.bar - 6, 8), used)

    @staticmethod
    def _bar(painter: QPainter, box: QRectF, used: float) -> None:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.color("line"))
        painter.drawRoundedRect(box, 3, 3)
        painter.setBrush(theme.color("clay" if used >= CRITICAL else "teal"))
        share = min(max(used, 0.0), 1.0)
        painter.drawRoundedRect(QRectF(box.x(), box.y(), max(box.width() * share, 2.0), box.height()), 3, 3)


class PulseStage(PlainStage):
    """Curves above, two tables of the newest cycle beneath while it runs."""

    def __init__(self) -> None:
        super().__init__()
        self.measured, self.computed = CycleTable("As measured", 50), CycleTable("As calculated")
        layout = self.charts.parentWidget().layout()  # type: ignore[union-attr]
        assert isinstance(layout, QVBoxLayout)
        self.tables = QWidget()
        row = QHBoxLayout(self.tables)
        row.setContentsMargins(0, 4, 0, 0)
        row.setSpacing(18)
        for table, share in ((self.measured, 1), (self.computed, 1)):
            row.addWidget(table, share, Qt.AlignmentFlag.AlignTop)
        layout.addWidget(self.tables)
        self.tables.hide()
        self.shapes = PictureChoice("Shape of a pulse", SHAPES, len(SHAPES))
        self.shapes.setMaximumWidth(520)
        layout.insertWidget(layout.indexOf(self.charts), self.shapes)
        self.one = PulseView()
        self.charts.addWidget(self.one)
        self.own = [("one", "One pulse", self.one)]

    def show_prepared(self, prepared: Prepared, editable: bool) -> None:
        super().show_prepared(prepared, editable)
        self.tables.hide()
        self.measured.show_rows([])
        self.computed.show_rows([])
        self.one.show_pulses(None)
        self.shapes.setVisible(editable)
        self.shapes.show_choice(prepared.settings.pulse.shape, editable, again=("points",))

    def repaint_charts(self) -> None:
        super().repaint_charts()
        self.one.chart.apply_theme()

    def show_board(self, board: Board) -> None:
        super().show_board(board)
        live = board.live or {}
        if board.state != "running" or "measured" not in live:
            return
        self.tables.show()
        self.measured.show_rows([(n.capitalize(), "", v, u, used_of(board.rooms, n, v, scale))
                                 for n, v, u, scale in live["measured"]])  # fmt: skip
        self.computed.show_rows([(n, f, v, u, None) for n, f, v, u in live["computed"]])


def used_of(rooms: Sequence[Room], role: str, values: Sequence[float | None], scale: float) -> float | None:
    """The share of its limit that a channel's cycle used, from the guard that watches it; None where none does.
    `scale`: of its figures in SI units."""
    named = [r for r in rooms if r.key in (role, f"force_{role}", f"length_{role}") and r.limit]
    if not named:
        return None
    most = max((abs(v) for v in values[:2] if v is not None), default=0.0)
    return max(most * scale / float(r.limit) for r in named if r.limit)


def kept(take: Take) -> Pulses:
    """The pulses that a take holds."""
    _, record, settings, marks = material(take)
    return pulses_of(record, settings, marks)


class PulseBench(PlainBench):
    """What the Bench shows and does for a plan of pulses."""

    name = "pulses"

    def __init__(self, bench: BenchPlace) -> None:
        super().__init__(bench)
        self.stage: PulseStage = PulseStage()
        self.stage.typed.returnPressed.connect(self.go)
        self.stage.shapes.chosen.connect(self.choose_shape)

    @property
    def here(self) -> bool:
        prepared = self.bench.prepared
        return prepared is not None and prepared.method.name == "cyclic"

    def choose_shape(self, key: str) -> None:
        """Into the plan; a course that was measured out of the file of its record."""
        if key != "points":
            self._shape(key, [])
            return
        kinds = " ".join(f"*{e}" for e in ENDINGS)
        place, _ = QFileDialog.getOpenFileName(self.bench, "A pulse that was measured", "", f"Records ({kinds})")
        if place:
            self.take_course(Path(place))

    def take_course(self, place: Path) -> None:
        """Out of a record; of several channels a person says which."""
        try:
            record = read(place, logs=True)
        except BadInput as problem:
            self.bench.said.emit(str(problem))
            return

        def take(label: str) -> None:
            channel = record.channel(label)
            course = course_of(channel.samples(), channel.rate)
            self._shape("points", [list(p) for p in course.points])
            self.bench.said.emit(f"{place.name}, {label}: one pulse of {course.points[-1][0]:.4g} s in"
                                 f" {len(course.points)} points; lines between them miss {100 * course.off:.2g} % of"
                                 " its height. How fast and how high it is played the settings say.")  # fmt: skip

        if len(record.channels) == 1:
            try:
                take(record.labels[0])
            except BadInput as problem:
                self.bench.said.emit(f"{place.name}: {problem}")
            return
        fields = [Field("channel", "Channel", choices=record.labels)]
        asked = "Which channel is the load?"
        Sheet(self.bench, asked, place.name, fields, "Take it", lambda v: take(v["channel"])).open()

    def _shape(self, key: str, points: list[list[float]]) -> None:
        place = self.bench.plan_file
        if place is None:
            return

        def change() -> None:
            put(place, ("pulse", "shape"), key)
            put(place, ("pulse", "points"), points)

        self.bench.editing.change(place, change, self.bench.said.emit)

    def show_done(self, take: Any, status: str, reason: str | None) -> None:
        super().show_done(take, status, reason)
        self.stage.tables.hide()
        bench = self.bench
        if bench.finding is not None:
            bench.aside.run("pulses", lambda: kept(take), self.stage.one.show_pulses)
