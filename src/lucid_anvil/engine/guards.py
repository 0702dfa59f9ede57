"""Guards: watches on live quantities, block by block. Arrays in, a trip or the room left out; no I/O but disk space."""

from __future__ import annotations

import math
import os
from collections import deque
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from ..contracts.guard import Block, Look, Watched
from ..contracts.registry import guard_kind
from ..core.control.chain import ChainModel, ChainWatch, Changed
from ..core.errors import BadInput
from ..core.quantities import degrees, parse
from ..core.signal.sinefit import Floats
from ..protocol.messages import Room, Trip
from ..rig.device import INTERLOCKS, InputBlock
from ..rig.model import MEASURED, GuardPart, Rig
from .loadheat import AMBIENT, LoadHeat

BIAS_WINDOW = (4.0, 19.0)
"""V. Below: short. Above: open. Between: a sensor with its electronics alive (constant-current supply, 24 V)."""
LOST_OVER = 0.16
"""s at most over which a lost control is looked for; its limits are coarse enough for less than a period."""
UNITS = {
    "drive": "V", "current": "A", "stroke": "m", "overload": "", "control_lost": "m/s²", "supply": "V",
    "disk": "B", "acceleration": "m/s²", "late": "s", "abort": "m/s²", "interlock": "",
    "load_heat": "°C", "supply_current": "A", "instrument": "", "chain": "%", "force": "N", "length": "m",
    "temperature": "°C",
}  # fmt: skip
LIMITED = ("drive", "current", "stroke", "acceleration", "disk", "supply_current", "force", "length", "temperature")
"""Kinds that have no limit unless somebody gives them one"""
LABELS = {
    "drive": "Drive", "current": "Coil current", "stroke": "Stroke", "overload": "Input overload",
    "control_lost": "Control lost", "supply": "Sensor supply", "disk": "Disk space",
    "acceleration": "Acceleration", "late": "Drive block late", "abort": "Abort corridor", "interlock": "Interlock",
    "load_heat": "Load temperature", "supply_current": "Supply current", "instrument": "Instruments",
    "chain": "Measuring chain", "force": "Force", "length": "Length", "temperature": "Temperature",
}  # fmt: skip


def unit_of(watch: str) -> str:
    """Unit of what a kind of guard watches."""
    return UNITS[watch] if watch in UNITS else guard_kind(watch).unit


def label_of(watch: str) -> str:
    """What a kind of guard is called."""
    return LABELS[watch] if watch in LABELS else guard_kind(watch).label


class StrokeFromAcceleration:
    """Table displacement [m] from its acceleration: two integrators with a corner at 2 Hz against drift."""

    def __init__(self, rate: float, corner: float = 2.0) -> None:
        from scipy.signal import bilinear_zpk, zpk2sos

        w = 2 * np.pi * corner
        pole = w * np.exp(1j * np.array([3 * np.pi / 4, -3 * np.pi / 4]))
        zeros, poles, gain = bilinear_zpk(np.zeros(2), np.concatenate([pole, pole]), 1.0, rate)
        self.sos = zpk2sos(zeros, poles, gain)
        self.state = np.zeros((self.sos.shape[0], 2))

    def __call__(self, acceleration: Floats) -> Floats:
        from scipy.signal import sosfilt

        y, self.state = sosfilt(self.sos, acceleration, zi=self.state)
        return y


@dataclass
class Watch:
    """One guard with its limit in the unit of what it watches."""

    part: GuardPart
    limit: float
    since: float | None = None
    """s, since when beyond the limit"""
    tripped: bool = False
    said: str | None = None
    """What is wrong, where a number would not say it"""
    eye: Look | None = None
    """Of a kind that a domain brought along: each guard has its own, with its own limit and what it has seen"""

    @property
    def key(self) -> str:
        """Its name among the rooms: one of a kind, unless it is about one channel."""
        return f"{self.part.watch}_{self.part.channel}" if self.part.channel else self.part.watch

    @property
    def label(self) -> str:
        return self.part.label or label_of(self.part.watch)


