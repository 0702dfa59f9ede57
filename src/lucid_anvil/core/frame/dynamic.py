"""Complex stiffness of a specimen at a frequency, its modulus, and transitions over temperature (ISO 6721-1)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..signal.sinefit import Complexes, Floats

GRID = 401
"""Points of temperature on which curves are smoothed"""
WIDTH = 0.06
"""Share of the range of temperature that is smoothed over"""


def frequency_of(x: Floats, rate: float) -> float | None:
    """Hz of the tone, from the strongest line and then from how its phase goes on; None where there is none."""
    n = x.size
    if n < 16:
        return None
    t = np.arange(n)
    held = (x - np.polyval(np.polyfit(t, x, 1), t)) * np.hanning(n)
    power = np.abs(np.fft.rfft(held, 2 * n)) ** 2
    power[:4] = 0
    top = int(np.argmax(power))
    if power[top] <= 0 or top >= power.size - 1:
        return None
    a, b, c = np.log(np.maximum(power[top - 1 : top + 2], 1e-300))
    bend = a - 2 * b + c
    f = (top + (0.5 * (a - c) / bend if bend < 0 else 0.0)) * rate / (2 * n)
    for _ in range(3):
        length = int(round(max(5 * rate / f, 16)))
        if n < 2 * length:
            break
        made = np.array([fit(x[None, i : i + length], rate, f, i)[0][0] for i in range(0, n - length + 1, length)])
        turn = np.angle(made[1:] * np.conj(made[:-1]))
        weight = np.abs(made[1:]) * np.abs(made[:-1])
        if weight.sum() <= 0:
            break
        f += float(np.sum(weight * turn) / weight.sum()) / (2 * np.pi) * rate / length
    return float(f)


def fit(x: Floats, rate: float, f: float, start: int = 0) -> tuple[Complexes, Floats]:
    """Peak phasors (channels,) at `f` [Hz], referred to sample 0 of the record, of samples (channels, n) from `start`;
    offset, drift with its bends (a specimen that creeps or relaxes) and harmonics 2 to 3 are fitted beside them. And
    the standard error of each."""
    n = x.shape[1]
    t = (start + np.arange(n)) / rate
    mid = t - t.mean()
    u = mid / max(abs(mid[0]), 1e-300)
    bends = 4 if n > 24 else 2
    rows = [np.polynomial.legendre.legval(u, [0.0] * k + [1.0]) for k in range(bends)]
    orders = [1, *(k for k in (2, 3) if k * f < 0.4 * rate and n > 24)]
    for k in orders:
        rows += [np.cos(2 * np.pi * k * f * t), np.sin(2 * np.pi * k * f * t)]
    model = np.array(rows)
    solved = np.linalg.lstsq(model.T, x.T, rcond=None)[0]
    rest = x - (model.T @ solved).T
    noise = np.sqrt(np.sum(rest**2, axis=1) / max(n - len(rows), 1))
    return np.asarray(solved[bends] - 1j * solved[bends + 1]), noise * np.sqrt(2 / n)


HALF = 2.0
"""Periods that half of a window must have to be told by itself"""


@dataclass(frozen=True)
class Points:
    """One value a window."""

    stiffness: Complexes
    """N/m, force over displacement; loss is its imaginary part"""
    error: Floats
    """Standard error of it, as a ratio"""


def complex_stiffness(
    force: Floats, displacement: Floats, rate: float, f: float, a: int, b: int
) -> tuple[complex, float]:
    """Force over displacement of samples a..b−1, compression positive in both whichever sign was recorded, and its
    standard error as a ratio: what is left of the fit, and what its two halves differ by, since a specimen that still
    changes leaves less behind than it is off."""
    made, error = fit(np.array([force[a:b], displacement[a:b]]), rate, f, a)
    if abs(made[1]) == 0 or abs(made[0]) == 0:
        return complex(np.nan, np.nan), float("nan")
    k = complex(made[0] / made[1])
    k = -k if k.real < 0 else k
    left = float(np.hypot(error[0] / abs(made[0]), error[1] / abs(made[1])))
    if (b - a) * f < 2 * HALF * rate:
        return k, left
    middle = (a + b) // 2
    halves = [fit(np.array([force[i:j], displacement[i:j]]), rate, f, i)[0] for i, j in ((a, middle), (middle, b))]
    first, last = (complex(h[0] / h[1]) if abs(h[1]) > 0 else complex(np.nan, np.nan) for h in halves)
    apart = abs(first - last) / abs(k)
    return k, float(np.hypot(left, apart)) if np.isfinite(apart) else left


def without_machine(k: Complexes, compliance: float) -> Complexes:
    """The specimen's own stiffness: 1/k_s = 1/k − compliance [m/N] of what lies in series."""
    return np.asarray(1 / (1 / k - compliance))


