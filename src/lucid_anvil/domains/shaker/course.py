"""The course of a shaker test: steps as they are written, as stretches with a time each."""

from __future__ import annotations

from dataclasses import dataclass, replace

from ...contracts.method import CourseItem
from ...core.control.sweep import Sweep, sweeping
from ...core.errors import BadInput
from .profiles import SineFile, SweepPart
from .settings import CourseStep, ShakerSettings

STARTUP = 2.0
"""s that starting up to level takes, about."""


@dataclass(frozen=True)
class Stretch:
    """One stretch as it will be driven."""

    kind: str
    """sweep, dwell, follow, random, history, pause or ask"""
    duration: float
    """s; of a cut sweep less than the sweep's own"""
    level: float = 0.0
    """dB re the profile"""
    sweep: Sweep | None = None
    frequency: float | None = None
    channel: str | None = None
    repeats: int = 1
    rung: bool = False
    """a rung of a ladder below its last"""
    step: int = 0
    """number of the step in the course, from 0"""
    text: str = ""
    """what a person is asked to do"""

    @property
    def rests(self) -> bool:
        """Whether nothing is driven in it."""
        return self.kind in ("pause", "ask")

    @property
    def label(self) -> str:
        at = f" {self.level:+g} dB".replace("-", "−") if self.level else ""
        if self.sweep is not None:
            arrow = "up" if self.sweep.stop > self.sweep.start else "down"
            return f"Sweep {arrow} {self.sweep.start:g} → {self.sweep.stop:g} Hz{at}"
        if self.kind == "dwell":
            return f"Dwell {self.frequency:g} Hz{at}"
        if self.kind == "follow":
            return f"Dwell on resonance{f' near {self.frequency:g} Hz' if self.frequency else ''}{at}"
        if self.kind == "random":
            return f"Random{at or ' 0 dB'}"
        if self.kind == "history":
            return f"Record ×{self.repeats}{at}"
        return f"Asks: {self.text}" if self.kind == "ask" else "Pause"


def sine_stretches(settings: ShakerSettings) -> list[Stretch]:
    """The stretches of a sine course; without a course, the profile's own sweeps. Raises BadInput."""
    held = settings.sine()
    steps = settings.course or [CourseStep(sweep=held.sweep.direction if held.sweep else "up")]
    made: list[Stretch] = []
    for number, step in enumerate(steps, 1):
        kind, where = step.kind(), f"course, {number}"
        if kind == "sweep":
            made += [replace(s, step=number - 1) for s in _sweeps(step, held, where)]
        elif kind in ("dwell", "follow"):
            made.append(replace(_dwell(step, held, where), step=number - 1))
        elif kind in ("pause", "ask"):
            made.append(_rest(step, number))
        else:
            raise BadInput(f"{where}: a sine profile has no {kind}: use sweep, dwell, follow, pause or ask.")
    return made


def _rest(step: CourseStep, number: int) -> Stretch:
    return Stretch(step.kind(), float(step.pause or 0), step=number - 1, text=(step.ask or "").strip())


def _sweeps(step: CourseStep, held: SineFile, where: str) -> list[Stretch]:
    usual = held.sweep or SweepPart()
    own = any(v is not None for v in (step.rate, step.duration, step.sweeps, step.total))
    part = SweepPart(
        law=step.law or usual.law, rate=step.rate if own else usual.rate,
        duration=step.duration if own else usual.duration, direction=step.sweep or usual.direction,
    )  # fmt: skip
    if own and step.rate is None and step.duration is None and (step.sweeps is None or step.total is None):
        part = part.model_copy(update={"rate": usual.rate, "duration": usual.duration})
    low, high = step.start or held.start, step.stop or held.stop
    if not held.start * (1 - 1e-9) <= low < high <= held.stop * (1 + 1e-9):
        raise BadInput(
            f"{where}: {low:g} Hz to {high:g} Hz is not within the profile's {held.start:g} to {held.stop:g} Hz."
        )
    count, total = (step.sweeps, step.total) if own else (held.sweeps, held.total)
    cycles = None if own else held.cycles
    if part.direction == "both" and count is None and total is None and cycles is None:
        count = 2.0  # there and back
    try:
        made = sweeping(
            low, high, law=part.law, rate=part.rate_si(), duration=part.duration,
            sweeps=count, total=total, cycles=cycles, direction=part.direction,
            whole=(step.fit if own else held.fit) == "whole",
        )  # fmt: skip
    except BadInput as problem:
        raise BadInput(f"{where}: {problem}") from None
    left, k, out = made.total, 0, []
    while left > 1e-6:
        one = made.at(k)
        out.append(Stretch("sweep", min(one.duration, left), step.level, one))
        left -= one.duration
        k += 1
        if k > 10000:
            raise BadInput(f"{where}: more than 10000 sweeps: mend its total or rate.")
    return out


def _dwell(step: CourseStep, held: SineFile, where: str) -> Stretch:
    frequency = (
        step.dwell if step.kind() == "dwell" else None if step.follow == "resonance" else float(step.follow or 0)
    )
    duration = step.duration if step.duration is not None else step.total
    if duration is None and step.cycles is not None:
        duration = step.cycles / (frequency or held.stop)
    if duration is None:
        raise BadInput(f"{where}: a dwell needs its duration, or cycles.")
    if frequency is not None and not held.start <= frequency <= held.stop:
        raise BadInput(f"{where}: {frequency:g} Hz is not within the profile's {held.start:g} to {held.stop:g} Hz.")
    return Stretch(step.kind(), duration, step.level, None, frequency, step.channel)


def level_stretches(settings: ShakerSettings, kind: str, usual: float) -> list[Stretch]:
    """The stretches of a random or time-history course: ladders become rungs. `usual` s of one stretch."""
    steps = settings.course or [CourseStep.model_validate({kind: True})]
    made: list[Stretch] = []
    for number, step in enumerate(steps, 1):
        if step.kind() in ("pause", "ask"):
            made.append(_rest(step, number))
            continue
        if step.kind() != kind:
            raise BadInput(f"course, {number}: {step.kind()} does not belong here: use {kind}, pause or ask.")
        rungs = step.ladder or [step.level]
        for i, level in enumerate(rungs):
            last = i == len(rungs) - 1
            if kind == "random":
                duration = (step.duration or usual) if last else (step.each or min(20.0, step.duration or usual))
            else:
                duration = usual * (step.repeats if last else 1)
            made.append(Stretch(kind, duration, float(level), repeats=step.repeats if last else 1, rung=not last,
                                step=number - 1))  # fmt: skip
    return made


def probe_items(settings: ShakerSettings) -> list[CourseItem]:
    """The probe run as it stands in the course."""
    probe = settings.control.probe
    if not probe.on:
        return []
    return [CourseItem("Probe run", probe.period * (probe.periods + 2) + 1.0)]


def items(settings: ShakerSettings, stretches: list[Stretch]) -> list[CourseItem]:
    """What faces show: the probe run, then every stretch."""
    made = probe_items(settings)
    for s in stretches:
        stop = None if s.sweep is None else float(s.sweep.frequency(s.duration))
        start = s.sweep.start if s.sweep else s.frequency
        made.append(
            CourseItem(
                s.label, s.duration + (0.0 if s.rests else STARTUP), start, None, None, stop, s.step, s.rung
            )
        )
    return made
