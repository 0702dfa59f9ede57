"""A comparison with a reference as it is run: preloads, series that rise and fall, mountings that are turned."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from ...contracts.method import CourseItem
from ...contracts.settings import Flag, Model, quantity
from ...core.quantities import parse
from .weights import Weights


class ComparisonCourse(Model):
    """How the steps are gone through where a bench runs them; a record that is there knows nothing of it."""

    top: Any = None
    """Highest step; nothing is run without it"""
    steps: int = Field(default=10, ge=3, le=50)
    """Rising steps, the highest counted, evenly apart"""
    preloads: int = Field(default=3, ge=0, le=10)
    """To the highest step and back before the first series; one after each turn"""
    drive: Literal["source", "hand"] = "source"
    """What brings the load up: the source, or a person who is told what to do"""
    wait: Annotated[float, quantity("s")] = 30.0
    """From when a step is reached until it is read (ISO 376, 7.5: 30 s at least)"""
    steady: Annotated[float, quantity("%")] = 0.02
    """Of the highest step, by which the reference may change in a second while it is read"""
    within: Annotated[float, quantity("%")] = 2.0
    """Of a step, by which the reference may be off it; readings are brought to the step"""
    read: Annotated[float, quantity("s")] = 2.0
    rate: Annotated[float, quantity("%")] = 10.0
    """Of the highest step, by which the load changes in a second"""
    typed: Flag = False
    """The reference is an instrument that no cable reaches: a person brings the load up by hand, and types what it
    shows at each step"""
    gauge: Flag = False
    """The reference is the rig's gauge, which is read over its own line"""
    weights: Weights | None = None
    """Dead weights, or a pressure balance, laid on by hand in place of a reference that is read: then its loads are the
    steps"""

    @model_validator(mode="after")
    def _sensible(self) -> ComparisonCourse:
        if min(self.wait, self.steady, self.within, self.read, self.rate) <= 0:
            raise ValueError("wait, steady, within, read and rate must be above zero.")
        if self.typed and self.weights is not None:
            raise ValueError("typed, weights: what is laid on is known: leave one of them out.")
        if self.gauge and (self.typed or self.weights is not None):
            raise ValueError("gauge: there is one reference only: leave out typed, or weights.")
        if self.typed and self.drive != "hand":
            raise ValueError("typed: only the unit tells the load then, which may be wrong: bring it up by hand"
                             " (drive: hand).")  # fmt: skip
        return self

    @property
    def unseen(self) -> bool:
        """Whether nothing but a person knows what the reference shows."""
        return self.typed or self.weights is not None

    @property
    def unrecorded(self) -> bool:
        """Whether no input of the record is the reference."""
        return self.unseen or self.gauge

    @property
    def by_hand(self) -> bool:
        return self.drive == "hand" or self.weights is not None

    def loads(self, unit: str) -> list[float] | None:
        """N or Pa of each rising step, the highest last; None where nothing is run. Raises BadInput."""
        if self.weights is not None:
            return self.weights.forces() if unit == "N" else self.weights.pressures()
        top = self.highest(unit)
        return None if top is None else [top * (i + 1) / self.steps for i in range(self.steps)]

    def highest(self, unit: str) -> float | None:
        """In N or Pa; None where nothing is run."""
        if self.weights is not None:
            return (self.weights.forces() if unit == "N" else self.weights.pressures())[-1]
        return None if self.top is None else abs(parse(self.top, unit, "course.top"))


class ForceCourse(ComparisonCourse):
    """With the mountings of ISO 376, 7.5: two series as mounted first, one in each other position."""

    positions: list[Annotated[float, quantity("deg")]] = Field(default_factory=lambda: [0.0, 120.0, 240.0])
    same: int = Field(default=2, ge=1, le=5)
    """Rising series in the first position"""
    falling: Flag = True
    """Series in the other positions come down step by step too"""
    creep: Flag = False
    """Five minutes at the highest step, at the end"""


class PressureCourse(ComparisonCourse):
    """Series that rise and fall (EURAMET cg-17, 6)."""

    series: int = Field(default=2, ge=1, le=10)


