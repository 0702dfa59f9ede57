"""Performing a sine test: probe run, start-up, sweeps, dwells, dwells that follow a resonance."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Generator, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ...contracts.method import LEAD, CourseItem, Facts, Got, Performance, Want
from ...core.control.plant import LoopResponse, sharpest
from ...core.control.sineloop import Reading, SineLoop, fastest_rate
from ...core.control.sineprofile import SineProfile
from ...core.figures import significant
from ...core.signal.sinefit import Floats
from .course import Stretch, items, sine_stretches
from .edges import early_abort
from .run import ShakerRun, input_rows
from .settings import ShakerSettings, with_tolerance
from .sine_follow import follow, responding, settling

LOST_AFTER = 20.0
"""s in which the level must have come inside the start-up tolerance."""


def course(settings: ShakerSettings) -> list[CourseItem]:
    return items(settings, sine_stretches(settings))


def predict(
    loop: LoopResponse, facts: Facts, profile: SineProfile, controls: int, stretches: list[Stretch], window: float,
    roles: list[str],
) -> tuple[list[tuple[str, float, float, float, str]], list[str]]:  # fmt: skip
    """What full level would use of every limit, from the measured response; and which sweeps are too fast."""
    top = max((10 ** (s.level / 20) for s in stretches if not s.rests), default=1.0)
    f = np.unique(
        np.concatenate(
            [profile.grid(48), loop.frequency[(loop.frequency > profile.start) & (loop.frequency < profile.stop)]]
        )
    )
    a = top * profile.acceleration(f)
    h = np.mean([np.interp(f, loop.frequency, np.abs(loop.smoothed[i])) for i in range(controls)], axis=0)
    volts = a / np.maximum(h, 1e-9)
    model = np.array(facts.model)
    limits = facts.limits
    rows: list[tuple[str, float, float, float, str]] = []

    def add(name: str, value: Floats, limit: float | None, unit: str) -> None:
        if limit:
            worst = float(np.max(value))
            rows.append((name, worst / limit, worst, limit, unit))

    w = 2 * np.pi * f
    add("Drive", volts, facts.source_range, "V")
    monitor = [i for i, x in enumerate(facts.inputs) if x.kind == "current"]
    if monitor:
        per = np.interp(f, loop.frequency, np.abs(loop.smoothed[-1]))
    else:
        per = np.interp(f, model[:, 0], model[:, 2])
    add("Coil current", volts * per, limits.get("current"), "A")
    add("Amplifier voltage", volts * np.interp(f, model[:, 0], model[:, 3]), limits.get("voltage"), "V")
    add("Stroke", 2 * a / w**2, limits.get("stroke"), "m")
    add("Velocity", a / w, limits.get("velocity"), "m/s")
    add("Force", a * limits.get("moving_mass", 0.0), limits.get("force"), "N")
    add("Acceleration", a, limits.get("acceleration"), "m/s²")
    levels = [np.max(volts * np.interp(f, loop.frequency, np.abs(loop.smoothed[i]))) for i in range(len(roles))]
    rows += input_rows(facts, roles, np.array(levels))
    return rows, early_abort(profile) + _too_fast(loop, profile, stretches, window)


def _too_fast(loop: LoopResponse, profile: SineProfile, stretches: list[Stretch], window: float) -> list[str]:
    made = []
    for f, width in sharpest(loop, 0, (profile.start, profile.stop))[:6]:
        for s in stretches:
            if s.sweep is None or not min(s.sweep.start, s.sweep.stop) <= f <= max(s.sweep.start, s.sweep.stop):
                continue
            log = s.sweep.law == "log"
            may = fastest_rate(f, width, max(window, 8 / f) / 2 + 0.12, log)
            is_ = s.sweep.rate_at(f) * (60 / f / math.log(2) if log else 1.0)
            if is_ > 1.05 * may:
                unit = "oct/min" if log else "Hz/s"
                made.append(
                    f"The mode at {f:.4g} Hz is {significant(width)} Hz wide: {is_:.3g} {unit} is too fast to hold the"
                    f" level there; {significant(may)} {unit} would."
                )
                break
    return made


@dataclass
class SineRun(ShakerRun):
    """State of a sine run."""

    profile: SineProfile | None = None
    phase: float = 0.0
    frequency: float = 0.0
    played: dict[int, tuple[Floats, float]] = field(default_factory=dict)
    reading: Reading | None = None
    level: float = 0.0
    """dB re the profile, as driven now (it moves slowly)"""
    item: int = 0
    trace: list[tuple[float, float, float]] = field(default_factory=list)
    found: dict[str, tuple[float, float, float]] = field(default_factory=dict)
    """Largest ratio of each response to the control in the sweeps so far: ratio, Hz, phase [rad]."""
    loop: SineLoop | None = None
    shown: int = 0
    told: float = 0.0
    """s, when its position was last told"""
    window: deque[float] = field(default_factory=lambda: deque(maxlen=400))
    """Mean square of the control in the last blocks"""
    crooked: int = 0
    beyond: float = 0.0
    """s beyond tolerance without a break"""
    steady: float = 0.0
    """s over which the loop averages, while the frequency stands or follows a resonance"""

    def start_loop(self) -> None:
        assert self.profile is not None
        control = self.settings.control
        low, high = self.profile.edges(self.profile.grid(), "abort")
        channels = len(self.roles)
        limits = {self.roles.index(r): v for r, v in control.limits.items() if r in self.roles}
        plant = self.plant
        self.loop = SineLoop(
            self.rate, self.n, len(self.controls), channels, plant, control.regulation(2 * self.span),
            0.98 * self.facts.source_range, LEAD * self.span, limits, lowest=self.profile.start,
            highest=self.profile.stop,
        )  # fmt: skip
        if plant is None and self.facts.model:
            # Without a probe run the rig's own figures give the first gain, and the loop learns the rest.
            self.loop.plant = _from_model(self.facts, channels)

    def target(self, frequency: float) -> float:
        """m/s² peak wished at a frequency at the present level."""
        assert self.profile is not None
        return self.profile.level_at(frequency) * 10 ** (self.level / 20)

    def sine(self, phases: Floats, turned: float, frequency: float, amplitude: float | None = None,
             marks: tuple[Mapping[str, Any], ...] = (), guarded: bool = True, starting: bool = False,
             position: Mapping[str, Any] | None = None, **live: Any
             ) -> Generator[Want, Got, None]:  # fmt: skip
        """One block of sine: `phases` [rad] from its start, `turned` by its end, `frequency` [Hz] there."""
        assert self.loop is not None
        carrier = self.phase + phases
        self.phase = (self.phase + turned) % (2 * np.pi)
        middle = (self.frequency + frequency) / 2
        octaves = abs(math.log2(frequency / self.frequency)) / self.span if self.frequency > 0 else 0.0
        wanted, target = self.loop.regulate(frequency, self.target(frequency), self.steady, octaves)
        if amplitude is not None:
            wanted = amplitude
        self.frequency = frequency
        self.played[self.number] = (carrier, middle)
        drive = self.loop.play(wanted, carrier)
        bounds, expect = self._bounds(middle, target) if guarded else (None, None)
        if starting and bounds is not None:
            bounds = (0.0, *bounds[1:])  # while it comes up only too much is wrong
        self.shown += 1
        more = {"live": self._live(target, **live)} if self.shown % 3 == 0 else {}
        rows = yield from self.turn(drive, marks=marks, expect=expect, bounds=bounds, position=position, **more)
        assert self.got is not None
        held = self.played.pop(self.got.index, None)
        if held is not None:
            self.reading = self.loop.observe(rows[: len(self.roles)], rows[-1], *held)
            self.window.append(float(np.mean(np.var(rows[: len(self.controls)], axis=1))))
            yield from self._time_beyond(guarded and not starting)
            yield from self._distortion(guarded and not starting, held[1])

    def _time_beyond(self, guarded: bool) -> Generator[Want, Got, None]:
        """Ask for the end when the level was beyond its tolerance for too long."""
        most, r = self.settings.control.time_abort, self.reading
        if most is None or not guarded or r is None:
            self.beyond = 0.0
            return
        assert self.profile is not None
        f = float(np.clip(r.frequency, self.profile.start, self.profile.stop))
        low, high = self.profile.edges(np.array([f]), "tolerance")
        by = self.target(f) / float(self.profile.acceleration(f))
        inside = low[0] * by <= r.control <= high[0] * by
        self.beyond = 0.0 if inside else self.beyond + self.span
        if self.beyond > most:
            yield from self.refuse(
                "tolerance", "Time beyond tolerance", self.controls[0], self.beyond, most, "s", "cut"
            )

    def _distortion(self, guarded: bool, frequency: float) -> Generator[Want, Got, None]:
        """Ask for the end when a control point shows far more than its sine: a loose sensor, a rattle, a clipping."""
        r, over = self.reading, max(0.4, 6 / frequency)
        count = round(over / self.span)
        if not guarded or r is None or len(self.window) < count:
            return
        rms = math.sqrt(np.mean(list(self.window)[-count:]))
        sine = math.sqrt(np.mean(r.levels[: len(self.controls)] ** 2) / 2)
        share = 100 * (rms / max(sine, 1e-9) - 1)
        self.crooked = self.crooked + 1 if share > self.settings.control.distortion_abort else 0
        if self.crooked * self.span > 0.3 and r.control > 0.3 * self.target(r.frequency):
            most, text = self.settings.control.distortion_abort, "Distortion, look for a loose sensor or a rattle,"
            yield from self.refuse("distortion", text, self.controls[0], share, most, "%", "cut")

    def _bounds(self, frequency: float, target: float) -> tuple[tuple[float, float, float] | None, float | None]:
        """Abort edges as rms for the keeper, and what the control should show."""
        assert self.profile is not None
        f = min(max(frequency, self.profile.start), self.profile.stop)
        low, high = self.profile.edges(np.array([f]), "abort")
        by = target / max(self.profile.level_at(f), 1e-12)
        over = max(4.0 / frequency, 2 * self.span)
        root = math.sqrt(2)
        edges = None
        if low[0] > 0 or np.isfinite(high[0]):
            edges = (float(low[0]) * by / root, float(high[0]) * by / root if np.isfinite(high[0]) else 1e30, over)
        return edges, target / root

    def _live(self, target: float, **more: Any) -> dict[str, Any]:
        r = self.reading
        made: dict[str, Any] = {"frequency": self.frequency, "item": self.item, "level_db": self.level, **more}
        if r is not None and self.loop is not None and r.drive > 1e-5:
            made |= {
                "f": r.frequency, "control": r.control, "target": self.target(r.frequency), "drive": r.drive,
                "responses": [float(v) for v in r.levels[len(self.controls):]],
                "phases": [math.degrees(float(p)) for p in r.phases],
            }  # fmt: skip
        return made

    # --- parts of a course -----------------------------------------------------------------------------------

    def constant(self, frequency: float) -> tuple[Floats, float]:
        return np.asarray(2 * np.pi * frequency * np.arange(self.n) / self.rate), 2 * np.pi * frequency * self.span

    def start_up(self, frequency: float, level: float) -> Generator[Want, Got, bool]:
        """Ramp on at one frequency until the level is inside the start-up tolerance. False: it never was."""
        self.frequency, self.level = frequency, level - 20.0
        assert self.loop is not None
        self.loop.amplitude = 0.0
        self.loop.arrive()
        inside, began = 0, self.number
        settle = max(3, math.ceil(3 / frequency / self.span))
        while inside < settle:
            self.level = min(self.level + 20.0 * self.span / 0.8, level)
            known = self.level > level - 12
            yield from self.sine(
                *self.constant(frequency), frequency, guarded=known, starting=True, stage="start-up"
            )  # fmt: skip
            near = self.reading is not None and self.level >= level - 1e-9
            if near:
                assert self.reading is not None
                error = 20 * math.log10(max(self.reading.control, 1e-9) / self._notched(frequency))
                inside = inside + 1 if abs(error) < self.settings.control.start_tolerance else 0
            if (self.number - began) * self.span > LOST_AFTER:
                value = self.reading.control if self.reading else 0.0
                yield from self.refuse("start", "The level did not come inside its tolerance", self.controls[0],
                                       value, self.target(frequency), "m/s²")  # fmt: skip
                return False
        return True

    def _notched(self, frequency: float) -> float:
        assert self.loop is not None
        return self.loop.regulate(frequency, self.target(frequency), self.steady)[1]

    def go_down(self) -> Generator[Want, Got, None]:
        """Ramp the drive off over a few tenths of a second."""
        assert self.loop is not None
        top = self.loop.amplitude
        count = max(4, round(0.3 / self.span), math.ceil(2 / max(self.frequency, 1.0) / self.span))
        for k in range(count):
            yield from self.sine(
                *self.constant(self.frequency), self.frequency, top * (1 - (k + 1) / count), guarded=False
            )
        self.played.clear()
        for _ in range(LEAD + 1):
            yield from self.turn(np.zeros(self.n))
        self.reading = None

    def moved_level(self, level: float) -> None:
        """The level goes to its wish by 6 dB a second at most."""
        wish = level + self.level_by
        self.level += float(np.clip(wish - self.level, -6 * self.span, 6 * self.span))

    def position(self, at: float) -> dict[str, Any] | None:
        """Where the run can be gone on from, every second or so: `at` s of its stretch. What the sweeps found goes
        along, since a later dwell rests on it."""
        if self.number * self.span - self.told < 0.75:
            return None
        self.told = self.number * self.span
        # A second back: what a kill takes from the record is run again, so that no gap is left.
        return {**self.standing(self.item, max(at - 1.0, 0.0)), "frequency": self.frequency}

    def standing(self, number: int, at: float) -> dict[str, Any]:
        return {"item": number, "at": at, "found": {r: list(v) for r, v in self.found.items()}}

    def mark(self, law: str, rate: float = 0.0, **more: Any) -> dict[str, Any]:
        """A mark from which on the frequency goes as said, so that the record can be read with its exact phase."""
        return {
            "kind": "sine", "t": self.time, "law": law, "frequency": self.frequency, "rate": rate,
            "phase": self.phase, "level": self.level, "item": self.item, **more,
        }  # fmt: skip


def _from_model(facts: Facts, channels: int) -> LoopResponse:
    f = np.arange(0, facts.model[-1][0], 1.0)
    rows = np.array(facts.model)
    h = np.interp(f, rows[:, 0], rows[:, 1])
    return LoopResponse(
        f, np.tile(h.astype(complex), (channels, 1)), np.ones((channels, f.size)), np.zeros(channels), 0.0
    )


def _sweep(run: SineRun, stretch: Stretch, begin: float) -> Generator[Want, Got, None]:
    """One sweep, from `begin` [s of it]; it can be held and its level stepped."""
    sweep = stretch.sweep
    assert sweep is not None
    t, moving, marked = begin, False, run.level
    while t < stretch.duration - 1e-9 and not run.skip:
        run.moved_level(stretch.level)
        moving = moving and abs(run.level - marked) < 0.1
        marks: tuple[Any, ...] = ()
        if run.hold:
            if moving or t == begin:
                marks = (run.mark("constant", held=True),)
                moving = False
            yield from run.sine(*run.constant(run.frequency), run.frequency, marks=marks, stage="held", at=t)
            continue
        if not moving:
            k = (
                math.log(sweep.stop / sweep.start) / sweep.duration
                if sweep.law == "log"
                else (sweep.stop - sweep.start) / sweep.duration
            )
            marks = (run.mark(sweep.law, k),)
            moving, marked = True, run.level
        u = t + np.arange(run.n) / run.rate
        base = float(sweep.phase(t))
        end = t + run.span
        f = float(sweep.frequency(end))
        phases, turned = sweep.phase(u) - base, float(sweep.phase(end)) - base
        yield from run.sine(phases, turned, f, marks=marks, stage="sweep", at=t, of=stretch.duration,
                            position=run.position(t))  # fmt: skip
        _learn(run)
        t = end
    run.skip = False


def _learn(run: SineRun) -> None:
    """Keep where each response is largest against the control."""
    r = run.reading
    if r is None or r.control <= 0:
        return
    for i, role in enumerate(run.roles[len(run.controls) :], len(run.controls)):
        ratio = float(r.levels[i]) / r.control
        if ratio > run.found.get(role, (0.0, 0.0, 0.0))[0]:
            turn = float(r.phases[i] - r.phases[0])
            run.found[role] = (ratio, r.frequency, math.atan2(math.sin(turn), math.cos(turn)))


def _dwell(run: SineRun, stretch: Stretch, begin: float) -> Generator[Want, Got, None]:
    """A dwell at one frequency, `begin` s of which were run before."""
    marks: tuple[Any, ...] = (run.mark("constant", dwell=run.item, follow=False, wanted=0.0, role=run.roles[0]),)
    t = begin
    run.steady = settling(run, run.frequency, 0)
    while t < stretch.duration - 1e-9 and not run.skip:
        run.moved_level(stretch.level)
        yield from run.sine(*run.constant(run.frequency), run.frequency, marks=marks, stage="dwell", at=t,
                            of=stretch.duration, position=run.position(t))  # fmt: skip
        marks = ()
        t += run.span
    run.skip, run.steady = False, 0.0


def _first_frequency(run: SineRun, stretch: Stretch, begin: float) -> float:
    if stretch.sweep is not None:
        return float(stretch.sweep.frequency(begin))
    if stretch.frequency is not None and stretch.kind == "dwell":
        return stretch.frequency
    found = [v for r, v in run.found.items() if stretch.channel in (None, r)]
    near = stretch.frequency or (max(found)[1] if found else None)
    moved = 1 + run.loop.moved if run.loop is not None else 1.0
    if run.plant is not None:
        # The largest response over control that the probe run saw, near the frequency that was said.
        index = (
            run.roles.index(stretch.channel)
            if stretch.channel in run.roles
            else min(len(run.controls), len(run.roles) - 1)
        )
        f = run.plant.frequency
        assert run.profile is not None
        low, high = (near / moved / 1.15, near / moved * 1.15) if near else (run.profile.start, run.profile.stop)
        band = (f >= max(low, run.profile.start)) & (f <= min(high, run.profile.stop))
        ratio = np.abs(run.plant.smoothed[index]) / np.maximum(np.abs(run.plant.smoothed[0]), 1e-9)
        return float(np.clip(f[band][np.argmax(ratio[band])] * moved, run.profile.start, run.profile.stop))
    return near or float(np.sqrt(run.profile.start * run.profile.stop)) if run.profile else 100.0


def perform(settings: ShakerSettings, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
    """The run. `start` continues at a stretch's number and time."""
    held, _ = with_tolerance(settings.sine())
    profile = held.solved()
    stretches = sine_stretches(settings)
    run = SineRun(settings, facts, tonal=True, profile=profile)
    level = settings.control.probe.level or 0.1 * profile.peak("acceleration")[0]
    window = settings.control.regulation(2 * run.span).window(profile.start)
    given = (profile, len(run.controls), stretches, min(window, 0.2), run.roles)
    ready = yield from run.probe((profile.start, profile.stop), level, predict, given)
    if not ready:
        return
    run.start_loop()
    first, at = int((start or {}).get("item", 0)), float((start or {}).get("at", 0.0))
    run.found = {r: (float(v[0]), float(v[1]), float(v[2])) for r, v in (start or {}).get("found", {}).items()}
    driven = False
    for number, stretch in enumerate(stretches):
        if number < first:
            continue
        begin = at if number == first else 0.0
        run.item = number
        if stretch.rests:
            if driven:
                yield from run.go_down()
                driven = False
            yield from run.rest(stretch, number, begin)
            continue
        # A resonance that was followed is looked for where it was left.
        left = (start or {}).get("frequency") if number == first and begin > 0 else None
        f = left if left and stretch.kind == "follow" else _first_frequency(run, stretch, begin)
        if driven and abs(f / run.frequency - 1) > 1e-3:
            yield from run.go_down()
            driven = False
        if not driven:
            if stretch.sweep is None:
                run.steady = settling(run, f, responding(run, stretch) if stretch.kind == "follow" else 0)
            fine = yield from run.start_up(f, stretch.level + run.level_by)
            if not fine:
                return
            driven = True
        if stretch.sweep is not None:
            yield from _sweep(run, stretch, begin)
        else:
            yield from (follow if stretch.kind == "follow" else _dwell)(run, stretch, begin)
        yield from run.sine(*run.constant(run.frequency), run.frequency, marks=(run.mark("end"),))
    if driven:
        yield from run.go_down()
