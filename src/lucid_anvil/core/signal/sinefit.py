"""Least-squares fits of tones to sampled channels.

A tone is written as a phasor P (complex, peak amplitude): x(t) = Re(P·exp(j·2π·f·t)), with t counted from
the time origin that the caller states. So phasors of neighbouring stretches of one record can be compared.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Complexes = NDArray[np.complex128]


@dataclass(frozen=True)
class ToneFit:
    """What a fit found; `channels` is the length of every array."""

    frequency: float
    """Hz, common to all channels."""
    phasors: Complexes
    """Shape (channels,), peak amplitude in the channel's unit."""
    harmonics: Complexes
    """Shape (channels, count): phasors of harmonics 2, 3, ..."""
    lines: Complexes
    """Shape (channels, count): phasors of the extra lines, NaN where a line could not be told from the tone."""
    offset: Floats
    residual_rms: Floats
    residual: Floats
    """Shape (channels, samples): what the model leaves over."""

    @property
    def distortion(self) -> Floats:
        """rms sum of the harmonics over the fundamental, per channel (a ratio)."""
        base = np.maximum(np.abs(self.phasors), np.finfo(float).tiny)
        return np.sqrt((np.abs(self.harmonics) ** 2).sum(axis=1)) / base


def turning(frequency: float, rate: float, t0: float, n: int) -> Complexes:
    """exp(j·2π·f·t) at t = t0 + k/rate, k < n. Made as an outer product: one multiplication a sample."""
    coarse = np.exp(2j * np.pi * frequency * (t0 + np.arange(0, n, 256) / rate))
    fine = np.exp(2j * np.pi * frequency * np.arange(256) / rate)
    return np.outer(coarse, fine).ravel()[:n]


def _rows(rate: float, t0: float, n: int, frequencies: Floats) -> Floats:
    """Basis 1, t, cos and -sin of each frequency; shape (2 + 2·count, samples)."""
    made = np.empty((2 + 2 * frequencies.size, n))
    made[0] = 1.0
    made[1] = (np.arange(n) - (n - 1) / 2) / rate
    for i, f in enumerate(frequencies):
        wave = turning(f, rate, t0, n)
        made[2 + 2 * i] = wave.real
        made[3 + 2 * i] = -wave.imag
    return made


def resolvable(line: float, others: Floats, duration: float) -> bool:
    """Whether `line` [Hz] is at least 1.5 lines of 1/duration away from all of `others`."""
    return bool(np.all(np.abs(others - line) * duration >= 1.5)) if others.size else True


