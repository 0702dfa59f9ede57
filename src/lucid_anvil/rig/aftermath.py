"""What was still put out after a process of the run was killed, until the drive was at zero.

Whoever brings the drive down alone (the guards when the conductor is gone, the device when the guards are) keeps the
blocks until then beside the take; they are put at the end of its raw record when that is closed.
"""

from __future__ import annotations

import contextlib
import os
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ..core.signal.sinefit import Floats
from .model import Rig

NAME = "after.npz"
LINGER = 4
"""Blocks that are still heard once the drive is at zero: those that were on their way, and rest"""


@dataclass(frozen=True)
class After:
    """Blocks in order, as they came from the inputs."""

    first: int
    """Number of the first block, counted from the take's begin"""
    altered: int
    """Number of the first block whose drive was brought down"""
    block: int
    rows: Floats
    """(channels and drive, samples) [V]"""
    factors: Floats
    """(channels and drive,) from volts to what the record holds"""

    def since(self, length: int) -> Floats | None:
        """Rows [V] that come after `length` samples of the record; None where a piece is missing between."""
        begin = self.first * self.block
        if length < begin or length >= begin + self.rows.shape[1]:
            return None
        return self.rows[:, length - begin :]


def factors(rig: Rig) -> Floats:
    """From volts to what a record holds of each channel and the drive: currents are kept in ampere."""
    return np.array([1.0 / c.scale if c.kind == "current" else 1.0 for c in rig.channels] + [1.0])


def keep(folder: Path, after: After) -> None:
    """Put it beside a take, whole or not at all; a disk that is full leaves nothing."""
    part = folder / f".{NAME}.part"
    with contextlib.suppress(OSError):
        with part.open("wb") as file:
            np.savez(file, first=after.first, altered=after.altered, block=after.block,
                     rows=after.rows.astype("f4"), factors=after.factors)  # fmt: skip
        os.replace(part, folder / NAME)


def kept(folder: Path) -> After | None:
    """What was kept beside a take; None where nothing was, or it can't be read."""
    try:
        with np.load(folder / NAME) as held:
            return After(int(held["first"]), int(held["altered"]), int(held["block"]),
                         np.asarray(held["rows"], float), np.asarray(held["factors"], float))  # fmt: skip
    except (OSError, ValueError, KeyError, EOFError):
        return None
