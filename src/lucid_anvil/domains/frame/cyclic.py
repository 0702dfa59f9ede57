"""Pulses: stiffness, energy and set over the number of cycles."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, model_validator

from ...contracts.finding import Curve, Finding
from ...contracts.method import Axis, BenchFacts, CourseItem, Facts, Input, Performance, Thinned
from ...contracts.recording import Channel, Floats
from ...contracts.samples import Readings, listed, points, share_of, unstated
from ...contracts.settings import Flag, Model, quantity
from ...contracts.sketch import loop
from ...core.formulas import Formula
from ...core.quantities import parse
from .columns import Column, computed, fit, formulas
from .cycle_pieces import Piece, jumps_in, piece_of, turns_in
from .cyclic_before import Before
from .pulse_shapes import Shape, shape_of
from .shared import FrameMethod, FrameSettings, Specimen, sensed

MANY = 1000
"""Pulses from which on what is drawn over them goes by decades"""
UNITS = {"force": "N", "length": "m", "stress": "Pa", "strain": "m/m"}
AUTO = 10_000
"""Pulses from which on the raw record is thinned where nobody says otherwise"""
MOST_POINTS = 20_000
"""Cycles that a curve shows one by one; of more it shows as many in each decade"""
KEYS = {
    "cycles": ("Whole cycles", ""),
    "stiffness_initial": ("Stiffness, initial", "N/m"),
    "stiffness_final": ("Stiffness, final", "N/m"),
    "cycles_to_stop": ("Cycles until the stiffness falls below its share", ""),
}


class PulseBlock(Model):
    """Cycles of one size; a force or a length, as the pulses' control says."""

    mean: Any
    amplitude: Any
    cycles: int = Field(ge=1)


