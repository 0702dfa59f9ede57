"""Rehearsal: a plan on stand-ins as fast as it goes, in this process, to see the headroom before hardware moves."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

from ..contracts.finding import Curve, Finding, Reading
from ..core.calibration.decision import verdict
from ..core.errors import BadInput
from ..protocol.messages import Room, Trip
from ..rig.model import MEASURED, Rig
from .inprocess import play_through
from .preparing import Prepared, capability_rows
from .walkround import Sensed, WalkRound


def rehearse(prepared: Prepared, progress: Callable[[float], None] | None = None) -> Finding:
    """How much of every guard and capability the run would use, as readings in percent with 100 as their limit."""
    unknown = prepared.rig.undescribed
    prepared = on_standins(prepared)
    played = play_through(prepared, progress, keep=False)
    made = _finding(prepared, played.most, played.trip, WalkRound(prepared), played.sensed)
    return made.lacking([unknown]) if unknown else made


def on_standins(prepared: Prepared) -> Prepared:
    """The same plan on a bench of stand-ins: shaker and amplifier as the rig states them, each sensor with the
    sensitivity that the plan states, nothing on the table. Raises BadInput for a bench whose object nothing stands in
    for."""
    rig = prepared.rig
    if rig.is_standin:
        return prepared
    if rig.standin.scene is None and any(c.kind in ("force", "pressure", "tach") for c in rig.channels):
        raise BadInput(f"{prepared.rig_file}: nothing is driven here, so there is nothing to rehearse: run the plan.")
    sensors, channels = {}, []
    for c in rig.channels:
        if c.kind in MEASURED:
            per = prepared.facts.sensitivity[c.role]
            name = c.sensor or c.role
            sensors[name] = {"sensitivity": f"{1e3 * per!r} mV/({MEASURED[c.kind]})".replace("²", "^2")}
            c = c.model_copy(update={"sensor": name, "on": "table", "conditioner_gain": None})
        channels.append(c)
    data = rig.model_dump(by_alias=True, exclude_none=True)
    data["front_end"]["driver"] = "standin"
    data["channels"] = [c.model_dump(by_alias=True, exclude_none=True) for c in channels]
    data["standin"] = {**data["standin"], "sensors": sensors, "article": {}, "faults": []}
    stood = Rig.model_validate(data)
    return replace(prepared, rig=stood, facts=replace(prepared.facts, delay=0.0))


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
        readings = [replace(r, verdict="outside") if r.key == f"guard_{tripped.guard}" else r for r in readings]
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
    x, y = tuple(r[0] for r in rows), tuple(r[1] for r in rows)
    curves = [Curve("capability", "What the bench allows", x, y, "Hz", "m/s²")]
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


def all_of(titles: Sequence[str], findings: Sequence[Finding]) -> Finding:
    """The rehearsals of several steps as one finding: a step's number before each key."""
    readings = [
        replace(r, key=f"step_{i}_{r.key}", label=f"{i} · {r.label}")
        for i, f in enumerate(findings, 1)
        for r in f.readings
    ]
    notes = [f"{title}: {note}" for title, f in zip(titles, findings, strict=True) for note in f.notes]
    return Finding(findings[0].method, tuple(readings), notes=tuple(notes))
