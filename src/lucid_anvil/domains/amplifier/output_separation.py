"""Separation of two channels, one driven (IEC 60268-3, 14.16)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Annotated, Any

from ...contracts.finding import Finding, Reading
from ...contracts.method import Axis
from ...contracts.recording import Channel
from ...contracts.settings import quantity
from ...core.audio.distortion import fundamental
from ...core.audio.separation import Passed, passed
from .output import OutputMethod, OutputSettings, Piece, doubt_note, limits_of, listed, nothing, side_by_side

UNITS = {"separation": ("Separation, driven over undriven", "dB")}


class SeparationSettings(OutputSettings):
    """Which tone; the strongest of the driven channel when not given."""

    frequency: Annotated[float, quantity("Hz")] | None = None


class OutputSeparation(OutputMethod):
    """The method as the registry knows it."""

    name = "output-separation"
    title = "Separation"
    roles: tuple[str, str] = ("driven", "undriven")
    Settings = SeparationSettings
    readings = listed(UNITS)
    curves: dict[str, str] = {}
    views: tuple[Axis, ...] = ()

    def evaluate(
        self, record: Mapping[str, Channel], settings: SeparationSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        limits = limits_of(settings, UNITS)
        read = tone_through(record, settings, self.roles)
        if isinstance(read, str):
            return nothing(self.name, UNITS, read, limits)
        driven, _, found = read
        why = driven.overloaded(found.frequency) and "the driven channel's input is overloaded"
        reading = ratio_in_db("separation", UNITS["separation"][0], found, settings, why)
        notes = [f"At {found.frequency:.5g} Hz, driven with {found.level:.4g} V rms."]
        if not found.told:
            notes.append("The tone can't be told from the noise of the undriven channel: the separation is at least"
                         f" {-20 * math.log10(found.ratio.high):.1f} dB.")  # fmt: skip
        return Finding(self.name, (limits.judge(reading),), notes=tuple(notes + doubt_note(settings)))


def tone_through(
    record: Mapping[str, Channel], settings: SeparationSettings, roles: tuple[str, str]
) -> tuple[Piece, Piece, Passed] | str:
    """What of the first role's tone is in the second; or why it can't be told. Raises BadInput."""
    first, second = side_by_side(record, settings, roles)
    at = fundamental(first.x, first.rate, settings.frequency, settings.band_of(first.rate))
    if at is None:
        return f"there is no tone in the {roles[0]} channel"
    try:
        return first, second, passed(first.x, second.x, first.rate, at)
    except ValueError as bad:
        return str(bad)


def ratio_in_db(key: str, label: str, found: Passed, settings: OutputSettings, why: str | None) -> Reading:
    """Driven over other in dB; only an interval, open above, where the other can't be told from noise."""
    own = 20 * math.log10(1 + math.sqrt(2) * (settings.gain_uncertainty or 0.0) / 100)
    low = -20 * math.log10(found.ratio.high) - own
    if not found.told:
        return Reading(key, label, None, "dB", interval=(low, math.inf), valid=why is None, reason=why)
    value, high = -20 * math.log10(found.ratio.value), -20 * math.log10(found.ratio.low) + own
    lopsided = high - value > 1.5 * (value - low)
    return Reading(
        key, label, value, "dB", max(high - value, value - low), 2.0, interval=(low, high) if lopsided else None,
        valid=why is None, reason=why,
    )  # fmt: skip


METHOD = OutputSeparation()
