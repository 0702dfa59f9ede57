"""What can be wrong with a stretch of signal, seen from the samples alone."""

from __future__ import annotations

import numpy as np

from .sinefit import Floats


def _longest_run(mask: np.ndarray) -> int:
    """Length of the longest run of True."""
    padded = np.concatenate([[False], mask, [False]])
    edges = np.flatnonzero(padded[1:] != padded[:-1])
    return int((edges[1::2] - edges[::2]).max()) if edges.size else 0


def flat_tops(x: Floats, rate: float, frequency: float) -> bool:
    """Whether the signal stands still at its extreme value, as an overloaded input does.

    A coarse converter also shows the crest of a slow sine as equal samples; a run counts only if it is more
    than twice as long as the quantising step (the smallest difference between values) lets a sine stand. Three
    equal samples are needed: clipping shorter than that, near a fifth of the rate and above, is not seen here.
    """
    low, high = float(x.min()), float(x.max())
    swing = (high - low) / 2
    if swing <= 0:
        return False
    values = np.unique(x if x.size <= 200_000 else x[:200_000])
    gaps = np.diff(values)
    step = float(gaps[gaps > 1e-12 * swing].min()) if np.any(gaps > 1e-12 * swing) else 0.0
    # A few samples a period, the same in each, are far apart too, but on no grid.
    if step and np.any(np.abs(gaps / step - np.rint(gaps / step)) > 0.1):
        step = 0.0
    still = 2 * np.arccos(np.clip(1 - 1.5 * step / swing, -1, 1)) * rate / (2 * np.pi * frequency)
    for extreme in (low, high):
        run = _longest_run(np.abs(x - extreme) <= 1e-9 * max(abs(extreme), swing))
        if run >= 3 and run > 2 * still + 1:
            return True
    return False


def beyond_range(x: Floats, limit: float) -> bool:
    """Whether any sample reaches `limit` (same unit) in magnitude."""
    return bool(np.max(np.abs(x)) >= limit * (1 - 1e-6))


def bursts(residual: Floats, amplitude: float, window: int) -> bool:
    """Whether the residual of a fit holds a short burst, as a broken cable leaves.

    Local rms over `window` samples is compared with its median: six times that and 2 % of the amplitude is a
    burst; so is a single sample beyond twelve robust standard deviations and 5 % of the amplitude.
    """
    count = residual.size // window
    if count < 4:
        return False
    local = np.sqrt((residual[: count * window].reshape(count, window) ** 2).mean(axis=1))
    usual = float(np.median(local))
    if local.max() > max(6 * usual, 0.02 * amplitude):
        return True
    sigma = 1.4826 * float(np.median(np.abs(residual))) + 1e-12 * amplitude
    return bool(np.max(np.abs(residual)) > max(12 * sigma, 0.05 * amplitude))
