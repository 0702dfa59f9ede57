"""The cycles of one take: told from the raw record, or from the table that is kept of all where that is thinned."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np

from ...contracts.method import TREND
from ...contracts.recording import Channel, Floats
from ...contracts.samples import known_roles, samples_in, together
from ...core.errors import BadInput
from ...core.frame import cycles
from ...core.quantities import same_kind
from .shared import length_in
from .stiffness_watch import COARSE, LEAST, StiffnessWatch

if TYPE_CHECKING:
    from .cyclic import CyclicSettings

SETTLED = 6
"""Cycles after which amplitudes grow no more"""
AGREES = 0.01
"""Share by which the raw record and the table of one take may differ in stiffness before it is said"""


@dataclass(frozen=True)
class Piece:
    """The whole cycles of one record."""

    lengths: tuple[str, ...]
    notes: tuple[str, ...]
    tops: Mapping[str, tuple[Floats, Floats]]
    """Largest and smallest of each role, cycle by cycle"""
    stiffness: Floats
    energy: Floats
    rests: Mapping[str, tuple[float, float]]
    """Of each length at the smallest force of the first and of the last cycle"""
    said: str
    turns: tuple[int, ...]
    """Cycles before which the pulses' size changed"""
    ends: tuple[float, float] = (0.0, 0.0)
    """s of the record at which the first of them begins and the last ends"""

    @property
    def count(self) -> int:
        return int(self.stiffness.size)


def piece_of(record: Mapping[str, Channel], settings: CyclicSettings, marks: Sequence[Mapping[str, Any]]) -> Piece:
    """The cycles of a take. Raises BadInput for a record that can't be read."""
    table = {r.removeprefix(TREND): c for r, c in record.items() if r.startswith(TREND)}
    raw = {r: c for r, c in record.items() if not r.startswith(TREND)}
    # One that was stopped before anything was let go is whole: each sample of it is there.
    gaps = [m for m in marks if m.get("kind") == "gap"]
    if not gaps or not table or not table["cycle"].length:
        return _from_raw(raw, settings, marks)
    return _from_table(table, raw, settings, marks, gaps)


def _from_table(
    table: Mapping[str, Channel], raw: Mapping[str, Channel], settings: CyclicSettings,
    marks: Sequence[Mapping[str, Any]], gaps: Sequence[Mapping[str, Any]],
) -> Piece:  # fmt: skip
    """What the run kept of every cycle; how it stood at rest at first and at last, from the raw record."""
    zeros = [m for m in marks if m.get("kind") == "zero"]
    first = _from_raw(between(raw, 0.0, gaps[0]["t"]), settings, marks)
    stops = [*(g["t"] for g in gaps[1:]), None]
    last, gap = first, None
    for g, stop in zip(reversed(gaps), reversed(stops), strict=True):  # the last stretch that holds a whole cycle
        last = _from_raw(between(raw, g["t"], stop), settings, [*zeros, *over_in(marks, g["t"])])
        if last.count:
            gap = g
            break
    if not first.count or gap is None:
        raise BadInput("the raw record holds no whole cycle at its begin, or none after it: what was kept of every"
                       " cycle can't be held against it.")  # fmt: skip
    held = {k: c.samples() for k, c in table.items()}
    # The raw record tells its cycles better; the table those between and after, each by when it ended.
    t, half = held["t"], 0.5 * float(np.median(np.diff(held["t"]))) if held["t"].size > 1 else 0.0
    apart = float(gap["run"])  # when in the run the last stretch begins
    amid = (t > first.ends[1] + half) & (t < last.ends[0] + apart + half)
    later = t > last.ends[1] + apart + half
    roles = [r for r in ("force", *first.lengths) if f"{r}_max" in held]
    tops = {r: (held[f"{r}_max"], held[f"{r}_min"]) for r in roles}
    with np.errstate(divide="ignore", invalid="ignore"):
        swing = {r: high - low for r, (high, low) in tops.items()}
        made = held["ratio"] if settings.stiffness == "harmonic" else swing["force"] / swing["displacement"]
    made = np.where(np.isfinite(made), made, np.nan)

    def joined(a: Floats, kept: Floats, b: Floats) -> Floats:
        return np.concatenate([a, kept[amid], b, kept[later]])

    stiffness, energy = (joined(first.stiffness, made, last.stiffness),
                         joined(first.energy, held["energy"], last.energy))  # fmt: skip
    tops = {r: (joined(first.tops[r][0], tops[r][0], last.tops[r][0]),
                joined(first.tops[r][1], tops[r][1], last.tops[r][1])) for r in roles}  # fmt: skip
    rests = {r: (first.rests[r][0], last.rests[r][1]) for r in first.rests}
    notes = list(first.notes)
    if later.any():
        notes.append(f"The raw record ends {int(later.sum())} cycles before what was kept of each: what stayed is of"
                     " the last cycle that it holds.")  # fmt: skip
    again = made[(t > last.ends[0] + apart + half) & ~later]
    shown = float(np.median(last.stiffness) / np.median(again)) if again.size else 1.0
    if abs(shown - 1) > AGREES:
        notes.append(f"In its last {last.count} cycles the raw record shows a stiffness {100 * (shown - 1):+.1f} % off"
                     " what was kept of every cycle: look at both.")  # fmt: skip
    ended = joined(np.full(first.count, -np.inf), t, np.full(last.count, last.ends[1] + apart))
    at = [float(m.get("run", m["t"])) for m in marks if m.get("kind") == "block"]
    turns = {int(k) for k in np.searchsorted(ended, at)} | set(first.turns)
    said = (f"{stiffness.size} whole cycles: the first {first.count} and the last {last.count} from the raw record,"
            " those between from what was kept of each.")  # fmt: skip
    return Piece(first.lengths, tuple(notes), tops, stiffness, energy, rests, said, tuple(sorted(turns)),
                 (first.ends[0], last.ends[1] + apart))  # fmt: skip


