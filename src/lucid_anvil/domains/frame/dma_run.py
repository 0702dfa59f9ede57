"""Dynamic mechanical analysis on a frame: a small oscillation on a mean that keeps the specimen taut, while a chamber
takes it through its transition and its stiffness falls by decades.

The mean follows the oscillation's own force, and the amplitude moves between what the force can still tell and what the
length may be, so that nobody need tune it.
"""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Generator, Mapping
from typing import TYPE_CHECKING, Any

import numpy as np

from ...contracts.method import Facts, Got, Performance, Want
from ...contracts.recording import Floats
from ...core.errors import BadInput
from ...core.frame import dynamic
from .stiffness_watch import StiffnessWatch, trip_of

if TYPE_CHECKING:
    from .dma import DmaSettings

REST = 1.0
"""s at rest in which zero is found"""
FOLLOW = 2.0
"""1/s by which the crosshead is drawn to where it should be"""
GRASP = 20.0
"""s in which the specimen must take up its least force"""
PATIENCE = 3600.0
"""s that a chamber may take to its first temperature"""
NEAR, STEADY = 1.0, 0.2
"""K from its temperature, and K by which it may still move in 10 s, at which a specimen counts as soaked"""
LEARN = 0.5
"""Share of what is missing that mean and amplitude are changed by after each window"""
GOOD_SWING, GOOD_MEAN = 0.03, 0.06
"""Within which shares of what is wanted amplitude and mean are left alone"""
MOST_SOFT = 1e4
"""Times by which a specimen at rest may be softer than it oscillates"""
MOST_CHANGE = 2.0
"""Times by which an amplitude changes at most from window to window"""
CONTROL = 1.0
"""s that mean and amplitude are corrected after at the soonest"""
MOST = 400
"""Points of a live curve"""
Stage = Generator[Want, Got, str]
"""Part of a run; it comes back with what ended it early, or with nothing"""


