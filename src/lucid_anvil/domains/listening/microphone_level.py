"""Microphone level check: a sound calibrator's tone on a microphone gives its sensitivity (IEC 60942)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Annotated, Any

import numpy as np
from pydantic import Field, field_validator, model_validator

from ...contracts.finding import Curve, Finding, Reading
from ...contracts.limits import Limits
from ...contracts.method import (
    Axis,
    BenchFacts,
    CourseItem,
    Facts,
    Method,
    MethodSettings,
    Performance,
    overload_limits,
    record_of,
)
from ...contracts.recording import Channel
from ...contracts.settings import quantity
from ...contracts.sketch import level, line
from ...core.calibration.soundlevel import CalibratorTone, pressure, read_tone
from ...core.calibration.uncertainty import coverage_factor
from ...core.errors import BadInput
from ...core.quantities import factor, parse, same_kind
from ...core.signal.health import beyond_range, flat_tops
from ...core.signal.sinefit import Floats
from ...core.signal.spectra import averaged, frame_for, noise_bandwidth
from ...lab.plans import SENSED_WALK_ROUND

UNITS = {"sensitivity": "mV/Pa", "tone_frequency": "Hz", "tone_distortion": "%", "change": "dB"}
ASSUMED = 0.2
"""dB, expanded (k = 2), taken for a calibrator whose certificate is not given."""
USUAL_DISTORTION = 3.0
"""%, of a class 1 calibrator at most (IEC 60942, 5.3.5)."""
SPACING = 2.0
"""Hz between the lines of the spectrum."""


class MicrophoneSettings(MethodSettings):
    """The calibrator as its certificate states it, corrections, and what is accepted."""

    level: Annotated[float, quantity("dB")] = 94.0
    """dB re 20 µPa in the coupler, from the calibrator's certificate"""
    frequency: Annotated[float, quantity("Hz")] = 1000.0
    previous_sensitivity: Any = None
    """mV/Pa of the last check"""
    calibrated_sensitivity: Any = None
    """mV/Pa of the last calibration"""
    steadiness: Annotated[float, quantity("dB")] = 0.1
    distortion_allowed: Annotated[float, quantity("%")] | None = None
    """%, above which the check is not valid; None: above 3 % it is said, and no more"""
    corrections: dict[str, Annotated[float, quantity("dB")]] = Field(default_factory=dict)
    """dB added to `level`: ambient pressure, coupler volume, pressure to free field"""
    level_uncertainty: Annotated[float, quantity("dB")] | None = None
    """dB, expanded (k = 2)"""
    correction_uncertainty: Annotated[float, quantity("dB")] = 0.0

    @field_validator("previous_sensitivity", "calibrated_sensitivity")
    @classmethod
    def _known(cls, value: Any) -> float | None:
        made = None if value is None else parse(value, "mV/Pa", "previous_sensitivity")
        if made is not None and made <= 0:
            raise ValueError("a sensitivity must be above zero.")
        return made

    @model_validator(mode="after")
    def _sensible(self) -> MicrophoneSettings:
        if self.frequency <= 0 or self.steadiness <= 0:
            raise ValueError("frequency and steadiness must be above zero.")
        return self


