"""Plans: what will be done to an article, as a text that a person can read and diff."""

from __future__ import annotations

import difflib
import os
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import Field, field_validator, model_validator

from ..contracts.registry import check_kinds, guard_kinds
from ..contracts.settings import Flag, Model, check, quantity
from ..core.quantities import parse, sensitivity_unit, split
from .textfiles import dump_yaml, load_yaml, whole_write


class SensorRecord(Model):
    """A sensor as it stood in the ledger when the plan was made."""

    serial: str
    maker: str = ""
    model: str = ""
    kind: str = "accelerometer"
    sensitivity: float | None = None
    unit: str = "mV/(m/s²)"
    certificate: str | None = None
    calibrated: str | None = None
    due: str | None = None
    calibration_lab: str | None = None
    lowest: float | None = None
    highest: float | None = None
    """Hz, what its certificate covers."""
    steps: list[tuple[float, float]] | None = None
    """Of one that was calibrated step by step: N or Pa, and its sensitivity there in `unit`; in mV/V what it gives"""

    @model_validator(mode="before")
    @classmethod
    def _with_unit(cls, held: Any) -> Any:
        """A sensitivity written with its unit states the unit too; a bare number is in `unit`."""
        value = held.get("sensitivity") if isinstance(held, dict) else None
        if not isinstance(value, str):
            return held
        own = split(value)[1]
        unit = str(held["unit"]) if "unit" in held else sensitivity_unit(value) if own else "mV/(m/s²)"
        return {**held, "unit": unit, "sensitivity": parse(value, unit, "sensitivity")}


SENSED = (
    "supply", "reference_date", "reference_range", "input_range", "temperature", "noise", "sensor_dates",
    "device_dates", "interlocks", "identity", "mains", "loads", "fan", "meter",
)  # fmt: skip
"""What checks of any bench can sense"""


class Check(Model):
    """One check of the walk-round."""

    key: str
    text: str
    sense: str | None = None
    """None: a person signs."""
    photo: str | None = None
    """How it looks when it is right: a file, from the plan's own folder"""

    @field_validator("sense")
    @classmethod
    def _known(cls, value: str | None) -> str | None:
        if value is not None and value not in SENSED and value not in check_kinds():
            known = [*SENSED, *check_kinds()]
            near = difflib.get_close_matches(value, known, 1, 0.5)
            raise ValueError(f"nothing senses '{value}'; "
                             + (f"did you mean '{near[0]}'?" if near else f"there are {', '.join(known)}."))
        return value


WATCHES = (
    "drive", "current", "stroke", "overload", "control_lost", "supply", "disk", "acceleration", "late", "abort",
    "interlock", "load_heat", "supply_current", "instrument", "chain", "force", "length",
    "temperature",
)  # fmt: skip
"""Kinds of guards that any bench knows"""


def watches() -> tuple[str, ...]:
    """Every kind of guard, those that domains bring along at the end."""
    return WATCHES + guard_kinds()


class GuardPart(Model):
    """One guard, of a rig or of a plan. `limit` is in the unit of what is watched."""

    watch: str
    action: Literal["note", "hold", "ease", "cut"] = "cut"
    limit: Any = None
    channel: str | None = None
    after: Annotated[float, quantity("s")] = 0.0
    label: str | None = None

    @field_validator("watch")
    @classmethod
    def _known(cls, value: str) -> str:
        if value not in WATCHES and value not in guard_kinds():
            near = difflib.get_close_matches(value, watches(), 1, 0.5)
            hint = f"did you mean '{near[0]}'?" if near else f"there are {', '.join(watches())}."
            raise ValueError(f"there is no guard '{value}'; {hint}")
        return value


class Step(Model):
    """One step: the kind of test, and its settings. The rest is for the steps of a sheet: see
    `methods.sheet_settings`, which checks it."""

    method: str
    settings: dict[str, Any] = Field(default_factory=dict)
    name: str | None = None
    label: str | None = None
    channels: list[str] | None = None
    loads: list[Any] | None = None
    driven: str | None = None
    drive: dict[str, Any] | None = None
    tones: list[Any] | None = None
    series: dict[str, Any] | None = None
    settle: Any = None
    read: Any = None
    limits: dict[str, Any] | None = None
    ask: dict[str, Any] | None = None
    mask: dict[str, Any] | None = None
    span: list[Any] | None = None
    reference: str | None = None
    rig: str | None = None
    """Of this step, where it is not the plan's"""
    guards: list[GuardPart] = Field(default_factory=list)
    """On top of the plan's, while this step runs"""
    go_on: Literal["always", "done", "inside"] = "done"
    """What this step must have come to before the next one begins"""
    prompt: str = ""
    """What a person is asked to do before it"""


