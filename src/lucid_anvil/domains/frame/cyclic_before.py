"""What is done before pulses, stage by stage, each with its own end: a contact load, a load held until the specimen
rests, transducers brought into their range by a person."""

from __future__ import annotations

from collections import deque
from collections.abc import Generator, Mapping
from typing import TYPE_CHECKING, Annotated, Any, Literal

import numpy as np
from pydantic import Field, model_validator

from ...contracts.method import Facts, Got, Want
from ...contracts.recording import Floats
from ...contracts.settings import Model, quantity
from ...core.errors import BadInput

if TYPE_CHECKING:
    from .cyclic_run import Pulses

REACHED = 0.97
"""Share of a load at which it counts as borne"""
CALM = 1.0
"""s in which a held load is made up for"""
PATIENCE = 60.0
"""s in which a contact load must come"""
REST = 0.5
"""s over which a transducer's new zero is taken"""
WORDS = {"contact": "Contact load", "hold": "Held until it rests", "transducers": "Transducers into range"}


class Before(Model):
    """One stage."""

    do: Literal["contact", "hold", "transducers"]
    load: Annotated[float, quantity("N")] = 0.0
    """Of contact and hold; counted positive where it is pressed"""
    steady: Annotated[float, quantity("m")] = 5e-6
    """Of hold: what the length may still move by over `over`"""
    over: Annotated[float, quantity("s")] = 5.0
    most: Annotated[float, quantity("s")] = 120.0
    """Of hold: for so long at most; that it did not rest by then is said"""
    within: Annotated[float, quantity("%")] = 20.0
    """Of transducers: how far from the middle of its range each may stand, as a share of it"""
    channels: list[str] = Field(default_factory=list)
    """Of transducers: their roles; all lengths but the crosshead's when missing"""

    @model_validator(mode="after")
    def _sensible(self) -> Before:
        if self.do != "transducers" and self.load <= 0:
            raise ValueError(f"{self.do}: its load must be above zero.")
        if min(self.steady, self.over, self.most) <= 0 or not 0 < self.within < 100:
            raise ValueError("steady, over and most must be above zero, within between 0 and 100 %.")
        return self

    @property
    def about(self) -> float:
        """s that it takes, more or less."""
        return {"contact": 3.0, "hold": min(self.most, 4 * self.over), "transducers": 20.0}[self.do]

    @property
    def words(self) -> str:
        """In the course."""
        load = f", {self.load / 1e3:.3g} kN" if self.load >= 100 else f", {self.load:.3g} N"
        return WORDS[self.do] + ("" if self.do == "transducers" else load)

    def roles(self, facts: Facts) -> list[str]:
        """Channels that it sets. Raises BadInput where the bench has none, or not that one."""
        lengths = [i.role for i in facts.inputs if i.kind == "length" and i.role != "displacement"]
        if self.do != "transducers":
            return []
        if missing := [c for c in self.channels if c not in lengths]:
            here = ", ".join(lengths) or "none"
            raise BadInput(f"pulse, before: there is no transducer '{missing[0]}' here: {here}.")
        if not lengths:
            raise BadInput("pulse, before: the rig has no transducer of length beside the crosshead's own.")
        return self.channels or lengths


Stage = Generator[Want, Got, Got]


def go_through(pulses: Pulses, got: Got) -> Stage:
    """All stages in turn; what ended one early stands in `pulses.why`."""
    for number, stage in enumerate(pulses.pulse.before, start=1):
        if pulses.why:
            break
        made = _set(pulses, stage, number, got) if stage.do == "transducers" else _load(pulses, stage, number, got)
        got = yield from made
    return got


def pressing(pulses: Pulses, held: Mapping[str, Floats], load: float, slow: float) -> Floats:
    """Volts that bring a force [N] and hold it: no faster than `slow` [m/s]."""
    off = load - float(np.mean(held["force"]))
    stiff = max(pulses.line[1] if pulses.line is not None else 0.0, pulses.pulse.stiffness)
    return pulses.drawn(held, min(max(off / (CALM * stiff), -slow), slow))


