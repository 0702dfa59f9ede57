"""The loop's measured response, from a low-level noise burst: what a probe run finds out, and what it says of it."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..signal.sinefit import Complexes, Floats
from ..signal.spectra import Averager


@dataclass(frozen=True)
class LoopResponse:
    """Response of each channel per volt at the source, with its coherence."""

    frequency: Floats
    response: Complexes
    """(channels, lines), in the channel's unit per V"""
    coherence: Floats
    noise: Floats
    """(channels,) rms at rest, in the channel's unit"""
    delay: float
    """s from source to the first channel"""

    def magnitude(self, channel: int, frequency: Floats | float) -> Floats:
        """|H| at any frequency, straight on log axes between the lines that can be believed."""
        good = (self.frequency > 0) & (self.coherence[channel] > 0.3)
        if good.sum() < 2:
            good = self.frequency > 0
        x, y = np.log(self.frequency[good]), np.log(np.maximum(np.abs(self.response[channel][good]), 1e-12))
        return np.asarray(np.exp(np.interp(np.log(frequency), x, y)))

    def phase(self, channel: int, frequency: float) -> float:
        """rad"""
        i = int(np.argmin(np.abs(self.frequency - frequency)))
        return float(np.angle(self.response[channel, i]))


def estimate(drive: Floats, channels: Floats, rest: Floats, rate: float, spacing: float) -> LoopResponse:
    """From one noise burst: `drive` (n,) volts as played, `channels` (c, n), `rest` (c, m) before it, all sampled
    together at `rate` [Hz]; `spacing` [Hz] of the lines."""
    frame = int(min(2 ** np.ceil(np.log2(rate / spacing)), 2 ** np.floor(np.log2(drive.size / 2.5))))
    made = Averager(channels.shape[0] + 1, rate, frame, 0.75)
    made.feed(np.vstack([drive, channels]))
    held = made.spectra()
    h = held.response()[1:]
    noise = np.std(rest, axis=1) if rest.size else np.zeros(channels.shape[0])
    return LoopResponse(held.frequency, h, held.coherence()[1:], noise, _delay(held.frequency, h[0], held.coherence()[1]))


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
        good = float(np.median(loop.coherence[i][inside]))
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
    made += _sensitivity(roles[0], by)
    turned = _turned(loop, roles, kinds, inside)
    return made + turned


def _sensitivity(role: str, by: float) -> list[Doubt]:
    """A factor near 10 or 9.8 either way: a wrong sensitivity or a wrong unit. Half to double can be the article."""
    for wanted, text in (
        (9.80665, "taken in m/s² where it is per g, or the other way round"), (10.0, "wrong by ten"),
        (100.0, "wrong by a hundred"),
    ):  # fmt: skip
        for factor, way in ((wanted, "too large"), (1 / wanted, "too small")):
            if abs(np.log(by / factor)) < np.log(2.0) and (wanted != 10.0 or True):
                return [Doubt(
                    "sensitivity", role,
                    f"{role}: it shows {by:.3g} times what the shaker should give, {way}: the sensitivity may be"
                    f" wrong by ten, or stated per g and taken per m/s².",
                )]  # fmt: skip
    if not 0.3 < by < 3.3:
        return [Doubt("gain", role, f"{role}: it shows {by:.3g} times what the shaker should give: check its"
                      " sensitivity, the amplifier's gain and what is mounted.")]  # fmt: skip
    return []


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
    f = loop.frequency
    level = np.abs(loop.response[channel])
    inside = (f > band[0]) & (f < band[1]) & (loop.coherence[channel] > 0.3)
    made = []
    for sign in (1, -1):
        y = np.where(inside, level**sign, 0)
        top = np.flatnonzero((y[1:-1] > y[:-2]) & (y[1:-1] >= y[2:])) + 1
        for i in top:
            a, b = i, i
            while a > 0 and y[a] > y[i] / np.sqrt(2):
                a -= 1
            while b < y.size - 1 and y[b] > y[i] / np.sqrt(2):
                b += 1
            around = y[(f > f[i] / 1.5) & (f < f[i] * 1.5)]
            if y[i] > 2.0 * np.median(around[around > 0]):
                made.append((float(f[i]), float(f[b] - f[a])))
    return sorted(made, key=lambda m: m[1])
