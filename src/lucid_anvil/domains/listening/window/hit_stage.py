"""The Stage of an impact test: the pulse with its trigger, the answer, every hit, and the response that grows."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QStackedWidget, QVBoxLayout, QWidget

from ....contracts.finding import Finding
from ....core.errors import BadInput
from ....core.quantities import parse
from ....core.signal.mobility import FORMS, form_of, part_of
from ....desktop.parts import theme
from ....desktop.parts.chart import Chart, Handle
from ....desktop.parts.widgets import Elided, Tabs, card, label, small_text
from ....engine.preparing import Prepared
from ....protocol.messages import Board
from ..impact_response import linked

TABS = [("hits", "Hits"), ("magnitude", "Response"), ("phase", "Phase"), ("real", "Real"), ("imaginary", "Imaginary"),
        ("circle", "Nyquist")]  # fmt: skip
PITCH = 30


class LinkedEntries(QWidget):
    """Block length, lines and bandwidth: any two fix the third."""

    changed = pyqtSignal(dict)

    def __init__(self) -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        self.entries = {}
        for key, text, width in (("seconds", "block", 74), ("lines", "lines", 62), ("bandwidth", "to", 84)):
            row.addWidget(label(text, "muted"))
            entry = QLineEdit()
            entry.setFixedWidth(width)
            entry.editingFinished.connect(lambda k=key: self.typed(k))
            row.addWidget(entry)
            self.entries[key] = entry
        row.addWidget(label("before", "muted"))
        self.before = QLineEdit()
        self.before.setFixedWidth(48)
        self.before.setToolTip("Share of the block that stands before the trigger")
        self.before.editingFinished.connect(self._before)
        row.addWidget(self.before)
        self.rate, self.seconds, self.lines, self.bandwidth, self.share = 1.0, 1.0, 1, 1.0, 5.0

    def show_settings(self, block: int, bandwidth: float | None, rate: float, share: float) -> None:
        """`share`: % of the block before the trigger."""
        self.rate, self.share = rate, share
        self.seconds, self.lines, self.bandwidth = linked(rate, block / rate, None, bandwidth or rate / 2.56)
        self._show()

    def _show(self) -> None:
        for key, text in (("seconds", f"{self.seconds:.4g} s"), ("lines", str(self.lines)),
                          ("bandwidth", f"{self.bandwidth:.5g} Hz")):  # fmt: skip
            self.entries[key].setText(text)
            self.entries[key].setToolTip("")
        self.before.setText(f"{self.share:g} %")

    def _before(self) -> None:
        try:
            value = parse(self.before.text(), "%", "before")
            if not 0 <= value < 90:
                raise BadInput("before: it must be from 0 to below 90 %.")
        except BadInput as problem:
            self._show()
            self.refused.emit(str(problem))
            return
        if value != self.share:
            self.share = value
            self._show()
            self.changed.emit({"pretrigger": f"{value:g} %"})

    def typed(self, key: str) -> None:
        """One was typed. A new bandwidth keeps the lines; a new block length or number of lines keeps the bandwidth."""
        text = self.entries[key].text()
        try:
            value = parse(text, {"seconds": "s", "bandwidth": "Hz"}.get(key, "m/m"), key)
            if value == {"seconds": self.seconds, "lines": self.lines, "bandwidth": self.bandwidth}[key]:
                return
            made = {
                "seconds": lambda: linked(self.rate, value, None, self.bandwidth),
                "lines": lambda: linked(self.rate, None, int(value), self.bandwidth),
                "bandwidth": lambda: linked(self.rate, None, self.lines, value),
            }[key]()
        except (BadInput, ZeroDivisionError) as problem:
            self._show()
            self.entries[key].setToolTip(str(problem))
            self.refused.emit(str(problem))
            return
        if abs(made[0] / self.seconds - 1) < 1e-4 and abs(made[2] / self.bandwidth - 1) < 1e-4:
            self._show()
            return
        self.seconds, self.lines, self.bandwidth = made
        self._show()
        self.changed.emit({"block": int(round(self.seconds * self.rate)), "bandwidth": f"{self.bandwidth:.6g} Hz"})

    refused = pyqtSignal(str)


class HitStrip(QWidget):
    """Every hit as a bar of its force; crossed those that were put aside. A click on one of them overrules."""

    clicked = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self.hits: list[dict[str, Any]] = []
        self.wanted = 0
        self.setFixedHeight(64)
        self.setMouseTracking(True)

    def show_hits(self, hits: list[dict[str, Any]], wanted: int) -> None:
        self.hits, self.wanted = hits, wanted
        self.update()

    def box(self, i: int) -> QRectF:
        """Where the hit number `i` of those shown stands."""
        return QRectF(4 + PITCH * i, 4, PITCH - 8, self.height() - 22)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        i = int((event.position().x() - 4) // PITCH)
        if 0 <= i < len(self.hits):
            h = self.hits[i]
            self.setToolTip(h.get("overruled") or h["fault"] or f"good, {h['peak']:.3g} N at {h['t']:.1f} s")

    def mousePressEvent(self, event: QMouseEvent) -> None:
        i = int((event.position().x() - 4) // PITCH)
        if 0 <= i < len(self.hits) and self.hits[i]["fault"] and not self.hits[i].get("overruled"):
            self.clicked.emit(int(self.hits[i]["number"]))

    def paintEvent(self, _event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        usual = float(np.median([h["peak"] for h in self.hits])) if self.hits else 1.0
        for i, h in enumerate(self.hits[-40:]):
            box = self.box(i)
            tall = box.height() * min(h["peak"] / (2 * usual), 1.0)
            good = h["fault"] is None or h.get("overruled")
            bar = QRectF(box.left(), box.bottom() - tall, box.width(), tall)
            if good:
                painter.fillRect(bar, theme.color("teal"))
            else:
                painter.setPen(QPen(theme.color("clay"), 1.4))
                painter.drawRect(bar)
                painter.drawLine(QPointF(box.left(), box.bottom()), QPointF(box.right(), box.bottom() - box.width()))
                painter.drawLine(QPointF(box.left(), box.bottom() - box.width()), QPointF(box.right(), box.bottom()))
            small_text(painter, box.left(), self.height() - 4, str(h["number"]), theme.color("muted"), 8.5)
        if not self.hits:
            small_text(painter, 4, 34, "No hit yet: every hit shows here, put aside or counted.", theme.color("muted"))


class HitStage(QWidget):
    """While it runs: pulse, answer, spectrum, response. Afterwards: the response in every form."""

    edited = pyqtSignal(dict)
    trigger = pyqtSignal(float)
    overruled = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        frame, column = card((16, 10, 12, 8), 4)
        outer.addWidget(frame)
        head = QHBoxLayout()
        self.title = label("Hits", "title")
        head.addWidget(self.title)
        self.told = Elided("", "muted")
        head.addWidget(self.told, 1)
        self.linked = LinkedEntries()
        self.linked.changed.connect(self.edited)
        head.addWidget(self.linked)
        self.form = Tabs([(f, f.capitalize()) for f in FORMS], "chip")
        self.form.chosen.connect(lambda _f: self._draw_response())
        head.addWidget(self.form)
        self.tabs = Tabs(TABS)
        self.tabs.chosen.connect(self.choose)
        head.addWidget(self.tabs)
        column.addLayout(head)
        self.pages = QStackedWidget()
        column.addWidget(self.pages, 1)
        self.pulse = Chart("ms", "N", log_x=False)
        self.level = Handle(self.pulse, 0, lambda v: f"trigger {v:.3g} N", 0.62)
        self.level.sigPositionChangeFinished.connect(lambda *_: self.trigger.emit(max(self.level.get(), 1e-6)))
        self.level.hide()
        self.answer = Chart("s", "m/s²", log_x=False)
        self.spectrum = Chart("Hz", "N·s", log_x=False, log_y=True)
        self.growing = Chart("Hz", "(m/s²)/N", log_x=False, log_y=True)
        live = QWidget()
        grid = QVBoxLayout(live)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(4)
        self.below = QWidget()
        for holder, pair in ((QWidget(), (self.pulse, self.answer)), (self.below, (self.spectrum, self.growing))):
            row = QHBoxLayout(holder)
            row.setContentsMargins(0, 0, 0, 0)
            for chart in pair:
                row.addWidget(chart, 1)
            grid.addWidget(holder, 1)
        self.strip = HitStrip()
        self.strip.clicked.connect(self.overruled)
        grid.addWidget(self.strip)
        self.pages.addWidget(live)
        self.live = live
        done = QWidget()
        both = QVBoxLayout(done)
        both.setContentsMargins(0, 0, 0, 0)
        self.response = Chart("Hz", "(m/s²)/N", log_x=False, log_y=True)
        self.linear = Chart("Hz", "", log_x=False)
        self.circle = Chart("real", "imaginary", log_x=False)
        self.circle.setAspectLocked(True)
        self.upper = QStackedWidget()
        for chart in (self.response, self.linear, self.circle):
            self.upper.addWidget(chart)
        both.addWidget(self.upper, 3)
        self.coherence = Chart("Hz", "coherence", log_x=False)
        both.addWidget(self.coherence, 1)
        for chart in (self.response, self.linear, self.coherence):
            chart.getAxis("left").setWidth(56)  # one frequency stands above the other
        self.pages.addWidget(done)
        self.done = done
        self.notes: list[Any] = []
        self.finding: Finding | None = None
        self.earlier: Finding | None = None
        self.limit = pg.InfiniteLine(angle=90, movable=False)
        self.per_unit = {"force": 1.0, "response": 1.0}
        """V per unit"""
        self._tabs()

    def charts(self) -> list[Chart]:
        return [self.pulse, self.answer, self.spectrum, self.growing, self.response, self.linear, self.circle,
                self.coherence]  # fmt: skip

    def _tabs(self) -> None:
        there = self.finding is not None
        self.tabs.setVisible(there)
        self.form.setVisible(there and self.tabs.now != "hits")

    def choose(self, key: str) -> None:
        self.tabs.choose(key, quiet=True)
        self.pages.setCurrentWidget(self.live if key == "hits" else self.done)
        self.title.setText("Hits")
        self.title.setVisible(key == "hits")
        self.told.setVisible(key == "hits")
        self._tabs()
        self._draw_response()

    def show_prepared(self, prepared: Prepared, editable: bool) -> None:
        """A plan is in hand: nothing was hit yet."""
        self.finding = None
        for chart in self.charts():
            chart.drop(*[k for k in chart.series if k != "legend"])
        self.level.hide()
        self.below.hide()
        self.per_unit = {r: prepared.facts.sensitivity.get(r, 1.0) for r in ("force", "response")}
        self.strip.show_hits([], prepared.settings.hits or 5)
        s = prepared.settings
        self.linked.show_settings(s.block, s.bandwidth, prepared.facts.rate, s.pretrigger)
        self.linked.setVisible(editable)
        self.told.setText(f"lines {prepared.facts.rate / s.block:.3g} Hz apart")
        self.choose("hits")

    def show_board(self, board: Board) -> None:
        """The hits as they come; before the run what the sensors show."""
        live = board.live
        if board.state not in ("running", "easing"):
            wave = board.wave
            if "force" in wave and "response" in wave and self.finding is None:
                t = np.asarray(wave["t"])
                force, response = (np.asarray(wave[r]) / self.per_unit[r] for r in ("force", "response"))
                self.pulse.curve("wave", 1e3 * t, force, "teal", 1.6, "force")
                self.answer.curve("wave", t, response, "teal", 1.6, "response")
            return
        for chart in (self.pulse, self.answer):
            chart.drop("wave")
        self.strip.show_hits(live.get("hits", []), live.get("wanted", 0))
        if "trigger" in live:
            self.level.show()
            if not self.level.moving:
                self.level.put(live["trigger"])
        points = live.get("places") or []
        where = f"Point {points[live['place']]}. " if points else ""
        if live.get("moving"):
            following = points[live["place"] + 1]
            self.told.setText(f"{where[:-2]} is done: move on to {following}, then Next point.")
        elif live.get("stage") == "ranging":
            self.told.setText(f"Trial hits to find the ranges: {live['trials']} of {live['trials_wanted']}")
        else:
            last = live.get("hits", [])[-1:]
            why = f"hit {last[0]['number']} put aside: {last[0]['fault']}" if last and last[0]["fault"] else ""
            self.told.setText(where + (why or "Hit again when it is at rest."))
        hit = live.get("hit")
        if hit:
            self.below.show()
            role = "clay" if hit["fault"] else "teal"
            self.pulse.curve("force", hit["t"], hit["force"], role, 2.0, "force")
            self.answer.curve("response", hit["tr"], hit["response"], role, 1.2, "response")
            self.spectrum.curve("force", hit["f"], hit["spectrum"], role, 1.6, "force spectrum")
        if "frf" in live:
            frf = live["frf"]
            self.growing.curve("frf", frf["f"], frf["magnitude"], "teal", 1.8, f"{frf['count']} hits")

    def show_earlier(self, finding: Finding | None) -> None:
        self.earlier = finding

    def show_finding(self, finding: Finding) -> None:
        self.finding = finding
        if any(c.key == "frf_magnitude" for c in finding.curves):
            self.choose("magnitude")

    @staticmethod
    def complex_of(finding: Finding) -> tuple[np.ndarray, np.ndarray]:
        """Frequency and accelerance of a finding."""
        m, p = finding.curve("frf_magnitude"), finding.curve("frf_phase")
        y = np.array(m.y, float) * np.exp(1j * np.radians(np.array(p.y, float)))
        return np.array(m.x, float), y

    def _draw_response(self) -> None:
        part = self.tabs.now
        if self.finding is None or part == "hits" or not any(c.key == "frf_magnitude" for c in self.finding.curves):
            return
        form = self.form.now
        unit = FORMS[form][0]
        usable = next((r.value for r in self.finding.readings if r.key == "usable_to"), None) or 1e9
        chart = {"magnitude": self.response, "circle": self.circle}.get(part, self.linear)
        self.upper.setCurrentWidget(chart)
        chart.drop(*[k for k in chart.series if k != "legend"])
        for finding, role, width, name in (
            (self.earlier, "muted", 1.2, "last take"),
            (self.finding, "teal", 1.8, "now"),
        ):
            if finding is None or not any(c.key == "frf_magnitude" for c in finding.curves):
                continue
            f, h = self.complex_of(finding)
            keep = (f > 0.002 * usable) & (f <= 1.15 * usable)
            f, h = f[keep], form_of(f[keep], h[keep], form)
            if part == "circle":
                chart.curve(name, h.real, h.imag, role, width, name)
            else:
                chart.curve(name, f, part_of(h, part), role, width, name)
        chart.y_unit = "°" if part == "phase" else unit
        if part == "circle":
            chart.x_unit, chart.y_unit = f"real, {unit}", f"imaginary, {unit}"
        chart.apply_theme()
        chart.enableAutoRange()
        self._mark_modes(chart, part, usable)
        self.coherence.setVisible(any(c.key == "coherence" for c in self.finding.curves) and part != "circle")
        if self.coherence.isVisibleTo(self):
            c = self.finding.curve("coherence")
            f = np.array(c.x, float)
            keep = f <= 1.15 * usable
            self.coherence.curve("coherence", f[keep], np.array(c.y, float)[keep], "teal", 1.4, "coherence")
            if part == "magnitude":
                chart.setXRange(0, self._top(usable), padding=0)
            self.coherence.window((0, self._top(usable)), (0, 1.05))

    def _top(self, usable: float) -> float:
        """Hz to show: half again the highest mode, as far as the hammer excites."""
        assert self.finding is not None
        modes = [r.value for r in self.finding.readings if r.key.endswith("_frequency") and r.value is not None]
        return float(min(1.5 * max(modes), 1.15 * usable)) if modes else 1.15 * usable

    def _mark_modes(self, chart: Chart, part: str, usable: float) -> None:
        """Each mode's frequency and damping where it is; and up to where the hammer excites."""
        for note in self.notes:
            note.scene().removeItem(note) if note.scene() else None
        self.notes = []
        if part == "circle" or self.finding is None:
            return
        by = {r.key: r for r in self.finding.readings}
        for n in range(1, 13):
            r, d = by.get(f"mode{n}_frequency"), by.get(f"mode{n}_damping")
            if r is None or d is None or r.value is None or d.value is None:
                continue
            line = pg.InfiniteLine(
                pos=r.value, angle=90, pen=pg.mkPen(theme.color("muted"), width=1, style=Qt.PenStyle.DashLine)
            )
            said = f"{r.value:.1f} Hz\n{d.value:.2f} %"
            text = pg.InfLineLabel(
                line, said, position=0.03 + 0.1 * ((n - 1) % 2), color=theme.color("ink"),
                fill=theme.color("card", 220), anchors=[(0, 1), (0, 1)],
            )  # fmt: skip
            text.setFont(theme.font(9, 500))
            chart.addItem(line, ignoreBounds=True)
            self.notes.append(line)
        if usable > self._top(usable):
            end = pg.TextItem(
                f"the hammer excites to {usable / 1000:.1f} kHz", color=theme.color("clay"), anchor=(1, 0)
            )
            end.setFont(theme.font(9, 500))
            end.setParentItem(chart.getPlotItem().getViewBox())
            end.setPos(chart.getPlotItem().getViewBox().width() - 8, 4)
            self.notes.append(end)
            return
        end = pg.InfiniteLine(pos=usable, angle=90, pen=pg.mkPen(theme.color("clay"), width=1.4))
        pg.InfLineLabel(
            end, "hammer excites to here", position=0.9, color=theme.color("clay"), anchors=[(1, 0), (1, 0)]
        )
        chart.addItem(end, ignoreBounds=True)
        self.notes.append(end)

    def repaint_charts(self) -> None:
        for chart in self.charts():
            chart.apply_theme()
        self._draw_response()