class Dynamic:
    """The state of one run. Forces and lengths count positive the way that the specimen is kept taut."""

    def __init__(self, settings: DmaSettings, facts: Facts) -> None:
        if "frame_speed" not in facts.limits:
            raise BadInput("the rig describes no load frame: give its `frame` speed, force and travel.")
        self.settings, self.facts, self.play = settings, facts, settings.play
        self.by = settings.geometry.factor()
        self.sign = -1.0 if settings.geometry.kind == "compression" else 1.0
        self.per_volt = facts.limits["frame_speed"]
        self.fastest = 0.98 * facts.source_range * abs(self.per_volt)
        self.span = facts.block / facts.rate
        self.chamber = any(i.role == "temperature" for i in facts.inputs)
        ramp = self.play.temperature
        if ramp is not None and not self.chamber:
            raise BadInput("temperature: the rig has no temperature channel: add one on the specimen, and a chamber.")
        top = 2 * math.pi * max(self.play.frequencies) * self.play.largest_amplitude
        if top > self.fastest:
            raise BadInput(
                f"play: {max(self.play.frequencies):g} Hz by {1e3 * self.play.largest_amplitude:g} mm is faster than"
                f" the frame ({1e3 * self.fastest:.3g} mm/s): lower one of them."
            )
        self.zero: dict[str, float] = {}
        self.frequency = self.play.frequencies[0]
        self.phase = 0.0
        self.amplitude = self.play.amplitude
        self.middle = 0.0
        self.stiffness = 0.0
        """N/m, as last seen"""
        self.level = False
        """Whether the amplitude is the one that is wanted"""
        self.rest = 0.0
        """N/m that a slow move meets, as last seen"""
        self.slide, self.sliding = 0.0, 0
        """m a block by which the middle moves, and for how many blocks more"""
        self.before = (0.0, 0.0)
        """Middle [m] and mean force [N] before the last move"""
        self.held: deque[tuple[Floats, Floats]] = deque()
        self.warm: deque[float] = deque(maxlen=max(int(10.0 / self.span), 2))
        """°C of the last ten seconds"""
        self.points: dict[str, tuple[list[float], list[float]]] = {
            k: ([], []) for k in ("storage", "loss", "tan_delta")
        }
        self.shown: dict[str, str] = {}
        self.last: complex | None = None
        self.watch = StiffnessWatch()
        self.jumped: float | None = None
        """Factor by which the stiffness jumped: nothing is corrected by it any more"""
        self.set_point: float | None = None
        self.marks: list[Mapping[str, Any]] = []
        self.t = 0.0
        """s, now"""

    # --- what comes in ---------------------------------------------------------------------------------------

    def units(self, got: Got) -> dict[str, Floats]:
        """N and m from zero, positive the taut way; °C as it is."""
        made = {
            role: self.sign * (got.channels[role] / self.facts.sensitivity[role] - self.zero.get(role, 0.0))
            for role in ("force", "displacement")
        }
        if self.chamber:
            warm = got.channels["temperature"] / self.facts.sensitivity["temperature"]
            made["temperature"] = warm
            self.warm.append(float(warm.mean()))
        return made

    def soaked(self, wanted: float) -> bool:
        """Whether the specimen has come to a temperature and rests there."""
        full = len(self.warm) == self.warm.maxlen
        return full and abs(self.warm[-1] - wanted) < NEAR and max(self.warm) - min(self.warm) < STEADY

    # --- what goes out ---------------------------------------------------------------------------------------

    def drawn(self, held: Mapping[str, Floats]) -> Floats:
        """Volts: to the middle."""
        self._slide()
        speed = FOLLOW * (self.middle - float(np.mean(held["displacement"]))) + np.zeros(self.facts.block)
        return np.asarray(self.sign * np.clip(speed, -self.fastest, self.fastest) / self.per_volt)

    def _slide(self) -> None:
        if self.sliding > 0:
            self.middle += self.slide
            self.sliding -= 1

    def block(self, held: Mapping[str, Floats]) -> Floats:
        """Volts of the next block of the oscillation."""
        n, rate = self.facts.block, self.facts.rate
        u = self.phase + self.frequency * (np.arange(n) + 1) / rate
        self.phase = float(u[-1])
        self._slide()
        speed = self.amplitude * 2 * math.pi * self.frequency * np.cos(2 * math.pi * u)
        # What is shown was commanded two blocks ago: it is held against where it should have been then.
        should = self.middle + self.amplitude * math.sin(2 * math.pi * (u[0] - 3 * n * self.frequency / rate))
        speed = speed + FOLLOW * (should - float(held["displacement"][0]))
        return np.asarray(self.sign * np.clip(speed, -self.fastest, self.fastest) / self.per_volt)

    def mean_wanted(self, dynamic_force: float) -> float:
        """N that keep the specimen taut under an oscillation of that force."""
        return max(self.play.least_force, self.play.track / 100 * dynamic_force)

    def swing_wanted(self) -> float:
        """m of amplitude: what was asked for, as long as its force can be told and borne, and within its bounds."""
        p = self.play
        if self.stiffness <= 0:
            return p.amplitude
        wanted = min(max(p.amplitude, p.smallest_force / self.stiffness), p.largest_force / self.stiffness)
        return min(max(wanted, p.smallest_amplitude), p.largest_amplitude)

    # --- window by window ------------------------------------------------------------------------------------

    def look(self, held: Mapping[str, Floats], seconds: float, quiet: float = 0.0) -> complex | None:
        """Take a block; the complex stiffness of `seconds` once they are whole, after `quiet` ones in which what was
        corrected before dies away. Mean and amplitude are then corrected."""
        self.held.append((held["force"], held["displacement"]))
        if len(self.held) * self.span < seconds + quiet:
            return None
        force, way = (np.concatenate([pair[k] for pair in self.held]) for k in (0, 1))
        blocks = len(self.held)
        self.held.clear()
        whole = int(round(math.floor(seconds * self.frequency + 1e-9) / self.frequency * self.facts.rate))
        k, _ = dynamic.complex_stiffness(force, way, self.facts.rate, self.frequency, force.size - whole, force.size)
        phasor = dynamic.fit(way[None, -whole:], self.facts.rate, self.frequency)[0][0]
        if not np.isfinite(k):
            return None
        self.jumped = self.watch.jump(abs(k))
        if self.jumped is not None:
            return None
        self.stiffness = abs(k)
        self._correct(float(np.mean(force[-whole:])), abs(phasor), blocks)
        self.last = complex(dynamic.without_machine(np.array([k]), self.settings.compliance)[0]) * self.by
        return self.last

    def _correct(self, force: float, swing: float, blocks: int) -> None:
        wanted = self.swing_wanted()
        aim = self.mean_wanted(min(wanted, swing * MOST_CHANGE) * self.stiffness)
        self.level = abs(swing / wanted - 1) < 5 * GOOD_SWING
        if abs(swing / wanted - 1) < GOOD_SWING and abs(force / aim - 1) < GOOD_MEAN:
            return  # what is changed for nothing only stirs what is measured
        change = min(max(1 + LEARN * (wanted / max(swing, 1e-12) - 1), 1 / MOST_CHANGE), MOST_CHANGE)
        # Never more than what the mean keeps taut by now: the mean goes first.
        taut = 0.7 * force / max(self.stiffness * swing, 1e-12)
        self.amplitude = min(self.amplitude * min(change, max(taut, 0.1)), 2 * self.play.largest_amplitude)
        self.follow(aim, force, blocks)

    def follow(self, aim: float, force: float, blocks: int) -> None:
        """Move the middle towards a mean force. At rest a specimen is softer than it oscillates, by what nobody knows
        beforehand: what the last move brought tells it."""
        moved, came = self.middle - self.before[0], force - self.before[1]
        if self.rest <= 0:
            self.rest = self.stiffness
        if abs(moved) > 0.05 * self.play.smallest_amplitude:
            seen = came / moved if came * moved > 0 else 0.5 * self.rest
            self.rest = math.sqrt(self.rest * min(max(seen, self.rest / 16), 4 * self.rest))
        self.rest = min(max(self.rest, self.stiffness / MOST_SOFT), self.stiffness)
        self.before = (self.middle, force)
        most = min(0.3 * self.play.largest_amplitude, 0.5 * self.play.largest_force / self.stiffness)
        goal = min(self.middle + min(max(LEARN * (aim - force) / self.rest, -most), most), self.play.largest_mean)
        # Straight there while the next window lasts: a jump would bend what is measured in it.
        self.slide, self.sliding = (goal - self.middle) / blocks, blocks

    def keep(self, x: float, e: complex) -> None:
        """A point more of the curves that grow."""
        tan = e.imag / e.real if e.real > 0 else math.nan
        values = {"storage": e.real / 1e6, "loss": e.imag / 1e6, "tan_delta": tan}
        for key, value in values.items():
            if not math.isfinite(value) or (key != "tan_delta" and value <= 0):
                continue
            xs, ys = self.points[key]
            xs.append(x)
            ys.append(value)
            if len(xs) > MOST:
                del xs[1::2], ys[1::2]
        self.shown = {"Storage": f"{e.real / 1e6:.3g} MPa", "tan delta": f"{values['tan_delta']:.3g}"}

    def live(self, item: int, at: float, of: float, held: Mapping[str, Floats], now: str = "") -> dict[str, Any]:
        shown = {**({"Now": now} if now else {}), **self.shown}
        if self.warm:
            shown["Temperature"] = f"{self.warm[-1]:.1f} °C"
        shown["Force"] = f"{float(np.mean(held['force'])):.3g} N"
        shown["Frequency"] = f"{self.frequency:g} Hz"
        made: dict[str, Any] = {"item": item, "at": at, "of": of, "shown": shown}
        curves = {k: [list(x), list(y)] for k, (x, y) in self.points.items() if x}
        if curves:
            both = {"Storage": curves.get("storage"), "Loss": curves.get("loss")}
            made["curves"] = {"modulus": {k: v for k, v in both.items() if v}}
            over = "°C" if self.play.temperature is not None else "Hz"
            made["units_x"] = {"modulus": over, "tan_delta": over}
            if "tan_delta" in curves:
                made["curves"]["tan_delta"] = {"tan delta": curves["tan_delta"]}
        return made

    def leave_marks(self) -> tuple[Mapping[str, Any], ...]:
        made, self.marks = tuple(self.marks), []
        return made

    def setting(self, wanted: float | None) -> dict[str, Any] | None:
        """The chamber's set point where it changed by a count or more."""
        if wanted is None or (self.set_point is not None and abs(wanted - self.set_point) < 0.1 - 1e-9):
            return None
        self.set_point = wanted
        return {"chamber": round(wanted, 1)}


