"""Time-history replication: the drive that makes the table follow a record, bettered pass by pass.

The first drive is the target through the inverse of the probed response; after each pass what was missing is passed
through the same inverse and added (iterative inverse-response correction). Everything happens in the control band.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..signal.sinefit import Complexes, Floats
from ..signal.spectra import lines
from .plant import LoopResponse


def band_of(x: Floats, rate: float, lowest: float, highest: float, share: float = 1e-4) -> tuple[float, float]:
    """Hz between which all but `share` of the record's power lies at either end, within `lowest` and `highest`."""
    p = np.cumsum(np.abs(np.fft.rfft(x)) ** 2)
    if p[-1] <= 0:
        return lowest, highest
    f = np.arange(p.size) * rate / x.size
    low = float(f[np.searchsorted(p, share * p[-1])])
    high = float(f[min(np.searchsorted(p, (1 - share) * p[-1]), f.size - 1)])
    return max(lowest, min(low, highest / 4)), min(max(high * 1.1, 4 * lowest), highest)


def band_shape(f: Floats, band: tuple[float, float]) -> Floats:
    """1 inside the band, cosine edges of a fifth of an octave-like share outside."""
    low, high = band
    a = np.clip((low - f) / (0.25 * low), 0, 1)
    b = np.clip((f - high) / (0.15 * high), 0, 1)
    return np.asarray((0.5 + 0.5 * np.cos(np.pi * a)) * (0.5 + 0.5 * np.cos(np.pi * b)))


def plant_on(plant: LoopResponse, channel: int, f: Floats) -> Complexes:
    """H on any grid: magnitudes and unwrapped phases straight between the lines."""
    h = plant.smoothed[channel]
    x = np.maximum(f, plant.frequency[1])
    size = np.exp(np.interp(x, plant.frequency[1:], np.log(np.maximum(np.abs(h[1:]), 1e-9))))
    return size * np.exp(1j * np.interp(x, plant.frequency[1:], np.unwrap(np.angle(h[1:]))))


@dataclass(frozen=True)
class Target:
    """The record as it will be driven: padded with rest on both sides to whole blocks."""

    wave: Floats
    """m/s², band-limited"""
    rate: float
    offset: int
    """sample at which the record begins"""
    length: int
    band: tuple[float, float]

    @property
    def rms(self) -> float:
        return float(np.sqrt(np.mean(self.wave[self.offset : self.offset + self.length] ** 2)))


def make_target(x: Floats, rate: float, band: tuple[float, float], block: int, rest: float = 0.6) -> Target:
    """Pad a record [m/s²] with `rest` [s] on either side and limit it to the band."""
    pad = int(np.ceil(rest * rate / block)) * block
    total = int(np.ceil((x.size + 2 * pad) / block)) * block
    wave = np.zeros(total)
    wave[pad : pad + x.size] = x
    f = lines(total, rate)
    return Target(np.fft.irfft(np.fft.rfft(wave) * band_shape(f, band), total), rate, pad, x.size, band)


def through_inverse(x: Floats, target: Target, plant: LoopResponse, most: float = 0.02) -> Floats:
    """Volts that the probed plant turns into `x` [m/s²]; in the band only. Where the plant gives less than `most`
    of its median it is not forced further."""
    f = lines(target.wave.size, target.rate)
    h = plant_on(plant, 0, f)
    inside = (f >= target.band[0]) & (f <= target.band[1])
    floor = most * float(np.median(np.abs(h[inside])))
    weight = np.conj(h) / (np.abs(h) ** 2 + floor**2)
    return np.fft.irfft(np.fft.rfft(x) * weight * band_shape(f, target.band), target.wave.size)


def ends_faded(drive: Floats, target: Target) -> Floats:
    """The drive with its first and last quarter second of rest faded, so that nothing begins with a step."""
    made = drive.copy()
    n = max(min(int(0.25 * target.rate), target.offset), 2)
    ramp = 0.5 - 0.5 * np.cos(np.pi * np.arange(n) / n)
    made[:n] *= ramp
    made[-n:] *= ramp[::-1]
    return made


