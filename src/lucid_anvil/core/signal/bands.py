"""Fractional-octave bands after IEC 61260-1: exact frequencies, filters of class 1, levels per band."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from ..errors import BadInput
from .sinefit import Floats

G = 10**0.3
"""Octave ratio of the base-ten system (IEC 61260-1, 5.2)."""
ORDER = 4
"""Pole pairs of a band filter."""
WIDEST = 0.45
"""Upper band edge as a share of the sampling rate up to which a filter is made."""


def mid_frequencies(start: float, stop: float, fraction: int) -> Floats:
    """Exact mid-band frequencies [Hz] of 1/`fraction`-octave bands whose middles lie between `start` and `stop`, both
    widened by a quarter of a band so that nominal values may be given (IEC 61260-1, equations 2 and 3)."""
    if fraction < 1 or start <= 0 or stop < start:
        raise BadInput("bands: they need a fraction of 1 or more and a start above zero, not above the stop.")
    shift = 0.0 if fraction % 2 else 0.5
    low = np.ceil(fraction * np.log(start / 1e3) / np.log(G) - 0.25 - shift)
    high = np.floor(fraction * np.log(stop / 1e3) / np.log(G) + 0.25 - shift)
    return np.asarray(1e3 * G ** ((np.arange(low, high + 1) + shift) / fraction))


def edges(mid: Floats, fraction: int) -> tuple[Floats, Floats]:
    """Band-edge frequencies [Hz] (IEC 61260-1, equations 4 and 5)."""
    half = G ** (1 / (2 * fraction))
    return np.asarray(mid) / half, np.asarray(mid) * half


def mask(ratio: Floats, fraction: int) -> tuple[Floats, Floats]:
    """Least and greatest relative attenuation [dB] that class 1 allows at frequencies of `ratio` to the middle:
    IEC 61260-1, table 1, breakpoints mapped to the fraction by its equation for b > 1; straight over the logarithm
    of frequency between them."""
    octave = np.array([0.0, 1 / 8, 1 / 4, 3 / 8, 0.5, 1.0, 2.0, 3.0, 4.0])
    least_in = np.array([-0.4, -0.4, -0.4, -0.4, -0.4])
    most_in = np.array([0.4, 0.5, 0.7, 1.4, 5.3])
    least_out = np.array([1.6, 16.6, 40.5, 60.0, 70.0])
    high = 1 + (G ** (1 / (2 * fraction)) - 1) / (G**0.5 - 1) * (G**octave - 1)
    x = np.abs(np.log(np.asarray(ratio, dtype=float)))
    at = np.log(high)
    inside = x <= at[4] * (1 + 1e-9)
    least = np.where(inside, np.interp(x, at[:5], least_in), np.interp(x, at[4:], least_out))
    most = np.where(inside, np.interp(x, at[:5], most_in), np.inf)
    return least, most


def _design(low: float, high: float, rate: float) -> Floats:
    from scipy import signal

    return np.asarray(signal.butter(ORDER, [low, high], "bandpass", fs=rate, output="sos"))


def effective_bandwidth(sections: Floats, mid: float, fraction: int, rate: float) -> float:
    """dB by which a filter's effective bandwidth lies above the nominal one: ∫|H|² dln f over ln G/b
    (IEC 61260-1, 3.15 and 5.12)."""
    from scipy import signal

    y = np.linspace(-2.5 * np.log(G), min(2.5 * np.log(G), np.log(0.4999 * rate / mid)), 6001)
    _, response = signal.sosfreqz(sections, mid * np.exp(y), fs=rate)
    return float(10 * np.log10(np.trapezoid(np.abs(response) ** 2, y) * fraction / np.log(G)))


@lru_cache(maxsize=256)
def band_filter(mid: float, fraction: int, rate: float) -> Floats:
    """Second-order sections of one band: Butterworth, its edges moved together until the effective bandwidth is the
    nominal one at this sampling rate. Raises BadInput where the band does not fit below half the rate."""
    half = np.log(G) / (2 * fraction)
    if mid * np.exp(half) > WIDEST * rate:
        raise BadInput(f"bands: {mid:.5g} Hz does not fit a sampling rate of {rate:g} Hz: leave it out.")
    narrow = np.pi / (2 * ORDER) / np.sin(np.pi / (2 * ORDER))
    wide = half / narrow
    made = _design(mid * np.exp(-wide), mid * np.exp(wide), rate)
    for _ in range(6):
        off = effective_bandwidth(made, mid, fraction, rate)
        if abs(off) < 1e-3:
            break
        wide *= 10 ** (-off / 10)
        made = _design(mid * np.exp(-wide), mid * np.exp(wide), rate)
    return made


@dataclass(frozen=True)
class BandLevels:
    """Mean squares per band."""

    mid: Floats
    """Hz"""
    power: Floats
    """(channels, bands), unit²"""


def halved(x: Floats) -> Floats:
    """Every second sample after a linear-phase low-pass, flat within 0.001 dB up to 0.3 of the new rate."""
    from scipy import signal

    taps = signal.firwin(127, 0.78, window=("kaiser", 8.0), fs=4.0)
    return np.asarray(signal.upfirdn(taps, x, 1, 2, axis=-1)[..., 31 : 31 + (x.shape[-1] + 1) // 2])


def band_levels(x: Floats, rate: float, mid: Floats, fraction: int, settle: float = 0.0) -> BandLevels:
    """Mean square of each channel (channels, n) in each band, after `settle` [s] for the filters to swing in. Low bands
    are computed at a halved rate, again and again, so that each costs the less the lower it lies."""
    from scipy import signal

    order = np.argsort(mid)[::-1]
    held, at = np.atleast_2d(np.asarray(x, dtype=float)), rate
    power = np.zeros((held.shape[0], len(mid)))
    for i in order:
        f = float(mid[i])
        while f * G ** (1 / fraction) < 0.05 * at and held.shape[1] > 4096:
            held, at = halved(held), at / 2
        y = signal.sosfilt(band_filter(f, fraction, at), held, axis=-1)[:, int(settle * at) :]
        power[:, i] = np.mean(y**2, axis=-1)
    return BandLevels(np.asarray(mid), power)