def perform(settings: DmaSettings, facts: Facts) -> Performance:
    """Zero, a grasp at the least force, the first temperature, and then the ramp or the frequencies."""
    run = Dynamic(settings, facts)
    yield Want(np.zeros(facts.block))
    yield from _zero(run)
    why = yield from _grasp(run)
    ramp = run.play.temperature
    first = ramp.first if ramp is not None else run.play.at
    if not why and first is not None and run.chamber:
        why = yield from _soak(run, first)
    if not why and ramp is not None:
        why = yield from _ramp(run, ramp)
    elif not why:
        why = yield from _frequencies(run)
    run.marks.append({"kind": "dma ended", "t": run.t, "why": why or "done"})
    yield from _rest(run)


def _zero(run: Dynamic) -> Performance:
    sums = {"force": 0.0, "displacement": 0.0}
    count = max(int(REST / run.span), 1)
    for k in range(count):
        got = yield Want(np.zeros(run.facts.block), live={"item": 0, "at": k * run.span, "of": REST})
        for role in sums:
            sums[role] += float(np.mean(got.channels[role])) / run.facts.sensitivity[role] / count
        run.t = got.start
    run.zero = sums
    run.marks.append({"kind": "zero", "t": run.t, **sums})


def _grasp(run: Dynamic) -> Stage:
    """On until it bears its least force; the slope tells a first stiffness."""
    seen: list[tuple[float, float]] = []
    gone = 0.0
    got = yield Want(np.zeros(run.facts.block), marks=run.leave_marks())
    while True:
        held = run.units(got)
        force, way = float(np.mean(held["force"])), float(np.mean(held["displacement"]))
        seen.append((way, force))
        run.t = got.start
        if force >= run.play.least_force:
            break
        if gone > GRASP or abs(way) > 20 * run.play.largest_amplitude:
            return "no grip"
        speed = run.sign * min(run.play.approach, run.fastest) / run.per_volt
        live = run.live(0, gone, GRASP, held, "taking up force")
        got = yield Want(np.full(run.facts.block, speed), live=live)
        gone += run.span
    x, y = np.array(seen).T
    inside = y > 0.2 * run.play.least_force
    sloped = inside.sum() > 2 and np.ptp(x[inside]) > 0
    slope = np.polyfit(x[inside], y[inside], 1)[0] if sloped else y[-1] / max(x[-1], 1e-9)
    run.stiffness = max(float(slope), 1e-6)
    run.middle = way
    # It begins with what the grasp keeps taut; amplitude and mean grow together from there.
    run.amplitude = min(run.amplitude, run.play.least_force / (run.play.track / 100) / run.stiffness)
    return ""