def over_in(marks: Sequence[Mapping[str, Any]], start: float = 0.0) -> list[Mapping[str, Any]]:
    """The marks of when pulses ended, in the time of a stretch of the record that begins at `start` [s]."""
    return [{**m, "t": m["t"] - start} for m in marks if m.get("kind") == "pulsed" and m["t"] >= start]


def between(raw: Mapping[str, Channel], start: float, stop: float | None) -> dict[str, Channel]:
    """Channels from one time of the record to another [s]."""
    made = {}
    for role, c in raw.items():
        a = round(start * c.rate)
        b = c.length if stop is None else min(round(stop * c.rate), c.length)
        made[role] = replace(c, length=b - a, load=partial(_later, c, a))
    return made


def _later(c: Channel, by: int, a: int, b: int) -> Floats:
    return c.load(by + a, by + b)


@dataclass(frozen=True)
class Begun:
    """A stretch of the raw record and where its cycles begin."""

    rate: float
    first: int
    """Sample of the record with which it begins"""
    force: Floats
    lengths: Mapping[str, Floats]
    edges: Floats
    """Samples, with their fractions, at which a cycle begins and the last one ends; fewer than two: there is none"""
    notes: tuple[str, ...]


def begun_in(raw: Mapping[str, Channel], settings: CyclicSettings, marks: Sequence[Mapping[str, Any]]) -> Begun:
    """Force and lengths from their zeros, positive where they are pressed, and their cycles. Raises BadInput."""
    known_roles(settings.sensitivity, raw, "sensitivity")
    # Other channels of the record, a temperature say, are no lengths and left alone.
    lengths = [r for r, c in raw.items() if r == "displacement" or (
        r != "force" and (r in settings.sensitivity or same_kind(c.unit or "?", "m")))]  # fmt: skip
    rate, n = together(raw, ("force", *lengths))
    force = samples_in(raw, "force", "N", settings.sensitivity)[:n]
    begun = next((m["t"] for m in marks if m.get("kind") == "pulses"), 0.0)
    first = int(begun * rate)  # what was at rest before makes no cycles
    force, n = force[first:], n - first
    held = {r: length_in(raw, r, settings)[first : first + n] for r in lengths}
    if n < 8:
        raise BadInput(f"the record has {n} samples: there is no cycle in it.")
    # What a run took as zero is none of the specimen's.
    for mark in (m for m in marks if m.get("kind") == "zero"):
        force = force - float(mark.get("force", 0.0))
        held = {r: x - float(mark.get(r, 0.0)) for r, x in held.items()}
    force, held, notes = _signed(force, held)
    period = settings.period or (1 / settings.frequency if settings.frequency else None)
    own = settings.pulse.blocks or settings.pulse.pause or settings.pulse.shape not in ("sine", "haversine")
    if period is None and any(m.get("kind") == "pulses" for m in marks) and own:
        period = 1 / settings.pulse.cycles_a_second  # the record itself tells it badly
    samples = cycles.period_of(force) if period is None else period * rate
    if samples is not None and not 3 <= samples <= max(n, 3):
        if period is not None:
            raise BadInput("frequency, period: the record's rate and length hold no such cycle.")
        samples = None
    edges = cycles.begins(force, samples) if samples is not None else np.zeros(0)
    over = max((m["t"] for m in over_in(marks)), default=None)
    if over is not None and samples is not None:  # the last one ends while the amplitude is let go
        edges = edges[edges <= over * rate - first + 1.05 * samples]
    return Begun(rate, first, force, held, edges, tuple(notes))


