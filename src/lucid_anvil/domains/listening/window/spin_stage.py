"""The Stage of a speed-tracked recording: the tach's pulses with their trigger, the speed, and the map that grows."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from ....contracts.finding import Finding
from ....desktop.parts import theme
from ....desktop.parts.chart import Chart, Handle
from ....desktop.parts.widgets import Elided, Tabs, card, label
from ....engine.preparing import Prepared
from ....protocol.messages import Board
from .map_view import MapView

TABS = [("map", "Map"), ("orders", "Orders"), ("overall", "Overall"), ("bands", "Bands"), ("speed", "Speed")]
LIVE = [("map", "Map"), ("spectrum", "Spectrum"), ("orders", "Orders"), ("overall", "Overall")]
_LINE = Qt.PenStyle
PENS = (("teal", 2.2, _LINE.SolidLine), ("ink", 1.6, _LINE.SolidLine), ("muted", 1.6, _LINE.SolidLine),
        ("teal", 1.4, _LINE.DashLine), ("ink", 1.2, _LINE.DashLine), ("muted", 1.2, _LINE.DotLine))  # fmt: skip


class SpinStage(QWidget):
    """Pulses and speed above, the map below; afterwards map, orders, overall level and speed."""

    trigger = pyqtSignal(float)
    slope = pyqtSignal(bool)

    def __init__(self) -> None:
        super().__init__()
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        frame, column = card((16, 10, 12, 8), 4)
        outer.addWidget(frame)
        head = QHBoxLayout()
        self.title = label("Speed and map", "title")
        head.addWidget(self.title)
        self.told = Elided("", "muted")
        head.addWidget(self.told, 1)
        self.names = label("", "small")
        head.addWidget(self.names)
        self.over = Tabs([("Hz", "Hz"), ("order", "orders")], "chip")
        self.up = Tabs([("rpm", "speed"), ("s", "time")], "chip")
        self.reach = Tabs([("orders", "to the orders"), ("whole", "whole")], "chip")
        for chips in (self.reach, self.over, self.up):
            chips.chosen.connect(lambda _k: self._show_map())
            chips.hide()
            head.addWidget(chips)
        self.tabs = Tabs(TABS)
        self.tabs.chosen.connect(self.choose)
        head.addWidget(self.tabs)
        self.live_tabs = Tabs(LIVE)
        self.live_tabs.chosen.connect(self.choose_live)
        head.addWidget(self.live_tabs)
        column.addLayout(head)
        self.above = QWidget()
        row = QHBoxLayout(self.above)
        row.setContentsMargins(0, 0, 0, 0)
        self.pulses = Chart("s", "V", log_x=False)
        self.level = Handle(self.pulses, 0, lambda v: f"trigger {v:.2f} V", 0.8)
        self.level.sigPositionChangeFinished.connect(lambda *_: self.trigger.emit(self.level.get()))
        row.addWidget(self.pulses, 3)
        figures = QVBoxLayout()
        self.rpm = label("– rpm", "huge")
        self.rpm.setStyleSheet("font-size: 34px; font-weight: 600;")
        self.spread = label("", "muted")
        self.why = label("", "cut", wrap=True)
        figures.addStretch()
        for widget in (self.rpm, self.spread, self.why):
            figures.addWidget(widget)
        self.edge = Tabs([("rising", "rising edge"), ("falling", "falling edge")], "chip")
        self.edge.chosen.connect(lambda k: self.slope.emit(k == "rising"))
        figures.addWidget(self.edge)
        figures.addStretch()
        row.addLayout(figures, 2)
        self.above.setMaximumHeight(170)
        column.addWidget(self.above)
        self.pages = QStackedWidget()
        self.map = MapView()
        self.curves = Chart("rpm", "", log_x=False, log_y=True)
        self.plain = Chart("rpm", "dB", log_x=False)
        self.bands = Chart("Hz", "dB", log_x=True)
        self.spectrum = Chart("Hz", "dB", log_x=True)
        for page in (self.map, self.curves, self.plain, self.bands, self.spectrum):
            self.pages.addWidget(page)
        column.addWidget(self.pages, 1)
        self.finding: Finding | None = None
        self.earlier: Finding | None = None

    def choose(self, key: str) -> None:
        self.tabs.choose(key, quiet=True)
        for chips in (self.reach, self.over, self.up):
            chips.setVisible(key == "map" and self.finding is not None and len(self.finding.maps) > 1)
        self.reach.setVisible(self.reach.isVisibleTo(self) and self.over.now == "Hz")
        self.names.setVisible(key == "orders")
        self.title.setVisible(key not in ("map", "orders"))  # the tab says it, and the row is full
        self.title.setText("Speed and map")
        self.pages.setCurrentWidget({"map": self.map, "orders": self.curves, "bands": self.bands}.get(key, self.plain))
        self._draw()

    def show_prepared(self, prepared: Prepared, _editable: bool) -> None:
        self.finding = None
        self.above.show()
        for chips in (self.tabs, self.reach, self.over, self.up):
            chips.hide()
        self.live_tabs.hide()
        self.title.show()
        self.reach.choose("orders", quiet=True)
        self.map.begin()
        self.over.choose("Hz", quiet=True)
        self.up.choose("rpm", quiet=True)
        for chart in (self.curves, self.plain, self.bands, self.pulses, self.spectrum):
            chart.drop(*[k for k in chart.series if k != "legend"])
        s = prepared.settings
        if s.speed is not None:
            self.told.setText(
                f"{s.run}: from {s.speed.low:g} to {s.speed.high:g} rpm, a spectrum every {s.speed.step:g}"
            )
        self.choose("map")
        self.title.show()

    def show_board(self, board: Board) -> None:
        live = board.live
        if board.state not in ("running", "easing") or "pulses" not in live:
            wave = board.wave
            if "tach" in wave and self.finding is None:
                self.pulses.curve("pulses", wave["t"], wave["tach"], "teal", 1.4, "tach")
            return
        self.pulses.curve("pulses", live["pulses"]["t"], live["pulses"]["v"], "teal", 1.4, "tach")
        if not self.level.moving:
            self.level.put(live["level"])
        self.edge.choose("rising" if live.get("rising", True) else "falling", quiet=True)
        rpm = live["rpm"]
        self.rpm.setText(f"{rpm:.0f} rpm" if rpm else "no speed")
        self.spread.setText(
            f"spread {live['spread']:.2f} % · {live['missing']} missing, {live['extra']} extra now" if rpm else ""
        )
        self.why.setText(live["why"] or "")
        words = {"waiting": "Waiting for the speed to come into its range", "recording": "Recording"}
        self.told.setText(words.get(live["stage"], "The run is over"))
        held: dict[str, Any] = live["map"]
        if len(held["rpm"]) > 2:
            if not self.live_tabs.isVisibleTo(self):
                self.live_tabs.show()
                self.choose_live("map")
            self.map.show_map(held["f"], held["rpm"], held["rows"], live["unit"])
            self._draw_live(live)

    def choose_live(self, key: str) -> None:
        """What is looked at while it runs."""
        self.live_tabs.choose(key, quiet=True)
        page = {"map": self.map, "spectrum": self.spectrum, "orders": self.curves}.get(key, self.plain)
        self.pages.setCurrentWidget(page)
        self.names.setVisible(key == "orders")
        self.title.setVisible(key != "orders")

    def _draw_live(self, live: dict[str, Any]) -> None:
        """Newest spectrum, orders and overall level as they come: at a glance, read over angle afterwards."""
        rpm, unit = np.array(live["map"]["rpm"]), live["unit"]
        reference, name = (20e-6, "dB") if unit == "Pa" else (1.0, f"dB re 1 {unit}")
        now = live.get("newest") or {"f": []}
        if len(now["f"]) > 2:
            self.spectrum.name_axes("Hz", name)
            level = 20 * np.log10(np.maximum(np.array(now["y"]), 1e-12) / reference)
            self.spectrum.curve("now", now["f"][1:], level[1:], "teal", 1.4, "now")
        for (k, y), (role, width, style) in zip((live.get("orders") or {}).items(), PENS, strict=False):
            self.curves.curve(f"order_{k}", *_rising(rpm, np.array(y)), role, width, f"Order {k}", style=style)
        self._name([f"Order {k}" for k in live.get("orders") or {}])
        self.curves.name_axes("rpm", unit)
        self.plain.name_axes("rpm", "dB" if unit == "Pa" else unit)
        self.plain.curve("overall", *_rising(rpm, np.array(live["overall"])), "teal", 2.2, "overall")

    def _name(self, labels: Sequence[str]) -> None:
        """The curves in hand, each in its ink and stroke."""
        marks = {_LINE.SolidLine: "—", _LINE.DashLine: "- -", _LINE.DotLine: "···"}
        self.names.setText("&nbsp;&nbsp; ".join(
            f'<span style="color:{theme.color(role).name()}">{marks[style]} {label}</span>'
            for label, (role, _, style) in zip(labels, PENS, strict=False)
        ))  # fmt: skip

    def show_earlier(self, finding: Finding | None) -> None:
        self.earlier = finding

    def show_finding(self, finding: Finding) -> None:
        self.finding = finding
        self.above.hide()
        self.live_tabs.hide()
        for chart in (self.curves, self.plain):
            chart.drop(*[k for k in chart.series if k != "legend"])
        self.tabs.show()
        self.told.setText("")
        self._show_map()
        self.choose(self.tabs.now)

    def _show_map(self) -> None:
        """The finding's map, over frequency or orders, upwards speed or time."""
        maps = {m["key"]: m for m in self.finding.maps} if self.finding is not None else {}
        made = maps.get("orders" if self.over.now == "order" else "spectra")
        if made is None or self.finding is None:
            return
        x, rows = np.array(made["x"]), np.array(made["z"])
        if self.over.now != "order":
            orders = [float(c.key.removeprefix("order_")) for c in self.finding.curves if c.key.startswith("order_")]
            top = 1.5 * max(orders, default=10) * max(made["y"], default=3000) / 60
            top = max(top, 500) if self.reach.now == "orders" else float(x[-1])
            x, rows = x[x <= top], rows[:, x <= top]
        self.reach.setVisible(self.tabs.now == "map" and self.over.now == "Hz" and len(maps) > 1)
        self.map.chart.zoomed = False
        self.map.show_map(x, made["y"], rows, made["z_unit"], made.get("times"), self.over.now, self.up.now)

    def _draw(self) -> None:
        if self.finding is None or self.tabs.now == "map":
            return
        key = self.tabs.now
        chart = {"orders": self.curves, "bands": self.bands}.get(key, self.plain)
        chart.drop(*[k for k in chart.series if k != "legend"])
        chosen = [c for c in self.finding.curves if (c.key.startswith("order_") if key == "orders" else c.key == key)]
        self._name([c.label for c in chosen])
        for c, (role, width, style) in zip(chosen, PENS, strict=False):
            chart.curve(c.key, c.x, c.y, role, width, c.label, style=style)
        if self.earlier is not None and key == "overall":
            for c in self.earlier.curves:
                if c.key == key:
                    chart.curve("earlier", c.x, c.y, "muted", 1.2, "last take")
        if chosen:
            chart.x_unit, chart.y_unit = chosen[0].x_unit, chosen[0].y_unit
        chart.apply_theme()
        chart.enableAutoRange()
        self.title.setText(
            {"orders": "Orders over speed", "overall": "Overall level", "bands": "Bands", "speed": "Speed"}[key]
        )

    def repaint_charts(self) -> None:
        for chart in (self.pulses, self.curves, self.plain, self.bands, self.spectrum):
            chart.apply_theme()
        self.map.repaint_charts()
        self._draw()


def _rising(x: np.ndarray, y: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Both in the order of x, as far as both go."""
    n = min(x.size, y.size)
    at = np.argsort(x[-n:])
    return x[-n:][at], y[-n:][at]
