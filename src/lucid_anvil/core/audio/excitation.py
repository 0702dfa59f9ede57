"""A sweep or a row of tones as it was driven: when it sounded, its phase and frequency, and what a path made of it.

Linear parts are read by deconvolution over the whole sweep and a gate around the impulse response, which keeps the
harmonics of a sweep out (Müller and Massarani, J. Audio Eng. Soc. 49 (2001) 443); orders by turning it back with
the stimulus' own phase."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..signal.sinefit import Complexes, Floats

EDGE = 0.006
"""Share of the sweep's range in octaves at either end where the division is not trusted"""


@dataclass(frozen=True)
class Stimulus:
    """Samples first..last−1 sound; phase [rad] and frequency [Hz] of each of them."""

    first: int
    last: int
    phase: Floats
    frequency: Floats
    envelope: Floats
    rate: float

    @property
    def rising(self) -> bool:
        n = self.frequency.size // 8
        return float(np.median(self.frequency[-n:])) > float(np.median(self.frequency[:n]))


def stimulus_of(x: Floats, rate: float) -> Stimulus | None:
    """Where a stimulus sounds, and its phase by the analytic signal; None where there is none."""
    from scipy.ndimage import uniform_filter1d
    from scipy.signal import hilbert

    if x.size < 64 or not np.any(x):
        return None
    # Ends are found on the envelope, whose shortest rests are a few milliseconds.
    power = uniform_filter1d(x**2, max(int(0.004 * rate), 8))
    loud = np.flatnonzero(power > 0.02 * float(np.quantile(power, 0.98)))
    if loud.size < 32:
        return None
    a, b = int(loud[0]), int(loud[-1]) + 1
    z = hilbert(x[a:b])
    phase = np.unwrap(np.angle(z))
    raw = np.gradient(phase) * rate / (2 * np.pi)
    n = max(int(0.002 * rate), 4)
    frequency = np.clip(uniform_filter1d(raw, n, mode="nearest"), 0.0, rate / 2)
    return Stimulus(a, b, phase, frequency, np.abs(z), rate)


