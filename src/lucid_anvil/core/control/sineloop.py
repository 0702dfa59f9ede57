"""Control of a sine: the drive that makes the control level the target while the frequency moves.

The plant's gain at the present frequency is the control's phasor over the drive's, both through one tracking
filter, so that the filter's lag and the loop's delay fall out of it. Its ratio to the response that the probe run
found is carried forward to the time at which the drive now computed will act, along the straight line of its last
readings; the drive is the target over that gain. A sharp mode that moved since the probe run is followed by the
ratio; one that did not is met before it is reached.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field

import numpy as np

from ..signal.sinefit import Floats
from ..signal.tracking import PhasorBank
from .plant import LoopResponse
from .points import combined


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


class Twin:
    """What the probed plant would show for the drive that is played, at a reduced rate: the measure against which
    the real plant's slow changes are read, its transients included."""

    def __init__(self, plant: LoopResponse, channels: int, rate: float, block: int, highest: float) -> None:
        """`highest` [Hz] of the sine."""
        from scipy.fft import next_fast_len

        self.thin = max((k for k in range(1, block + 1) if block % k == 0 and rate / k >= 3 * highest), default=1)
        slow = rate / self.thin
        lines = plant.frequency
        count = int(round(slow / (lines[1] - lines[0]) / 2)) * 2
        f = np.arange(count // 2 + 1) * (lines[1] - lines[0])
        h = np.zeros((channels, f.size), dtype=complex)
        held = min(f.size, lines.size)
        for i in range(channels):
            h[i, :held] = plant.smoothed[i, :held]
            _towards_zero(h[i], f, plant, i)
        edge = np.clip((f / highest - 1.1) / 0.35, 0, 1)
        h *= 0.5 + 0.5 * np.cos(np.pi * edge)
        # What the band edge smears to before the drive is let come late instead.
        self.late = min(32, block // self.thin)
        taps = np.roll(np.fft.irfft(h, count), self.late, axis=1)
        taps[:, -count // 4 :] = 0
        self.block = block // self.thin
        self.size = next_fast_len(count + self.block, real=True)
        self.spectrum = np.fft.rfft(taps, self.size)
        self.memory = np.zeros(self.size)

    def __call__(self, drive: Floats) -> Floats:
        """(channels, block/thin) for one block of drive."""
        self.memory[: -self.block] = self.memory[self.block :]
        self.memory[-self.block :] = drive[:: self.thin]
        return np.fft.irfft(np.fft.rfft(self.memory) * self.spectrum, self.size)[:, -self.block :]


def _towards_zero(h: np.ndarray, f: Floats, plant: LoopResponse, channel: int) -> None:
    """Below the lowest line that can be believed an acceleration goes with f² and turns towards half a turn."""
    good = np.flatnonzero(plant.coherence[channel] > 0.5)
    if good.size == 0 or good[0] >= f.size:
        return
    first = int(good[0])
    turn = float(np.angle(h[first]))
    end = np.pi if turn > 0 else -np.pi
    share = f[:first] / f[first]
    h[:first] = np.abs(h[first]) * share**2 * np.exp(1j * (end + (turn - end) * share))


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
            self.tail = np.zeros((self.channels + 2, self.twin.late * self.twin.thin))
            while self.block // self.twin.thin % (self.block // piece):
                piece *= 2
            self.shadow = PhasorBank(self.channels, piece // self.twin.thin, self.rate / self.twin.thin, longest)
        self.trail: deque[tuple[float, Floats]] = deque(maxlen=64)
        self.now = 0.0
        self.raw: deque[Floats] = deque(maxlen=64)
        self.reading: Reading | None = None

    def observe(self, x: Floats, drive: Floats, phase: Floats, frequency: float) -> Reading:
        """One block: channels (c, n) in their units, drive (n,) V as played, the carrier's phase at each sample."""
        self.now += self.block / self.rate
        lag = 0.0
        rows = np.vstack([x, drive])
        if self.twin is not None:
            shadow = self.twin(drive)
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
            if self.twin is not None:
                q = np.abs(self.shadow.read(held)[0]) / drive_level
                model = np.maximum(np.append(self._combined(q[: self.controls]), q), 1e-9)
            else:
                model = self._model(f)
            bound = self.regulation.most_correction * np.log(10) / 20
            ratio = np.minimum(np.maximum(np.log(np.maximum(seen, 1e-9) / model), -bound), bound)
            self.trail.append((self.now - age, ratio))
        return made

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
        """Gains per volt that the probe run found: of the combined control, then of every channel."""
        if self.plant is None:
            return np.ones(self.channels + 1)
        held = self.plant.magnitudes(frequency)[: self.channels]
        return np.concatenate([[self._combined(held[: self.controls])], held])

    def gains(self, frequency: float) -> Floats:
        """Expected gain per volt at `lead` from now: combined control first, then every channel."""
        model = self._model(frequency)
        if not self.trail:
            return model
        span = max(1.5 * self.regulation.window(frequency), 8.5 * self.block / self.rate)
        since = self.trail[-1][0] - span
        recent = [r for r in self.trail if r[0] > since]
        if len(recent) < 4:
            return model * np.exp(recent[-1][1])
        t = np.array([r[0] for r in recent])
        y = np.array([r[1] for r in recent])
        # A straight line through the last readings, carried to when the drive acts.
        middle, level = float(t.mean()), y.mean(axis=0)
        u = t - middle
        slope = (u @ y) / (u @ u)
        ahead = self.trust * (self.now + self.lead - middle)
        carried = level + np.minimum(np.maximum(ahead * slope, -0.7), 0.7)
        bound = self.regulation.most_correction * np.log(10) / 20
        return model * np.exp(np.minimum(np.maximum(carried, -bound), bound))

    def regulate(self, frequency: float, target: float) -> tuple[float, float]:
        """Drive amplitude [V peak] at the end of the block now computed, for a target [peak] at its frequency; and
        the target as notched by the response limits."""
        gains = self.gains(frequency)
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
