"""The loop's measured response, from a low-level noise burst: what a probe run finds out, and what it says of it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from ..signal.sinefit import Complexes, Floats
from ..signal.spectra import lines


@dataclass(frozen=True, eq=False)
class LoopResponse:
    """Response of each channel per volt at the source, with its coherence. Lines are evenly spaced from zero."""

    frequency: Floats
    response: Complexes
    """(channels, lines), in the channel's unit per V"""
    coherence: Floats
    noise: Floats
    """(channels,) rms at rest, in the channel's unit"""
    delay: float
    """s from source to the first channel"""

    def rows(self, channels: Sequence[int]) -> LoopResponse:
        """Of some of the channels, in that order."""
        rows = list(channels)
        return LoopResponse(self.frequency, self.response[rows], self.coherence[rows], self.noise[rows], self.delay)

    def at(self, channel: int, frequency: float) -> complex:
        """H at a frequency [Hz], straight between magnitudes and between unwrapped phases of neighbouring lines."""
        x = frequency / (self.frequency[1] - self.frequency[0])
        i = int(np.clip(np.floor(x), 1, self.frequency.size - 2))
        a, b = self.smoothed[channel, i], self.smoothed[channel, i + 1]
        share = min(max(x - i, 0.0), 1.0)
        if a == 0 or b == 0:
            return complex(a or b or 1e-9)
        return complex(a * (b / a) ** share)

    def magnitudes(self, frequency: float) -> Floats:
        """|H| of every channel at a frequency [Hz], straight between the logarithms of neighbouring lines."""
        x = frequency / float(self.frequency[1] - self.frequency[0])
        i = int(min(max(math.floor(x), 1), self.frequency.size - 2))
        share = min(max(x - i, 0.0), 1.0)
        return np.exp((1 - share) * self._log[i] + share * self._log[i + 1])

    def magnitudes_over(self, frequencies: Floats) -> Floats:
        """The same at several frequencies [Hz], (frequencies, channels)."""
        x = frequencies / float(self.frequency[1] - self.frequency[0])
        i = np.clip(np.floor(x).astype(int), 1, self.frequency.size - 2)
        share = np.clip(x - i, 0.0, 1.0)[:, None]
        return np.exp((1 - share) * self._log[i] + share * self._log[i + 1])

    def magnitude(self, channel: int, frequency: float) -> float:
        """|H| of one channel at a frequency [Hz]."""
        return float(self.magnitudes(frequency)[channel])

    @cached_property
    def _log(self) -> Floats:
        """ln |H|, (lines, channels)."""
        return np.ascontiguousarray(np.log(np.maximum(np.abs(self.smoothed), 1e-9)).T)

    @cached_property
    def smoothed(self) -> Complexes:
        """H with the lines that can't be believed bridged in log-magnitude and phase."""
        made = self.response.copy()
        for i, row in enumerate(made):
            good = np.flatnonzero(self.coherence[i] > 0.5)
            if good.size < 2:
                continue
            x = np.arange(row.size)
            size = np.exp(np.interp(x, good, np.log(np.maximum(np.abs(row[good]), 1e-12))))
            turn = np.interp(x, good, np.unwrap(np.angle(row[good])))
            made[i] = size * np.exp(1j * turn)
        return made

    def phase(self, channel: int, frequency: float) -> float:
        """rad"""
        i = int(np.argmin(np.abs(self.frequency - frequency)))
        return float(np.angle(self.response[channel, i]))


def periodic_noise(n: int, rate: float, low: float, high: float, rng: np.random.Generator) -> Floats:
    """One period of pseudo-random noise, unit rms, level between `low` and `high` [Hz], rolled off beyond. Repeated,
    it shows a response without leakage, however sharp the modes are."""
    f = lines(n, rate)
    shape = np.where(f > 0, 1.0, 0.0)
    with np.errstate(divide="ignore"):
        shape = (
            shape / np.sqrt(1 + (low * 0.7 / np.where(f > 0, f, np.inf)) ** 8) / np.sqrt(1 + (f / (high * 1.2)) ** 8)
        )
    shape[f < 0.35 * low] = 0
    x = np.fft.irfft(shape * np.exp(2j * np.pi * rng.random(f.size)), n)
    return np.asarray(x / np.std(x))


