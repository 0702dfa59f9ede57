"""What the methods that read an amplifier's output share: settings, samples in volts, and what makes them unfit."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Annotated, Any

from pydantic import field_validator, model_validator

from ...contracts.finding import Curve, Finding, Reading
from ...contracts.limits import Limits
from ...contracts.method import (
    Facts,
    Method,
    MethodSettings,
    Performance,
    overload_limits,
    record_of,
)
from ...contracts.recording import Channel
from ...contracts.settings import quantity
from ...core.errors import BadInput
from ...core.quantities import factor, parse, same_kind
from ...core.signal.health import beyond_range, flat_tops
from ...core.signal.sinefit import Floats

USUAL_BAND = (20.0, 20e3)
"""Hz"""
METER_RATE = 50.0
"""Hz; a channel sampled below is taken as meter readings."""
SHORTEST = 256
"""Samples that are needed to read anything from a waveform"""


class OutputSettings(MethodSettings):
    """Where to read, in which bandwidth, and what is known of the input."""

    bandwidth: Any = None
    """[low, high] in Hz, edges ideal; 20 Hz to 20 kHz"""
    start: Annotated[float, quantity("s")] | None = None
    stop: Annotated[float, quantity("s")] | None = None
    """The stretch of the record to read; all of it when not given"""
    gain_uncertainty: Annotated[float, quantity("%")] | None = None
    """Expanded (k = 2), of the input that recorded it"""

    @field_validator("bandwidth")
    @classmethod
    def _two(cls, value: Any) -> tuple[float, float] | None:
        if value is None:
            return None
        if not isinstance(value, (list, tuple)) or len(value) != 2:
            raise ValueError("give two frequencies, like [20 Hz, 20 kHz].")
        low, high = (parse(v, "Hz", "bandwidth") for v in value)
        if not 0 <= low < high:
            raise ValueError("the lower edge comes first, and both are above zero.")
        return low, high

    @model_validator(mode="after")
    def _ordered(self) -> OutputSettings:
        if (self.start or 0.0) < 0 or (self.stop is not None and self.stop <= (self.start or 0.0)):
            raise ValueError("stop must come after start, and neither before the record begins.")
        return self

    def band_of(self, rate: float) -> tuple[float, float]:
        """The bandwidth as far as a record goes. Raises BadInput where one was asked for that it can't hold."""
        if self.bandwidth is None:
            return USUAL_BAND[0], min(USUAL_BAND[1], rate / 2)
        low, high = self.bandwidth
        if high > rate / 2 * (1 + 1e-9):
            raise BadInput(
                f"bandwidth: a record at {rate:g} Hz holds nothing above {rate / 2:g} Hz: lower the upper edge."
            )
        return low, high


@dataclass(frozen=True)
class Piece:
    """Samples of one role, in volts."""

    x: Floats
    rate: float
    limit: float | None
    """V where the input overloads, when it was said"""

    def overloaded(self, frequency: float) -> str | None:
        """Why the samples are unfit, when they are; `frequency` [Hz] of the tone in them."""
        hit = beyond_range(self.x, self.limit) if self.limit is not None else flat_tops(self.x, self.rate, frequency)
        return "the input is overloaded" if hit else None


def pieces(record: Mapping[str, Channel], settings: OutputSettings, roles: tuple[str, ...]) -> list[Piece]:
    """Samples of roles in volts, cut to the stretch that the settings name. Raises BadInput."""
    held = record_of(record, settings)
    made = []
    for role, limit in zip(roles, overload_limits(held, settings, roles), strict=True):
        channel = held[role]
        if channel.unit and not same_kind(channel.unit, "V"):
            raise BadInput(f"the {role} channel is in '{channel.unit}': volts are needed, such as '{role} [V]'.")
        scale = factor(channel.unit, "V") if channel.unit else 1.0
        start, stop = settings.start or 0.0, channel.duration if settings.stop is None else settings.stop
        if stop > channel.duration + 1.5 / channel.rate:
            raise BadInput(f"stop: the record ends at {channel.duration:g} s.")
        x = channel.between(start, stop) * scale
        made.append(Piece(x, channel.rate, None if limit is None else limit * scale))
    return made


