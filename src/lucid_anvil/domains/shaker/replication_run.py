"""Performing a time-history replication: probe run, passes from low level upwards, repeats at full level."""

from __future__ import annotations

import math
from collections.abc import Generator, Mapping
from dataclasses import asdict, dataclass, replace
from typing import Any

import numpy as np

from ...contracts.method import LEAD, CourseItem, Facts, Got, Performance, Want
from ...core.control import history
from ...core.control.plant import LoopResponse
from ...core.control.replication import (
    Target,
    band_of,
    better,
    compare,
    ends_faded,
    in_step,
    limited,
    make_target,
    plant_on,
    through_inverse,
)  # fmt: skip
from ...core.signal.sinefit import Floats
from .course import Stretch, items, level_stretches
from .profiles import prepare_history
from .run import ShakerRun, input_rows
from .settings import ShakerSettings

LADDER = (-12.0, -6.0, -3.0)
"""dB, the passes before full level when the course says nothing."""
POINTS = 700
"""Points of the live picture of a pass."""


def record_duration(settings: ShakerSettings) -> float:
    """s, the record and the rest around it."""
    from pathlib import Path

    made, _ = prepare_history(settings.time(), Path("."))
    return made.after.acceleration.size / made.after.rate + 1.2


def stretches(settings: ShakerSettings) -> list[Stretch]:
    """One a pass; the last has its repeats."""
    usual = record_duration(settings)
    if settings.course:
        return level_stretches(settings, "history", usual)
    passes = settings.control.passes
    ladder = list(LADDER)[: max(passes - 1, 0)]
    made = [Stretch("history", usual, level, rung=True) for level in ladder]
    return [*made, Stretch("history", usual * (passes - len(ladder)), repeats=passes - len(ladder))]


def course(settings: ShakerSettings) -> list[CourseItem]:
    return items(settings, stretches(settings))


def target_for(settings: ShakerSettings, rate: float, block: int, lowest: float, highest: float) -> Target:
    """The record at the bench's rate, as a target in its control band."""
    from pathlib import Path

    made, _ = prepare_history(settings.time(), Path("."))
    x = history.resample(made.after.acceleration, made.after.rate, rate)
    band = settings.control.band or band_of(x, rate, lowest, min(highest, 0.42 * rate, 0.42 * made.after.rate))
    return make_target(x, rate, band, block)


def predict(loop: LoopResponse, facts: Facts, target: Target, top: float, roles: list[str]
            ) -> tuple[list[tuple[str, float, float, float, str]], list[str]]:  # fmt: skip
    """What full level would use: the peaks of the drive, the current and the motion that the response foretells."""
    drive = top * through_inverse(target.wave, target, loop)
    f: Floats = np.asarray(np.fft.rfftfreq(drive.size, 1 / target.rate))
    u = np.fft.rfft(drive)
    model = np.array(facts.model)

    def peak(h: Any) -> float:
        return float(np.max(np.abs(np.fft.irfft(u * h, drive.size))))

    monitored = any(x.kind == "current" for x in facts.inputs)
    current = plant_on(loop, loop.response.shape[0] - 1, f) if monitored else np.interp(f, model[:, 0], model[:, 2])
    inside = slice(target.offset, target.offset + target.length)
    motion = history.Motion(top * target.wave[inside], target.rate)
    a = float(np.max(np.abs(motion.acceleration)))
    rows = []
    for name, value, key, unit in (
        ("Drive", float(np.max(np.abs(drive))), "", "V"), ("Coil current", peak(current), "current", "A"),
        ("Amplifier voltage", peak(np.interp(f, model[:, 0], model[:, 3])), "voltage", "V"),
        ("Stroke", motion.peak_to_peak(), "stroke", "m"),
        ("Velocity", float(np.max(np.abs(motion.velocity))), "velocity", "m/s"),
        ("Force", a * facts.limits.get("moving_mass", 0.0), "force", "N"), ("Acceleration", a, "acceleration", "m/s²"),
    ):  # fmt: skip
        limit = facts.limits.get(key, facts.source_range if not key else 0.0)
        if limit:
            rows.append((name, value / limit, value, limit, unit))
    rows += input_rows(facts, roles, np.array([peak(plant_on(loop, i, f)) for i in range(len(roles))]))
    return rows, [f"Control band {target.band[0]:.4g} Hz to {target.band[1]:.4g} Hz."]


def after_pass(
    drive: Floats, y: Floats, played: Floats, level: float, target: Target, plant: LoopResponse
) -> dict[str, Any]:
    """The bettered drive of full level, and what the pass showed."""
    shown = limited(in_step(y, played, drive, target.rate), target)
    figures, moved = compare(shown, level * target.wave, target)
    made = better(drive, shown, level, target, plant)
    return {"drive": ends_faded(made, target), "figures": asdict(figures), "picture": picture(target, level, moved)}


