"""Dynamic mechanical analysis on a frame: a small oscillation on a mean that keeps the specimen taut, while a chamber
takes it through its transition and its stiffness falls by decades.

The mean follows the oscillation's own force, and the amplitude moves between what the force can still tell and what the
length may be, so that nobody need tune it.
"""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Generator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from ...contracts.method import Facts, Got, Performance, Want
from ...contracts.recording import Floats
from ...core.errors import BadInput
from ...core.frame import dynamic
from .stiffness_watch import StiffnessWatch, trip_of

if TYPE_CHECKING:
    from .dma_settings import DmaSettings

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
LONGER = 4.0
"""Times as long as usual that an amplitude may come up"""
RELEASE = 40.0
"""s that the force may take to go at the end"""
SOFTEST = 1.0
"""N/m that a held force is thought to meet at least"""
HOLD = 2.0
"""s in which a held force is made up for; well above the 0.5 s in which the crosshead follows"""
FAR = 0.4
"""of a mean force, by which it is off before and after a correction that went too far"""
FAINTEST = 0.3
"""of the smallest amplitude, below which nothing is oscillated"""
STIFFER = 3.0
"""Times as stiff as a slow move shows it, a specimen may oscillate after its temperature changed"""
FALLS = 1.0
"""Times that a mean force which fell from window to window is thought to fall once more"""
ALIKE = 0.03
"""Share by which the stiffness of two windows may differ for a fall of the mean force to be a relaxation"""
STEP = 0.6
"""Times by which an amplitude is made smaller for what is only thought"""
MOST_LOSS = 1.5
"""tan delta by which a stiffness at another frequency is told at most"""
CONTROL = 1.0
"""s that mean and amplitude are corrected after at the soonest"""
MOST = 400
"""Points of a live curve"""
SEEN = 6
"""Series whose live curves are shown: the last"""
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
        if self.play.temperatures and not self.chamber:
            raise BadInput("temperatures: the rig has no temperature channel: add one on the specimen, and a chamber.")
        top = 2 * math.pi * max(self.play.frequencies) * self.play.largest_amplitude
        if top > self.fastest:
            raise BadInput(
                f"play: {max(self.play.frequencies):g} Hz by {1e3 * self.play.largest_amplitude:g} mm is faster than"
                f" the frame ({1e3 * self.fastest:.3g} mm/s): lower one of them."
            )
        self.zero: dict[str, float] = {}
        self.frequency = self.play.frequencies[0]
        self.phase = 0.0
        self.asked = self.play.swings[0]
        """m of amplitude that the course wants now"""
        self.amplitude = self.asked
        self.middle = 0.0
        self.stiffness = 0.0
        """N/m, as last seen"""
        self.swing = 0.0
        """m of amplitude, as last seen"""
        self.level = False
        """Whether the amplitude is the one that is wanted"""
        self.rest = 0.0
        """N/m that a slow move meets, as last seen"""
        self.slide, self.sliding = 0.0, 0
        """m a block by which the middle moves, and for how many blocks more"""
        self.met = 0.0
        """N/m that a held force is thought to meet"""
        self.missing: list[float] = []
        self.missed = 0.0
        """N that were missing over the last second of a hold, one by one and their mean before"""
        self.before = (0.0, 0.0)
        """Middle [m] and mean force [N] before the last move"""
        self.off = 0.0
        """N by which the mean force was off then"""
        self.came: float | None = None
        """N of mean force in the last window"""
        self.firm = 1.0
        """N/m, the stiffness in it"""
        self.held: deque[tuple[Floats, Floats]] = deque()
        self.warm: deque[float] = deque(maxlen=max(int(10.0 / self.span), 2))
        """°C of the last ten seconds"""
        self.points: dict[str, dict[str, tuple[list[float], list[float]]]] = {}
        """By series, which has a name where several are measured, and key"""
        self.series = ""
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
            return self.asked
        wanted = min(max(self.asked, p.smallest_force / self.stiffness), p.largest_force / self.stiffness)
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
        self.stiffness, self.swing = abs(k), abs(phasor)
        self._correct(float(np.mean(force[-whole:])), abs(phasor), blocks)
        turned = k * self.settings.turned(self.frequency)[0]
        self.last = complex(dynamic.without_machine(np.array([turned]), self.settings.compliance)[0]) * self.by
        return self.last

    def _correct(self, force: float, swing: float, blocks: int) -> None:
        wanted = self.swing_wanted()
        aim = self.mean_wanted(min(wanted, swing * MOST_CHANGE) * self.stiffness)
        self.level = abs(swing / wanted - 1) < 5 * GOOD_SWING
        if abs(swing / wanted - 1) < GOOD_SWING and abs(force / aim - 1) < GOOD_MEAN:
            return  # what is changed for nothing only stirs what is measured
        change = min(max(1 + LEARN * (wanted / max(swing, 1e-12) - 1), 1 / MOST_CHANGE), MOST_CHANGE)
        # Never more than what the mean keeps taut by now: the mean goes first.
        # What only relaxes falls once more; what softens is another matter.
        alike = self.came is not None and abs(self.stiffness / self.firm - 1) < ALIKE
        falls = min(force - self.came, 0.0) if self.came is not None and alike else 0.0
        self.came, self.firm = force, self.stiffness
        need = max(self.stiffness * swing, 1e-12)
        taut = max(0.7 * (force + FALLS * falls) / need, min(0.7 * force / need, STEP))
        least, most = FAINTEST * self.play.smallest_amplitude, 2 * self.play.largest_amplitude
        before = self.amplitude
        self.amplitude = max(min(self.amplitude * min(change, max(taut, 0.1)), most), least)
        # Where it becomes smaller the mean goes last.
        aim = max(aim, self.mean_wanted(swing * self.amplitude / before * self.stiffness))
        self.follow(aim - falls, force, blocks)

    def holding(self, held: Mapping[str, Floats], aim: float) -> Floats:
        """Volts that hold a force [N] while nothing oscillates. The middle goes where the force is missing, as fast as
        the stiffness that it is thought to meet allows: thought stiffer where the force swings over, softer where it
        stays away."""
        off = aim - float(np.mean(held["force"]))
        most = 0.3 * self.play.largest_amplitude * self.span / CONTROL
        step = min(max(off * self.span / (HOLD * self.met), -most), most)
        self.middle = min(self.middle + step, self.play.largest_mean)
        self.missing.append(off)
        if len(self.missing) * self.span >= CONTROL:
            now = float(np.mean(self.missing))
            self.missing.clear()
            if abs(now) > 0.2 * max(aim, 0.5 * self.play.least_force):
                if now * self.missed < 0:
                    self.met *= 2.0
                elif abs(now) > 0.8 * abs(self.missed):  # as it should go it is down to 0.6 of that
                    self.met = max(0.7 * self.met, SOFTEST)
            self.missed = now
        return self.drawn(held)

    def follow(self, aim: float, force: float, blocks: int) -> None:
        """Move the middle towards a mean force. At rest a specimen is softer than it oscillates, by what nobody knows
        beforehand: what the last move brought tells it."""
        moved, came = self.middle - self.before[0], force - self.before[1]
        if self.rest <= 0:
            self.rest = self.stiffness
        off = aim - force
        if off * self.off < 0 and min(abs(off), abs(self.off)) > FAR * aim:
            # It went too far: what relaxes meanwhile made it look softer than it is.
            self.rest = 2 * self.rest
        elif abs(moved) > 0.05 * self.play.smallest_amplitude:
            seen = came / moved if came * moved > 0 else 0.5 * self.rest
            self.rest = math.sqrt(self.rest * min(max(seen, self.rest / 16), 4 * self.rest))
        self.rest = min(max(self.rest, self.stiffness / MOST_SOFT), self.stiffness)
        self.before, self.off = (self.middle, force), off
        most = min(0.3 * self.play.largest_amplitude, 0.5 * self.play.largest_force / self.stiffness)
        # What is let go at once meets all of its stiffness; what relaxes falls by itself.
        meets = self.rest if aim > force else self.stiffness
        goal = min(self.middle + min(max(LEARN * (aim - force) / meets, -most), most), self.play.largest_mean)
        # Straight there while the next window lasts: a jump would bend what is measured in it.
        self.slide, self.sliding = (goal - self.middle) / blocks, blocks

    def turn_to(self, frequency: float) -> None:
        """Another frequency, from where the oscillation stands; smaller where the specimen will be stiffer at it than
        its mean keeps taut: by the local form of what storage and loss have to do with each other, d ln E' / d ln f is
        2/pi of tan delta (Booij and Thoone, Rheologica Acta 21, 1982)."""
        if self.last is not None and self.came is not None and frequency > self.frequency and self.last.real > 0:
            tan = min(max(self.last.imag / self.last.real, 0.0), MOST_LOSS)
            stiffer = (frequency / self.frequency) ** (2 / math.pi * tan)
            taut = self.came / (self.play.track / 100) / max(self.stiffness * stiffer, 1e-12)
            # A mean that is gone already keeps nothing taut: the faintest oscillation, and none turned round.
            self.amplitude = max(min(self.amplitude, taut), FAINTEST * self.play.smallest_amplitude)
        self.frequency = frequency

    def keep(self, x: float, e: complex) -> None:
        """A point more of the curves that grow."""
        tan = e.imag / e.real if e.real > 0 else math.nan
        values = {"storage": e.real / 1e6, "loss": e.imag / 1e6, "tan_delta": tan}
        for key, value in values.items():
            if not math.isfinite(value) or (key != "tan_delta" and value <= 0):
                continue
            xs, ys = self.points.setdefault(self.series, {}).setdefault(key, ([], []))
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
        modulus: dict[str, Any] = {}
        tan: dict[str, Any] = {}
        for series in list(self.points)[-SEEN:]:
            held_here = {k: [list(x), list(y)] for k, (x, y) in self.points[series].items()}
            for key, name, curves in (("storage", "Storage", modulus), ("loss", "Loss", modulus),
                                      ("tan_delta", "tan delta", tan)):  # fmt: skip
                if key in held_here:
                    curves[f"{name}{series}"] = held_here[key]
        if modulus or tan:
            made["curves"] = {k: v for k, v in (("modulus", modulus), ("tan_delta", tan)) if v}
            made["units_x"] = {"modulus": self.over, "tan_delta": self.over}
        return made

    @property
    def over(self) -> str:
        """Unit of what the growing curves stand over."""
        p = self.play
        if p.temperature is not None or (len(p.temperatures) > 1 and len(p.frequencies) == 1 == len(p.swings)):
            return "°C"
        if p.duration is not None:
            return "s"
        return "µm" if len(p.swings) > 1 and len(p.frequencies) == 1 else "Hz"

    def place(self, frequency: float, at: float | None) -> tuple[float, str]:
        """Where on its growing curve a point stands, and the name of that curve."""
        p, over = self.play, self.over
        x = {"°C": self.warm[-1] if self.warm else 0.0, "Hz": frequency, "µm": 1e6 * self.asked, "s": self.t}[over]
        said = [f"{at:g} °C"] if len(p.temperatures) > 1 and over != "°C" and at is not None else []
        said += [f"{1e6 * self.asked:.3g} µm"] if len(p.swings) > 1 and over != "µm" else []
        return x, "".join(f", {s}" for s in said)

    def leave_marks(self) -> tuple[Mapping[str, Any], ...]:
        made, self.marks = tuple(self.marks), []
        return made

    def setting(self, wanted: float | None) -> dict[str, Any] | None:
        """The chamber's set point where it changed by a count or more."""
        if wanted is None or (self.set_point is not None and abs(wanted - self.set_point) < 0.1 - 1e-9):
            return None
        self.set_point = wanted
        return {"chamber": round(wanted, 1)}


