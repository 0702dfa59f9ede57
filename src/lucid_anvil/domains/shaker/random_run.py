"""Performing a random test: probe run, level ladder, full level for its time."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Generator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

from ...contracts.method import LEAD, CourseItem, Facts, Got, Performance, Want
from ...core.control.plant import LoopResponse
from ...core.control.randomloop import RandomLoop
from ...core.control.randomprofile import RandomProfile
from ...core.signal.rounding import rounded
from ...core.signal.sinefit import Floats
from .course import Stretch, items, level_stretches
from .edges import early_abort
from .run import ShakerRun, input_rows
from .settings import ShakerSettings, with_tolerance

USUAL = 60.0
"""s of a random stretch when nothing is said."""
RAMP = 12.0
"""dB/s at which the level moves."""
QUIET = -26.0
"""dB below which the level is too near to the noise to be guarded."""


def stretches(settings: ShakerSettings) -> list[Stretch]:
    return level_stretches(settings, "random", settings.random().duration or USUAL)


def course(settings: ShakerSettings) -> list[CourseItem]:
    return items(settings, stretches(settings))


def spacing(settings: ShakerSettings, profile: RandomProfile) -> float:
    """Hz between lines: as chosen, else a 1-2-5 value that gives some 400 to 1000 lines and four below the start."""
    if settings.control.line_spacing:
        return settings.control.line_spacing
    wanted = min(profile.stop / 400, profile.start / 4)
    decade = 10.0 ** math.floor(math.log10(wanted))
    return max(v * decade for v in (1.0, 1.25, 2.0, 2.5, 5.0) if v * decade <= wanted * (1 + 1e-9))


def predict(loop: LoopResponse, facts: Facts, profile: RandomProfile, controls: int, clipping: float, top: float,
            roles: list[str]) -> tuple[list[tuple[str, float, float, float, str]], list[str]]:  # fmt: skip
    """What full level would use of every limit: peaks at the drive's clipping times the rms."""
    f = loop.frequency[(loop.frequency >= profile.start) & (loop.frequency <= profile.stop)]
    inside = (loop.frequency >= profile.start) & (loop.frequency <= profile.stop)
    s = top**2 * profile.density(f)
    h2 = np.mean([np.abs(loop.smoothed[i][inside]) ** 2 for i in range(controls)], axis=0)
    volts = s / np.maximum(h2, 1e-18)
    model = np.array(facts.model)
    df = loop.frequency[1] - loop.frequency[0]
    if any(x.kind == "current" for x in facts.inputs):
        per = np.abs(loop.smoothed[-1][inside])
    else:
        per = np.interp(f, model[:, 0], model[:, 2])

    def rms(x: Floats) -> float:
        return float(np.sqrt(np.sum(x) * df))

    rows = []
    for name, value, key, unit in (
        ("Drive", clipping * rms(volts), "", "V"),
        ("Coil current", clipping * rms(volts * per**2), "current", "A"),
        ("Amplifier voltage", clipping * rms(volts * np.interp(f, model[:, 0], model[:, 3]) ** 2), "voltage", "V"),
        ("Stroke", 2 * 3 * top * profile.rms("displacement"), "stroke", "m"),
        ("Velocity", 3 * top * profile.rms("velocity"), "velocity", "m/s"),
        ("Force", 2**0.5 * top * profile.rms() * facts.limits.get("moving_mass", 0.0), "force", "N"),
        ("Acceleration", 3 * top * profile.rms(), "acceleration", "m/s²"),
    ):
        limit = facts.limits.get(key, facts.source_range if not key else 0.0)
        if limit:
            rows.append((name, float(value) / limit, float(value), limit, unit))
    levels = [4.5 * rms(volts * np.abs(loop.smoothed[i][inside]) ** 2) for i in range(len(roles))]
    return rows + input_rows(facts, roles, np.array(levels)), early_abort(profile)


