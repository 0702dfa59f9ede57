"""A specimen pulled: zero, pull, break, rest. What is commanded is a speed of the crosshead: no command is rest."""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import numpy as np

from ...contracts.method import Facts, Got, Performance, Thinned, Want
from ...contracts.recording import Floats
from ...contracts.samples import curves_of
from ...core.errors import BadInput
from .gripping import grip
from .slip import LEAST, PinWatch, SlipWatch
from .tension_course import GrowingCourse, growing_line
from .tension_measured import LENGTHS
from .tension_points import UNITS, Points

if TYPE_CHECKING:
    from .tension import TensionSettings

ACCELERATE = 0.2
"""s in which the crosshead reaches its speed"""
BITE = 0.01
"""Share of the frame's force below which nothing is called a break"""
WATCHED = 1e-4
"""Strain over which its rate is told, within a tenth of a second and one"""
CLOSE = 0.005
"""s in which the command goes to nothing at the end"""
AFTER = 0.5
"""s that are recorded once the crosshead rests"""
TAKE_OFF = "Take the extensometer off"
STIFF = 2e11
"""Pa, of steel: what a rate of stress is guessed to be as a speed"""
MOST = 400
"""Points of the live curve"""
FLOWS, STEEP, SURE = 0.3, 5e-5, 4
"""Share of its steepest slope below which a specimen flows; strain over which that is told; blocks in which it must"""
SOFTENS = 0.8
"""Share of the most that the stress grew by with the crosshead, below which no rate of stress makes it faster"""
BACK = 10.0
"""Times its speed that the crosshead goes back at"""
MEETS = 0.02
"""Share of the greatest force at which it meets something then"""
SOFTEST = 12.0
"""Times the speed that the specimen alone would want, beyond which no strain that stays away makes the crosshead"""
BITTEN = 1.5e-5
"""Strain above which the grips have bitten"""
TIGHTEN = (0.6, 1.25)
"""By which the speed may change from one block to the next, where strain is controlled"""


