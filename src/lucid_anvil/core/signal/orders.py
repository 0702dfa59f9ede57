"""Orders of a rotation: amplitudes over angle, so that they do not smear while the speed changes; steady hum parted
from them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from .sinefit import Complexes, Floats
from .tacho import Rotation

REVOLUTIONS = 8.0
"""Length of the Hann window over angle: lines a quarter of an order apart fall into its zeros."""


MULTIPLES = 8
"""of the mains that are looked for"""
OTHERS = 4
"""Steady tones besides that are looked for"""
NEAR = 0.5
"""Hz by which the mains may be off"""


@dataclass(frozen=True)
class Hum:
    """A steady tone that is not of the rotation."""

    frequency: float
    """Hz"""
    phasor: complex
    """peak, at t = 0"""

    def wave(self, t: Floats) -> Floats:
        return np.asarray((self.phasor * np.exp(2j * np.pi * self.frequency * t)).real)


@dataclass(frozen=True)
class OrderPoint:
    """Orders at one moment of the rotation."""

    amplitudes: Complexes
    """(orders,) peak"""
    error: float
    """standard uncertainty of each amplitude, peak"""
    power: float
    """mean square of the signal in the window, without its mean"""


def steady_tones(x: Floats, rate: float, rotation: Rotation, orders: Sequence[float], mains: float | None = None
                 ) -> list[Hum]:  # fmt: skip
    """Steady tones in a record (n,) whose speed changes: multiples of the mains (50 and 60 Hz unless `mains` [Hz] is
    said), and lines of the whole record that stand well out of what is beside them, which no order does while it
    moves. Each is fitted where no order is near it, taken only if its phase goes on evenly there, and taken off before
    the next is sought."""
    speed = 60 / rotation.per_angle
    if speed.max() < 1.15 * speed.min():
        return []
    t = np.arange(x.size) / rate
    left, found = np.asarray(x - x.mean(), dtype=float), []
    likely = [m * k for m in ((50.0, 60.0) if mains is None else (mains,)) for k in range(1, MULTIPLES + 1)]
    for f in [*likely, *[None] * OTHERS]:
        line = _narrow_line(left, rate) if f is None else f
        if line is None:
            break
        if line > 0.45 * rate:
            continue
        hum = _fitted(left, t, rate, line, rotation, orders)
        if hum is not None:
            found.append(hum)
            left = left - hum.wave(t)
        elif f is None:
            break
    return found


def _narrow_line(x: Floats, rate: float) -> float | None:
    """Hz of the line of the whole record that stands out most from its neighbourhood; None when none does."""
    from scipy.ndimage import median_filter

    n = x.size
    power = np.abs(np.fft.rfft(x * np.hanning(n))) ** 2
    if not power.any():
        return None
    width = max(int(3.0 * n / rate), 12)
    beside = median_filter(power, 2 * width + 1, mode="nearest")
    ratio = power / np.maximum(beside, 1e-30 * power.max())
    lowest = int(8 * n / rate)
    ratio[: max(lowest, 3)] = 0
    # Noise alone gives a largest of some 12 to 15 dB over its median.
    loud = power > 1e-7 * power.max()
    at = int(np.argmax(np.where(loud, ratio * np.sqrt(power / power.max()), 0)))
    if ratio[at] < 200 or not 0 < at < power.size - 1:
        return None
    a, b, c = np.log(power[at - 1 : at + 2] + 1e-300)
    return float((at + 0.5 * (a - c) / (a - 2 * b + c)) * rate / n)


def _fitted(x: Floats, t: Floats, rate: float, frequency: float, rotation: Rotation, orders: Sequence[float]
            ) -> Hum | None:  # fmt: skip
    """Amplitude, phase and exact frequency from pieces of the record in which no order comes near the tone; None when
    its phase does not go on evenly, so that it is no steady tone."""
    piece = int(max(0.25, 12 / frequency) * rate)
    count = x.size // piece
    if count < 6:
        return None
    window = np.hanning(piece)
    turned = x[: count * piece] * np.exp(-2j * np.pi * frequency * t[: count * piece])
    p = 2 * (turned.reshape(count, piece) @ window) / window.sum()
    middle = (np.arange(count) + 0.5) * piece / rate
    hertz = rotation.speed_at(np.asarray(middle, dtype=np.float64)) / 60
    beside = [np.abs(k * hertz - frequency) > 4.0 * rate / piece for k in orders]
    inside = (middle > rotation.time[0]) & (middle < rotation.time[-1])
    free = np.all(beside, axis=0) & inside if beside else inside
    if free.sum() < 4:
        return None
    u, q = middle[free], p[free]
    if not np.all(np.abs(q) > 0):
        return None
    tries = 2 * np.pi * np.arange(-NEAR, NEAR, 0.2 / (count * piece / rate))
    slope = float(tries[np.argmax(np.abs(np.exp(-1j * np.outer(tries, u)) @ (q / np.abs(q))))])
    for _ in range(4):
        mean = np.median((q * np.exp(-1j * slope * u)).real) + 1j * np.median((q * np.exp(-1j * slope * u)).imag)
        angle = np.angle(q * np.exp(-1j * slope * u) / mean)
        good = np.abs(angle) < 1.0
        if good.sum() < 4:
            return None
        slope += float(np.polyfit(u[good], angle[good], 1)[0])
    held = q * np.exp(-1j * slope * u)
    centre = complex(np.median(held.real), np.median(held.imag))
    if np.median(np.abs(held - centre)) > 0.25 * abs(centre):
        return None
    near = np.abs(held - centre) < 0.5 * abs(centre)
    return Hum(frequency + slope / (2 * np.pi), complex(np.mean(held[near])))


def order_point(x: Floats, rate: float, rotation: Rotation, at: float, orders: Sequence[float],
                revolutions: float = REVOLUTIONS) -> OrderPoint | None:  # fmt: skip
    """Complex amplitudes of `orders` at time `at` [s] of a record (n,), by weighted least squares over a Hann window of
    so many revolutions: a constant, each order, and each order growing evenly, so that a window at the record's end
    reads right too. None when less than half a window is there."""
    middle = float(rotation.angle_at(np.array([at]))[0])
    low = float(np.interp(middle - revolutions / 2, rotation.angle, rotation.time))
    high = float(np.interp(middle + revolutions / 2, rotation.angle, rotation.time))
    a, b = max(int(np.ceil(low * rate)), 0), min(int(np.floor(high * rate)) + 1, x.size)
    if b - a < 8:
        return None
    t = np.arange(a, b) / rate
    angle = rotation.angle_at(t)
    if angle[-1] - angle[0] < 0.45 * revolutions:
        return None
    # The middle of what there is; the amplitude is read at the moment asked for.
    centre, span = (angle[0] + angle[-1]) / 2, angle[-1] - angle[0]
    w = np.cos(np.pi * (angle - centre) / (span * (1 + 1e-9))) ** 2 * np.gradient(angle)
    w = np.sqrt(np.maximum(w / w.sum(), 0.0))
    u = angle - middle
    lopsided = abs(centre - middle) > 0.02 * span
    rows = [np.ones_like(u)]
    for k in orders:
        wave = np.exp(2j * np.pi * k * angle)
        rows += [wave.real, -wave.imag]
        if lopsided:
            rows += [u * wave.real, -u * wave.imag]
    basis = np.array(rows) * w
    y = x[a:b] * w
    gram = basis @ basis.T
    solved = np.linalg.lstsq(gram, basis @ y, rcond=1e-12)[0]
    left = y - solved @ basis
    step = 4 if lopsided else 2
    amplitudes = solved[1::step] + 1j * solved[2::step]
    inverse = np.linalg.pinv(gram)
    spread = float(np.sum(left**2)) * float(np.sum(w**4))  # of white noise through the window
    error = float(np.sqrt(max(spread * float(np.max(np.diag(inverse)[1:], initial=0.0)), 0.0)))
    mean = float(np.sum(x[a:b] * w**2))
    return OrderPoint(amplitudes, error, float(np.sum((x[a:b] - mean) ** 2 * w**2)))


def moments_of(rotation: Rotation, speeds: Floats) -> list[float | None]:
    """s at which each speed [rpm] is first passed; None where it is not reached. A speed within 2.5 % of an end of the
    range counts as reached there."""
    t, v = rotation.time, 60 / rotation.per_angle
    found: list[float | None] = []
    for wanted in speeds:
        over = v - wanted
        cross = np.flatnonzero(np.signbit(over[1:]) != np.signbit(over[:-1]))
        if cross.size:
            i = int(cross[0])
            found.append(float(t[i] + (t[i + 1] - t[i]) * over[i] / (over[i] - over[i + 1])))
            continue
        i = int(np.argmin(np.abs(over)))
        found.append(float(t[i]) if abs(over[i]) < 0.025 * wanted else None)
    return found
