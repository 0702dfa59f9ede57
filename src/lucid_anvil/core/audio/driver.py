"""A loudspeaker driver from one stimulus: response, impedance, distortion by order, rub and loose particles
(IEC 60268-21 and -22)."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..signal.sinefit import Complexes, Floats
from . import excitation
from .excitation import Stimulus

PER_OCTAVE = 24
HIGHEST = 20
"""Order up to which what repeats with the stimulus is told"""
PERIODS = 5
"""Of the stimulus in the window of one point"""
SHORTEST = 0.004
"""s of such a window at least"""
SHARE = 1 / 4
"""Octave that a sweep may pass within a window"""
CLEAR = 6.5
"""Multiple of the stimulus' frequency below which particles are not looked for: what a sweep leaves of the strong low
orders in a driver's resonance is no particle"""
QUIET = 1e-7
"""Share of the signal's power below which nothing is told from the arithmetic of taking it apart"""
CLEAR_TO = 1500.0
"""Hz up to which that counts"""
SETTLE = 0.3
"""Share of a step that is left out for it to swing in"""


@dataclass(frozen=True)
class Driver:
    """Arrays are one value a frequency, complex where there is a phase. What was not recorded is None."""

    frequency: Floats
    level: Floats
    """V rms at the terminals"""
    response: Complexes | None
    """Pa/V at the microphone, its delay in it"""
    harmonics: Complexes | None
    """(frequencies, HIGHEST) peak phasors of orders 1.. at the microphone, NaN beyond half the rate"""
    scatter: Floats | None
    """Standard error of such a phasor's magnitude"""
    admittance: Complexes | None
    """A/V"""
    delay: float | None
    polarity: int | None
    loose: tuple[float, ...] | None
    """s at which something strikes; None where it can't be told"""


def grid(low: float, high: float) -> Floats:
    """Frequencies [Hz], PER_OCTAVE an octave."""
    n = max(int(np.floor(np.log2(high / low) * PER_OCTAVE)), 1)
    return np.asarray(low * 2 ** (np.arange(n + 1) / PER_OCTAVE))


def over_fundamental(driver: Driver, first: int, last: int) -> Floats:
    """rms sum of orders first..last over the fundamental, a ratio, less the power that noise adds; NaN where none of
    them is below half the rate. thd: 2 to 10 (IEC 60268-21, 20); rub: high orders."""
    assert driver.harmonics is not None and driver.scatter is not None
    power = np.abs(driver.harmonics[:, first - 1 : last]) ** 2
    count = np.isfinite(power).sum(axis=1)
    noise = 2 * count * driver.scatter**2  # power of a phasor of noise, of each order
    held = np.nansum(power, axis=1)
    # What noise alone explains is not nothing: a tenth of it is left standing.
    held = np.maximum(held - noise, np.minimum(held, 0.1 * noise))
    with np.errstate(invalid="ignore", divide="ignore"):
        made = np.sqrt(held) / np.abs(driver.harmonics[:, 0])
    return np.where((count > 0) & np.isfinite(made), made, np.nan)


def swept(x: Floats, microphone: Floats | None, current: Floats | None, s: Stimulus, loose_above: float) -> Driver:
    """From a sweep at `rate` of the stimulus; all arrays of one length."""
    own = excitation.path_of(x, microphone, s) if microphone is not None else None
    other = excitation.path_of(x, current, s) if current is not None else None
    known = own or other
    assert known is not None
    f = grid(known.low, known.high)
    when = _times(s, f)
    level = np.interp(when * s.rate - s.first, np.arange(s.envelope.size), s.envelope) / np.sqrt(2)
    admittance = None if other is None else other.at(f)
    if own is None or microphone is None:
        return Driver(f, level, None, None, None, admittance, None, None, None)
    delay, polarity = excitation.arrival(own.impulse, s.rate)
    rest = microphone - excitation.linear_part(x, own)
    response = own.at(f)
    harmonics, scatter = _orders(rest, s, f, when, delay)
    left = rest - _rebuilt(harmonics, s, f, when, delay, rest.size)
    harmonics[:, 0] = response * level * np.sqrt(2)
    struck = strikes(left, microphone, s, delay, loose_above)
    return Driver(f, level, response, harmonics, scatter, admittance, delay, polarity, struck)


def _times(s: Stimulus, f: Floats) -> Floats:
    """s at which the sweep passes each frequency."""
    rising = s.frequency if s.rising else s.frequency[::-1]
    # From the middle outwards: at its faded ends the frequency of the moment is anything.
    half = rising.size // 2
    grown = np.concatenate([np.minimum.accumulate(rising[:half][::-1])[::-1], np.maximum.accumulate(rising[half:])])
    grown = np.maximum.accumulate(grown)
    at = np.searchsorted(grown, f)
    at = np.clip(at, 0, grown.size - 1)
    return (s.first + (at if s.rising else grown.size - 1 - at)) / s.rate


