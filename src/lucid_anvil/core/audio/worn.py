"""Levels in thirds of an octave as bands with ideal edges, and transfer functions of long records."""

from __future__ import annotations

import numpy as np

from ..signal.bands import edges, mid_frequencies
from ..signal.sinefit import Complexes, Floats
from ..signal.spectra import averaged, frame_for


def band_powers(x: Floats, rate: float, mid: Floats, fraction: int) -> Floats:
    """Mean square (channels, bands) of samples (channels, n) between the edges of each band (IEC 61260-1, 5.4), by one
    transform over all of them (Parseval); a line that an edge cuts is shared."""
    x = np.atleast_2d(x)
    n = x.shape[1]
    power = np.abs(np.fft.rfft(x - x.mean(axis=1, keepdims=True), axis=1)) ** 2 * 2 / n**2
    if n % 2 == 0:
        power[:, -1] /= 2
    return shared(np.asarray(np.fft.rfftfreq(n, 1 / rate), dtype=float), power, mid, fraction)


def shared(f: Floats, density: Floats, mid: Floats, fraction: int) -> Floats:
    """Sums of lines (channels, lines) in each band, a line that an edge cuts counted by its share."""
    low, high = edges(mid, fraction)
    half = (f[1] - f[0]) / 2
    total = np.concatenate([np.zeros((density.shape[0], 1)), np.cumsum(density, axis=1)], axis=1)
    places = np.concatenate([f - half, [f[-1] + half]])
    return np.array([np.interp(high, places, one) - np.interp(low, places, one) for one in total])


def usable(rate: float, low: float, high: float, fraction: int) -> Floats:
    """Middles [Hz] of the bands between low and high that lie below half the rate."""
    mid = mid_frequencies(low, high, fraction)
    return mid[edges(mid, fraction)[1] < 0.5 * rate]


def transfer(x: Floats, y: Floats, rate: float) -> tuple[Floats, Complexes, Floats]:
    """Lines [Hz], response from `x` to `y` by the first estimator, and the power density of `x`; both whole records, a
    sweep or noise (Bendat & Piersol, Random Data, 6.1)."""
    n = x.size
    frame = min(frame_for(rate, 2.0), n - n % 2)
    if n >= 8 * frame:
        made = averaged([np.array([x - x.mean(), y - y.mean()])], 2, rate, frame, 0.75)
        return made.frequency, made.response()[1], made.auto[0]
    size = int(2 ** np.ceil(np.log2(2 * n)))
    a, b = np.fft.rfft(x - x.mean(), size), np.fft.rfft(y - y.mean(), size)
    f = np.asarray(np.fft.rfftfreq(size, 1 / rate), dtype=float)
    power = np.abs(a) ** 2
    # Lines closer than the record tells apart are taken together.
    wide = 2 * max(int(round(size / n)), 1) + 1
    kernel = np.hanning(wide + 2)[1:-1]
    cross = np.convolve(b * np.conj(a), kernel, "same")
    auto = np.convolve(power, kernel, "same")
    return f, cross / np.maximum(auto, 1e-300), auto / rate / n * 2 / kernel.sum()


def impulse(f: Floats, h: Complexes, power: Floats) -> Floats:
    """Impulse response of what is known of `h`: lines with less than a millionth of the strongest are left out."""
    return np.fft.irfft(np.where(power > 1e-6 * power.max(), h, 0.0))


def smoothed(f: Floats, h: Complexes, power: Floats, mid: Floats, fraction: int) -> Floats:
    """Magnitude of `h` in bands: the mean of its square, weighted with the stimulus' power; between lines where a band
    holds none; NaN where the stimulus has next to nothing."""
    rows = np.array([np.abs(h) ** 2 * power, power])
    above, below = shared(f, rows, mid, fraction)
    narrow = mid * (10 ** (0.3 / fraction) - 1) < 2 * (f[1] - f[0])
    made = np.sqrt(above / np.where(below > 0, below, np.nan))
    made = np.where(narrow, np.interp(mid, f, np.abs(h)), made)
    level = np.interp(mid, f, power)
    return np.where((level > 1e-6 * power.max()) & (mid < f[-1]), made, np.nan)