@dataclass(frozen=True)
class Kept:
    """No ramp: the temperature stays, or is nobody's business."""

    first: float | None

    def at(self, _seconds: float) -> float | None:
        """°C"""
        return self.first


def perform(settings: DmaSettings, facts: Facts) -> Performance:
    """Zero, a grasp at the least force, the first temperature, and then the ramp or the frequencies."""
    yield from run_of(Dynamic(settings, facts))


def run_of(run: Dynamic) -> Performance:
    """The same, of a state that others look at meanwhile."""
    yield Want(np.zeros(run.facts.block))
    yield from _zero(run)
    why = yield from _grasp(run)
    play = run.play
    if play.temperature is not None or play.duration is not None:
        ramp = play.temperature or Kept(play.at)
        if not why and ramp.first is not None and run.chamber:
            why = yield from _soak(run, ramp.first)
        why = why or (yield from _ramp(run, ramp))
    else:
        for k, at in enumerate(play.soaks):
            if not why and at is not None and run.chamber:
                why = yield from _soak(run, at, k)
            why = why or (yield from _frequencies(run, at, k))
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


def _soak(run: Dynamic, wanted: float, number: int = 0) -> Stage:
    """The least force held while the chamber goes to its start, or to the next temperature, which has that `number`."""
    item = 1 + number * (1 + len(run.play.frequencies))
    run.held.clear()
    gone, force, n = 0.0, 0.0, 0
    run.met, run.missed, run.sliding = max(run.stiffness, SOFTEST), 0.0, 0
    run.missing.clear()
    got = yield Want(np.zeros(run.facts.block), settings=run.setting(wanted))
    while not run.soaked(wanted):
        held = run.units(got)
        run.t = got.start
        if gone > PATIENCE:
            return "the chamber did not come to its temperature"
        if any(o["order"] == "skip" for o in got.orders):
            break
        live = run.live(item, min(gone, 600.0), 600.0, held, f"to {wanted:g} °C")
        if number:
            out = run.holding(held, run.play.least_force)
        else:  # it only softens on the way to the first
            force, n = force + float(np.mean(held["force"])), n + 1
            if n * run.span >= CONTROL:
                run.follow(run.play.least_force, force / n, n)
                force, n = 0.0, 0
            out = run.drawn(held)
        got = yield Want(out, live=live)
        gone += run.span
    if number:
        # What it became meanwhile nobody has seen oscillate: it begins anew with what its mean keeps taut for sure.
        stiff = max(run.stiffness, STIFFER * run.met)
        run.amplitude = min(run.amplitude, run.play.least_force / (run.play.track / 100) / max(stiff, 1e-6))
        run.watch.forget()
        run.rest, run.before, run.off = run.met, (run.middle, run.play.least_force), 0.0
    return ""


