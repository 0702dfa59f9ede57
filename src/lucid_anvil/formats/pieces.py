"""A record of which only pieces were kept: where each lies in the file, and when it was in the run.

`/pieces` holds a row a piece: the run's sample it begins with, its place in the channels. They may lie in any order;
they are read in the order of the run, one after the other. `/last/samples` is a ring of what was not kept, for the
stretch before a stop: `/last/begins` tells the run's sample that each of its blocks begins with, -1 for none.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Ints = NDArray[np.int64]
GAP = "gap"
"""Kind of the marks that say where a piece begins"""


@dataclass(frozen=True)
class Pieces:
    """Pieces in the order of the run, in samples."""

    starts: Ints
    """Of the run"""
    places: Ints
    """In the channels of the file"""
    sizes: Ints

    @property
    def length(self) -> int:
        return int(self.sizes.sum())

    @property
    def end(self) -> int:
        """The run's sample after the last that is kept."""
        return int((self.starts + self.sizes).max(initial=0))

    @property
    def begins(self) -> Ints:
        """Sample of the record, as it is read, with which each begins."""
        return np.concatenate([[0], np.cumsum(self.sizes)[:-1]]).astype(np.int64)

    def spans(self, a: int, b: int) -> Iterator[tuple[int, int]]:
        """Where samples a..b-1 of the record lie in the file: from, to, in their order."""
        first = self.begins
        for i in range(int(np.searchsorted(first, a, "right")) - 1, self.sizes.size):
            low, high = max(a - int(first[i]), 0), min(b - int(first[i]), int(self.sizes[i]))
            if high <= 0:
                return
            if low < high:
                yield int(self.places[i]) + low, int(self.places[i]) + high

    def at(self, sample: float) -> float:
        """Sample of the record for one of the run; what was not kept counts as the begin of what comes next."""
        i = int(np.searchsorted(self.starts, sample, "right")) - 1
        if i < 0:
            return 0.0
        return float(self.begins[i]) + min(sample - float(self.starts[i]), float(self.sizes[i]))

    def marks(self, rate: float) -> list[dict[str, Any]]:
        """One where something was let go: how many s of the run before it, and when in the run it was."""
        ends = self.starts + self.sizes
        return [
            {"kind": GAP, "t": int(b) / rate, "lost": int(s - e) / rate, "run": int(s) / rate}
            for b, s, e in zip(self.begins[1:], self.starts[1:], ends[:-1], strict=True)
            if s > e
        ]

    def timed(self, events: Sequence[Mapping[str, Any]], rate: float) -> list[dict[str, Any]]:
        """Events of the run at their times in the record, `run` where it was in the run, and where pieces begin."""
        made = [
            {**e, "t": self.at(float(e["t"]) * rate) / rate, "run": e["t"]} if isinstance(e.get("t"), (int, float))
            else dict(e)
            for e in events
        ]
        return [*made, *self.marks(rate)]


def pieces_in(file: Any, length: int) -> Pieces | None:
    """Those of an open file whose channels have `length` samples; None where all was kept."""
    if "pieces" not in file:
        return None
    rows = np.asarray(file["pieces"], dtype=np.int64).reshape(-1, 2)
    rows = rows[rows[:, 1] < length]
    if not rows.size:
        return None
    sizes = np.diff(np.append(rows[:, 1], length))
    order = np.argsort(rows[:, 0], kind="stable")
    return Pieces(rows[order, 0], rows[order, 1], sizes[order])


def held_back(file: Any) -> list[tuple[int, Any]]:
    """The stretches of the ring of an open file, in the order of the run: the first sample of each, and its rows
    (channels, n). What lies back further from the newest of them than the ring is long is left out."""
    begins = np.asarray(file["last/begins"], dtype=np.int64)
    block = file["last/samples"].shape[1] // max(begins.size, 1)
    upto = int(begins.max(initial=-block)) + block
    made: list[tuple[int, list[Any]]] = []
    for slot in np.argsort(begins, kind="stable"):
        start = int(begins[slot])
        if start < 0 or start < upto - begins.size * block:
            continue
        rows = np.asarray(file["last/samples"][:, slot * block : (slot + 1) * block])
        if made and start == made[-1][0] + sum(r.shape[1] for r in made[-1][1]):
            made[-1][1].append(rows)
        else:
            made.append((start, [rows]))
    return [(start, np.concatenate(rows, axis=1)) for start, rows in made]


def bring_back(file: Any) -> None:
    """Put what the ring of an open file holds at the end of its channels, each stretch as a piece."""
    held = file["channels"]
    length = min(held[k].shape[0] for k in held)
    for start, rows in held_back(file):
        length = append(file, length, start, rows)
    file["last/begins"][:] = -1


def append(file: Any, length: int, start: int, rows: Any) -> int:
    """A stretch (channels, n) that begins with the run's sample `start` behind `length` samples: the length then."""
    whole = pieces_in(file, length)
    if whole is None or start != int(whole.starts[np.argmax(whole.places)] + whole.sizes[np.argmax(whole.places)]):
        listed = file["pieces"]
        listed.resize((listed.shape[0] + 1, 2))
        listed[-1] = (start, length)
    for key, row in zip(sorted(file["channels"]), rows, strict=True):
        held = file["channels"][key]
        held.resize((length + len(row),))
        held[length:] = row
    return length + rows.shape[1]
