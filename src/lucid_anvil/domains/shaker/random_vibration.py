"""Random vibration on the shaker (IEC 60068-2-64)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

from ...contracts.finding import Finding
from ...contracts.method import Axis, CourseItem, Facts, Performance
from ...contracts.recording import Channel
from ...contracts.sketch import line
from .method import ShakerMethod
from .settings import ShakerSettings


class RandomVibration(ShakerMethod):
    """The method as the registry knows it."""

    name = "random-vibration"
    title = "Random vibration"
    about = "Whether an article stands random vibration of a given density"
    sketch = (line(lambda x: min(0.15 + 1.6 * x, 0.65, 1.35 - x) + 0.05 * math.sin(61 * x) * math.cos(23 * x)),
              line(lambda x: min(0.3 + 1.6 * x, 0.8, 1.5 - x)), line(lambda x: min(1.6 * x, 0.5, 1.2 - x)))
    usual = {
        "profile": {
            "kind": "random",
            "points": [
                {"frequency": "20 Hz", "density": "0.5 (m/s^2)^2/Hz"},
                {"frequency": "500 Hz", "density": "0.5 (m/s^2)^2/Hz"},
            ],
            "tolerance": {"low": "-3 dB", "high": "3 dB"},
        },
        "course": [{"random": True, "duration": "1 min"}],
    }  # fmt: skip
    headline = ("in_tolerance", "{:.1f} % of lines within tolerance")
    readings = {
        "in_tolerance": "Share of the analysis lines within tolerance [%]",
        "rms": "Control in the profile's band [m/s² rms]",
        "rms_error": "rms against the profile's [%]",
        "error_max": "Largest error of a line [dB]",
        "kurtosis": "Of the control; 3 is Gaussian",
        "crest": "Crest factor of the control",
        "displacement_three_sigma_peak_to_peak": "[m]",
        "degrees_of_freedom": "Of each line, overlap counted",
        "line_spacing": "[Hz]",
        "drive_rms": "[V], where it was recorded",
    }
    curves = {
        "control": "Control density [(m/s²)²/Hz] over Hz",
        "target": "Profile [(m/s²)²/Hz] over Hz",
        "drive": "Drive density over Hz",
        "response_ROLE": "Responses",
    }
    views = (
        Axis("profile", "Control against profile", ("control", "target"), "Hz", "(m/s²)²/Hz", x_log=True, y_log=True),
        Axis("drive", "Drive", ("drive",), "Hz", "V²/Hz", x_log=True, y_log=True),
    )

    def evaluate(
        self, record: Mapping[str, Channel], settings: ShakerSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        from .random_reading import evaluate

        return evaluate(record, settings, marks)

    def levels(self, settings: ShakerSettings) -> tuple[float, float]:
        """Lowest and highest planned level [m/s²]: the rms, and three times that."""
        from .random_run import stretches

        rms = settings.random().solved().rms()
        by = [10 ** (s.level / 20) for s in stretches(settings) if not s.rests] or [1.0]
        return rms * min(by), 3 * rms * max(by)

    def course(self, settings: ShakerSettings) -> list[CourseItem]:
        from .random_run import course

        return course(settings)

    def perform(self, settings: ShakerSettings, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
        from .random_run import perform

        return perform(settings, facts, start)


METHOD = RandomVibration()
