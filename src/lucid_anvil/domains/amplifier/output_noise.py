"""Noise at an amplifier's output, and the share of mains hum in it (IEC 60268-3, 14.13)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Annotated, Any

import numpy as np
from pydantic import field_validator

from ...contracts.finding import Curve, Finding, Reading
from ...contracts.method import Axis
from ...contracts.recording import Channel
from ...contracts.settings import quantity
from ...core.audio.noise import Noise, measure
from .output import (  # fmt: skip
    OutputMethod,
    OutputSettings,
    doubt_note,
    limits_of,
    listed,
    pieces,
    spectrum_curve,
    waveform,
)

UNITS = {
    "noise": ("Noise, rms", "V"),
    "snr": ("Signal to noise", "dB"),
    "mains_share": ("Mains hum, share of the noise's power", "%"),
}


class NoiseSettings(OutputSettings):
    """How it is weighted, and what it is held against."""

    weighting: Any = "none"
    reference_level: Annotated[float, quantity("V")] | None = None
    """V rms that snr refers to"""

    @field_validator("weighting")
    @classmethod
    def _kind(cls, value: Any) -> str:
        if value in (None, False, "none", "Z", "z"):
            return "none"
        if str(value).upper() not in ("A", "C"):
            raise ValueError(f"'{value}' is not known; use A or none.")
        return str(value).upper()

    @field_validator("reference_level")
    @classmethod
    def _above(cls, value: float | None) -> float | None:
        if value is not None and value <= 0:
            raise ValueError("it must be above zero.")
        return value


class OutputNoise(OutputMethod):
    """The method as the registry knows it."""

    name = "output-noise"
    title = "Noise"
    roles: tuple[str, ...] = ("output",)
    Settings = NoiseSettings
    readings = listed(UNITS)
    curves = {"spectrum": "Spectrum [V rms a line] over Hz", "mains": "Multiples of the mains [V rms] over Hz"}
    views = (Axis("spectrum", "Noise", ("spectrum", "mains"), "Hz", "V", x_log=True, y_log=True),)

    def evaluate(
        self, record: Mapping[str, Channel], settings: NoiseSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        limits = limits_of(settings, UNITS)
        (piece,) = pieces(record, settings, ("output",))
        waveform(piece)
        band = settings.band_of(piece.rate)
        kind = "Z" if settings.weighting == "none" else settings.weighting
        found = measure(piece.x, piece.rate, band, kind, settings.mains_hz())
        why = None
        if piece.limit is not None and np.max(np.abs(piece.x)) >= piece.limit:
            why = "the input is overloaded"
        elif found.rms <= 0:
            why = "the record is silent: not even the input's own noise is there"
        made = readings_of(found, settings, why)
        weighted = "" if kind == "Z" else f", weighted {kind}"
        notes = [f"Within {band[0]:g} Hz to {band[1]:g} Hz{weighted}."]
        if found.mains is not None:
            some = ", ".join(f"{f:.0f} Hz" for f in found.multiples[np.argsort(-found.levels)][:4])
            notes.append(f"Mains at {found.mains:.2f} Hz; its strongest multiples: {some}.")
        curves = [spectrum_curve(piece.x, piece.rate)]
        if found.multiples.size:
            curves.append(
                Curve("mains", "Multiples of the mains", tuple(found.multiples), tuple(found.levels), "Hz", "V")
            )
        notes += doubt_note(settings) + ([why] if why else [])
        return Finding(self.name, tuple(limits.judge(r) for r in made), tuple(curves), notes=tuple(notes))


def readings_of(found: Noise, settings: NoiseSettings, why: str | None) -> list[Reading]:
    """Noise, signal to noise, and the hum in it."""
    labels = {k: label for k, (label, _) in UNITS.items()}
    valid = why is None
    doubt = math.hypot(found.doubt, found.rms * (settings.gain_uncertainty or 0.0) / 100)
    made = [Reading("noise", labels["noise"], found.rms, "V", doubt, 2.0, valid=valid, reason=why)]
    if settings.reference_level is None:
        none = "no reference_level was given"
        made.append(Reading("snr", labels["snr"], None, "dB", valid=False, reason=none))
    elif found.rms > 0:
        value = 20 * math.log10(settings.reference_level / found.rms)
        in_db = 20 * math.log10(1 + doubt / found.rms)
        made.append(Reading("snr", labels["snr"], value, "dB", in_db, 2.0, valid=valid, reason=why))
    else:
        made.append(Reading("snr", labels["snr"], None, "dB", valid=False, reason=why))
    if found.share is None:
        short = "the record is too short to tell the mains' lines from the noise"
        made.append(Reading("mains_share", labels["mains_share"], None, "%", valid=False, reason=short))
    else:
        # The share is of powers: twice the noise's own scatter, and nothing of the input's gain.
        share = 100 * found.share
        spread = 2 * share * found.doubt / found.rms if found.rms > 0 else 0.0
        made.append(Reading("mains_share", labels["mains_share"], share, "%", spread, 2.0, valid=valid, reason=why))
    return made


METHOD = OutputNoise()
