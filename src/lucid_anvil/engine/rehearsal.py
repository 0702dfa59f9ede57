"""Rehearsal: a plan on stand-ins as fast as it goes, in this process, to see the headroom before hardware moves."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np

from ..core.calibration.decision import verdict
from ..lab.findings import Curve, Finding, Reading
from ..methods.base import LEAD, Got
from ..protocol.messages import Room, Trip
from ..rig.standins.bench import StandInBench
from .guards import Guards, Seen, scaled
from .keeper import channel_scales
from .preparing import Prepared, capability_rows
from .walkround import Sensed, WalkRound


def rehearse(prepared: Prepared, progress: Callable[[float], None] | None = None) -> Finding:
    """How much of every guard and capability the run would use, as readings in percent with 100 as their limit."""
    rig = prepared.rig
    bench, walk = StandInBench(rig.model_copy(deep=True)), WalkRound(prepared)
    roles = [c.role for c in rig.channels]
    scales = channel_scales(rig, dict(prepared.facts.sensitivity))
    block, rate = prepared.facts.block, prepared.facts.rate
    total = sum(i.duration for i in prepared.course())
    sensed = Sensed()
    most: dict[str, Room] = {}
    tripped: Trip | None = None
    with tempfile.TemporaryDirectory() as folder:
        guards = Guards(rig, Path(folder))
        performance = prepared.method.perform(prepared.settings, prepared.facts, None)
        drives = [np.zeros(block), np.zeros(block)]
        expects: dict[int, float | None] = {}
        want, result, index = None, None, 0
        while tripped is None:
            held = bench.play(drives.pop(0))
            channels = {r: held.samples[i] for i, r in enumerate(roles)}
            t = index * block / rate
            seen = Seen(t, held, scaled(held, scales, roles), drives[0], expects.pop(index, None))
            trips, rooms = guards.look(seen)
            for room in rooms:
                if room.key not in most or room.used > most[room.key].used:
                    most[room.key] = room
            tripped = next((x for x in trips if x.action in ("cut", "ease")), None)
            if index < 12:
                bias = {r: b for r, b in zip(roles, held.bias, strict=True) if np.isfinite(b)}
                sensed.learn(channels, bias, held.temperature)
                drives.append(np.zeros(block))
                index += 1
                continue
            overload = frozenset(r for r, o in zip(roles, held.overload, strict=True) if o)
            got = Got(index - 12, t, channels, overload, result)
            result = None
            try:
                want = next(performance) if want is None else performance.send(got)
            except StopIteration:
                break
            if want.compute is not None:
                result = want.compute[0](*want.compute[1])
            for name, value in (want.settings or {}).items():
                bench.command(name, value)
            drives.append(want.drive)
            expects[index + LEAD] = want.expect
            index += 1
            if progress and index % 50 == 0:
                progress(min(t / max(total, 1e-9), 1.0))
    return _finding(prepared, most, tripped, walk, sensed)


def _finding(
    prepared: Prepared, most: dict[str, Room], tripped: Trip | None, walk: WalkRound, sensed: Sensed
) -> Finding:
    readings = []
    for key, room in most.items():
        used = 100 * room.used
        made = Reading(
            f"guard_{key}", f"{room.label}, most used", used, "%", None, None, high=100.0,
            verdict=verdict(used, 0.0, None, 100.0, "simple"),
        )  # fmt: skip
        readings.append(made)
    if tripped is not None:
        readings = [
            replace(r, verdict="outside") if r.key == f"guard_{tripped.guard}" else r for r in readings
        ]
    notes = [f"Cut at {tripped.t:.1f} s: {tripped.sentence}."] if tripped else []
    limited = [i for i in prepared.course() if i.limited_by]
    if limited:
        text = ", ".join(f"{i.frequency:g} Hz at {i.level:.3g} m/s² ({i.limited_by})" for i in limited)
        notes.append(f"Below the wished level because of the shaker: {text}.")
    for check in walk.states(sensed):
        if check.kind == "sensed" and not check.done:
            notes.append(f"Walk-round would not pass: {check.text}: {check.why}.")
            readings.append(Reading(f"check_{check.key}", check.text, 0.0, "", verdict="outside"))
    rows = capability_rows(prepared.rig)
    items = [i for i in prepared.course() if i.frequency is not None and i.level is not None]
    items.sort(key=lambda i: i.frequency or 0.0)
    curves = [Curve("capability", "What the bench allows", *zip(*[(r[0], r[1]) for r in rows], strict=True), "Hz", "m/s²")]
    if items:
        curves.append(
            Curve(
                "course", "Level of the course", tuple(float(i.frequency or 0) for i in items),
                tuple(i.level for i in items), "Hz", "m/s²",
            )
        )  # fmt: skip
    duration = sum(i.duration for i in prepared.course())
    readings.append(Reading("duration", "Duration, about", duration, "s"))
    return Finding("rehearsal", tuple(readings), tuple(curves), (), tuple(notes))