def in_step(y: Floats, played: Floats, commanded: Floats, rate: float, most: float = 0.3) -> Floats:
    """`y` moved by the device's latency, which is how much later than `commanded` the source was seen to play."""
    n = y.size
    lag = np.fft.irfft(np.fft.rfft(played) * np.conj(np.fft.rfft(commanded)), n)
    reach = max(int(most * rate), 2)
    around = np.concatenate([lag[-reach:], lag[: reach + 1]])
    return np.roll(y, -(int(np.argmax(around)) - reach))


@dataclass(frozen=True)
class PassFigures:
    """How well a pass followed its target."""

    rms_error: float
    """% of the target's rms over the whole record"""
    peak_error: float
    """%, highest peak over the target's"""
    spectrum_error: float
    """dB rms over the lines that matter"""
    delay: float
    """s that the response was moved by to lie on the target"""
    level: float
    """response over target, least squares"""


def limited(y: Floats, target: Target) -> Floats:
    f = lines(y.size, target.rate)
    return np.fft.irfft(np.fft.rfft(y) * band_shape(f, target.band), y.size)


def compare(y: Floats, wanted: Floats, target: Target, most: float = 0.2) -> tuple[PassFigures, Floats]:
    """Figures of a response `y` against `wanted`, both as long as the target; and the response band-limited and
    moved onto it, by no more than `most` [s], to a fraction of a sample."""
    n = y.size
    f = lines(n, target.rate)
    ys, ws = np.fft.rfft(y) * band_shape(f, target.band), np.fft.rfft(wanted)
    lag = np.fft.irfft(ys * np.conj(ws), n)
    reach = max(int(most * target.rate), 2)
    around = np.concatenate([lag[-reach:], lag[: reach + 1]])
    k = int(np.argmax(around))
    shift = float(k - reach)
    if 0 < k < around.size - 1:
        a, b, c = around[k - 1 : k + 2]
        if a - 2 * b + c < 0:
            shift += 0.5 * (a - c) / (a - 2 * b + c)
    ys = ys * np.exp(2j * np.pi * f * shift / target.rate)
    moved = np.fft.irfft(ys, n)
    inside = slice(target.offset, target.offset + target.length)
    held = float(np.sqrt(np.mean(wanted[inside] ** 2)))
    error = float(np.sqrt(np.mean((moved[inside] - wanted[inside]) ** 2)))
    top = float(np.max(np.abs(wanted[inside])))
    inner = (f >= target.band[0]) & (f <= target.band[1])
    p, q = _thirds(np.abs(ys[inner]) ** 2, f[inner]), _thirds(np.abs(ws[inner]) ** 2, f[inner])
    matter = q > 1e-3 * q.max() if q.size else np.zeros(0, dtype=bool)
    spectrum = (
        float(np.sqrt(np.mean((10 * np.log10(np.maximum(p[matter], 1e-300) / q[matter])) ** 2)))
        if matter.any()
        else 0.0
    )
    level = float(np.sum(moved[inside] * wanted[inside]) / max(float(np.sum(wanted[inside] ** 2)), 1e-300))
    figures = PassFigures(
        100 * error / max(held, 1e-12), 100 * (float(np.max(np.abs(moved[inside]))) / max(top, 1e-12) - 1), spectrum,
        shift / target.rate, level,
    )  # fmt: skip
    return figures, moved


def _thirds(power: Floats, f: Floats) -> Floats:
    """Power in twelfths of an octave."""
    band = np.round(12 * np.log2(f)).astype(int)
    return np.asarray(np.bincount(band - band.min(), weights=power), dtype=float)


def better(drive: Floats, y: Floats, level: float, target: Target, plant: LoopResponse, gain: float = 0.9) -> Floats:
    """The drive for full level, bettered by what a pass at `level` (factor) showed: `drive` volts of full level,
    `y` [m/s²] its response at that level, in place (the plant's own delay is in its phase)."""
    missing = target.wave - y / level
    return drive + gain * through_inverse(missing, target, plant)
