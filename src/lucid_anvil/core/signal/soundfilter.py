"""Filters for listening: stops and passes that are switched in and out while a signal plays, without a click."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .sinefit import Floats

KINDS = ("band-stop", "band-pass", "low-pass", "high-pass")
ORDER = 4
FADE = 0.02
"""s over which filtered and unfiltered change places"""


@dataclass(frozen=True)
class Band:
    """One filter. A low-pass ends at `high`, a high-pass begins at `low` [Hz]."""

    kind: str
    low: float
    high: float

    def sections(self, rate: float) -> Floats:
        """Butterworth sections (n, 6) of the fourth order, corners kept off zero and half the rate."""
        from scipy.signal import butter

        top = 0.499 * rate
        low, high = sorted((min(max(self.low, 1e-4 * rate), 0.98 * top), min(max(self.high, 2e-4 * rate), 0.99 * top)))
        name = {"band-stop": "bandstop", "band-pass": "bandpass", "low-pass": "lowpass", "high-pass": "highpass"}
        corner = {"low-pass": high, "high-pass": low}.get(self.kind, (low, max(high, 1.001 * low)))
        return np.asarray(butter(ORDER, corner, name[self.kind], fs=rate, output="sos"))


class Chain:
    """Filters one after the other, block by block; `on` switches all of them in or out."""

    def __init__(self, bands: tuple[Band, ...], rate: float, on: bool = True) -> None:
        self.bands, self.rate, self.on = bands, rate, on
        self.share = 1.0 if on else 0.0
        self.sections = [b.sections(rate) for b in bands]
        self.states = [np.zeros((s.shape[0], 2)) for s in self.sections]

    def __call__(self, x: Floats) -> Floats:
        """One block (n,). The filters run on while they are switched out, so that they come in settled."""
        if not self.sections or not x.size:
            return x
        from scipy.signal import sosfilt

        y = x
        for i, sections in enumerate(self.sections):
            y, self.states[i] = sosfilt(sections, y, zi=self.states[i])
        goal = 1.0 if self.on else 0.0
        step = 1 / (FADE * self.rate)
        ramp = self.share + np.sign(goal - self.share) * step * np.arange(1, x.size + 1)
        ramp = np.clip(ramp, min(goal, self.share), max(goal, self.share))
        self.share = float(ramp[-1]) if x.size else self.share
        return np.asarray(ramp * y + (1 - ramp) * x)


def gain(bands: tuple[Band, ...], f: Floats, rate: float) -> Floats:
    """Magnitude of the chain at frequencies [Hz]."""
    from scipy.signal import sosfreqz

    total = np.ones(np.shape(f))
    for band in bands:
        _, h = sosfreqz(band.sections(rate), worN=np.asarray(f), fs=rate)
        total = total * np.abs(h)
    return np.asarray(total)


def for_ear(x: Floats, peak: float = 0.7) -> Floats:
    """A signal brought to a level that can be listened to: its offset off, its 99.9th percentile at `peak`."""
    x = x - np.mean(x)
    top = float(np.quantile(np.abs(x), 0.999)) if x.size else 0.0
    return np.asarray(np.clip(x * (peak / top if top > 0 else 0.0), -1.0, 1.0))