def estimate(drive: Floats, channels: Floats, rest: Floats, rate: float, period: int) -> LoopResponse:
    """From a burst of periodic noise: `drive` (n,) volts as played, `channels` (c, n), both steady over whole
    periods of `period` samples, two at least; `rest` (c, m) with nothing driven. Coherence from how far the periods
    differ (ISO 7626-2)."""
    count = drive.size // period
    x = np.vstack([drive, channels])[:, : count * period].reshape(channels.shape[0] + 1, count, period)
    y = np.fft.rfft(x, axis=2)
    mean = y.mean(axis=1)
    spread = np.sum(np.abs(y - mean[:, None]) ** 2, axis=1) / max(count - 1, 1)
    f = lines(period, rate)
    driven = np.abs(mean[0]) > 1e-3 * np.abs(mean[0]).max()
    h = np.where(driven, mean[1:] / np.where(driven, mean[0], 1), 0)
    power = np.abs(mean[1:]) ** 2
    # The mean of `count` periods still holds a share of the spread.
    coherence = np.where(
        driven, np.clip((power - spread[1:] / count) / np.maximum(power + spread[1:], 1e-300), 0, 1), 0
    )
    noise = np.std(rest, axis=1) if rest.size else np.zeros(channels.shape[0])
    if rest.shape[1] >= period:
        # Hum repeats as the burst does, so only the bench at rest gives it away.
        still = np.abs(np.fft.rfft(rest[:, -period:], axis=1)) ** 2
        wide = np.maximum(still, np.maximum(np.roll(still, 1, axis=1), np.roll(still, -1, axis=1)))
        coherence = coherence * np.clip(1 - wide / np.maximum(power, 1e-300), 0, 1) ** 25
    return LoopResponse(f, h, coherence, noise, _delay(f, h[0], coherence[0]))


def _delay(f: Floats, h: Complexes, coherence: Floats) -> float:
    """s, slope of the phase where the coherence is good, by weighted steps from line to line."""
    step = h[1:] * np.conj(h[:-1])
    w = np.where((coherence[1:] > 0.8) & (coherence[:-1] > 0.8), 1.0, 0.0)
    unit = step / np.maximum(np.abs(step), 1e-300)
    total = np.sum(w * unit)
    return float(-np.angle(total) / (2 * np.pi * (f[1] - f[0]))) if np.abs(total) > 0 else 0.0


@dataclass(frozen=True)
class Doubt:
    """One thing that is wrong with the loop, in a sentence."""

    kind: str
    channel: str
    text: str
    fatal: bool = True


@dataclass(frozen=True)
class Opinion:
    """What a probe run says: what is wrong, and the predicted use of every limit at full level."""

    doubts: tuple[Doubt, ...] = ()
    used: tuple[tuple[str, float, float, float, str], ...] = field(default=())
    """(name, share, value, limit, unit)"""

    @property
    def go(self) -> bool:
        return not any(d.fatal for d in self.doubts) and all(u[1] <= 1 for u in self.used)


def judge_loop(
    loop: LoopResponse, roles: list[str], expected: Floats, band: tuple[float, float], burst: Floats,
    kinds: list[str],
) -> list[Doubt]:  # fmt: skip
    """Whether the loop can be what the rig file says.

    `expected` (lines,) m/s² per volt that the shaker's model gives for the control channel (role 0); `burst`
    (channels,) rms during the burst; `kinds` of the channels. Compared where the table moves as a whole, between
    the lower band edge and the frequency where modes begin to matter, by the median of ratios.
    """
    made: list[Doubt] = []
    f = loop.frequency
    inside = (f >= band[0]) & (f <= band[1])
    for i, role in enumerate(roles):
        if kinds[i] != "acceleration":
            continue
        signal = burst[i] / max(float(loop.noise[i]), 1e-12)
        power = np.abs(loop.response[i][inside]) ** 2
        good = float(np.sum(power * loop.coherence[i][inside]) / max(float(power.sum()), 1e-300))
        if signal < 3:
            made.append(Doubt("open loop", role, f"{role}: it shows no more than its noise while the table is driven:"
                              " look for a cable, a range or an amplifier that is off."))  # fmt: skip
        elif good < 0.6:
            made.append(Doubt("loose", role, f"{role}: only {100 * good:.0f} % of what it shows follows the drive:"
                              " look for a loose sensor or something that rattles."))  # fmt: skip
    if any(d.channel == roles[0] for d in made):
        return made
    calm = inside & (loop.coherence[0] > 0.8)
    if not calm.any():
        return made
    ratio = np.abs(loop.response[0][calm]) / np.maximum(expected[calm], 1e-12)
    by = float(np.exp(np.median(np.log(ratio))))
    # A sensor at another place shows another level too: the place is what to look at.
    made += _exchanged(loop, roles, kinds, expected, inside)
    if not any(d.fatal for d in made):
        made += _sensitivity(roles[0], by)
    turned = _turned(loop, roles, kinds, inside)
    return made + turned


def _sensitivity(role: str, by: float) -> list[Doubt]:
    """A factor near 10 or 9.8 either way: a wrong sensitivity or a wrong unit. Half to double can be the article."""
    for factor in (10.0, 0.1, 100.0, 0.01):
        if abs(np.log(by / factor)) < np.log(2.0):
            text = (
                f"{role}: it shows {by:.3g} times what the shaker should give: its sensitivity may be wrong by ten,"
                " or stated per g and taken per m/s²."
            )
            return [Doubt("sensitivity", role, text)]
    if not 0.3 < by < 3.3:
        return [Doubt("gain", role, f"{role}: it shows {by:.3g} times what the shaker should give: check its"
                      " sensitivity, the amplifier's gain and what is mounted.")]  # fmt: skip
    return []