def is_stepped(s: Stimulus) -> bool:
    """Whether the frequency mostly stands, rather than glides."""
    n = max(int(0.01 * s.rate), 8)
    held = s.frequency[: s.frequency.size // n * n].reshape(-1, n)
    if held.shape[0] < 6:
        return False
    f = np.maximum(np.median(held, axis=1), 1.0)
    change = np.abs(np.diff(np.log(f)))
    mean = float(np.abs(np.log(f[-2] / f[1]))) / change.size
    return bool(np.mean(change < max(0.1 * mean, 1e-4)) > 0.5)


def stretches(s: Stimulus) -> list[tuple[float, int, int]]:
    """Frequency, first and last sample (exclusive) in the record of each tone of a stepped stimulus that lasts 12
    periods and 40 ms at least, its ends found to 5 ms."""
    n = max(int(0.005 * s.rate), 8)
    count = s.frequency.size // n
    f = np.maximum(np.median(s.frequency[: count * n].reshape(-1, n), axis=1), 1.0)
    same = np.abs(np.diff(np.log(f))) < 8e-3
    made = []
    start = 0
    for i in range(count):
        if i == count - 1 or not same[i]:
            a, b = start * n, (i + 1) * n
            own = float(np.median(f[start : i + 1]))
            if (b - a) / s.rate >= max(9 / own, 0.03):
                inner = slice(a + (b - a) // 4, b - (b - a) // 8)
                t = np.arange(inner.stop - inner.start) / s.rate
                exact = float(np.polyfit(t, s.phase[inner], 1)[0]) / (2 * np.pi)
                made.append((exact, s.first + a, s.first + b))
            start = i + 1
    return made


def range_of(s: Stimulus) -> tuple[float, float]:
    """Lowest and highest frequency [Hz] of a sweep."""
    inner = s.frequency[s.frequency.size // 200 : -max(s.frequency.size // 200, 1)]
    return float(max(np.quantile(inner, 0.002), 1.0)), float(np.quantile(inner, 0.998))


@dataclass(frozen=True)
class Path:
    """What lies between the stimulus and a signal, at the lines of a transform over the whole record."""

    frequency: Floats
    response: Complexes
    impulse: Floats
    """Whole, not gated; sample 0 is no delay, those before it stand at the end"""
    low: float
    high: float
    """Hz between which it is known"""

    def at(self, f: Floats) -> Complexes:
        """Between lines: magnitude and phase each by straight lines."""
        inside = (self.frequency >= 0.8 * self.low) & (self.frequency <= 1.2 * self.high)
        x, h = self.frequency[inside], self.response[inside]
        return np.asarray(np.interp(f, x, np.abs(h)) * np.exp(1j * np.interp(f, x, np.unwrap(np.angle(h)))))


def path_of(x: Floats, y: Floats, s: Stimulus) -> Path:
    """Linear response from stimulus `x` to `y`, of a sweep."""
    n = int(2 ** np.ceil(np.log2(2 * x.size)))
    spectrum_x, spectrum_y = np.fft.rfft(x, n), np.fft.rfft(y, n)
    f = np.asarray(np.fft.rfftfreq(n, 1 / s.rate), dtype=float)
    low, high = range_of(s)
    octaves = np.log2(high / low)
    low, high = low * 2 ** (EDGE * octaves / 2), high / 2 ** (EDGE * octaves / 2)
    i, j = np.searchsorted(f, [low, high])
    h = np.zeros(f.size, dtype=complex)
    power = np.abs(spectrum_x[i:j]) ** 2
    h[i:j] = spectrum_y[i:j] * np.conj(spectrum_x[i:j]) / np.maximum(power, 1e-12 * power.max())
    # The band's ends go on with the delay that is there, so that they ring less in the impulse response.
    first = np.fft.irfft(np.where((f >= low) & (f <= high), h, 0), n)
    peak = _lag(int(np.argmax(np.abs(first))), n)
    turn = np.exp(-2j * np.pi * f * peak / s.rate)
    h[:i] = np.abs(h[i]) * np.exp(1j * np.angle(h[i] / turn[i])) * turn[:i] * (f[:i] / f[i]) ** 2
    h[j:] = h[j - 1] / turn[j - 1] * turn[j:] * (1 + np.cos(np.pi * np.clip((f[j:] - f[j]) / (0.1 * f[j]), 0, 1))) / 2
    impulse = np.fft.irfft(h, n)
    gated = impulse * _gate(n, _lag(int(np.argmax(np.abs(impulse))), n), s, low)
    return Path(np.asarray(f), np.fft.rfft(gated), impulse, low, high)


def _lag(i: int, n: int) -> int:
    return i if i < n // 2 else i - n


def _gate(n: int, peak: int, s: Stimulus, low: float) -> Floats:
    """1 around the impulse response, 0 where the second harmonic's arrives: before it in a rising sweep, after it in a
    falling one."""
    begin, end = range_of(s)
    apart = s.phase.size / np.log2(end / begin)
    free = 0.25 * s.rate + 4 * s.rate / low
    before, after = (0.7 * apart, free) if s.rising else (3 * s.rate / low, 0.7 * apart)
    before, after = min(before, 3 * s.rate / low), min(after, n / 2 - abs(peak) - 1)
    lag = (np.arange(n) - peak + n // 2) % n - n // 2
    ramp = np.where(lag < 0, -lag / max(before, 1), lag / max(after, 1))
    return np.asarray(0.5 + 0.5 * np.cos(np.pi * np.clip((ramp - 0.7) / 0.3, 0, 1)))


def linear_part(x: Floats, path: Path) -> Floats:
    """What the path alone makes of the stimulus."""
    n = 2 * (path.frequency.size - 1)
    return np.asarray(np.fft.irfft(np.fft.rfft(x, n) * path.response, n)[: x.size])


def arrival(impulse: Floats, rate: float) -> tuple[float, int]:
    """Delay [s] of the largest value of an impulse response, and the sign of its first extreme that reaches half of
    it."""
    n = impulse.size
    top = int(np.argmax(np.abs(impulse)))
    half = 0.5 * abs(float(impulse[top]))
    back = int(min(0.02 * rate, n // 4))
    part = impulse[(np.arange(top - back, top + 1)) % n]
    reached = np.flatnonzero(np.abs(part) >= half)
    i = int(reached[0])
    while i + 1 < part.size and abs(part[i + 1]) > abs(part[i]) and part[i + 1] * part[i] > 0:
        i += 1
    # Between samples by the series of sinc functions that they stand for.
    near = np.arange(-64, 65)
    fine = np.linspace(-1, 1, 129)
    values = np.abs(np.sinc(fine[:, None] - near[None, :]) @ impulse[(top + near) % n])
    at = int(np.argmax(values))
    shift = fine[at]
    if 0 < at < fine.size - 1:
        a, b, c = values[at - 1 : at + 2]
        bend = a - 2 * b + c
        shift += 0.5 * (a - c) / bend * (fine[1] - fine[0]) if bend < 0 else 0.0
    return (_lag(top, n) + float(shift)) / rate, int(np.sign(part[i]))


def orders_in(y: Floats, phase: Any, orders: Any) -> Complexes:
    """Peak phasors of the multiples `orders`, whole or not, of `phase` [rad] in `y`, both shape (n,), by a Hann
    window."""
    w = np.hanning(y.size + 2)[1:-1]
    return np.asarray(np.exp(-1j * np.outer(orders, phase)) @ (w * y) * (2 / w.sum()))
