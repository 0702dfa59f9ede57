"""A raw record from end to end, down to single samples, and a stretch cropped out of it with its figures."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QVBoxLayout, QWidget

from ...contracts.recording import channel_of, evened
from ...core.figures import fitting
from ...core.signal.pulses import Figures, figures
from ...core.signal.pyramid import Pyramid, build
from ...formats import Channel, Recording
from ...formats.pyramidfile import keep, kept
from ..parts.background import Background
from ..parts.chart import Chart, Handle
from ..parts.widgets import button, label, three

PENS = (
    ("ink", 1.2),
    ("teal", 1.2),
    ("brass", 1.2),
    ("muted", 1.2),
    ("plum", 1.2),
    ("ink", 0.8),
    ("teal", 0.8),
    ("muted", 0.8),
)
LONG = 4_000_000
"""Samples above which the pyramid is made aside, while the window goes on"""
MOST = 20_000_000
"""Samples of a crop whose figures are worked out"""


def time_text(seconds: float) -> str:
    """Seconds with as many digits as they deserve."""
    if seconds == 0:
        return "0 s"
    if abs(seconds) >= 3600:
        return f"{seconds / 3600:.3f} h"
    if abs(seconds) >= 1:
        return f"{seconds:.4g} s" if abs(seconds) < 1000 else f"{seconds:.1f} s"
    return f"{1e3 * seconds:.4g} ms" if abs(seconds) >= 1e-3 else f"{1e6 * seconds:.4g} µs"


def figures_text(f: Figures, unit: str) -> str:
    """Figures of a stretch in one line."""
    parts = [f"min {three(f.least)}", f"max {three(f.greatest)}", f"peak to peak {three(f.peak_to_peak)}",
             f"mean {three(f.mean)}", f"rms {three(f.rms)} {unit}"]  # fmt: skip
    if 0 < f.pulses < 100_000 and f.rise is not None:
        parts.append(f"{f.pulses} pulses: rise {time_text(f.rise)}")
        if f.width is not None:
            parts.append(f"width {time_text(f.width)}")
        if f.rest is not None:
            parts.append(f"rest {time_text(f.rest)}")
    return " · ".join(parts).replace("-", "−")


class RecordView(QWidget):
    """The record, two crop lines, and what can be done with the crop."""

    listen = pyqtSignal()
    export = pyqtSignal()
    reread = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        row = QHBoxLayout()
        self.which = QComboBox()
        self.which.setMinimumWidth(150)
        self.which.activated.connect(lambda _i: self._chosen())
        row.addWidget(self.which)
        self.span = label("", "small")
        row.addWidget(self.span)
        row.addStretch()
        for text, signal, tip in (
            ("Listen", self.listen, "Hear the stretch between the two lines"),
            ("Export…", self.export, "Write the stretch between the two lines: csv, xlsx, mat, uff, wav, h5"),
            ("Read…", self.reread, "By a method: a take with other settings, a record from elsewhere as a new take"),
        ):
            made = button(text, tip=tip)
            made.clicked.connect(signal)
            row.addWidget(made)
        column.addLayout(row)
        self.chart = Chart("s", "V", log_x=False)
        self.chart.getPlotItem().getViewBox().sigXRangeChanged.connect(lambda *_: self.fine())
        self.chart.getPlotItem().getViewBox().setMouseEnabled(True, False)
        column.addWidget(self.chart, 1)
        self.told = label("", "small", wrap=True)
        column.addWidget(self.told)
        self.start, self.stop = (Handle(self.chart, 90, time_text, p) for p in (0.94, 0.86))
        for handle in (self.start, self.stop):
            handle.sigPositionChangeFinished.connect(lambda *_: self.read())
        self.aside = Background(self)
        self.most = 8
        """Channels that are drawn together, in lanes"""
        self.recording: Recording | None = None
        self.channels: list[Channel] = []
        self.pyramids: dict[str, Pyramid] = {}
        self.cache: Path | None = None
        self.busy = False

    def show_recording(self, recording: Recording, cache: Path | None) -> None:
        """All of it. `cache`: the folder where its pyramids are kept."""
        recording = evened(recording)
        self.recording, self.cache, self.pyramids = recording, cache, {}
        self.which.clear()
        self.which.addItem("all channels", None)
        for c in recording.channels:
            self.which.addItem(c.label, c.label)
        usual = [c for c in recording.channels if c.label in ("reference", "unit", "drive")]
        self.channels = usual or list(recording.channels[: self.most])
        self.chart.drop(*list(self.chart.series))
        self._axis()
        length = max((c.duration for c in self.channels), default=1.0)
        self.chart.setXRange(0, length, padding=0.03)
        self.start.put(0.0)
        self.stop.put(length)
        self._index()

    def choose(self, channel: str) -> None:
        """One channel alone."""
        self.which.setCurrentText(channel)
        self._chosen()

    def _chosen(self) -> None:
        assert self.recording is not None
        wanted = self.which.currentData()
        chosen = [c for c in self.recording.channels if wanted in (None, c.label)]
        self.channels = chosen[: self.most]
        self.chart.drop(*list(self.chart.series))
        self._axis()
        self._index()

    @property
    def lanes(self) -> bool:
        """Several channels lie in lanes below one another, each with its own unit and reach: over one another a drive
        in volts hides an acceleration."""
        return len(self.channels) > 1

    def _axis(self) -> None:
        """The y axis of what is shown: a unit, or a name and a reach for each lane."""
        box = self.chart.getPlotItem().getViewBox()
        self.chart.y_unit = self.channels[0].unit if len(self.channels) == 1 else ""
        self.chart.apply_theme()
        axis = self.chart.getPlotItem().getAxis("left")
        if not self.lanes:
            axis.setTicks(None)
            axis.setWidth(None)
            box.enableAutoRange(axis="y")
            return
        axis.setWidth(104)
        box.setYRange(-len(self.channels), 0, padding=0.01)
        self._name_lanes()

    def _reach(self, c: Channel) -> tuple[float, float]:
        """Middle and half of what a channel's lane covers."""
        pyramid = self.pyramids.get(c.label)
        if pyramid is None or c.length < 1:
            return 0.0, 1.0
        low, high = pyramid.reach()
        if low <= 0 <= high and high + low < 0.8 * (high - low):  # about zero: zero is the middle
            return 0.0, max(high, -low) or 1.0
        return (low + high) / 2, (high - low) / 2 or 1.0

    def _name_lanes(self) -> None:
        names = []
        for k, c in enumerate(self.channels):
            middle, half = self._reach(c)
            scale, unit = fitting(half, c.unit)
            if middle:  # one prefix for both
                scale, unit = fitting(middle, c.unit)
            about = f"{three(middle * scale)} " if middle else ""
            names.append((-k - 0.5, f"{c.label}\n{about}± {three(half * scale)} {unit.replace('^2', '²')}"))
        self.chart.getPlotItem().getAxis("left").setTicks([names])

    def _place(self, c: Channel) -> Path | None:
        name = "".join(ch if ch.isalnum() else "-" for ch in c.label)
        return self.cache / f"{name}.npz" if self.cache is not None else None

    def _index(self) -> None:
        """Pyramids of the channels shown: from the cache, or made now, aside where the record is long."""
        missing = [c for c in self.channels if c.label not in self.pyramids]
        short = [c for c in missing if c.length <= LONG]
        self._made([(c, self._pyramid(c)) for c in short])
        long = [c for c in missing if c.length > LONG]
        held = [(c, made) for c in long if (made := self._kept(c)) is not None]
        self._made(held)
        left = [c for c in long if c.label not in self.pyramids]
        if left:
            self.told.setText(f"Reading {left[0].length / 1e6:.0f} million samples once; after that it opens at once.")
            self.aside.run("index", lambda: [(c, self._pyramid(c)) for c in left], self._made)

    def _kept(self, c: Channel) -> Pyramid | None:
        place = self._place(c)
        return kept(place, c.length) if place is not None else None

    def _pyramid(self, c: Channel) -> Pyramid:
        held = self._kept(c)
        if held is not None:
            return held
        made, place = build(c.load, c.length), self._place(c)
        if place is not None:
            try:
                keep(made, place)
            except OSError:
                return made  # a lab that can't be written to is looked at all the same
        return made

    def _made(self, made: list[tuple[Channel, Pyramid]]) -> None:
        for c, pyramid in made:
            self.pyramids[c.label] = pyramid
        if made:
            if self.lanes:
                self._name_lanes()
            self.fine()
            self.read()

    def fine(self) -> None:
        """Draw what is in sight with as many points as the screen has."""
        if self.busy:
            return
        self.busy = True
        # Where many lie over one another every second column is enough, and twice as quick.
        columns = max(self.chart.width() - 70, 300) // (1 if len(self.channels) <= 4 else 2)
        low, high = self.chart.getPlotItem().getViewBox().viewRange()[0]
        for c, (role, width) in zip(self.channels, PENS, strict=False):
            pyramid = self.pyramids.get(c.label)
            if pyramid is None:
                continue
            at, y = pyramid.picture(int(low * c.rate), int(high * c.rate) + 2, columns, c.load)
            if at.size:
                dense = at.size > columns // 2
                middle, half = self._reach(c)
                drawn = -self.channels.index(c) - 0.5 + 0.46 * (y - middle) / half if self.lanes else y
                self.chart.curve(c.label, at / c.rate, drawn, role, width, c.label, dense=dense, pieces=at.size > 100)
                self.chart.units[c.label] = c.unit
                self.chart.table[c.label] = (at / c.rate, y)  # read out and copied as what was measured
        self.busy = False

    def crop(self) -> tuple[float, float]:
        """Start and end of the stretch between the lines [s]."""
        a, b = sorted((self.start.get(), self.stop.get()))
        return max(a, 0.0), b

    def set_crop(self, start: float, stop: float) -> None:
        self.start.put(start)
        self.stop.put(stop)
        self.read()

    def cropped(self) -> Recording:
        """The channels shown, between the lines, with all that is known of them."""
        assert self.recording is not None
        a, b = self.crop()
        made = tuple(channel_of(c.label, c.unit, c.rate, c.between(a, b), c.meta) for c in self.channels)
        return Recording(self.recording.source, made, {"start_s": a, "stop_s": b})

    def read(self) -> None:
        """Start, end, duration, and the figures of the first channel shown."""
        if not self.channels:
            return
        a, b = self.crop()
        self.span.setText(f"{time_text(a)} to {time_text(b)} · {time_text(b - a)}")
        c = self.channels[0]
        if (b - a) * c.rate > MOST:
            self.told.setText("Draw the lines nearer together for the figures of a stretch.")
            return
        x = c.between(a, b)
        if x.size > 2:
            self.told.setText(f"{c.label}: {figures_text(figures(x, c.rate), c.unit.replace('^2', '²'))}")

    def repaint_charts(self) -> None:
        self.chart.apply_theme()
        self.fine()
