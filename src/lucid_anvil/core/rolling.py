"""The last rows of something that is fed one after the other, as one array."""

from __future__ import annotations

import numpy as np

from .signal.sinefit import Floats


class Rolling:
    """At most so many rows of one shape, the oldest first. A row costs the same however many are held, and what is
    looked at is no copy: it holds until the next row comes."""

    def __init__(self, most: int, *shape: int) -> None:
        """`most` rows; `shape` of each."""
        self.most = max(most, 1)
        self.store = np.empty((2 * self.most, *shape))
        self.end = 0

    def __len__(self) -> int:
        return min(self.end, self.most)

    def add(self, row: Floats) -> None:
        """One row more; the oldest goes where there is no room."""
        if self.end == self.store.shape[0]:
            self.store[: self.most - 1] = self.store[self.most + 1 :]
            self.end = self.most - 1
        self.store[self.end] = row
        self.end += 1

    @property
    def rows(self) -> Floats:
        """All that are held, (rows, *shape)."""
        return self.store[self.end - len(self) : self.end]

    def last(self, count: int) -> Floats:
        """The newest of them, or all where there are fewer."""
        return self.store[self.end - min(count, len(self)) : self.end]
