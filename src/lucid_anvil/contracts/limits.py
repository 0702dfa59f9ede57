"""Limits of readings: low and high, by themselves or counted from a value or from another reading."""

from __future__ import annotations

import difflib
import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from ..core.calibration.decision import verdict
from ..core.errors import BadInput
from ..core.quantities import parse, split
from .finding import Finding, Reading

SIDES = ("low", "high")
KNOWN = (*SIDES, "of", "from")
"""`of`: the value, or the key of the reading, that low and high count from; `from`: where that value comes from, in
words"""
POWERS = ("W", "VA", "J")
"""Units whose levels are ten times the logarithm of a ratio; of others it is twenty times (IEC 60027-3, 4)"""


def is_reading(of: Any) -> bool:
    """Whether what limits count from is another reading, and no value."""
    if not isinstance(of, str):
        return False
    try:
        split(of)
    except BadInput:
        return True
    return False


def counted(side: Any, base: float, unit: str, where: str) -> float:
    """A limit that counts from `base` [unit]: a share in %, a ratio in dB, or an offset in the reading's own unit. Of
    a level in dB, dB is an offset. Raises BadInput."""
    own = split(side)[1] if isinstance(side, str) else ""
    if own == "%":
        return base + abs(base) * parse(side, "%", where) / 100
    if own == "dB" and unit != "dB":
        if base <= 0:
            raise BadInput(f"{where}: dB of {base:g} {unit} can't be told: give a share in % or an offset.")
        return float(base * 10 ** (parse(side, "dB", where) / (10 if unit in POWERS else 20)))
    return base + parse(side, unit, where)


@dataclass(frozen=True)
class Limits:
    """The limits that settings give, checked against the readings there are."""

    given: Mapping[str, Mapping[str, Any]]
    units: Mapping[str, str]
    rule: str

    def __post_init__(self) -> None:
        if self.rule not in ("guarded", "simple"):
            raise BadInput(f"decision: '{self.rule}' is not known; use guarded or simple.")
        for key, sides in self.given.items():
            if key not in self.units:
                raise BadInput(f"limits: there is no reading '{key}'; {_near(key, self.units)}")
            for side in sides:
                if side not in KNOWN:
                    raise BadInput(f"limits.{key}: '{side}' is not known; use low and high, and of.")
            low, high = self.sides(key)
            if low is not None and high is not None and low > high:
                raise BadInput(f"limits.{key}: low is above high: exchange them.")

    def sides(self, key: str) -> tuple[float | None, float | None]:
        """Low and high in the reading's unit, None where there is none, or where they count from another reading."""
        return _sides(self.given.get(key, {}), key, self.units[key], None)

    def judge(self, reading: Reading) -> Reading:
        """The reading with its limit and verdict; open where its limits count from another reading, until `related`
        has held it to that."""
        low, high = self.sides(reading.key)
        said = verdict(reading.value, reading.uncertainty, low, high, self.rule, reading.valid, reading.interval)
        if not reading.valid or is_reading(self.given.get(reading.key, {}).get("of")):
            said = "open"
        return replace(reading, low=low, high=high, verdict=said)


def _sides(
    sides: Mapping[str, Any], key: str, unit: str, base: float | None
) -> tuple[float | None, float | None]:  # fmt: skip
    """Low and high [unit]; `base`: the value of the reading that they count from, if it is known."""
    of = sides.get("of")
    if is_reading(of) and base is None:
        return None, None
    if of is not None and base is None:
        base = parse(of, unit, f"limits.{key}.of")
    made = []
    for name in SIDES:
        side, where = sides.get(name), f"limits.{key}.{name}"
        made.append(None if side is None else parse(side, unit, where) if base is None
                    else counted(side, base, unit, where))  # fmt: skip
    return made[0], made[1]


def related(finding: Finding, given: Mapping[str, Mapping[str, Any]], rule: str) -> Finding:
    """A finding whose readings are held to those of their limits that count from another of its readings. The doubts
    of both are put together as independent ones (JCGM 100, 5.1.2). A reading whose other one was not had is open.
    Raises BadInput."""
    by_key = {r.key: r for r in finding.readings}
    made, notes = dict(by_key), []
    for key, sides in given.items():
        if key not in by_key or not is_reading(sides.get("of")):
            continue
        of = sides["of"]
        if of not in by_key or of == key:
            raise BadInput(f"limits.{key}.of: there is no other reading '{of}'; {_near(of, by_key)}")
        one, other = by_key[key], by_key[of]
        if other.value is None or not other.valid:
            made[key] = replace(one, verdict="open")
            notes.append(f"{one.label}: its limits count from {other.label}, which was not had.")
            continue
        if one.unit != other.unit:
            raise BadInput(
                f"limits.{key}.of: '{of}' is in {other.unit or 'no unit'} and not in {one.unit or 'no unit'}: name a"
                " reading of the same kind."
            )
        low, high = _sides(sides, key, one.unit, other.value)
        if low is not None and high is not None and low > high:
            raise BadInput(f"limits.{key}: low is above high: exchange them.")
        doubt = None if one.uncertainty is None or other.uncertainty is None else math.hypot(
            one.uncertainty, other.uncertainty)  # fmt: skip
        interval = one.interval
        if interval is not None:  # where nobody knows how sure the other one is, nothing is known of both
            more = other.uncertainty
            interval = None if more is None else (interval[0] - more, interval[1] + more)
        said = verdict(one.value, doubt, low, high, rule, one.valid, interval) if one.valid else "open"
        made[key] = replace(one, low=low, high=high, verdict=said)
    return replace(finding, readings=tuple(made.values()), notes=(*finding.notes, *notes))


def _near(key: str, known: Any) -> str:
    near = difflib.get_close_matches(key, list(known), 1, 0.4)
    return f"did you mean '{near[0]}'?" if near else f"there are {', '.join(known)}."
