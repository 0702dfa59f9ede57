"""From the record of a sheet to its readings: each by its step's output method, with the conditions it was taken in."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ...contracts import registry
from ...contracts.curvelimits import MARGIN, limited
from ...contracts.finding import Curve, Finding, Reading
from ...contracts.limits import Limits
from ...contracts.recording import Channel, channel_of
from ...contracts.settings import check
from ...core.errors import BadInput
from .sheet_settings import PRECONDITION, SheetSettings, Task, tasks

Mark = Mapping[str, Any]
DROPOUT_LATE = 0.1
"""s by which a dropout may be told after it was"""
METER_RATE = 10.0
"""Hz at which meter readings are laid out; they have no times of their own"""
CURVES = {
    "output-response": {"gain": "gain", "phase": "phase"},
    "output-noise": {"spectrum": "noise", "mains": "mains"},
    "output-distortion": {"spectrum": "spectrum"},
    "output-intermodulation": {"spectrum": "spectrum"},
}
"""Which curves of a step are kept, and what their keys begin with"""
KEPT = {
    "output-offset": ("offset",),
    "output-gain": ("gain", "output_level", "phase"),
    "output-power": ("power", "distortion_at_power"),
    "output-distortion": ("thd", "thd_plus_n", "level"),
    "output-response": ("corner_low", "corner_high", "flatness"),
    "output-noise": ("noise", "snr", "mains_share"),
    "output-separation": ("separation",),
    "output-intermodulation": ("imd",),
    "output-common-mode": ("common_mode_rejection",),
    "output-impedance": ("source_impedance", "source_reactance", "damping_factor"),
}
"""Readings of each method that go onto the sheet"""
BESIDE = ("difference", "phase_difference", "power_nominal", "damping_by_meter")
"""Readings that the sheet makes itself, and limits may name"""


@dataclass(frozen=True)
class Take:
    """What one take holds of a sheet."""

    record: Mapping[str, Channel]
    settings: SheetSettings
    marks: Sequence[Mark]


def cut(channel: Channel, start: float, stop: float) -> Channel:
    """A stretch of a channel as one of its own."""
    a, b = int(round(start * channel.rate)), int(round(stop * channel.rate))
    load = channel.load
    return replace(channel, length=max(min(b, channel.length) - a, 0), load=lambda i, j: load(a + i, a + j))


def out_of_supply(mark: Mark, settings: SheetSettings) -> str | None:
    """Why a reading does not count, when the supply left its window while it was taken."""
    seen = [mark.get("supply"), *(p.get("supply") for key in ("parts", "points") for p in mark.get(key, ()))]
    volts = [v for pair in seen if pair for v in pair]
    low, high = settings.supply.edges
    if not volts or (min(volts) >= low and max(volts) <= high):
        return None
    worst = min(volts) if low - min(volts) > max(volts) - high else max(volts)
    digits = 1 if min(abs(worst - low), abs(worst - high)) > 0.05 else 2
    return f"supply at {worst:.{digits}f} V, outside {low:.1f} V to {high:.1f} V"


class Sheet:
    """The readings of a sheet, gathered task by task."""

    def __init__(self, takes: Sequence[Take]) -> None:
        """`takes` of one series, the newest last: its readings stand in place of earlier ones."""
        self.settings = takes[0].settings
        self.marks: dict[str, tuple[Mark, Mapping[str, Channel]]] = {}
        self.dropouts: dict[str, list[float]] = {}
        self.paths: list[Mark] = []
        for take in takes:
            lost = [float(m["t"]) for m in take.marks if m.get("kind") == "dropout"]
            self.paths += [m for m in take.marks if m.get("kind") == "path"]
            for mark in take.marks:
                if mark.get("kind") == "reading" and "key" in mark:
                    self.marks[str(mark["key"])] = (mark, take.record)
                    self.dropouts[str(mark["key"])] = lost
        self.readings: list[Reading] = []
        self.curves: list[Curve] = []
        self.notes: list[str] = []
        self.rows: dict[str, dict[str, Any]] = {}
        self.columns: list[str] = []
        self.invalid: list[str] = []
        self.values: dict[str, Reading] = {}
        self.phases: dict[str, Curve] = {}
        """By task the phase of a swept response, the delay with it"""
        self.unreferred: dict[str, str] = {}
        """By task why its signal to noise has nothing to refer to"""
        self.verdicts: list[str] = []

    def finding(self, name: str) -> Finding:
        """Everything, in the order of the plan."""
        whole = tasks(self.settings.model_copy(update={"only": []}))
        plan = [t for t in whole if t.step.method != PRECONDITION]
        for task in plan:
            if task.column not in self.columns:
                self.columns.append(task.column)
            if task.key in self.marks:
                self._one(task, *self.marks[task.key])
        self._between_channels(plan)
        self._phases_between(plan)
        self._paths()
        missing = [t.key for t in plan if t.key not in self.marks]
        if missing:
            self.notes.append(f"Not taken: {len(missing)} of {len(plan)} readings, the first {missing[0]}.")
        if self.invalid:
            self.notes.append(f"Invalid, to be taken again: {', '.join(self.invalid)}.")
        detail = {"sheet": {"columns": self.columns, "rows": list(self.rows.values()), "retake": self.invalid}}
        return Finding(name, tuple(self.readings), tuple(self.curves), notes=tuple(dict.fromkeys(self.notes)),
                       curve_verdicts=tuple(self.verdicts), detail=detail)  # fmt: skip

    # --- one reading -------------------------------------------------------------------------------------------

    def _one(self, task: Task, mark: Mark, record: Mapping[str, Channel]) -> None:
        why = out_of_supply(mark, self.settings) or self._dropped(mark)
        if why is not None:
            self.invalid.append(task.key)
        # A drive that could not be had makes a reading of something else; taking it again would not mend that.
        why = why or mark.get("why")
        if task.step.series is not None:
            self._series(task, mark, record, why)
            return
        method = registry.get(task.step.method)
        try:
            given = check(method.Settings, self._given(task, mark), f"step '{task.step.name}'")
            found = method.judged(self._roles(method.roles, task, mark, record), given, ())
        except BadInput as bad:
            for key in KEPT[method.name]:
                text, _, unit = method.readings[key].rpartition(" [")
                self._keep(task, Reading(key, text, None, unit.rstrip("]"), valid=False, reason=str(bad)), mark, None)
            return
        spots = method.name == "output-response" and len(task.step.tones) > 1
        for reading in found.readings:
            if spots and reading.key.startswith("corner"):
                continue  # spot tones have none
            if reading.key == "snr" and task.key in self.unreferred:
                reading = replace(reading, reason=self.unreferred[task.key])
            if reading.key in KEPT.get(task.step.method, ()) or reading.key in task.step.limits or (
                reading.key.startswith(MARGIN)
            ):
                self._keep(task, reading, mark, why)
        for key, start in CURVES.get(task.step.method, {}).items():
            label = f"{task.step.label or task.step.name}, {task.column}"
            for c in found.curves:
                if c.key == key:
                    made = replace(c, key=f"{start}_{task.key}", label=label)
                    self.curves.append(self._masked(task, made) if start == "gain" else made)
        if method.name == "output-response" and not spots:
            self.phases[task.key] = _with_delay(found)
        if task.step.method == "output-power":
            self._corrected(task, mark, found, why)
        if task.step.method == "output-impedance" and any(m for p in mark["parts"] for m in p.get("meter") or ()):
            self._by_meter(task, mark, why)

    def _dropped(self, mark: Mark) -> str | None:
        """Why a reading does not count, when the front end lost samples in it."""
        lost = [t for t in self.dropouts[str(mark["key"])] if mark["start"] <= t <= mark["stop"] + DROPOUT_LATE]
        return f"the front end lost samples at {lost[0]:.2f} s" if lost else None

    def _roles(self, roles: Iterable[str], task: Task, mark: Mark, record: Mapping[str, Channel]
               ) -> dict[str, Channel]:  # fmt: skip
        at = self._places(task)
        return {role: cut(record[at[role]], mark["start"], mark["stop"]) for role in roles}

    def _places(self, task: Task) -> dict[str, str]:
        """Channels of the record by the roles that output methods have."""
        others = [c for c in self.settings.channels if c != task.channel]
        undriven = others[0] if others else task.channel
        return {"output": task.channel, "driven": task.channel, "stimulus": "drive", "undriven": undriven}

    def _given(self, task: Task, mark: Mark) -> dict[str, Any]:
        """The step's settings with what the run and the instruments add."""
        known = registry.get(task.step.method).readings
        own = {k: v for k, v in task.step.limits.items() if k in known or k not in BESIDE}
        made: dict[str, Any] = {"limits": own, "decision": self.settings.decision}
        if self.settings.gain_uncertainty is not None:
            made["gain_uncertainty"] = self.settings.gain_uncertainty
        # An amplifier that clips is what is measured here: the range tells an input that is overloaded, not flat tops.
        ranges = {role: self.settings.input_range.get(c) for role, c in self._places(task).items()}
        roles = registry.get(task.step.method).roles
        made["input_range"] = {role: v for role, v in ranges.items() if v is not None and role in roles}
        ohm = mark.get("ohm") or task.load
        method = task.step.method
        if method == "output-distortion":
            made["fundamental"] = task.tone
        if method == "output-power":
            made.update(fundamental=task.tone, load=task.load, load_measured=ohm,
                        load_uncertainty=self.settings.load_uncertainty)  # fmt: skip
        if method in ("output-separation", "output-gain", "output-common-mode"):
            made["frequency"] = task.tone
        if method in ("output-impedance", "output-common-mode"):
            made["steps"] = self._parts(mark)
        if method == "output-impedance":
            hot = next((p["ohm"] for p in mark["parts"] if p.get("ohm")), None)
            made.update(load=task.load, load_measured=hot or task.load,
                        load_uncertainty=(hot or task.load or 0) * self.settings.load_uncertainty / 100)  # fmt: skip
        if method == "output-noise":
            try:
                volts = self._reference(task)
            except BadInput as bad:
                self.unreferred[task.key] = str(bad)
                volts = None
            if volts is not None:
                made["reference_level"] = volts
        made.update(task.step.settings)
        return made

    def _parts(self, mark: Mark) -> list[dict[str, Any]]:
        """Stretches of a reading, counted from its own beginning."""
        first = mark["start"]
        keep = ("load", "mode", "drive")
        return [
            {**{k: p[k] for k in keep if k in p}, "start": p["start"] - first, "stop": p["stop"] - first}
            for p in mark["parts"]
        ]

    def _reference(self, task: Task) -> float | None:
        """V that the signal-to-noise ratio refers to: of the step that is named, as its record has them, else of the
        published power into this load. Raises BadInput where that step has none."""
        if task.step.reference is not None:
            return self._found_by(task.step.reference, task)
        load = task.load if task.load is not None else self.settings.loads[0]
        rated = self.settings.rated_at(load)
        return None if rated is None else math.sqrt(rated * load)

    def _found_by(self, name: str, task: Task) -> float:
        """V rms that a step showed on this channel: into the same load, else into the first that it was read at."""
        plan = tasks(self.settings.model_copy(update={"only": []}))
        held = [t for t in plan if t.step.name == name and t.channel == task.channel and t.key in self.marks]
        at = next((t for t in held if t.load == task.load), held[0] if held else None)
        if at is None:
            raise BadInput(f"the step '{name}', which it refers to, was not taken on {task.channel}")
        mark, record = self.marks[at.key]
        if (why := out_of_supply(mark, self.settings) or self._dropped(mark) or mark.get("why")) is not None:
            raise BadInput(f"the step '{name}', which it refers to, does not count: {why}")
        return float(np.std(cut(record[task.channel], mark["start"], mark["stop"]).samples()))

    def _keep(self, task: Task, reading: Reading, mark: Mark, why: str | None) -> None:
        key = f"{task.key}_{reading.key}"
        valid = reading.valid and why is None
        verdict = reading.verdict if valid else "open"
        held = replace(reading, key=key, label=f"{task.step.label or task.step.name}, {task.column}: {reading.label}",
                       valid=valid, reason=reading.reason or why, verdict=verdict)  # fmt: skip
        self.readings.append(held)
        self.values[key] = held
        name = task.step.label or task.step.name
        if len(task.step.tones) > 1:
            name = f"{name}, {task.tone / 1000:g} kHz" if task.tone >= 1000 else f"{name}, {task.tone:g} Hz"
        row = self.rows.setdefault(
            f"{name}|{reading.key}",
            {"step": name, "reading": reading.label, "unit": reading.unit, "low": reading.low, "high": reading.high,
             "cells": {}},
        )  # fmt: skip
        row["cells"][task.column] = {
            "key": key, "task": task.key, "value": held.value, "uncertainty": held.uncertainty,
            "interval": list(held.interval) if held.interval else None, "verdict": verdict, "valid": valid,
            "reason": held.reason, "drive": mark.get("drive"), "supply": mark.get("supply"),
            "temperature": mark.get("temperature"), "ohm": mark.get("ohm"), "t": mark.get("start"),
        }  # fmt: skip

    # --- readings beside the methods' own ----------------------------------------------------------------------

    def _corrected(self, task: Task, mark: Mark, found: Finding, why: str | None) -> None:
        """Power at nominal supply, where rails follow the supply and clipping sets the power: with its square."""
        part = self.settings.supply
        at_clipping = task.step.drive is not None and task.step.drive.distortion is not None and not mark.get("why")
        if part.regulated or not at_clipping or not mark.get("supply"):
            return
        power = found.reading("power")
        if power.value is None:
            return
        factor = (part.nominal / float(np.mean(mark["supply"]))) ** 2
        spread = None if power.uncertainty is None else power.uncertainty * factor
        made = Reading("power_nominal", "Power, corrected to nominal supply", power.value * factor, "W", spread, 2.0)
        limits = Limits({"power_nominal": task.step.limits.get("power_nominal", {})}, {"power_nominal": "W"},
                        self.settings.decision)  # fmt: skip
        self._keep(task, limits.judge(made), mark, None)

    def _by_meter(self, task: Task, mark: Mark, why: str | None) -> None:
        """The damping factor once more, as the voltmeter's readings give it, its step in the doubt."""
        values, parts, at = [], [], 0
        for part in mark["parts"]:
            read = [v for v in part.get("meter") or () if v is not None]
            values += read
            parts.append({"load": part["load"], "start": at / METER_RATE, "stop": (at + len(read)) / METER_RATE})
            at += len(read)
        method = registry.get("output-impedance")
        given = {**self._given(task, mark), "steps": parts, "limits": {}}
        limit = task.step.limits.get("damping_factor")
        if limit:
            given["limits"] = {"damping_factor": limit}
        given.pop("gain_uncertainty", None)
        record = {"output": channel_of("output", "V", METER_RATE, np.array(values))}
        found = method.judged(record, check(method.Settings, given, task.step.name), ())
        reading = found.reading("damping_factor")
        self._keep(task, replace(reading, key="damping_by_meter", label="Damping factor, by the voltmeter"), mark, why)

    def _series(self, task: Task, mark: Mark, record: Mapping[str, Channel], why: str | None) -> None:
        """Distortion and noise against power, a point a stretch."""
        from .output import pieces
        from .output_distortion import DistortionSettings, read_tone

        rows = []
        low, high = self.settings.supply.edges
        for point in mark["points"]:
            held = {"output": cut(record[task.channel], point["start"], point["stop"])}
            given = check(DistortionSettings, {**task.step.settings, "fundamental": task.tone}, task.step.name)
            (piece,) = pieces(held, given, ("output",))
            read = read_tone(piece, given)
            if isinstance(read, str):
                continue
            found, _ = read
            watts = found.level**2 / (point.get("ohm") or task.load or 8.0)
            volts = point.get("supply")
            fine = volts is None or low <= min(volts) <= max(volts) <= high
            rows.append((watts, 100 * found.total, 100 * found.total_doubt, fine))
        rows.sort()
        if not rows:
            return
        x, y, doubt, valid = zip(*rows, strict=True)
        label = f"{task.step.label or task.step.name}, {task.column}"
        made = Curve(f"distortion_power_{task.key}", label, x, y, "W", "%", doubt, 2.0, valid=valid)
        if why is not None:
            self.verdicts.append("open")
        self.curves.append(self._masked(task, made))

    def _masked(self, task: Task, curve: Curve) -> Curve:
        """The curve against its step's mask, which it is judged by."""
        if task.step.mask is None:
            return curve
        made = limited(curve, task.step.mask, self.settings.decision)
        self.verdicts.append(made.verdict)
        self.notes += made.notes
        return made.curve

    def _between_channels(self, plan: Sequence[Task]) -> None:
        """Level difference and phase between the first two channels, where gains or responses were read."""
        if len(self.settings.channels) < 2:
            return
        a, b = self.settings.channels[:2]
        done = set()
        for task in plan:
            other = task.key.replace(f"_{a}_", f"_{b}_")
            if task.channel != a or task.step.method != "output-gain" or (task.key, other) in done:
                continue
            done.add((task.key, other))
            pair = [self.values.get(f"{k}_gain") for k in (task.key, other)]
            if any(p is None or p.value is None for p in pair):
                continue
            first, second = pair
            assert first is not None and second is not None
            spoiled = out_of_supply(self.marks[other][0], self.settings)
            for key, of, label, unit in (("difference", "gain", f"Level, {a} over {b}", "dB"),
                                         ("phase_difference", "phase", f"Phase, {a} minus {b}", "deg")):  # fmt: skip
                one, two = self.values[f"{task.key}_{of}"], self.values[f"{other}_{of}"]
                value = (one.value or 0.0) - (two.value or 0.0)
                value = (value + 180) % 360 - 180 if unit == "deg" else value
                made = Reading(key, label, value, unit, math.hypot(one.uncertainty or 0, two.uncertainty or 0), 2.0)
                limits = Limits({key: task.step.limits.get(key, {})}, {key: unit}, self.settings.decision)
                self._keep(task, limits.judge(made), self.marks[task.key][0], spoiled)

    def _phases_between(self, plan: Sequence[Task]) -> None:
        """Phase between the first two channels over frequency, where both were swept: delays are part of it."""
        if len(self.settings.channels) < 2:
            return
        a, b = self.settings.channels[:2]
        for task in plan:
            one, two = self.phases.get(task.key), self.phases.get(task.key.replace(f"_{a}_", f"_{b}_"))
            if task.channel != a or one is None or two is None or one.x != two.x:
                continue
            off = (np.array(one.y, dtype=float) - np.array(two.y, dtype=float) + 180) % 360 - 180
            where = task.column.partition(" · ")[2]
            label = f"{task.step.label or task.step.name}, {a} minus {b}" + (f" · {where}" if where else "")
            self.curves.append(Curve(f"between_{task.key}", label, one.x, tuple(map(float, off)), "Hz", "deg"))

    def _paths(self) -> None:
        """What the tone before the first step showed."""
        for mark in self.paths[-1:]:
            said = ", ".join(f"{c} {20 * math.log10(g):.1f} dB" for c, g in mark["gains"].items())
            self.notes.append(f"Before the first step a tone went through every channel: {said}.")


def _with_delay(found: Finding) -> Curve:
    """The phase of a response, what its delay makes of it put back."""
    curve, delay = found.curve("phase"), found.reading("delay").value or 0.0
    whole = np.array(curve.y, dtype=float) - 360 * np.array(curve.x) * delay
    return replace(curve, y=tuple(map(float, whole)))
