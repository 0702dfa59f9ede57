"""Response of an amplifier relative to a reference frequency, its corners and its delay (IEC 60268-3, 14.11)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any

import numpy as np
from pydantic import field_validator

from ...contracts.finding import Curve, Finding, Reading
from ...contracts.method import Axis
from ...contracts.recording import Channel, Floats
from ...contracts.settings import quantity
from ...core.audio.response import Response, corners, measure
from ...core.quantities import parse
from .output import USUAL_BAND, OutputMethod, OutputSettings, Piece, limits_of, listed, nothing, side_by_side

UNITS = {
    "gain_reference": ("Gain at the reference frequency", "dB"),
    "corner_low": ("Lower corner, half power", "Hz"),
    "corner_high": ("Upper corner, half power", "Hz"),
    "flatness": ("Flatness, half the span", "dB"),
    "delay": ("Delay", "s"),
}
METHOD_DOUBT = 0.01
"""dB, expanded: what gating and division leave, held against filters of known response in the tests."""


class ResponseSettings(OutputSettings):
    """What the curve is relative to, and the band whose flatness counts."""

    reference_frequency: Annotated[float, quantity("Hz")] = 1000.0
    band: Any = None
    """[low, high] in Hz"""

    @field_validator("band")
    @classmethod
    def _edges(cls, value: Any) -> tuple[float, float] | None:
        if value is None:
            return None
        if not isinstance(value, (list, tuple)) or len(value) != 2:
            raise ValueError("give two frequencies, like [20 Hz, 20 kHz].")
        low, high = (parse(v, "Hz", "band") for v in value)
        if not 0 < low < high:
            raise ValueError("the lower edge comes first, and both are above zero.")
        return low, high


class OutputResponse(OutputMethod):
    """The method as the registry knows it."""

    name = "output-response"
    title = "Response"
    roles: tuple[str, str] = ("stimulus", "output")
    Settings = ResponseSettings
    readings = listed(UNITS)
    curves = {"gain": "Gain [dB re the reference frequency] over Hz", "phase": "Phase [deg], delay off, over Hz"}
    views = (
        Axis("gain", "Response", ("gain",), "Hz", "dB", x_log=True),
        Axis("phase", "Phase", ("phase",), "Hz", "°", x_log=True),
    )

    def evaluate(
        self, record: Mapping[str, Channel], settings: ResponseSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        limits = limits_of(settings, UNITS)
        stimulus, output = side_by_side(record, settings, self.roles)
        try:
            found = measure(stimulus.x, output.x, output.rate)
        except ValueError as bad:
            return nothing(self.name, UNITS, str(bad), limits)
        return finding_of(found, settings, overloads(output, found.band[0]), limits)


def overloads(output: Piece, lowest: float) -> str | None:
    """Whether the output reaches where its input overloads, or is cut off flat; `lowest` Hz of the stimulus."""
    return None if output.overloaded(lowest) is None else "the output's input is overloaded"


def finding_of(found: Response, settings: ResponseSettings, why: str | None, limits: Any) -> Finding:
    """Readings and curves of a response."""
    f, reference = found.frequency, settings.reference_frequency
    level = 20 * np.log10(np.maximum(np.abs(found.gain), 1e-300))
    labels = {k: label for k, (label, _) in UNITS.items()}
    valid = why is None
    # Tones give the response where they are; a curve gives it between its points too.
    reached = (
        bool(np.min(np.abs(f / reference - 1)) < 0.02)
        if found.kind == "tones"
        else f[0] * 0.98 <= reference <= f[-1] * 1.02
    )
    at = float(np.interp(np.log(reference), np.log(f), level))
    relative = level - (at if reached else 0.0)
    outside = f"the stimulus has nothing at {reference:g} Hz"
    made = [
        Reading("gain_reference", labels["gain_reference"], at if reached else None, "dB",
                _gain_doubt(settings) if reached else None, 2.0, valid=valid and reached,
                reason=why or (None if reached else outside))
    ]  # fmt: skip
    low, high = corners(f, relative, reference) if reached and found.kind != "tones" else (None, None)
    none = (
        "a stimulus that dwells on tones gives points only" if found.kind == "tones" else outside if not reached else ""
    )
    for key, value, end in (("corner_low", low, f[0]), ("corner_high", high, f[-1])):
        beyond = f"it lies beyond {end:.4g} Hz, where the stimulus ends"
        reason = why or (None if value is not None else none or beyond)
        # What gating rounds off matters where a corner is not far above its resolution.
        doubt = None if value is None else value * float(np.hypot(0.003, 0.01 * (found.resolution / value) ** 2))
        made.append(Reading(key, labels[key], value, "Hz", doubt, 2.0, valid=reason is None, reason=reason))
    made.append(_flatness(f, relative, settings, why if why or reached else outside))
    made.append(Reading("delay", labels["delay"], found.delay, "s", valid=valid, reason=why))
    phase = np.angle(found.gain, deg=True)
    phase = np.where(phase <= -180, 180.0, phase)
    curves = (
        Curve("gain", "Gain", tuple(f), tuple(relative), "Hz", "dB"),
        Curve("phase", "Phase", tuple(f), tuple(phase), "Hz", "deg"),
    )
    how = {"sweep": "a sweep, harmonics cut away in time", "tones": "dwelling tones", "broad": "a broad signal"}
    notes = [
        f"Read from {how[found.kind]}, {f[0]:.4g} Hz to {f[-1]:.4g} Hz.",
        "The corners' doubt, 0.3 % and more at low frequencies, and the gain's are the method's own;"
        " that of the inputs is not in them.",
    ]
    return Finding("output-response", tuple(limits.judge(r) for r in made), curves,
                   notes=tuple(notes + ([why] if why else [])))  # fmt: skip


def _gain_doubt(settings: ResponseSettings) -> float:
    own = settings.gain_uncertainty or 0.0
    return float(np.hypot(METHOD_DOUBT, 20 * np.log10(1 + own / 100)))


def _flatness(f: Floats, relative: Floats, settings: ResponseSettings, why: str | None) -> Reading:
    """Half the span over the band, as far as the stimulus went where no band was asked for."""
    low, high = settings.band or USUAL_BAND
    inside = (f >= low * (1 - 1e-6)) & (f <= high * (1 + 1e-6))
    label = UNITS["flatness"][0]
    if settings.band is not None and (f[0] > low * 1.02 or f[-1] < high * 0.98):
        why = why or f"the stimulus covers {f[0]:.4g} Hz to {f[-1]:.4g} Hz only"
    if not inside.any():
        return Reading("flatness", label, None, "dB", valid=False, reason=why or "no point lies in the band")
    span = float(np.ptp(relative[inside])) / 2
    return Reading("flatness", label, span, "dB", METHOD_DOUBT, 2.0, valid=why is None, reason=why)


METHOD = OutputResponse()
