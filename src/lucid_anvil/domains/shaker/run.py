"""What every shaker run does alike: turns with the channels in their units, the probe run, levels and refusals."""

from __future__ import annotations

import math
from collections.abc import Generator, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ...contracts.method import LEAD, Facts, Got, Want
from ...core.control.chain import chain_model
from ...core.control.plant import Doubt, LoopResponse, estimate, judge_loop, periodic_noise, sharpest
from ...core.signal.sinefit import Floats
from .course import Stretch
from .settings import ShakerSettings, control_roles

HEADROOM = 1.0


@dataclass
class ShakerRun:
    """State of a performance between turns. Channels are the control points, then every other acceleration, then
    the current monitor where there is one."""

    settings: ShakerSettings
    facts: Facts
    number: int = LEAD
    """Number of the block that the next drive is for."""
    got: Got | None = None
    result: Any = None
    hold: bool = False
    level_by: float = 0.0
    """dB that the operator added"""
    skip: bool = False
    plant: LoopResponse | None = None
    tonal: bool = False
    """Whether it is a sine that is driven"""
    live: dict[str, Any] = field(default_factory=dict)

    def __post_init__(self) -> None:
        roles = [i.role for i in self.facts.inputs if i.kind == "acceleration"]
        self.controls = control_roles(roles, self.settings.control)
        others = [r for r in roles if r not in self.controls]
        self.roles = self.controls + others
        self.currents = [i.role for i in self.facts.inputs if i.kind == "current"][:1]
        by = {i.role: i.scale for i in self.facts.inputs}
        self.all_roles = self.roles + self.currents
        self.scales = np.array([by[r] for r in self.all_roles])[:, None]
        self.kinds = ["acceleration"] * len(self.roles) + ["current"] * len(self.currents)
        self.n, self.rate = self.facts.block, self.facts.rate
        self.span = self.n / self.rate

    @property
    def time(self) -> float:
        """s, when the block that the next drive is for begins."""
        return self.number * self.span

    def rows(self, got: Got) -> Floats:
        """Channels in their units, then the drive as played [V]; shape (channels + 1, n)."""
        x = np.array([got.channels[r] for r in self.all_roles]) * self.scales
        return np.vstack([x, got.channels["drive"]])

    def turn(self, drive: Floats, **more: Any) -> Generator[Want, Got, Floats]:
        """Play one block; receive one as rows."""
        got = yield Want(drive, **more)
        self.number += 1
        self.got = got
        if got.result is not None:
            self.result = got.result
        for order in got.orders:
            self._obey(order)
        return self.rows(got)

    def _obey(self, order: Mapping[str, Any]) -> None:
        name = order.get("order")
        if name == "hold":
            self.hold = True
        elif name == "go":
            self.hold = False
        elif name == "level":
            self.level_by = float(np.clip(self.level_by + float(order.get("by", 0.0)), -40.0, 0.0))
        elif name == "skip":
            self.skip = True

    def ask(
        self, work: Any, given: tuple[Any, ...], live: Mapping[str, Any] | None = None
    ) -> Generator[Want, Got, Any]:
        """Have something computed while the drive rests."""
        zeros = np.zeros(self.n)
        self.result = None
        yield from self.turn(zeros, compute=(work, given), live=live)
        while self.result is None:
            yield from self.turn(zeros)
        return self.result

    def standing(self, number: int, at: float) -> dict[str, Any]:
        """Where it could be gone on from: `at` s of a stretch."""
        return {"item": number, "at": at}

    def rest(self, stretch: Stretch, number: int, begin: float = 0.0) -> Generator[Want, Got, None]:
        """A pause, `begin` s of which were had before; or what a person is asked to do, until it is said to be done.
        The drive rests."""
        zeros = np.zeros(self.n)
        if stretch.kind == "pause":
            for k in range(math.ceil((stretch.duration - begin) / self.span)):
                live = {"stage": "pause", "item": number, "at": begin + k * self.span, "of": stretch.duration}
                passed = self.standing(number, begin + k * self.span)
                tell = k % max(1, round(0.75 / self.span)) == 0
                yield from self.turn(zeros, live=live, position=passed if tell else None)
            return
        note = {"kind": "note", "t": self.time, "text": f"asked: {stretch.text}"}
        yield from self.turn(zeros, marks=(note,), position=self.standing(number, 0.0))
        self.hold, self.skip = True, False
        while self.hold and not self.skip:
            yield from self.turn(zeros, live={"stage": "asking", "ask": stretch.text, "item": number})
        self.hold = self.skip = False
        done = {"kind": "note", "t": self.time, "text": f"done: {stretch.text}"}
        yield from self.turn(zeros, marks=(done,), live={"stage": "pause", "item": number})

    def refuse(self, guard: str, text: str, channel: str | None = None, value: float = 0.0, limit: float = 0.0,
               unit: str = "", action: str = "ease") -> Generator[Want, Got, None]:  # fmt: skip
        """Ask for the end of the drive, and wait for it."""
        asked: Mapping[str, Any] | None = {
            "guard": guard, "label": text, "channel": channel, "value": value, "limit": limit, "unit": unit,
            "action": action,
        }  # fmt: skip
        for _ in range(200):
            yield from self.turn(np.zeros(self.n), trip=asked)
            asked = None

    # --- the probe run ---------------------------------------------------------------------------------------

    def probe(self, band: tuple[float, float], level: float, predict: Any, given: tuple[Any, ...]
              ) -> Generator[Want, Got, bool]:  # fmt: skip
        """A burst of periodic noise at low level, and what it says. `level` [m/s² rms] of the burst; `predict`
        computes what full level would use: predict(loop, limits, *given) -> rows (name, share, value, limit, unit)
        and notes. False: refused."""
        probe = self.settings.control.probe
        if not probe.on:
            return True
        period = int(round(probe.period * self.rate))
        rng = np.random.default_rng(self.settings.control.seed)
        wave = yield from self.ask(periodic_noise, (period, self.rate, *band, rng), {"stage": "probe", "part": "rest"})
        volts = self._volts_for(level, band)
        quiet = self.number
        rest = yield from self._collect(math.ceil(period / self.n), lambda k: np.zeros(self.n), "at rest")
        fade = max(1, round(0.5 / self.span))
        # One period to settle, one block of slack, then whole periods.
        count = fade + math.ceil((probe.periods + 1) * period / self.n) + LEAD + 2

        def burst(k: int) -> Floats:
            at = k * self.n + np.arange(self.n)
            envelope = np.clip(at / (fade * self.n), 0, 1) * np.clip((count * self.n - at) / (fade * self.n), 0, 1)
            return np.asarray(volts * envelope * wave[at % period])

        began, first = self.time, self.number
        held = yield from self._collect(count, burst, "burst")
        length = probe.periods * period
        stop = held.shape[1] - fade * self.n
        x = held[:, stop - length : stop]
        made = yield from self.ask(
            read_probe,
            (x, rest, self.rate, period, self.roles, self.kinds, band, self.facts, predict, given),
            {"stage": "probe", "part": "reading"},
        )  # fmt: skip
        self.plant = made["loop"]
        picture = made["picture"]
        # Where the burst was steady and where the bench was at rest, so that the record can be read again.
        steady = [(first * self.n + stop - length) / self.rate, (first * self.n + stop) / self.rate]
        rested = [quiet * self.span, quiet * self.span + rest.shape[1] / self.rate]
        mark = {
            "kind": "probe", "t": began, "start": began, "stop": self.time, "steady": steady, "rest": rested,
            "period": period / self.rate, "block": self.n, "band": list(band), **picture,
        }  # fmt: skip
        yield from self.turn(np.zeros(self.n), marks=(mark,), live={"stage": "probe", "part": "read", "probe": picture})
        assert self.plant is not None
        known = chain_model(self.plant, self.all_roles, len(self.controls), band, self.tonal)
        yield from self.turn(np.zeros(self.n), chain=known)
        if made["why"]:
            yield from self.refuse("probe", f"Probe run: {made['why']}", made["channel"])
            return False
        return True

    def _collect(self, count: int, wave: Any, part: str) -> Generator[Want, Got, Floats]:
        """Play `count` blocks; what came in meanwhile and in the blocks that they took to come back."""
        held = []
        first = self.number
        live: Mapping[str, Any] | None = {"stage": "probe", "part": part}
        total = count + LEAD
        for k in range(total):
            drive = wave(k) if k < count else np.zeros(self.n)
            rows = yield from self.turn(drive, live=live if k % 6 == 0 else None)
            assert self.got is not None
            if self.got.index >= first:
                held.append(rows)
        return np.concatenate(held, axis=1)

    def _volts_for(self, level: float, band: tuple[float, float]) -> float:
        """V rms of the burst so that the model's table moves with `level` [m/s² rms]; never above a twentieth of
        the source's range."""
        most = self.facts.source_range / 20
        if not self.facts.model:
            return most / 5
        f, gain = np.array([(r[0], r[1]) for r in self.facts.model]).T
        grid = np.linspace(*band, 400)
        mean = float(np.sqrt(np.mean(np.interp(grid, f, gain) ** 2)))
        return min(level / mean, most)