class Plan(Model):
    """A plan."""

    version: Literal[1] = Field(default=1, alias="lucid-anvil-plan")
    title: str
    job: str = ""
    article: str = ""
    rig: str | None = None
    """Path of the rig file, from the plan's own folder."""
    steps: list[Step] = Field(min_length=1)
    sheet: dict[str, Any] = Field(default_factory=dict)
    """What the steps of an amplifier plan share: loads, published power, supply and its window."""
    walk_round: list[Check] = Field(default_factory=list)
    guards: list[GuardPart] = Field(default_factory=list)
    """On top of the rig's own."""
    sensors: dict[str, SensorRecord] = Field(default_factory=dict)
    """By role."""
    customer: str = ""
    customer_address: str = ""
    wants_due_date: Flag = False
    operator: str = ""
    as_state: Literal["as found", "as left"] = "as found"
    when_alone: Literal["go on", "ease down"] = "go on"
    """What a run does once no window and no terminal looks at it any more."""
    compare: dict[str, dict[str, Any]] = Field(default_factory=dict)
    """Limits of what may move between the first and the last step of one method, by reading"""
    base_take: str | None = None
    """A take of the same series whose struck points this plan takes again."""

    @model_validator(mode="after")
    def _alike(self) -> Plan:
        output = [s.method.startswith("output-") for s in self.steps]
        if any(output) and not all(output):
            raise ValueError("steps that read an amplifier's output make a sheet of their own: keep the others apart.")
        return self

    @property
    def several(self) -> bool:
        """Whether it is a series: steps that are run one after the other, each with a take of its own."""
        return len(self.steps) > 1 and not self.steps[0].method.startswith("output-")

    @property
    def step(self) -> Step:
        """The plan's step; the steps of an amplifier plan are one step whose settings hold them all."""
        if not self.steps[0].method.startswith("output-"):
            return self.steps[0]
        steps = [s.model_dump(exclude_none=True, exclude={"rig", "guards", "go_on", "prompt"}) for s in self.steps]
        return Step(method="amplifier-sheet", settings={**self.sheet, "steps": steps})


def load_plan(path: Path) -> Plan:
    """Read and check a plan file. Raises BadInput."""
    return check(Plan, load_yaml(path), str(path))


def rig_path(plan: Plan, place: Path, given: Path | None) -> Path:
    """The rig file to use: the one given, else the plan's own. Raises BadInput."""
    from ..core.errors import BadInput

    if given is not None:
        return given
    if plan.rig is None:
        raise BadInput(f"{place}: it names no rig: add 'rig: FILE', or say --rig FILE.")
    found = (place.parent / plan.rig).resolve()
    if not found.exists():
        raise BadInput(f"{place}: its rig {plan.rig} is not there: mend 'rig:', or say --rig FILE.")
    return found


def put_plan(place: Path, plan: dict[str, Any]) -> Path:
    """Write a plan file; its rig is named from the plan's own folder, so that a lab can be moved or copied whole."""
    held = {**plan, "steps": [dict(s) for s in plan["steps"]]} if "steps" in plan else dict(plan)
    for one in (held, *held.get("steps", ())):
        if one.get("rig") and Path(one["rig"]).is_absolute():
            one["rig"] = os.path.relpath(Path(one["rig"]).resolve(), place.parent.resolve())
    whole_write(place, dump_yaml(held))
    return place


SENSED_WALK_ROUND = [
    {"key": "dates", "text": "Sensors in date", "sense": "sensor_dates"},
    {"key": "supply", "text": "Sensor supply, bias voltage", "sense": "supply"},
    {"key": "temperature", "text": "Room temperature", "sense": "temperature"},
]
"""Checks that make sense on any bench with sensors"""
SHAKER_WALK_ROUND = [
    {"key": "interlocks", "text": "Cooling, field supply, emergency stop", "sense": "interlocks"},
    {"key": "identity", "text": "Sensors are who the plan says", "sense": "identity"},
    {"key": "dates", "text": "Sensors in date", "sense": "sensor_dates"},
    {"key": "bolts", "text": "Fixture bolts torqued, article free"},
    {"key": "centred", "text": "Table centred, transport lock out"},
    {"key": "cables", "text": "Cables tied down at the table"},
    {"key": "supply", "text": "Sensor supply, bias voltage", "sense": "supply"},
    {"key": "input_range", "text": "Input range fits the profile", "sense": "input_range"},
    {"key": "noise", "text": "Noise floor low enough", "sense": "noise"},
    {"key": "hall", "text": "Hall clear, ear protection on"},
]

DEFAULT_WALK_ROUND = [
    {"key": "reference_date", "text": "Reference in date", "sense": "reference_date"},
    {"key": "reference_range", "text": "Its certificate covers the course", "sense": "reference_range"},
    {"key": "mounting", "text": "Unit mounted, 2.0 N·m, faces oiled"},
    {"key": "cables", "text": "Cables tied down, no loop"},
    {"key": "supply", "text": "Sensor supply, bias voltage", "sense": "supply"},
    {"key": "temperature", "text": "Room temperature", "sense": "temperature"},
    {"key": "input_range", "text": "Input ranges fit the levels", "sense": "input_range"},
    {"key": "noise", "text": "Noise floor low enough", "sense": "noise"},
]