def limit_of(part: GuardPart) -> float:
    """What a guard is set to, in its unit; what is usual for one that a domain brought along. Raises BadInput for what
    is no such quantity, and for a limit at nought or below: nothing would ever reach it."""
    where = f"guards.{part.watch}"
    if part.limit is None:
        return guard_kind(part.watch).usual
    unit = unit_of(part.watch)
    if unit == "°C":
        return degrees(part.limit, where)
    if unit in ("", "B"):
        try:
            made = parse(part.limit, "m/m", where)
        except BadInput:
            raise BadInput(f"{where}: its limit is a plain number: '{part.limit}' is none.") from None
    else:
        made = parse(part.limit, unit, where)
    if not made > 0:
        raise BadInput(f"{where}: its limit of {part.limit} would never be reached: give one above zero.")
    return made


def begun(rig: Rig, control: Mapping[str, Any], part: GuardPart, limit: float) -> Look | None:
    """The eye of a guard that a domain brought along; None for those that any bench knows. Raises BadInput where it has
    nothing to go by."""
    if part.watch in UNITS:
        return None
    kinds = {c.role: c.kind for c in rig.channels}
    limits = rig.frame.limits if rig.frame else {}
    end = rig.front_end
    facts = Watched(kinds, end.rate, end.block, control, limits, part.channel)
    return guard_kind(part.watch).begin(facts, limit)


def check_limits(rig: Rig, control: Mapping[str, Any]) -> None:
    """Raises BadInput for a guard of a rig or its plan that could never act: without a limit where it needs one, with
    one that makes no sense, or with nothing to go by."""
    for part in [*rig.guards, *(GuardPart.model_validate(g) for g in control.get("guards", []))]:
        own = part.watch not in UNITS
        limit = limit_of(part) if own or part.limit is not None else None
        if limit == math.inf or (limit is None and part.watch in LIMITED):
            raise BadInput(f"guards.{part.watch}: it has no limit, and would never act: give it one.")
        if own:
            begun(rig, control, part, limit or math.inf)


@dataclass
class Seen:
    """What the guards look at in one block. Channels in their own units."""

    t: float
    block: InputBlock
    channels: Mapping[str, Floats]
    drive_next: Floats
    """V, the block about to be played."""
    expect: float | None
    """rms that the control channel should show in this block, from the conductor."""
    bounds: tuple[float, float, float] | None = None
    """Abort edges of the control's rms, low and high, and the seconds to average over."""
    instruments: Mapping[str, Any] | None = None
    """What the instruments last showed"""
    trouble: str | None = None
    """What is wrong with them"""


