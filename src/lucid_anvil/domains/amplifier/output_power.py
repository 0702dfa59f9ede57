"""Output power into a load and the distortion at it (IEC 60268-3, 14.6.3)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Annotated, Any

from pydantic import model_validator

from ...contracts.finding import Finding, Reading
from ...contracts.method import Axis
from ...contracts.recording import Channel
from ...contracts.settings import quantity
from .output import OutputMethod, doubt_note, limits_of, listed, nothing, pieces, spectrum_curve, waveform
from .output_distortion import DistortionSettings, harmonics, ratio_reading, read_tone

UNITS = {
    "power": ("Power into the load", "W"),
    "distortion_at_power": ("Harmonic distortion at that power", "%"),
    "level": ("Output voltage, rms of all in band", "V"),
}


class PowerSettings(DistortionSettings):
    """The load."""

    load: Annotated[float, quantity("ohm")] = 8.0
    load_measured: Annotated[float, quantity("ohm")] | None = None
    load_uncertainty: Annotated[float, quantity("%")] | None = None
    """Expanded (k = 2)"""

    @model_validator(mode="after")
    def _sensible(self) -> PowerSettings:
        if self.load <= 0 or (self.load_measured is not None and self.load_measured <= 0):
            raise ValueError("a load must be above zero.")
        return self


class OutputPower(OutputMethod):
    """The method as the registry knows it."""

    name = "output-power"
    title = "Output power"
    roles: tuple[str, ...] = ("output",)
    Settings = PowerSettings
    readings = listed(UNITS)
    curves = {"spectrum": "Spectrum [V rms] over Hz", "harmonics": "Harmonics [% of the fundamental] over their order"}
    views = (Axis("spectrum", "Spectrum", ("spectrum",), "Hz", "V", x_log=True, y_log=True),)

    def evaluate(
        self, record: Mapping[str, Channel], settings: PowerSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        limits = limits_of(settings, UNITS)
        (piece,) = pieces(record, settings, ("output",))
        waveform(piece)
        read = read_tone(piece, settings)
        if isinstance(read, str):
            return nothing(self.name, UNITS, read, limits, (spectrum_curve(piece.x, piece.rate),))
        found, band = read
        why = piece.overloaded(found.frequency)
        load = settings.load_measured or settings.load
        # `total` is over all in band, so that the fundamental is the cosine's part of it.
        level = found.level / math.sqrt(max(1 - found.total**2, 1e-12))
        power = level**2 / load
        share = math.hypot(
            2 * found.level_doubt / found.level, 2 * (settings.gain_uncertainty or 0.0) / 100,
            (settings.load_uncertainty or 0.0) / 100,
        )  # fmt: skip
        made = (
            Reading("power", UNITS["power"][0], power, "W", power * share, 2.0, valid=why is None, reason=why),
            ratio_reading("distortion_at_power", UNITS["distortion_at_power"][0], found.thd, why),
            Reading("level", UNITS["level"][0], level, "V", level * share / 2, 2.0, valid=why is None, reason=why),
        )
        notes = [f"{found.frequency:.5g} Hz into {load:g} ohm, within {band[0]:g} Hz to {band[1]:g} Hz."]
        if settings.load_measured is None:
            notes.append("No load_measured is given: the load is taken at its rated value.")
        return Finding(
            self.name, tuple(limits.judge(r) for r in made), (spectrum_curve(piece.x, piece.rate), harmonics(found)),
            notes=tuple(notes + doubt_note(settings)),
        )  # fmt: skip


METHOD = OutputPower()
