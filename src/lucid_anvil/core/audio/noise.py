"""Noise at an output: its rms in a bandwidth, weighted or not, and how much of it is mains hum (IEC 60268-3, 14.13)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..signal.sinefit import Floats
from ..signal.spectra import lines
from ..signal.weighting import gain
from .distortion import band_power
from .tones import density, weights

REACH = 3
"""Lines on either side that hold a tone's power under the squared Hann window"""
PULL = 0.006
"""What the mains' frequency may be off its nominal one, as a ratio"""


@dataclass(frozen=True)
class Noise:
    """Of one record. Arrays are one value a multiple of the mains."""

    rms: float
    doubt: float
    """Expanded (k = 2): the scatter of a record of this length"""
    mains: float | None
    """Hz as found; None where the record is too short, or shows no line at any multiple"""
    multiples: Floats
    """Hz of the multiples that stand out"""
    levels: Floats
    """rms of each, weighted as the noise is"""
    share: float | None
    """Their power over all power, 0 to 1; None where the record is too short to tell"""


def measure(x: Floats, rate: float, band: tuple[float, float], kind: str = "Z", mains: float | None = None) -> Noise:
    """rms of samples `x` [unit] at `rate` [Hz] within `band` [Hz, edges ideal], weighted after IEC 61672-1 (`kind` A, C
    or Z), and the mains' part of it; `mains` 50 or 60 Hz, None for whichever shows."""
    x = x - x.mean()
    high = min(band[1], rate / 2)
    f, _ = density(x, rate)
    power = band_power(x, rate, band[0], high, gain(f, kind))
    rms = float(np.sqrt(power))
    scatter = _scatter(x, rate, band[0], high, kind)
    if x.size / rate * 50 < 12:
        return Noise(rms, 2 * rms * scatter, None, np.zeros(0), np.zeros(0), None)
    found = [_lines(x, rate, (band[0], high), kind, m) for m in ((mains,) if mains else (50.0, 60.0))]
    at, where, levels = max(found, key=lambda one: float(np.sum(one[2] ** 2)))
    share = min(float(np.sum(levels**2)) / power, 1.0) if power > 0 else 0.0
    return Noise(rms, 2 * rms * scatter, at if where.size else None, where, levels, share)


def _scatter(x: Floats, rate: float, low: float, high: float, kind: str) -> float:
    """Standard deviation of the rms as a ratio: half of one over the root of bandwidth times time, the bandwidth that
    which white noise would have had the spectrum's unevenness (Bendat & Piersol, 8.3)."""
    f, held = density(x, rate)
    inside = (f >= low) & (f <= high)
    shape = held[inside] * gain(f[inside], kind) ** 2
    if not shape.any():
        return 0.0
    # Lines that stand out are tones, which do not scatter; what scatters is the even ground below them.
    ground = np.minimum(shape, 8 * np.median(shape)) if shape.size > 40 else shape
    wide = float(np.sum(ground) ** 2 / np.sum(ground**2)) * float(f[1])
    return float(0.5 / np.sqrt(max(wide * x.size / rate, 0.25)) * np.sum(ground) / np.sum(shape))


def _lines(x: Floats, rate: float, band: tuple[float, float], kind: str, nominal: float
           ) -> tuple[float, Floats, Floats]:  # fmt: skip
    """Frequency of the mains as it is, multiples [Hz] that stand out, and the rms of each."""
    w = weights(x.size) ** 2
    held = 2 * np.abs(np.fft.rfft(x * w)) ** 2 / np.sum(w) ** 2
    width = x.size * np.sum(w**2) / np.sum(w) ** 2
    f = lines(x.size, rate)
    step = f[1]
    at = _mains(held, step, nominal)
    where, levels = [], []
    reach = max(int(0.4 * nominal / step), REACH + 4)
    for one in np.arange(at, min(band[1], f[-1]), at):
        k = int(round(one / step))
        near = held[max(k - REACH, 0) : k + REACH + 1]
        around = np.concatenate([held[max(k - reach, 1) : max(k - REACH - 1, 1)], held[k + REACH + 2 : k + reach + 1]])
        floor = float(np.median(around)) / np.log(2) if around.size else 0.0
        excess = float(np.sum(near)) - near.size * floor
        if one >= band[0] and excess > 30 * floor:
            where.append(float(one))
            levels.append(np.sqrt(excess / width) * float(gain(np.array([one]), kind)[0]))
    return at, np.array(where), np.array(levels)


def _mains(held: Floats, step: float, nominal: float) -> float:
    """The mains' frequency from the line that stands out most among its first multiples, higher ones telling more."""
    best, at = 0.0, nominal
    for m in range(1, 21):
        low, high = (int(np.floor(m * nominal * (1 - PULL) / step)) - 1, int(m * nominal * (1 + PULL) / step) + 2)
        if high + 1 >= held.size or low < 1:
            break
        top = low + int(np.argmax(held[low : high + 1]))
        around = float(np.median(held[max(low - 20, 1) : high + 21]))
        out = float(held[top]) / max(around, 1e-300)
        if out < 40:
            continue
        a, b, c = np.log(np.maximum(held[top - 1 : top + 2], 1e-300))
        bend = a - 2 * b + c
        here = (top + (0.5 * (a - c) / bend if bend < 0 else 0.0)) * step / m
        weight = np.log(out) * m
        if weight > best and abs(here / nominal - 1) <= PULL:
            best, at = float(weight), float(here)
    return at