def _ramp(run: Dynamic, ramp: Any) -> Stage:
    """A ramp of temperature; or one temperature for as long as is asked for."""
    seconds = max(run.settings.window / run.frequency, CONTROL)
    whole = run.play.duration or abs(ramp.last - ramp.first) / ramp.rate
    item = 1 if ramp.first is None else 2
    begun = run.t
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
            run.keep(run.warm[-1] if run.over == "°C" else run.t - begun - quiet, found)
        if any(o["order"] == "skip" for o in got.orders):
            return "operator"
        live = run.live(item, max(gone - quiet, 0.0), whole, held, "settling" if gone < quiet else "")
        if abs(gone - quiet) < run.span / 2:
            run.marks.append({"kind": "ramp", "t": got.start, "start": got.start, "frequency": run.frequency})
        got = yield Want(run.block(held), marks=run.leave_marks(), settings=run.setting(wanted), live=live)
        gone += run.span
    return ""


def _frequencies(run: Dynamic, at: float | None, number: int) -> Stage:
    """Each frequency, and each amplitude at it, until two windows agree, or says that they do not; at the temperature
    `at` [°C], which has that `number`."""
    soak = 0 if at is None else 1
    first = 1 + soak + number * (soak + len(run.play.frequencies))
    got = yield Want(np.zeros(run.facts.block))
    run.marks.append({"kind": "dma", "t": got.start, "mode": "frequencies"})
    for i, frequency in enumerate(run.play.frequencies):
        run.turn_to(frequency)
        for asked in run.play.swings:
            run.asked = asked
            got = yield from _point(run, got, at, first + i)
    return ""


