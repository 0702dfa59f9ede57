"""Power for hours: the amplifier's gain found at a low level, the coil measured cold, then noise in stretches.

The probe tone goes on under everything, so that the coil is known in the pauses too. Level and mute are the operator's;
what the record must show of them stands in its marks.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from ...contracts.method import LEAD, Facts, Got, Performance, Want
from ...contracts.recording import Floats
from ...core.audio.endurance import coil_temperature, impedance_at
from ...core.audio.programme import Programme
from ...core.errors import BadInput
from .driver_run import TRY, TRY_AT, gain_of

if TYPE_CHECKING:
    from .power_endurance import EnduranceSettings

TRY_FOR = 0.25
"""s that the gain is found in"""
RAMP = 0.5
"""s in which the noise comes up, goes down, or another level is gone to"""
OFF_COLD, OFF_WARM = 1.3, 2.0
"""Times by which a coil may be off the cold resistance that is known, at first, and where it goes on warm"""
CORRECT = 0.25
"""dB that the level is corrected by at most each time"""
SEEN = 0.3
"""dB beyond which the level at the terminals is corrected"""
MOST = 400
"""Points of a live curve"""


def stretches(settings: EnduranceSettings) -> list[tuple[int, float, float]]:
    """(stage, level re the planned one [dB] or −inf in a pause, s) in turn."""
    made: list[tuple[int, float, float]] = []
    for i, stage in enumerate(settings.play.stages):
        left = stage.duration
        while left > 1e-9:
            if stage.on is None or stage.off is None:
                made.append((i, stage.by, left))
                break
            on = min(stage.on, left)
            made.append((i, stage.by, on))
            off = min(stage.off, left - on)
            if off > 1e-9:
                made.append((i, -math.inf, off))
            left -= on + off
    return made


@dataclass
class Terminals:
    """What is measured of voltage, current and sound while it runs, one point a stretch of `every`."""

    settings: EnduranceSettings
    rate: float
    scale: float
    """A per volt of the current's input"""
    cold: float | None
    began: float = 0.0
    held: list[tuple[Floats, Floats]] = field(default_factory=list)
    samples: int = 0
    shown: dict[str, str] = field(default_factory=dict)
    points: dict[str, tuple[list[float], list[float]]] = field(
        default_factory=lambda: {k: ([], []) for k in ("coil_temperature", "power", "rms_voltage")}
    )
    level: float | None = None
    """V rms of the last stretch"""

    def take(self, got: Got, at: float) -> bool:
        """A block more; whether a stretch ended with it. `at`: s of the programme."""
        v, i = got.channels["voltage"], got.channels["current"] * self.scale
        self.held.append((v, i))
        self.samples += v.size
        if self.samples < self.settings.every * self.rate:
            return False
        whole = [np.concatenate([pair[k] for pair in self.held]) for k in (0, 1)]
        self.held, self.samples = [], 0
        self._show(whole[0], whole[1], at)
        return True

    def _show(self, v: Floats, i: Floats, at: float) -> None:
        self.level = float(np.sqrt(np.mean(v * v)))
        power = float(np.mean(v * i))
        values = {"power": power, "rms_voltage": self.level}
        self.shown = {"Power": f"{power:.3g} W", "Voltage": f"{self.level:.3g} V"}
        if self.level > 0:
            self.shown["Crest factor"] = f"{float(np.max(np.abs(v))) / self.level:.2f}"
        assert self.settings.probe is not None
        r = impedance_at(v, i, self.rate, self.settings.probe.frequency).real
        if self.cold and math.isfinite(r):
            heat = coil_temperature(np.array([r]), self.cold, self.settings.cold(), self.settings.alpha())
            values["coil_temperature"] = float(heat[0])
            self.shown = {"Coil": f"{heat[0]:.0f} °C", "Resistance": f"{r:.3g} ohm", **self.shown}
        for key, value in values.items():
            x, y = self.points[key]
            x.append(at)
            y.append(value)
            if len(x) > MOST:
                del x[1::2], y[1::2]

    def curves(self) -> dict[str, dict[str, list[list[float]]]]:
        return {k: {"now": [list(x), list(y)]} for k, (x, y) in self.points.items() if x}


