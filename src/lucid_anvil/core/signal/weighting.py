"""Frequency weightings A, C and Z after IEC 61672-1, as exact formulas and as filters without bilinear droop."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from ..errors import BadInput
from .sinefit import Floats

KINDS = ("A", "C", "Z")


def _corners() -> tuple[float, float, float, float]:
    """f1 to f4 [Hz] from the standard's defining frequencies (IEC 61672-1, annex E)."""
    reference, low, high, wide = 1e3, 10**1.5, 10**3.9, 10**2.45
    d = np.sqrt(0.5)
    b = (reference**2 + low**2 * high**2 / reference**2 - d * (low**2 + high**2)) / (1 - d)
    c = (low * high) ** 2
    root = np.sqrt(b * b - 4 * c)
    return (
        float(np.sqrt((-b - root) / 2)),
        float((3 - np.sqrt(5)) / 2 * wide),
        float((3 + np.sqrt(5)) / 2 * wide),
        float(np.sqrt((-b + root) / 2)),
    )


CORNERS = _corners()
"""20.6, 107.7, 737.9 and 12194 Hz"""


def _shape(f: Floats, kind: str) -> Floats:
    f1, f2, f3, f4 = CORNERS
    s = np.asarray(f, dtype=float) ** 2
    c = f4**2 * s / ((s + f1**2) * (s + f4**2))
    return c if kind == "C" else c * s / np.sqrt((s + f2**2) * (s + f3**2))


def gain(frequency: Floats, kind: str) -> Floats:
    """Weighting as a factor on amplitude, 1 at 1 kHz; `frequency` [Hz]. IEC 61672-1, equations E.1 and E.6, not the
    rounded table. Raises BadInput for an unknown kind."""
    if kind not in KINDS:
        raise BadInput(f"weighting: '{kind}' is not known; use {', '.join(KINDS)}.")
    f = np.asarray(frequency, dtype=float)
    if kind == "Z":
        return np.ones_like(f)
    return np.asarray(_shape(f, kind) / _shape(np.array(1e3), kind))


@lru_cache(maxsize=16)
def _designed(kind: str, rate: float) -> tuple[Floats, Floats]:
    """Second-order sections of the low corners, and the linear-phase taps that make up the rest exactly."""
    from scipy import signal

    f1, f2, f3, _ = CORNERS
    low = (f1, f1) if kind == "C" else (f1, f1, f2, f3)
    poles = [-2 * np.pi * f for f in low]
    sections = np.asarray(signal.zpk2sos(*signal.bilinear_zpk([0.0] * len(low), poles, 1.0, rate)))
    half = 128 * max(1, round(rate / 51200))
    grid = np.linspace(0, rate / 2, 16 * half + 1)
    _, made = signal.sosfreqz(sections, grid[1:], fs=rate)
    rest = gain(grid[1:], kind) / np.abs(made)
    whole = np.fft.irfft(np.concatenate([rest[:1], rest]))
    taps = np.concatenate([whole[-half:], whole[: half + 1]]) * np.kaiser(2 * half + 1, 4.0)
    return sections, taps


@dataclass(frozen=True)
class Weighting:
    """A weighting as a filter at a sampling rate."""

    kind: str
    rate: float

    def response(self, frequency: Floats) -> Floats:
        """Magnitude of the filter as it is built, at `frequency` [Hz]."""
        if self.kind == "Z":
            return np.ones_like(frequency)
        from scipy import signal

        sections, taps = _designed(self.kind, self.rate)
        _, low = signal.sosfreqz(sections, frequency, fs=self.rate)
        _, rest = signal.freqz(taps, worN=frequency, fs=self.rate)
        return np.abs(low * rest)

    def __call__(self, x: Floats) -> Floats:
        """Weighted samples, the last axis in time and as long as it was; the linear-phase part's delay taken off."""
        if self.kind == "Z":
            return np.asarray(x, dtype=float)
        from scipy import signal

        sections, taps = _designed(self.kind, self.rate)
        low = signal.sosfilt(sections, x, axis=-1)
        shape = (1,) * (low.ndim - 1) + (taps.size,)
        return np.asarray(signal.oaconvolve(low, taps.reshape(shape), mode="same", axes=-1))


def weighting(kind: str, rate: float) -> Weighting:
    """The filter of a kind (A, C or Z) at `rate` [Hz]. Raises BadInput for an unknown kind."""
    gain(np.array([1e3]), kind)
    return Weighting(kind, rate)
