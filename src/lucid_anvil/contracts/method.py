"""What a method is. It does no I/O: it yields what it wants and receives what it got, block by block."""

from __future__ import annotations

from collections.abc import Callable, Generator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from pydantic import Field

from ..core.control.chain import ChainModel
from ..core.errors import BadInput
from ..core.quantities import parse
from .curvelimits import CurveLimits, held_to
from .finding import Finding
from .limits import related
from .recording import Channel, Floats
from .settings import Model, quantity
from .sketch import Sketch


@dataclass(frozen=True)
class Want:
    """What a method asks for in one turn."""

    drive: Floats
    """Volts at the source for the next block, shape (block,)."""
    expect: float | None = None
    """rms that the control channel should show for this block [its unit]; None: nothing to hold it to."""
    marks: tuple[Mapping[str, Any], ...] = ()
    """Events for the record; each has `t` [s] and `kind`."""
    live: Mapping[str, Any] | None = None
    """Figures for the faces; None: nothing new."""
    compute: tuple[Callable[..., Any], tuple[Any, ...]] | None = None
    """Work too long for one block; its result comes in a later `Got.result`."""
    position: Mapping[str, Any] | None = None
    """Where the method could be continued from."""
    settings: Mapping[str, Any] | None = None
    """Settings for devices, such as `{"insert": True}`; for instruments `supply`, `loads`, `fan`, `meter`."""
    bounds: tuple[float, float, float] | None = None
    """Abort edges for the control's rms in this block, low and high [its unit], and the seconds to average over."""
    chain: ChainModel | None = None
    """What a probe run found, for the guard that watches the measuring chain."""
    trip: Mapping[str, Any] | None = None
    """The method asks for the end of the drive: guard, label, channel, value, limit, unit, action (cut or ease)."""
    keep: bool = True
    """Whether the block just received belongs to the record, where the method's `thinned` lets some go."""
    rows: Sequence[Mapping[str, float]] = ()
    """Lines of the table that is kept of all, by the names of `thinned`."""


@dataclass(frozen=True)
class Got:
    """What a method receives in one turn."""

    index: int
    """Number of the input block, from 0."""
    start: float
    """s, time of its first sample."""
    channels: Mapping[str, Floats]
    """Input channels by role, in volts."""
    overload: frozenset[str] = frozenset()
    result: Any = None
    """Result of the last `Want.compute`, once, when it is there."""
    orders: tuple[Mapping[str, Any], ...] = ()
    """What the operator asked for since the last turn: `hold`, `go`, `level` with `by` [dB], `skip`; of one that
    listens `trigger` with `level`, `slope` with `rising`, `overrule` with `number` and `note`; by hand `drive` with
    what shall change, `row` with `text` and `meter`."""
    instruments: Mapping[str, Any] | None = None
    """What the instruments last showed, as `rig.instruments.Desk.look` gives it; None without any."""


@dataclass(frozen=True)
class Input:
    """One input channel as a method sees it."""

    role: str
    kind: str
    scale: float
    """unit per V"""
    unit: str
    on_table: bool = True
    range: float = 10.0
    coupling: str = "dc"
    """V at which the input overloads"""


@dataclass(frozen=True)
class Facts:
    """What a method must know of the bench it runs on."""

    rate: float
    block: int
    source_range: float
    """V"""
    sensitivity: Mapping[str, float]
    """V per unit by role, for setting levels only."""
    inputs: tuple[Input, ...] = ()
    limits: Mapping[str, float] = field(default_factory=dict)
    """Of shaker and amplifier: stroke, velocity, force, current, voltage, acceleration, moving_mass [SI]."""
    model: tuple[tuple[float, float, float, float], ...] = ()
    """Rows of (Hz, m/s², A, V at the coil), each per volt at the source, as the rig file gives them."""
    ranges: tuple[float, ...] = ()
    """V, input ranges that can be chosen, rising"""
    switched: bool = True
    """Whether an instrument switches the loads; a person is asked to, where none does"""
    delay: float = 0.0
    """s from a drive to the inputs, beyond `LEAD` blocks"""
    routed: bool = True
    """Whether the source can be fed to both leads of an input in common; a person is asked to, where it can't"""


Performance = Generator[Want, Got, None]
LEAD = 2
"""The drive yielded on receipt of input block n is played during block n + LEAD."""


@dataclass(frozen=True)
class Thinned:
    """How a record is kept of which not every block is."""

    seconds: float
    """About how many s of it will be kept"""
    last: float
    """s before a stop that are kept whatever the method said of them"""
    columns: Mapping[str, str]
    """Name and unit of what its table holds"""


