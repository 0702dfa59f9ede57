"""Driving by hand: a signal that a person turns up and down under the rig's guards, with rows noted down meanwhile."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from ...contracts.finding import Finding
from ...contracts.method import BenchFacts, CourseItem, Facts, Method, MethodSettings, Performance
from ...contracts.recording import Channel
from ...contracts.settings import quantity
from ...contracts.sketch import level, line


class HandSettings(MethodSettings):
    """What stands at the beginning, and what no hand goes beyond."""

    signal: Literal["sine", "noise", "sweep"] = "sine"
    frequency: Annotated[float, quantity("Hz")] = 160.0
    """Of the sine; where a sweep or a band of noise begins"""
    to: Annotated[float, quantity("Hz")] = 1000.0
    """Where a sweep or a band of noise ends"""
    rate: Annotated[float, quantity("oct/min")] = 4.0
    """Of a sweep, up and down by turns"""
    highest: Annotated[float, quantity("V")] = 1.0
    """Peak at the source that no hand goes beyond"""
    fastest: Annotated[float, quantity("m/s")] = 1e-3
    """Of a frame's crosshead, moved by hand"""
    crush: Annotated[float, quantity("N")] = 50.0
    """Force at which a crosshead that is moved by hand goes no further that way"""
    load: Annotated[float, quantity("ohm")] | None = None
    """On the inputs that measure volts, such as an amplifier's: for levels in W, and the power that is shown"""
    average: Annotated[float, quantity("s")] = 0.5
    """Over which a row's figures are taken"""
    longest: Annotated[float, quantity("s")] = 600.0
    """After which the drive comes down by itself"""
    units: dict[str, str] = Field(default_factory=dict)
    """By channel: the unit of what it measures; the bench fills it in"""
    sensitivity: dict[str, float] = Field(default_factory=dict)
    """V per unit by channel; the bench fills it in"""

    @model_validator(mode="after")
    def _sound(self) -> HandSettings:
        if self.frequency <= 0 or self.to <= 0:
            raise ValueError("frequency and to must be above zero.")
        if min(self.highest, self.rate, self.fastest, self.crush) <= 0:
            raise ValueError("highest, rate, fastest and crush must be above zero.")
        if self.load is not None and self.load <= 0:
            raise ValueError("load: above zero.")
        if not 0.05 <= self.average <= 10:
            raise ValueError("average: between 0.05 s and 10 s.")
        if not 1 <= self.longest <= 7200:
            raise ValueError("longest: between 1 s and 2 h.")
        return self


class ByHand(Method):
    """See the module."""

    name, title = "by-hand", "By hand"
    more = True
    looks = True
    Settings = HandSettings
    about = "What a rig does: look at every input, drive by hand, note down what is seen"
    sketch = (line(lambda x: 0.62 + (0.06 + 0.26 * x) * math.sin(44 * x), points=120), level(0.12), level(0.62))
    walk_round = (
        {"key": "supply", "text": "Sensor supply, bias voltage", "sense": "supply"},
        {"key": "clear", "text": "Table clear, nobody touches it"},
    )
    readings: Mapping[str, str] = {
        "row_N_CHANNEL": "rms of a channel in the N-th row that was noted [its unit]",
        "row_N_CHANNEL_thd": "Its harmonics, re the fundamental [%]",
        "row_N_meter": "A meter's reading, as it was typed [its unit]",
    }
    curves: Mapping[str, str] = {"level_CHANNEL": "rms of each row [its unit] over the row's number"}
    told = ("row", "by-hand")

    def fill(self, given: dict[str, Any], bench: BenchFacts) -> dict[str, Any]:
        units = {"acceleration": "m/s²", "force": "N", "pressure": "Pa", "current": "A"}
        known = {r: units.get(k, "V") for r, k in bench.kinds.items()}
        return super().fill({"units": known, "sensitivity": dict(bench.sensitivity), **given}, bench)

    def course(self, settings: HandSettings) -> list[CourseItem]:
        return [CourseItem("By hand", settings.longest)]

    def perform(
        self, settings: HandSettings, facts: Facts, start: Mapping[str, Any] | None = None
    ) -> Performance:  # fmt: skip
        from .hand_run import perform

        return perform(settings, facts)

    def evaluate(
        self, record: Mapping[str, Channel], settings: HandSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        from .hand_reading import read

        return read(record, settings, marks)


METHOD = ByHand()
