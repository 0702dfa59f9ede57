"""Tones fitted jointly by weighted least squares, with no window leakage between them.

All tones are whole combinations of a few base frequencies (harmonics of one, sidebands of two), which are refined
together: the sine fit of IEEE Std 1057, annex B, carried over to several tones. The weights are a window, so that what
is not in the model (hum, a neighbour) hardly reaches the tones either.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from ..signal.sinefit import Complexes, Floats, turning
from ..signal.spectra import averaged, frame_for, lines

CHUNK = 1 << 16
LEAST_PERIODS = 6.0
"""Periods of the lowest tone, or of the least distance between two, that a fit needs"""
EPS = float(np.finfo(np.float64).eps)


@dataclass(frozen=True)
class Tones:
    """What a fit found. Powers are rms² in the unit of the samples squared."""

    bases: Floats
    """Hz, refined; shape (bases,)"""
    frequencies: Floats
    """Hz of every tone; shape (tones,)"""
    phasors: Complexes
    """Peak amplitudes, referred to the first sample; shape (tones,)"""
    noise: Floats
    """Power that the noise around each tone adds to it on average; shape (tones,)"""
    offset: float
    residual: Floats
    """What the model leaves over, shape (samples,)"""
    rate: float

    @property
    def rms(self) -> Floats:
        return np.asarray(np.abs(self.phasors) / np.sqrt(2))

    @property
    def power(self) -> Floats:
        return np.asarray(np.abs(self.phasors) ** 2 / 2)


@lru_cache(maxsize=8)
def weights(n: int) -> Floats:
    """Square root of the fit's weights: a Hann window, so that the weights themselves fall off as its square."""
    made = 0.5 - 0.5 * np.cos(2 * np.pi * (np.arange(n) + 0.5) / n)
    made.flags.writeable = False
    return made


def _model(combos: NDArray[np.int64], bases: Floats, phasors: Complexes | None, rate: float, a: int, n: int,
           centre: float) -> tuple[Floats, Floats]:  # fmt: skip
    """Rows 1, t, cos and -sin of every tone, shape (2 + 2·tones, n), and slopes by each base (bases, n)."""
    t = (a + np.arange(n)) / rate - centre
    made = np.empty((2 + 2 * len(combos), n))
    made[0], made[1] = 1.0, t
    slopes = np.zeros((bases.size, n))
    for i, combo in enumerate(combos):
        wave = turning(float(combo @ bases), rate, a / rate - centre, n)
        made[2 + 2 * i], made[3 + 2 * i] = wave.real, -wave.imag
        if phasors is not None:
            turned = -2 * np.pi * t * (phasors[i] * wave).imag
            for b in np.flatnonzero(combo):
                slopes[b] += combo[b] * turned
    return made, slopes


def _solved(x: Floats, rate: float, combos: NDArray[np.int64], bases: Floats, phasors: Complexes | None) -> Floats:
    """Solution of the normal equations, gathered piecewise: offset, drift, pairs, then corrections of the bases."""
    n = x.size
    centre = (n - 1) / 2 / rate
    count = 2 + 2 * len(combos) + (bases.size if phasors is not None else 0)
    gram, right = np.zeros((count, count)), np.zeros(count)
    v = weights(n)
    for a in range(0, n, CHUNK):
        piece = slice(a, min(a + CHUNK, n))
        rows, slopes = _model(combos, bases, phasors, rate, a, piece.stop - a, centre)
        held = (np.concatenate([rows, slopes]) if phasors is not None else rows) * v[piece]
        gram += held @ held.T
        right += held @ (x[piece] * v[piece])
    scale = 1 / np.sqrt(np.maximum(np.diag(gram), 1e-300))
    solved = np.linalg.lstsq(gram * np.outer(scale, scale), right * scale, rcond=1e-14)[0]
    return np.asarray(solved * scale)


def _pairs(solved: Floats, count: int) -> Complexes:
    return np.asarray(solved[2 : 2 + 2 * count : 2] + 1j * solved[3 : 3 + 2 * count : 2])


