"""What methods that only listen share: ranges and their lamps, and small pictures of long signals."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from ...core.signal.sinefit import Floats

HOT, COLD = 0.8, 0.04
"""Shares of a range above which an overload is near, and below which most of it is wasted."""


def range_for(volts: float, ranges: Sequence[float]) -> float:
    """The narrowest range [V] that holds `volts`; the widest when none does."""
    fitting = [r for r in ranges if r >= volts]
    return min(fitting) if fitting else max(ranges, default=volts)


def lamp(peak: float, held: float, overloaded: bool, ranges: Sequence[float]) -> dict[str, Any]:
    """How a peak [V] fits its range [V]: `state` is well, hot, cold or over, and `text` says which way to go."""
    share = peak / held
    better = range_for(1.6 * peak, ranges)
    if overloaded or share >= 1:
        wider = range_for(1.05 * held, ranges)
        text = f"overloaded: range up to {wider:g} V" if wider > held else "overloaded: hit softer, or less gain"
        return {"state": "over", "share": share, "text": text}
    if share > HOT:
        wider = range_for(1.05 * held, ranges)
        return {"state": "hot", "share": share, "text": f"nearly overloaded: range up to {wider:g} V"}
    if share < COLD and better < held:
        return {"state": "cold", "share": share, "text": f"range wasted: down to {better:g} V"}
    return {"state": "well", "share": share, "text": f"{100 * share:.0f} % of {held:g} V"}


def peaks_of_lines(lines: Floats, spacing: float, most: int) -> tuple[Floats, Floats]:
    """Frequencies [Hz] and values of a spectrum in at most so many points, each the largest of its lines."""
    stride = max(1, -(-lines.size // most))
    count = lines.size // stride
    y = lines[: count * stride].reshape(count, stride).max(axis=1)
    at: Floats = np.asarray((np.arange(count) * stride + (stride - 1) / 2) * spacing, dtype=np.float64)
    return at, y