def _orders(rest: Floats, s: Stimulus, f: Floats, when: Floats, delay: float) -> tuple[Complexes, Floats]:
    made = np.full((f.size, HIGHEST), np.nan, dtype=complex)
    scatter = np.full(f.size, np.nan)
    places = np.arange(s.phase.size)
    # As long as the sweep stays within a small part of an octave, longer windows let in less noise.
    slow = s.phase.size / s.rate / max(np.log2(f[-1] / f[0]), 0.1) * SHARE
    for i, (one, t) in enumerate(zip(f, when, strict=True)):
        half = int(max(PERIODS / one, SHORTEST, slow) * s.rate / 2)
        centre = int(round((t + delay) * s.rate))
        # At the sweep's ends the window gets shorter, since beyond them nothing sounds.
        begin = s.first + int(round(delay * s.rate))
        half = min(half, max(centre - begin, begin + s.phase.size - centre, 0), centre, rest.size - 1 - centre)
        a, b = max(centre - half, begin), min(centre + half + 1, begin + s.phase.size)
        at = np.arange(a, b) - delay * s.rate - s.first
        if b - a < 16:
            continue
        phase = np.interp(at, places, s.phase)
        orders = np.arange(1, HIGHEST + 1)
        orders = orders[orders * one < 0.5 * s.rate]
        piece = rest[a:b]
        made[i, : orders.size] = excitation.orders_in(piece, phase, orders)
        scatter[i] = _between(piece, phase, orders)
    return made, scatter


def _between(y: Floats, phase: Any, orders: Any) -> float:
    """Standard error of a phasor's magnitude, from what stands midway between the orders, where only noise is."""
    half = np.abs(excitation.orders_in(y, phase, orders + 0.5)) ** 2
    # Of a phasor of noise alone the median power is ln 2 of the mean; half of that is along any one direction.
    return float(np.sqrt(np.median(half[min(1, half.size - 1) :]) / np.log(2) / 2))


def _rebuilt(harmonics: Complexes, s: Stimulus, f: Floats, when: Floats, delay: float, n: int) -> Floats:
    """All that repeats with the stimulus beside the linear part, as a signal."""
    order = np.argsort(when)
    at = (when[order] + delay) * s.rate
    made = np.zeros(n)
    a, b = (min(max(s.first + int(round(delay * s.rate)) + k, 0), n) for k in (0, s.phase.size))
    t = np.arange(a, b)
    base = np.interp(t - delay * s.rate - s.first, np.arange(s.phase.size), s.phase)
    turn = np.exp(1j * base)
    wave = np.ones_like(turn)
    for k in range(1, HIGHEST + 1):
        wave = wave * turn
        held = harmonics[order, k - 1]
        there = np.isfinite(held)
        if there.sum() < 2:
            continue
        value = np.interp(t, at[there], held[there].real) + 1j * np.interp(t, at[there], held[there].imag)
        low = a if there[0] else at[there][0]
        high = b if there[-1] else at[there][-1]
        made[a:b] += np.where((t >= low) & (t <= high), (value * wave).real, 0.0)
    return made


def strikes(left: Floats, whole: Floats, s: Stimulus, delay: float, above: float) -> tuple[float, ...]:
    """Instants [s] at which `left` has an energy in 1 ms above `above` times the median of such energies within 50 ms
    on either side; those nearer than 2 ms are one. The first and last 5 % of the stimulus do not count."""
    from scipy.ndimage import median_filter, uniform_filter1d

    left = _above_stimulus(left, s, delay)
    hop = max(int(0.00025 * s.rate), 1)
    wide = max(int(round(0.001 * s.rate)), 2)
    energy = uniform_filter1d(left**2, wide)[::hop]
    # A signal without noise has next to nothing left: then rounding is no particle.
    floor = QUIET * float(np.mean(whole**2))
    ground = np.maximum(median_filter(energy, int(0.1 * s.rate / hop) | 1, mode="nearest"), floor)
    t = np.arange(energy.size) * hop / s.rate
    begin, length = s.first / s.rate + delay, s.phase.size / s.rate
    inside = (t > begin + 0.05 * length) & (t < begin + 0.95 * length)
    hit = np.flatnonzero((energy > above * ground) & inside)
    if not hit.size:
        return ()
    groups = np.split(hit, np.flatnonzero(np.diff(hit) * hop > 0.002 * s.rate) + 1)
    return tuple(float(t[g[int(np.argmax(energy[g]))]]) for g in groups)