def waveform(piece: Piece, what: str = "output") -> Piece:
    """The same, when it is a waveform. Raises BadInput for meter readings and scraps."""
    if piece.rate < METER_RATE:
        raise BadInput(f"the {what} channel holds meter readings ({piece.rate:g} Hz): a waveform is needed.")
    if piece.x.size < SHORTEST:
        raise BadInput(f"the {what} channel has {piece.x.size} samples: at least {SHORTEST} are needed.")
    return piece


def side_by_side(
    record: Mapping[str, Channel], settings: OutputSettings, roles: tuple[str, str]
) -> tuple[Piece, Piece]:
    """Two waveforms that were recorded together, of one length. Raises BadInput where they were not."""
    first, second = (waveform(p, r) for p, r in zip(pieces(record, settings, roles), roles, strict=True))
    if first.rate != second.rate:
        raise BadInput(f"{roles[0]} and {roles[1]} are sampled at different rates: record them together.")
    n = min(first.x.size, second.x.size)
    return replace(first, x=first.x[:n]), replace(second, x=second.x[:n])


def decimated(f: Floats, y: Floats, points: int = 2000) -> tuple[tuple[float, ...], tuple[float, ...]]:
    """A curve with at most about `points` values on a log axis, the highest of each stretch kept."""
    import numpy as np

    keep = f > 0
    f, y = f[keep], y[keep]
    if f.size <= points:
        return tuple(f), tuple(y)
    edges = np.unique(np.searchsorted(f, np.geomspace(f[0], f[-1] * (1 + 1e-9), points)))
    tops = [a + int(np.argmax(y[a:b])) for a, b in zip(edges[:-1], edges[1:], strict=True)]
    return tuple(f[tops]), tuple(y[tops])


def spectrum_curve(x: Floats, rate: float, spacing: float = 1.0) -> Curve:
    """Spectrum in V rms a line, Hann window; right for tones. Each stretch of the log axis shows its highest line."""
    import numpy as np

    from ...core.audio.tones import density

    f, held = density(x, rate, spacing)
    rms = np.sqrt(held * 1.5 * f[1])
    places, values = decimated(f, rms)
    return Curve("spectrum", "Spectrum", places, values, "Hz", "V")


def nothing(name: str, keys: Mapping[str, tuple[str, str]], why: str, limits: Limits,
            curves: tuple[Curve, ...] = ()) -> Finding:  # fmt: skip
    """The finding of a record that shows nothing usable; `keys`: label and unit by reading."""
    made = [Reading(k, label, None, unit, valid=False, reason=why) for k, (label, unit) in keys.items()]
    return Finding(name, tuple(limits.judge(r) for r in made), curves, notes=(why,))


def limits_of(settings: MethodSettings, keys: Mapping[str, tuple[str, str]]) -> Limits:
    """Limits for readings given as label and unit by key."""
    return Limits(settings.limits, {k: unit for k, (_, unit) in keys.items()}, settings.decision)


def doubt_note(settings: OutputSettings) -> list[str]:
    """What the stated uncertainty leaves out."""
    if settings.gain_uncertainty is not None:
        return []
    return ["No gain_uncertainty is given: the doubt is of the record alone, not of the input that made it."]


def listed(units: Mapping[str, tuple[str, str]]) -> dict[str, str]:
    """Readings as `methods` lists them."""
    return {k: f"{label} [{unit}]" for k, (label, unit) in units.items()}


class OutputMethod(Method):
    """What the output methods share: they read records, and are performed as steps of an amplifier plan."""

    begun_as = "amplifier-sheet"

    def perform(self, settings: Any, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
        raise BadInput("This method reads a record; it is run as a step of an amplifier plan.")
