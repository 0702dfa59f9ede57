"""Performing by hand: what the orders ask for is approached slowly, and comes down fast."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Mapping
from typing import Any

import numpy as np
from scipy.signal import butter, sosfilt

from ...contracts.method import Facts, Got, Performance, Want
from ...core.signal.sinefit import Floats
from .by_hand import HandSettings
from .figures import all_figures
from .jog import Jog

UP, DOWN = 12.0, 60.0
"""dB/s at which the level follows an order"""
FLOOR = 1e-3
"""Of the highest level: from rest it begins there"""
GLIDE = 2.0
"""oct/s at which a sine goes to another frequency"""
CREST = 3.0
"""Peak of the noise over its rms; what would be beyond is cut off"""


class Hand:
    """The signal as it stands, and as it was asked for."""

    def __init__(self, settings: HandSettings, facts: Facts) -> None:
        self.settings, self.rate, self.block = settings, facts.rate, facts.block
        self.highest = min(settings.highest, facts.source_range)
        self.band = (0.5, 0.45 * facts.rate)
        self.shape = settings.signal
        self.start, self.to = self._inside(settings.frequency), self._inside(settings.to)
        self.now, self.direction = self.start, 1
        self.level, self.wanted = 0.0, 0.0
        self.phase = 0.0
        self.random = np.random.default_rng(1)
        self.waiting: dict[str, Any] = {}
        """What is asked for and can only begin from rest"""
        self.filter: tuple[Floats, Floats] | None = None

    def _inside(self, frequency: float) -> float:
        return min(max(frequency, self.band[0]), self.band[1])

    def heed(self, order: Mapping[str, Any]) -> None:
        """An order to drive otherwise. Another signal, or another band of noise, waits until this one is down."""
        asked = {k: order[k] for k in ("shape", "frequency", "to") if order.get(k)}
        if asked.get("shape", self.shape) != self.shape or (self.shape == "noise" and asked):
            self.waiting |= asked
        else:
            self._change(asked)
        if order.get("level") is not None:
            self.wanted = min(max(order["level"], 0.0), self.highest)

    def _change(self, asked: Mapping[str, Any]) -> None:
        self.shape = asked.get("shape", self.shape)
        self.start = self._inside(asked.get("frequency", self.start))
        self.to = self._inside(asked.get("to", self.to))
        self.filter = None

    def _next_level(self) -> tuple[float, float]:
        """Level at the block's ends."""
        if self.waiting and self.level == 0:
            self._change(self.waiting)
            self.waiting = {}
        before, span = self.level, self.block / self.rate
        wanted = 0.0 if self.waiting else self.wanted
        if wanted > before:
            least = max(before, min(FLOOR * self.highest, wanted))
            self.level = min(wanted, least * 10 ** (UP * span / 20))
        else:
            fallen = before * 10 ** (-DOWN * span / 20)
            self.level = max(wanted, fallen if fallen > FLOOR * self.highest else 0.0)
        return before, self.level

    def _next_frequency(self) -> tuple[float, float]:
        before, span = self.now, self.block / self.rate
        if self.shape == "sine":
            most = 2 ** (GLIDE * span)
            self.now = min(max(self.start, before / most), before * most)
        elif self.shape == "sweep":
            low, high = sorted((self.start, self.to))
            after = before * 2 ** (self.direction * self.settings.rate / 60 * span)
            if after >= high or after <= low:
                self.direction = -1 if after >= high else 1
            self.now = min(max(after, low), high)
        return before, self.now

    def next_block(self) -> Floats:
        """Volts at the source, (block,): no jump of level, frequency or phase."""
        a, b = self._next_level()
        envelope = a + (b - a) * np.arange(1, self.block + 1) / self.block
        if self.shape == "noise":
            return envelope * self._noise()
        f0, f1 = self._next_frequency()
        f = f0 + (f1 - f0) * (np.arange(self.block) + 0.5) / self.block
        turned = self.phase + 2 * math.pi * np.cumsum(f) / self.rate
        self.phase = float(turned[-1] % (2 * math.pi))
        return np.asarray(envelope * np.sin(turned))

    def _noise(self) -> Floats:
        """Band-limited noise whose cut-off peak is 1."""
        low, high = sorted((self.start, self.to))
        high = max(high, 1.05 * low)
        if self.filter is None:
            sos = butter(4, (low, min(high, self.band[1])), "bandpass", fs=self.rate, output="sos")
            self.filter = (sos, np.zeros((len(sos), 2)))
        sos, state = self.filter
        made, state = sosfilt(sos, self.random.standard_normal(self.block), zi=state)
        self.filter = (sos, state)
        rms = math.sqrt(max((min(high, self.band[1]) - low) / (self.rate / 2), 1e-9))
        return np.asarray(np.clip(made / rms / CREST, -1.0, 1.0))


