"""A drive that goes up and down in steps, and what a response lags behind (IEC 61298-2, 4)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..signal.sinefit import Floats

SETTLED = 0.4
"""Share of a plateau that was found, from its end, that counts"""


def plateaus(drive: Floats) -> list[tuple[int, int]]:
    """First and last sample (exclusive) of the settled part of each stretch in which `drive` rests."""
    n = drive.size
    span = float(drive.max() - drive.min()) if n else 0.0
    if n < 24 or span <= 0:
        return []
    w = max(3, n // 500)
    total = np.concatenate([[0.0], np.cumsum(drive)])
    mean = (total[w:] - total[:-w]) / w
    change = np.abs(mean[w:] - mean[:-w])  # of the stretch after against that before, at sample i + w
    noise = 1.4826 * float(np.median(np.abs(np.diff(drive)))) / np.sqrt(2)
    least = max(0.004 * span, 6 * noise * np.sqrt(2 / w))
    moving = np.zeros(n, dtype=bool)
    moving[w : w + change.size] = change > least
    edges = np.flatnonzero(np.diff(np.concatenate([[True], moving, [True]]).astype(int)))
    made = []
    for a, b in zip(edges[::2], edges[1::2], strict=True):
        if b - a < 2 * w:
            continue
        a, b = int(a), int(b)
        made.append((b - max(int(SETTLED * (b - a)), 1), b))
    # A drive that creeps from one rest to the next makes two of one: what is not a step is one plateau.
    return made


@dataclass(frozen=True)
class Branches:
    """Response over drive, each at the rising branch's drives; `down` is None where nothing falls."""

    drive: Floats
    up: Floats
    down: Floats | None
    falling: tuple[Floats, Floats] | None
    """Drive and response of the falling plateaus as they are"""


def branches(drive: Floats, response: Floats) -> Branches:
    """Plateau means in their order, parted where the drive turns; loops that are repeated are averaged."""
    span = float(drive.max() - drive.min())
    step = np.sign(np.where(np.abs(np.diff(drive)) > 1e-4 * span, np.diff(drive), 0.0))
    up: set[int] = set()
    down: set[int] = set()
    for i, s in enumerate(step):
        if s > 0:
            up |= {i, i + 1}
        elif s < 0:
            down |= {i, i + 1}
    rising, falling = (_averaged(drive, response, sorted(side), span) for side in (up, down))
    if not up:
        x, y = falling
        return Branches(x, y, None, None)
    if not down:
        return Branches(*rising, None, None)
    x, y = rising
    inside = (x >= falling[0][0] - 1e-3 * span) & (x <= falling[0][-1] + 1e-3 * span)
    back = np.where(inside, np.interp(x, *falling), np.nan)
    return Branches(x, y, back, falling)


def _averaged(drive: Floats, response: Floats, which: list[int], span: float) -> tuple[Floats, Floats]:
    """Sorted by drive; values nearer than a hundredth of the span are one plateau repeated."""
    if not which:
        return np.zeros(0), np.zeros(0)
    order = np.array(which)[np.argsort(drive[which], kind="stable")]
    d, r = drive[order], response[order]
    group = np.concatenate([[0], np.cumsum(np.diff(d) > 0.01 * span)])
    count = np.bincount(group)
    return np.bincount(group, d) / count, np.bincount(group, r) / count