@dataclass
class RandomRun(ShakerRun):
    """State of a random run."""

    profile: RandomProfile | None = None
    loop: RandomLoop | None = None
    level: float = -40.0
    """dB re the profile, as driven now"""
    factors: deque[float] = field(default_factory=deque)
    """Amplitude factors of the seconds that the rms guard averages over."""
    over: float = 1.0
    item: int = 0
    shown: int = 0
    moments: Floats = field(default_factory=lambda: np.zeros(4))
    """Of the control at the present level: count, sum of squares, of fourth powers."""

    def __post_init__(self) -> None:
        super().__post_init__()
        assert self.profile is not None
        self.over = max(1.0, 30 / (self.profile.stop - self.profile.start))
        self.factors = deque(maxlen=math.ceil(self.over / self.span) + 2)

    def step(self, goal: float, learn: bool, guarded: bool, marks: tuple[Any, ...] = (),
             position: Mapping[str, Any] | None = None, **live: Any
             ) -> Generator[Want, Got, Floats]:  # fmt: skip
        """One block, the level a little nearer to `goal` [dB]."""
        assert self.loop is not None and self.profile is not None
        self.level += float(np.clip(goal - self.level, -RAMP * self.span, RAMP * self.span))
        factor = 10 ** (self.level / 20)
        drive = self.loop.play(self.n, factor)
        limit = 0.98 * self.facts.source_range
        drive = np.clip(drive, -limit, limit)
        self.factors.append(factor)
        expect, bounds = None, None
        if self.level > QUIET:
            recent = list(self.factors)[-math.ceil(0.3 / self.span) :]
            expect = min(recent) * self.wanted
            bounds = self._bounds()
        self.shown += 1
        more = {"live": self._live(**live)} if self.shown % 6 == 0 else {}
        rows = yield from self.turn(drive, marks=marks, expect=expect, bounds=bounds, position=position, **more)
        self.loop.observe(rows, learn)
        x = rows[0] - rows[0].mean()
        if guarded:
            self.moments += np.array([x.size, x @ x, (x * x) @ (x * x), 0.0])
        return rows

    def _bounds(self) -> tuple[float, float, float]:
        """rms abort: what the abort lines hold as rms, ±3 dB where there are none; over a second or more. While the
        level moves its least and its highest value in that time count."""
        assert self.profile is not None
        least, top = self.abort_rms
        return least * min(self.factors), top * max(self.factors), self.over

    @cached_property
    def abort_rms(self) -> tuple[float, float]:
        """m/s² that the abort lines hold at full level."""
        assert self.profile is not None
        f = self.profile.grid(48)
        low, high = self.profile.edges(f, "aborts")
        rms = self.wanted
        top = float(np.sqrt(np.trapezoid(high, f))) if np.all(np.isfinite(high)) else rms * 10 ** (3 / 20)
        least = float(np.sqrt(np.trapezoid(low, f))) if np.all(low > 0) else rms * 10 ** (-3 / 20)
        return least, top

    @cached_property
    def wanted(self) -> float:
        """m/s² rms of the profile."""
        assert self.profile is not None
        return self.profile.rms()

    def kurtosis(self) -> float:
        n, q, p, _ = self.moments
        return float(p / n / (q / n) ** 2) if n and q > 0 else float("nan")

    def _live(self, **more: Any) -> dict[str, Any]:
        assert self.loop is not None and self.profile is not None
        made: dict[str, Any] = {"item": self.item, "level_db": self.level, **more}
        held = self.loop.state()
        if held.frames < 1:
            return made
        inside = (held.frequency >= self.profile.start * (1 - 1e-9)) & (
            held.frequency <= self.profile.stop * (1 + 1e-9)
        )
        f, s = held.frequency[inside], held.control[inside]
        by = 10 ** (self.level / 10)
        low, high = self.profile.edges(f, "tolerances")
        rms = float(np.sqrt(np.sum(s) * self.loop.spacing))
        sigma = float(np.sqrt(np.sum(s / (2 * np.pi * f) ** 4) * self.loop.spacing))
        stride = max(1, f.size // 400)
        made |= {
            "rms": rms, "rms_wanted": self.wanted * 10 ** (self.level / 20), "dof": held.dof,
            "spacing": self.loop.spacing, "kurtosis": self.kurtosis(), "stroke": 6 * sigma,
            "drive": self.loop.sigma * 10 ** (self.level / 20),
            "lines_in": 100 * float(np.mean((s >= low * by) & (s <= high * by))),
            "spectrum": {
                "frequency": rounded(f[::stride], 5),
                "control": rounded(s[::stride], 4),
                "drive": rounded(held.drive[inside][::stride], 4),
            },
        }  # fmt: skip
        return made

    def note(self, stretch: Stretch) -> dict[str, Any]:
        """From here on the record is at a level."""
        return {"kind": "random", "t": self.time, "level": self.level, "item": self.item, "rung": stretch.rung}

    def beyond(self) -> float:
        """% of the lines beyond the abort lines now."""
        assert self.loop is not None and self.profile is not None
        held = self.loop.state()
        inside = (held.frequency >= self.profile.start) & (held.frequency <= self.profile.stop)
        low, high = self.profile.edges(held.frequency[inside], "aborts")
        by = 10 ** (self.level / 10)
        s = held.control[inside]
        return 100 * float(np.mean((s < low * by) | (s > high * by)))


def _hold_level(run: RandomRun, stretch: Stretch, already: float = 0.0) -> Generator[Want, Got, bool]:
    """Go to the level, wait until the averages know it, then run its time, `already` s of which were run before.
    False: it was refused."""
    assert run.loop is not None
    settings, goal = run.settings, stretch.level + run.level_by
    while abs(run.level - goal) > 1e-6:
        yield from run.step(goal, True, False, stage="level", at=0.0, of=stretch.duration)
    settle = max(0.3, 2 * run.loop.frame / run.rate)
    for _ in range(math.ceil(settle / run.span) + LEAD + 1):
        yield from run.step(goal, True, False, stage="level", at=0.0, of=stretch.duration)
    run.loop.restart()
    run.moments[:] = 0
    begin: tuple[Any, ...] = (run.note(stretch),)
    t, marked, told = already, run.level, already
    while t < stretch.duration - 1e-9 and not run.skip:
        goal = stretch.level + run.level_by
        position = None
        if t - told >= 1.0:
            # A second back: what a kill takes from the record is run again, so that no gap is left.
            told, position = t, {"item": run.item, "at": max(t - 1.0, already)}
        yield from run.step(goal, True, True, marks=begin, position=position, stage="random", at=t, of=stretch.duration)
        begin = ()
        if abs(run.level - marked) > 0.05 and abs(run.level - goal) < 1e-9:
            run.loop.restart()
            run.moments[:] = 0
            begin, marked = (run.note(stretch),), run.level
        state = run.loop.shown
        if state.frames >= 8 and run.shown % 12 == 0 and state.dof >= min(60.0, settings.control.degrees_of_freedom):
            share = run.beyond()
            if share > settings.control.lines_abort:
                yield from run.refuse("lines", "Lines beyond abort", run.controls[0], share,
                                      settings.control.lines_abort, "%", "cut")  # fmt: skip
                return False
        if not run.hold:
            t += run.span
    run.skip = False
    yield from run.step(goal, True, False, marks=({"kind": "random-end", "t": run.time, "item": run.item},))
    return True


def perform(settings: ShakerSettings, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
    """The run. `start` continues at a stretch's number."""
    held, _ = with_tolerance(settings.random())
    profile = held.solved()
    run = RandomRun(settings, facts, profile=profile)
    control = settings.control
    plan = stretches(settings)
    top = max((10 ** (s.level / 20) for s in plan if not s.rests), default=1.0)
    level = control.probe.level or 0.1 * profile.rms()
    ready = yield from run.probe(
        (profile.start, profile.stop), level, predict, (profile, len(run.controls), control.clipping, top, run.roles)
    )
    if not ready:
        return
    if run.plant is None:
        yield from run.refuse("probe", "A random test needs its probe run: switch it on", run.controls[0])
        return
    run.loop = RandomLoop(
        run.rate, spacing(settings, profile), profile.density, (profile.start, profile.stop), run.plant,
        len(run.controls), combine=control.combine, clipping=control.clipping,
        dof=control.degrees_of_freedom, linear=control.averaging == "linear", seed=control.seed,
    )  # fmt: skip
    first, at = int((start or {}).get("item", 0)), float((start or {}).get("at", 0.0))
    for number, stretch in enumerate(plan):
        if number < first:
            continue
        run.item = number
        if stretch.rests:
            yield from _down(run)
            yield from run.rest(stretch, number, at if number == first else 0.0)
            continue
        fine = yield from _hold_level(run, stretch, at if number == first else 0.0)
        if not fine:
            return
    yield from _down(run)


def _down(run: RandomRun) -> Generator[Want, Got, None]:
    """Ramp the drive off."""
    assert run.loop is not None
    while run.level > -40:
        run.level = max(run.level - 40 * run.span / 0.4, -40.0)
        yield from run.turn(run.loop.play(run.n, 10 ** (run.level / 20) if run.level > -40 else 0.0))
    for _ in range(LEAD + 1):
        yield from run.turn(np.zeros(run.n))