class HandRun:
    """The run: orders, the last stretch of every input, live figures and rows."""

    def __init__(self, settings: HandSettings, facts: Facts) -> None:
        self.hand, self.settings, self.facts = Hand(settings, facts), settings, facts
        self.blocks = max(2, math.ceil(settings.average * facts.rate / facts.block))
        self.held: deque[Mapping[str, Floats]] = deque(maxlen=self.blocks)
        self.drives: deque[Floats] = deque(maxlen=self.blocks)
        self.figures: dict[str, Any] = {}
        self.asked, self.since = False, 0
        self.rows, self.moving = 0, False
        self.jog = Jog(settings.fastest, settings.crush, facts)

    def row(self, order: Mapping[str, Any], t: float) -> dict[str, Any]:
        """A mark that says which stretch of the record the row is read from."""
        self.rows += 1
        made = {
            "kind": "row", "t": t, "start": max(t - self.settings.average, 0.0), "stop": t, "number": self.rows,
            "shape": self.hand.shape, "level": self.hand.level,
        }  # fmt: skip
        if self.hand.shape == "sine":
            made["frequency"] = self.hand.now
        return made | {k: order[k] for k in ("text", "meter") if order.get(k)}

    def work(self) -> tuple[Any, tuple[Any, ...]] | None:
        """The figures of the last stretch, to be computed aside."""
        self.since += 1
        if self.asked or len(self.held) < self.blocks or self.since < self.blocks:
            return None
        self.asked, self.since = True, 0
        # What is heard now was given out a few blocks ago; a tone that still glides is none to be analysed.
        steady = self.hand.shape == "sine" and self.hand.now == self.hand.start and self.hand.level > 0
        rows = {r: np.concatenate([b[r] for b in self.held]) for r in self.held[-1]}
        return all_figures, (rows, self.facts.rate, self.hand.now if steady else None)

    def live(self, t: float) -> dict[str, Any]:
        hand = self.hand
        drive = float(np.sqrt(np.mean(np.concatenate(self.drives) ** 2))) if self.drives else 0.0
        return {
            "shape": hand.shape, "level": hand.level, "wanted": hand.wanted, "highest": hand.highest, "drive": drive,
            "frequency": hand.now if hand.shape != "noise" else None, "to": hand.to, "rows": self.rows,
            "figures": self.figures, "item": 0, "at": t, "of": self.settings.longest,
            **({"jog": self.jog.live()} if self.jog.there else {}),
        }  # fmt: skip


def perform(settings: HandSettings, facts: Facts) -> Performance:
    """Until it is ended, or its longest time is over; then the level comes down."""
    run, span, t = HandRun(settings, facts), facts.block / facts.rate, 0.0
    got: Got = yield Want(np.zeros(facts.block), marks=({"kind": "by-hand", "t": 0.0},))
    ending = False
    while not (ending and run.hand.level == 0 and run.jog.speed == 0):
        t = got.start
        run.held.append(got.channels)
        run.jog.feel(got.channels)
        if got.result is not None:
            run.figures, run.asked = got.result, False
        marks = []
        for order in got.orders:
            if order["order"] == "drive" and not ending:
                run.hand.heed(order)
            elif order["order"] == "jog" and not ending:
                run.hand.wanted = 0.0  # one or the other
                run.jog.heed(order, t)
            elif order["order"] == "row":
                marks.append(run.row(order, t + span))
            elif order["order"] == "skip":
                ending = True
        ending = ending or t + span >= settings.longest
        if ending:
            run.hand.wanted = run.jog.wanted = 0.0
        drive = run.hand.next_block()
        if run.hand.level == 0:
            moved = run.jog.next_block(t)
            if run.jog.speed and not run.moving:
                marks.append({"kind": "jog", "t": t + span, "speed": run.jog.wanted})
            run.moving = run.jog.speed != 0
            drive = drive + moved
        run.drives.append(drive)
        got = yield Want(drive, marks=tuple(marks), live=run.live(t), compute=run.work())