@dataclass(frozen=True)
class Hold:
    """A load that is gone to. One that is `read` is a step of its series."""

    load: float
    """N or Pa"""
    text: str
    read: bool = False
    series: int = 0
    rising: bool = True
    position: float = 0.0
    """°"""
    lasts: float | None = None
    """s that it is held, where that is not the course's own waiting"""
    creeps: bool = False


@dataclass(frozen=True)
class Turn:
    """A person turns the unit in its mounting."""

    position: float
    """°"""
    text: str


Stage = Hold | Turn
REST = 3.0
"""s that a preload is held, and rests"""
CREEPS = 305.0
"""s under load from which creep is read (ISO 376, 7.4.4)"""


def preloads(count: int, top: float) -> list[Stage]:
    made: list[Stage] = []
    for i in range(count):
        text = f"Preload {i + 1} of {count}"
        made += [Hold(top, text, lasts=REST), Hold(0.0, text, lasts=REST)]
    return made


def series(number: int, loads: Sequence[float], falls: bool, position: float, zeros: bool) -> list[Stage]:
    """One series; with `zeros` a reading at rest before and after it, which are no steps of its branches."""

    def at(load: float, rising: bool) -> Hold:
        return Hold(load, f"Series {number}, {'rising' if rising else 'falling'}", True, number, rising, position)

    made: list[Stage] = [at(f, True) for f in ([0.0, *loads] if zeros else loads)]
    if falls:
        made += [at(f, False) for f in (reversed(loads[:-1]) if zeros else reversed(loads))]
    if zeros:
        made.append(at(0.0, False))
    return made


def force_stages(course: ForceCourse) -> list[Stage]:
    """All of a force comparison in its order (ISO 376, 7.5); nothing where it has no highest step."""
    loads = course.loads("N")
    if loads is None:
        return []
    top = loads[-1]
    first, others = course.positions[0], course.positions[1:]
    made = preloads(course.preloads, top)
    number = 0
    for _ in range(course.same):
        number += 1
        made += series(number, loads, course.falling and not others and number == course.same, first, True)
    for position in others:
        number += 1
        made.append(Turn(position, f"Take the load off, turn the unit to {position:g}° in its mounting, then go on."))
        made += preloads(min(course.preloads, 1), top)
        made += series(number, loads, course.falling, position, True)
    if course.creep:
        made.append(Hold(top, "Creep", lasts=CREEPS, creeps=True))
    return made


def pressure_stages(course: PressureCourse, low: float, top: float) -> list[Stage]:
    """All of a pressure comparison; both ends are steps of it."""
    loads = [low + (top - low) * i / course.steps for i in range(course.steps + 1)]
    if course.weights is not None:
        loads = [0.0, *course.weights.pressures()]
    made = preloads(course.preloads, top)
    for number in range(1, course.series + 1):
        made += series(number, loads, True, 0.0, False)
    return made


def label_of(stage: Stage) -> str:
    """The stretch of the course that a stage belongs to."""
    if isinstance(stage, Turn):
        return f"Turn to {stage.position:g}°"
    return stage.text.partition(",")[0] if stage.read else stage.text.split(" ")[0]


def stretches(stages: Sequence[Stage]) -> list[tuple[int, float]]:
    """Of each stage the number of its stretch, and which share of that is behind it."""
    groups: list[list[int]] = []
    for i, stage in enumerate(stages):
        if groups and label_of(stages[i - 1]) == label_of(stage):
            groups[-1].append(i)
        else:
            groups.append([i])
    return [(g, k / len(group)) for g, group in enumerate(groups) for k in range(len(group))]


def duration(course: ComparisonCourse, stages: Sequence[Stage], top: float) -> list[CourseItem]:
    """What will happen, a line a series; a turn takes as long as a person takes."""
    made: list[float] = []
    names: list[str] = []
    load = 0.0
    for stage, (item, _) in zip(stages, stretches(stages), strict=True):
        if item == len(made):
            made.append(0.0)
            names.append(label_of(stage))
        if isinstance(stage, Hold):
            rests = course.wait + course.read if stage.lasts is None else stage.lasts
            made[item] += abs(stage.load - load) / top * 100 / course.rate + rests
            load = stage.load
    return [CourseItem(name, seconds) for name, seconds in zip(names, made, strict=True)]