def _point(run: Dynamic, got: Got, at: float | None, item: int) -> Generator[Want, Got, Got]:
    """One point: to its amplitude, then window by window until it rests."""
    frequency, before, most = run.frequency, None, run.play.most_windows
    run.held.clear()
    seconds = max(run.settings.window / frequency, CONTROL)
    begun, windows, settled, run.level = got.start, 0, False, False
    swing = grown = 0.0
    # As long as it still comes up it is given more time: the mean, which keeps it taut, goes first.
    while not run.level and got.start - begun < (LONGER if run.swing > 1.02 * grown else 1) * most * seconds:
        if run.swing != swing:
            grown, swing = swing, run.swing
        held = run.units(got)
        run.watch.forget()  # it comes up: what its windows show is not steady yet
        run.look(held, max(1 / frequency, CONTROL))
        live = run.live(item, got.start - begun, seconds * most, held, "to its amplitude")
        got = yield Want(run.block(held), marks=run.leave_marks(), live=live)
    run.held.clear()
    run.watch.forget()
    while windows < most and not settled:
        held = run.units(got)
        run.t = got.start
        start = got.start + run.span - seconds
        found = run.look(held, seconds, max(1.0, 1 / frequency))
        if run.jumped is not None:
            yield from _tripped(run)
        if found is not None:
            windows += 1
            settled = before is not None and abs(found / before - 1) < run.play.spread / 100
            settled = settled and (run.level or len(run.play.swings) == 1)
            before = found
            if settled or windows == most:
                x, run.series = run.place(frequency, at)
                run.keep(x, found)
                mark = {"kind": "point", "t": start, "start": start, "stop": got.start + run.span,
                        "frequency": frequency, "settled": bool(settled)}  # fmt: skip
                mark |= {} if at is None else {"temperature": at}
                run.marks.append(mark | ({"amplitude": run.asked} if len(run.play.swings) > 1 else {}))
        if any(o["order"] == "skip" for o in got.orders):
            break
        live = run.live(item, got.start - begun, seconds * most, held)
        got = yield Want(run.block(held), marks=run.leave_marks(), live=live)
    return got


def _tripped(run: Dynamic) -> Performance:
    """The end of a run whose stiffness jumped; it does not come back."""
    assert run.jumped is not None
    yield Want(np.zeros(run.facts.block), marks=run.leave_marks(), trip=trip_of(run.jumped))
    while True:
        yield Want(np.zeros(run.facts.block))


def _rest(run: Dynamic) -> Performance:
    """Back to no force, wherever that is now (what cooled under load stays long), and still; the chamber is left where
    it is."""
    got = yield Want(np.zeros(run.facts.block), marks=run.leave_marks())
    gone = 0.0
    run.met, run.missed, run.sliding = max(run.stiffness, run.met, SOFTEST), 0.0, 0
    run.missing.clear()
    while gone < RELEASE:
        held = run.units(got)
        if gone > CONTROL and abs(float(np.mean(held["force"]))) < 0.1 * run.play.least_force:
            break
        got = yield Want(run.holding(held, 0.0))
        gone += run.span
    for _ in range(4):
        yield Want(np.zeros(run.facts.block))
