"""The sheet of a power amplifier: all steps of its plan on both channels and every load (IEC 60268-3)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from ...contracts.finding import Finding
from ...contracts.method import Axis, BenchFacts, CourseItem, Facts, Input, Method, Performance, blocked
from ...contracts.recording import Channel
from ...contracts.sketch import level, line
from ...core.errors import BadInput
from .planning import WALK_ROUND, sheet_steps, usual_sheet
from .sheet_reading import Sheet, Take
from .sheet_run import SheetRun
from .sheet_settings import SheetSettings, duration, tasks


class AmplifierSheet(Method):
    """The method as the registry knows it."""

    name = "amplifier-sheet"
    title = "Amplifier sheet"
    roles: tuple[str, ...] = ()
    kinds = ("voltage",)
    more = True
    told = ("reading",)
    about = "Whether an amplifier does what its published sheet says"
    sketch = (line(lambda x: 0.2 + 0.03 / max(x, 0.06) + (0.7 * max(x - 0.8, 0) / 0.1)), level(0.45))
    walk_round = tuple(WALK_ROUND)
    drawn = {"steps": "on the sheet", "limits": "at each step"}
    """Every channel of the record is handed over, by its label."""
    Settings = SheetSettings
    readings = {"STEP_CHANNEL_LOAD_READING": "Each step's readings on each channel at each load, in their own units"}
    curves = {
        "distortion_power_*": "Distortion and noise [%] over power [W]",
        "gain_*": "Gain [dB re the reference frequency] over Hz",
        "phase_*": "Phase [deg] over Hz",
        "between_*": "Phase between the first two channels [deg] over Hz",
        "noise_*": "Noise [V rms a line] over Hz",
        "mains_*": "Multiples of the mains [V rms] over Hz",
        "spectrum_*": "Spectrum [V rms] over Hz",
    }
    views = (
        Axis("power", "Distortion against power", ("distortion_power_*",), "W", "%", x_log=True, y_log=True),
        Axis("response", "Response", ("gain_*",), "Hz", "dB", x_log=True),
        Axis("phase", "Phase between channels", ("between_*",), "Hz", "°", x_log=True),
        Axis("noise", "Noise and hum", ("noise_*", "mains_*"), "Hz", "V", x_log=True, y_log=True, single=True),
        Axis("spectrum", "Spectrum", ("spectrum_*",), "Hz", "V", x_log=True, y_log=True, single=True),
    )

    def as_plan(self, settings: Mapping[str, Any]) -> dict[str, Any]:
        """The usual sheet; what its steps share stands beside them."""
        return {"sheet": {**usual_sheet(), **settings}, "steps": sheet_steps()}

    def evaluate(
        self, record: Mapping[str, Channel], settings: SheetSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        return self.together([(record, settings, marks)])

    def together(
        self, parts: Sequence[tuple[Mapping[str, Channel], SheetSettings, Sequence[Mapping[str, Any]]]]
    ) -> Finding:
        """Several takes of one series as one sheet, the newest last: what it holds stands in place of the earlier."""
        return Sheet([Take(*part) for part in parts]).finding(self.name)

    def fill(self, given: dict[str, Any], bench: BenchFacts) -> dict[str, Any]:
        """Settings that the bench knows: its channels and their ranges [V]."""
        return {"channels": list(bench.ranges), "input_range": dict(bench.ranges), **given}

    def fits(self, settings: SheetSettings, inputs: Sequence[Input]) -> None:
        """An offset stands still: an input that blocks it reads none, whatever there is."""
        closed = {i.role for i in inputs if i.coupling == "ac"}
        for task in tasks(settings):
            if task.step.method == "output-offset" and task.channel in closed:
                raise BadInput(f"step '{task.step.name}': {blocked(task.channel)}")

    def course(self, settings: SheetSettings) -> list[CourseItem]:
        """A stretch for each reading."""
        return [
            CourseItem(f"{t.step.label or t.step.name}, {t.column}", duration(t), frequency=t.tone, step=i)
            for i, t in enumerate(tasks(settings))
        ]

    def perform(self, settings: SheetSettings, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
        return SheetRun(settings, facts).perform(start)


METHOD = AmplifierSheet()