def _above_stimulus(left: Floats, s: Stimulus, delay: float) -> Floats:
    """The signal above CLEAR times the frequency of the moment, by a bank of filters an octave apart taken in turn, and
    below 0.4 of the rate."""
    from scipy.signal import butter, sosfiltfilt

    at = np.clip(np.arange(left.size) - int(round(delay * s.rate)) - s.first, 0, s.frequency.size - 1)
    wanted = np.clip(CLEAR * s.frequency[at], 100.0, min(CLEAR_TO, 0.2 * s.rate))
    place = np.log2(wanted / 100.0)
    made = np.zeros_like(left)
    for i in range(int(np.ceil(place.max())) + 1):
        share = np.clip(1 - np.abs(place - i), 0.0, 1.0)
        if share.any():
            cut = 100.0 * 2**i
            # Near half the rate orders end abruptly as the sweep goes on: that is no particle either.
            band = butter(4, [cut, 0.4 * s.rate], "band", fs=s.rate, output="sos")
            made += share * sosfiltfilt(band, left)
    return made


def stepped(
    x: Floats, microphone: Floats | None, current: Floats | None, rate: float, steps: list[tuple[float, int, int]]
) -> Driver:
    """From tones of (Hz, first, last sample): each over whole periods after it has swung in."""
    steps = sorted(steps)
    f = np.array([one for one, _, _ in steps])
    level = np.full(f.size, np.nan)
    response, admittance = (np.full(f.size, np.nan, dtype=complex) for _ in range(2))
    harmonics = np.full((f.size, HIGHEST), np.nan, dtype=complex)
    scatter = np.full(f.size, np.nan)
    for i, (one, a, b) in enumerate(steps):
        a += int(SETTLE * (b - a))
        periods = int((b - a) / rate * one)
        if periods < 2:
            continue
        a = b - int(round(periods * rate / one))
        phase = 2 * np.pi * one * np.arange(a, b) / rate
        own = excitation.orders_in(x[a:b], phase, np.array([1]))[0]
        level[i] = abs(own) / np.sqrt(2)
        if current is not None:
            admittance[i] = excitation.orders_in(current[a:b], phase, np.array([1]))[0] / own
        if microphone is not None:
            orders = np.arange(1, HIGHEST + 1)
            orders = orders[orders * one < 0.5 * rate]
            y = microphone[a:b] - microphone[a:b].mean()
            found = excitation.orders_in(y, phase, orders)
            harmonics[i, : orders.size] = found
            response[i] = found[0] / own
            scatter[i] = _between(y, phase, orders)
    delay, polarity = (None, None) if microphone is None else _by_phase(f, response)
    return Driver(f, level, None if microphone is None else response, None if microphone is None else harmonics,
                  None if microphone is None else scatter, None if current is None else admittance, delay, polarity,
                  None)  # fmt: skip


def _by_phase(f: Floats, response: Complexes) -> tuple[float | None, int | None]:
    """Delay [s] from how the phase falls in the upper half of the frequencies, and the polarity that is left over;
    None where tones stand too far apart to follow the phase."""
    good = np.isfinite(response)
    f, h = f[good], response[good]
    if f.size < 6:
        return None, None
    upper = f >= np.sqrt(f[0] * f[-1])
    x, y = f[upper], h[upper]
    tries = np.arange(0.0, 0.05, 0.05 / max(x[-1], 1.0))
    fits = np.abs(np.exp(2j * np.pi * tries[:, None] * x[None, :]) @ (y / np.abs(y)))
    delay = float(tries[int(np.argmax(fits))])
    if fits.max() < 0.8 * x.size:
        return None, None
    rest = np.sum(y / np.abs(y) * np.exp(2j * np.pi * delay * x))
    return delay, 1 if rest.real >= 0 else -1


def resonance(f: Floats, magnitude: Floats, below: float = 1000.0) -> tuple[float, float] | None:
    """Hz and value of the largest impedance below 1 kHz, between points by a parabola over log frequency; None where it
    is not inside."""
    part = np.flatnonzero((f < below) & np.isfinite(magnitude))
    if part.size < 3:
        return None
    top = int(part[np.argmax(magnitude[part])])
    if top in (part[0], part[-1]):
        return None
    a, b, c = magnitude[top - 1 : top + 2]
    bend = a - 2 * b + c
    shift = 0.5 * (a - c) / bend if bend < 0 else 0.0
    step = np.log(f[top + 1] / f[top]) if shift > 0 else np.log(f[top] / f[top - 1])
    return float(f[top] * np.exp(shift * step)), float(b - (a - c) ** 2 / (8 * bend) if bend < 0 else b)


def power_mean(f: Floats, level: Floats, low: float, high: float) -> float | None:
    """Mean over power of a level [dB], at points even in log frequency between low and high; None where it is not
    known over all of it."""
    good = np.isfinite(level)
    if good.sum() < 2 or f[good][0] > low * 1.001 or f[good][-1] < high / 1.001:
        return None
    at = np.geomspace(low, high, 241)
    held = np.interp(np.log(at), np.log(f[good]), level[good])
    return float(10 * np.log10(np.mean(10 ** (held / 10))))
