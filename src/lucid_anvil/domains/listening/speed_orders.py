"""Speed-tracked orders: tach pulses give speed and angle, the signal's orders and overall level follow over speed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any

from pydantic import Field, field_validator, model_validator

from ...contracts.finding import Finding
from ...contracts.method import Axis, BenchFacts, CourseItem, Facts, Method, MethodSettings, Performance
from ...contracts.recording import Channel
from ...contracts.settings import Model, quantity
from ...contracts.sketch import line
from ...core.quantities import parse
from ...lab.plans import SENSED_WALK_ROUND


class SpeedRange(Model):
    """Speeds at which orders are read, both ends included."""

    low: Annotated[float, quantity("rpm")] = Field(alias="from")
    high: Annotated[float, quantity("rpm")] = Field(alias="to")
    step: Annotated[float, quantity("rpm")]

    @model_validator(mode="after")
    def _sensible(self) -> SpeedRange:
        if not 0 < self.low < self.high or self.step <= 0:
            raise ValueError("speed needs 0 < from < to and a step above zero.")
        if (self.high - self.low) / self.step > 5000:
            raise ValueError("speed: the step makes more than 5000 points: make it larger.")
        return self


class SpeedSettings(MethodSettings):
    """Tach, signal, and what is read."""

    pulses_per_rev: Annotated[float, Field(gt=0)] = 1.0
    trigger_level: Any = None
    """in the tach channel's unit; the middle of its swing when not given"""
    slope: str = "rising"
    signal_sensitivity: Any = None
    """such as 12.5 mV/Pa or 10 mV/(m/s²); without one the signal is taken in the unit that its record states"""
    orders: list[float] = Field(default_factory=lambda: [1.0, 2.0], min_length=1, max_length=40)
    speed: SpeedRange | None = None
    """the whole range in fifty steps when not given"""
    run: str = "down"
    """which way the speed goes while it is recorded: up, down or steady"""
    duration: Annotated[float, quantity("s")] = 60.0
    """s of a steady run, and the most that a run-up or run-down may take"""
    weighting: str = "Z"
    time_weighting: str | None = None
    """of the overall level: F or S (IEC 61672-1, 5.8); none: over the same window as the orders"""
    bands: str | None = None
    """octaves or thirds: a curve of the whole run's band levels (IEC 61260-1)"""
    revolutions: float = Field(default=8.0, ge=4, le=64)
    """length of the window over angle"""
    resolution: Annotated[float, quantity("Hz")] = Field(default=4.0, ge=0.2, le=100)
    """distance of the lines of the map's spectra, about: their window is a power of two samples"""
    map_to: Annotated[float, quantity("Hz")] | None = None
    """how far the map goes over frequency; two and a half times the highest order's, 2 kHz at least, when not given"""

    @field_validator("slope")
    @classmethod
    def _slope(cls, value: str) -> str:
        if value not in ("rising", "falling"):
            raise ValueError(f"'{value}' is not known; use rising or falling.")
        return value

    @field_validator("time_weighting")
    @classmethod
    def _time_weighting(cls, value: str | None) -> str | None:
        if value not in (None, "F", "S"):
            raise ValueError(f"'{value}' is not known; use F or S, or leave it out.")
        return value

    @field_validator("bands")
    @classmethod
    def _bands(cls, value: str | None) -> str | None:
        if value not in (None, "octaves", "thirds"):
            raise ValueError(f"'{value}' is not known; use octaves or thirds, or leave it out.")
        return value

    @field_validator("run")
    @classmethod
    def _run(cls, value: str) -> str:
        if value not in ("up", "down", "steady"):
            raise ValueError(f"'{value}' is not known; use up, down or steady.")
        return value

    @field_validator("weighting")
    @classmethod
    def _weighting(cls, value: str) -> str:
        if value not in ("A", "C", "Z"):
            raise ValueError(f"'{value}' is not known; use A, C or Z.")
        return value

    @model_validator(mode="after")
    def _sensible(self) -> SpeedSettings:
        if min(self.orders) <= 0 or len(set(self.orders)) < len(self.orders):
            raise ValueError("orders must be above zero and each stand once.")
        if self.map_to is not None and self.map_to <= 0:
            raise ValueError("map_to must lie above zero.")
        if self.signal_sensitivity is not None:
            self.sensitivity()
        return self

    def sensitivity(self) -> tuple[float, str]:
        """V per unit, and the unit: Pa, m/s² or m/s. Raises BadInput for another."""
        from ...core.errors import BadInput
        from ...core.quantities import same_kind, split

        _, text = split(str(self.signal_sensitivity))
        for unit in ("Pa", "m/s^2", "m/s", "N"):
            if same_kind(text or f"V/({unit})", f"V/({unit})"):
                value = parse(self.signal_sensitivity, f"V/({unit})", "signal_sensitivity")
                if value == 0:
                    break
                return value, unit
        raise BadInput(
            f"signal_sensitivity: '{self.signal_sensitivity}' is no sensitivity that is known here: write it like"
            " '12.5 mV/Pa' or '10 mV/(m/s^2)'."
        )


class SpeedOrders(Method):
    """The method as the registry knows it."""

    name = "speed-orders"
    title = "Orders over speed"
    roles = ("tach", "signal")
    about = "What of a noise goes with the shaft, while it runs up or down"
    sketch = (line(lambda x: 0.1 + 0.75 * x), line(lambda x: 0.1 + 0.38 * x), line(lambda x: 0.1 + 0.19 * x))
    usual = {"orders": [1, 2], "speed": {"from": "600 rpm", "to": "3000 rpm", "step": "50 rpm"}, "duration": "60 s"}
    walk_round = (
        {"key": "shield", "text": "Guard over the shaft, nobody near it"},
        {"key": "tach", "text": "Tach faces its mark"},
        {"key": "place", "text": "Microphone one metre off, on its stand"},
        *SENSED_WALK_ROUND,
    )
    told = ("rotation",)
    Settings = SpeedSettings
    headline = ("speed_max", "up to {:.0f} rpm")
    readings = {
        "speed_min": "Lowest speed [rpm]",
        "speed_max": "Highest speed [rpm]",
    }
    curves = {
        "order_K": "Order K of the settings, such as order_1 or order_2.5 [rms] over rpm",
        "overall": "Overall level [dB re 20 µPa where the signal is in Pa, else rms], weighted, over rpm",
        "speed": "Speed [rpm] over s",
        "bands": "Band levels of the whole run over Hz, with bands",
    }
    views = (
        Axis("orders", "Orders", ("order_*",), "rpm", "", y_log=True),
        Axis("overall", "Overall", ("overall",), "rpm", "dB"),
        Axis("bands", "Bands", ("bands",), "Hz", "dB", x_log=True),
    )

    def evaluate(
        self, record: Mapping[str, Channel], settings: SpeedSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        from .speed_reading import evaluate

        return evaluate(record, settings, marks)

    def course(self, settings: SpeedSettings) -> list[CourseItem]:
        """Nothing is driven: the machine turns by itself."""
        words = {"up": "Run-up", "down": "Run-down", "steady": "Steady"}
        return [CourseItem(words[settings.run], settings.duration)]

    def perform(self, settings: SpeedSettings, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
        from .speed_run import perform

        return perform(settings, facts)

    def fill(self, given: dict[str, Any], bench: BenchFacts) -> dict[str, Any]:
        """Settings that the bench knows: the microphone's sensitivity [V/Pa]."""
        made = dict(given)
        made.setdefault("signal_sensitivity", f"{1e3 * bench.sensitivity['signal']!r} mV/Pa")
        return made


METHOD = SpeedOrders()
