"""The one recording type: named channels that are read piece by piece."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..core.errors import BadInput
from ..core.quantities import factor

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Channel:
    """One uniformly sampled channel. `load(a, b)` gives samples a..b-1 in `unit`."""

    label: str
    unit: str
    rate: float
    length: int
    load: Callable[[int, int], Floats]
    meta: Mapping[str, Any] = field(default_factory=dict)
    """What travels with it: sensor id, sensitivity, range and the like."""
    times: Floats | None = None
    """s of each sample from the first, where a logger's rows are uneven; only methods with `logs` are given such"""

    def time(self) -> Floats:
        """s of each sample."""
        return np.arange(self.length) / self.rate if self.times is None else self.times

    @property
    def duration(self) -> float:
        return self.length / self.rate

    def samples(self, start: int = 0, stop: int | None = None) -> Floats:
        """Samples start..stop-1 in `unit`, cut to what is there."""
        stop = self.length if stop is None else min(stop, self.length)
        return self.load(max(start, 0), stop)

    def between(self, start: float, stop: float) -> Floats:
        """Samples of a stretch of time, in seconds from the start of the record."""
        return self.samples(int(round(start * self.rate)), int(round(stop * self.rate)))

    def in_unit(self, unit: str, scale: float | None = None) -> Channel:
        """The same channel in another unit; `scale` turns one into the other where the units differ in kind."""
        by = factor(self.unit, unit) if scale is None else scale
        if by == 1.0:
            return replace(self, unit=unit)
        load = self.load
        return replace(self, unit=unit, load=lambda a, b: load(a, b) * by)


def channel_of(label: str, unit: str, rate: float, samples: Floats, meta: Mapping[str, Any] | None = None) -> Channel:
    """A channel that is in memory already."""
    x = np.ascontiguousarray(samples, dtype=float)
    return Channel(label, unit, float(rate), x.size, lambda a, b: x[a:b], dict(meta or {}))


@dataclass(frozen=True)
class Recording:
    """Channels of one record and what is known about it."""

    source: str
    channels: tuple[Channel, ...]
    meta: Mapping[str, Any] = field(default_factory=dict)
    marks: tuple[Mapping[str, Any], ...] = ()
    """What happened when: each has `t` [s] and `kind`, and what belongs to it."""
    trend: tuple[Channel, ...] = ()
    """Of a record of which only pieces were kept: a table of all, a column each, a row where its method made one"""

    @property
    def notes(self) -> tuple[str, ...]:
        """What its reader has to say of it, for the finding."""
        return tuple(self.meta.get("notes", ()))

    @property
    def labels(self) -> list[str]:
        return [c.label for c in self.channels]

    def channel(self, wanted: str | int) -> Channel:
        """A channel by label (with or without its unit) or by number from 1. Raises BadInput."""
        text = str(wanted).strip()
        found = [c for c in self.channels if text in (c.label, f"{c.label} [{c.unit}]")]
        if len(found) > 1:
            numbers = ", ".join(str(i) for i, c in enumerate(self.channels, 1) if c in found)
            raise BadInput(f"{self.source}: channels {numbers} are all called '{text}': choose one by its number.")
        if found:
            return found[0]
        if text.isdigit() and 1 <= int(text) <= len(self.channels):
            return self.channels[int(text) - 1]
        raise BadInput(
            f"{self.source}: there is no channel '{text}': it has {', '.join(self.labels)}; choose one of them."
        )

    def roles(self, wanted: Mapping[str, str], needed: tuple[str, ...]) -> dict[str, Channel]:
        """Channels by role. Without a mapping equal names are used, or the only channel for an only role."""
        for role in wanted:
            if role not in needed:
                raise BadInput(f"The role '{role}' is not one of this method's: {', '.join(needed)}.")
        found = {}
        for role in needed:
            if role in wanted:
                found[role] = self.channel(wanted[role])
            elif role in self.labels:
                found[role] = self.channel(role)
            elif len(needed) == 1 and len(self.channels) == 1:
                found[role] = self.channels[0]
            else:
                raise BadInput(
                    f"{self.source}: no channel for the role '{role}': say --role {role}=CHANNEL,"
                    f" one of {', '.join(self.labels)}."
                )
        return found


def evened(recording: Recording) -> Recording:
    """The same with even steps, for the eye: between a logger's rows by straight lines."""
    if all(c.times is None for c in recording.channels):
        return recording
    made = []
    for c in recording.channels:
        t = c.time()
        even = np.arange(0.0, float(t[-1]) + 0.5 / c.rate, 1 / c.rate)
        made.append(channel_of(c.label, c.unit, c.rate, np.interp(even, t, c.samples()), c.meta))
    return replace(recording, channels=tuple(made))