def _soak(run: Dynamic, wanted: float) -> Stage:
    """The least force held while the chamber goes to its start."""
    gone, force, n = 0.0, 0.0, 0
    got = yield Want(np.zeros(run.facts.block), settings=run.setting(wanted))
    while not run.soaked(wanted):
        held = run.units(got)
        run.t = got.start
        force, n = force + float(np.mean(held["force"])), n + 1
        if n * run.span >= CONTROL:
            run.follow(run.play.least_force, force / n, n)
            force, n = 0.0, 0
        if gone > PATIENCE:
            return "the chamber did not come to its temperature"
        if any(o["order"] == "skip" for o in got.orders):
            break
        live = run.live(1, min(gone, 600.0), 600.0, held, f"to {wanted:g} °C")
        got = yield Want(run.drawn(held), live=live)
        gone += run.span
    return ""


def _ramp(run: Dynamic, ramp: Any) -> Stage:
    seconds = max(run.settings.window / run.frequency, CONTROL)
    whole = abs(ramp.last - ramp.first) / ramp.rate
    gone = 0.0
    got = yield Want(np.zeros(run.facts.block))
    # Mean and amplitude settle before the chamber leaves its first temperature.
    quiet = 8 * seconds
    run.marks.append({"kind": "dma", "t": got.start, "frequency": run.frequency, "mode": "ramp"})
    while gone < quiet + whole:
        held = run.units(got)
        run.t = got.start
        wanted = ramp.at(gone - quiet)
        found = run.look(held, seconds)
        if run.jumped is not None:
            yield from _tripped(run)
        if found is not None and gone > quiet:
            run.keep(run.warm[-1], found)
        if any(o["order"] == "skip" for o in got.orders):
            return "operator"
        live = run.live(2, max(gone - quiet, 0.0), whole, held, "settling" if gone < quiet else "")
        if abs(gone - quiet) < run.span / 2:
            run.marks.append({"kind": "ramp", "t": got.start, "start": got.start, "frequency": run.frequency})
        got = yield Want(run.block(held), marks=run.leave_marks(), settings=run.setting(wanted), live=live)
        gone += run.span
    return ""