@dataclass
class Guards:
    """All guards of a rig; `look` is called once a block, `check_drive` before a drive block leaves."""

    rig: Rig
    folder: Path
    control: Mapping[str, Any] = field(default_factory=dict)
    """`roles` of the control points and how to `combine` them; the reference by default."""
    watches: list[Watch] = field(default_factory=list)
    count: int = 0
    before: int = 0
    """Blocks seen before the run began"""
    edge: float = float("inf")

    def __post_init__(self) -> None:
        self.roles = [c.role for c in self.rig.channels]
        self.supplied = [i for i, c in enumerate(self.rig.channels) if c.supply and c.kind in MEASURED]
        first = "reference" if "reference" in self.roles else "control" if "control" in self.roles else self.roles[0]
        self.points: list[str] = [r for r in self.control.get("roles", [first]) if r in self.roles] or [first]
        self.energy: deque[tuple[int, dict[str, tuple[float, float]]]] = deque(maxlen=256)
        self.disk_full = [f.at for f in self.rig.standin.faults if f.kind == "disk_full"]
        self.stroke = StrokeFromAcceleration(self.rig.front_end.rate)
        self.free = 1e15
        self.heat = LoadHeat(self.rig.load) if self.rig.load is not None else None
        self.span = self.rig.front_end.block / self.rig.front_end.rate
        parts = list(self.rig.guards or default_guards(self.rig))
        # A plan's guards come on top of the rig's: they can add, never take away.
        parts += [GuardPart.model_validate(g) for g in self.control.get("guards", [])]
        self.chain: tuple[ChainModel, ChainWatch] | None = None
        self.changed: list[Changed] = []
        if self.rig.load is None and self.rig.frame is None and not any(p.watch == "chain" for p in parts):
            parts.append(GuardPart(watch="chain"))  # as the abort corridor: no file can leave it out
        self.watches = [Watch(p, self._limit(p)) for p in parts]
        for watch in self.watches:
            watch.eye = begun(self.rig, self.control, watch.part, watch.limit)

    def know(self, model: ChainModel) -> None:
        """What the probe run found: from now on the chain is watched against it."""
        self.chain = (model, model.watch(self.rig.front_end.rate, self.rig.front_end.block))
        self.changed = []

    def _limit(self, part: GuardPart) -> float:
        if part.limit is None:
            if part.watch == "load_heat" and self.rig.load is not None:
                return self.rig.load.limit
            if part.watch not in UNITS:
                return limit_of(part)
            usual = {"overload": 0.5, "supply": BIAS_WINDOW[1], "control_lost": 0.25, "chain": 13.0}
            return usual.get(part.watch, float("inf"))
        return limit_of(part)

    def rearm(self) -> None:
        """Forget what was seen before the run began."""
        for watch in self.watches:
            watch.since, watch.tripped = None, False
        self.energy.clear()
        self.before = self.count

    def look(self, seen: Seen) -> tuple[list[Trip], list[Room]]:
        """Trips of this block, and the room that each guard has left."""
        stroke = self.stroke(seen.channels[self.points[0]])
        self._learn(seen)
        if self.heat is not None:
            self.heat.add(seen.channels, seen.instruments, self.span)
        if self.count % 25 == 0:
            held = os.statvfs(self.folder)
            self.free = float(held.f_bavail * held.f_frsize)
        if self.disk_full and (self.count - self.before + 1) * self.span > min(self.disk_full):
            self.free = 0.0  # a stand-in's fault
        self.count += 1
        trips, rooms = [], []
        for watch in self.watches:
            if watch.part.watch == "chain" and self.chain is None:
                continue  # nothing is known yet that it could be held against
            used, value, channel = self._value(watch, seen, stroke)
            if watch.part.watch == "abort" and seen.bounds is not None:
                watch.limit = self.edge
            trip = self._decide(watch, used, value, channel, seen)
            if trip:
                trips.append(trip)
            # Beyond its limit for less than its time it has not acted: nearly used up is what is true of it.
            shown = used if watch.tripped else min(used, 0.99)
            rooms.append(
                Room(
                    watch.key, watch.label, shown, value, watch.limit, unit_of(watch.part.watch), watch.part.action
                )
            )  # fmt: skip
        return trips, rooms

    def _decide(self, watch: Watch, used: float, value: float, channel: str | None, seen: Seen) -> Trip | None:
        if used < 1.0:
            watch.since = None
            return None
        watch.since = seen.t if watch.since is None else watch.since
        if watch.tripped or seen.t + self.span - watch.since < watch.part.after:
            return None
        watch.tripped = True
        label = watch.said.rstrip(".") if watch.said else watch.label
        return Trip(
            watch.part.watch, label, watch.part.action, channel, seen.t, seen.block.index, value,
            watch.limit, unit_of(watch.part.watch),
        )  # fmt: skip

    def _value(self, watch: Watch, seen: Seen, stroke: Floats) -> tuple[float, float, str | None]:
        """Share of the limit used, value, and the channel it is about."""
        kind = watch.part.watch
        if watch.eye is not None:
            sight = watch.eye(Block(seen.channels, seen.t, seen.instruments, seen.block.samples[-1]))
            watch.said = sight.said
            return sight.used, sight.value, sight.channel
        if kind == "drive":
            value = float(np.max(np.abs(seen.drive_next)))
            return value / watch.limit, value, "source"
        if kind == "current":
            role = watch.part.channel or "current"
            if role not in seen.channels:
                return 0.0, 0.0, role
            value = float(np.max(np.abs(seen.channels[role])))
            return value / watch.limit, value, role
        if kind == "stroke":
            value = 2 * float(np.max(np.abs(stroke)))
            return value / watch.limit, value, "table"
        if kind == "acceleration":
            role = watch.part.channel or self.points[0]
            if role not in seen.channels:
                return 0.0, 0.0, role
            value = float(np.max(np.abs(seen.channels[role])))
            return value / watch.limit, value, role
        if kind in ("force", "length"):
            role = watch.part.channel or next((c.role for c in self.rig.channels if c.kind == kind), "")
            if role not in seen.channels:
                return 0.0, 0.0, role
            x = seen.channels[role]
            value = float(x[int(np.argmax(np.abs(x)))])
            return abs(value) / watch.limit, value, role
        if kind == "temperature":
            return self._warm(watch, seen)
        if kind == "overload":
            hit = np.flatnonzero(seen.block.overload)
            return (2.0 if hit.size else 0.0), float(hit.size), self.roles[hit[0]] if hit.size else None
        if kind == "supply":
            return self._supply(seen)
        if kind == "interlock":
            bits = seen.block.interlock
            names = [n for i, n in enumerate(INTERLOCKS) if bits >> i & 1]
            return (2.0 if names else 0.0), float(bits), names[0] if names else None
        if kind == "abort":
            return self._abort(seen)
        if kind == "load_heat":
            value, where = self.heat.hottest() if self.heat else (0.0, None)
            return (value - AMBIENT) / (watch.limit - AMBIENT), value, where
        if kind == "supply_current":
            value = float((seen.instruments or {}).get("supply_current", 0.0))
            return value / watch.limit, value, "supply"
        if kind == "instrument":
            watch.said = seen.trouble
            return (2.0 if seen.trouble else 0.0), 0.0, None
        if kind == "chain":
            return self._chain(watch, seen)
        if kind == "disk":
            return watch.limit / max(self.free, 1.0), self.free, None
        return self._control_lost(watch, seen)

    def _warm(self, watch: Watch, seen: Seen) -> tuple[float, float, str | None]:
        """A temperature against what it may rise to, its room counted from that of a room."""
        role = watch.part.channel or next((c.role for c in self.rig.channels if c.kind == "temperature"), "")
        if role not in seen.channels:
            return 0.0, 0.0, role
        value = float(np.mean(seen.channels[role]))
        rise = watch.limit - AMBIENT
        return ((value - AMBIENT) / rise if rise > 1 else float(value >= watch.limit)), value, role

    def _chain(self, watch: Watch, seen: Seen) -> tuple[float, float, str | None]:
        """A control point, or a response that the level is notched for, no longer shows what it did while the others
        go on; another channel is only told of."""
        if self.chain is None:
            return 0.0, 0.0, None
        model, sight = self.chain
        found = sight.feed(np.array([seen.channels[r] for r in model.roles]), seen.block.samples[-1])
        if found is not None and all(c.channel != found.channel for c in self.changed):
            self.changed.append(found)
        critical = {*self.points, *self.control.get("notched", ())}
        for one in self.changed:
            role = model.roles[one.channel]
            if role in critical:
                watch.said = told(model, one)
                return 2.0, 100 * (one.by - 1), role
        used = max(abs(float(sight.jumps[i])) / sight.limit for i in range(model.controls))
        return min(used, 0.99), 100 * float(np.expm1(sight.jumps[0])), model.roles[0]

    def _supply(self, seen: Seen) -> tuple[float, float, str | None]:
        worst, at = 0.0, 0.0
        role: str | None = None
        low, high = BIAS_WINDOW
        for i in self.supplied:
            bias = float(seen.block.bias[i])
            used = abs(bias - (low + high) / 2) / ((high - low) / 2)
            if used > worst:
                worst, at, role = used, bias, self.roles[i]
        return worst, at, role

    def _learn(self, seen: Seen) -> None:
        """Keep sum and energy of each control point in this block."""
        held = {r: (float(seen.channels[r].sum()), float(seen.channels[r] @ seen.channels[r])) for r in self.points}
        self.energy.append((seen.channels[self.points[0]].size, held))

    def _level(self, seconds: float) -> float:
        """rms of the combined control points over the last seconds."""
        last = list(self.energy)[-max(1, round(seconds / self.span)) :]
        n = sum(k for k, _ in last)
        levels = []
        for role in self.points:
            s, q = sum(h[role][0] for _, h in last), sum(h[role][1] for _, h in last)
            levels.append(max(q / n - (s / n) ** 2, 0.0) ** 0.5)
        return float({"maximum": max, "minimum": min}.get(self.control.get("combine", ""), np.mean)(levels))

    def _abort(self, seen: Seen) -> tuple[float, float, str | None]:
        """Level against the abort edges that the method states for this block."""
        role = self.points[0]
        if seen.bounds is None:
            return 0.0, 0.0, role
        low, high, over = seen.bounds
        if len(self.energy) * self.span < over:
            return 0.0, 0.0, role
        value = self._level(over)
        self.edge = high if value / high >= low / max(value, 1e-12) else low
        return max(value / high, low / max(value, 1e-12)), value, role

    def _control_lost(self, watch: Watch, seen: Seen) -> tuple[float, float, str | None]:
        """The level does not follow the drive: below a quarter, or above four times, of what is expected."""
        role = watch.part.channel or self.points[0]
        if seen.expect is None or role not in seen.channels:
            return 0.0, 0.0, role
        x = seen.channels[role]
        value = float(np.sqrt(np.mean((x - x.mean()) ** 2))) if seen.block.samples.shape[1] > 2 else 0.0
        if seen.bounds is not None and watch.part.channel is None:
            value = self._level(min(seen.bounds[2], LOST_OVER))
        if seen.expect < 0.02:
            return 0.0, value, role
        share = value / seen.expect
        used = max(watch.limit / max(share, 1e-6), share * watch.limit)
        return used, value, role


