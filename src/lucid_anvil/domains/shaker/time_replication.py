"""A recorded time history on the shaker, corrected pass by pass."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

from ...contracts.finding import Finding
from ...contracts.method import Axis, CourseItem, Facts, Performance
from ...contracts.recording import Channel
from ...contracts.sketch import level, line
from .method import ShakerMethod
from .settings import ShakerSettings


class TimeReplication(ShakerMethod):
    """The method as the registry knows it."""

    name = "time-replication"
    title = "Time-history replication"
    about = "Whether an article stands a recorded motion, played again on the table"
    sketch = (line(lambda x: 0.5 + 0.45 * math.exp(-9 * abs(x - 0.3)) * math.sin(60 * x), points=160), level(0.5))
    needs_record = True
    usual = {"course": [{"history": True, "repeats": 1}]}

    def from_record(self, file: str, channel: str, unit: str) -> dict[str, Any]:
        more = {k: v for k, v in (("channel", channel), ("unit", unit)) if v}
        return {"profile": {"kind": "time", "file": file, **more}}

    headline = ("rms_error", "{:.2g} % error")
    readings = {
        "in_tolerance": "Share of the spectrum's lines within ±3 dB [%]",
        "rms_error": "rms of the error over the target's rms, in the control band and time-aligned [%]",
        "peak_error": "Highest peak against the target's [%]",
        "spectrum_error": "rms over twelfths of an octave [dB]",
        "level": "Level against the target's [%]",
        "control_peak": "[m/s²]",
        "passes": "Passes in the record, ladder included",
        "rms_error_N": "Of each pass, N from 1",
        "drive_peak": "[V], where it was recorded",
    }
    curves = {
        "control": "Control [m/s²] over s, of the last pass at the highest level",
        "target": "Target [m/s²] over s",
        "error": "Control minus target [m/s²] over s",
        "spectrum_control, spectrum_target": "Densities [(m/s²)²/Hz] over Hz",
    }
    views = (
        Axis("profile", "Control against target", ("control", "target"), "s", "m/s²"),
        Axis("error", "Error", ("error",), "s", "m/s²"),
    )

    def evaluate(
        self, record: Mapping[str, Channel], settings: ShakerSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        from .replication_reading import evaluate

        return evaluate(record, settings, marks)

    def levels(self, settings: ShakerSettings) -> tuple[float, float]:
        """Lowest and highest planned level [m/s²]: the record's rms, and its peak."""
        from pathlib import Path

        import numpy as np

        from .replication_run import prepare_history, stretches

        made, _ = prepare_history(settings.time(), Path("."))
        a = made.after.acceleration
        by = [10 ** (s.level / 20) for s in stretches(settings) if not s.rests] or [1.0]
        return float(np.sqrt(np.mean(a**2))) * min(by), float(np.max(np.abs(a))) * max(by)

    def course(self, settings: ShakerSettings) -> list[CourseItem]:
        from .replication_run import course

        return course(settings)

    def perform(self, settings: ShakerSettings, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
        from .replication_run import perform

        return perform(settings, facts, start)


METHOD = TimeReplication()
