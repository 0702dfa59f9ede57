"""Limits of a curve: two lines of points, and what a finding's curve says against them."""

from __future__ import annotations

import difflib
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
from pydantic import Field, model_validator

from ..core.errors import BadInput
from ..core.quality.masks import Mask
from ..core.quantities import parse
from .finding import Curve, Finding, Reading
from .settings import Flag, Model

MARGIN = "margin_"
"""What the keys of the readings begin with that a limited curve adds"""
SLACK, STEP = 0.005, 0.03
"""Shares of a limit's end by which a curve may fall short of it, since grids are rounded: in any case, and by one of
its own steps at most"""


class CurveLimits(Model):
    """Two lines that a curve has to stay between, straight between their points; over the logarithm of x where all x
    are above zero. A place without a value is open on that side, and so is what lies between it and the next point."""

    x: list[float | str]
    """Where the points stand, rising, in the curve's unit unless they name one"""
    low: list[float | str | None] | None = None
    """Lower line, a value a point; nothing: no lower limit"""
    high: list[float | str | None] | None = None
    """Upper line, a value a point; nothing: no upper limit"""
    floats: Flag = False
    """Whether both lines are moved up or down together to where the curve's smaller margin is largest"""
    most: float | str | None = None
    """How far they may be moved, in the curve's unit; needed where they float, or whatever has lost its level passes"""
    rule: Literal["guarded", "simple"] | None = None
    """For a curve that states no uncertainty: simple judges it by its values alone; nothing: as all readings"""
    made_from: str | None = Field(default=None, alias="from")
    """What they were made from, in words"""

    @model_validator(mode="after")
    def _whole(self) -> CurveLimits:
        if self.low is None and self.high is None:
            raise ValueError("a low or a high line is wanted")
        for name in ("low", "high"):
            line = getattr(self, name)
            if line is not None and len(line) != len(self.x):
                raise ValueError(f"{name} has {len(line)} points and x {len(self.x)}: give one a place")
        if len(self.x) < 2:
            raise ValueError("two points at least make a line")
        if all(isinstance(v, (int, float)) for v in self.x) and np.any(np.diff(np.array(self.x, float)) <= 0):
            raise ValueError("x must rise: put the points in order, none twice")
        sides = zip(self.low or (), self.high or (), strict=False)
        if any(isinstance(a, (int, float)) and isinstance(b, (int, float)) and a > b for a, b in sides):
            raise ValueError("low must not be above high: exchange them")
        if self.floats and (self.low is None or self.high is None):
            raise ValueError("limits that float need a low and a high line: one alone would always be kept")
        if self.floats and self.most is None:
            raise ValueError("limits that float need most, how far at most: else what has lost its level would pass")
        return self

    def mask(self, curve: Curve) -> Mask:
        """In the curve's units. Raises BadInput where a unit does not fit, x does not rise or the lines cross."""
        where = f"curve_limits.{curve.key}"
        x = np.array([parse(v, curve.x_unit, f"{where}.x") for v in self.x])
        if not np.all(np.diff(x) > 0):
            raise BadInput(f"{where}.x: the places must rise: put the points in order, none twice.")
        low, high = (
            np.array([np.nan if v is None else parse(v, curve.y_unit, f"{where}.{name}")
                      for v in (getattr(self, name) or [None] * x.size)])
            for name in ("low", "high")
        )  # fmt: skip
        crossed = np.flatnonzero(low > high)
        if crossed.size:
            raise BadInput(f"{where}: low is above high at {x[crossed[0]]:g} {curve.x_unit}: exchange them.")
        return Mask(x, low, high)


@dataclass(frozen=True)
class Limited:
    """A curve against its limits."""

    curve: Curve
    """With the lines that it was judged by"""
    verdict: str
    margin: Reading
    notes: tuple[str, ...] = ()


