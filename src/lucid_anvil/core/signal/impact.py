"""Hits of an impact hammer: found by their force, told apart into good ones and others, averaged (ISO 7626-5)."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from .sinefit import Complexes, Floats
from .spectra import lines

SECOND = 0.1
"""A later force peak above this share of the first makes a double hit."""
WEAK = 0.1
"""A hit below this share of the usual peak is weak."""


@dataclass(frozen=True)
class Hit:
    """One hit. `fault` says why it is put aside; None for a good one."""

    start: int
    """sample with which its block begins"""
    trigger: int
    peak: float
    """N"""
    fault: str | None = None


def crossings(force: Floats, level: float, block: int, before: int) -> list[int]:
    """Samples at which the force (n,) rises through `level`, each at least the rest of a block after the last."""
    rising = np.flatnonzero((force[1:] >= level) & (force[:-1] < level)) + 1
    found: list[int] = []
    for i in rising:
        if not found or i >= found[-1] - before + block:
            found.append(int(i))
    return found


def stands_still(x: Floats) -> bool:
    """Whether a transient stands still at one of its extremes, as an overloaded input does: three equal samples or
    more, and more than the quantising step lets a smooth crest stand."""
    low, high = float(x.min()), float(x.max())
    swing = max(abs(low), abs(high))
    if swing <= 0:
        return False
    for extreme in (low, high):
        if abs(extreme) < 0.5 * swing:
            continue
        at = np.flatnonzero(np.abs(x - extreme) <= 1e-9 * swing)
        runs = np.split(at, np.flatnonzero(np.diff(at) > 1) + 1)
        longest = max(runs, key=len)
        if len(longest) < 3:
            continue
        a, b = int(longest[0]), int(longest[-1])
        beside = [abs(float(x[i]) - extreme) for i in (a - 1, b + 1) if 0 <= i < x.size]
        step = float(np.min(np.diff(np.unique(x)))) if x.size < 200_000 else 0.0
        # A crest that a coarse step flattens leaves it by one step; a clipped one by more.
        if max(beside, default=0.0) > 1.5 * step or len(longest) > 12:
            return True
    return False


def second_peak(force: Floats) -> float | None:
    """Height of the highest peak after the first one in a block (n,), re the first; None when there is no other that
    stands out by a tenth of the first."""
    from scipy.signal import find_peaks

    top = float(force.max())
    if top <= 0:
        return None
    at, _ = find_peaks(force, height=SECOND * top / 10, prominence=SECOND * top / 2)
    at = [int(i) for i in at if force[i] > SECOND * top]
    if len(at) < 2:
        return None
    first = float(force[at[0]])
    others = [float(force[i]) / first for i in at[1:]]
    return max(others) if max(others) > SECOND else None


def hits_of(
    force: Floats, response: Floats, level: float, block: int, before: int,
    ranges: tuple[float | None, float | None] = (None, None),
) -> list[Hit]:  # fmt: skip
    """All hits of a record, in time. `force` and `response` (n,) in their units, `level` the trigger, `before` samples
    of the block before it, `ranges` where the inputs overload (None: flat tops are looked for). `force` pushes upwards.
    """
    quiet = _noise(response)
    found = []
    for at in crossings(force, level, block, before):
        start = at - before
        if start < 0 or start + block > force.size:
            where = "before it began" if start < 0 else "after it ended"
            found.append(Hit(start, at, float(force[max(start, 0) : start + block].max()), f"block reaches {where}"))
            continue
        f, r = force[start : start + block], response[start : start + block]
        found.append(Hit(start, at, float(f.max()), fault_of(f, r, before, quiet, ranges)))
    usual = [h.peak for h in found if h.fault is None]
    if len(usual) < 3:
        return found
    weak = WEAK * float(np.median(usual))
    return [
        Hit(h.start, h.trigger, h.peak, f"weak hit, {h.peak:.3g} of usually {np.median(usual):.3g}")
        if h.fault is None and h.peak < weak
        else h
        for h in found
    ]


def _noise(x: Floats) -> float:
    """rms of the quietest tenth of a record, taken in pieces of 256 samples."""
    count = x.size // 256
    if count < 10:
        return 0.0
    level = np.sort(x[: count * 256].reshape(count, 256).std(axis=1))
    return float(np.mean(level[: max(count // 10, 1)]))


def fault_of(f: Floats, r: Floats, before: int, quiet: float, ranges: tuple[float | None, float | None]) -> str | None:
    """Why a hit is put aside, None for a good one. `f` and `r` (block,) force and response with `before` samples ahead
    of the trigger, `quiet` rms of the response at rest, `ranges` where the inputs overload (None: flat tops count)."""
    for name, x, limit in (("force", f, ranges[0]), ("response", r, ranges[1])):
        over = stands_still(x) if limit is None else bool(np.max(np.abs(x)) >= limit * (1 - 1e-6))
        if over:
            return f"{name} input overloaded"
    other = second_peak(f)
    if other is not None:
        return f"double hit, second peak {100 * other:.0f} % of the first"
    after = r[before:]
    if float(np.max(np.abs(after - np.mean(r[: max(before, 1)])))) <= 6 * quiet:
        return "no response"
    return None


@dataclass(frozen=True)
class FrfEstimate:
    """An averaged response function."""

    frequency: Floats
    response: Complexes
    coherence: Floats | None
    """None with fewer than two hits"""
    force: Floats
    """rms over the hits of the force spectrum's magnitude [N·s]"""
    count: int
    left: float
    """Share of its greatest value that the response still has in the last tenth of a block"""
    gain_error: Floats | None
    """Standard uncertainty of the magnitude, relative (Bendat & Piersol, Random Data, table 9.6)"""


