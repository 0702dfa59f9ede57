"""A microphone's level sensitivity from a sound calibrator's tone (IEC 60942): the tone found, steady, fitted."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..signal.sinefit import Floats, block_phasors, fit_tone

P0 = 20e-6
"""Pa, reference sound pressure (IEC 61672-1, 3.2)."""
HARMONICS = 10
BLOCK = 0.125
"""s, over which the level is followed."""
SEARCH = 0.1
"""Share of the frequency within which the tone must lie."""
CLEAR = 10.0
"""Power of the tone over that of all the rest, from which on it counts as found (10 dB)."""


@dataclass(frozen=True)
class CalibratorTone:
    """What a record holds of a calibrator's tone."""

    start: float
    stop: float
    """s, the stretch that was read"""
    frequency: float
    """Hz"""
    rms: float
    """V rms of the fundamental"""
    distortion: float
    """rms sum of harmonics 2 to 10 over the fundamental, a ratio"""
    wander: float
    """dB between the highest and the lowest level of a block of the stretch"""
    spread: float
    """dB, standard deviation of the blocks' levels"""
    blocks: int
    signal_to_noise: float
    """dB, fundamental over what is neither it nor a harmonic"""


def pressure(level: float) -> float:
    """Pa rms of a level in dB re 20 µPa."""
    return float(P0 * 10 ** (level / 20))


def find_tone(x: Floats, rate: float, frequency: float) -> float | None:
    """Hz of the strongest line within a tenth of `frequency`, of a record (n,); None when that line is not at least
    10 dB above all that lies outside its neighbourhood."""
    n = x.size
    window = np.hanning(n)
    power = np.abs(np.fft.rfft((x - x.mean()) * window)) ** 2
    f = np.arange(power.size) * rate / n
    near = (f >= frequency * (1 - SEARCH)) & (f <= frequency * (1 + SEARCH))
    if not near.any() or power[near].max() <= 0:
        return None
    at = int(np.flatnonzero(near)[np.argmax(power[near])])
    width = max(4, round(0.02 * frequency * n / rate))
    around = slice(max(at - width, 0), at + width + 1)
    rest = power[f > 0.1 * frequency].sum() - power[around].sum()
    if power[around].sum() < CLEAR * max(rest, 0.0):
        return None
    edge = at in (int(np.flatnonzero(near)[0]), int(np.flatnonzero(near)[-1]))
    if edge or not 0 < at < power.size - 1:
        return None
    a, b, c = np.log(power[at - 1 : at + 2] + 1e-300)
    return float(f[at] + 0.5 * (a - c) / (a - 2 * b + c) * rate / n) if a - 2 * b + c else float(f[at])


def block_levels(x: Floats, rate: float, frequency: float) -> Floats:
    """dB re 1 V rms of the tone in blocks of an eighth of a second, at least four periods long, of a record (n,)."""
    size = max(int(BLOCK * rate), int(np.ceil(4 * rate / frequency)), 16)
    edges = np.arange(0, x.size + 1, size)
    if edges.size < 2:
        return np.zeros(0)
    found = np.abs(block_phasors(x[None], rate, frequency, edges, 0.0)[0]) / np.sqrt(2)
    return np.asarray(20 * np.log10(np.maximum(found, 1e-15)))


def steady_stretch(levels: Floats, steadiness: float) -> tuple[int, int]:
    """Blocks [first, last) from which the level keeps within `steadiness` [dB] until the tone ends.

    The tone lasts while it is within 3 dB of its usual level; settling and handling before it are left out, and the
    blocks at its ends, which may hold only part of it. Where it never keeps so, the whole tone is given back.
    """
    usual = float(np.median(levels[levels > levels.max() - 6]))
    there = np.abs(levels - usual) < 3
    edge = np.flatnonzero(np.diff(np.concatenate([[0], there.view(np.int8), [0]])))
    runs = [(int(a), int(b)) for a, b in zip(edge[::2], edge[1::2], strict=True)]
    first, last = max(runs, key=lambda r: r[1] - r[0])
    if last < levels.size or (last - first > 8 and abs(levels[last - 1] - usual) > steadiness):
        last -= 1
    top = bottom = levels[last - 1]
    begin = last - 1
    while begin > first:
        top, bottom = max(top, levels[begin - 1]), min(bottom, levels[begin - 1])
        if top - bottom > steadiness:
            break
        begin -= 1
    enough = max(4, (last - first) // 2)
    return (begin, last) if last - begin >= min(enough, last - first) else (first, last)


def read_tone(x: Floats, rate: float, frequency: float, steadiness: float) -> CalibratorTone | None:
    """The calibrator's tone in a record (n,) in volts; None when there is none within a tenth of `frequency` [Hz]."""
    found = find_tone(x, rate, frequency)
    if found is None:
        return None
    levels = block_levels(x, rate, found)
    if levels.size < 2:
        return None
    size = max(int(BLOCK * rate), int(np.ceil(4 * rate / found)), 16)
    first, last = steady_stretch(levels, steadiness)
    piece = x[first * size : last * size]
    longest = int(30 * rate)
    fit = fit_tone(piece[-longest:], rate, _sharper(piece[-longest:], rate, found), harmonics=HARMONICS)
    held = block_levels(piece, rate, fit.frequency)
    base = float(np.abs(fit.phasors[0])) / np.sqrt(2)
    return CalibratorTone(
        first * size / rate, last * size / rate, fit.frequency, float(10 ** (np.mean(held) / 20)),
        float(fit.distortion[0]), float(np.ptp(held)), float(np.std(held, ddof=1)) if held.size > 1 else 0.0,
        int(held.size), float(20 * np.log10(base / max(float(fit.residual_rms[0]), 1e-15 * base))),
    )  # fmt: skip


def _sharper(x: Floats, rate: float, frequency: float) -> float:
    """Frequency good to a fraction of a line of the whole stretch, from the phase's advance between its halves."""
    for part in (0.05, 0.2, 0.5):
        n = int(part * x.size)
        if n < 4 * rate / frequency:
            continue
        a = block_phasors(x[None], rate, frequency, np.array([0, n, 2 * n]), 0.0)[0]
        frequency += float(np.angle(a[1] / a[0])) / (2 * np.pi * n / rate)
    return frequency