def limited(curve: Curve, given: CurveLimits, rule: str) -> Limited:
    """Judge a curve. What is limited and was not measured, or not validly, leaves it open at best. A curve's own
    corridor stays: the narrower of both is drawn. `rule`: guarded or simple, as `core.calibration.decision` has it.
    Raises BadInput for limits that don't fit the curve."""
    mask = given.mask(curve)
    x, y = np.array(curve.x, float), _floats(curve.y)
    stated = curve.uncertainty is not None
    doubt = _floats(curve.uncertainty) if curve.uncertainty is not None else np.full(y.size, np.nan)
    counts = np.isfinite(y) & (np.array(curve.valid, bool) if curve.valid is not None else True)
    notes: list[str] = []
    shift = 0.0
    if given.floats:
        most = abs(parse(given.most, curve.y_unit, f"curve_limits.{curve.key}.most"))
        shift = mask.floated(x[counts], y[counts], most)
        notes.append(f"{curve.label}: its limits were moved by {shift:+.3g} {curve.y_unit}".replace("-", "−") + ".")
        mask = replace(mask, low=mask.low + shift, high=mask.high + shift)
    low, high = mask.at(x)
    held = np.isfinite(low) | np.isfinite(high)
    own_rule, rule = rule, given.rule or rule
    inside, outside = mask.states(x, np.where(counts, y, np.nan), np.zeros(y.size) if rule == "simple" else doubt)
    said = "outside" if outside.any() else "inside" if inside[held & counts].all() else "open"
    if rule == "simple" and own_rule != "simple":
        notes.append(f"{curve.label}: judged by its values alone, without their uncertainty, as its limits say.")
    why = [*_gaps(curve, held & ~counts), *_short(curve, mask, x[counts])]
    if rule == "guarded" and not stated and said == "open":
        why.append("it states no uncertainty, and the rule is guarded")
    if why:
        said = said if said == "outside" else "open"
        notes.append(f"{curve.label}, against its limits: {'; '.join(why)}.")
    room = np.fmin(y - low, high - y)
    room[~counts] = np.nan
    if not np.isfinite(room).any():
        reading = absent(curve, "nothing of it lies where it is limited")
        return Limited(_drawn(curve, low, high), "open", reading, tuple(notes))
    at = int(np.nanargmin(room))
    if said == "outside":
        notes.append(
            f"{curve.label}: beyond its limits by {-room[at]:.3g} {curve.y_unit} at {x[at]:.4g} {curve.x_unit}."
            if room[at] < 0 else f"{curve.label}: beyond its limits."
        )  # fmt: skip
    unsure = float(doubt[at]) if np.isfinite(doubt[at]) else None
    reading = Reading(
        f"{MARGIN}{curve.key}", f"Margin, {curve.label}", float(room[at]), curve.y_unit, unsure,
        None if unsure is None else curve.coverage or 2.0, low=0.0, verdict=said,
    )  # fmt: skip
    return Limited(_drawn(curve, low, high), said, reading, tuple(notes))


def absent(curve: Curve, why: str) -> Reading:
    """The margin of a curve that could not be held against its limits: open."""
    label = f"Margin, {curve.label}"
    key = f"{MARGIN}{curve.key}"
    return Reading(key, label, None, curve.y_unit, low=0.0, verdict="open", valid=False, reason=why)


def held_to(finding: Finding, given: Mapping[str, CurveLimits], rule: str) -> Finding:
    """A finding whose curves were held to their limits: each adds its margin as a reading. Raises BadInput."""
    if not given:
        return finding
    curves = {c.key: c for c in finding.curves}
    margins: list[Reading] = []
    notes: list[str] = []
    for key, limits in given.items():
        if key in curves:
            made = limited(curves[key], limits, rule)
            curves[key] = made.curve
            margins.append(made.margin)
            notes += made.notes
            continue
        near = difflib.get_close_matches(key, curves, 1, 0.6)
        why = f"there is no curve '{key}' in this finding" + (f"; did you mean '{near[0]}'?" if near else "")
        margins.append(absent(Curve(key, key.replace("_", " "), (), (), "", ""), why))
        notes.append(f"Limits: {why.rstrip('?')}.")
    kept = tuple(curves[c.key] for c in finding.curves)
    return replace(finding, readings=(*finding.readings, *margins), curves=kept, notes=(*finding.notes, *notes))


def _floats(values: Any) -> np.ndarray:
    return np.array([np.nan if v is None else v for v in values], float)


def _gaps(curve: Curve, gone: np.ndarray) -> list[str]:
    """Points that are limited and don't count."""
    at = np.flatnonzero(gone)
    if not at.size:
        return []
    first = f"{curve.x[at[0]]:.4g} {curve.x_unit}"
    return [f"{at.size} of its points don't count, the first at {first}" if at.size > 1 else
            f"its point at {first} does not count"]  # fmt: skip


def _short(curve: Curve, mask: Mask, x: np.ndarray) -> list[str]:
    """Where something is limited that the curve does not reach."""
    there = np.flatnonzero(np.isfinite(mask.low) | np.isfinite(mask.high))
    if not there.size or x.size < 2:
        return [] if x.size > 1 else ["it has no two points"]
    first, last = mask.x[there[0]], mask.x[there[-1]]
    least, most = float(x.min()), float(x.max())
    steps = np.diff(np.sort(x))

    def near(end: float, step: float) -> float:
        return max(SLACK * abs(end), min(step * (1 + 1e-9), STEP * (abs(end) or most - least)))

    made = []
    if first < least - near(first, steps[0]):
        made.append(f"nothing was measured below {least:.4g} {curve.x_unit}, where it is limited")
    if last > most + near(last, steps[-1]):
        made.append(f"nothing was measured above {most:.4g} {curve.x_unit}, where it is limited")
    return made


def _drawn(curve: Curve, low: np.ndarray, high: np.ndarray) -> Curve:
    """With its limits, or the narrower of them and its own."""
    if curve.low is not None:
        low = np.fmax(low, _floats(curve.low))
    if curve.high is not None:
        high = np.fmin(high, _floats(curve.high))
    a, b = (tuple(None if not np.isfinite(v) else float(v) for v in line) for line in (low, high))
    return replace(curve, low=a, high=b)
