"""A tone through the path before the first step: whether each channel's output follows its own input, and how far."""

from __future__ import annotations

import math

import numpy as np

from ...core.audio.stimuli import Tones
from ...core.signal.sinefit import Floats
from .sheet_bench import Bench, Turn

TONE = 1000.0
"""Hz"""
WITHIN = 2.0
"""Ratio to the gain that the sheet states within which an output follows"""
ELSEWHERE = 0.3
"""Share of what is expected above which a tone is said to come back on another channel"""
LONGEST = 600.0
"""s that a person may take to mend it"""


def level_of(x: Floats, rate: float, frequency: float = TONE) -> float:
    """rms of a tone in `x`, by one product with it under a Hann window."""
    window = np.hanning(x.size)
    turn = np.exp(-2j * math.pi * frequency * np.arange(x.size) / rate)
    return math.sqrt(2) * abs(np.sum(window * x * turn)) / float(window.sum())


def said_of(channel: str, seen: dict[str, float], expected: float) -> str:
    """What is wrong with a channel's path in a sentence that says what to do; empty where its output follows."""
    own = seen[channel]
    if expected / WITHIN <= own <= expected * WITHIN:
        return ""
    others = {c: v for c, v in seen.items() if c != channel and v > max(ELSEWHERE * expected, 3 * own)}
    if others:
        other = max(others, key=lambda c: others[c])
        return f"The tone for {channel} comes back on {other}: change over the leads of {channel} and {other}"
    if own < ELSEWHERE * expected:
        return (f"Nothing comes back on {channel} ({_volts(own)} of {_volts(expected)}): look at its input lead, its"
                " load and whether it is on")  # fmt: skip
    off = 20 * math.log10(own / expected)
    return f"{channel} comes back {off:+.0f} dB off its gain: look at its gain and its leads".replace("-", "−")


def _volts(value: float) -> str:
    return f"{1e3 * value:.0f} mV" if value < 1 else f"{value:.1f} V"


def path(bench: Bench, level: float) -> Turn:
    """The tone through every channel in turn, the others fed nothing; what does not come back is asked about and tried
    again, and after `LONGEST` ends the run. Leaves a mark with each channel's gain [V/V]."""
    settings, found = bench.settings, {}
    bench.wave = Tones(((TONE, 1.0),))
    load = settings.loads[0]
    began = bench.now
    for channel in settings.channels:
        while True:
            bench.live = {"stage": "path", "step": "A tone through the path", "column": channel}
            way = {c: "differential" if c == channel else "terminated" for c in settings.channels}
            yield from bench.switch(way, dict.fromkeys(settings.channels, load))
            window = yield from bench.hold(level, 0.1, 0.15)
            seen = {c: level_of(window.channels[c], bench.facts.rate) for c in settings.channels}
            wrong = said_of(channel, seen, level * settings.gain)
            if not wrong:
                break
            if bench.now - began > LONGEST:
                yield from bench.refuse("path", wrong, channel)
            yield from bench.ask(wrong, longest=LONGEST)
        found[channel] = seen[channel] / level
    bench.live = {}
    yield from bench.turn(0.0, marks=({"kind": "path", "t": bench.now, "drive": level, "gains": found},))