class PulseSettings(Model):
    """How a specimen is pulsed where a frame is driven; a record that is there knows nothing of it."""

    control: Literal["force", "length", "stress", "strain"] = "force"
    """A stress and a strain become a force and a length by the specimen's sizes"""
    shape: Literal["haversine", "sine", "triangle", "square", "points"] = "haversine"
    points: list[list[float]] = Field(default_factory=list)
    """[time, load] of one pulse, from one least load to the next, in any units: a course that was recorded, say"""
    pause: Annotated[float, quantity("s")] = 0.0
    """Between pulses, at the load that they begin with"""
    mean: Any = "1.2 kN"
    """Pressed, counted positive; a force, length, stress or strain, as control says"""
    amplitude: Any = "1 kN"
    """From the mean to a peak"""
    frequency: Annotated[float, quantity("Hz")] = 1.0
    cycles: int = Field(default=200, ge=1)
    blocks: list[PulseBlock] = Field(default_factory=list)
    """{mean, amplitude, cycles} in turn, in place of one mean, amplitude and number of cycles: a spectrum"""
    repeats: int = Field(default=1, ge=1)
    """Of the blocks, one after the other"""
    stiffness: Annotated[float, quantity("N/m")] = 4e5
    """About what the specimen has: the first cycles begin with it"""
    pressed: Flag = True
    """Whether the crosshead goes below zero to load it; off: it pulls"""
    rest: Annotated[float, quantity("s")] = 1.0
    """Before the pulses, in which zero is taken"""
    before: list[Before] = Field(default_factory=list)
    """{do: contact, load}, {do: hold, load, steady, over, most}, {do: transducers, within, channels}: stages in turn
    between the zero and the pulses, each with its own end"""
    keep: Literal["auto", "all", "decades"] = "auto"
    """Of the raw record: all of it, or every tenth, hundredth ... pulse by decades with its neighbours, beside what
    every pulse showed; auto: by decades from 10 000 pulses on"""
    keep_first: int = Field(default=100, ge=10)
    """Pulses that are kept whole where the rest is kept by decades: so many first, and so many before any stop"""

    @model_validator(mode="after")
    def _sensible(self) -> PulseSettings:
        unit = UNITS[self.control]
        self.mean, self.amplitude = (parse(getattr(self, k), unit, k) for k in ("mean", "amplitude"))
        if min(self.frequency, self.stiffness, self.amplitude, self.rest) <= 0 or self.pause < 0:
            raise ValueError("amplitude, frequency, stiffness and rest must be above zero, pause not below.")
        if bool(self.points) != (self.shape == "points"):
            raise ValueError("points and shape: give points with `shape: points`, or neither.")
        self.shaped()
        if self.amplitude > self.mean:
            raise ValueError("amplitude: beyond the mean the plates would part: raise the mean.")
        if self.repeats > 1 and not self.blocks:
            raise ValueError("repeats: there are no blocks to be repeated.")
        for i, one in enumerate(self.blocks, start=1):
            one.mean, one.amplitude = (parse(getattr(one, k), unit, f"block {i}, {k}") for k in ("mean", "amplitude"))
            if not 0 < one.amplitude <= one.mean:
                raise ValueError(f"block {i}: its amplitude must lie above zero and not beyond its mean.")
        return self

    def shaped(self) -> Shape:
        """The course of a pulse and the pause behind it. Raises BadInput."""
        return shape_of(self.shape, self.pause * self.cycles_a_second, self.points)

    @property
    def cycles_a_second(self) -> float:
        """Pulses with their pauses."""
        return 1 / (1 / self.frequency + self.pause)

    def by_sizes(self, area: float | None, length: float | None) -> PulseSettings:
        """The same in force or length. Raises ValueError where the size that this takes is missing."""
        if self.control in ("force", "length"):
            return self
        by = area if self.control == "stress" else length
        if by is None:
            what = "area" if self.control == "stress" else "parallel_length"
            raise ValueError(f"specimen: its {what} is missing: pulses of {self.control} need it.")
        blocks = [b.model_copy(update={"mean": by * b.mean, "amplitude": by * b.amplitude}) for b in self.blocks]
        return self.model_copy(update={"control": "force" if self.control == "stress" else "length", "blocks": blocks,
                                       "mean": by * self.mean, "amplitude": by * self.amplitude})  # fmt: skip

    @property
    def sizes(self) -> list[PulseBlock]:
        """The blocks, one where none are given."""
        return self.blocks or [PulseBlock(mean=self.mean, amplitude=self.amplitude, cycles=self.cycles)]

    @property
    def total(self) -> int:
        """Cycles."""
        return self.repeats * sum(b.cycles for b in self.sizes)

    def number(self, cycle: int) -> int:
        """Of the block that a cycle (from 0) belongs to, counted through the repeats."""
        around, within = divmod(cycle, self.total // self.repeats)
        for i, one in enumerate(self.sizes):
            if within < one.cycles:
                return around * len(self.sizes) + i
            within -= one.cycles
        raise AssertionError("a cycle lies in one of the blocks")

    def size(self, cycle: int) -> PulseBlock:
        """The block of a cycle."""
        return self.sizes[self.number(min(cycle, self.total - 1)) % len(self.sizes)]

    @property
    def sign(self) -> float:
        return -1.0 if self.pressed else 1.0

    @property
    def thin(self) -> bool:
        """Whether not all of the raw record is kept."""
        return self.keep == "decades" or (self.keep == "auto" and self.total >= AUTO)

    def keeps(self, cycle: int, begun: int = 0) -> bool:
        """Whether a cycle, from 0, belongs to the thinned raw record of a take that began with another one."""
        if cycle < self.keep_first or cycle < begun + self.keep_first // 10:
            return True
        step = 10 ** (int(math.log10(cycle / self.keep_first)) + 1)
        return min(cycle % step, -cycle % step) <= 1

    @property
    def kept_about(self) -> int:
        """Cycles of the raw record."""
        decades = math.log10(max(self.total / self.keep_first, 1.0))
        return round(self.keep_first * (2 + 2.7 * decades))


class CyclicSettings(FrameSettings):
    """How cycles are told apart, and what ends a test."""

    specimen: Specimen = Field(default_factory=Specimen)
    frequency: Annotated[float, quantity("Hz")] | None = None
    period: Annotated[float, quantity("s")] | None = None
    """Of one cycle, instead of a frequency; found when both are missing"""
    initial_cycle: int = 5
    """Number of the cycle whose stiffness is the initial one"""
    stop_share: Annotated[float, quantity("%")] | None = None
    """Share of the initial stiffness below which the specimen counts as spent"""
    stiffness: Literal["secant", "harmonic"] = "secant"
    columns: list[Column] = Field(default_factory=list)
    """{name, formula, unit} of one's own, computed for every cycle"""
    pulse: PulseSettings = Field(default_factory=PulseSettings)

    @model_validator(mode="after")
    def _sensible(self) -> CyclicSettings:
        if self.frequency is not None and self.period is not None:
            raise ValueError("frequency and period: give one of them.")
        if any(v is not None and v <= 0 for v in (self.frequency, self.period)):
            raise ValueError("frequency and period must be above zero.")
        if self.initial_cycle < 1:
            raise ValueError("initial_cycle: cycles are counted from 1.")
        if self.stop_share is not None and not 0 < self.stop_share < 100:
            raise ValueError("stop_share: it must lie between 0 and 100 %.")
        if self.columns:
            formulas(self.columns, self.specimen)
        self.pulse = self.pulse.by_sizes(self.specimen.section(), self.specimen.parallel_length)
        return self


class Cyclic(FrameMethod):
    """The method as the registry knows it."""

    name = "cyclic"
    title = "Pulses, fatigue"
    steady = True
    trends = True
    roles = ("force", "displacement")
    more = True
    reads_only = False
    kinds = ("length",)
    about = "How a specimen's stiffness, loss and set change from pulse to pulse, in a load frame or from a record"
    sketch = (loop(lambda t: (0.5 + 0.42 * math.cos(2 * math.pi * t), 0.5 + 0.4 * math.cos(2 * math.pi * t - 0.35))),)
    usual = {"pulse": {"mean": "1.2 kN", "amplitude": "1 kN", "frequency": "1 Hz", "cycles": 60}}
    walk_round = (
        {"key": "plates", "text": "Specimen between its plates, in the middle"},
        {"key": "travel", "text": "End stops set; nobody within reach"},
        {"key": "door", "text": "Guard door, emergency stop", "sense": "interlocks"},
    )
    told = ("pulses",)
    Settings = CyclicSettings
    readings = {**listed(KEYS), "permanent_displacement": "Permanent change, of every length role too [m]"}
    curves = {
        "stiffness": "Stiffness [N/m] over cycle number",
        "energy": "Energy lost [J] over cycle number",
        "force_max": "Force, largest [N]; force_min, force_swing and every length likewise",
    }
    views = (
        Axis("stiffness", "Stiffness", ("stiffness",), "Cycle", "N/m"),
        Axis("energy", "Energy", ("energy",), "Cycle", "J"),
        Axis("force", "Force", ("force_max", "force_min"), "Cycle", "N"),
        Axis("lengths", "Lengths", ("*_max", "*_min", "displacement_max", "displacement_min"), "Cycle", "m"),
        Axis("own", "Own columns", ("own_*",), "Cycle", "", single=True),
    )

    def shown(self, settings: CyclicSettings) -> tuple[Axis, ...]:
        """A column has a view of its own, since it has a unit of its own; very many cycles go by decades."""
        columns = formulas(settings.columns, settings.specimen)
        own = (Axis(c.key, c.name, (c.key,), "Cycle", one.unit) for c, one in columns)
        made = (*(v for v in self.views if v.key != "own"), *own)
        return tuple(replace(v, x_log=settings.pulse.total >= MANY) for v in made)

    def evaluate(
        self, record: Mapping[str, Channel], settings: CyclicSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        return self.together([(record, settings, marks)])

    def together(
        self, parts: Sequence[tuple[Mapping[str, Channel], CyclicSettings, Sequence[Mapping[str, Any]]]]
    ) -> Finding:
        """Takes that went on from one another count as one: cycle after cycle, the broken ones between left out."""
        settings = parts[-1][1]
        pieces = [piece_of(record, settings, marks) for record, _, marks in parts]
        keys = {**KEYS, **{f"permanent_{r}": (f"Permanent change, {r}", "m") for r in pieces[-1].lengths}}
        columns = formulas(settings.columns, settings.specimen)
        keys |= {c.key: (f"{c.name}, last cycle", one.unit) for c, one in columns}
        made = Readings(keys, settings)
        notes = list(dict.fromkeys(n for p in pieces for n in p.notes))
        whole = [p for p in pieces if p.count]
        if not whole:
            why = "there is no whole cycle in this record"
            made.put("cycles", 0.0, 0.0)
            made.absent([k for k in keys if k != "cycles"], why)
            return Finding(self.name, made.all(), notes=(why,))
        stiffness = np.concatenate([p.stiffness for p in whole])
        turns = turns_in(whole)
        mixed = sorted({t + d for t in turns if t for d in (-1, 0)})
        _readings(made, whole, stiffness, mixed, settings)
        notes += jumps_in(stiffness, turns)
        if mixed:
            where = ", ".join(str(m + 1) for m in mixed[:8:2]) + (" …" if len(mixed) > 8 else "")
            notes.append(f"About cycles {where} the pulses changed their size: what those show is of two.")
        notes += unstated(settings.uncertainty, "force", "displacement")
        slow = [m for _, _, marks in parts for m in marks if m.get("kind") == "fastest"]
        if any(m.get("kind") == "pulsed" and m.get("why") == "break" for m in parts[-1][2]):
            notes.append("It ended where next to no force was left at a length that had borne it: the specimen broke,"
                         " or the load cell or its lead did.")  # fmt: skip
        for m in (m for _, _, marks in parts for m in marks if m.get("kind") == "before"):
            if m["why"] in ("not steady", "skipped"):
                what = "did not rest in its time" if m["why"] == "not steady" else "was skipped"
                notes.append(f"Before the pulses, stage {m['number']} ({m['stage']}) {what}.")
        if slow:
            notes.append(f"From cycle {slow[0]['cycle']} on the crosshead could go no faster: the pulses lost their"
                         " shape, and further on their size.")  # fmt: skip
        notes += [p.said for p in whole]
        if len(pieces) > 1:
            notes.append(f"It went on {len(pieces) - 1} times in another take; the cycles in which it stopped and began"
                         " are not counted, and what the specimen did meanwhile is in no record.")  # fmt: skip
        curves = _curves(whole, stiffness, settings)
        own, missing = _own(made, columns, curves, settings)
        return Finding(self.name, made.all(), (*curves, *own), notes=(*notes, *missing))

    def fits(self, settings: CyclicSettings, inputs: Sequence[Input]) -> None:
        super().fits(settings, inputs)
        fit(formulas(settings.columns, settings.specimen), [i.role for i in inputs])

    # --- running ---------------------------------------------------------------------------------------------

    def course(self, settings: CyclicSettings) -> list[CourseItem]:
        p = settings.pulse
        begin = [CourseItem("Zero", p.rest), *(CourseItem(b.words, b.about) for b in p.before)]
        if not p.blocks:
            whole = CourseItem(f"{p.cycles} pulses, {p.shape}", p.cycles / p.cycles_a_second, p.cycles_a_second)
            return [*begin, whole]
        scale, unit = (1e-3, "kN") if p.control == "force" else (1e3, "mm")
        words = [f"{b.cycles} × {scale * b.mean:.3g} ± {scale * b.amplitude:.3g} {unit}" for b in p.blocks]
        hertz = p.cycles_a_second
        held = [CourseItem(w, b.cycles / hertz, hertz) for w, b in zip(words, p.blocks, strict=True)]
        from .cyclic_run import MOST_SHOWN

        if p.repeats * len(held) > MOST_SHOWN:
            whole = CourseItem(f"{p.repeats} times {len(held)} blocks", p.total / p.cycles_a_second, p.cycles_a_second)
            return [*begin, whole]
        return [*begin, *held * p.repeats]

    def thinned(self, settings: CyclicSettings, facts: Facts) -> Thinned | None:
        p = settings.pulse
        if not p.thin:
            return None
        from .cyclic_run import CONTACT, seen_roles

        units = {"cycle": "", "t": "s", "energy": "J", "ratio": "N/m"}
        for role in seen_roles(facts):
            units |= {f"{role}_{way}": "N" if role == "force" else "m" for way in ("max", "min")}
        before = sum(max(b.most if b.do == "hold" else 0.0, b.about) for b in p.before)
        whole = p.rest + before + 8 * CONTACT + p.kept_about / p.cycles_a_second
        return Thinned(whole, p.keep_first / p.cycles_a_second, units)

    def perform(self, settings: CyclicSettings, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
        from .cyclic_run import perform

        return perform(settings, facts, start)

    def feasible(self, settings: CyclicSettings, facts: Facts) -> None:
        from .cyclic_run import Pulses

        Pulses(settings, facts)

    def fill(self, given: dict[str, Any], bench: BenchFacts) -> dict[str, Any]:
        return sensed(super().fill(given, bench), bench)


METHOD = Cyclic()


def shown_cycles(count: int) -> Any:
    """Indices of the cycles that curves show: all, or as many in each decade and the last hundred where they are very
    many."""
    if count <= MOST_POINTS:
        return np.arange(count)
    dense = np.geomspace(1, count, MOST_POINTS // 8).astype(int) - 1
    return np.unique(np.concatenate([np.arange(1000), dense, np.arange(count - 100, count)]))


def _curves(pieces: Sequence[Piece], stiffness: Floats, settings: CyclicSettings) -> tuple[Curve, ...]:
    at = shown_cycles(stiffness.size)
    number = tuple(float(i) for i in at + 1)
    share = share_of(settings.uncertainty, "force", "displacement")
    curves = [
        Curve("stiffness", f"Stiffness, {settings.stiffness}", number, points(stiffness[at]), "", "N/m",
              points(share * stiffness[at]) if share else None, 2.0 if share else None),
        Curve("energy", "Energy lost", number, points(np.concatenate([p.energy for p in pieces])[at]), "", "J"),
    ]  # fmt: skip
    for role in ("force", *pieces[-1].lengths):
        if not all(role in p.tops for p in pieces):
            continue
        high, low = (np.concatenate([p.tops[role][k] for p in pieces]) for k in (0, 1))
        unit = "N" if role == "force" else "m"
        for way, values in (("max", high), ("min", low), ("swing", high - low)):
            label = f"{role}, {'largest' if way == 'max' else 'smallest' if way == 'min' else 'swing'}"
            curves.append(Curve(f"{role}_{way}", label.capitalize(), number, points(values[at]), "", unit))
    return tuple(curves)


def _own(
    made: Readings, columns: Sequence[tuple[Column, Formula]], curves: Sequence[Curve], settings: CyclicSettings
) -> tuple[list[Curve], list[str]]:  # fmt: skip
    """Curves of columns of one's own, and what could not be computed; what each is in the last cycle becomes a reading,
    of which nobody states how sure it is."""
    cycle = {c.key: np.array([np.nan if v is None else v for v in c.y], float) for c in curves}
    cycle["cycle"] = np.array(curves[0].x, float)
    own, missing = [], []
    for column, one, values in computed(columns, cycle, settings.specimen):
        if values is None:
            lacks = ", ".join(n for n in one.names if n not in cycle)
            missing.append(f"{column.title}: {lacks} is not known here.")
            made.put(column.key, None, why=f"{lacks} is not known here")
            continue
        own.append(Curve(column.key, column.title, curves[0].x, points(values), "", one.unit))
        made.put(column.key, float(values[-1]))
    return own, missing


def _readings(
    made: Readings, pieces: Sequence[Piece], stiffness: Floats, mixed: Sequence[int], settings: CyclicSettings
) -> None:  # fmt: skip
    """`mixed`: numbers of cycles in which the pulses changed their size: they end nothing."""
    count, first = int(stiffness.size), settings.initial_cycle
    share = share_of(settings.uncertainty, "force", "displacement")

    def doubt(i: int) -> float:
        # What neighbours differ by is scatter; what all of them change by is the specimen.
        near = stiffness[max(min(i - 3, count - 7), 0) :][:7]
        rough = float(np.std(np.diff(near, 2))) / np.sqrt(6) if near.size >= 5 else 0.0
        return float(np.hypot(2 * rough, share * stiffness[i]))

    made.put("cycles", float(count), 0.0)
    few = f"there are {count} whole cycles, fewer than initial_cycle"
    initial = None
    if count >= first:
        initial = float(stiffness[first - 1])
        made.put("stiffness_initial", initial, doubt(first - 1))
    else:
        made.put("stiffness_initial", None, why=few)
    made.put("stiffness_final", float(stiffness[-1]), doubt(count - 1))
    if settings.stop_share is None or initial is None:
        made.put("cycles_to_stop", None, why="no stop_share is given" if settings.stop_share is None else few)
    else:
        spent = stiffness < settings.stop_share / 100 * initial
        spent[[m for m in mixed if m < count]] = False
        below = np.flatnonzero(spent[first:])
        if below.size:
            made.put("cycles_to_stop", float(first + 1 + below[0]), 0.0)
        else:
            made.put("cycles_to_stop", None, why="the stiffness stays above its share")
    for role in pieces[-1].lengths:
        if role not in pieces[0].rests:
            made.put(f"permanent_{role}", None, why="it was not measured from the beginning")
            continue
        change = pieces[-1].rests[role][1] - pieces[0].rests[role][0]
        stated = settings.uncertainty.get(role)
        made.put(f"permanent_{role}", change, None if stated is None else abs(change) * stated / 100)