@dataclass(frozen=True)
class CourseItem:
    """One stretch of what will happen."""

    label: str
    duration: float
    """s"""
    frequency: float | None = None
    level: float | None = None
    limited_by: str | None = None
    until: float | None = None
    """Hz at which it ends, where the frequency moves"""
    step: int | None = None
    """Number of the course's step that it comes from, from 0"""
    rung: bool = False


@dataclass(frozen=True)
class Axis:
    """One plot that faces draw: which curves, on which scales, against which corridor. A name among `curves` may end in
    a star, for all that begin so."""

    key: str
    title: str
    curves: tuple[str, ...]
    x_label: str
    y_label: str
    x_log: bool = False
    y_log: bool = False
    upto: str = ""
    """Key of a reading beyond whose value there is nothing worth looking at"""
    single: bool = False
    """One curve at a time: paper shows the first of them"""

    def shows(self, key: str) -> bool:
        """Whether a curve belongs to this plot."""
        return any(key == c or (c.endswith("*") and key.startswith(c[:-1])) for c in self.curves)


class MethodSettings(Model):
    """What all methods' settings share."""

    decision: str = "guarded"
    limits: dict[str, dict[str, Any]] = Field(default_factory=dict)
    """low and high of a reading, by its key; with `of` they count from a value or from another reading"""
    curve_limits: dict[str, CurveLimits] = Field(default_factory=dict)
    """Two lines that a curve has to stay between, by its key"""
    input_range: dict[str, Any] = Field(default_factory=dict)
    full_scale: dict[str, Annotated[float, quantity("V")]] = Field(default_factory=dict)
    mains: str | float = "auto"

    def mains_hz(self) -> float | None:
        """50 or 60 Hz, or None for auto."""
        if self.mains == "auto":
            return None
        value = parse(self.mains, "Hz", "mains")
        if value not in (50.0, 60.0):
            raise BadInput(f"mains: '{self.mains}' is not 50 Hz, 60 Hz or auto.")
        return value


@dataclass(frozen=True)
class BenchFacts:
    """What a rig and a plan's sensors give a method to complete its settings with, by role."""

    sensitivity: Mapping[str, float] = field(default_factory=dict)
    """V per unit"""
    ranges: Mapping[str, float] = field(default_factory=dict)
    """V at which each input overloads"""
    kinds: Mapping[str, str] = field(default_factory=dict)
    steps: Mapping[str, Sequence[tuple[float, float]]] = field(default_factory=dict)
    """Rows of (what is measured [unit], V) of sensors that were calibrated step by step"""
    gauge: str = ""
    """What a reference measures that is read over its own line; empty where there is none"""
    conditioner_gain: Mapping[str, float] = field(default_factory=dict)
    """mV/pC of the channels that have a charge amplifier"""
    bits: int = 24
    budget: tuple[Mapping[str, Any], ...] = ()
    capability: Any = None
    """The laboratory's smallest uncertainty, as the rig states it"""
    allowed: Callable[[], Sequence[tuple[float, float, float, str]]] = tuple
    """Rows of (Hz, m/s² that the shaker allows, m/s² per volt at the source, what limits)"""


@dataclass(frozen=True)
class Calibrated:
    """What the calibration of a sensor found, as a ledger keeps it."""

    value: float
    unit: str
    uncertainty: float | None
    """%, expanded (k = 2)"""
    points: Sequence[Sequence[float]] | None = None
    """Rows of step, value, expanded uncertainty in %"""
    at: str = ""
    """At which step `value` holds, in words"""


