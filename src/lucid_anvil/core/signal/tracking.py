"""Following a sine whose frequency moves: its complex amplitude where its phase is known, and its track where not."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from .sinefit import Complexes, Floats

PERIODS = 1 / 0.12
"""Length of the zero-phase window in periods: a Hann window of 1/(0.12·f) seconds passes f ± 0.12·f."""


def tracked(
    load: Callable[[int, int], Floats], length: int, rate: float, phase: Callable[[Floats], Floats],
    frequency: Floats, centre: Floats, periods: float = PERIODS, until: float = np.inf,
) -> Complexes:  # fmt: skip
    """Complex peak amplitude of each channel around each time, without lag.

    `load(a, b)` gives samples (channels, b−a); `phase(t)` [rad] of the carrier; `frequency` [Hz] and `centre` [s]
    per line. A Hann window of `periods` periods centred on each time; at the ends of the record it is cut, and at
    `until` [s], after which the signal is no longer what the phase says.
    Shape (channels, lines); nan where fewer than two periods are there.
    """
    made: list[Complexes] = []
    for f, at in zip(frequency, centre, strict=True):
        half = periods / f / 2
        a = max(int(np.ceil((at - half) * rate)), 0)
        b = min(int(np.floor(min(at + half, until) * rate)) + 1, length)
        if b - a < 2 * rate / f:
            made.append(np.full(load(0, 1).shape[0], np.nan + 0j))
            continue
        t = np.arange(a, b) / rate
        w = 0.5 + 0.5 * np.cos(np.pi * (t - at) / half)
        x, carrier = load(a, b), np.exp(-1j * phase(t))
        if b < length and until < at + half:
            made.append(_fitted(x, w, carrier))
            continue
        x = x - (x @ w / w.sum())[:, None]
        made.append(2 * (x @ (w * carrier)) / w.sum())
    return np.array(made).T if made else np.zeros((0, 0), dtype=complex)


def _fitted(x: Floats, w: Floats, carrier: Complexes) -> Complexes:
    """The same by weighted least squares beside a constant: where a window is cut at its height its transform alone
    mixes the sine with its image at the other side of zero, by up to 4 %."""
    rows = np.stack([carrier.real, -carrier.imag, np.ones(w.size)])
    weighted = rows * w
    cos, sin, _ = np.linalg.solve(weighted @ rows.T, weighted @ x.T)
    return np.asarray(cos - 1j * sin)


@dataclass(frozen=True)
class Track:
    """Frequency against time as found in a record; straight between points, so that its phase is closed."""

    t: Floats
    frequency: Floats

    def __call__(self, t: Floats) -> Floats:
        return np.interp(t, self.t, self.frequency)

    def phase(self, t: Floats) -> Floats:
        """rad, the integral of the frequency from the first point."""
        steps = np.diff(self.t)
        base = np.concatenate([[0.0], np.cumsum(steps * (self.frequency[1:] + self.frequency[:-1]) / 2)])
        i = np.clip(np.searchsorted(self.t, t, side="right") - 1, 0, self.t.size - 2)
        u = np.asarray(t) - self.t[i]
        slope = (self.frequency[i + 1] - self.frequency[i]) / steps[i]
        return np.asarray(2 * np.pi * (base[i] + self.frequency[i] * u + slope * u * u / 2))


def find_track(x: Floats, rate: float, low: float, high: float) -> Track | None:
    """The track of the strongest sine between `low` and `high` [Hz] in a record that sweeps or dwells.

    A ridge of windowed transforms, its length following the frequency, smoothed by local straight lines in
    log-frequency. None where no stretch is dominated by one line.
    """
    size = int(min(2 ** np.ceil(np.log2(8 * rate / low)), x.size))
    if size < 64:
        return None
    hop = max(size // 4, int(0.05 * rate), x.size // 20000)
    starts = np.arange(0, x.size - size + 1, hop)
    window = np.hanning(size)
    f = np.fft.rfftfreq(size, 1 / rate)
    band = (f >= 0.8 * low) & (f <= 1.25 * high)
    if not band.any():
        return None
    first = int(np.flatnonzero(band)[0])
    at, found, weight = [], [], []
    for a in starts:
        p = np.abs(np.fft.rfft(x[a : a + size] * window)[band]) ** 2
        k = int(np.argmax(p))
        near = p[max(k - 8, 0) : k + 9].sum()
        if near <= 0:
            continue
        share = near / p.sum()
        if 0 < k < p.size - 1:
            left, m, right = np.log(p[k - 1 : k + 2] + 1e-300)
            bend = left - 2 * m + right
            k_fine = k + 0.5 * (left - right) / bend if bend < 0 else float(k)
        else:
            k_fine = float(k)
        at.append((a + size / 2) / rate)
        found.append((first + k_fine) * rate / size)
        weight.append(share * np.sqrt(near))
    if not at:
        return None
    t, g, w = np.array(at), np.array(found), np.array(weight)
    good = w > 0.05 * w.max()
    if good.sum() < 3:
        return None
    return _smooth(t[good], g[good])


def _smooth(t: Floats, g: Floats) -> Track:
    """Outliers off, then local straight lines over nine points."""
    y = np.log(g)
    n = y.size
    reach = 4
    padded = np.array([np.median(y[max(i - reach, 0) : i + reach + 1]) for i in range(n)])
    keep = np.abs(y - padded) < 0.05
    t, y = t[keep], y[keep]
    made = np.empty_like(y)
    for i in range(y.size):
        a, b = max(i - reach, 0), min(i + reach + 1, y.size)
        u = t[a:b] - t[i]
        if b - a < 3:
            made[i] = y[i]
            continue
        slope, level = np.polyfit(u, y[a:b], 1)
        made[i] = level
    f = np.exp(made)
    # Beyond the first and last window the frequency goes on as it went.
    if t.size >= 2:
        head = f[0] * (f[0] / f[1]) ** (t[0] / (t[1] - t[0]))
        span = t[-1] - t[-2]
        tail = f[-1] * (f[-1] / f[-2])
        t, f = np.concatenate([[0.0], t, [t[-1] + span]]), np.concatenate([[head], f, [tail]])
        first = np.concatenate([[True], np.diff(t) > 1e-9])
        t, f = t[first], f[first]
    return Track(t, f)


class PhasorBank:
    """A tracking filter block by block: sums of x·exp(−jφ) over short pieces, weighted by a Hann window over the
    last T seconds when asked. All channels at once; a window may end anywhere in what is held."""

    def __init__(self, channels: int, piece: int, rate: float, longest: float) -> None:
        """`piece` samples a sum; `longest` s that a window may span."""
        self.piece, self.rate = piece, rate
        self.keep = int(np.ceil(longest * rate / piece)) + 2
        self.sums = np.zeros((channels, self.keep), dtype=complex)
        self.frequency = np.zeros(self.keep)
        self.count = 0

    def feed(self, x: Floats, phase: Floats, frequency: float) -> None:
        """One block (channels, n) with the carrier's phase [rad] at each sample; n a multiple of `piece`."""
        k = x.shape[1] // self.piece
        carrier = np.stack([np.cos(phase), -np.sin(phase)], axis=-1).reshape(k, self.piece, 2)
        made = np.matmul(x.reshape(x.shape[0], k, self.piece).transpose(1, 0, 2), carrier)
        made = (made[..., 0] + 1j * made[..., 1]).T
        k = min(k, self.keep)
        self.sums = np.concatenate([self.sums[:, k:], made[:, -k:]], axis=1)
        self.frequency = np.concatenate([self.frequency[k:], np.full(k, frequency)])
        self.count = min(self.count + k, self.keep)

    def read(self, seconds: float) -> tuple[Complexes, float, float]:
        """Complex peak amplitudes (channels,) over the last `seconds`, the frequency [Hz] at the window's centre,
        and how long ago [s] that centre was."""
        k = int(np.clip(round(seconds * self.rate / self.piece), 2, max(self.count, 2)))
        k = min(k, self.keep)
        w = _window(k)
        p: Complexes = np.asarray(self.sums[:, -k:] @ w * (2 / self.piece), dtype=np.complex128)
        return p, float(self.frequency[-k:] @ w), k * self.piece / self.rate / 2


@lru_cache(maxsize=512)
def _window(k: int) -> Floats:
    """Hann window of k pieces whose sum is 1."""
    w = np.sin(np.pi * (np.arange(k) + 0.5) / k) ** 2
    return np.asarray(w / w.sum())
