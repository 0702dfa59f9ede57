"""Blocks of samples in shared memory, between keeper and conductor."""

from __future__ import annotations

from multiprocessing import shared_memory

import numpy as np

from ..core.signal.sinefit import Floats

SLOTS = 64
"""More than the recorder holds back: what it had not written when it was killed is still here"""


class Ring:
    """SLOTS blocks of (rows, block) float64 for the inputs and of (block,) for the drive, by block number."""

    def __init__(self, rows: int, block: int, name: str | None = None) -> None:
        size = 8 * SLOTS * (rows + 1) * block
        self.memory = shared_memory.SharedMemory(name=name, create=name is None, size=size if name is None else 0)
        if name is not None:
            self._forget()
        whole: Floats = np.ndarray((SLOTS, rows + 1, block), dtype=float, buffer=self.memory.buf)
        self.inputs, self.drives = whole[:, :rows], whole[:, rows]
        self.name, self.owner = self.memory.name, name is None

    def _forget(self) -> None:
        """Only the maker's resource tracker may clean up (else it is unlinked under the maker's feet)."""
        from multiprocessing import resource_tracker

        resource_tracker.unregister(self.memory._name, "shared_memory")  # type: ignore[attr-defined]

    def put_input(self, index: int, samples: Floats) -> None:
        self.inputs[index % SLOTS] = samples

    def input(self, index: int) -> Floats:
        """A copy, since the slot is used again."""
        return self.inputs[index % SLOTS].copy()

    def put_drive(self, index: int, drive: Floats) -> None:
        self.drives[index % SLOTS] = drive

    def drive(self, index: int) -> Floats:
        return self.drives[index % SLOTS].copy()

    def close(self) -> None:
        del self.inputs, self.drives
        self.memory.close()
        if self.owner:
            self.memory.unlink()