class Method:
    """What each method module makes one of, as its `METHOD`. What a method does not say stands here."""

    name: str
    title: str
    roles: tuple[str, ...] = ()
    """Channels that it can't do without"""
    optional_roles: tuple[str, ...] = ()
    kinds: tuple[str, ...] = ()
    """Kinds of channels of which it needs one at least"""
    gauged: bool = False
    """Whether its reference may be read over a line of its own, and be no channel"""
    more: bool = False
    """Whether it takes every other channel too"""
    Settings: type[Any] = MethodSettings
    readings: Mapping[str, str] = {}
    """Key: what it is, with its unit in brackets"""
    curves: Mapping[str, str] = {}
    views: tuple[Axis, ...] = ()
    headline: tuple[str, str] | None = None
    """Key of the reading told first after a run, and how it is said; the first that is judged where none is named"""
    told: tuple[str, ...] = ()
    """Kinds of marks that say that there is something to be read; any of its own when none is named"""
    drawn: Mapping[str, str] = {}
    """Settings that are changed on the thing itself, and where: the sheet of settings points there"""
    orders: tuple[str, ...] = ("skip",)
    """Orders that its run takes, beside Stop: `skip`, `hold` (and `go`), `level`"""
    hold_word: str = "Hold"
    """What holding it is called"""
    at_rest: bool = False
    """Whether what it reads stands still: faces show where it stands, not how it swings"""
    steady: bool = False
    """Whether what it measures may stand still, so that an input which blocks that is of no use; so too `at_rest`"""
    trends: bool = False
    """Whether it takes the table of a thinned record, a channel each, its role beginning with `TREND`"""
    looks: bool = False
    """Whether faces look at every input while it is set up and runs"""
    heavy: tuple[str, ...] = ()
    """Modules, in full, that are imported before a run begins: the first computation would wait for them"""
    idle: str = "there is nothing in it to be done: look at its settings"
    """What is wrong with settings whose course is empty"""

    # --- beginning a plan ------------------------------------------------------------------------------------

    about: str = ""
    """What one wants to know who chooses it, in a sentence"""
    sketch: Sketch = ()
    """A small picture of it (`contracts.sketch`)"""
    usual: Mapping[str, Any] = {}
    """Settings to begin a plan with, beside those that have a usual value anyway"""
    walk_round: Sequence[Mapping[str, Any]] = ()
    """Checks of the hook-up in their order; what any bench with sensors checks where none is named"""
    begun_as: str = ""
    """Method that it is run as a step of; empty for one with plans of its own"""

    reads_only: bool = False
    """Whether it reads records that others made, and runs nothing"""
    logs: bool = False
    """Whether it takes a logger's table with uneven steps and gaps, each row at its time"""
    needs_record: bool = False
    """Whether it is begun from a recorded file"""

    def from_record(self, file: str, channel: str, unit: str) -> dict[str, Any]:
        """Settings that name a record lying beside the plan; `channel` and `unit` may be empty."""
        raise BadInput(f"{self.name}: it is not begun from a record.")

    def as_plan(self, settings: Mapping[str, Any]) -> dict[str, Any]:
        """The part of a new plan that says what is done."""
        return {"steps": [{"method": self.name, "settings": dict(settings)}]}

    # --- reading: pure ---------------------------------------------------------------------------------------

    def evaluate(self, record: Mapping[str, Channel], settings: Any, marks: Sequence[Mapping[str, Any]]) -> Finding:
        """Channels by role, settings and marks in, finding out. Raises BadInput."""
        raise NotImplementedError

    def judged(self, record: Mapping[str, Channel], settings: Any, marks: Sequence[Mapping[str, Any]]) -> Finding:
        """`evaluate`, and what its finding says against the limits that any method's settings may give: of readings
        that count from one another, and of curves. Raises BadInput."""
        return held_to_all(self.evaluate(record, settings, marks), settings)

    def together(self, parts: Sequence[tuple[Mapping[str, Channel], Any, Sequence[Mapping[str, Any]]]]) -> Finding:
        """The finding of a take and those that it completes or goes on from, oldest first; the last alone where a
        method knows no better."""
        return self.evaluate(*parts[-1])

    def shown(self, settings: Any) -> tuple[Axis, ...]:
        """Those of its views that settings fill."""
        return self.views

    def readable(self, marks: Sequence[Mapping[str, Any]]) -> bool:
        """Whether a take holds anything to be read; one that was stopped before it began does not."""
        return any(m.get("kind") in self.told if self.told else m.get("kind") not in AROUND for m in marks)

    # --- settings --------------------------------------------------------------------------------------------

    def beside(self, given: Mapping[str, Any], folder: Path) -> dict[str, Any]:
        """Settings with what the files that they name hold, found beside a plan in `folder`."""
        return dict(given)

    def fill(self, given: dict[str, Any], bench: BenchFacts) -> dict[str, Any]:
        """Settings of a plan completed from the bench."""
        ranges = {r: bench.ranges[r] for r in (*self.roles, *self.optional_roles) if r in bench.ranges}
        return {"input_range": ranges, **given} if ranges else given

    def files(self, settings: Any) -> Mapping[str, Path]:
        """Files that a take needs beside its plan, by the name that they have there."""
        return {}

    def kept(self, settings: dict[str, Any]) -> dict[str, Any]:
        """Plain settings as they stand in a take's own plan: its files by the names that they have there."""
        return settings

    # --- running ---------------------------------------------------------------------------------------------

    def course(self, settings: Any) -> list[CourseItem]:
        """What will happen when, before it does. Empty for one that only reads records."""
        return []

    def perform(self, settings: Any, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
        """The run itself; `start`: a position of an earlier one to go on from."""
        raise BadInput(f"{self.name}: it reads records; there is nothing to run.")

    def thinned(self, settings: Any, facts: Facts) -> Thinned | None:
        """How its record is kept where that of the whole course would be too long; None: all of it."""
        return None

    def levels(self, settings: Any) -> tuple[float, float]:
        """Smallest and largest planned level [m/s² peak]."""
        made = [i.level for i in self.course(settings) if i.level is not None]
        return (min(made), max(made)) if made else (0.0, 0.0)

    alike: tuple[str, ...] = ()
    """Settings that must agree for two of its findings to be held against each other"""
    standard: str = ""
    """What it follows, as certificates say it; its title where none is named"""
    checks: str = ""
    """Role of the sensor whose sensitivity it checks between calibrations; empty where it checks none"""
    unit_is: str = ""
    """Device of the rig that it calibrates as its unit, where that is no sensor of a channel"""
    knows: Mapping[str, str] = {}
    """Settings that the ledger tells when a plan is begun, by the device of the rig whose last calibration each is"""

    def from_ledger(self, known: Mapping[str, Calibrated]) -> dict[str, Any]:
        """Settings of a new plan from the last calibrations of the rig's devices; those that `knows` names, each as
        one figure, where a method knows no better."""
        return {s: f"{known[d].value!r} {known[d].unit}" for s, d in self.knows.items() if d in known}

    calibrates: bool = False
    """Whether a finding may go into the ledger as the calibration of the sensor in the role `unit`"""

    def calibration(self, finding: Finding, unit: str) -> Calibrated | None:
        """What a finding says of the sensor in the role `unit`, in the unit that its ledger has; None where the method
        calibrates nothing. Raises BadInput where it does but could not."""
        return None

    def needs(self, settings: Any) -> tuple[str, ...]:
        """Channels that it can't do without, with these settings."""
        return self.roles

    def fits(self, settings: Any, inputs: Sequence[Input]) -> None:
        """Raises BadInput where the inputs can't show what is to be measured."""
        if self.at_rest or self.steady:
            for one in inputs:
                if one.coupling == "ac" and one.role in (*self.roles, *self.optional_roles):
                    raise BadInput(blocked(one.role))

    def feasible(self, settings: Any, facts: Facts) -> None:
        """Raises BadInput where the bench can't drive what is to be done."""

    def guarded(self, settings: Any, inputs: Sequence[Input]) -> dict[str, Any]:
        """What the guards must know: `roles` of the control points, how to `combine` them, and `guards` of its own."""
        return {}


def held_to_all(finding: Finding, settings: MethodSettings) -> Finding:
    """A finding held to those limits of its settings that need the whole of it. Raises BadInput."""
    made = related(finding, settings.limits, settings.decision)
    return held_to(made, settings.curve_limits, settings.decision)


def blocked(role: str) -> str:
    """What is said of an input that blocks what stands still, where that is to be measured."""
    return (
        f"channel '{role}': its input is AC coupled and shows nothing that stands still: set its coupling to dc, if the"
        " input can do that, or use another."
    )


TREND = "trend/"
"""What the roles of a thinned record's table begin with, where a method is given it"""
AROUND = ("gap", "begin", "end", "trip", "note", "order", "conditions", "dropout", "continued", "doubtful", "position")
"""Kinds of events that any run has"""


def record_of(channels: Mapping[str, Channel], settings: MethodSettings) -> dict[str, Channel]:
    """Channels with `full_scale` applied to those that come from sound files."""
    made = {}
    for role, value in settings.full_scale.items():
        if role not in channels:
            raise BadInput(f"full_scale: there is no role '{role}' here: {', '.join(channels)}.")
        if value <= 0:
            raise BadInput(f"full_scale.{role}: it must be above zero.")
    for role, channel in channels.items():
        scale = settings.full_scale.get(role)
        made[role] = channel.in_unit("V", scale) if scale and channel.meta.get("full_scale") else channel
    return made


def overload_limits(
    channels: Mapping[str, Channel], settings: MethodSettings, order: Sequence[str]
) -> tuple[float | None, ...]:
    """Where each input overloads, in its channel's unit."""
    for role in settings.input_range:
        if role not in channels:
            raise BadInput(f"input_range: there is no role '{role}' here: {', '.join(channels)}.")
    made: list[float | None] = []
    for role in order:
        given = settings.input_range.get(role)
        value = None if given is None else parse(given, channels[role].unit, f"input_range.{role}")
        if value is not None and value <= 0:
            raise BadInput(f"input_range.{role}: it must be above zero.")
        made.append(value)
    return tuple(made)


def drive_block(amplitude: tuple[float, float], frequency: float, phase: float, rate: float, n: int) -> Floats:
    """A block of sine whose peak goes straight from one amplitude to the other; phase [rad] at its first sample."""
    t = np.arange(n) / rate
    envelope = amplitude[0] + (amplitude[1] - amplitude[0]) * np.arange(1, n + 1) / n
    return envelope * np.sin(phase + 2 * np.pi * frequency * t)
