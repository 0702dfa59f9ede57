"""What this domain's methods share: sound pressure and volts, bands, dB."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any

import numpy as np
from pydantic import Field, model_validator

from ...contracts.method import Method, MethodSettings, overload_limits
from ...contracts.recording import Channel, Floats
from ...contracts.samples import samples_in
from ...contracts.settings import Model, quantity
from ...core.errors import BadInput
from ...core.quantities import parse, same_kind
from ...core.signal.health import beyond_range, flat_tops

PRESSURE = 20e-6
"""Pa, reference of sound pressure levels (IEC 61672-1)"""


class Band(Model):
    """Two frequencies."""

    model_config = {**Model.model_config, "populate_by_name": True}
    low: Annotated[float, quantity("Hz")] = Field(alias="from")
    high: Annotated[float, quantity("Hz")] = Field(alias="to")

    @model_validator(mode="after")
    def _ordered(self) -> Band:
        if not 0 < self.low < self.high:
            raise ValueError("from must lie below to, and above zero.")
        return self

    @classmethod
    def between(cls, low: float, high: float) -> Band:
        return cls.model_validate({"from": low, "to": high})


class SoundSettings(MethodSettings):
    """What all of them know of their channels."""

    level_uncertainty: Annotated[float, quantity("dB")] | None = None
    """Expanded (k = 2), of levels at the microphones"""


class SoundMethod(Method):
    """Records of things that sound."""

    reads_only = True


def pressure(record: Mapping[str, Channel], role: str, sensitivity: Any) -> Floats:
    """Samples [Pa] of a microphone, through its sensitivity (mV/Pa) where it is recorded in volts. Raises BadInput."""
    if sensitivity is not None and same_kind(record[role].unit or "V", "V"):
        given = parse(sensitivity, "mV/Pa", f"{role}_sensitivity")
        return samples_in(record, role, "Pa", {role: f"{given!r} mV/Pa"})
    return samples_in(record, role, "Pa", None if sensitivity is None else {role: sensitivity})


def overloaded(record: Mapping[str, Channel], settings: MethodSettings, roles: tuple[str, ...]) -> str | None:
    """Why the record is unfit: an input that was at its range, or shows flat tops."""
    for role, limit in zip(roles, overload_limits(record, settings, roles), strict=True):
        x = record[role].samples()
        if beyond_range(x, limit) if limit is not None else _flat(x, record[role].rate):
            return f"the {role} input is overloaded"
    return None


def _flat(x: Floats, rate: float) -> bool:
    """Flat tops at the extreme value: a stimulus glides, so its slowest quarter second at the top is looked at."""
    if x.size < 32 or not np.any(x):
        return False
    top = int(np.argmax(np.abs(x)))
    a = max(top - int(0.05 * rate), 0)
    piece = x[a : top + int(0.05 * rate)]
    crossings = int(np.sum(np.diff(np.signbit(piece - piece.mean()))))
    frequency = crossings / 2 / max(piece.size / rate, 1e-9)
    return frequency > 0 and flat_tops(piece, rate, max(frequency, 4 * rate / piece.size))


def decibel(ratio: Any) -> Floats:
    """20·lg, NaN where there is nothing."""
    x = np.abs(np.asarray(ratio))
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(x > 0, 20 * np.log10(np.where(x > 0, x, 1.0)), np.nan)


def band_inside(band: Band, f: Floats, what: str) -> None:
    """Raises BadInput where a record holds nothing of a band that was asked for."""
    if not f.size or band.low > f[-1] or band.high < f[0]:
        raise BadInput(f"{what}: the record holds nothing from {band.low:g} to {band.high:g} Hz.")