class Endurance:
    """The state of one run."""

    def __init__(self, settings: EnduranceSettings, facts: Facts, start: Mapping[str, Any]) -> None:
        play = settings.play
        if settings.probe is None:
            raise BadInput("probe: give its frequency: without it the coil's temperature is not known while it runs.")
        self.settings, self.facts, self.play, self.probe = settings, facts, play, settings.probe
        self.span = facts.block / facts.rate
        self.plan = stretches(settings)
        self.noise = Programme(play.shape, play.low, play.high, play.curve, play.crest, facts.rate,
                               play.seed + int(start.get("pieces", 0)))  # fmt: skip
        self.pieces = int(start.get("pieces", 0)) + 1
        scale = next((i.scale for i in facts.inputs if i.role == "current"), 1.0)
        cold = settings.cold_resistance or start.get("cold")
        self.seen = Terminals(settings, facts.rate, settings.current_scale or scale, cold)
        self.gain = 0.0
        """V at the terminals per volt at the source"""
        self.volts = 0.0
        """rms wanted at the terminals"""
        self.again = bool(start)
        self.below = 10 ** (-play.probe_below / 20)
        self.probe_volts = 0.0
        self.found = math.nan
        """ohm, the coil before the programme"""
        self.marks: list[Mapping[str, Any]] = []
        self.phase = 0
        """Samples of the probe so far"""
        self.by = float(start.get("by", 0.0))
        """dB that the operator moved the level by"""
        self.trim = 0.0
        """dB that the level at the terminals is corrected by"""
        self.muted = False
        self.now = 0.0
        """Of the planned level, where the ramp stands"""
        self.steady = 0.0
        """s since it stands there"""
        self.at = float(start.get("at", 0.0))
        """s of the programme that are done"""

    def probe_block(self) -> Floats:
        n = self.facts.block
        t = (self.phase + np.arange(n)) / self.facts.rate
        self.phase += n
        size = math.sqrt(2) * self.probe_volts / self.gain
        return np.asarray(size * np.sin(2 * np.pi * self.probe.frequency * t))

    def block(self, wanted: float) -> Floats:
        """Probe, and noise that goes to `wanted` of the planned level."""
        step = self.span / RAMP
        after = min(max(wanted, self.now - step), self.now + step)
        slope = np.linspace(self.now, after, self.facts.block + 1)[1:]
        self.steady = self.steady + self.span if after == self.now > 0 else 0.0
        self.now = after
        made = self.probe_block()
        if slope.any():
            made = made + slope * self.volts / self.gain * self.noise.next(self.facts.block)
        return made

    def level(self, by: float) -> float:
        """Of the planned level in a stretch that is `by` dB off it."""
        return 0.0 if self.muted or by == -math.inf else 10 ** ((by + self.by + self.trim) / 20)

    def heed(self, got: Got) -> None:
        """Take orders; what they changed is marked."""
        for order in got.orders:
            name = order["order"]
            if name == "level":
                before = self.by
                self.by = max(min(self.by + float(order["by"]), 0.0), -40.0)
                if self.by != before:
                    self.marks.append({"kind": "level", "t": got.start, "by": self.by})
            elif name in ("hold", "go") and self.muted != (name == "hold"):
                self.muted = name == "hold"
                self.marks.append({"kind": "muted" if self.muted else "unmuted", "t": got.start})
            elif name == "skip":
                stage, _, _ = self.where()
                self.marks.append({"kind": "skipped", "t": got.start, "stage": stage + 1, "at": self.at})
                self.at = sum(s for i, _, s in self.plan if i <= stage)

    def correct(self, by: float) -> None:
        """Draw the level at the terminals to what is wanted, slowly and within what an amplifier's warmth explains."""
        if self.seen.level is None or self.steady < self.settings.every + 2 * LEAD * self.span:
            return
        wanted = math.hypot(self.volts * self.level(by) / 10 ** (self.trim / 20), self.probe_volts)
        off = 20 * math.log10(wanted / max(self.seen.level, 1e-9))
        if abs(off) > SEEN:
            self.trim = max(min(self.trim + max(min(off, CORRECT), -CORRECT), 1.0), -1.0)

    def leave_marks(self) -> tuple[Mapping[str, Any], ...]:
        made, self.marks = tuple(self.marks), []
        return made

    def beyond(self) -> str | None:
        """What keeps the programme from being played, in words."""
        known = self.play.volts(self.seen.cold)
        if known is None:  # W on the coil's own resistance, which is measured first
            return None
        self.volts = known
        loudest = max((by for _, by, _ in self.plan), default=0.0)
        crest = self.play.crest * 10 ** (loudest / 20) + math.sqrt(2) * self.below
        most = 0.98 * self.facts.source_range * self.gain / crest
        if known <= most:
            return None
        return f"{known:.3g} V at a crest factor of {self.play.crest:g} are beyond the source: it reaches {most:.3g} V"

    def doubtful(self) -> str | None:
        """What is wrong with the coil that was found."""
        if not self.found > 0:
            return "no current flows at the probe's frequency: are the leads on"
        stated = self.seen.cold
        if stated and not 1 / OFF_COLD <= self.found / stated <= (OFF_WARM if self.again else OFF_COLD):
            return f"the coil shows {self.found:.3g} ohm for {stated:.3g} ohm cold: another part, a lead, or it is warm"
        return None

    def position(self) -> dict[str, Any]:
        return {"at": self.at, "cold": self.seen.cold, "by": self.by, "pieces": self.pieces}

    def live(self, item: int) -> dict[str, Any]:
        i, by, left = self.where()
        level = "muted" if self.muted else "pause" if by == -math.inf else f"{by + self.by:+.1f} dB"
        total = sum(s for _, _, s in self.plan)
        return {
            "item": item, "at": self.at, "of": total, "held": self.muted, "curves": self.seen.curves(),
            "shown": {**self.seen.shown, "Level": level, "Left": _clock(total - self.at)},
        }  # fmt: skip

    def where(self) -> tuple[int, float, float]:
        """Stage, level and the seconds left of the stretch that the programme is in."""
        gone = self.at
        for i, by, seconds in self.plan:
            if gone < seconds - 1e-9:
                return i, by, seconds - gone
            gone -= seconds
        return len(self.play.stages) - 1, -math.inf, 0.0


