"""Intermodulation of two tones at an amplifier's output (IEC 60268-3, 14.12.7 and 14.12.8)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Literal

from pydantic import model_validator

from ...contracts.finding import Curve, Finding, Reading
from ...contracts.method import Axis
from ...contracts.recording import Channel
from ...contracts.settings import quantity
from ...core.audio.intermodulation import Intermodulation, analyse
from ...core.audio.tones import strongest
from ...core.errors import BadInput
from .output import OutputMethod, OutputSettings, Piece, limits_of, listed, nothing, pieces, spectrum_curve, waveform

UNITS = {
    "imd": ("Intermodulation", "%"),
    "imd_second": ("Of second order", "%"),
    "imd_third": ("Of third order", "%"),
}


class IntermodulationSettings(OutputSettings):
    """Which kind, and the two tones; found from the record when not given."""

    kind: Literal["modulation", "difference"] = "modulation"
    f1: Annotated[float, quantity("Hz")] | None = None
    f2: Annotated[float, quantity("Hz")] | None = None

    @model_validator(mode="after")
    def _both_tones(self) -> IntermodulationSettings:
        if (self.f1 is None) != (self.f2 is None):
            raise ValueError("give both f1 and f2, or neither.")
        if self.f1 is not None and self.f2 is not None and not 0 < self.f1 < self.f2:
            raise ValueError("f1 must be above zero and below f2.")
        return self


class OutputIntermodulation(OutputMethod):
    """The method as the registry knows it."""

    name = "output-intermodulation"
    title = "Intermodulation"
    roles: tuple[str, ...] = ("output",)
    Settings = IntermodulationSettings
    readings = listed(UNITS)
    curves = {"spectrum": "Spectrum [V rms] over Hz", "products": "Products [V rms] over Hz"}
    views = (Axis("spectrum", "Spectrum", ("spectrum", "products"), "Hz", "V", x_log=True, y_log=True),)

    def evaluate(
        self, record: Mapping[str, Channel], settings: IntermodulationSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        limits = limits_of(settings, UNITS)
        (piece,) = pieces(record, settings, ("output",))
        waveform(piece)
        spectrum = spectrum_curve(piece.x, piece.rate)
        read = read_tones(piece, settings)
        if isinstance(read, str):
            return nothing(self.name, UNITS, read, limits, (spectrum,))
        why = piece.overloaded(read.frequencies[1])
        labels = {k: label for k, (label, _) in UNITS.items()}
        made = []
        for key, value in (("imd", read.total), ("imd_second", read.second), ("imd_third", read.third)):
            made.append(Reading(key, labels[key], 100 * value, "%", 100 * read.doubt, 2.0,
                                interval=(max(100 * (value - read.doubt), 0.0), 100 * (value + read.doubt))
                                if value < 2 * read.doubt else None, valid=why is None, reason=why))  # fmt: skip
        places, heights = zip(*sorted(read.products), strict=True)
        products = Curve("products", "Products", places, heights, "Hz", "V")
        f1, f2 = read.frequencies
        levels = read.levels[0] / read.levels[1]
        notes = [
            f"{settings.kind.capitalize()} of {f1:.5g} Hz and {f2:.5g} Hz, levels {levels:.3g} to 1;"
            f" noise alone would show {100 * read.floor:.2g} %."
        ]
        return Finding(self.name, tuple(limits.judge(r) for r in made), (spectrum, products),
                       notes=tuple(notes + ([why] if why else [])))  # fmt: skip


def read_tones(piece: Piece, settings: IntermodulationSettings) -> Intermodulation | str:
    """The products of the two tones, or why there are none. Raises BadInput where the settings ask for what the record
    can't hold."""
    x, rate = piece.x, piece.rate
    if settings.f1 is not None and settings.f2 is not None:
        f1, f2 = settings.f1, settings.f2
        highest = f2 + 2 * f1 if settings.kind == "modulation" else 2 * f2 - f1
        if highest >= 0.499 * rate:
            raise BadInput(f"f2: a record at {rate:g} Hz does not hold the product at {highest:g} Hz.")
        near = []
        for f in (f1, f2):
            reach = max(2 * rate / x.size, 0.002 * f)
            around = (0.3 * f, 3 * f + 40 * rate / x.size)
            found = strongest(x, rate, f - reach - 3 * rate / x.size, f + reach + 3 * rate / x.size, ground=around)
            if not found:
                return f"there is no tone near {f:g} Hz"
            near.append(found[0])
        f1, f2 = near
    else:
        found = strongest(x, rate, 10.0, 0.49 * rate, 2)
        if len(found) < 2:
            return "there are not two tones"
        f1, f2 = sorted(found)
    try:
        return analyse(x, rate, settings.kind, f1, f2)
    except ValueError as bad:
        return str(bad)


METHOD = OutputIntermodulation()