def input_rows(facts: Facts, roles: list[str], peaks: Floats) -> list[tuple[str, float, float, float, str]]:
    """Use of each acceleration input's range, from the peak [m/s²] that each channel will show."""
    made = []
    by = {i.role: i for i in facts.inputs}
    for role, peak in zip(roles, peaks, strict=True):
        limit = by[role].range * by[role].scale
        made.append((f"Input of {role}", float(peak) / limit, float(peak), limit, "m/s²"))
    return [m for m in made if m[1] > 0.3] or sorted(made, key=lambda m: -m[1])[:1]


def read_probe(
    x: Floats, rest: Floats, rate: float, period: int, roles: list[str], kinds: list[str], band: tuple[float, float],
    facts: Facts, predict: Any, given: tuple[Any, ...],
) -> dict[str, Any]:  # fmt: skip
    """What a burst says: the loop's response, what is wrong with it, what full level would use, and a picture."""
    loop = estimate(x[-1], x[:-1], rest[:-1], rate, period)
    f = loop.frequency
    model = np.array(facts.model) if facts.model else np.array([[1.0, 1.0, 1.0, 1.0], [1e5, 1.0, 1.0, 1.0]])
    expected = np.exp(
        np.interp(np.log(np.maximum(f, 1e-3)), np.log(model[:, 0]), np.log(np.maximum(model[:, 1], 1e-9)))
    )
    doubts = judge_loop(loop, roles, expected, band, np.std(x[: len(kinds)], axis=1), kinds)
    used: list[tuple[str, float, float, float, str]] = []
    notes: list[str] = []
    if not any(d.fatal for d in doubts):
        used, notes = predict(loop, facts, *given)
    notes = [*(d.text for d in doubts if not d.fatal), *notes]
    over = [u for u in used if u[1] > HEADROOM]
    fatal: list[Doubt] = [d for d in doubts if d.fatal]
    why = fatal[0].text if fatal else None
    if why is None and over:
        worst = max(over, key=lambda u: u[1])
        why = (
            f"{worst[0]} would use {100 * worst[1]:.0f} % of its limit; {-20 * math.log10(worst[1]):.1f} dB would fit."
        )
    inside = (f >= band[0]) & (f <= band[1])
    lines = np.unique(
        np.round(np.geomspace(max(np.flatnonzero(inside)[0], 1), np.flatnonzero(inside)[-1], 500)).astype(int)
    )
    picture = {
        "frequency": [float(f"{v:.6g}") for v in f[lines]],
        "response": [[float(f"{v:.4g}") for v in np.abs(loop.smoothed[i][lines])] for i in range(len(roles))],
        "expected": [float(f"{v:.4g}") for v in expected[lines]],
        "coherence": [float(f"{v:.3g}") for v in loop.coherence[0][lines]],
        "roles": roles, "noise": [float(f"{v:.4g}") for v in loop.noise], "delay": loop.delay,
        "used": [list(u) for u in used], "notes": notes, "why": why,
        "modes": [[float(a), float(b)] for a, b in sharpest(loop, 0, band)[:4]],
    }  # fmt: skip
    return {"loop": loop, "picture": picture, "why": why, "channel": fatal[0].channel if fatal else None}
