"""Limits of a curve made from units that were measured: a good one, or a batch, with a width below and above."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ..contracts.finding import Curve, Finding
from ..core.errors import BadInput
from ..core.quality.masks import around, batch
from ..core.quantities import parse, split
from .photos import article_of
from .place import Lab
from .plans import put_plan
from .takes import list_takes
from .textfiles import load_yaml

MASKED = ("distortion_power_", "gain_")
"""What keys of curves begin with that a step's mask holds for"""


@dataclass(frozen=True)
class Unit:
    """An article whose sheet was taken."""

    name: str
    take: Path
    finding: Finding

    def curve(self, key: str) -> Curve | None:
        """Its curve of that name, if it has one."""
        return next((c for c in self.finding.curves if c.key == key), None)


@dataclass(frozen=True)
class Width:
    """How far a line of limits lies from a curve."""

    value: float
    kind: str
    """spread (standard deviations of a batch), share (of the curve), or unit (in its own)"""

    @staticmethod
    def typed(text: str, unit: str) -> list[Width]:
        """`3 s`, `5 %` (of the curve) or `0.5 dB`; several, such as `3 s; 0.2 dB`, are the widest of them at each
        place; none where nothing was typed. Raises BadInput."""
        return [Width._one(part, unit) for part in text.split(";") if part.strip()]

    @staticmethod
    def _one(text: str, unit: str) -> Width:
        value, own = split(text.strip())
        if value < 0:
            raise BadInput(f"'{text.strip()}': a width is above zero.")
        if own == "s" and unit != "s":
            return Width(value, "spread")
        if own == "%":
            return Width(value / 100, "share")
        return Width(parse(text.strip(), unit, "the width"), "unit")

    def of(self, y: np.ndarray, deviation: np.ndarray | None) -> np.ndarray:
        """In the curve's unit, a value a point. Raises BadInput where a spread is wanted of one curve."""
        if self.kind == "spread":
            if deviation is None:
                raise BadInput("A spread (s) needs two units at least: tick more, or give a width.")
            return self.value * deviation
        return self.value * np.abs(y) if self.kind == "share" else np.full(y.size, self.value)


@dataclass(frozen=True)
class Lines:
    """Limits made from curves, thinned to few points."""

    x: np.ndarray
    low: np.ndarray | None
    high: np.ndarray | None
    off: float
    """How far they lie at most from the lines that all points would make [the curve's unit]"""
    said: str
    """What they were made from, in words"""

    def plain(self) -> dict[str, Any]:
        """As a plan has them."""
        made: dict[str, Any] = {"x": _rounded(self.x)}
        made |= {k: _rounded(v) for k, v in (("low", self.low), ("high", self.high)) if v is not None}
        return {**made, "from": self.said}


def lines_from(curves: Sequence[Curve], below: str, above: str, most: int = 60) -> Lines:
    """Limits around one unit's curve, or around the mean of several: `below` and `above` as `Width.typed` takes them,
    nothing for an open side; with `most` points at most. Raises BadInput."""
    arrays = [(np.array(c.x, float), np.array([np.nan if v is None else v for v in c.y], float)) for c in curves]
    arrays = [(x[np.isfinite(y)], y[np.isfinite(y)]) for x, y in arrays]
    if not arrays or any(x.size < 2 for x, _ in arrays):
        raise BadInput("Tick a unit whose curve has two points at least.")
    unit = curves[0].y_unit
    widths = [Width.typed(t, unit) for t in (below, above)]
    if widths == [[], []]:
        raise BadInput("Give a width below, above, or both.")
    if most < 2:
        raise BadInput("Two points at least make a line.")
    (x, y), deviation = arrays[0], None
    if len(arrays) > 1:
        try:
            made = batch(arrays)
        except ValueError as problem:
            raise BadInput(f"No limits can be made from these curves: {problem}.") from None
        x, y, deviation = made.x, made.mean, made.deviation
    sizes = [np.max([w.of(y, deviation) for w in held], axis=0) if held else None for held in widths]
    try:
        mask = around(x, y, sizes[0], sizes[1], most)
    except ValueError as problem:
        raise BadInput(f"No limits can be made from these curves: {problem}.") from None
    low, high = mask.at(x)
    wanted = [(low, -1.0, sizes[0]), (high, 1.0, sizes[1])]
    off = max(float(np.max(np.abs(line - y - sign * w))) for line, sign, w in wanted if w is not None)
    of = f"mean of {len(arrays)} units" if len(arrays) > 1 else "one unit"
    sides = [f"{sign}{t.strip()}" for t, sign in ((below, "−"), (above, "+")) if t.strip()]
    said = f"{of} {' '.join(sides)}"
    return Lines(mask.x, None if sizes[0] is None else mask.low, None if sizes[1] is None else mask.high, off, said)


def _rounded(values: np.ndarray) -> list[float]:
    return [float(f"{v:.6g}") for v in values]


def units_of(lab: Lab, method: str) -> list[Unit]:
    """The newest counted take of each article that was read by a method, the newest first."""
    newest: dict[Path, Unit] = {}
    for take in list_takes(lab.jobs):
        finding = take.finding()
        if finding is not None and finding.method == method:
            of = article_of(lab, take.folder.parent) or take.folder.parent
            newest[of] = Unit(of.name, take.folder, finding)
    return list(newest.values())[::-1]


def step_of(plan: Any, key: str) -> dict[str, Any] | None:
    """The step of an amplifier's plan whose curve is called `key`; None where none could be held to limits."""
    task = next((key.removeprefix(start) for start in MASKED if key.startswith(start)), "")
    steps = {str(s.get("name", "")).replace(" ", "-"): s for s in plan.get("steps", [])}
    name = max((n for n in steps if n and task.startswith(f"{n}_")), key=len, default=None)
    return None if name is None else steps[name]


def put_limits(place: Path, key: str, limits: dict[str, Any]) -> str:
    """Put the limits of the curve `key` into the step of a sheet's plan that it is of; nothing takes them away. Says
    what was done. Raises BadInput without such a step."""
    plan = load_yaml(place)
    step = step_of(plan, key)
    if step is None:
        raise BadInput(f"{place.name}: it has no step whose curve {key} could be held to limits.")
    if limits:
        step["mask"] = limits
    else:
        step.pop("mask", None)
    put_plan(place, plan)
    said = limits.get("from", f"{len(limits['x'])} points") if limits else "none"
    return f"Limits of {step.get('label') or step['name']}: {said}. They hold from the next take on."