def _from_raw(raw: Mapping[str, Channel], settings: CyclicSettings, marks: Sequence[Mapping[str, Any]]) -> Piece:
    begun = begun_in(raw, settings, marks)
    rate, first, force, held, edges, notes = (
        begun.rate, begun.first, begun.force, begun.lengths, begun.edges, begun.notes)  # fmt: skip
    lengths = list(held)
    if edges.size < 2:
        none = np.zeros(0)
        return Piece(tuple(lengths), tuple(notes), {}, none, none, {}, "", ())
    tops = {r: cycles.extremes(x, edges) for r, x in {"force": force, **held}.items()}
    made = cycles.loops(force, held["displacement"], edges)
    with np.errstate(divide="ignore", invalid="ignore"):
        swing = {r: high - low for r, (high, low) in tops.items()}
        stiffness = made.ratio if settings.stiffness == "harmonic" else swing["force"] / swing["displacement"]
    stiffness = np.where(np.isfinite(stiffness), stiffness, np.nan)
    rests = {r: (cycles.at_rest(force, x, edges, 0), cycles.at_rest(force, x, edges, edges.size - 2))
             for r, x in held.items()}  # fmt: skip
    said = (f"{edges.size - 1} whole cycles from {edges[0] / rate:.4g} s to {edges[-1] / rate:.4g} s, of"
            f" {np.median(np.diff(edges)) / rate:.4g} s each (median).")  # fmt: skip
    at = [float(m["t"]) * rate - first for m in marks if m.get("kind") == "block"]
    turns = tuple(int(np.searchsorted(edges, a)) for a in at)
    ends = (float(edges[0]) + first) / rate, (float(edges[-1]) + first) / rate
    return Piece(tuple(lengths), tuple(notes), tops, stiffness, made.energy, rests, said, turns, ends)


def turns_in(pieces: Sequence[Piece]) -> frozenset[int]:
    """Cycles, counted over all pieces, at which it begins anew: another size of pulses, another take."""
    made, before = set(), 0
    for p in pieces:
        made |= {before + t for t in (0, *p.turns)}
        before += p.count
    return frozenset(made)


def jumps_in(stiffness: Floats, anew: frozenset[int] = frozenset()) -> list[str]:
    """Where force against length did not go on as it was: the specimen tore, or what is read after it is in doubt.
    `anew`: cycles from which the pulses have another size; the one in which they change is neither."""
    watch = StiffnessWatch()
    begun = 0
    with np.errstate(divide="ignore", invalid="ignore"):
        steps = np.abs(np.diff(np.log(stiffness)))
    if not np.any(~(steps < LEAST / 2)) and not anew - {0}:  # of millions that glide no two are looked at one by one
        return []
    for i, value in enumerate(stiffness):
        if {i - 1, i, i + 1} & anew:
            watch.forget()
            begun = i
        by = watch.jump(float(value), COARSE if i - begun < SETTLED else LEAST) if i else None
        if by is None and i - 2 in anew and i >= 4:
            by = watch.across(float(stiffness[i - 4]), float(value))
        if by is not None:
            way = f"{'fell' if by < 1 else 'rose'} by {100 * abs(by - 1):.0f} %"
            return [f"Force against length {way} at once, about cycle {i + 1}: the specimen gave way there, or a sensor"
                    " or its lead did; then what follows is in doubt."]  # fmt: skip
    return []


def _signed(force: Floats, held: dict[str, Floats]) -> tuple[Floats, dict[str, Floats], list[str]]:
    """Compression counts positive, whichever sign was recorded; a displacement goes with its force."""
    notes = []
    pressed = float(force.max()) < 0.1 * -float(force.min())
    if pressed:
        force = -force
        notes.append("The force was recorded below zero: compression counts positive.")
    made = {}
    off = force - force.mean()
    for role, x in held.items():
        against = float(off @ (x - x.mean())) < 0
        made[role] = -x if against and (role == "displacement" or pressed) else x
    return force, made, notes
