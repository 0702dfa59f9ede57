"""Performing a speed-tracked recording: speed from the tach as it comes, begun and ended by the speed itself."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ...contracts.method import Facts, Got, Performance, Want
from ...core.calibration.soundlevel import P0
from ...core.quantities import parse
from ...core.signal.pyramid import envelope
from ...core.signal.rounding import rounded
from ...core.signal.sinefit import Floats
from ...core.signal.spectra import hann
from ...core.signal.tacho import pulse_times, repaired
from ...core.signal.weighting import weighting
from .listening import peaks_of_lines
from .speed_orders import SpeedSettings

WINDOW = 1.0
"""s of tach over which the present speed is told, more when it turns slowly"""
PATIENCE = 300.0
"""s without the wished speed after which the run ends"""
MARGIN = 0.5
"""s that are read before the run and after it, so that the first and the last speed have their window"""
LINES, ROWS = 220, 90
ALIKE, TREND = 0.16, 0.004
"""Logarithm within which neighbouring periods of a turning shaft agree, and the share by which a speed must have moved
over a second before it counts as moving"""
OUT = 0.03
"""Share beyond an end of the range at which the run is over"""


@dataclass
class SpeedRun:
    """State of the run. Signal in its unit, tach in volts."""

    settings: SpeedSettings
    facts: Facts
    stage: str = "waiting"
    rpm: float | None = None
    why: str = ""
    """why no speed is told"""
    spread: float = 0.0
    """% of the periods of a revolution about their mean"""
    missing: int = 0
    extra: int = 0
    began: float = 0.0
    last: float = 0.0
    """rpm of the newest row of the map"""
    rows: list[list[float]] = field(default_factory=list)
    speeds: list[float] = field(default_factory=list)
    overall: list[float] = field(default_factory=list)
    orders: dict[float, list[float]] = field(default_factory=dict)
    """rms of each order in each row, as its spectrum shows it: a glance, which the reading over angle stands in for"""
    spectrum: tuple[list[float], list[float]] = ([], [])
    """Hz and rms of the newest row, as far as the rate goes"""
    track: list[tuple[float, float]] = field(default_factory=list)

    def __post_init__(self) -> None:
        by = {i.role: i for i in self.facts.inputs}
        self.scale, self.unit = by["signal"].scale, by["signal"].unit
        self.rate = self.facts.rate
        self.frame = 1 << int(round(math.log2(self.rate / self.settings.resolution)))
        self.window = hann(self.frame)
        self.heard = weighting(self.settings.weighting, self.rate)
        given = self.settings.trigger_level
        self.level = None if given is None else parse(given, "V", "trigger_level")
        self.rising = self.settings.slope == "rising"
        self.tach: Floats = np.zeros(0)
        self.signal: Floats = np.zeros(0)
        self.t = 0.0
        self.x = np.zeros(0)
        self.lines: Floats = np.zeros(0)
        held = self.settings.speed
        self.range = (held.low, held.high, held.step) if held else (0.0, float("inf"), 50.0)
        self.marks: list[dict[str, Any]] = []

    def heed(self, got: Got) -> None:
        """Take in one block."""
        for order in got.orders:
            if order.get("order") == "trigger":
                self.level = float(order["level"])
                self.marks.append({"t": self.t, "kind": "trigger", "level": self.level, "rising": self.rising})
            elif order.get("order") == "slope":
                self.rising = bool(order["rising"])
                self.marks.append({"t": self.t, "kind": "trigger", "level": self.level, "rising": self.rising})
        keep = int(3 * WINDOW * self.rate)
        self.tach = np.concatenate([self.tach, got.channels["tach"]])[-keep:]
        x = got.channels["signal"] * self.scale
        self.signal = np.concatenate([self.signal, x])[-max(self.frame, int(0.125 * self.rate)) :]
        self.t += x.size / self.rate
        self._speed()
        if self.rpm is not None:
            self.track = [*self.track, (round(self.t, 3), self.rpm)][-600:]
        self._advance()

    def _speed(self) -> None:
        """The speed now, its spread, and plain words where there is none."""
        for span in (WINDOW, 3 * WINDOW):
            times = pulse_times(self.tach[-int(span * self.rate) :], self.rate, self.level, self.rising)
            if times.size >= 6:
                break
        swing = float(np.ptp(self.tach))
        self.rpm = None
        if times.size < 4:
            outside = self.level is not None and not self.tach.min() < self.level < self.tach.max()
            self.why = (
                f"the trigger level lies outside the pulses ({self.tach.min():.2g} V to {self.tach.max():.2g} V)"
                if outside
                else f"no pulses: the tach moves by {swing:.2g} V only; check its cable"
                if swing < 0.5
                else "too few pulses: check the trigger level, or it turns too slowly"
            )
            return
        number, t, self.missing, self.extra = repaired(times)
        per = self.settings.pulses_per_rev
        usual = np.median(np.abs(np.diff(t) / np.diff(number)))
        step = np.diff(times)
        alike = np.abs(np.log(step[1:] / step[:-1])) < ALIKE
        if usual <= 0 or np.mean(alike) < 0.5:
            self.why = "the pulses come at random: the trigger level sits in the noise"
            return
        # The newest half, so that a changing speed is not told late.
        half = t.size // 2
        self.rpm = float(60 / per / np.median(np.diff(t[half:]) / np.diff(number[half:])))
        line = np.polyval(np.polyfit(number, t, min(3, t.size - 2)), number)
        self.spread = 100 * 1.4826 * float(np.median(np.abs(t - line))) * self.rpm / 60
        self.why = ""

    def _advance(self) -> None:
        low, high, _ = self.range
        v, kind = self.rpm, self.settings.run
        if self.stage == "waiting" and v is not None:
            before = np.array([r for t, r in self.track if t > self.t - 1.2])
            third = max(before.size // 3, 1)
            trend = float(np.mean(before[-third:]) - np.mean(before[:third])) / v if before.size > 5 else 0.0
            falling, climbing = trend < -TREND, trend > TREND
            inside = low <= v <= high
            ready = (
                inside if kind == "steady"
                else v <= min(1.02 * high, 1e9) and v > 0.9 * high and falling if kind == "down" and math.isfinite(high)
                else v >= 0.98 * low and v < 1.15 * low and climbing if kind == "up" and low > 0
                else inside
            )  # fmt: skip
            if ready:
                self.stage, self.began = "recording", self.t
                self.last = float("inf") if kind == "down" else -float("inf")
        elif self.stage == "recording":
            self._row()
            over = self.t - self.began > self.settings.duration
            if v is not None:
                over |= kind == "down" and v < low * (1 - OUT) or kind == "up" and v > high * (1 + OUT)
                still = [r for t, r in self.track if t > self.t - 1.2]
                if kind != "steady" and self.t - self.began > 3 and len(still) > 4:
                    # It came to rest just at the range's end.
                    end = low if kind == "down" else high
                    over |= abs(v / end - 1) < OUT and float(np.ptp(still)) < 0.004 * v
            if over:
                self.stage = "over"

    def _row(self) -> None:
        """One more row of the map when the speed has moved by a step."""
        if self.rpm is None or self.signal.size < self.frame:
            return
        step = self.range[2]
        steady = self.settings.run == "steady"
        if steady and self.rows and self.t - self.began < len(self.rows) * 0.5:
            return
        if not steady and abs(self.rpm - self.last) < step:
            return
        self.last = self.rpm
        piece = self.signal[-self.frame :]
        y = np.abs(np.fft.rfft((piece - piece.mean()) * self.window)) * math.sqrt(2) / self.window.sum()
        spacing = self.rate / self.frame
        for k in self.settings.orders:
            at = round(k * self.rpm / 60 / spacing)
            near = y[max(at - 1, 0) : at + 2]
            self.orders[k] = [*self.orders.get(k, []), float(near.max()) if near.size else 0.0][-ROWS:]
        over, newest = peaks_of_lines(y[: int(0.9 * y.size)], spacing, 2 * LINES)
        self.spectrum = (rounded(over, 5), rounded(newest, 3))
        top = int(y.size * min(1.0, self._top() / (self.rate / 2)))
        f, lines = peaks_of_lines(y[:top], spacing, LINES)
        self.lines = f
        self.rows = [*self.rows, rounded(lines, 3)][-ROWS:]
        self.speeds = [*self.speeds, round(self.rpm, 1)][-ROWS:]
        heard = self.heard(piece - piece.mean())[-int(0.125 * self.rate) :]
        rms = float(np.sqrt(np.mean(heard**2)))
        level = 20 * math.log10(max(rms, 1e-12) / P0) if self.unit == "Pa" else rms
        self.overall = [*self.overall, round(level, 3)][-ROWS:]

    def _top(self) -> float:
        """Hz that the live map reaches: as asked for, or half again the highest order at the highest speed."""
        if self.settings.map_to is not None:
            return min(self.settings.map_to, 0.45 * self.rate)
        high = self.range[1] if math.isfinite(self.range[1]) else max((r for _, r in self.track), default=3000.0)
        return min(max(1.5 * max(self.settings.orders) * high / 60, 500.0), 0.45 * self.rate)

    def told(self) -> dict[str, Any]:
        """What faces show."""
        t, y = envelope(self.tach[-int(0.5 * self.rate) :], 300)
        low, high = (float(v) for v in np.percentile(self.tach, [0.5, 99.5])) if self.tach.size else (0.0, 0.0)
        if high <= low:
            low, high = float(self.tach.min()), float(self.tach.max())
        return {
            "stage": self.stage, "rpm": self.rpm, "why": self.why, "spread": self.spread, "missing": self.missing,
            "extra": self.extra, "at": self.t - self.began if self.stage != "waiting" else 0.0,
            "of": self.settings.duration, "rising": self.rising,
            "level": self.level if self.level is not None else (low + high) / 2,
            "pulses": {"t": rounded(t / self.rate, 6), "v": rounded(y, 4)},
            "map": {"f": rounded(self.lines, 5), "rpm": self.speeds, "rows": self.rows},
            "overall": self.overall, "newest": {"f": self.spectrum[0], "y": self.spectrum[1]},
            "orders": {f"{k:g}": rounded(np.array(v), 4) for k, v in self.orders.items()}, "unit": self.unit,
            "track": [list(p) for p in self.track[-300:]],
        }  # fmt: skip


def perform(settings: SpeedSettings, facts: Facts) -> Performance:
    """Listen until the speed has run through its range."""
    run = SpeedRun(settings, facts)
    silence = np.zeros(facts.block)
    got = yield Want(silence)
    shown = 0
    while run.stage != "over":
        before = run.stage
        run.heed(got)
        shown += 1
        if before == "waiting" != run.stage:
            # Of a run that is cut this is all that is known of its stretch.
            run.marks.append({"t": run.t, "kind": "rotation", "start": max(run.began - MARGIN, 0.0)})
        if any(o["order"] == "skip" for o in got.orders) or (run.stage == "waiting" and run.t > PATIENCE):
            break
        live = run.told() if shown % 3 == 0 or run.stage != before else None
        got = yield Want(silence, marks=tuple(run.marks), live=live)
        run.marks.clear()
    if run.stage == "waiting":
        return
    for _ in range(math.ceil(MARGIN * run.rate / facts.block)):
        run.heed(got)
        got = yield Want(silence)
    start, stop = max(run.began - MARGIN, 0.0), run.t
    yield Want(silence, marks=({"t": run.t, "kind": "rotation", "start": start, "stop": stop},), live=run.told())
