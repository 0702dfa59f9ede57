"""Distortion of a tone at an amplifier's output (IEC 60268-3, 14.12)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Annotated, Any

from pydantic import Field, field_validator

from ...contracts.finding import Curve, Finding, Reading
from ...contracts.method import Axis
from ...contracts.recording import Channel
from ...core.audio.distortion import Distortion, Ratio, analyse, fundamental
from ...core.errors import BadInput
from ...core.quantities import parse
from .output import (
    OutputMethod,
    OutputSettings,
    Piece,
    doubt_note,
    limits_of,
    listed,
    nothing,
    pieces,
    spectrum_curve,
    waveform,
)  # fmt: skip

UNITS = {
    "fundamental": ("Fundamental", "Hz"),
    "level": ("Level of the fundamental, rms", "V"),
    "thd": ("Harmonic distortion, over the fundamental", "%"),
    "thd_plus_n": ("Harmonic distortion and noise", "%"),
    "sinad": ("Signal over distortion and noise", "dB"),
}


class DistortionSettings(OutputSettings):
    """Which tone, and how many harmonics."""

    fundamental: Any = None
    """Hz, or auto"""
    harmonics: Annotated[int, Field(ge=2, le=100)] = 10
    """Highest order"""

    @field_validator("fundamental")
    @classmethod
    def _tone(cls, value: Any) -> float | None:
        if value in (None, "auto"):
            return None
        made = parse(value, "Hz", "fundamental")
        if made <= 0:
            raise ValueError("it must be above zero.")
        return made


class OutputDistortion(OutputMethod):
    """The method as the registry knows it."""

    name = "output-distortion"
    title = "Distortion of a tone"
    roles: tuple[str, ...] = ("output",)
    Settings = DistortionSettings
    readings = listed(UNITS)
    curves = {"spectrum": "Spectrum [V rms] over Hz", "harmonics": "Harmonics [% of the fundamental] over their order"}
    views = (
        Axis("spectrum", "Spectrum", ("spectrum",), "Hz", "V", x_log=True, y_log=True),
        Axis("harmonics", "Harmonics", ("harmonics",), "Order", "%", y_log=True),
    )

    def evaluate(
        self, record: Mapping[str, Channel], settings: DistortionSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        limits = limits_of(settings, UNITS)
        (piece,) = pieces(record, settings, ("output",))
        waveform(piece)
        read = read_tone(piece, settings)
        if isinstance(read, str):
            return nothing(self.name, UNITS, read, limits, (spectrum_curve(piece.x, piece.rate),))
        found, band = read
        why = piece.overloaded(found.frequency)
        made = readings_of(found, settings, why)
        notes = [f"Within {band[0]:g} Hz to {band[1]:g} Hz; harmonics 2 to {settings.harmonics} where in band.",
                 f"Noise alone would show {100 * found.thd.floor:.2g} % of harmonics: that is the floor of thd, "
                 "and its power is taken off."]  # fmt: skip
        if band[1] < 20e3 and settings.bandwidth is None:
            notes.append(f"The record reaches to {band[1]:g} Hz only.")
        if found.thd.value > 0.03:
            notes.append("thd is over the fundamental; over the total, as IEC 60268-3 has it, it would read less.")
        if found.thd.low <= 0:
            notes.append("The harmonics can't be told from the noise.")
        notes += doubt_note(settings) + ([why] if why else [])
        return Finding(
            self.name, tuple(limits.judge(r) for r in made), (spectrum_curve(piece.x, piece.rate), harmonics(found)),
            notes=tuple(notes),
        )  # fmt: skip


def read_tone(piece: Piece, settings: DistortionSettings) -> tuple[Distortion, tuple[float, float]] | str:
    """The tone's distortion and the bandwidth it holds for, or why there is none."""
    band = settings.band_of(piece.rate)
    wanted = settings.fundamental
    if wanted is not None:
        if wanted >= 0.499 * piece.rate:
            raise BadInput(f"fundamental: a record at {piece.rate:g} Hz holds no tone at {wanted:g} Hz.")
        if piece.x.size / piece.rate * wanted < 6:
            raise BadInput(f"fundamental: the record has fewer than six periods of {wanted:g} Hz.")
    at = fundamental(piece.x, piece.rate, wanted, band)
    if at is None:
        return "there is no tone" + ("" if wanted is None else f" near {wanted:g} Hz")
    try:
        return analyse(piece.x, piece.rate, at, band, settings.harmonics), band
    except ValueError:
        return f"the record has fewer than six periods of {at:.4g} Hz"


def ratio_reading(
    key: str, label: str, ratio: Ratio, why: str | None, scale: float = 100.0, unit: str = "%"
) -> Reading:
    """A reading of a ratio; where noise makes its doubt lopsided the interval says so."""
    lopsided = ratio.low < 0.8 * ratio.value
    return Reading(
        key, label, scale * ratio.value, unit, scale * max(ratio.high - ratio.value, ratio.value - ratio.low), 2.0,
        interval=(scale * ratio.low, scale * ratio.high) if lopsided else None, valid=why is None, reason=why,
    )  # fmt: skip


def readings_of(found: Distortion, settings: OutputSettings, why: str | None) -> list[Reading]:
    """The five readings of a tone."""
    valid = why is None
    level = math.hypot(found.level_doubt, found.level * (settings.gain_uncertainty or 0.0) / 100)
    total, doubt = max(found.total, 1e-300), found.total_doubt
    labels = {k: label for k, (label, _) in UNITS.items()}
    return [
        Reading("fundamental", labels["fundamental"], found.frequency, "Hz", valid=valid, reason=why),
        Reading("level", labels["level"], found.level, "V", level, 2.0, valid=valid, reason=why),
        ratio_reading("thd", labels["thd"], found.thd, why),
        Reading("thd_plus_n", labels["thd_plus_n"], 100 * found.total, "%", 100 * doubt, 2.0, valid=valid, reason=why),
        Reading("sinad", labels["sinad"], -20 * math.log10(total), "dB", 20 * math.log10(1 + doubt / total), 2.0,
                valid=valid, reason=why),
    ]  # fmt: skip


def harmonics(found: Distortion) -> Curve:
    """Harmonics in band, over their order."""
    return Curve(
        "harmonics", "Harmonics", tuple(float(k) for k in found.orders),
        tuple(float(100 * h / found.level) for h in found.harmonics), "order", "%",
    )  # fmt: skip


METHOD = OutputDistortion()