class Pull:
    """The state of a pull. Volts in, volts out; everything between in SI units."""

    def __init__(self, settings: TensionSettings, facts: Facts) -> None:
        self.settings, self.facts = settings, facts
        if "frame_speed" not in facts.limits:
            raise BadInput("the rig describes no load frame: give its `frame` speed, force and travel.")
        self.per_volt = facts.limits["frame_speed"]
        self.fastest = 0.98 * facts.source_range * abs(self.per_volt)
        self.span = facts.block / facts.rate
        self.sign = -1.0 if settings.kind == "compression" else 1.0
        size = settings.specimen
        self.area = size.section()
        self.gauge = size.gauge_length if "extension" in facts.sensitivity else size.parallel_length
        self.parallel = size.parallel_length or size.gauge_length or 0.05
        self.speed = self.before = 0.0
        self.zero: dict[str, float] = {}
        self.sums: dict[str, tuple[float, int]] = {}
        self.gripped: float | None = None
        """N that closing the second grip put on it; None where the zero is taken in both"""
        self.top = 0.0
        if settings.pull.control == "stress" and not self.area:
            raise BadInput("pull: a rate of stress needs the specimen's sizes: type them on its drawing.")
        self.loads: deque[tuple[float, float, float]] = deque(maxlen=max(round(4.0 / self.span), 8))
        """s, strain, stress [Pa] of the newest blocks"""
        self.steepest, self.flat = 0.0, 0
        self.firmest = 0.0
        """Pa/m, the most that the stress grew by with the crosshead"""
        self.flows = False
        """Whether it has begun to flow"""
        watched = min(max(WATCHED / settings.pull.strain_rate, 0.1), 1.0)
        self.strains: deque[tuple[float, float]] = deque(maxlen=max(round(watched / self.span), 3))
        self.ways: deque[tuple[float, float, float]] = deque(maxlen=max(round(1.5 * watched / self.span), 5))
        """Mean strain and stress [Pa] of the newest blocks, and m that had been commanded when they were seen"""
        self.sent: deque[float] = deque([0.0], maxlen=3)
        """m commanded until now, and two blocks ago"""
        finest = settings.pull.finest
        self.points = None if finest is None else Points(
            finest / 100, self.parallel, facts.rate, kept(facts), curves_of(settings.sensitivity))  # fmt: skip
        self.curve: list[tuple[float, float]] = []
        self.course = GrowingCourse(settings.compliance)
        self.line: tuple[float, float] | None = None
        """MPa/% and MPa of the modulus line so far"""
        self.switched = False
        off = settings.extensometer_off
        self.off_at = off / 100 if off is not None and "extension" in facts.sensitivity else None
        if self.off_at is not None and ("displacement" not in facts.sensitivity or not size.parallel_length):
            raise BadInput(
                "extensometer_off: the strain goes on with displacement: that needs a displacement channel and the"
                " specimen's parallel_length."
            )
        self.slip = SlipWatch() if {"extension", "displacement"} <= set(facts.sensitivity) else None
        self.pin: PinWatch | None = None
        if "extension" in facts.sensitivity and self.area and size.gauge_length:
            bite = BITE * facts.limits["frame_force"]
            self.pin = PinWatch(self.area, size.gauge_length, self.parallel, bite)
        self.rests = 0.0
        """m, noise of the extensometer at rest"""
        self.pinned: float | None = None
        """m, that it must have moved by at least and has not"""
        self.slipped: float | None = None
        """m, by which the extensometer slipped: from there on nothing rests on it"""
        self.joint: tuple[float, float] | None = None
        """Strain, and strain by travel, where the extensometer was done with"""

    def units(self, channels: Mapping[str, Floats]) -> dict[str, Floats]:
        """Samples in N and m, less zero, counted positive the way that is pulled."""
        made = {}
        for role, x in channels.items():
            if role in self.facts.sensitivity:
                made[role] = self.sign * (x / self.facts.sensitivity[role] - self.zero.get(role, 0.0))
        return made

    def learn_zero(self, channels: Mapping[str, Floats]) -> None:
        for role, x in channels.items():
            if role in self.facts.sensitivity:
                s, n = self.sums.get(role, (0.0, 0))
                self.sums[role] = (s + float(x.sum()) / self.facts.sensitivity[role], n + x.size)
        if "extension" in self.facts.sensitivity:
            at_rest = channels["extension"] / self.facts.sensitivity["extension"]
            self.rests = max(self.rests, float(np.std(at_rest)))
            if self.slip is not None:
                self.slip.rest(at_rest)

    def set_zero(self) -> dict[str, float]:
        before = {"force": self.zero["force"]} if self.gripped is not None else {}
        self.zero = {role: s / n for role, (s, n) in self.sums.items() if n} | before
        return self.zero

    def strain(self, held: Mapping[str, Floats]) -> float | None:
        """At the end of a block: the extensometer's until it is done with, and from there what the travel adds."""
        if self.joint is not None:
            return self.joint[0] + self._by_travel(held) - self.joint[1]
        length = held["extension"] if "extension" in held else held.get("displacement")
        return None if length is None or not self.gauge else float(length[-1]) / self.gauge

    def _by_travel(self, held: Mapping[str, Floats]) -> float:
        way = float(held["displacement"][-1]) - self.settings.compliance * float(held["force"][-1])
        return way / self.parallel

    def wanted(self, t: float) -> float:
        """Speed [m/s] for the next block."""
        pull = self.settings.pull
        if pull.switch_at is not None and self.curve and self.curve[-1][0] >= pull.switch_at:
            self.switched = True
        self.switched = self.switched or (pull.switch_after_yield and self.flows)
        if self.switched and pull.speed_after is not None:
            return min(pull.speed_after, self.fastest)
        if pull.control == "stress":
            return self._by_stress(pull.stress_rate)
        if pull.control == "crosshead" or self.gauge is None:
            return min(pull.speed, self.fastest)
        alone = pull.strain_rate * self.parallel
        return min(self._following(pull.strain_rate, 0, alone), SOFTEST * alone)

    def _following(self, rate: float, of: int, first: float) -> float:
        """m/s that bring a rate of the strain (`of` 0) or of the stress (1), from what either grows by as the crosshead
        goes on: that is the specimen's and the frame's, whatever the speed, so that the speed it wants follows at once.
        Until the grips have bitten it tells nothing: `first`, or the speed that it has."""
        per_way = self._per_way(of)
        if per_way is None or self.speed <= 0:
            return min(max(self.speed, first), self.fastest)
        share = min(max(rate / per_way / self.speed, TIGHTEN[0]), TIGHTEN[1])
        return min(self.speed * share**0.6, self.fastest)

    def _per_way(self, of: int) -> float | None:
        """Strain [1/m] or stress [Pa/m] over what had been commanded; None until the grips have bitten."""
        if len(self.ways) < 4:
            return None
        held = np.array(self.ways)
        there, way = held[:, 0] > BITTEN, held[:, 2]
        if there.sum() < 4 or not there[-1] or np.ptp(way[there]) <= 0:
            return None
        slope = float(np.polyfit(way[there] - way[-1], held[there, of], 1)[0])
        return slope if slope > 0 else None

    def _by_stress(self, rate: float) -> float:
        """m/s that bring a rate of stress [Pa/s]; from where it flows the speed stays (ISO 6892-1, method B)."""
        per_way = self._per_way(1) or 0.0
        self.firmest = max(self.firmest, per_way)
        # What begins to flow takes ever more way for the same stress: no faster for that.
        if self.speed > 0 and (self.flows or 0 < per_way < SOFTENS * self.firmest):
            return self.speed
        return self._following(rate, 1, min(self.settings.pull.speed, self.fastest))

    def _flow(self) -> None:
        """Whether the newest blocks show less than a share of the steepest slope of stress over strain."""
        if self.flows or len(self.loads) < 4:
            return
        _, strain, stress = np.array(self.loads).T
        far = np.flatnonzero(strain[-1] - strain >= STEEP)
        if not far.size:
            return
        tail = slice(min(int(far[-1]), strain.size - 4), None)
        slope = float(np.polyfit(strain[tail] - strain[-1], stress[tail], 1)[0])
        self.steepest = max(self.steepest, slope)
        self.flat = self.flat + 1 if slope < FLOWS * self.steepest else 0
        self.flows = self.flat >= SURE

    def rows(self, got: Got) -> list[dict[str, float]]:
        """What is kept of a block as means."""
        return [] if self.points is None else self.points.add(got.start, got.channels, self.speed)

    def _strain_rate(self) -> float | None:
        if len(self.strains) < 3:
            return None
        t, e = np.array(self.strains).T
        return float(np.polyfit(t - t[0], e, 1)[0])

    def look(self, t: float, held: Mapping[str, Floats]) -> bool:
        """Take a block; whether the specimen broke in it."""
        force = held["force"]
        if self.slip is not None and self.joint is None and self.slipped is None:
            self.slipped = self.slip.look(held)
            if self.slipped is not None and self.strains:
                self.joint = (self.strains[-1][1], self.before)
        if self.pin is not None and self.joint is None:
            self.pinned = self.pin.look(held, self.rests)
        self.before = self._by_travel(held) if "displacement" in held else 0.0
        self.course.add(t, held)
        strain = self.strain(held)
        if strain is not None:
            if self.off_at is not None and self.joint is None and strain >= self.off_at:
                self.joint = (strain, self._by_travel(held))
            self.strains.append((t, strain))
            if self.joint is None and "extension" in held:
                strain = float(np.mean(held["extension"])) / (self.gauge or 1.0)
            self.ways.append((strain, float(np.mean(force)) / (self.area or 1.0), self.sent[0]))
            if self.area:
                self.loads.append((t, strain, float(np.mean(force[-8:])) / self.area))
                self._flow()
                self.curve.append((100 * strain, float(np.mean(force[-8:])) / self.area / 1e6))
        before = self.top
        self.top = max(before, float(force.max()))
        bite = BITE * self.facts.limits["frame_force"]
        first = int(np.argmax(force)) if self.top > before else 0
        low = float(force[first:].min())
        return self.top > bite and low < (1 - self.settings.break_drop / 100) * self.top

    def block(self, wanted: float) -> Floats:
        """Volts of the next block; the speed changes no faster than ACCELERATE allows."""
        most = self.span / ACCELERATE * max(wanted, self.speed, 1e-9)
        after = self.speed + min(max(wanted - self.speed, -most), most)
        made = np.linspace(self.speed, after, self.facts.block + 1)[1:]
        self.sent.append(self.sent[-1] + float(np.mean(made)) * self.span)
        self.speed = after
        return np.asarray(self.sign * made / self.per_volt)

    def halted(self) -> Floats:
        """Volts of the block in which it comes to rest."""
        made = np.zeros(self.facts.block)
        n = min(max(int(CLOSE * self.facts.rate), 2), self.facts.block)
        made[:n] = self.sign * np.linspace(self.speed, 0.0, n + 1)[1:] / self.per_volt
        self.speed = 0.0
        return made

    def _modulus_line(self, shown: dict[str, str]) -> dict[str, list[list[float]]]:
        """The line that grows with the curve, and stays where the specimen begins to flow; its slope among what is
        shown."""
        if not self.flows:
            self.line = growing_line(self.curve[-4 * MOST :]) or self.line
        if self.line is None:
            return {}
        slope, offset = self.line
        shown["Modulus so far"] = f"{slope / 10:.4g} GPa"
        top = 1.02 * max(s for _, s in self.curve[-4 * MOST :])
        return {"modulus": [[-offset / slope, (top - offset) / slope], [0.0, top]]}

    def live(self, held: Mapping[str, Floats], t: float, item: int, at: float, of: float) -> dict[str, Any]:
        force = float(held["force"][-1])
        made: dict[str, Any] = {"item": item, "at": at, "of": of, "broken": force < 0.5 * self.top and self.top > 0}
        shown = {"Force": f"{force / 1e3:.3f} kN"}
        if self.curve:
            strain, stress = self.curve[-1]
            made["strain"] = strain
            shown |= {"Stress": f"{stress:.1f} MPa", "Strain": f"{strain:.3f} %"}
            step = max(len(self.curve) // MOST, 1)
            x, y = zip(*self.curve[::step], strict=True)
            grown = {"now": [list(x), list(y)], **self._modulus_line(shown)}
            made["curves"] = {"stress": grown, **self.course.curves()}
        rate = self._strain_rate()
        if rate is not None:
            shown["Strain rate"] = f"{rate:.2g} 1/s"
        if "displacement" in held:
            way = float(held["displacement"][-1])
            shown["Travel"] = f"{1e3 * way:.2f} mm"
            made["travel"] = way
        left = self.facts.limits["frame_force"] - force
        shown["Force left"] = f"{left / 1e3:.1f} kN"
        return {**made, "shown": shown}


def perform(settings: TensionSettings, facts: Facts) -> Performance:
    """Zero, pull, rest."""
    pull = Pull(settings, facts)
    planned = [settings.pull.rest, duration(settings)]
    got: Got = yield Want(np.zeros(facts.block))
    marks: tuple[Mapping[str, Any], ...] = ()
    if settings.pull.zero_in == "one grip":
        got = yield from grip(pull, got)
        marks = ({"kind": "gripped", "t": got.start, "force": pull.gripped},)
    start = got.start
    while got.start - start < settings.pull.rest:
        pull.learn_zero(got.channels)
        held = pull.units(got.channels)
        told = {"Force": f"{float(held['force'][-1]) / 1e3:.3f} kN"}
        shown = {"item": 0, "at": got.start - start, "of": planned[0], "shown": told}
        got = yield Want(np.zeros(facts.block), live=shown)
    zero = pull.set_zero()
    marks = (
        *marks, {"kind": "zero", "t": got.start, **zero},
        {"kind": "pull", "t": got.start, "control": settings.pull.control},
    )  # fmt: skip
    begun = got.start
    why = ""
    last = -1.0
    live: dict[str, Any] | None = None
    lost = False
    waits, on = settings.pull.take_off == "wait", pull.off_at is not None
    while not why:
        held, rows = pull.units(got.channels), pull.rows(got)
        t = got.start + pull.span
        if pull.look(t, held):
            why = "break"
        elif "displacement" in held and float(held["displacement"][-1]) >= settings.pull.travel:
            why = "travel"
        elif any(o.get("order") == "skip" for o in got.orders):
            why = "operator"
        elif t - begun > 3 * planned[1] + 60:
            why = "time"
        live = None
        if pull.slipped is not None and not lost:
            lost, on = True, False
            marks = (*marks, {"kind": "extensometer lost", "t": t, "by": pull.slipped})
            if settings.pull.control == "strain" and not why:
                yield Want(pull.halted(), marks=marks, trip=trip_of(pull.slipped))
                while True:
                    yield Want(np.zeros(facts.block))
        if pull.pinned is not None and not why:
            yield Want(pull.halted(), marks=marks, trip=pinned_trip(pull.pinned, held))
            while True:
                yield Want(np.zeros(facts.block))
        asking = on and pull.joint is not None
        sent: dict[str, bool] | None = None
        if asking and any(o.get("order") == "go" for o in got.orders):
            on = asking = False
            marks, sent = (*marks, {"kind": "extensometer off", "t": t}), {"take_off": True}
        if t - last >= 0.2 or why or asking:
            live, last = pull.live(held, t, 1, t - begun, planned[1]), t
            live |= {"stage": "asking", "ask": TAKE_OFF} if asking and not why else {}
        if why:
            marks = (*marks, {"kind": "pulled", "t": t, "why": why})
            break
        if asking and waits:
            begun += pull.span  # what is waited for is no part of the pull
            got = yield Want(pull.halted(), marks=marks, live=live, keep=pull.points is None, rows=rows)
        else:
            got = yield Want(pull.block(pull.wanted(t)), marks=marks, live=live, settings=sent,
                             keep=pull.points is None, rows=rows)  # fmt: skip
        marks = ()
    # Nothing commanded is rest: the valve closes at once, not by a step.
    got = yield Want(pull.halted(), marks=marks, live=live)
    until = got.start + AFTER
    while got.start < until:
        got = yield Want(np.zeros(facts.block))
    if why == "break" and settings.pull.go_back and "displacement" in facts.sensitivity:
        yield from _go_back(pull, got)


def _go_back(pull: Pull, got: Got) -> Performance:
    """To where it began, no further, and only as long as nothing is met."""
    speed = min(BACK * pull.settings.pull.speed, pull.fastest)
    most = max(MEETS * pull.top, BITE * pull.facts.limits["frame_force"] / 10)
    begun, met = got.start, False
    first = abs(float(np.mean(pull.units(got.channels)["force"])))
    longest = 2 * pull.settings.pull.travel / speed + 10
    while True:
        held = pull.units(got.channels)
        way = float(np.mean(held["displacement"]))
        met = abs(float(np.mean(held["force"]))) > first + most
        # What it shows is two blocks old: it slows down before it is there.
        now = min(speed, max(way, 0.0) / (8 * pull.span))
        if met or way < 2e-5 or got.start - begun > longest or any(o.get("order") == "skip" for o in got.orders):
            break
        volts = -pull.sign * np.full(pull.facts.block, now / pull.per_volt)
        got = yield Want(volts, live=pull.live(held, got.start, 1, 1.0, 1.0))
    yield Want(np.zeros(pull.facts.block), marks=({"kind": "went back", "t": got.start, "met": met},))
    yield Want(np.zeros(pull.facts.block))


def trip_of(slipped: float) -> dict[str, Any]:
    """The end of a pull whose strain is controlled by an extensometer that slipped [m]."""
    return {
        "guard": "extensometer", "action": "cut", "channel": "extension",
        "label": "The extensometer slipped or fell off: what is controlled is no strain of the specimen",
        "value": slipped, "limit": LEAST, "unit": "m",
    }  # fmt: skip


def pinned_trip(least: float, held: Mapping[str, Floats]) -> dict[str, Any]:
    """The end of a pull whose extensometer stands still where it must have moved by `least` [m]."""
    return {
        "guard": "extensometer", "action": "cut", "channel": "extension",
        "label": "The extensometer does not move with the specimen: is its pin in?",
        "value": float(np.mean(held["extension"])), "limit": least, "unit": "m",
    }  # fmt: skip


def kept(facts: Facts) -> dict[str, float]:
    """V per unit of the roles of which means are kept."""
    return {r: facts.sensitivity[r] for r in ("force", *LENGTHS) if r in facts.sensitivity}


def kept_of(settings: TensionSettings, facts: Facts) -> Thinned | None:
    """How the record is kept where means are enough; None: every sample."""
    pull = settings.pull
    if pull.finest is None:
        return None
    columns = {"t": "s", "covers": "", **{r: UNITS.get(r, "m") for r in kept(facts)}}
    back = duration(settings) / BACK if pull.go_back else 0.0
    return Thinned(pull.rest + AFTER + back + pull.whole, pull.whole, columns)


def duration(settings: TensionSettings) -> float:
    """s that a pull takes at most, about."""
    pull = settings.pull
    size = settings.specimen
    if pull.control == "stress" and size.parallel_length:  # most of it flows, at the speed that it has by then
        return pull.travel / max(pull.stress_rate / STIFF * size.parallel_length, pull.speed)
    if pull.control == "strain" and settings.specimen.parallel_length:
        return pull.travel / max(pull.strain_rate * settings.specimen.parallel_length, 1e-9)
    return pull.travel / pull.speed