def picture(target: Target, level: float, moved: Floats) -> dict[str, Any]:
    """Target and response, the extremes of each stretch, for faces."""
    inside = slice(target.offset, target.offset + target.length)
    count = max(1, target.length // POINTS)
    n = target.length // count * count

    def extremes(x: Floats) -> list[float]:
        rows = x[inside][:n].reshape(-1, count)
        top, low = rows.max(axis=1), rows.min(axis=1)
        return [float(f"{v:.4g}") for pair in zip(low, top, strict=True) for v in pair]

    t = (np.arange(n // count)[:, None] + np.array([0.25, 0.75])) * count / target.rate
    return {
        "t": [float(f"{v:.6g}") for v in t.ravel()], "target": extremes(level * target.wave),
        "control": extremes(moved), "error": extremes(moved - level * target.wave),
    }  # fmt: skip


@dataclass
class ReplicationRun(ShakerRun):
    """State of a replication."""

    target: Target | None = None
    drive: Floats | None = None
    item: int = 0
    passes: int = 0

    def play(self, level: float, stretch: Stretch, repeat: int, counted: bool = True) -> Generator[Want, Got, Floats]:
        """One pass at a level factor, `counted` as one of the plan's; the control (mean of the control points) and the
        drive as played, (2, n) as long as the target."""
        assert self.target is not None and self.drive is not None
        wave = self.drive * level
        limit = 0.98 * self.facts.source_range
        wave = np.clip(wave, -limit, limit)
        count = wave.size // self.n
        first = self.number
        blocks = self.target.wave.reshape(count, self.n)
        power = np.mean(blocks**2, axis=1)
        pairs = level * np.sqrt((power + np.concatenate([[0.0], power[:-1]])) / 2)
        top = float(pairs.max())
        mark: tuple[Any, ...] = ({
            "kind": "history", "t": self.time, "level": 20 * math.log10(level), "item": self.item, "rung": stretch.rung,
            "counted": counted,
            "pass": self.passes, "offset": self.target.offset / self.rate, "length": self.target.length / self.rate,
            "band": list(self.target.band),
        },)  # fmt: skip
        held = []
        for k in range(count + LEAD):
            drive = wave[k * self.n : (k + 1) * self.n] if k < count else np.zeros(self.n)
            more: dict[str, Any] = {}
            if k < count:
                more["bounds"] = (0.0, 2.0 * top, 2 * self.span)
                if pairs[k] > 0.2 * top:
                    more["expect"] = float(pairs[k])
            if k % 6 == 0:
                more["live"] = {
                    "stage": "history", "item": self.item, "at": min(k, count) * self.span, "of": count * self.span,
                    "pass": self.passes + 1, "repeat": repeat, "level_db": 20 * math.log10(level),
                }  # fmt: skip
            rows = yield from self.turn(drive, marks=mark, **more)
            mark = ()
            assert self.got is not None
            if self.got.index >= first:
                held.append(np.array([rows[: len(self.controls)].mean(axis=0), rows[-1]]))
        self.passes += counted
        return np.concatenate(held, axis=1)[:, : wave.size]


def perform(settings: ShakerSettings, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
    """The run. `start` continues at a stretch's number, with a first drive from the probe run."""
    lowest, highest = facts.limits.get("lowest", 5.0), facts.limits.get("highest", 0.42 * facts.rate)
    run = ReplicationRun(settings, facts)
    plan = stretches(settings)
    target = yield from run.ask(
        target_for, (settings, run.rate, run.n, lowest, highest), {"stage": "probe", "part": "record"}
    )
    run.target = target
    top = max((10 ** (s.level / 20) for s in plan if not s.rests), default=1.0)
    level = settings.control.probe.level or max(0.3 * target.rms, 0.02 * float(np.max(np.abs(target.wave))))
    ready = yield from run.probe(target.band, level, predict, (target, top, run.roles))
    if not ready:
        return
    if run.plant is None:
        yield from run.refuse("probe", "A replication needs its probe run: switch it on", run.controls[0])
        return
    run.drive = yield from run.ask(_first_drive, (target, run.plant))
    first = int((start or {}).get("item", 0))
    for number, stretch in enumerate(plan):
        if number < first:
            continue
        run.item = number
        if stretch.rests:
            yield from run.rest(stretch, number, float((start or {}).get("at", 0.0)) if number == first else 0.0)
            continue
        done = int((start or {}).get("repeat", 0)) if number == first else 0
        if start is not None and number == first and done < stretch.repeats:
            # The drive is the probe run's again: it is bettered at half the level before the level is gone to.
            half = 0.5 * 10 ** ((stretch.level + run.level_by) / 20)
            y, played = yield from run.play(half, replace(stretch, rung=True), 0, counted=False)
            made = yield from run.ask(after_pass, (run.drive, y, played, half, target, run.plant))
            run.drive = made["drive"]
        for repeat in range(done, stretch.repeats):
            while run.hold:
                yield from run.turn(np.zeros(run.n), live={"stage": "held", "item": number})
            if run.skip:
                run.skip = False
                break
            factor = 10 ** ((stretch.level + run.level_by) / 20)
            y, played = yield from run.play(factor, stretch, repeat)
            made = yield from run.ask(after_pass, (run.drive, y, played, factor, target, run.plant))
            off = made["figures"]["rms_error"]
            if off > settings.control.following_abort:
                yield from run.refuse("following", "The record is not followed", run.controls[0], off,
                                      settings.control.following_abort, "%")  # fmt: skip
                return
            run.drive = made["drive"]
            live = {
                "stage": "history", "item": number, "pass": run.passes, "level_db": 20 * math.log10(factor),
                "figures": made["figures"], "history": made["picture"],
            }  # fmt: skip
            yield from run.turn(np.zeros(run.n), live=live, position={"item": number, "repeat": repeat + 1})


def _first_drive(target: Target, plant: LoopResponse) -> Floats:
    return ends_faded(through_inverse(target.wave, target, plant), target)
