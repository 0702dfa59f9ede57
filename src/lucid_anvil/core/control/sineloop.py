"""Control of a sine: the drive that makes the control level the target while the frequency moves.

The plant's gain at the present frequency is the control's phasor over the drive's, both through one tracking
filter, so that the filter's lag and the loop's delay fall out of it. Its ratio to the response that the probe run
found is carried forward to the time at which the drive now computed will act, along the straight line of its last
readings; the drive is the target over that gain. How far the modes have moved since the probe run is learned from
their skirts (`moving`), so that a sharp one is met before it is reached. At rest in frequency the ratio is averaged
over several times what the mode needs to settle: a quick loop would chase its transients.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field

import numpy as np

from ..signal.sinefit import Floats
from ..signal.tracking import PhasorBank
from .moving import STEP, Moving
from .plant import LoopResponse
from .points import combined
from .twin import Twin

FALL = 6.0
"""dB/s by which the plant's gain is let fall against its model while the frequency stands"""
ARRIVING = 1.2
"""s after a start in which the gain may be found anew: it comes up from 20 dB below"""
TREND = 0.2
"""s at least over which the trend of the ratio is taken while it is swept; over less a sharp mode (Q of 50 at
4 oct/min, blocks of 12.5 ms) swings the loop"""
SWEPT = 120.0
"""dB an octave more while it is swept: a mode that moved"""


@dataclass(frozen=True)
class Regulation:
    """How a sine is controlled."""

    periods: float = 8.0
    """of the tracking window; its half-power width is about 1.4·f/periods"""
    bandwidth: float | None = None
    """Hz, a fixed width of the tracking filter instead of a share of the frequency"""
    shortest: float = 0.04
    """s of window at least, one block"""
    combine: str = "average"
    """average, maximum or minimum of several control points"""
    detect: str = "tracking"
    """tracking, rms or peak"""
    compression: float = 200.0
    """dB/s, the fastest change of the drive"""
    most_correction: float = 30.0
    """dB by which the gain may differ from what the probe run found"""

    def window(self, frequency: float) -> float:
        """s"""
        held = 1.44 / self.bandwidth if self.bandwidth else self.periods / frequency
        return max(held, self.shortest)


@dataclass(frozen=True)
class Reading:
    """What the loop saw in one block."""

    frequency: float
    """Hz, at the centre of the tracking window"""
    age: float
    """s ago of that centre"""
    levels: Floats
    """peak of each channel, in its unit"""
    phases: Floats
    """rad of each channel, re the drive"""
    control: float
    """combined control level, peak"""
    drive: float
    """V peak"""


