"""A sound card's own calibration: volts at full scale, its delay from output to input, and samples that it lost."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..signal.sinefit import Floats, block_phasors
from .response import coarse_delay
from .stimuli import Sweep
from .tones import fit

SWEEP_AT, SWEEP, TONE_AT, LOOK, RISE = 0.25, 0.1, 0.8, 3.0, 0.01
"""Course of a look [s]: its sweep begins and lasts, its tone begins and lasts, and the rise of the tone"""

JUMP = 5.0
"""Degrees between neighbouring looks at a steady tone that are no wander but a gap"""


@dataclass(frozen=True)
class CardLevels:
    """What a loop from output to input and one meter reading tell."""

    output_volts: float
    """Peak at the output for full scale"""
    input_volts: float
    """Peak at the input that reads full scale"""
    delay: int
    """Samples"""


def look_wave(first: int, count: int, rate: float, frequency: float) -> Floats:
    """What is fed for a look, peak 1, samples from `first` on: a short sweep, which tells the delay since no part of it
    is like another, and then the tone, which tells the levels."""
    sweep = Sweep(200.0, 0.4 * rate, SWEEP).samples(first - int(SWEEP_AT * rate), count, rate)
    since = (first + np.arange(count)) / rate - TONE_AT
    return np.asarray(sweep + np.clip(since / RISE, 0.0, 1.0) * np.sin(2 * np.pi * frequency * since))


def levels(sent: Floats, heard: Floats, rate: float, frequency: float, metered: float) -> CardLevels:
    """Calibration from a whole look, `sent` and `heard` [full scale 1] over a cable, with the meter's reading of the
    tone [V rms]. Raises ValueError when the tone is not heard, or comes later than the silence before it."""
    tone_at = int(TONE_AT * rate)
    delay, _ = coarse_delay(sent[:tone_at], heard[:tone_at], rate)
    shift = int(round(delay * rate))
    steady = slice(tone_at + int(10 * RISE * rate) + max(shift, 0), sent.size)
    out = float(fit(sent[steady], rate, np.array([[1]]), np.array([frequency])).rms[0])
    got = fit(heard[steady], rate, np.array([[1]]), np.array([frequency]))
    if not got.power[0] > 100 * got.noise[0]:
        raise ValueError("the tone is not heard at the input: look at the cable")
    if not 0 <= delay < TONE_AT - SWEEP_AT - SWEEP:
        raise ValueError("its delay can't be told: look for another way by which the output is heard")
    return CardLevels(metered / out, metered / float(got.rms[0]), shift)


def dropouts(x: Floats, rate: float, frequency: float) -> Floats:
    """Times [s] at which a steady tone's phase jumps: samples were lost or put in. Looks are four periods long."""
    hop = max(int(round(4 * rate / frequency)), 16)
    edges = np.arange(0, x.size + 1, hop)
    if edges.size < 4:
        return np.zeros(0)
    phase = np.unwrap(np.angle(block_phasors(x[None], rate, frequency, edges, 0.0)[0]))
    steps = np.degrees(np.abs(np.diff(phase) - np.median(np.diff(phase))))
    struck = np.flatnonzero(steps > JUMP)
    # A gap inside a look shows in two neighbouring steps.
    first = struck[np.diff(struck, prepend=-10) > 2]
    return np.asarray(edges[first + 1] / rate)
