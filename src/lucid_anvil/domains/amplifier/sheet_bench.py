"""An amplifier's bench as a run holds it: what is fed, how it is switched, what is heard while a drive stands still."""

from __future__ import annotations

import math
from collections.abc import Generator, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ...contracts.method import LEAD, Facts, Got, Want
from ...core.audio.distortion import analyse
from ...core.audio.stimuli import Dwell, Sweep, Tones
from ...core.signal.sinefit import Floats
from .sheet_settings import PROBE, SheetSettings

LOST = 0.3
"""Share of the output expected below which it counts as lost: shorted, or the amplifier is off"""
LOST_AFTER = 3
"""Blocks"""
WORTH = 0.5
"""V that must be expected for that"""
COOL_BY = 15.0
"""K that a load cools below the limit before the next reading"""
COOL_LONGEST = 120.0
"""s"""
SWITCHED = 0.1
"""Share that the load's resistance may be off its nominal one"""
TRIM_LONGEST, TRIMMED = 1.5, 0.5
"""s that a supply may take to come back, and the share of its window that it must come into"""
Turn = Generator[Want, Got, Any]


def probe(x: Floats, rate: float, frequency: float) -> tuple[float, float]:
    """rms of a tone and everything beside it in band over all in band, of one look; what can't be read counts as
    nothing but distortion, so that no search goes further up on it."""
    try:
        found = analyse(x, rate, frequency, (20.0, min(20e3, rate / 2)), 5)
    except ValueError:
        return float(np.std(x)), 1.0
    return found.level, found.total


@dataclass
class Window:
    """What was heard while a drive stood still."""

    start: float
    """s"""
    stop: float
    channels: dict[str, Floats]
    looks: list[Mapping[str, Any]]
    """What the instruments showed in it"""

    def conditions(self, channel: str) -> dict[str, Any]:
        """Supply, load and temperature for the record; empty without instruments."""
        if not self.looks:
            return {}
        volts = [float(one["supply"]) for one in self.looks]
        last = self.looks[-1]
        return {
            "supply": [min(volts), max(volts)], "temperature": last["temperature"].get(channel),
            "ohm": last["resistance"].get(channel), "meter": [one.get("meter") for one in self.looks],
        }  # fmt: skip