@dataclass
class SineLoop:
    """State of the control. Channels: the control points first, then the responses."""

    rate: float
    block: int
    controls: int
    channels: int
    plant: LoopResponse | None
    regulation: Regulation
    ceiling: float
    """V peak, never exceeded"""
    lead: float
    """s from the end of the newest block to the end of the one now computed"""
    limits: dict[int, float] = field(default_factory=dict)
    """peak level that a channel may not exceed, which notches the target"""
    amplitude: float = 0.0
    lowest: float = 5.0
    highest: float = 2000.0
    trust: float = 0.5
    """how much of the ratio's trend is carried forward"""

    def __post_init__(self) -> None:
        piece = max(self.block // 8, 16)
        while self.block % piece:
            piece -= 1
        longest = max(self.regulation.window(self.lowest), 0.1)
        self.bank = PhasorBank(self.channels + 1, piece, self.rate, longest)
        self.twin: Twin | None = None
        if self.plant is not None:
            self.twin = Twin(self.plant, self.channels, self.rate, self.block, self.highest)
            self.told = self._telling(self.plant)
            rows = [*range(self.controls), *self.told] * 2
            self.side = Twin(self.plant.rows(rows), len(rows), self.rate, self.block, self.highest)
            self.side.become(STEP * np.repeat([-1.0, 1.0], len(rows) // 2))
            self.tail = np.zeros((self.channels + 2, self.twin.late * self.twin.thin))
            while self.block // self.twin.thin % (self.block // piece):
                piece *= 2
            slow = self.rate / self.twin.thin
            self.shadow = PhasorBank(self.channels + len(rows), piece // self.twin.thin, slow, longest)
        self.trail: deque[tuple[float, float, Floats]] = deque(maxlen=256)
        """When, at which frequency [Hz], and ln of the gains seen over those of the model"""
        self.moving = Moving(self.block / self.rate)
        self.moved = 0.0
        """share by which the twins' modes are moved now"""
        self.lowest_gain: float | None = None
        self.held: float | None = None
        """Hz at which the model is taken while a resonance is followed: the mode moves with the frequency"""
        self.now = self.arrived = 0.0
        self.raw: deque[Floats] = deque(maxlen=64)
        self.reading: Reading | None = None

    def observe(self, x: Floats, drive: Floats, phase: Floats, frequency: float) -> Reading:
        """One block: channels (c, n) in their units, drive (n,) V as played, the carrier's phase at each sample."""
        self.now += self.block / self.rate
        lag = 0.0
        rows = np.vstack([x, drive])
        if self.twin is not None:
            shadow = np.vstack([self.twin(drive), self.side(drive)])
            late = self.twin.late * self.twin.thin
            lag = late / self.rate
            whole = np.concatenate([self.tail, np.vstack([rows, phase])], axis=1)
            self.tail = whole[:, whole.shape[1] - late :]
            rows, phase = whole[:-1, : self.block], whole[-1, : self.block]
            self.shadow.feed(shadow, phase[:: self.twin.thin], frequency)
        self.bank.feed(rows, phase, frequency)
        held = self.regulation.window(frequency)
        p, f, age = self.bank.read(held)
        age += lag
        levels = np.abs(p[:-1])
        if self.regulation.detect != "tracking":
            self.raw.append(x)
            levels = self._broadband(held)
        drive_level = float(np.abs(p[-1]))
        phases = np.angle(p[:-1] * np.conj(p[-1]))
        made = Reading(f, age, levels, phases, self._combined(levels[: self.controls]), drive_level)
        self.reading = made
        if drive_level > 1e-5:
            seen = np.append(made.control, levels) / drive_level
            if self.twin is not None and self.held is None:
                whole_q = np.maximum(np.abs(self.shadow.read(held)[0]) / drive_level, 1e-12)
                q = whole_q[: self.channels]
                model = np.maximum(np.append(self._combined(q[: self.controls]), q), 1e-9)
                self._learn(seen, model, whole_q[self.channels :], f)
            else:
                model = self._model(f)
            bound = self.regulation.most_correction * np.log(10) / 20
            ratio = np.minimum(np.maximum(np.log(np.maximum(seen, 1e-9) / model), -bound), bound)
            self.trail.append((self.now - age, f, ratio))
            self._move()
        return made

    def follow(self, frequency: float) -> None:
        """From now on the frequency goes with a resonance: the gain there stays what it is seen to be."""
        self.held, self.lowest_gain, self.arrived = frequency, None, self.now
        self.trail.clear()
        if self.reading is not None and self.reading.drive > 1e-5:
            seen = np.append(self.reading.control, self.reading.levels) / self.reading.drive
            self.trail.append((self.now, frequency, np.log(np.maximum(seen, 1e-9) / self._model(frequency))))

    def release(self) -> None:
        """The frequency goes its own way again."""
        self.held, self.lowest_gain = None, None
        self.trail.clear()

    def arrive(self) -> None:
        """Begin at another frequency: of the readings before only what was known last stays."""
        while len(self.trail) > 1:
            self.trail.popleft()
        self.arrived = self.now

    def _telling(self, plant: LoopResponse) -> list[int]:
        """The two responses that rise highest over the control in the band: they tell where the modes are."""
        band = (plant.frequency >= self.lowest) & (plant.frequency <= self.highest)
        over = np.abs(plant.smoothed[: self.channels, band]) / np.maximum(np.abs(plant.smoothed[0, band]), 1e-12)
        good = np.where(plant.coherence[: self.channels, band] > 0.7, over, 0.0)
        peaks = good.max(axis=1, initial=0.0)
        others = sorted(range(self.controls, self.channels), key=lambda i: -peaks[i])
        return [i for i in others[:2] if peaks[i] > 2.0]

    def _learn(self, seen: Floats, model: Floats, side: Floats, frequency: float) -> None:
        """How far the modes have moved, from what was seen against the twin and the twins at its side."""
        low, high = side.reshape(2, -1)
        c = self.controls

        def slope(k: int | None) -> float:
            if k is None:
                return float(np.log(self._combined(high[:c]) / self._combined(low[:c]))) / (2 * STEP)
            return float(np.log(high[c + k] / low[c + k])) / (2 * STEP)

        off = np.log(np.maximum(seen, 1e-12) / model)
        steep = slope(None)
        best: tuple[float, float] | None = None
        for k, channel in enumerate(self.told):
            one = slope(k) - steep
            if best is None or abs(one) > abs(best[1]):
                best = (float(off[1 + channel] - off[0]), one)
        self.moving.learn((float(off[0]), steep), best, frequency)

    def _move(self) -> None:
        """Move the twins' modes to where they are now, once that has gone far enough to matter."""
        assert self.twin is None or self.plant is not None
        if self.twin is None or self.held is not None or abs(self.moving.at - self.moved) < 0.0008:
            return
        before, self.moved = self.moved, self.moving.at
        self.twin.become(np.full(self.channels, self.moved))
        n = len(self.side.response) // 2
        self.side.become(self.moved + STEP * np.repeat([-1.0, 1.0], n))
        if not self.trail or self.plant is None:
            return
        f = np.array([one[1] for one in self.trail])
        was, now = (self.plant.magnitudes_over(f / (1 + by))[:, : self.channels] for by in (before, self.moved))
        how, c = self.regulation.combine, self.controls
        change = np.column_stack([np.log(combined(was[:, :c].T, how) / combined(now[:, :c].T, how)), np.log(was / now)])
        for i, (t, at, ratio) in enumerate(self.trail):
            self.trail[i] = (t, at, ratio + change[i])

    def _broadband(self, seconds: float) -> Floats:
        """Levels of all that is in the signal, as √2·rms or as peak."""
        count = max(1, int(np.ceil(seconds * self.rate / self.block)))
        x = np.concatenate(list(self.raw)[-count:], axis=1)
        x = x - x.mean(axis=1, keepdims=True)
        if self.regulation.detect == "rms":
            return np.sqrt(2 * np.mean(x**2, axis=1))
        return np.max(np.abs(x), axis=1)

    def _combined(self, levels: Floats) -> float:
        return float(combined(levels, self.regulation.combine))

    def _model(self, frequency: float) -> Floats:
        """Gains per volt that the probe run found, its modes moved: of the combined control, then of every channel."""
        if self.plant is None:
            return np.ones(self.channels + 1)
        frequency = frequency if self.held is None else self.held
        held = self.plant.magnitudes(frequency / (1 + self.moved))[: self.channels]
        return np.concatenate([[self._combined(held[: self.controls])], held])

    def gains(self, frequency: float, steady: float = 0.0) -> Floats:
        """Expected gain per volt at `lead` from now: combined control first, then every channel. `steady` s: the
        frequency hardly moves, and the ratio's mean over that time is taken."""
        model = self._model(frequency)
        if not self.trail:
            return model
        bound = self.regulation.most_correction * np.log(10) / 20
        span = max(1.5 * self.regulation.window(frequency), 8.5 * self.block / self.rate, TREND, steady)
        since = self.trail[-1][0] - span
        recent = [r for r in self.trail if r[0] > since]
        y = np.array([r[2] for r in recent])
        if len(recent) < 4:
            return model * np.exp(y[-1])
        level = y.mean(axis=0)
        if steady > 0:
            return model * np.exp(np.clip(level, -bound, bound))
        t = np.array([r[0] for r in recent])
        # A straight line through the last readings, carried to when the drive acts.
        middle = float(t.mean())
        u = t - middle
        slope = (u @ y) / (u @ u)
        ahead = self.trust * (self.now + self.lead - middle)
        carried = level + np.minimum(np.maximum(ahead * slope, -0.7), 0.7)
        return model * np.exp(np.minimum(np.maximum(carried, -bound), bound))

    def regulate(
        self, frequency: float, target: float, steady: float = 0.0, octaves: float = 0.0
    ) -> tuple[float, float]:
        """Drive amplitude [V peak] at the end of the block now computed, for a target [peak] at its frequency; and
        the target as notched by the response limits. `octaves` a second by which the frequency moves."""
        gains = self.gains(frequency, steady)
        gains[0] = self._not_suddenly(float(gains[0]), frequency, octaves)
        for channel, most in self.limits.items():
            ratio = gains[1 + channel] / gains[0]
            if ratio * target > most:
                target = most / ratio
        wanted = min(target / max(gains[0], 1e-9), self.ceiling)
        step = 10 ** (self.regulation.compression * self.block / self.rate / 20)
        if self.amplitude > 0:
            wanted = float(min(max(wanted, self.amplitude / step), max(self.amplitude * step, 1e-5)))
        else:
            wanted = min(wanted, self.ceiling * 1e-3)
        return wanted, target

    def _not_suddenly(self, gain: float, frequency: float, octaves: float) -> float:
        """The control's gain, not less than it can fall to in a block while nothing breaks: a sensor that loses
        sensitivity must not drive the table up before it is found out."""
        model = float(self._model(frequency)[0])
        share = gain / max(model, 1e-12)
        if self.lowest_gain is not None and self.now - self.arrived > ARRIVING:
            span = self.block / self.rate
            # As much, in dB a second, as leaves the table below 1.3 times until the chain is judged.
            rate = min(FALL, 1.8 / (3 * max(0.07, 2.5 / frequency) + 3 * span)) + SWEPT * octaves
            share = max(share, self.lowest_gain * 10 ** (-rate * span / 20))
        self.lowest_gain = share
        return share * model

    def play(self, amplitude: float, phase: Floats) -> Floats:
        """The block: from the last amplitude straight to this one, on the carrier's phase [rad]."""
        n = phase.size
        envelope = self.amplitude + (amplitude - self.amplitude) * np.arange(1, n + 1) / n
        self.amplitude = amplitude
        return envelope * np.sin(phase)


def fastest_rate(frequency: float, width: float, seconds: float, octaves: bool = True) -> float:
    """The sweep rate (oct/min, or Hz/s) at which a mode of half-power `width` [Hz] at `frequency` [Hz] can be held:
    `seconds` of loop (window and delay) are to be no more than a quarter of the time in which the sweep crosses the
    width, and the mode is to settle (ISO 7626-2, 8.3: rate below 77·f/Q² Hz/min for a logarithmic sweep in octaves)."""
    settle = 0.25 * width**2 * np.pi
    follow = width / (4 * seconds)
    rate = min(settle, follow)
    return float(rate / frequency / np.log(2) * 60) if octaves else float(rate)
