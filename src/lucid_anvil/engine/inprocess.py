"""A plan played through on stand-ins inside this process, as fast as it goes: for rehearsals, studies and tests."""

from __future__ import annotations

import math
import tempfile
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from ..contracts.method import LEAD, Got
from ..contracts.recording import Channel, channel_of
from ..core.signal.sinefit import Floats
from ..protocol.messages import Room, Trip
from ..rig.instruments import ON_THE_DESK
from ..rig.standins.choosing import bench_of
from .desk import Instruments
from .guards import Guards, Seen, scaled
from .keeper import channel_scales
from .preparing import Prepared
from .ramp import Ramp
from .walkround import Sensed

REST = 12
"""Blocks at zero drive before the method begins, in which the walk-round's checks are sensed."""


@dataclass
class Played:
    """What a play-through gave. Times count from the method's first block, as in a take."""

    channels: dict[str, Channel] = field(default_factory=dict)
    marks: list[Mapping[str, Any]] = field(default_factory=list)
    most: dict[str, Room] = field(default_factory=dict)
    """Each guard when it had the least room."""
    trip: Trip | None = None
    sensed: Sensed = field(default_factory=Sensed)
    drive: Floats = field(default_factory=lambda: np.zeros(0))
    altered: int | None = None
    """Number of the first block that the ramp touched, counted as in a take."""
    blocks: int = 0
    position: dict[str, Any] | None = None
    """Where it last said that it could be gone on from"""


Orders = tuple[dict[str, Any], ...]


def goes_on(_live: Mapping[str, Any]) -> Orders:
    """Whatever is asked for is done."""
    return ({"order": "go"},)


def play_through(
    prepared: Prepared, progress: Callable[[float], None] | None = None, keep: bool = True, longest: float = math.inf,
    start: Mapping[str, Any] | None = None, answers: Callable[[Mapping[str, Any]], Orders] = goes_on,
) -> Played:  # fmt: skip
    """Every block through stand-in, guards, ramp and method, in lock-step, to the end or until a guard has brought
    the drive to zero. `keep` holds the raw channels in memory; `longest` s ends it early; `start`: a position to go on
    from; `answers`: what a person does when the method asks, from what it shows then."""
    rig = prepared.rig
    bench = bench_of(rig.model_copy(deep=True))
    bench.command("begin", REST * rig.front_end.block / rig.front_end.rate)
    desk: Instruments | None = bench.direct()
    roles = [c.role for c in rig.channels]
    scales = channel_scales(rig, dict(prepared.facts.sensitivity))
    block, rate = prepared.facts.block, prepared.facts.rate
    total = max(sum(i.duration for i in prepared.course()), 1e-9)
    made = Played()
    made.sensed.sheets = rig.identities()
    rows: list[Floats] = []
    with tempfile.TemporaryDirectory() as folder:
        guards = Guards(rig, Path(folder), prepared.control())
        performance = prepared.method.perform(prepared.settings, prepared.facts, start)
        drives = [np.zeros(block), np.zeros(block)]
        expects: dict[int, Any] = {}
        want, result, index = None, None, 0
        ramp, rest = Ramp(rate), 0
        while rest < 4 and (index - REST) * block / rate < longest:
            held = bench.play(drives.pop(0))
            channels = {r: held.samples[i] for i, r in enumerate([*roles, "drive"])}
            local = index - REST
            expect, bounds = expects.pop(index, (None, None))
            shown = desk.look() if desk else None
            seen = Seen(
                local * block / rate, held, scaled(held, scales, roles), drives[0], expect, bounds, instruments=shown
            )
            trips, rooms = guards.look(seen)
            for room in rooms:
                if room.key not in made.most or room.used > made.most[room.key].used:
                    made.most[room.key] = room
            guarded = [x for x in trips if x.action in ("cut", "ease")] if local >= 0 else []
            if local < 0:
                guards.rearm()
            index += 1
            if guarded and made.trip is None:
                made.trip = guarded[0]
                made.altered = local + LEAD
                ramp.begin(rig.cut_time if made.trip.action == "cut" else rig.ease_time)
            if local < 0:
                bias = {r: float(b) for r, b in zip(roles, held.bias, strict=True) if np.isfinite(b)}
                made.sensed.learn(channels, bias, held.temperature, held.interlock)
                made.sensed.instruments = seen.instruments
                drives.append(np.zeros(block))
                continue
            if keep:
                rows.append(held.samples)
            made.blocks += 1
            if made.trip is not None:
                drives.append(ramp(None, block))
                rest += ramp.zero
                continue
            overload = frozenset(r for r, o in zip(roles, held.overload, strict=True) if o)
            asked = want is not None and (want.live or {}).get("stage") == "asking"
            got = Got(local, local * block / rate, channels, overload, result,
                      answers((want.live if want is not None else None) or {}) if asked else (),
                      seen.instruments)  # fmt: skip
            result = None
            try:
                want = next(performance) if want is None else performance.send(got)
            except StopIteration:
                break
            made.marks.extend(want.marks)
            made.position = dict(want.position) if want.position is not None else made.position
            if want.chain is not None:
                guards.know(want.chain)
            if want.compute is not None:
                result = want.compute[0](*want.compute[1])
            for name, value in (want.settings or {}).items():
                if desk is not None and name in ON_THE_DESK:
                    desk.put(name, value)
                else:
                    bench.command(name, value)
            drives.append(ramp(want.drive, block))
            expects[index - 1 + LEAD] = (want.expect, want.bounds)
            if want.trip is not None:
                t = want.trip
                made.trip = Trip(t["guard"], t["label"], t["action"], t.get("channel"), local * block / rate, index,
                                 t["value"], t["limit"], t["unit"])  # fmt: skip
                made.altered = local + LEAD
                ramp.begin(rig.cut_time if t["action"] == "cut" else rig.ease_time)
            if progress and index % 50 == 0:
                progress(min(local * block / rate / total, 1.0))
    if rows:
        whole = np.concatenate(rows, axis=1)
        for i, role in enumerate(roles):
            meta = {}
            if role in prepared.facts.sensitivity:
                meta["sensitivity"] = prepared.facts.sensitivity[role] * 1e3
            part = rig.channel(role)
            unit, by = ("A", 1.0 / part.scale) if part.kind == "current" else ("V", 1.0)
            made.channels[role] = channel_of(role, unit, rate, whole[i] * by, meta)
        made.drive = whole[-1]
        made.channels["drive"] = channel_of("drive", "V", rate, whole[-1])
    return made
