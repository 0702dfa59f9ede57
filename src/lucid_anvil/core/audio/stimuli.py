"""What an amplifier is fed: tones, pairs of tones, sweeps. Each has a peak of 1, so that a level is that of a sine."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..signal.sinefit import Floats


@dataclass(frozen=True)
class Tones:
    """A sum of sines; `parts` of (Hz, share of the peak)."""

    parts: tuple[tuple[float, float], ...]

    def samples(self, first: int, count: int, rate: float) -> Floats:
        """Samples first, first + 1, ... at `rate` [Hz]; phases are counted from sample 0."""
        t = (first + np.arange(count)) / rate
        return np.asarray(sum(share * np.sin(2 * np.pi * f * t) for f, share in self.parts))


@dataclass(frozen=True)
class Sweep:
    """An exponential sweep between two frequencies [Hz] in so many seconds, silent before and after."""

    low: float
    high: float
    seconds: float

    def samples(self, first: int, count: int, rate: float) -> Floats:
        """Samples from `first` on, sample 0 being the sweep's beginning."""
        t = (first + np.arange(count)) / rate
        span = self.seconds / np.log(self.high / self.low)
        inside = (t >= 0) & (t < self.seconds)
        # Faded over a hundredth of its length at either end, against clicks.
        fade = np.clip(np.minimum(t, self.seconds - t) / (0.01 * self.seconds), 0, 1)
        phase = 2 * np.pi * self.low * span * (np.exp(np.clip(t, 0, self.seconds) / span) - 1)
        return np.asarray(np.where(inside, np.sin(phase) * np.sin(np.pi / 2 * fade) ** 2, 0.0))


@dataclass(frozen=True)
class Dwell:
    """One tone after the other, each for so many seconds, faded in and out; silent before and after."""

    frequencies: tuple[float, ...]
    each: float

    @property
    def seconds(self) -> float:
        return self.each * len(self.frequencies)

    def samples(self, first: int, count: int, rate: float) -> Floats:
        """Samples from `first` on, sample 0 being the first tone's beginning."""
        t = (first + np.arange(count)) / rate
        k = np.clip((t / self.each).astype(int), 0, len(self.frequencies) - 1)
        within = t - k * self.each
        fade = np.clip(np.minimum(within, self.each - within) / (0.02 * self.each), 0, 1)
        inside = (t >= 0) & (t < self.seconds)
        tone = np.sin(2 * np.pi * np.array(self.frequencies)[k] * within)
        return np.asarray(np.where(inside, tone * np.sin(np.pi / 2 * fade) ** 2, 0.0))


def modulation(f1: float = 60.0, f2: float = 7000.0) -> Tones:
    """Two tones, the lower four times as large (IEC 60268-3, 14.12.7)."""
    return Tones(((f1, 0.8), (f2, 0.2)))


def difference(f1: float = 18000.0, f2: float = 19000.0) -> Tones:
    """Two tones of one size (IEC 60268-3, 14.12.8)."""
    return Tones(((f1, 0.5), (f2, 0.5)))