def _load(pulses: Pulses, stage: Before, number: int, got: Got) -> Stage:
    """Contact ends where its load is borne; hold where the length has come to rest under it, or is given up."""
    slow = pulses.approach
    begun, ways = got.start, deque[tuple[float, float]]()
    reached: float | None = None
    marks: tuple[Mapping[str, Any], ...] = ()
    while True:
        held, t = pulses.units(got.channels), got.start
        pulses.met(held)
        pulses.fallen(held)
        force, way = float(np.mean(held["force"])), float(np.mean(held["displacement"]))
        if reached is None and force >= REACHED * stage.load:
            reached = t
        left, moved = 0.0, float("nan")
        if reached is not None and stage.do == "hold":
            ways.append((t, way))
            while ways and ways[0][0] < t - stage.over:
                ways.popleft()
            moved = max(w for _, w in ways) - min(w for _, w in ways)
            left = max(stage.over - (t - reached), 0.0)
        why = ""
        if pulses.why or any(o.get("order") == "skip" for o in got.orders):
            why = pulses.why or "skipped"
        elif reached is None and t - begun > PATIENCE:
            pulses.why = why = "no contact"
        elif reached is not None and stage.do == "contact":
            why = "borne"
        elif reached is not None and left <= 0 and moved <= stage.steady:
            why = "steady"
        elif reached is not None and t - reached > stage.most:
            why = "not steady"
        if why:
            marks = ({"kind": "before", "t": t, "number": number, "stage": stage.do, "why": why},)
            return (yield Want(np.zeros(pulses.facts.block), marks=marks))
        shown = {"Force": f"{force:.4g} N", "Length": f"{1e3 * way:.3f} mm"}
        if np.isfinite(moved):
            shown["Moves by"] = f"{1e6 * moved:.3g} µm in {stage.over:g} s"
        live = {"item": number, "at": min(t - begun, stage.about), "of": stage.about, "shown": shown}
        got = yield Want(pressing(pulses, held, stage.load, slow), live=live)


def _set(pulses: Pulses, stage: Before, number: int, got: Got) -> Stage:
    """The load as it is, while a person moves each transducer near the middle of its range; then their zero is taken
    anew."""
    facts = pulses.facts
    roles = stage.roles(facts)
    ranges = {i.role: i.range / abs(facts.sensitivity[i.role]) for i in facts.inputs if i.role in roles}
    keep = max(float(np.mean(pulses.units(got.channels)["force"])), 0.0)
    sums = dict.fromkeys(roles, 0.0)
    count, rest = 0, max(round(REST * facts.rate / facts.block), 1)
    told, resting = "", False
    tight = [r for r in roles if pulses.longest > (1 - stage.within / 100) * ranges[r]]
    way = f" The pulses will move them by some {1e3 * pulses.longest:.2g} mm"
    coming = f"{way}: more than {tight[0]} has room for on one side." if tight else f"{way}."
    marks: tuple[Mapping[str, Any], ...] = ()
    sent: dict[str, Any] | None = None
    while True:
        held, t = pulses.units(got.channels), got.start
        # As the sensor stands, not from its zero: its range is what it is.
        stand = {r: float(np.mean(got.channels[r])) / facts.sensitivity[r] for r in roles}
        far = max(roles, key=lambda r: abs(stand[r]) / ranges[r])
        inside = abs(stand[far]) <= stage.within / 100 * ranges[far]
        if any(o.get("order") == "skip" for o in got.orders):
            marks = ({"kind": "before", "t": t, "number": number, "stage": stage.do, "why": "skipped"},)
            return (yield Want(np.zeros(facts.block), marks=marks))
        if resting:
            for r in roles:
                sums[r] += stand[r] / rest
            count += 1
            if count == rest:
                anew = {r: sums[r] - pulses.zero.get(r, 0.0) for r in roles}
                pulses.zero |= sums
                marks = ({"kind": "zero", "t": t, **anew},
                         {"kind": "before", "t": t, "number": number, "stage": stage.do, "why": "set"})  # fmt: skip
                return (yield Want(np.zeros(facts.block), marks=marks))
        elif any(o.get("order") == "go" for o in got.orders):
            resting = inside
            told = "" if inside else f" {far} is still out."
            sent = None if inside else {"set_transducers": stage.within / 200}
        off = [f"{r} {1e3 * stand[r]:+.3g} of ±{1e3 * ranges[r]:.3g} mm" for r in roles]
        gauge = {"value": stand[far], "wanted": 0.0, "within": stage.within / 100 * ranges[far], "low": -ranges[far],
                 "top": ranges[far], "unit": "m",
                 "word": "steady" if inside else "rise" if stand[far] < 0 else "lower"}  # fmt: skip
        ask = f"Bring the transducers near the middle of their range: {', '.join(off)}.{coming}{told}"
        live = {"item": number, "at": 0.0, "of": 1.0, "gauge": gauge, "shown": {r: f"{1e3 * v:.3f} mm" for r, v in
                stand.items()}, **({} if resting else {"stage": "asking", "ask": ask})}  # fmt: skip
        out = pressing(pulses, held, keep, pulses.approach) if keep > 0 else np.zeros(facts.block)
        got = yield Want(out, live=live, settings=sent)
        sent = None
