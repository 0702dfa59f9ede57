"""Findings: all that one evaluation of a take gave, as data and as JSON."""

from __future__ import annotations

import json
import math
from collections.abc import Iterable, Mapping
from dataclasses import asdict, dataclass, replace
from typing import Any

from ..core.calibration.decision import worst

FORMAT = "lucid-anvil-findings"


@dataclass(frozen=True)
class Reading:
    """One value with its doubt. `uncertainty` is expanded, in the reading's own unit."""

    key: str
    label: str
    value: float | None
    unit: str
    uncertainty: float | None = None
    coverage: float | None = None
    interval: tuple[float, float] | None = None
    low: float | None = None
    high: float | None = None
    verdict: str = "none"
    valid: bool = True
    reason: str | None = None


@dataclass(frozen=True)
class Curve:
    """One array against an axis; None where a point has no value."""

    key: str
    label: str
    x: tuple[float, ...]
    y: tuple[float | None, ...]
    x_unit: str
    y_unit: str
    uncertainty: tuple[float | None, ...] | None = None
    coverage: float | None = None
    low: tuple[float | None, ...] | None = None
    high: tuple[float | None, ...] | None = None
    valid: tuple[bool, ...] | None = None


@dataclass(frozen=True)
class Finding:
    """Readings, curves and notes of one evaluation. `detail` is the method's own, such as budgets."""

    method: str
    readings: tuple[Reading, ...]
    curves: tuple[Curve, ...] = ()
    maps: tuple[dict[str, Any], ...] = ()
    notes: tuple[str, ...] = ()
    curve_verdicts: tuple[str, ...] = ()
    detail: Mapping[str, Any] | None = None
    missing: tuple[str, ...] = ()
    """What plan or settings asked for and the record does not hold, a sentence's part each"""

    @property
    def complete(self) -> bool:
        """Whether all is there that was asked for."""
        return not self.missing

    @property
    def verdict(self) -> str:
        """The first that occurs among outside, open, inside, none; of what is not whole, outside or open."""
        said = worst([r.verdict for r in self.readings] + list(self.curve_verdicts))
        return said if self.complete or said == "outside" else "open"

    def lacking(self, missing: Iterable[str]) -> Finding:
        """The same, with more that is missing."""
        return replace(self, missing=tuple(dict.fromkeys([*self.missing, *missing])))

    def reading(self, key: str) -> Reading:
        return next(r for r in self.readings if r.key == key)

    def curve(self, key: str) -> Curve:
        return next(c for c in self.curves if c.key == key)


def clean_numbers(value: Any) -> Any:
    """Numbers that JSON can't hold become null."""
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    if isinstance(value, (list, tuple)):
        if value and set(map(type, value)) == {float} and all(map(math.isfinite, value)):
            return list(value)  # long lists of numbers are what there is most of
        return [clean_numbers(v) for v in value]
    if isinstance(value, Mapping):
        return {str(k): clean_numbers(v) for k, v in value.items()}
    if hasattr(value, "item"):
        return clean_numbers(value.item())
    return value


def as_json(finding: Finding) -> dict[str, Any]:
    """The finding as its JSON form, which users' scripts rely on."""
    readings = []
    for r in finding.readings:
        readings.append(
            {
                "key": r.key,
                "label": r.label,
                "value": r.value,
                "unit": r.unit,
                "uncertainty": r.uncertainty,
                "coverage": r.coverage,
                "interval": {"low": r.interval[0], "high": r.interval[1]} if r.interval else None,
                "limit": {"low": r.low, "high": r.high} if (r.low, r.high) != (None, None) else None,
                "verdict": r.verdict,
                "valid": r.valid,
                "reason": r.reason,
            }
        )
    curves = []
    for c in finding.curves:
        curves.append({k: v for k, v in asdict(c).items() if v is not None})
    made = {
        "format": FORMAT,
        "version": 1,
        "method": finding.method,
        "verdict": finding.verdict,
        "readings": readings,
        "curves": curves,
        "maps": list(finding.maps),
        "notes": list(finding.notes),
        "complete": finding.complete,
        "missing": list(finding.missing),
    }
    if finding.detail is not None:
        made["detail"] = finding.detail
    return clean_numbers(made)


def to_text(finding: Finding) -> str:
    return json.dumps(as_json(finding), ensure_ascii=False, indent=1, allow_nan=False)


def _interval(held: Mapping[str, float | None] | None) -> tuple[float, float] | None:
    """An interval read back; an end that JSON could not hold is endless."""
    if held is None:
        return None
    low, high = held["low"], held["high"]
    return (-math.inf if low is None else low, math.inf if high is None else high)


def from_json(held: Mapping[str, Any]) -> Finding:
    """A finding read back."""
    readings = tuple(
        Reading(
            r["key"], r["label"], r["value"], r["unit"], r["uncertainty"], r["coverage"],
            _interval(r["interval"]),
            (r["limit"] or {}).get("low"), (r["limit"] or {}).get("high"), r["verdict"], r["valid"], r["reason"],
        )
        for r in held["readings"]
    )  # fmt: skip
    curves = []
    for c in held["curves"]:
        values: dict[str, Any] = {k: tuple(v) if isinstance(v, list) else v for k, v in c.items()}
        curves.append(Curve(**values))
    verdict = held["verdict"]
    return Finding(
        held["method"], readings, tuple(curves), tuple(held.get("maps", ())), tuple(held["notes"]),
        (verdict,), held.get("detail"), tuple(held.get("missing", ())),
    )  # fmt: skip
