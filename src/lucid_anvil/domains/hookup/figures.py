"""Figures of one channel over a short stretch, the same live and read from the record."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from ...core.audio.distortion import analyse
from ...core.signal.looking import look
from ...core.signal.sinefit import Floats

LEAST = 1e-12


def figures(x: Floats, rate: float, frequency: float | None) -> dict[str, Any]:
    """mean, rms, peak [unit of `x`, shape (n,)] and frequency [Hz]; with a tone of `frequency` also thd and thd + n
    [%] up to 20 kHz or the band's end (IEC 60268-3, 14.12). NaN never: what can't be told is None."""
    seen = look(x[None, :], rate)
    made: dict[str, Any] = {
        "mean": float(seen.mean[0]), "rms": float(seen.rms[0]), "peak": float(seen.peak[0]), "frequency": None,
        "thd": None, "thd_n": None,
    }  # fmt: skip
    found = float(seen.frequency[0])
    if math.isfinite(found):
        made["frequency"] = found
    if frequency is None or not math.isfinite(found) or abs(found - frequency) > 0.03 * frequency + 2 * rate / x.size:
        return made
    if made["rms"] < LEAST:
        return made
    try:
        told = analyse(x, rate, frequency, (0.5 * frequency, min(20e3, 0.45 * rate)))
    except (ValueError, np.linalg.LinAlgError):
        return made
    made |= {
        "frequency": told.frequency,
        "thd": 100 * told.thd.value,
        "thd_low": 100 * told.thd.low,
        "thd_high": 100 * told.thd.high,
        "thd_floor": 100 * told.thd.floor,
        "thd_n": 100 * told.total,
    }
    return made


def all_figures(rows: dict[str, Floats], rate: float, frequency: float | None) -> dict[str, dict[str, Any]]:
    """`figures` of each channel by role."""
    return {role: figures(x, rate, frequency) for role, x in rows.items()}
