"""What methods that read other people's records share: samples in the unit that a definition names, and readings that
say why they are not there."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..core.calibration.characteristic import Characteristic, characteristic
from ..core.errors import BadInput
from ..core.quantities import factor, parse, same_kind
from .finding import Reading
from .limits import Limits
from .method import BenchFacts, MethodSettings
from .recording import Channel, Floats

OF_STEPS = {"force": "N", "pressure": "Pa"}
"""Kinds of channels whose sensors are calibrated step by step, and the unit of the steps"""
CELSIUS = ("°C", "℃", "degC", "deg C", "C", "K")


def samples_in(
    record: Mapping[str, Channel], role: str, unit: str, sensitivity: Mapping[str, Any] | None = None
) -> Floats:
    """All samples of a role in `unit`: converted from the unit that the record states, or through what is given for the
    role: a sensitivity, like '2 mV/kN', or {unit: N, steps: [[1000, 0.2], ...]} of what the sensor gives [V] at steps
    without its zero, whose polynomial is turned round. Raises BadInput."""
    channel = record[role]
    given = (sensitivity or {}).get(role)
    if isinstance(given, Mapping):
        return channel_by_steps(channel, given, f"sensitivity.{role}")[0] * _factor(given["unit"], unit, role)
    if given is not None:
        own = channel.unit or "V"
        by = parse(given, f"({own})/({unit})", f"sensitivity.{role}")
        if by <= 0:
            raise BadInput(f"sensitivity.{role}: it must be above zero.")
        return channel.samples() / by
    if not channel.unit:
        raise BadInput(f"the {role} channel states no unit: name it like '{role} [{unit}]', or give its sensitivity.")
    if not same_kind(channel.unit, unit):
        raise BadInput(
            f"the {role} channel is in '{channel.unit}': {unit} is needed, or its sensitivity, like 'mV/({unit})'."
        )
    return channel.in_unit(unit).samples()


def by_steps(bench: BenchFacts, role: str) -> dict[str, Any] | None:
    """What `samples_in` takes of a sensor that was calibrated step by step; None for any other."""
    rows, unit = bench.steps.get(role, ()), OF_STEPS.get(bench.kinds.get(role, ""))
    return {"unit": unit, "steps": [[float(x), float(y)] for x, y in rows]} if rows and unit else None


def curve_of(given: Mapping[str, Any], where: str) -> Characteristic:
    """The characteristic that {unit, steps} say. Raises BadInput."""
    rows = given.get("steps")
    if set(given) != {"unit", "steps"} or not isinstance(rows, list | tuple) or any(
        not isinstance(r, list | tuple) or len(r) != 2 or not all(isinstance(v, int | float) for v in r) for r in rows
    ):  # fmt: skip
        raise BadInput(f"{where}: give it like '2 mV/kN', or as {{unit: N, steps: [[1000, 0.2], ...]}}: rows of a step"
                       " and the volts there.")  # fmt: skip
    try:
        return characteristic(rows)
    except BadInput as problem:
        raise BadInput(f"{where}: {problem}") from None


def curves_of(sensitivity: Mapping[str, Any]) -> dict[str, Characteristic]:
    """The characteristics among the sensitivities by role."""
    return {r: curve_of(v, f"sensitivity.{r}") for r, v in sensitivity.items() if isinstance(v, Mapping)}


def channel_by_steps(channel: Channel, given: Mapping[str, Any], where: str) -> tuple[Floats, str]:
    """Samples of a channel in volts through {unit, steps}, and their unit. Raises BadInput."""
    curve = curve_of(given, where)
    if not same_kind(channel.unit or "V", "V"):
        raise BadInput(f"{where}: its steps are in volts, and the channel in '{channel.unit}'.")
    return curve.measured(channel.samples() * factor(channel.unit or "V", "V")), str(given["unit"])


def _factor(own: Any, unit: str, role: str) -> float:
    if not same_kind(str(own), unit):
        raise BadInput(f"sensitivity.{role}: its steps are in '{own}': {unit} is needed.")
    return factor(str(own), unit)


def celsius(
    record: Mapping[str, Channel], role: str = "temperature", sensitivity: Mapping[str, Any] | None = None
) -> Floats:  # fmt: skip
    """Samples of a temperature in °C; kelvins are understood, and volts where a sensitivity like 10 mV/°C is given.
    Raises BadInput."""
    channel = record[role]
    if sensitivity and role in sensitivity and same_kind(channel.unit or "V", "V"):
        return channel.samples() * factor(channel.unit or "V", "V") / parse(sensitivity[role], "V/°C", role)
    if channel.unit not in CELSIUS:
        raise BadInput(f"the {role} channel is in '{channel.unit}': °C is needed, such as '{role} [°C]'.")
    return channel.samples() - (273.15 if channel.unit == "K" else 0.0)


def together(record: Mapping[str, Channel], roles: Sequence[str]) -> tuple[float, int]:
    """Rate [Hz] and length of roles that were recorded together. Raises BadInput where they were not."""
    first = record[roles[0]]
    for role in roles[1:]:
        if record[role].rate != first.rate:
            raise BadInput(f"{roles[0]} and {role} are sampled at different rates: record them together.")
    return first.rate, min(record[role].length for role in roles)


def known_roles(given: Mapping[str, Any], record: Mapping[str, Channel], setting: str) -> None:
    """Raises BadInput where a setting by role names one that is not there."""
    for role in given:
        if role not in record:
            raise BadInput(f"{setting}: there is no role '{role}' here: {', '.join(record)}.")


@dataclass
class Readings:
    """Readings gathered one by one and judged by the settings' limits. `keys`: label and unit by key."""

    keys: Mapping[str, tuple[str, str]]
    settings: MethodSettings
    made: dict[str, Reading] = field(default_factory=dict)

    def __post_init__(self) -> None:
        units = {k: unit for k, (_, unit) in self.keys.items()}
        self.limits = Limits(self.settings.limits, units, self.settings.decision)

    def put(
        self, key: str, value: float | None, doubt: float | None = None, why: str | None = None,
        interval: tuple[float, float] | None = None, valid: bool = True,
    ) -> None:  # fmt: skip
        """One reading. Without a value it needs a reason, and leaves the verdict alone unless it is limited."""
        label, unit = self.keys[key]
        if value is not None and not np.isfinite(value):
            value, why = None, why or "it can't be computed from this record"
        if value is not None and valid:
            why = None  # a reason belongs to what is not there
        if value is None:
            doubt = interval = None
            valid = key not in self.settings.limits and valid
        doubt = None if doubt is None or not np.isfinite(doubt) else float(doubt)
        self.made[key] = self.limits.judge(Reading(
            key, label, None if value is None else float(value), unit, doubt, None if doubt is None else 2.0,
            interval, valid=valid, reason=why,
        ))  # fmt: skip

    def absent(self, keys: Sequence[str], why: str) -> None:
        for key in keys:
            self.put(key, None, why=why)

    def all(self) -> tuple[Reading, ...]:
        """In the order of the keys."""
        return tuple(self.made[key] for key in self.keys if key in self.made)


def listed(keys: Mapping[str, tuple[str, str]]) -> dict[str, str]:
    """Readings as `methods` lists them."""
    return {k: f"{label} [{unit}]" if unit else label for k, (label, unit) in keys.items()}


def points(values: Any) -> tuple[Any, ...]:
    """A curve's values as floats; what is no number becomes None, which an axis has none of."""
    return tuple(float(v) if np.isfinite(v) else None for v in np.asarray(values, dtype=float))


def share_of(given: Mapping[str, float], *roles: str) -> float:
    """Root of the sum of squares of the stated expanded uncertainties [%] of some roles, as a ratio."""
    return float(np.sqrt(sum(given.get(r, 0.0) ** 2 for r in roles)) / 100)


def unstated(given: Mapping[str, float], *roles: str) -> list[str]:
    """A note where a doubt leaves out what nobody stated."""
    missing = [r for r in roles if r not in given]
    if not missing:
        return []
    return [f"No uncertainty is stated for {', '.join(missing)}: the doubt is of the record alone there."]
