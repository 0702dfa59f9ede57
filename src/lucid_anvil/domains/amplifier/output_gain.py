"""Gain of an amplifier at a tone (IEC 60268-3, 14.10)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

from ...contracts.finding import Finding, Reading
from ...contracts.method import Axis
from ...contracts.recording import Channel
from .output import OutputMethod, doubt_note, limits_of, listed, nothing
from .output_separation import SeparationSettings, tone_through

UNITS = {
    "gain": ("Gain", "dB"),
    "phase": ("Phase, output minus stimulus", "deg"),
    "output_level": ("Output level, rms", "V"),
}


class OutputGain(OutputMethod):
    """The method as the registry knows it."""

    name = "output-gain"
    title = "Gain"
    roles: tuple[str, str] = ("stimulus", "output")
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
        stimulus, output, found = read
        if not found.told:
            return nothing(self.name, UNITS, "the stimulus' tone is not in the output", limits)
        why = stimulus.overloaded(found.frequency) and "the stimulus' input is overloaded"
        why = why or (output.overloaded(found.frequency) and "the output's input is overloaded")
        own = (settings.gain_uncertainty or 0.0) / 100
        spread = max(found.ratio.high / found.ratio.value - 1, 1 - found.ratio.low / found.ratio.value)
        doubt = 20 * math.log10(1 + math.hypot(spread, math.sqrt(2) * own))
        level = found.ratio.value * found.level
        valid = why is None
        made = (
            Reading("gain", UNITS["gain"][0], 20 * math.log10(found.ratio.value), "dB", doubt, 2.0, valid=valid,
                    reason=why),
            Reading("phase", UNITS["phase"][0], found.phase, "deg", math.degrees(spread), 2.0, valid=valid,
                    reason=why),
            Reading("output_level", UNITS["output_level"][0], level, "V", level * math.hypot(spread, own), 2.0,
                    valid=valid, reason=why),
        )  # fmt: skip
        notes = (f"At {found.frequency:.5g} Hz.", *doubt_note(settings))
        return Finding(self.name, tuple(limits.judge(r) for r in made), notes=notes)


METHOD = OutputGain()