@dataclass
class Bench:
    """Where the run stands: what is fed, what was heard last, and how the bench is switched."""

    settings: SheetSettings
    facts: Facts
    drive_at: int = LEAD
    """Number of the block that the next drive is for"""
    level: float = 0.0
    """V rms of what is fed"""
    wave: Tones | Sweep | Dwell = field(default_factory=lambda: Tones(()))
    origin: int = 0
    """Sample at which the wave's own time begins"""
    blocks: dict[int, tuple[Mapping[str, Floats], Mapping[str, Any] | None]] = field(default_factory=dict)
    keep_from: int | None = None
    got: Got | None = None
    route: dict[str, str] = field(default_factory=dict)
    loads: dict[str, float | None] = field(default_factory=dict)
    gains: dict[str, float] = field(default_factory=dict)
    lost: dict[str, int] = field(default_factory=dict)
    live: dict[str, Any] = field(default_factory=dict)
    set_volts: float | None = None
    sight: Mapping[str, Any] | None = None

    @property
    def span(self) -> float:
        return self.facts.block / self.facts.rate

    @property
    def late(self) -> int:
        """Blocks by which a drive comes late to the inputs."""
        return math.ceil(self.facts.delay / self.span)

    @property
    def now(self) -> float:
        return self.got.start if self.got else 0.0

    def turn(self, level: float, marks: tuple[Mapping[str, Any], ...] = (), settings: Mapping[str, Any] | None = None,
             compute: Any = None, position: Mapping[str, Any] | None = None) -> Turn:  # fmt: skip
        """One block: the wave at a level that goes straight from the last one."""
        n = self.facts.block
        first = self.drive_at * n - self.origin
        shape = self.wave.samples(first, n, self.facts.rate) if max(level, self.level) > 0 else np.zeros(n)
        envelope = np.sqrt(2) * (self.level + (level - self.level) * np.arange(1, n + 1) / n)
        self.level = level
        self.drive_at += 1
        asking = self.live.get("stage") == "asking"
        live = dict(self.live) if self.got is None or self.got.index % 4 == 0 or asking else None
        got = yield Want(envelope * shape, marks=marks, settings=settings, compute=compute, live=live,
                         position=position)  # fmt: skip
        self.got = got
        if got.instruments is not None:
            self.sight = got.instruments
        if self.keep_from is not None and got.index >= self.keep_from:
            self.blocks[got.index] = ({r: x.copy() for r, x in got.channels.items()}, self.sight)
        trip = self._watch(got)
        if trip is not None:
            yield Want(np.zeros(n), trip=trip)
            while True:
                yield Want(np.zeros(n))
        return got

    def _watch(self, got: Got) -> dict[str, Any] | None:
        """An output that does not follow its drive: shorted, or switched off."""
        for channel, way in self.route.items():
            expected = self.level * self.gains.get(channel, self.settings.gain) if way == "differential" else 0.0
            steady = isinstance(self.wave, Tones) and self.keep_from is not None
            seen = float(np.std(got.channels[channel])) if steady and expected > WORTH else math.inf
            self.lost[channel] = self.lost.get(channel, 0) + 1 if seen < LOST * expected else 0
            if self.lost[channel] >= LOST_AFTER + LEAD + self.late:
                return {"guard": "output", "label": "Output lost, shorted or off", "action": "cut", "channel": channel,
                        "value": seen, "limit": LOST * expected, "unit": "V"}  # fmt: skip
        return None

    def switch(self, route: Mapping[str, str], loads: Mapping[str, float | None], last: bool = False) -> Turn:
        """Route and loads, at the level that is on, and wait until the load bank shows them; `last`: nobody is asked
        to take off by hand what is on."""
        wanted: dict[str, Any] = {}
        if dict(route) != self.route:
            wanted["route"] = self.route = dict(route)
        if dict(loads) != self.loads:
            wanted["loads"] = self.loads = dict(loads)
        if not wanted:
            return
        yield from self.turn(self.level, settings=wanted)
        if "loads" in wanted and not self.facts.switched and not last:
            yield from self._by_hand(dict(loads))
        if "loads" not in wanted or self.sight is None:
            return
        for _ in range(int(5 / self.span)):
            yield from self.turn(self.level)
            shown = (self.sight or {}).get("resistance", {})
            if all(fits(shown.get(c), ohm) for c, ohm in loads.items()):
                return
        yield from self.refuse("load", "The load bank does not switch", "")

    def _by_hand(self, loads: Mapping[str, float | None]) -> Turn:
        """Let a person change the loads, at zero drive; the wave's own time goes on."""
        level, ohms = self.level, sorted(set(loads.values()), key=lambda v: v or 0.0)
        said = []
        for ohm in ohms:
            names = " and ".join(c for c, v in loads.items() if v == ohm)
            said.append(f"no load on {names}" if ohm is None else f"{ohm:g} Ω on {names}")
        text = ", ".join(said)
        yield from self.ask(text[0].upper() + text[1:])
        yield from self.turn(level)

    def ask(self, text: str, channel: str = "", ohm: float | None = None, longest: float = math.inf) -> Turn:
        """Wait at zero drive until a person has done something by hand, `longest` s at most; where the load bank can
        tell, until the channel's load shows `ohm`."""
        before, said, began = self.live.get("stage", ""), text, self.now
        while self.now - began <= longest:
            self.live = {**self.live, "stage": "asking", "ask": said}
            got = yield from self.turn(0.0)
            if not any(o.get("order") == "go" for o in got.orders):
                continue
            shown = (self.sight or {}).get("resistance", {}).get(channel)
            if ohm is None or self.sight is None or fits(shown, ohm):
                break
            said = f"{text}: the load shows {'nothing' if shown is None else f'{shown:.2f} ohm'}"
        self.live = {**self.live, "stage": before, "ask": ""}
        yield from self.turn(0.0, marks=({"kind": "asked", "t": self.now, "text": text},))

    def refuse(self, guard: str, label: str, channel: str) -> Turn:
        """End the run with the drive at zero, and say why."""
        zero = np.zeros(self.facts.block)
        yield Want(zero, trip={"guard": guard, "label": label, "action": "cut", "channel": channel, "value": 0.0,
                               "limit": 0.0, "unit": ""})  # fmt: skip
        while True:
            yield Want(zero)

    def hold(self, level: float, settle: float, read: float, last: bool = True) -> Turn:
        """Feed the wave at a level, let it settle, and give the Window that was heard; `last` lets the drive fall at
        once after it."""
        yield from self.turn(level)
        for _ in range(max(round(settle / self.span), 1) + self.late):
            yield from self.turn(level, settings=self.trimmed(level))
        for _ in range(int(TRIM_LONGEST / self.span)):
            if not self._off_nominal(level):
                break
            yield from self.turn(level, settings=self.trimmed(level))
        first, count = self.drive_at, max(math.ceil(read / self.span), 2)
        self.keep_from = first
        self.blocks.clear()
        for _ in range(count):
            yield from self.turn(level)
        while self.got is None or self.got.index < first + count - 1:
            yield from self.turn(0.0 if last else level)
        self.keep_from = None
        held = [self.blocks[i] for i in range(first, first + count)]
        self.blocks.clear()
        channels = {r: np.concatenate([one[r] for one, _ in held]) for r in held[0][0]}
        looks = [look for _, look in held if look is not None]
        return Window(first * self.span, (first + count) * self.span, channels, looks)

    def trimmed(self, level: float) -> dict[str, Any] | None:
        """The supply's setting that brings it back to nominal, from what it shows now."""
        part = self.settings.supply
        if not part.trim or self.sight is None or level <= 0 or self.got is None or self.got.index % 6:
            return None
        at = part.nominal if self.set_volts is None else self.set_volts
        self.set_volts = at + 0.7 * (part.nominal - float(self.sight["supply"]))
        return {"supply": self.set_volts}

    def _off_nominal(self, level: float) -> bool:
        """Whether a supply that is trimmed is still on its way."""
        part = self.settings.supply
        if not part.trim or self.sight is None or level <= 0:
            return False
        return abs(float(self.sight["supply"]) / part.nominal - 1) > TRIMMED * part.within / 100

    def rest(self) -> Turn:
        """Bring the supply back, and wait until the loads are cool enough for the next reading."""
        if self.set_volts is not None:
            self.set_volts = None
            yield from self.turn(0.0, settings={"supply": self.settings.supply.nominal})
        limit = self.settings.load_limit
        if not self._hotter(limit):
            return
        for _ in range(int(COOL_LONGEST / self.span)):
            self.live["stage"] = "cooling"
            yield from self.turn(0.0)
            if not self._hotter(limit - COOL_BY):
                break

    def _hotter(self, limit: float) -> bool:
        return any(t > limit for t in (self.sight or {}).get("temperature", {}).values())

    def look(self, level: float, channel: str, tone: float) -> Turn:
        """A short look in a search: level and distortion."""
        window = yield from self.hold(level, 0.06, max(PROBE - 0.06, 6 / tone), last=False)
        yield from self.turn(level, compute=(probe, (window.channels[channel], self.facts.rate, tone)))
        while self.got is None or self.got.result is None:
            yield from self.turn(level)
        volts, total = self.got.result
        if level > 0:
            self.gains[channel] = volts / level
        return volts, total


def fits(shown: float | None, ohm: float | None) -> bool:
    if shown is None or ohm is None:
        return shown is None and ohm is None
    return abs(shown / ohm - 1) < SWITCHED
