"""Pulses on a load frame: mean and amplitude in force or length, adapted from cycle to cycle as a specimen softens."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import numpy as np

from ...contracts.method import Facts, Got, Performance, Want
from ...contracts.recording import Floats
from ...core.errors import BadInput
from .columns import computed as of_columns
from .columns import formulas
from .cycle_seen import CycleSeen, Trend, computed, measured
from .cyclic_before import go_through
from .stiffness_watch import COARSE, LEAST, StiffnessWatch, trip_of

if TYPE_CHECKING:
    from .cyclic import CyclicSettings

FOLLOW = 2.0
"""1/s by which the crosshead is drawn to where it should be: slow, since what it shows is two blocks old"""
LATE = 3
"""Blocks by which what is shown lies behind what is commanded"""
GROW = 4
"""Cycles in which the amplitude comes up from a third"""
FROM_BELOW = 0.92
"""Share of what it should then be, so that no peak goes beyond what is wanted"""
CONTACT = 2.0
"""s in which the crosshead goes to half of the mean, and then to the mean"""
WHOLE = 3
"""Cycles below its share after which a specimen is spent"""
LEARN = 0.6
"""Share of what is missing that a cycle's amplitude is changed by"""
BEYOND = 1.3
"""Times the amplitude that the crosshead's speed allows, to which it may be corrected: flanks become straight then"""
SURE = 20.0
"""Times the scatter of the force that it must be, to be taken for contact"""
FEW = 8
"""Samples at the end of a block by which that is told"""
NOTHING = 0.05
"""Share of the stiffness before below which nothing is there that bears"""
FALLEN = (0.15, 0.2)
"""Share of the greatest force that should be there, and share of that which is at most, where a specimen has broken"""
MOST_CHANGE = 0.12
"""Share by which an amplitude changes at most from cycle to cycle"""
KEPT = 12
"""Points of the trend that are left of it where a run is taken up"""
EVERY, SELDOM = 1.0, 1e-4
"""s between two positions that could be gone on from, at least; and share of the time that has passed"""
MOST_SHOWN = 12
"""Blocks that are drawn one by one"""