def _exchanged(
    loop: LoopResponse, roles: list[str], kinds: list[str], expected: Floats, inside: np.ndarray
) -> list[Doubt]:
    """The control point moves with the table, and what is mounted answers it: a response's ratio to the control has
    its resonance first. Where it has a notch there instead, the control sensor is what answers; where that response
    also follows the table's model better, the two are exchanged."""

    def off(i: int) -> float:
        """dB rms by which channel i misses the table's model, whatever its gain."""
        good = inside & (loop.coherence[i] > 0.7)
        if good.sum() < 0.3 * inside.sum():
            return np.inf
        db = 20 * np.log10(np.abs(loop.response[i][good]) / np.maximum(expected[good], 1e-12))
        # Evenly over log frequency, so that many lines far up do not outvote the few below.
        weight = 1 / loop.frequency[good]
        middle = float(np.average(db, weights=weight))
        return float(np.sqrt(np.average((db - middle) ** 2, weights=weight)))

    mine = off(0)
    others = [i for i in range(1, len(roles)) if kinds[i] == "acceleration"]
    upside = {i: _notch_first(loop, i, inside) for i in others}
    turned = {i: f for i, f in upside.items() if f is not None}
    for i in sorted(turned, key=off):
        if off(i) < 0.8 * mine and _features(loop, i, inside)[0].size == 0:
            text = (
                f"{roles[0]} and {roles[i]} are exchanged, as it looks: {roles[i]} moves as the table should, and"
                f" {roles[0]} shows the resonance at {turned[i]:.4g} Hz that {roles[i]} should: look at their cables."
            )
            return [Doubt("exchanged", roles[0], text)]
        if mine > 5.0 and off(i) < 0.5 * mine:
            text = f"{roles[0]}: {roles[i]} moves as the table should, {roles[0]} does not: the two may be exchanged."
            return [Doubt("exchanged", roles[0], text)]
    if turned and len(turned) == len(others):
        f = float(np.median(list(turned.values())))
        text = (
            f"{roles[0]} shows a resonance of its own at {f:.4g} Hz that {' and '.join(roles[i] for i in turned)} do"
            " not share: it sits on what is mounted, not on the table, and the level is held there."
        )
        return [Doubt("elsewhere", roles[0], text, fatal=False)]
    return []


SHARP = 10.0
"""dB by which a resonance or a notch of a ratio stands out"""


def _features(loop: LoopResponse, i: int, inside: np.ndarray) -> tuple[Floats, Floats]:
    """Frequencies [Hz] of the peaks and of the notches of channel i's ratio to the control."""
    from scipy.signal import find_peaks

    good = np.flatnonzero(inside & (loop.coherence[i] > 0.6) & (loop.coherence[0] > 0.6))
    if good.size < 8:
        return np.zeros(0), np.zeros(0)
    db = 20 * np.log10(np.abs(loop.response[i][good]) / np.maximum(np.abs(loop.response[0][good]), 1e-12))
    peaks, notches = (find_peaks(sign * db, prominence=SHARP)[0] for sign in (1, -1))
    return loop.frequency[good[peaks]], loop.frequency[good[notches]]


def _notch_first(loop: LoopResponse, i: int, inside: np.ndarray) -> float | None:
    """Hz of the first notch of channel i's ratio to the control where no peak comes below it."""
    peaks, notches = _features(loop, i, inside)
    if notches.size == 0 or (peaks.size and peaks[0] < notches[0]):
        return None
    return float(notches[0])


def _turned(loop: LoopResponse, roles: list[str], kinds: list[str], inside: np.ndarray) -> list[Doubt]:
    """Sensors on one table must move in phase at the lowest frequencies; a reversed one does not."""
    made = []
    low = np.flatnonzero(inside & (loop.coherence[0] > 0.7))[:6]
    for i, role in enumerate(roles[1:], 1):
        if kinds[i] != "acceleration" or low.size == 0:
            continue
        if np.median(loop.coherence[i][low]) < 0.7:
            continue
        relative = np.angle(np.sum(loop.response[i][low] * np.conj(loop.response[0][low])))
        if abs(relative) > np.radians(130):
            made.append(Doubt("reversed", role, f"{role}: it moves against {roles[0]} at the lowest frequencies:"
                              " it may be mounted upside down or its wires be exchanged."))  # fmt: skip
    return made


def sharpest(loop: LoopResponse, channel: int, band: tuple[float, float]) -> list[tuple[float, float]]:
    """Notches and peaks of the control channel: (Hz, half-power width [Hz]), the sharpest first."""
    from scipy.signal import find_peaks

    f = loop.frequency
    inside = np.flatnonzero((f > band[0]) & (f < band[1]))
    if inside.size < 8:
        return []
    db = 20 * np.log10(np.maximum(np.abs(loop.smoothed[channel][inside]), 1e-12))
    made = []
    for sign in (1, -1):
        tops, _ = find_peaks(sign * db, prominence=5.0)
        for i in tops:
            low = sign * db < sign * db[i] - 3.0
            before, after = np.flatnonzero(low[:i]), np.flatnonzero(low[i:])
            a = before[-1] if before.size else 0
            b = i + after[0] if after.size else db.size - 1
            made.append((float(f[inside[i]]), float(f[inside[b]] - f[inside[a]])))
    return sorted(made, key=lambda m: m[1])
