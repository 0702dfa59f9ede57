"""The run of an amplifier's sheet: one reading after the other, each at a drive found for it, below a ceiling."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from ...contracts.method import LEAD, Facts, Performance
from ...core.audio.stimuli import Dwell, Sweep, Tones, difference, modulation
from .sheet_bench import Bench, Turn, Window, probe
from .sheet_path import path
from .sheet_settings import PRECONDITION, SheetSettings, Task, tasks

TAIL = 0.3
"""s after a sweep in which its answer dies out"""


@dataclass
class SheetRun:
    """All tasks of a sheet on a bench."""

    settings: SheetSettings
    facts: Facts

    def __post_init__(self) -> None:
        self.bench = Bench(self.settings, self.facts)
        self.tasks = tasks(self.settings)
        self.found: dict[str, float] = {}
        """V rms at the input by task"""
        self.cells: dict[str, dict[str, Any]] = {}
        self.asked: set[str] = set()

    def perform(self, start: Mapping[str, Any] | None = None) -> Performance:
        """Every task that is not done yet."""
        done = list((start or {}).get("done", []))
        self.found.update((start or {}).get("found", {}))
        yield from self.bench.turn(0.0)
        if self.settings.path is not None and len(done) < len(self.tasks):
            yield from path(self.bench, self.settings.path)
        for i, task in enumerate(self.tasks):
            if task.key in done:
                continue
            self.bench.live = {
                "stage": "reading", "task": task.key, "step": task.step.label or task.step.name,
                "column": task.column, "frequency": self._heard(task), "done": i, "of": len(self.tasks),
                "cells": dict(self.cells),
            }  # fmt: skip
            marks = yield from self._one(task)
            done.append(task.key)
            yield from self.bench.turn(0.0, marks=marks, position={"done": list(done), "found": dict(self.found)})
            yield from self.bench.rest()
        self.bench.live = {"stage": "done", "cells": dict(self.cells), "done": len(self.tasks), "of": len(self.tasks)}
        yield from self.bench.switch(dict.fromkeys(self.settings.channels, "terminated"),
                                     dict.fromkeys(self.settings.channels), last=True)  # fmt: skip
        yield from self.bench.turn(0.0)

    def _one(self, task: Task) -> Turn:
        """One reading; the marks it leaves."""
        if task.step.ask is not None and task.step.name not in self.asked:
            self.asked.add(task.step.name)
            yield from self._ask(task)
        self.bench.wave = self._wave(task)
        fed = task.driven if task.step.drive is not None else ()
        way = {c: "differential" if c in fed else "terminated" for c in self.settings.channels}
        yield from self.bench.switch(way, dict.fromkeys(self.settings.channels, task.load))
        if task.step.method == "output-impedance":
            yield from self.bench.turn(0.0, settings={"meter": task.channel})
        level, why = yield from self._drive(task)
        self.found[task.key] = level
        if task.step.method == PRECONDITION:
            return (yield from self._precondition(task, level))
        marks = yield from self._taken(task, level)
        return tuple({**mark, "why": why} for mark in marks) if why else marks

    def _precondition(self, task: Task, level: float) -> Turn:
        """Drive for so long, and keep nothing but when and how hard."""
        bench, began = self.bench, self.bench.now
        blocks = math.ceil(task.step.read / bench.span)
        for k in range(blocks):
            bench.live = {**bench.live, "stage": "warming", "left": (blocks - k) * bench.span}
            yield from bench.turn(level, settings=bench.trimmed(level))
        yield from bench.turn(0.0)
        return ({"kind": "preconditioned", "t": began, "start": began, "stop": bench.now, "key": task.key,
                 "drive": level, "driven": list(task.driven)},)  # fmt: skip

    def _taken(self, task: Task, level: float) -> Turn:
        """The reading itself, by its kind."""
        if task.step.series is not None:
            return (yield from self._series(task))
        if isinstance(self.bench.wave, (Sweep, Dwell)):
            return (yield from self._swept(task, level))
        special = {"output-impedance": self._impedance, "output-common-mode": self._common}.get(task.step.method)
        if special is not None:
            return (yield from special(task, level))
        window = yield from self.bench.hold(level, task.step.settle, task.step.read)
        return (self._mark(task, window, level),)

    def _ask(self, task: Task) -> Turn:
        """What the step wants done by hand."""
        ask = task.step.ask
        assert ask is not None
        if ask.knob is not None:
            yield from self.bench.turn(0.0, settings={"knob": ask.knob})
        yield from self.bench.ask(ask.text, task.channel, ask.ohm)

    def _wave(self, task: Task) -> Tones | Sweep | Dwell:
        given = task.step.settings
        top = min(0.45 * self.facts.rate, 40e3)
        if task.step.method == "output-response" and len(task.step.tones) > 1:
            return Dwell(tuple(f for f in task.step.tones if f < top), task.step.read)
        if task.step.method == "output-response":
            low, high = task.step.span or (1.0, top)
            high = min(high, 0.45 * self.facts.rate)
            return Sweep(min(low, 0.5 * high), high, task.step.read)
        if task.step.method == "output-intermodulation":
            from ...core.quantities import parse

            pair = {k: parse(given[k], "Hz", k) for k in ("f1", "f2") if k in given}
            return difference(**pair) if given.get("kind") == "difference" else modulation(**pair)
        return Tones(((task.tone, 1.0),))

    @staticmethod
    def _heard(task: Task) -> float | None:
        """Hz of the tone that faces show some periods of, where there is one."""
        quiet = task.step.drive is None or task.step.method in ("output-response", "output-intermodulation")
        return None if quiet else task.tone

    def _mark(self, task: Task, window: Window, level: float, **more: Any) -> dict[str, Any]:
        """What the record says of a reading, and the picture of it for the faces."""
        conditions = window.conditions(task.channel)
        volts = float(np.std(window.channels[task.channel]))
        self.cells[task.key] = {"volts": volts, "drive": level, "supply": conditions.get("supply")}
        return {
            "kind": "reading", "t": window.start, "key": task.key, "start": window.start, "stop": window.stop,
            "drive": level, "driven": list(task.driven), **conditions, **{k: v for k, v in more.items() if v},
        }  # fmt: skip

    # --- drive -------------------------------------------------------------------------------------------------

    def _drive(self, task: Task) -> Turn:
        """V rms at the input for a reading, and why it is not what was asked for, if it is not."""
        drive, ceiling = task.step.drive, self.settings.ceiling
        if drive is None or task.step.series is not None:
            return 0.0, None
        if drive.voltage is not None:
            if drive.voltage > ceiling:
                return ceiling, f"{drive.voltage:g} V asked for, above the ceiling of {ceiling:g} V"
            return drive.voltage, None
        if drive.like is not None:
            key = next((t.key for t in self.tasks if t.step.name == drive.like
                        and (t.channel, t.load) == (task.channel, task.load)), "")  # fmt: skip
            if key not in self.found:
                return 0.0, f"the step {drive.like} found no drive for this channel and load"
            return min(self.found[key] * math.sqrt(drive.times), ceiling), None
        if drive.distortion is not None:
            return (yield from self._to_distortion(task, drive.distortion / 100))
        if drive.output is not None:
            return (yield from self._to_output(task, drive.output, f"{drive.output:g} V"))
        watts = drive.watts(self.settings.rated_at(task.load))
        return (yield from self._to_output(task, math.sqrt(watts * self._ohm(task)), f"{watts:g} W"))

    def _ohm(self, task: Task) -> float:
        """What the load has now, hot, else its nominal value."""
        shown = (self.bench.sight or {}).get("resistance", {}).get(task.channel)
        return float(shown or task.load or 8.0)

    def _searching(self, task: Task) -> Tones:
        """A search listens to one tone, even where the reading has another stimulus."""
        single = isinstance(self.bench.wave, Tones) and len(self.bench.wave.parts) == 1
        return Tones(((task.tone if single else 1000.0, 1.0),))

    def _to_output(self, task: Task, volts: float, asked: str) -> Turn:
        """Towards an output voltage from below, each step by what the last one showed."""
        wave, self.bench.wave = self.bench.wave, self._searching(task)
        tone = self.bench.wave.parts[0][0]
        ceiling, gain = self.settings.ceiling, self.bench.gains.get(task.channel, self.settings.gain)
        level, why = min(0.5 * volts / gain, ceiling), None
        for _ in range(10):
            seen, _ = yield from self.bench.look(level, task.channel, tone)
            if abs(seen / volts - 1) < 0.002:
                break
            wanted = level * min(volts / max(seen, 1e-6), 2.0)
            if wanted > ceiling * 1.0001 and level >= ceiling * 0.9999:
                reached = f"{seen**2 / self._ohm(task):.3g} W" if asked.endswith("W") else f"{seen:.3g} V"
                why = f"{asked} can't be reached below the ceiling of {ceiling:g} V at the input; {reached} could"
                break
            level = min(wanted, ceiling)
        else:
            why = f"{asked} was not met within 0.2 % in ten looks"
        yield from self._back_to(wave)
        return level, why

    def _to_distortion(self, task: Task, limit: float) -> Turn:
        """The highest drive whose distortion stays below a limit: up in steps, then halving between two."""
        wave, self.bench.wave = self.bench.wave, self._searching(task)
        tone = self.bench.wave.parts[0][0]
        ceiling = self.settings.ceiling
        rated = self.settings.rated_at(task.load)
        level = min(math.sqrt(0.3 * rated * self._ohm(task)) / self.settings.gain if rated else 0.3 * ceiling, ceiling)
        below, above, why, seen = 0.0, math.inf, None, 0.0
        for _ in range(16):
            volts, total = yield from self.bench.look(level, task.channel, tone)
            if total > limit:
                above = level
            else:
                below, seen = level, volts
            if math.isinf(above):
                if level >= ceiling:
                    why = (f"{100 * limit:g} % is not reached below the ceiling of {ceiling:g} V at the input;"
                           f" {100 * total:.2g} % and {seen**2 / self._ohm(task):.3g} W were")  # fmt: skip
                    break
                level = min(1.15 * level, ceiling)
            elif above / max(below, 1e-9) < 1.004:
                break
            else:
                level = math.sqrt(below * above) if below > 0 else 0.5 * above
            if above < 1e-3:
                why = f"even the smallest drive is distorted by more than {100 * limit:g} %"
                break
        yield from self._back_to(wave)
        return below or level, why

    def _back_to(self, wave: Tones | Sweep | Dwell) -> Turn:
        """From the search's tone to the reading's own stimulus: through silence where they differ, without a step."""
        if wave != self.bench.wave:
            yield from self.bench.turn(0.0)
        self.bench.wave = wave

    # --- readings of their own kind ----------------------------------------------------------------------------

    def _series(self, task: Task) -> Turn:
        """Distortion against power: from small to clipping, a short reading each."""
        series = task.step.series
        assert series is not None
        route = {c: "differential" if c in task.driven else "terminated" for c in self.settings.channels}
        yield from self.bench.switch(route, dict.fromkeys(self.settings.channels, task.load))
        gain = self.bench.gains.get(task.channel, self.settings.gain)
        watts, points, window = series.lowest, [], None
        while True:
            level = math.sqrt(watts * self._ohm(task)) / gain
            if level > self.settings.ceiling:
                break
            window = yield from self.bench.hold(level, 0.06, max(0.1, 8 / task.tone), last=False)
            at = window.conditions(task.channel)
            points.append({"start": window.start, "stop": window.stop, "drive": level, "ohm": at.get("ohm"),
                           "supply": at.get("supply")})  # fmt: skip
            _, total = probe(window.channels[task.channel], self.facts.rate, task.tone)
            if total > series.stop / 100:
                break
            watts *= 10 ** (1 / series.per_decade)
            if total > 0.2 * series.stop / 100:
                continue
            # Near clipping the curve turns up within a few per cent of power.
            if len(points) > 2 and self._turns(points, window, task):
                watts /= 10 ** (0.7 / series.per_decade)
        yield from self.bench.turn(0.0)
        if window is None:
            return ()
        return ({**self._mark(task, window, points[-1]["drive"]), "points": points, "start": points[0]["start"]},)

    def _turns(self, points: list[dict[str, Any]], window: Window, task: Task) -> bool:
        rated = self.settings.rated_at(task.load)
        watts = float(np.var(window.channels[task.channel])) / self._ohm(task)
        return rated is not None and watts > 0.7 * rated

    def _swept(self, task: Task, level: float) -> Turn:
        """A sweep from silence to silence, its beginning on a block."""
        bench = self.bench
        yield from bench.turn(0.0)
        for _ in range(LEAD + 1):
            yield from bench.turn(0.0)
        # The level is set while the wave is still silent: its own time begins a block later.
        bench.origin = (bench.drive_at + 2 + bench.late) * self.facts.block
        yield from bench.turn(level)
        assert isinstance(bench.wave, (Sweep, Dwell))
        window = yield from bench.hold(level, 0.0, bench.wave.seconds + TAIL + self.facts.delay, last=False)
        bench.origin = 0
        return (self._mark(task, window, level),)

    def _impedance(self, task: Task, level: float) -> Turn:
        """Load off and on by turns, at a drive that stays, so that the tone's phase goes on."""
        bench, parts = self.bench, []
        window = None
        for on in (False, True, False, True, False):
            loads = {**bench.loads, task.channel: task.load if on else None}
            yield from bench.switch(bench.route, loads)
            window = yield from bench.hold(level, task.step.settle, task.step.read, last=False)
            at = window.conditions(task.channel)
            parts.append({"load": on, "start": window.start, "stop": window.stop, "meter": at.get("meter"),
                          "ohm": at.get("ohm"), "supply": at.get("supply")})  # fmt: skip
        assert window is not None
        yield from bench.turn(0.0)
        return ({**self._mark(task, window, level), "parts": parts, "start": parts[0]["start"],
                 "stop": parts[-1]["stop"]},)  # fmt: skip

    def _common(self, task: Task, level: float) -> Turn:
        """The tone fed differentially, then in common to both input leads, as hard as the ceiling allows."""
        bench = self.bench
        first = yield from bench.hold(level, task.step.settle, task.step.read)
        yield from bench.switch({**bench.route, task.channel: "common"}, bench.loads)
        if not self.facts.routed:
            yield from bench.ask(f"Feed both leads of input {task.channel} together")
        hard = min(10 * level, self.settings.ceiling)
        second = yield from bench.hold(hard, task.step.settle, task.step.read)
        if not self.facts.routed:
            yield from bench.ask(f"Feed input {task.channel} as before")
        parts = [
            {"mode": "differential", "start": first.start, "stop": first.stop, "drive": level},
            {"mode": "common", "start": second.start, "stop": second.stop, "drive": hard},
        ]
        return ({**self._mark(task, second, level), "parts": parts, "start": first.start, "stop": second.stop},)
