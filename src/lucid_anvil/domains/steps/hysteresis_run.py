"""A drive taken up and down in steps, each read once it has settled: nobody need be there."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import numpy as np

from ...contracts.method import LEAD, Facts, Got, Performance, Want
from ...core.errors import BadInput

if TYPE_CHECKING:
    from .step_hysteresis import HysteresisSettings


def levels(settings: HysteresisSettings) -> list[float]:
    """V of every step in turn: up, down, as often as there are loops."""
    c = settings.course
    up = np.linspace(c.low, c.high, c.steps)
    one = [*up, *up[-2::-1]]
    made = list(one)
    for _ in range(c.loops - 1):
        made += one[1:]
    return [float(v) for v in made]


def perform(settings: HysteresisSettings, facts: Facts) -> Performance:
    """Ramp, wait, read; and back to nothing at the end."""
    c = settings.course
    if max(abs(c.low), abs(c.high)) > 0.98 * facts.source_range:
        raise BadInput(f"course: the source reaches {facts.source_range:g} V: lower it.")
    span = facts.block / facts.rate
    now = 0.0
    wanted = levels(settings)
    got: Got = yield Want(np.zeros(facts.block))
    x: list[float] = []
    y: list[float] = []
    for i, level in enumerate(wanted):
        while now != level:
            step = min(max(level - now, -c.ramp * span), c.ramp * span)
            after = level if abs(level - now - step) < 1e-12 else now + step
            got = yield Want(np.linspace(now, after, facts.block + 1)[1:], live=_live(i, len(wanted), level, x, y))
            now = after
        since, last = got.start, None
        steady = 0
        while True:
            mean = float(np.mean(got.channels["response"]))
            gone = got.start - since - LEAD * span
            if last is not None and c.steady is not None:
                per = facts.sensitivity.get("response", 1.0)
                steady = steady + 1 if abs(mean - last) / per < c.steady * span else 0
            last = mean
            if gone >= c.settle or (c.steady is not None and gone > 0 and steady * span >= c.read):
                break
            got = yield Want(np.full(facts.block, now), live=_live(i, len(wanted), level, x, y))
        start = got.start + span
        while got.start + span < start + c.read:
            got = yield Want(np.full(facts.block, now), live=_live(i, len(wanted), level, x, y))
        x.append(level)
        y.append(float(np.mean(got.channels["response"])) / facts.sensitivity.get("response", 1.0))
        mark: Mapping[str, Any] = {"kind": "step", "t": got.start + span, "number": i + 1, "level": level,
                                   "start": start, "stop": got.start + span}  # fmt: skip
        got = yield Want(np.full(facts.block, now), marks=(mark,), live=_live(i, len(wanted), level, x, y))
    while now != 0.0:
        step = min(max(-now, -c.ramp * span), c.ramp * span)
        after = 0.0 if abs(now + step) < 1e-12 else now + step
        got = yield Want(np.linspace(now, after, facts.block + 1)[1:])
        now = after
    for _ in range(LEAD + 1):  # the record holds its return to nothing
        got = yield Want(np.zeros(facts.block))


def _live(i: int, of: int, level: float, x: list[float], y: list[float]) -> dict[str, Any]:
    made: dict[str, Any] = {"item": 0, "at": float(i), "of": float(of),
                            "shown": {"Step": f"{i + 1} of {of}", "Drive": f"{level:.4g} V"}}  # fmt: skip
    if x:
        made["curves"] = {"loop": {"now": [list(x), list(y)]}}
    return made