class MicrophoneLevel(Method):
    """The method as the registry knows it."""

    name = "microphone-level"
    title = "Microphone level check"
    roles = ("microphone",)
    about = "Whether a microphone still has its sensitivity, by a sound calibrator"
    sketch = (line(lambda x: 0.5 + 0.4 * math.sin(19 * x)), level(0.9), level(0.1))
    usual = {"level": "94 dB", "frequency": "1 kHz"}
    walk_round = (
        {"key": "calibrator", "text": "Calibrator in date, battery good"},
        {"key": "seated", "text": "Calibrator seated, pressed home"},
        *SENSED_WALK_ROUND,
    )
    told = ("calibrator",)
    Settings = MicrophoneSettings
    checks = "microphone"
    headline = ("sensitivity", "{:.2f} mV/Pa")
    readings = {
        "sensitivity": "Sensitivity at the calibrator's frequency [mV/Pa]",
        "tone_frequency": "Frequency of the tone [Hz]",
        "tone_distortion": "Harmonics 2 to 10 over the fundamental [%]",
        "change": "Change against the last check [dB], with previous_sensitivity",
        "change_calibration": "Change against the last calibration [dB], with calibrated_sensitivity",
    }
    curves = {"spectrum": "Spectrum [V rms] over Hz"}
    views = (Axis("spectrum", "Spectrum", ("spectrum",), "Hz", "V", x_log=True, y_log=True),)

    def evaluate(
        self, record: Mapping[str, Channel], settings: MicrophoneSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        channel = record_of(record, settings)["microphone"]
        limits = Limits(settings.limits, {**UNITS, "change_calibration": "dB"}, settings.decision)
        if not same_kind(channel.unit or "?", "V"):
            raise BadInput(
                f"the microphone channel is in '{channel.unit}': volts are needed, such as 'microphone [V]'."
            )
        held = record_of(record, settings)
        (limit,) = overload_limits(held, settings, ("microphone",))
        if limit is not None:
            limit *= factor(channel.unit, "V")
        channel = channel.in_unit("V")
        x = channel.samples()
        for mark in marks:
            if mark["kind"] == "calibrator" and "stop" in mark:
                x = x[int(mark["start"] * channel.rate) : int(mark["stop"] * channel.rate)]
        tone = read_tone(x, channel.rate, settings.frequency, settings.steadiness) if x.size > 64 else None
        if tone is None:
            why = f"there is no tone within 10 % of {settings.frequency:g} Hz"
            none = [Reading(k, k, None, u, valid=False, reason=why) for k, u in UNITS.items()]
            return Finding(
                self.name, tuple(limits.judge(r) for r in none), (spectrum_of(x, channel.rate),), notes=(why,)
            )
        return reading_of(self.name, x, channel.rate, tone, settings, limits, limit)

    def course(self, settings: MicrophoneSettings) -> list[CourseItem]:
        """Nothing is driven: the calibrator sounds by itself."""
        return [CourseItem(f"Calibrator, {settings.level:g} dB at {settings.frequency:g} Hz", 10.0, settings.frequency)]

    def perform(
        self, settings: MicrophoneSettings, facts: Facts, start: Mapping[str, Any] | None = None
    ) -> Performance:
        from .microphone_run import perform

        return perform(settings, facts)

    def fill(self, given: dict[str, Any], bench: BenchFacts) -> dict[str, Any]:
        """Settings that the bench knows: the input's range [V]."""
        made = dict(given)
        made.setdefault("input_range", {"microphone": bench.ranges["microphone"]})
        return made


METHOD = MicrophoneLevel()


def spectrum_of(x: Floats, rate: float) -> Curve:
    """Spectrum in V rms of a line, Hann window."""
    frame = min(frame_for(rate, SPACING), max(x.size - x.size % 2, 16))
    made = averaged([x[None] if x.size >= frame else np.zeros((1, frame))], 1, rate, frame)
    window = 0.5 - 0.5 * np.cos(2 * np.pi * np.arange(frame) / frame)
    rms = np.sqrt(made.auto[0] * noise_bandwidth(window) * rate / frame)
    return Curve("spectrum", "Spectrum", tuple(made.frequency[1:]), tuple(rms[1:]), "Hz", "V")


def faults_of(
    x: Floats, rate: float, tone: CalibratorTone, settings: MicrophoneSettings, limit: float | None
) -> list[str]:
    """Why the check can't be accepted, each a clause."""
    piece = x[int(tone.start * rate) : int(tone.stop * rate)]
    found = []
    if beyond_range(piece, limit) if limit is not None else flat_tops(piece, rate, tone.frequency):
        found.append("the input is overloaded")
    if tone.wander > settings.steadiness:
        found.append(f"the level wanders by {tone.wander:.2f} dB, more than {settings.steadiness:g} dB")
    if settings.distortion_allowed is not None and 100 * tone.distortion > settings.distortion_allowed:
        found.append(f"the tone is distorted by {100 * tone.distortion:.1f} %: seat the calibrator again")
    return found


def doubt_of(tone: CalibratorTone, settings: MicrophoneSettings) -> float:
    """Expanded uncertainty (k = 2) of the sensitivity [dB]: certificate, corrections, scatter of the blocks, noise."""
    stated = ASSUMED if settings.level_uncertainty is None else settings.level_uncertainty
    repeat = tone.spread / math.sqrt(max(tone.blocks, 1)) * coverage_factor(tone.blocks - 1) / 2
    noise = 20 * math.log10(1 + 10 ** (-tone.signal_to_noise / 20) / math.sqrt(max(tone.blocks, 1)))
    return 2 * math.hypot(stated / 2, settings.correction_uncertainty / 2, repeat, noise)


def reading_of(
    name: str, x: Floats, rate: float, tone: CalibratorTone, settings: MicrophoneSettings, limits: Limits,
    limit: float | None,
) -> Finding:  # fmt: skip
    """The finding from a tone that was found."""
    level = settings.level + sum(settings.corrections.values())
    sensitivity = 1e3 * tone.rms / pressure(level)
    why = "; ".join(faults_of(x, rate, tone, settings, limit)) or None
    doubt = doubt_of(tone, settings)
    share = sensitivity * (10 ** (doubt / 20) - 1)
    valid = why is None
    made = [
        Reading("sensitivity", "Sensitivity", sensitivity, "mV/Pa", share, 2.0, valid=valid, reason=why),
        Reading("tone_frequency", "Tone", tone.frequency, "Hz", valid=valid, reason=why),
        Reading("tone_distortion", "Distortion of the tone", 100 * tone.distortion, "%", valid=valid, reason=why),
    ]
    for key, label, before in (
        ("change", "Change, last check", settings.previous_sensitivity),
        ("change_calibration", "Change, calibration", settings.calibrated_sensitivity),
    ):
        if before is not None:
            value = 20 * math.log10(sensitivity / before)
            made.append(Reading(key, label, value, "dB", doubt, 2.0, valid=valid, reason=why))
    for key in set(settings.limits) & {"change", "change_calibration"} - {r.key for r in made}:
        made.append(Reading(key, "Change", None, "dB", valid=False, reason="nothing to compare with was given"))
    notes = [f"Level in the coupler {level:.2f} dB; read from {tone.start:.2f} s to {tone.stop:.2f} s."]
    if settings.level_uncertainty is None:
        notes.append(f"No level_uncertainty is given: {ASSUMED} dB (k = 2) is assumed.")
    if why is None and 100 * tone.distortion > USUAL_DISTORTION:
        notes.append(f"The tone is distorted by {100 * tone.distortion:.1f} %: is the calibrator seated well?")
    notes += [why] if why else []
    return Finding(name, tuple(limits.judge(r) for r in made), (spectrum_of(x, rate),), notes=tuple(notes))