def _frequencies(run: Dynamic) -> Stage:
    """Each frequency until two windows agree, or says that they do not."""
    got = yield Want(np.zeros(run.facts.block))
    run.marks.append({"kind": "dma", "t": got.start, "mode": "frequencies"})
    for i, frequency in enumerate(run.play.frequencies):
        run.frequency, run.phase, before = frequency, 0.0, None
        run.held.clear()
        seconds = max(run.settings.window / frequency, CONTROL)
        begun, windows, settled, run.level = got.start, 0, False, False
        while not run.level and got.start - begun < run.play.most_windows * seconds:
            held = run.units(got)
            run.watch.forget()  # it comes up: what its windows show is not steady yet
            run.look(held, max(1 / frequency, CONTROL))
            live = run.live(2 + i, got.start - begun, seconds * run.play.most_windows, held, "to its amplitude")
            got = yield Want(run.block(held), marks=run.leave_marks(), live=live)
        run.held.clear()
        run.watch.forget()
        while windows < run.play.most_windows and not settled:
            held = run.units(got)
            run.t = got.start
            start = got.start + run.span - seconds
            found = run.look(held, seconds, max(1.0, 1 / frequency))
            if run.jumped is not None:
                yield from _tripped(run)
            if found is not None:
                windows += 1
                settled = before is not None and abs(found / before - 1) < run.play.spread / 100
                before = found
                if settled or windows == run.play.most_windows:
                    run.keep(frequency, found)
                    run.marks.append({"kind": "point", "t": start, "start": start, "stop": got.start + run.span,
                                      "frequency": frequency, "settled": settled})  # fmt: skip
            if any(o["order"] == "skip" for o in got.orders):
                break
            live = run.live(2 + i, got.start - begun, seconds * run.play.most_windows, held)
            got = yield Want(run.block(held), marks=run.leave_marks(), live=live)
    return ""


def _tripped(run: Dynamic) -> Performance:
    """The end of a run whose stiffness jumped; it does not come back."""
    assert run.jumped is not None
    yield Want(np.zeros(run.facts.block), marks=run.leave_marks(), trip=trip_of(run.jumped))
    while True:
        yield Want(np.zeros(run.facts.block))


def _rest(run: Dynamic) -> Performance:
    """Back to no force, the chamber left where it is, and still."""
    got = yield Want(np.zeros(run.facts.block), marks=run.leave_marks())
    gone = 0.0
    run.middle = 0.0
    while gone < 5.0:
        held = run.units(got)
        if abs(float(np.mean(held["displacement"]))) < 0.02 * run.play.amplitude:
            break
        got = yield Want(run.drawn(held))
        gone += run.span
    for _ in range(4):
        yield Want(np.zeros(run.facts.block))
