"""The window that a finding was read in, taken hold of on its curve: both ends dragged, and the take read anew."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import partial
from typing import Any

from ...contracts.finding import Finding
from ...engine.evaluating import reread
from ...lab.takes import Take
from .chart import Chart, Handle

HOURS = 2 * 3600.0
"""s from which a time is told in hours"""


def window_of(finding: Finding | None) -> Mapping[str, Any] | None:
    """What a finding says of its window: the setting that gives it, the curves that show it, along which axis, its
    ends and their unit; None where it has none."""
    return (finding.detail or {}).get("between") if finding is not None else None


def told(name: str, value: float, unit: str) -> str:
    """An end in words, such as 'from 310 MPa' or 'to 4.52 h'."""
    if unit == "s" and abs(value) >= HOURS:
        return f"{name} {value / 3600:.4g} h"
    return f"{name} {value:.4g} {unit}"


class WindowHandles:
    """Two lines on a chart."""

    def __init__(self, chart: Chart, window: Mapping[str, Any], take: Callable[[float, float], None]) -> None:
        self.chart, self.take = chart, take
        self.lines: list[Handle] = []
        angle = 90 if window["over"] == "x" else 0
        what = "" if window["setting"] == "window" else f"{window['setting']} "
        for i, (name, key) in enumerate((("from", "low"), ("to", "high"))):
            text = partial(told, what + name, unit=window["unit"])
            line = Handle(chart, angle, text, 0.95 - 0.07 * i if angle else 0.6)
            line.put(window[key])
            line.sigPositionChangeFinished.connect(lambda *_: self.moved())
            self.lines.append(line)

    def moved(self) -> None:
        """Both ends as they stand now, in their order."""
        low, high = sorted(line.get() for line in self.lines)
        self.take(low, high)

    def drop(self) -> None:
        """Off the chart."""
        for line in self.lines:
            self.chart.removeItem(line)
        self.lines = []


def read_between(take: Take, window: Mapping[str, Any], low: float, high: float) -> Finding:
    """Another finding of a take, read between two ends of its window, kept beside the ones before. Raises BadInput."""
    unit = window["unit"]
    ends = {"from": f"{max(low, 0.0):.8g} {unit}", "to": f"{high:.8g} {unit}"}
    made = reread(take, {**take.plan().step.settings, window["setting"]: ends})
    take.keep(made)
    return made
