"""Sine on the shaker: swept, dwelling, or following a resonance (IEC 60068-2-6)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from ...contracts.finding import Finding
from ...contracts.method import Axis, CourseItem, Facts, Performance
from ...contracts.recording import Channel
from ...contracts.sketch import level, line
from .method import ShakerMethod
from .settings import ShakerSettings


class SineSweep(ShakerMethod):
    """The method as the registry knows it."""

    name = "sine-sweep"
    title = "Sine sweep and dwell"
    about = "Where an article resonates, and whether it stands a swept sine"
    sketch = (line(lambda x: 0.22 + 0.6 / (1 + ((x - 0.58) / 0.06) ** 2)), level(0.22))
    usual = {
        "profile": {
            "kind": "sine", "start": "10 Hz", "stop": "500 Hz", "segments": [{"acceleration": "10 m/s^2"}],
            "sweep": {"law": "log", "rate": "1 oct/min"}, "tolerance": {"low": "-15 %", "high": "15 %"},
        },
        "course": [{"sweep": "up"}],
    }  # fmt: skip
    headline = ("in_tolerance", "{:.1f} % of lines within tolerance")
    readings = {
        "in_tolerance": "Share of the lines of the control curve within tolerance [%]",
        "error_max": "Largest error of level, with its sign [dB]",
        "error_rms": "Error of level, rms [dB]",
        "level_max": "Highest control level [m/s² peak]",
        "drive_peak": "Highest drive [V peak], where it was recorded",
        "dwell_N_duration, _cycles, _frequency, _error, _drift, _phase_error": "Of each dwell, N from 1",
    }
    curves = {
        "control": "Control level [m/s² peak] over Hz, of the last sweep; control_N of the others",
        "target": "Profile [m/s² peak] over Hz",
        "drive": "Drive [V peak] over Hz",
        "response_ROLE, phase_ROLE": "Responses, and their phase re the control",
    }
    views = (
        Axis("profile", "Control against profile", ("control", "target"), "Hz", "m/s² peak", x_log=True, y_log=True),
        Axis("drive", "Drive", ("drive",), "Hz", "V", x_log=True, y_log=True),
    )

    def evaluate(
        self, record: Mapping[str, Channel], settings: ShakerSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        from .sine_reading import evaluate

        return evaluate(record, settings, marks)

    def levels(self, settings: ShakerSettings) -> tuple[float, float]:
        """Lowest and highest planned level [m/s² peak]."""
        from .course import sine_stretches

        profile = settings.sine().solved()
        a = profile.acceleration(profile.grid())
        by = [10 ** (s.level / 20) for s in sine_stretches(settings) if not s.rests] or [1.0]
        return float(a.min() * min(by)), float(a.max() * max(by))

    def course(self, settings: ShakerSettings) -> list[CourseItem]:
        from .sine_run import course

        return course(settings)

    def perform(self, settings: ShakerSettings, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
        from .sine_run import perform

        return perform(settings, facts, start)


METHOD = SineSweep()