def fit(x: Floats, rate: float, combos: NDArray[np.int64], bases: Floats, refine: bool = True) -> Tones:
    """Fit tones of frequencies `combos` @ `bases` to `x`.

    `combos` whole numbers, shape (tones, bases), the bases' own tones first; `bases` Hz, good to half a line of
    1/duration. Raises ValueError where the record is too short to tell the tones apart.
    """
    bases = np.array(bases, dtype=float)
    apart = np.diff(np.sort(np.abs(np.concatenate([[0.0], combos @ bases]))))
    if x.size / rate * float(apart.min()) < LEAST_PERIODS:
        raise ValueError("the record is too short to tell the tones apart")
    line = rate / x.size
    if refine:
        # The bases' own tones come first and carry nearly all there is to learn of the frequencies.
        own = combos[: bases.size]
        for attempt in range(8):
            of, count = (own, bases.size) if attempt < 6 else (combos, len(combos))
            phasors = _pairs(_solved(x, rate, of, bases, None), count)
            change = _solved(x, rate, of, bases, phasors)[-bases.size :]
            bases += np.clip(change, -0.5 * line, 0.5 * line)
            if attempt < 6 and np.all(np.abs(change) < 1e-9 * line):
                of = combos
                phasors = _pairs(_solved(x, rate, combos, bases, None), len(combos))
                bases += np.clip(_solved(x, rate, combos, bases, phasors)[-bases.size :], -line, line)
                break
    solved = _solved(x, rate, combos, bases, None)
    phasors = _pairs(solved, len(combos))
    residual = np.empty_like(x)
    centre = (x.size - 1) / 2 / rate
    for a in range(0, x.size, CHUNK):
        piece = slice(a, min(a + CHUNK, x.size))
        rows, _ = _model(combos, bases, None, rate, a, piece.stop - a, centre)
        residual[piece] = x[piece] - solved @ rows
    frequencies = np.asarray(combos @ bases, dtype=float)
    noise = _noise(residual, rate, frequencies, float(np.max(np.abs(phasors), initial=0.0)))
    return Tones(bases, frequencies, phasors * np.exp(2j * np.pi * frequencies * -centre), noise,
                 float(solved[0]), residual, rate)  # fmt: skip


def density(x: Floats, rate: float, spacing: float = 1.0) -> tuple[Floats, Floats]:
    """Lines [Hz] and one-sided power density [unit²/Hz] of a record, Hann frames about 1/`spacing` long."""
    frame = min(frame_for(rate, spacing), x.size - x.size % 2)
    made = averaged([x[None]], 1, rate, frame)
    return made.frequency, made.auto[0]


def _noise(residual: Floats, rate: float, frequencies: Floats, largest: float) -> Floats:
    """Power that white noise of the density around each tone adds to its fit: S·rate·Σw²/(Σw)², w the weights."""
    f, held = density(residual, rate)
    step = f[1]
    w = weights(residual.size) ** 2
    width = rate * np.sum(w**2) / np.sum(w) ** 2
    near = np.abs(f[:, None] - frequencies[None, :]).min(axis=1) <= 4 * max(step, rate / residual.size)
    made = np.empty(frequencies.size)
    for i, one in enumerate(np.abs(frequencies)):
        for reach in (40, 160, f.size):
            around = (np.abs(f - one) <= reach * step) & ~near & (f > 3 * step)
            if around.sum() >= 12:
                break
        # The median keeps hum and other lines out; for the power of a line of noise it is ln 2 of the mean.
        made[i] = np.median(held[around]) / np.log(2) * width if around.any() else 0.0
    return np.asarray(made + (EPS * largest) ** 2)


def strongest(
    x: Floats, rate: float, low: float, high: float, count: int = 1, ground: tuple[float, float] | None = None
) -> list[float]:
    """Frequencies [Hz] of the strongest lines between `low` and `high`, strongest first, each at least five lines from
    the others; none where no line stands out of the median of `ground` [Hz], the same stretch when not given."""
    n = x.size
    held = np.abs(np.fft.rfft((x - x.mean()) * weights(n) ** 2)) ** 2
    f = lines(n, rate)
    usable = (f >= max(low, 2 * f[1])) & (f <= high)
    below = usable if ground is None else (f >= max(ground[0], f[1])) & (f <= ground[1])
    level = float(np.median(held[below])) if below.any() else 0.0
    found: list[float] = []
    for _ in range(count):
        if not usable.any():
            break
        top = int(np.argmax(np.where(usable, held, -1.0)))
        if held[top] <= 60 * level or held[top] <= 0:
            break
        a, b, c = (np.log(max(held[min(max(top + k, 0), f.size - 1)], 1e-300)) for k in (-1, 0, 1))
        bend = a - 2 * b + c
        found.append(float(f[top] + (0.5 * (a - c) / bend if bend < 0 else 0.0) * f[1]))
        usable &= np.abs(f - f[top]) > 5 * f[1]
    return found
