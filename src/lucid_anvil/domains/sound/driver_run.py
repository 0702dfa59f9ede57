"""A driver on the line: the amplifier's gain found at a low level, then one sweep at the level that was asked for."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import numpy as np

from ...contracts.method import LEAD, Facts, Got, Performance, Want
from ...contracts.recording import Floats
from ...core.errors import BadInput

if TYPE_CHECKING:
    from .driver_check import DriverSettings

TRY = 0.02
"""Share of the source's range at which the gain is found"""
TRY_AT = 1000.0
"""Hz"""
TRY_FOR = 0.1
"""s"""
FADE = 0.01
"""s at both ends of the sweep"""
TAIL = 0.15
"""s that are heard after it"""


def sweep(first: float, last: float, seconds: float, rate: float) -> Floats:
    """A logarithmic sweep of peak 1 (IEC 60268-21, 6)."""
    t = np.arange(int(round(seconds * rate))) / rate
    slow = seconds / math.log(last / first)
    ends = np.clip(np.minimum(t, seconds - t) / FADE, 0, 1)
    return np.asarray(np.sin(2 * np.pi * first * slow * (np.exp(t / slow) - 1)) * np.sin(np.pi / 2 * ends) ** 2)


def _in_blocks(x: Floats, block: int) -> list[Floats]:
    whole = -(-x.size // block) * block
    return list(np.concatenate([x, np.zeros(whole - x.size)]).reshape(-1, block))


def perform(settings: DriverSettings, facts: Facts) -> Performance:
    """Gain, sweep, silence."""
    play = settings.play
    if max(play.first, play.last) > 0.45 * facts.rate:
        raise BadInput(f"play: a bench at {facts.rate:g} Hz drives up to {0.45 * facts.rate:.0f} Hz: lower it.")
    tone = TRY * facts.source_range * np.sin(2 * np.pi * TRY_AT * np.arange(int(TRY_FOR * facts.rate)) / facts.rate)
    tone *= np.clip(np.minimum(np.arange(tone.size), np.arange(tone.size)[::-1]) / (0.005 * facts.rate), 0, 1)
    heard: list[Floats] = []
    got: Got = yield Want(np.zeros(facts.block))
    blocks = _in_blocks(tone, facts.block) + [np.zeros(facts.block)] * (LEAD + 1)
    for x in blocks:
        got = yield Want(x, live={"item": 0, "at": 0.0, "of": TRY_FOR})
        heard.append(got.channels["stimulus"])
    gain = gain_of(np.concatenate(heard), tone)
    level = math.sqrt(2) * play.level / gain if gain > 0 else math.inf
    if not level <= 0.98 * facts.source_range:
        beyond = f"{play.level:g} V at the terminals is beyond the source"
        why = "nothing arrives at the terminals" if gain <= 0 else beyond
        yield Want(np.zeros(facts.block), trip={
            "guard": "drive", "label": f"Driver check: {why}", "channel": "stimulus", "value": level, "limit":
            facts.source_range, "unit": "V", "action": "ease",
        })  # fmt: skip
        return
    own = level * sweep(play.first, play.last, play.seconds, facts.rate)
    before, after = (np.zeros(int(s * facts.rate)) for s in (0.05, TAIL))
    signal = np.concatenate([before, own, after])
    marks: tuple[Mapping[str, Any], ...] = ({"kind": "sweep", "t": got.start, "gain": gain, "start": got.start},)
    parts = _in_blocks(signal, facts.block) + [np.zeros(facts.block)] * (LEAD + 1)
    for i, x in enumerate(parts):
        live = {"item": 1, "at": i * facts.block / facts.rate, "of": signal.size / facts.rate}
        got = yield Want(x, marks=marks, live=live)
        marks = ()


def gain_of(heard: Floats, tone: Floats) -> float:
    """Of the amplifier: the strongest line of what was heard over that of the tone; 0 where nothing was."""
    if heard.size < tone.size:
        return 0.0
    given = np.zeros(heard.size)
    given[: tone.size] = tone
    own, reference = (float(np.abs(np.fft.rfft(x)).max()) for x in (heard, given))
    # A line of noise alone lies far below a hundredth of what the weakest amplifier would give.
    return own / reference if own > 1e-2 * reference else 0.0