def told(model: ChainModel, change: Changed) -> str:
    """A change of the chain in one sentence."""
    role = model.roles[change.channel]
    others = ", ".join(model.roles[i] for i in change.witnesses)
    if change.flickers:
        return f"{role} loses pieces of its signal while {others} went on: its plug or cable opens"
    if not others:
        return f"{role} shows {change.by:.2f} of what the drive gave before: its sensor or cable, or the amplifier"
    return f"{role} shows {change.by:.2f} of what it did while {others} went on: its sensor, cable or mounting changed"


LOADED: list[dict[str, object]] = [
    {"watch": "overload", "after": 0.06},
    {"watch": "load_heat", "action": "ease"},
    {"watch": "supply_current", "limit": "6 A"},
    {"watch": "instrument"},
    {"watch": "disk", "limit": 2e8, "action": "ease"},
]
"""What protects an amplifier's bench whose file names no guards"""


FRAMED: list[dict[str, object]] = [
    {"watch": "interlock"},
    {"watch": "overload", "after": 0.02},
    {"watch": "disk", "limit": 2e8, "action": "ease"},
]
"""What protects a load frame whose file names no guards, beside its force"""


def default_guards(rig: Rig) -> list[GuardPart]:
    """What protects a rig whose file names no guards: its own limits, as far as its front end can see them."""
    return [g for g in _default_guards(rig) if g.watch != "interlock" or rig.is_standin]


def _default_guards(rig: Rig) -> list[GuardPart]:
    s = rig.shaker
    if rig.load is not None:
        drive = {"watch": "drive", "limit": rig.front_end.source_range * 0.99}
        return [GuardPart.model_validate(r) for r in (drive, *LOADED)]
    if rig.frame is not None:
        frame = {"watch": "force", "limit": rig.frame.force}
        return [GuardPart.model_validate(r) for r in (frame, *FRAMED)]
    rows: list[dict[str, object]] = [
        {"watch": "drive", "limit": rig.front_end.source_range * 0.99},
        {"watch": "current", "limit": s.current},
        {"watch": "stroke", "limit": s.stroke},
        {"watch": "overload", "after": 0.06},
        {"watch": "control_lost", "limit": 0.25, "after": 0.12},
        {"watch": "supply"},
        {"watch": "interlock"},
        {"watch": "abort"},
        {"watch": "disk", "limit": 2e8, "action": "ease"},
    ]
    return [GuardPart.model_validate(r) for r in rows]


def scaled(block: InputBlock, scales: Sequence[float], roles: Sequence[str]) -> dict[str, Floats]:
    """Channels in their engineering units: m/s² or A."""
    return {role: block.samples[i] * scales[i] for i, role in enumerate(roles)}