def fit_tone(
    samples: Floats,
    rate: float,
    frequency: float,
    *,
    t0: float = 0.0,
    harmonics: int = 5,
    lines: Floats | None = None,
    refine: bool = True,
) -> ToneFit:
    """Fit one tone of a common frequency to several channels at once.

    The linear part (offset, slow drift, tone, its harmonics up to `harmonics` below Nyquist, and the extra
    `lines`, for example of the mains) is solved exactly; the frequency is refined by Gauss-Newton steps that
    weigh each channel by its residual. This is the four-parameter fit of IEEE Std 1057, annex B, with one
    frequency for all channels as ISO 16063-21 wants it.

    Parameters: `samples` (channels, n); `rate` Hz; `frequency` Hz, good to about half a line of 1/duration;
    `t0` time of the first sample in seconds; `lines` Hz. Raises ValueError when n is shorter than one period.
    """
    x = np.atleast_2d(np.asarray(samples, dtype=float))
    channels, n = x.shape
    duration = n / rate
    if duration * frequency < 1.0:
        raise ValueError("the stretch is shorter than one period of the tone")
    swing = (np.arange(n) - (n - 1) / 2) / rate
    wanted = np.zeros(0) if lines is None else np.asarray(lines, dtype=float)
    omega_now = float(frequency)
    attempts = 5 if refine else 1
    for attempt in range(attempts):
        orders = np.arange(1, harmonics + 1)
        tones: Floats = np.asarray(omega_now * orders[omega_now * orders < 0.48 * rate], dtype=float)
        usable = np.array([resolvable(f, tones, duration) and f < 0.48 * rate for f in wanted], dtype=np.bool_)
        basis = _rows(rate, t0, n, np.concatenate([tones, wanted[usable]]))
        gram = basis @ basis.T
        solved = np.linalg.lstsq(gram, basis @ x.T, rcond=1e-13)[0]
        residual = x - solved.T @ basis
        if attempt == attempts - 1:
            break
        # d(model)/d(omega) about the middle of the stretch; its part inside the basis is taken off.
        slope = swing * (solved[2][:, None] * basis[3] - solved[3][:, None] * basis[2])
        slope = slope - np.linalg.lstsq(gram, basis @ slope.T, rcond=1e-13)[0].T @ basis
        power = (residual**2).mean(axis=1) + 1e-12 * (x**2).mean(axis=1) + np.finfo(float).tiny
        down = ((slope**2).sum(axis=1) / power).sum()
        up = ((slope * residual).sum(axis=1) / power).sum()
        change = float(up / down / (2 * np.pi)) if down > 0 else 0.0
        change = float(np.clip(change, -0.5 / duration, 0.5 / duration))
        if abs(change) * duration < 1e-5:
            break
        omega_now += change
    pairs = solved[2::2] + 1j * solved[3::2]
    found = np.full((channels, wanted.size), np.nan + 0j)
    found[:, usable] = pairs[tones.size :].T
    return ToneFit(
        frequency=omega_now,
        phasors=pairs[0].copy(),
        harmonics=pairs[1 : tones.size].T.copy(),
        lines=found,
        offset=solved[0].copy(),
        residual_rms=np.sqrt((residual**2).mean(axis=1)),
        residual=residual,
    )


def block_phasors(samples: Floats, rate: float, frequency: float, edges: NDArray[np.int64], t0: float) -> Complexes:
    """Phasors of a tone of known frequency in consecutive blocks; shape (channels, blocks).

    `edges` are sample indices, one more than blocks. Each block is fitted with offset, fundamental and second
    and third harmonic, so that blocks need not hold whole periods.
    """
    x = np.atleast_2d(samples)
    made = np.empty((x.shape[0], len(edges) - 1), dtype=complex)
    for i, (a, b) in enumerate(zip(edges[:-1], edges[1:], strict=True)):
        orders = frequency * np.array([1.0, 2.0, 3.0])
        basis = np.delete(_rows(rate, t0 + a / rate, int(b - a), orders[orders < 0.48 * rate]), 1, axis=0)
        solved = np.linalg.lstsq(basis @ basis.T, basis @ x[:, a:b].T, rcond=1e-13)[0]
        made[:, i] = solved[1] + 1j * solved[2]
    return made


def periodic_phasors(samples: Floats, rate: float, frequencies: Floats, period: int) -> Complexes:
    """Phasors of a periodic many-tone signal, one set a period; shape (channels, tones, periods).

    Every frequency must be a whole multiple of rate/period, so that an FFT over one period separates them
    exactly. Raises ValueError when one is not, or when there is not one whole period.
    """
    x = np.atleast_2d(samples)
    count = x.shape[1] // period
    if count < 1:
        raise ValueError("less than one period of the multi-sine")
    bins = np.asarray(frequencies) * period / rate
    if np.any(np.abs(bins - np.rint(bins)) > 1e-6):
        raise ValueError("a frequency is not a whole multiple of the multi-sine's line spacing")
    cut = x[:, : count * period].reshape(x.shape[0], count, period)
    spectrum = np.fft.rfft(cut, axis=2)[:, :, np.rint(bins).astype(int)] * (2.0 / period)
    return spectrum.transpose(0, 2, 1)