def windows(block: int, before: int, rate: float, decay: float | None, force_width: float | None
            ) -> tuple[Floats, Floats]:  # fmt: skip
    """Windows for force and response: the same exponential from the trigger on (ISO 7626-5, 8.4), and on the force one
    more that closes `force_width` [s] after the trigger."""
    t = (np.arange(block) - before) / rate
    decaying = np.ones(block) if decay is None else np.exp(-np.maximum(t, 0.0) / decay)
    gate = np.ones(block)
    if force_width is not None:
        gate = np.clip(1 + (force_width - t) / (0.25 * force_width), 0.0, 1.0)
        gate = 0.5 - 0.5 * np.cos(np.pi * gate)
    return decaying * gate, decaying


def frf_of(
    pieces: Iterable[tuple[Floats, Floats]], rate: float, before: int, estimator: str, decay: float | None = None,
    force_width: float | None = None,
) -> FrfEstimate:  # fmt: skip
    """H1 or H2 of hits, one pass. `pieces` are blocks (force, response), each (block,); what stands before the trigger
    is taken for their offset."""
    aa: Floats | float = 0.0
    bb: Floats | float = 0.0
    ab: Complexes | float = 0.0
    count, left, block = 0, 0.0, 0
    for force, response in pieces:
        block = force.size
        wf, wr = windows(block, before, rate, decay, force_width)
        rest = slice(0, max(before - 4, 1))
        f, r = (force - _offset(force, rest, before)) * wf, (response - _offset(response, rest, before)) * wr
        x, y = np.fft.rfft(f), np.fft.rfft(r)
        aa, bb, ab = aa + np.abs(x) ** 2, bb + np.abs(y) ** 2, ab + np.conj(x) * y
        left = max(left, float(np.max(np.abs(r[-block // 10 :])) / max(np.max(np.abs(r)), 1e-300)))
        count += 1
    if not count:
        raise ValueError("there is no hit to average")
    aa, bb, ab = np.asarray(aa), np.asarray(bb), np.asarray(ab)
    tiny = 1e-300
    made = ab / np.maximum(aa, tiny) if estimator == "H1" else bb / np.where(np.abs(ab) > 0, np.conj(ab), tiny)
    coherence = np.abs(ab) ** 2 / np.maximum(aa * bb, tiny) if count > 1 else None
    error = None
    if coherence is not None:
        error = np.sqrt(np.maximum(1 - coherence, 0.0) / np.maximum(2 * coherence * count, tiny))
    return FrfEstimate(
        lines(block, rate), np.asarray(made), coherence, np.sqrt(aa / count) / rate, count, left, error
    )  # fmt: skip


def _offset(x: Floats, rest: slice, before: int) -> float:
    return float(np.mean(x[rest])) if before > 16 else 0.0


def excited_up_to(frequency: Floats, force: Floats, drop: float = 20.0) -> float:
    """Hz up to which a hammer's tip excites: where the force spectrum first lies `drop` [dB] below its highest value
    (ISO 7626-5, 6.2, asks for no more than that)."""
    level = 20 * np.log10(np.maximum(force, 1e-300))
    low = np.flatnonzero(level < level.max() - drop)
    low = low[low > int(np.argmax(level))]
    return float(frequency[low[0]]) if low.size else float(frequency[-1])