def modulus_factor(kind: str, length: float, width: float, thickness: float, area: float) -> float:
    """Modulus over stiffness [1/m] by the way of holding the specimen (ISO 6721-4, -5 and -6); lengths in m."""
    if kind in ("tension", "compression"):
        return length / area
    if kind == "shear":
        return thickness / (2 * area)
    bend = length**3 / (width * thickness**3)
    return bend / {"three_point": 4, "single_cantilever": 1, "dual_cantilever": 2}[kind]


@dataclass(frozen=True)
class Transitions:
    """°C; None where there is none."""

    onset: float | None
    loss_peak: float | None
    tan_peak: float | None


def transitions(temperature: Floats, storage: Floats, loss: Floats) -> Transitions:
    """Three temperatures of a transition: where the tangent at the steepest fall of lg(storage) meets the line through
    the lowest fifth of the range, and the maxima inside the smoothed loss and tan delta (ISO 6721-11)."""
    from scipy.signal import savgol_filter

    good = np.isfinite(storage) & np.isfinite(loss) & (storage > 0)
    order = np.argsort(temperature[good], kind="stable")
    t, s, lost = (v[good][order] for v in (temperature, storage, loss))
    if t.size < 12:
        return Transitions(None, None, None)
    grid = np.linspace(t[0], t[-1], GRID)
    wide = max(int(WIDTH * GRID) | 1, 5)
    # Fewer points than the grid are joined by straight lines first; more are averaged.
    lines = [_binned(t, v, grid) for v in (np.log10(s), lost, lost / s)]
    log_s, smooth_l, smooth_tan = (savgol_filter(v, wide, 3) for v in lines)
    slope = savgol_filter(lines[0], wide, 3, deriv=1, delta=grid[1] - grid[0])
    steep = int(np.argmin(slope))
    onset = None
    low = t <= t[0] + 0.2 * (t[-1] - t[0])
    if slope[steep] < 0 and 0 < steep < GRID - 1 and low.sum() >= 3:
        base = np.polyfit(t[low], np.log10(s[low]), 1)
        bend = slope[steep] - base[0]
        if bend < 0:
            at = grid[steep] + (np.polyval(base, grid[steep]) - log_s[steep]) / bend
            onset = float(at) if t[0] < at < grid[steep] else None
    return Transitions(onset, _inside(grid, smooth_l), _inside(grid, smooth_tan))


def _binned(t: Floats, y: Floats, grid: Floats) -> Floats:
    step = grid[1] - grid[0]
    bins = np.clip(np.round((t - grid[0]) / step).astype(int), 0, grid.size - 1)
    count = np.bincount(bins, minlength=grid.size)
    total, place = (np.bincount(bins, weights=v, minlength=grid.size) for v in (y, t))
    there = count > 0
    return np.interp(grid, place[there] / count[there], total[there] / count[there])


def _inside(x: Floats, y: Floats) -> float | None:
    top = int(np.argmax(y))
    if not 2 <= top <= x.size - 3:
        return None
    a, b, c = y[top - 1 : top + 2]
    bend = a - 2 * b + c
    return float(x[top] + (0.5 * (a - c) / bend if bend < 0 else 0.0) * (x[1] - x[0]))