class Pulses:
    """The state of a run of pulses. Forces and lengths count positive where they are pressed."""

    def __init__(self, settings: CyclicSettings, facts: Facts) -> None:
        if "frame_speed" not in facts.limits:
            raise BadInput("the rig describes no load frame: give its `frame` speed, force and travel.")
        self.settings, self.facts, self.pulse = settings, facts, settings.pulse
        self.per_volt = facts.limits["frame_speed"]
        self.fastest = 0.98 * facts.source_range * abs(self.per_volt)
        self.frequency, self.total, self.thin = self.pulse.cycles_a_second, self.pulse.total, self.pulse.thin
        # What is corrected by is older, the longer blocks are beside a cycle: then less at a time, or it would hunt.
        self.learn = LEARN / (1 + 2 * LATE * facts.block * self.frequency / facts.rate)
        made = self.pulse.shaped()
        self.shape, self.slope = made.value, made.slope
        self.zero: dict[str, float] = {}
        self.sums: dict[str, tuple[float, int]] = {}
        self.start = made.start  # it begins in the middle
        self.phase = self.start
        self.cycle = self.begun = 0
        """Of the whole run, an earlier take's included, and at which this one begins"""
        self.block_number = 0
        self.anew = 0
        """Cycle from which the amplitude comes up: at the begin, and where it becomes another one"""
        self.target = self.pulse.size(0)
        force = self.pulse.control == "force"
        # Where force is wanted the first amplitude is what a guess of the stiffness makes of it; cycles correct it.
        self.amplitude = self.target.amplitude / self.pulse.stiffness if force else self.target.amplitude
        self.middle = self.target.mean / self.pulse.stiffness if force else self.target.mean
        for stage in self.pulse.before:
            stage.roles(facts)
        steep = float(np.abs(self.slope(np.linspace(0, 1, 1000))).max())
        self.most = self.fastest / (steep * self.frequency)
        """m, amplitude that the crosshead's speed allows"""
        self.held_up = False
        """Whether it wanted more than that"""
        if self.amplitude > self.most:
            need, does = (f"{1e3 * v:.3g} mm/s" for v in (self.amplitude * steep * self.frequency, self.fastest))
            raise BadInput(
                f"pulse: {1e3 * self.amplitude:.3g} mm either way at {self.frequency:g} Hz need {need} of the"
                f" crosshead, which does {does}: choose a lower frequency, or a smaller amplitude."
            )
        self.columns = formulas(settings.columns, settings.specimen)
        self.cycles: list[dict[str, float]] = []
        """What the first and the newest cycle showed, for the columns"""
        self.stood = 0.0
        """N/m, at the end of the block before"""
        self.taken_up = False
        self.offset = 0.0
        if self.frequency * facts.block / facts.rate > 0.5:
            raise BadInput(
                f"pulse, frequency: {self.frequency:g} Hz is too fast for a front end that hands on {facts.block}"
                f" samples at a time: choose {0.5 * facts.rate / facts.block:.3g} Hz at most, or a higher rate."
            )
        self.seen: dict[str, list[float]] = {}
        self.told = CycleSeen(seen_roles(facts))
        """Cycles as a reading tells them: from one rise through the middle to the next"""
        self.turned = 0
        """Number of the cycle that `told` is in"""
        self.u: Floats = np.zeros(facts.block)
        self.newest: Mapping[str, float] | None = None
        """The last that did"""
        self.row: dict[str, float] | None = None
        """What the cycle that has just ended showed"""
        self.trend = Trend()
        self.first: float | None = None
        self.below = 0
        self.watch = StiffnessWatch()
        self.jumped: float | None = None
        """Factor by which the stiffness jumped: nothing is corrected by it any more"""
        self.line: tuple[float, float, float, float] | None = None
        """Least force of the last cycle, stiffness, length there, greatest force; None before its contact"""
        self.why = ""

    def learn_zero(self, channels: Mapping[str, Floats]) -> None:
        for role, x in channels.items():
            if role in self.facts.sensitivity:
                s, n = self.sums.get(role, (0.0, 0))
                self.sums[role] = (s + float(x.sum()) / self.facts.sensitivity[role], n + x.size)

    def set_zero(self) -> dict[str, float]:
        self.zero = {role: s / n for role, (s, n) in self.sums.items() if n}
        return self.zero

    def units(self, channels: Mapping[str, Floats]) -> dict[str, Floats]:
        return {
            role: self.pulse.sign * (x / self.facts.sensitivity[role] - self.zero.get(role, 0.0))
            for role, x in channels.items() if role in self.facts.sensitivity
        }  # fmt: skip

    def block(self, held: Mapping[str, Floats]) -> Floats:
        """Volts of the next block: the shape's own speed, drawn to where the crosshead should be."""
        n, rate = self.facts.block, self.facts.rate
        u = self.phase + self.frequency * (np.arange(n) + 1) / rate
        fresh = self.cycle - self.begun < GROW
        grown = np.clip((u - self.begun + 1) / GROW, 1 / 3, 1.0) if fresh else np.ones(n)
        size = self.amplitude * grown
        speed = size * self.slope(np.asarray(u)) * self.frequency
        # What is shown was commanded two blocks ago: it is held against where it should have been then.
        was = u[0] - LATE * n * self.frequency / rate
        if was > self.begun + self.start:
            risen = min((was - self.begun + 1) / GROW, 1.0)
            should = self.middle + self.amplitude * float(self.shape(np.array(was))) * risen
            speed = speed + FOLLOW * (should - float(held["displacement"][0]))
        else:
            speed = speed + FOLLOW * (self.middle - float(held["displacement"][0]))
        self.phase, self.u = float(u[-1]), np.asarray(u)
        return np.asarray(np.clip(self.pulse.sign * speed, -self.fastest, self.fastest) / self.per_volt)

    @property
    def longest(self) -> float:
        """m that the pulses will press or pull, about."""
        far = max(b.mean + b.amplitude for b in self.pulse.sizes)
        if self.pulse.control != "force":
            return float(far)
        return float(far / (self.line[1] if self.line is not None else self.pulse.stiffness))

    @property
    def approach(self) -> float:
        """m/s at which the crosshead comes on."""
        return self.middle / 2 / CONTACT

    def met(self, held: Mapping[str, Floats]) -> tuple[float, float]:
        """Force and length of a block before the pulses; what they show of the stiffness is kept."""
        force, way = float(np.mean(held["force"])), float(np.mean(held["displacement"]))
        # What is hardly more than noise is no contact that could be lost.
        if way > 0 and force > SURE * float(np.std(np.diff(held["force"]))):
            self.line = (0.0, force / way, 0.0, force)
        return force, way

    def meet(self, held: Mapping[str, Floats]) -> bool:
        """Whether the specimen bears half of the mean; then its stiffness is known, and the guess of it put right."""
        force, way = self.met(held)
        if self.pulse.control != "force":
            return way >= 0.5 * self.middle
        if force < 0.5 * self.target.mean:
            return False
        if self.taken_up:  # what it took before is known better than its contact tells now
            return True
        stiffness = force / max(way, 1e-9)
        self.amplitude, self.middle = (v / stiffness for v in (self.target.amplitude, self.target.mean))
        self.amplitude *= FROM_BELOW
        return True

    def drawn(self, held: Mapping[str, Floats], speed: float | None) -> Floats:
        """Volts that bring the crosshead on at a speed [m/s], or to its middle where none is given."""
        if speed is None:
            speed = FOLLOW * (self.middle - float(np.mean(held["displacement"])))
        speed = min(max(speed, -self.fastest), self.fastest)
        return np.full(self.facts.block, self.pulse.sign * speed / self.per_volt)

    def look(self, held: Mapping[str, Floats]) -> bool:
        """Take a block; whether a cycle ended with it, so that amplitude and mean were corrected."""
        for role in ("force", "displacement"):
            x = held[role]
            low, high = self.seen.setdefault(role, [float("inf"), -float("inf")])
            self.seen[role] = [min(low, float(x.min())), max(high, float(x.max()))]
        self._tell(self.told, held)
        self.fallen(held)
        if math.floor(self.phase) <= self.cycle:
            return False
        self.cycle = math.floor(self.phase)
        self._correct()
        self.seen = {}
        return True

    def fallen(self, held: Mapping[str, Floats]) -> None:
        """Whether next to nothing is left of the force that the last cycle showed at this length."""
        if self.line is None:
            return
        low, slope, at, top = self.line
        force, way = (float(np.mean(held[r][-FEW:])) for r in ("force", "displacement"))
        there = low + slope * (way - at)
        if there > FALLEN[0] * top and abs(force) < FALLEN[1] * there:
            self.why = "break"

    def _tell(self, told: CycleSeen, held: Mapping[str, Floats]) -> None:
        """Take a block into the cycle that it belongs to, at the phase at which it was commanded."""
        u = self.u - LATE * self.facts.block * self.frequency / self.facts.rate - self.start
        end = int(np.searchsorted(u, self.turned + 1))
        told.add(held, slice(0, end), u)
        if end == u.size:
            return
        if self.turned > self.begun:  # the one in which they begin is none
            self.row = {"cycle": float(self.turned), **told.values()}
        self.turned += 1
        told.anew()
        told.add(held, slice(end, None), u)

    def keep_shown(self, row: Mapping[str, float]) -> None:
        """A cycle for the live tables and the columns of one's own."""
        self.newest = row
        if self.columns:
            self.cycles = [*self.cycles[:1], {**row, "stiffness": row["force_swing"] / row["displacement_swing"]}]

    def turn(self) -> int | None:
        """The number of the block that begins with this cycle; None where it is the same."""
        number = self.pulse.number(min(self.cycle, self.total - 1))
        if number == self.block_number:
            return None
        before, self.block_number = self.target, number
        self.target = self.pulse.size(self.cycle)
        grown = self.target.amplitude / before.amplitude
        # From below, so that no peak of its first cycles goes beyond what is wanted: they are corrected afterwards.
        self.amplitude *= grown * (FROM_BELOW if grown > 1 else 1.0)
        force = self.pulse.control == "force"
        per = self.trend.last if force and self.trend.last else self.pulse.stiffness if force else 1.0
        self.middle += (self.target.mean - before.mean) / per
        self.anew = self.cycle
        self.stood = self.trend.last or 0.0
        self.watch.forget()
        return number

    def position(self) -> dict[str, Any]:
        """Where it could be gone on from."""
        trend = self.trend.all()
        step = max(len(trend) // KEPT, 1)
        return {"cycle": self.cycle, "amplitude": self.amplitude, "middle": self.middle, "first": self.first,
                "zero": dict(self.zero), "trend": [list(p) for p in trend[::step]]}  # fmt: skip

    def resume(self, start: Mapping[str, Any]) -> None:
        """Take up where an earlier take was: its count, its zero, its amplitude."""
        self.cycle = self.begun = self.anew = self.turned = int(start["cycle"])
        self.phase = self.begun + self.start
        self.block_number = self.pulse.number(min(self.cycle, self.total - 1))
        self.target = self.pulse.size(self.cycle)
        self.amplitude, self.middle = FROM_BELOW * float(start["amplitude"]), float(start["middle"])
        self.first = None if start.get("first") is None else float(start["first"])
        self.zero = {str(k): float(v) for k, v in start["zero"].items()}
        self.trend = Trend(start.get("trend", ()))
        self.taken_up = True

    def _correct(self) -> None:
        low, high = self.seen["displacement"]
        f_low, f_high = self.seen["force"]
        if high - low <= 0:
            return
        stiffness = (f_high - f_low) / (high - low)
        before = self.line[1] if self.line is not None else 0.0  # of the cycle before, or of its contact
        self.line = (f_low, stiffness, low, f_high) if stiffness > 0 else self.line
        if stiffness < NOTHING * before:
            self.why = "break"
            return
        number = self.cycle - 1  # as the record counts them: the one in which they begin is none
        if number > 0:
            self.trend.add(float(number), stiffness)
        since = self.cycle - self.anew
        if since > 2:  # the first softens most of what is made of rubber
            self.jumped = self.watch.jump(stiffness, COARSE if since < GROW + 2 else LEAST)
            if since == GROW and self.stood > 0:
                self.jumped = self.jumped or self.watch.across(self.stood, stiffness)
        growing = self.cycle - self.begun < GROW or (self.anew > self.begun and since < 2)
        if growing or self.jumped is not None:
            return
        which = (f_low, f_high) if self.pulse.control == "force" else (low, high)
        swing, middle = which[1] - which[0], (which[1] + which[0]) / 2
        per = max(stiffness, 1e-9) if self.pulse.control == "force" else 1.0
        # A cycle in which something went wrong may be one of the two by which that is told: it must not undo much.
        missing = self.learn * (self.target.amplitude - swing / 2) / per
        self.amplitude += min(max(missing, -MOST_CHANGE * self.amplitude), MOST_CHANGE * self.amplitude)
        off = self.learn * (self.target.mean - middle) / per
        self.middle += min(max(off, -self.amplitude / 2), self.amplitude / 2)
        self.held_up = self.held_up or self.amplitude > self.most
        self.amplitude = min(max(self.amplitude, 0.0), BEYOND * self.most)
        if number == self.settings.initial_cycle:
            self.first = stiffness
        share = self.settings.stop_share
        # What is made of rubber is softer the further it is moved: like is held against like.
        alike = self.target.amplitude == self.pulse.size(self.settings.initial_cycle).amplitude
        if alike and self.first and share is not None and stiffness < share / 100 * self.first:
            self.below += 1
            if self.below >= WHOLE:  # so many that the record holds them whole
                self.why = "stiffness"

    def _where(self) -> dict[str, Any]:
        """Stretch of the course, and s in it: of its block where each has its own."""
        p, f = self.pulse, self.frequency
        first = 1 + len(p.before)
        if len(p.sizes) * p.repeats > MOST_SHOWN or not p.blocks:
            return {"item": first, "at": self.cycle / f, "of": self.total / f}
        around, place = divmod(self.block_number, len(p.sizes))
        before = around * (self.total // p.repeats) + sum(b.cycles for b in p.sizes[:place])
        return {"item": first + self.block_number, "at": (self.cycle - before) / f, "of": self.target.cycles / f}

    def live(self, held: Mapping[str, Floats]) -> dict[str, Any]:
        shown = {"Cycles": str(self.cycle), "Force": f"{float(held['force'][-1]):.0f} N",
                 "Length": f"{1e3 * float(held['displacement'][-1]):.3f} mm"}  # fmt: skip
        made: dict[str, Any] = {"cycles": self.cycle, **self._where()}
        if self.trend.last:
            shown["Stiffness"] = f"{self.trend.last / 1e3:.4g} N/mm"
            x, y = zip(*self.trend.all(), strict=True)
            made["curves"] = {"stiffness": {"now": [list(x), list(y)]}}
        if self.newest is not None:
            size = self.settings.specimen
            made["measured"] = [list(r) for r in measured(self.newest, self.told.roles)]
            made["computed"] = [list(r) for r in computed(self.newest, size.section(), size.parallel_length)]
        held_cycles = {k: np.array([c[k] for c in self.cycles]) for k in (self.cycles[0] if self.cycles else ())}
        for column, one, values in of_columns(self.columns, held_cycles, self.settings.specimen) if held_cycles else ():
            if values is not None:
                shown[column.title] = f"{values[-1]:.4g} {one.unit}".strip()
                if "computed" in made:
                    made["computed"].append([column.name, column.formula, [None, None, float(values[-1])], one.unit])
        return {**made, "shown": shown}


def seen_roles(facts: Facts) -> tuple[str, ...]:
    """Channels whose extremes are kept of every cycle: the force and all lengths."""
    lengths = [i.role for i in facts.inputs if i.kind == "length" and i.role in facts.sensitivity]
    return ("force", "displacement", *(r for r in lengths if r != "displacement"))


def perform(settings: CyclicSettings, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
    """Zero, pulses, rest; from the position of an earlier take with its zero, its count and its amplitude."""
    pulses = Pulses(settings, facts)
    got: Got = yield Want(np.zeros(facts.block))
    first = got.start
    while start is None and got.start - first < settings.pulse.rest:
        pulses.learn_zero(got.channels)
        got = yield Want(np.zeros(facts.block), live={"item": 0, "at": got.start - first, "of": settings.pulse.rest})
    if start is None:
        pulses.set_zero()
    else:
        pulses.resume(start)
    marks: tuple[Mapping[str, Any], ...] = ({"kind": "zero", "t": got.start, **pulses.zero},)
    if start is None and settings.pulse.before:
        got = yield Want(np.zeros(facts.block), marks=marks)
        marks = ()
        got = yield from go_through(pulses, got)
    # Slowly on until it bears half of the mean; then to the middle, and only then does it pulse.
    slow = pulses.approach
    until = got.start + 6 * CONTACT
    held = pulses.units(got.channels)
    while not pulses.why and not pulses.meet(held):
        pulses.fallen(held)
        if got.start > until:
            pulses.why = "no contact"
            break
        got = yield Want(pulses.drawn(held, slow), marks=marks)
        held, marks = pulses.units(got.channels), ()
    until = got.start + CONTACT
    while not pulses.why and got.start < until:
        got = yield Want(pulses.drawn(held, None), marks=marks)
        held, marks = pulses.units(got.channels), ()
        pulses.fallen(held)
    marks = (*marks, {"kind": "pulses", "t": got.start, "before": pulses.begun})
    last, live, told = got.start, None, False
    while not pulses.why:
        held = pulses.units(got.channels)
        drive = pulses.block(held)
        position, pulses.row = None, None
        rows: list[dict[str, float]] = []
        looked = pulses.look(held)
        if pulses.row is not None:
            rows = [{"t": got.start + facts.block / facts.rate, **pulses.row}]
            pulses.keep_shown(pulses.row)
        if looked or live is None:
            number = pulses.turn()
            if number is not None:
                marks = (*marks, {"kind": "block", "t": got.start, "number": number})
            if pulses.held_up and not told:
                told, marks = True, (*marks, {"kind": "fastest", "t": got.start, "cycle": pulses.cycle})
            live = pulses.live(held)
            if got.start - last >= max(EVERY, SELDOM * got.start) and pulses.cycle - pulses.begun > GROW:
                position, last = pulses.position(), got.start
        if pulses.jumped is not None:
            yield Want(np.zeros(facts.block), marks=marks, live=live, trip=trip_of(pulses.jumped))
            while True:
                yield Want(np.zeros(facts.block))
        if pulses.cycle >= pulses.total:
            pulses.why = "cycles"
        elif any(o.get("order") == "skip" for o in got.orders):
            pulses.why = "operator"
        if pulses.why == "break":
            drive = np.zeros(facts.block)
        keep = not pulses.thin or settings.pulse.keeps(pulses.cycle, pulses.begun)
        got = yield Want(drive, marks=marks, live=live, position=position, keep=keep, rows=rows)
        marks = ()
    marks = ({"kind": "pulsed", "t": got.start, "why": pulses.why, "cycles": pulses.cycle},)
    for _ in range(max(int(0.3 * facts.rate / facts.block), 2)):
        got = yield Want(np.zeros(facts.block), marks=marks)
        marks = ()
