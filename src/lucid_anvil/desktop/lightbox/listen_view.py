"""Listening to a stretch: its spectrum, filters drawn on it, and both heard and seen with and without them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from ...core.errors import BadInput
from ...core.signal.filterwords import HOW, bands_of, text_of
from ...core.signal.pyramid import envelope
from ...core.signal.sinefit import Floats
from ...core.signal.soundfilter import KINDS, Band, Chain, gain
from ...core.signal.spectra import averaged
from ..parts import theme
from ..parts.chart import Chart
from ..parts.player import Player
from ..parts.widgets import Elided, button, label
from .record_view import time_text

LOWEST = 15.0
FIRST = {"band-stop": (900.0, 1100.0), "band-pass": (300.0, 3000.0), "low-pass": (LOWEST, 1000.0),
         "high-pass": (300.0, 20000.0)}  # fmt: skip
"""Hz where a new filter begins"""


class FilterRegion(pg.LinearRegionItem):
    """A filter as a stretch of the spectrum: what a stop takes out, or what a pass lets through."""

    def __init__(self, kind: str, low: float, high: float) -> None:
        role = "clay" if kind == "band-stop" else "brass"
        super().__init__(
            (np.log10(low), np.log10(high)), brush=theme.color(role, 46), hoverBrush=theme.color(role, 80),
            pen=pg.mkPen(theme.color(role), width=1.6),
        )  # fmt: skip
        self.kind = kind
        self.setZValue(-2)

    def band(self) -> Band:
        low, high = sorted(10**v for v in self.getRegion())
        return Band(self.kind, float(low), float(high))


class ListenView(QWidget):
    """Spectrum above, the waveform as it would be heard below."""

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        row = QHBoxLayout()
        self.go = button("Play", "main")
        self.go.clicked.connect(self.toggle)
        row.addWidget(self.go)
        self.on = button("Filtered", "chip", "Filters in or out, also while it plays (Space)")
        self.on.setCheckable(True)
        self.on.setChecked(True)
        self.on.clicked.connect(self._switched)
        row.addWidget(self.on)
        row.addSpacing(10)
        self.adds = {}
        for kind in KINDS:
            made = button(f"+ {kind}", tip=f"Put a {kind} on the spectrum; drag its edges")
            made.clicked.connect(lambda _c, k=kind: self.add(k))
            row.addWidget(made)
            self.adds[kind] = made
        self.none = button("No filters")
        self.none.clicked.connect(self.clear)
        row.addWidget(self.none)
        self.told = Elided("", "muted")
        row.addWidget(self.told, 1)
        column.addLayout(row)
        self.spectrum = Chart("Hz", "", log_x=True, log_y=True)
        self.wave = Chart("s", "", log_x=False)
        column.addWidget(self.spectrum, 3)
        column.addWidget(self.wave, 2)
        self.said = QLineEdit()
        self.said.setPlaceholderText("Drag a filter's edges on the spectrum, or write it: band-pass 300 Hz to 3 kHz")
        self.said.setToolTip(f"The filters in words; {HOW}. Enter puts them on.")
        self.said.returnPressed.connect(self.typed)
        column.addWidget(self.said)
        self.wrong = label("", "cut", wrap=True)
        self.wrong.hide()
        column.addWidget(self.wrong)
        self.player = Player(self)
        self.player.ended.connect(self._ended)
        self.head = pg.InfiniteLine(angle=90, movable=False, pen=pg.mkPen(theme.color("brass"), width=2))
        self.wave.addItem(self.head, ignoreBounds=True)
        self.head.hide()
        self.tick = QTimer(self)
        self.tick.timeout.connect(self._tick)
        self.regions: list[FilterRegion] = []
        self.signal: Floats = np.zeros(0)
        self.rate, self.unit, self.name, self.start = 1.0, "", "", 0.0
        self.place: Path | None = None
        self.power: tuple[Floats, Floats] | None = None

    def show_signal(self, x: Floats, rate: float, unit: str, name: str, start: float, place: Path) -> None:
        """A stretch of one channel that begins at `start` [s]. `place`: where a sound file goes if there is no sound
        output."""
        self.player.stop()
        if rate < 4 * LOWEST:
            self._nothing(f"{name} has {rate:.4g} samples in a second: too few to be heard.")
            return
        self.signal, self.rate, self.unit, self.name, self.start, self.place = x, rate, unit, name, start, place
        frame = 1 << int(np.clip(np.log2(max(x.size / 8, 64)), 6, 15))
        held = x if x.size >= frame else np.pad(x, (0, frame - x.size))
        made = averaged([held[None]], 1, rate, frame)
        keep = made.frequency >= LOWEST / 2
        self.power = made.frequency[keep], np.sqrt(made.auto[0][keep])
        self.spectrum.y_unit = f"{unit}/√Hz"
        self.wave.y_unit = unit
        for chart in (self.spectrum, self.wave):
            chart.apply_theme()
        self.player.load(x, rate)
        sound = "" if Player.device() is not None else " No sound output here: Play writes a sound file."
        self.told.setText(f"{name} · {time_text(x.size / rate)}.{sound}")
        self.apply()
        y = self.power[1]
        self.spectrum.window(
            (LOWEST, 0.5 * rate), (max(0.1 * float(y.min()), 1e-7 * float(y.max())), 3 * float(y.max()))
        )
        self.wave.enableAutoRange()

    def _nothing(self, why: str) -> None:
        """Nothing that could be heard, and why."""
        self.signal, self.power = np.zeros(0), None
        self.told.setText(why)
        self.said.setText("")
        for chart in (self.spectrum, self.wave):
            chart.drop("plain", "heard")

    def bands(self) -> tuple[Band, ...]:
        return tuple(r.band() for r in self.regions)

    def add(self, kind: str, low: float | None = None, high: float | None = None) -> None:
        """One more filter, where it is asked for or at a usual place."""
        a, b = FIRST[kind]
        top = 0.48 * self.rate
        region = FilterRegion(kind, low or min(a, 0.4 * top), high or min(b, top))
        region.sigRegionChanged.connect(lambda *_: self._outline())
        region.sigRegionChangeFinished.connect(lambda *_: self.apply())
        self.spectrum.addItem(region, ignoreBounds=True)
        self.regions.append(region)
        self.apply()

    def clear(self) -> None:
        for region in self.regions:
            self.spectrum.removeItem(region)
        self.regions = []
        self.apply()

    def typed(self) -> None:
        """The filters as they were written, in place of those that are there."""
        try:
            made = bands_of(self.said.text())
        except BadInput as problem:
            self.wrong.setText(str(problem))
            self.wrong.show()
            return
        top = 0.48 * self.rate
        self.clear()
        for band in made:
            self.add(band.kind, min(max(band.low, LOWEST), 0.9 * top), min(band.high, top))

    def _outline(self) -> None:
        """The spectrum with and without the filters."""
        if self.power is None:
            return
        f, y = self.power
        self.spectrum.curve("heard", f, np.maximum(y * gain(self.bands(), f, self.rate), 1e-9 * y.max()),
                            "teal", 1.8, "filtered")  # fmt: skip
        self.spectrum.curve("plain", f, y, "muted", 1.0, "not filtered", z=5)
        if not self.regions:
            self.spectrum.drop("heard")

    def apply(self) -> None:
        """Filters as they are drawn, onto what is heard and seen."""
        self._outline()
        self.player.use(self.bands(), self.on.isChecked())
        if not self.signal.size:
            return
        t, y = envelope(self.signal, 900)
        self.wave.curve("plain", self.start + t / self.rate, y, "muted", 1.0, "not filtered", z=5, dense=True)
        if self.regions:
            t, y = envelope(Chain(self.bands(), self.rate)(self.signal), 900)
            self.wave.curve("heard", self.start + t / self.rate, y, "teal", 1.2, "filtered", dense=True)
        else:
            self.wave.drop("heard")
        self.said.setText(", ".join(text_of(b) for b in self.bands()))
        self.wrong.hide()

    def _switched(self) -> None:
        self.player.switch(self.on.isChecked())
        self.on.setText("Filtered" if self.on.isChecked() else "Not filtered")

    def toggle(self) -> None:
        """Play, or stop; without a sound output a file is written and named."""
        if self.player.playing:
            self.player.stop()
            self._ended()
            return
        if not self.signal.size:
            return
        self.player.use(self.bands(), self.on.isChecked())
        if self.player.play():
            self.go.setText("Stop playing")
            self.head.show()
            self.tick.start(60)
            return
        assert self.place is not None
        made = self.player.write(self.place)
        self.told.setText(f"No sound output here: written to {made}.")

    def _tick(self) -> None:
        self.head.setPos(self.start + self.player.seconds)

    def _ended(self) -> None:
        self.tick.stop()
        self.head.hide()
        self.go.setText("Play")

    def repaint_charts(self) -> None:
        for chart in (self.spectrum, self.wave):
            chart.apply_theme()
        self._outline()