def _clock(seconds: float) -> str:
    hours, rest = divmod(int(max(seconds, 0.0)), 3600)
    return f"{hours} h {rest // 60:02d} min" if hours else f"{rest // 60} min {rest % 60:02d} s"


def perform(settings: EnduranceSettings, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
    """Gain, cold coil, programme, silence; `start`: a position to go on from, its coil known from the first time."""
    run = Endurance(settings, facts, start or {})
    yield Want(np.zeros(facts.block))
    yield from _gain(run)
    wrong = run.beyond() if run.gain > 0 else "nothing arrives at the terminals"
    if wrong is None:
        yield from _cold(run)
        wrong = run.doubtful() or run.beyond()
    if wrong is not None:
        yield Want(np.zeros(facts.block), trip={
            "guard": "drive", "label": f"Power endurance: {wrong}", "channel": "voltage", "value": run.volts,
            "limit": facts.source_range, "unit": "V", "action": "ease",
        })  # fmt: skip
        return
    yield from _programme(run)


def _gain(run: Endurance) -> Performance:
    facts, n = run.facts, run.facts.block
    t = np.arange(int(TRY_FOR * facts.rate) // n * n) / facts.rate
    tone = TRY * facts.source_range * np.sin(2 * np.pi * TRY_AT * t)
    tone *= np.clip(np.minimum(t, t[::-1]) / 0.005, 0, 1)
    heard = []
    for x in [*tone.reshape(-1, n), *[np.zeros(n)] * (LEAD + 1)]:
        got = yield Want(x, live={"item": 0, "at": 0.0, "of": 1.0, "shown": {"Now": "amplifier's gain"}})
        heard.append(got.channels["voltage"])
    run.gain = gain_of(np.concatenate(heard), tone)


def _cold(run: Endurance) -> Performance:
    """The probe alone: the coil's resistance before it grows warm."""
    settings, frequency = run.settings, run.probe.frequency
    run.probe_volts = run.volts * run.below or 0.02 * run.facts.source_range * run.gain / math.sqrt(2)
    seconds = max(1.0 if run.again else settings.every, 4 / frequency)
    lead = max(int(0.2 / run.span), LEAD + 1)
    count = lead + math.ceil(seconds / run.span)
    v: list[Floats] = []
    i: list[Floats] = []
    begun = end = 0.0
    for k in range(count):
        live = {"item": 0, "at": k * run.span, "of": count * run.span, "shown": {"Now": "coil, cold"}}
        got = yield Want(run.probe_block(), live=live)
        if k < lead:
            begun = got.start + run.span
            continue
        v.append(got.channels["voltage"])
        i.append(got.channels["current"] * run.seen.scale)
        end = got.start + run.span
    run.found = impedance_at(np.concatenate(v), np.concatenate(i), run.facts.rate, frequency).real
    run.marks.append({"kind": "cold", "t": begun, "start": begun, "stop": end, "resistance": run.found})
    if run.seen.cold is None and run.found > 0:
        run.seen.cold = run.found
    run.volts = run.play.volts(run.seen.cold) or 0.0
    run.probe_volts = run.volts * run.below


def _programme(run: Endurance) -> Performance:
    """The stretches in turn, until all are done or the operator skips the last one."""
    total = sum(s for _, _, s in run.plan)
    begun = False
    kept = -math.inf
    while run.at < total - 1e-9 or run.now > 0:
        stage, by, _ = run.where()
        wanted = run.level(by) if run.at < total - 1e-9 else 0.0
        got = yield Want(
            run.block(wanted), marks=run.leave_marks(), live=run.live(1 + stage),
            position=run.position() if run.at - kept >= 1.0 else None,
        )  # fmt: skip
        kept = run.at if run.at - kept >= 1.0 else kept
        if not begun:
            begun = True
            run.marks.append({"kind": "programme", "t": got.start, "start": got.start + LEAD * run.span, "at": run.at,
                              "gain": run.gain, "volts": run.volts})  # fmt: skip
        run.heed(got)
        if run.seen.take(got, run.at):
            run.correct(by)
        if not run.muted:
            run.at += run.span
    run.marks.append({"kind": "programme ended", "t": got.start, "at": run.at})
    for _ in range(LEAD + 1):
        yield Want(np.zeros(run.facts.block), marks=run.leave_marks())
