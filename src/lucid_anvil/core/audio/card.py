"""A sound card's own calibration: volts at full scale, its delay from output to input, and samples that it lost."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..signal.sinefit import Floats, block_phasors
from .response import coarse_delay
from .tones import fit

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


def levels(sent: Floats, heard: Floats, rate: float, frequency: float, metered: float) -> CardLevels:
    """Calibration from a tone `sent` and `heard` [full scale 1] over a cable while a meter showed `metered` [V rms].

    The delay is that of the cross-correlation, so the record must hold the tone's beginning. Raises ValueError when the
    tone is not heard.
    """
    delay, _ = coarse_delay(sent, heard, rate)
    shift = max(int(round(delay * rate)), 0)
    begun = int(np.argmax(np.abs(sent) > 0.1 * np.max(np.abs(sent)))) + shift
    steady = slice(begun + (sent.size - begun) // 5, sent.size - shift - 1)
    out = float(fit(sent[steady], rate, np.array([[1]]), np.array([frequency])).rms[0])
    got = fit(heard[steady], rate, np.array([[1]]), np.array([frequency]))
    if got.power[0] < 100 * got.noise[0]:
        raise ValueError("the tone is not heard at the input: look at the cable")
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
