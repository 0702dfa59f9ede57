"""Any pulse of a take, out of its raw record, to be looked at alone."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from ...contracts.method import TREND
from ...contracts.recording import Channel, Floats
from ...core.errors import BadInput
from ...core.frame.pulse import PulseMeasures, measure
from .cycle_pieces import Begun, begun_in, between, over_in

if TYPE_CHECKING:
    from .cyclic import CyclicSettings


@dataclass(frozen=True)
class OnePulse:
    """One pulse with half of its neighbours at either side."""

    number: int
    rate: float
    record: Mapping[str, Floats]
    """By role: force [N], lengths [m], (n,)"""
    measures: PulseMeasures
    """Of the force"""


@dataclass(frozen=True)
class Pulses:
    """Where the pulses of a record begin; those of the raw record alone, which may leave out most."""

    stretches: tuple[tuple[Begun, np.ndarray], ...]
    """Each with the numbers of its cycles, counted from 1"""

    @property
    def numbers(self) -> np.ndarray:
        """Of all that can be looked at."""
        return np.concatenate([n for _, n in self.stretches]) if self.stretches else np.zeros(0, int)

    def nearest(self, number: int) -> int:
        """The number of the pulse that is kept and lies nearest. Raises BadInput where none is."""
        there = self.numbers
        if not there.size:
            raise BadInput("There is no whole pulse in this record.")
        return int(there[np.argmin(np.abs(there - number))])

    def take(self, number: int) -> OnePulse:
        """One of them. Raises BadInput where the raw record does not hold it."""
        for begun, numbers in self.stretches:
            at = np.flatnonzero(numbers == number)
            if not at.size:
                continue
            i = int(at[0])
            first, last = float(begun.edges[i]), float(begun.edges[i + 1])
            half = (last - first) / 2
            a, b = max(int(first - half), 0), min(int(last + half) + 1, begun.force.size)
            record = {"force": begun.force[a:b], **{r: x[a:b] for r, x in begun.lengths.items()}}
            found = measure(record["force"], begun.rate, int(first) - a, int(last) - a)
            return OnePulse(number, begun.rate, record, found)
        raise BadInput(f"Pulse {number} is not in the raw record: the nearest that is has the number"
                       f" {self.nearest(number)}.")  # fmt: skip


def pulses_of(
    record: Mapping[str, Channel], settings: CyclicSettings, marks: Sequence[Mapping[str, Any]]
) -> Pulses:
    """All of a record. Raises BadInput."""
    table = {r.removeprefix(TREND): c for r, c in record.items() if r.startswith(TREND)}
    raw = {r: c for r, c in record.items() if not r.startswith(TREND)}
    gaps = [m for m in marks if m.get("kind") == "gap"]
    before = next((int(m.get("before", 0)) for m in marks if m.get("kind") == "pulses"), 0)
    if not gaps or not table or not table["cycle"].length:
        return _joined([(begun_in(raw, settings, marks), None)], before)
    zeros = [m for m in marks if m.get("kind") == "zero"]
    ended, cycle = table["t"].samples(), table["cycle"].samples()
    spacing = float(np.median(np.diff(ended))) if ended.size > 1 else np.inf
    stops = [*(g["t"] for g in gaps[1:]), None]
    made: list[tuple[Begun, np.ndarray | None]] = [(begun_in(between(raw, 0.0, gaps[0]["t"]), settings, marks), None)]
    for g, stop in zip(gaps, stops, strict=True):
        begun = begun_in(between(raw, g["t"], stop), settings, [*zeros, *over_in(marks, g["t"])])
        ends = begun.edges[1:] / begun.rate + float(g["run"])  # in the run's own time
        near = np.clip(np.searchsorted(ended, ends), 1, ended.size - 1)
        near = near - (np.abs(ended[near - 1] - ends) < np.abs(ended[near] - ends))
        beyond = np.rint((ends - ended[near]) / spacing)  # what ended after the last that the table has
        made.append((begun, (cycle[near] + beyond).astype(int)))
    return _joined(made, before)


def _joined(made: Sequence[tuple[Begun, np.ndarray | None]], before: int) -> Pulses:
    held = []
    for begun, numbers in made:
        count = begun.edges.size - 1
        if count > 0:
            held.append((begun, numbers if numbers is not None else np.arange(count) + before + 1))
    return Pulses(tuple(held))
