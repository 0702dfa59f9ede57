"""Performing an impact test: ranges from trial hits, a trigger on the force, each hit judged as it comes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ...contracts.method import Facts, Got, Performance, Want
from ...core.signal.impact import WEAK, FrfEstimate, excited_up_to, fault_of, frf_of
from ...core.signal.pyramid import envelope
from ...core.signal.rounding import rounded
from ...core.signal.sinefit import Floats
from .impact_response import ImpactSettings
from .listening import lamp, peaks_of_lines, range_for

USUAL_HITS = 5
PATIENCE = 600.0
"""s without a hit after which the run ends."""
SHARE, OVER_NOISE = 0.001, 40.0
"""Of the force's range, and over its noise: the trigger of the trial hits when none is given."""
AHEAD, AFTER = 0.001, 0.004
"""s about the trigger that the picture of a pulse shows."""


@dataclass
class HitRun:
    """State of the run; forces in N, responses in m/s²."""

    settings: ImpactSettings
    facts: Facts
    sign: float = 1.0
    ranged: bool = False
    pending: int | None = None
    """sample of a trigger whose block is not whole yet"""
    base: int = 0
    """sample number of the first kept sample"""
    seen: int = 0
    """sample up to which triggers were looked for"""
    low: bool = False
    """The force has been below the hysteresis since the last trigger"""
    hits: list[dict[str, Any]] = field(default_factory=list)
    good: dict[int, tuple[Floats, Floats]] = field(default_factory=dict)
    """Blocks of the hits that count, by number"""
    put_aside: dict[int, tuple[Floats, Floats]] = field(default_factory=dict)
    trials: list[tuple[float, float]] = field(default_factory=list)
    pieces: list[float] = field(default_factory=list)
    rest: float = float("inf")
    """N rms of the force when nothing hits"""
    over: set[str] = field(default_factory=set)
    live: dict[str, Any] = field(default_factory=dict)

    def __post_init__(self) -> None:
        by = {i.role: i for i in self.facts.inputs}
        self.roles = ("force", "response")
        self.scale = np.array([by[r].scale for r in self.roles])
        self.ranges = [by[r].range for r in self.roles]
        self.units = [by[r].unit for r in self.roles]
        self.rate = self.facts.rate
        self.block = self.settings.block
        self.before = int(self.block * self.settings.pretrigger / 100)
        self.kept: Floats = np.zeros((2, 0))
        self.level = self.settings.trigger or SHARE * self.ranges[0] * float(self.scale[0])
        self.own = self.settings.trigger is not None
        self.wanted = self.settings.hits or USUAL_HITS
        self.ranged = self.settings.trial_hits == 0
        self.last = 0
        self.at = 0
        """number of the point that is hit"""
        self.moving = False
        """The hits of a point are complete; the operator moves on"""
        self.marks: list[dict[str, Any]] = []
        if self.own or self.ranged:
            self.marks.append({"t": 0.0, "kind": "trigger", "level": self.level})
        self.wish: dict[str, Any] | None = None

    @property
    def end(self) -> int:
        """Samples so far."""
        return self.base + self.kept.shape[1]

    def heed(self, got: Got) -> None:
        """Take in one block, and what the operator asked for."""
        x = np.array([got.channels[r] for r in self.roles]) * self.scale[:, None]
        self.over |= {r for r in self.roles if r in got.overload}
        self.kept = np.concatenate([self.kept, x], axis=1)
        count = x.shape[1] // 256
        if count:
            still = x[:, : count * 256].reshape(2, count, 256).std(axis=2)
            self.pieces = sorted([*self.pieces, *still[1]])[:400]
            self.rest = min(self.rest, float(still[0].min()))
            if not self.own and not self.hits and not (self.ranged and self.settings.trial_hits):
                self.level = max(SHARE * self.ranges[0] * float(self.scale[0]), OVER_NOISE * self.rest)
        for order in got.orders:
            self._obey(order)
        if self.moving:
            self.seen, self.low = self.end, False
        while not self.moving and self._look():
            pass
        if self.pending is None:
            self._forget(max(self.end - self.before - 4, 0))

    def _forget(self, upto: int) -> None:
        cut = upto - self.base
        if cut > 0:
            self.kept, self.base = self.kept[:, cut:], upto

    def _obey(self, order: Mapping[str, Any]) -> None:
        name = order.get("order")
        if name == "go" and self.moving:
            self.at, self.moving, self.last = self.at + 1, False, self.end
            self.hits, self.good, self.put_aside = [], {}, {}
            self.live.pop("frf", None)
            self.marks.append({"t": self.end / self.rate, "kind": "point", "point": self.settings.points[self.at]})
        elif name == "trigger" and float(order.get("level", 0.0)) > 0:
            self.level, self.own = float(order["level"]), True
            self.marks.append({"t": self.end / self.rate, "kind": "trigger", "level": self.level})
        elif name == "overrule":
            number = int(order.get("number", 0))
            pair = self.put_aside.pop(number, None)
            if pair is not None:
                hit = self.hits[number - 1]
                hit["overruled"] = str(order.get("note", "")) or "taken by a person"
                self.marks.append({"kind": "overrule", "t": hit["t"], "number": number, "note": hit["overruled"]})
                self._count(number, *pair)

    def _look(self) -> bool:
        """Find the next trigger, or finish the hit that is pending. True: there may be more."""
        if self.pending is None:
            at = max(self.seen - self.base, 0)
            f = self.kept[0, at:]
            if not self.ranged or not self.hits:
                # Which way the hammer counts is learned from the first pulses.
                if f.size and -f.min() > max(self.level, f.max()):
                    self.sign = -1.0
                elif f.size and f.max() > self.level:
                    self.sign = 1.0
            f = self.sign * f
            if not self.low:
                fell = np.flatnonzero(f < self.settings.hysteresis / 100 * self.level)
                if not fell.size:
                    self.seen = self.end
                    return False
                self.low = True
                f, at = f[fell[0] :], at + int(fell[0])
            above = np.flatnonzero(f >= self.level)
            self.seen = self.end
            if not above.size:
                return False
            self.pending, self.low = self.base + at + int(above[0]), False
        start = self.pending - self.before
        if self.end < start + self.block:
            return False
        trigger, self.pending = self.pending, None
        if start >= self.base:
            piece = self.kept[:, start - self.base : start - self.base + self.block].copy()
            self._hit(trigger, self.sign * piece[0], piece[1])
        self.seen = start + self.block
        self._forget(self.seen - self.before - 4)
        return True

    def _hit(self, trigger: int, force: Floats, response: Floats) -> None:
        self.last = self.end
        rest = float(np.median(force[: max(self.before, 1)]))
        peaks = (float(np.max(force - rest)), float(np.max(np.abs(response))))
        if not self.ranged:
            self._trial(peaks)
            self._picture(trigger, force, response, None, 0)
            self.over.clear()
            return
        tenth = self.pieces[: max(len(self.pieces) // 10, 1)]
        quiet = float(np.mean(tenth)) if tenth else 0.0
        limits = (self.ranges[0] * self.scale[0], self.ranges[1] * self.scale[1])
        fault = fault_of(force, response, self.before, quiet, limits)
        number = len(self.hits) + 1
        hit: dict[str, Any] = {"number": number, "t": round(trigger / self.rate, 4), "peak": peaks[0], "fault": fault}
        self.hits.append(hit)
        self.marks.append({"kind": "hit", **hit})
        if fault is None:
            self._count(number, force, response)
            fault = hit["fault"]
        else:
            self.put_aside = {**dict(list(self.put_aside.items())[-9:]), number: (force, response)}
        self._picture(trigger, force, response, fault, number)
        self.over.clear()

    def _trial(self, peaks: tuple[float, float]) -> None:
        """Learn the ranges: wider at once where one overloaded, the fitting one when there were enough trial hits."""
        volts = tuple(p / s for p, s in zip(peaks, self.scale, strict=True))
        wider = [
            range_for(1.05 * r, self.facts.ranges) if role in self.over else r
            for r, role in zip(self.ranges, self.roles, strict=True)
        ]
        if wider != self.ranges:
            self._set_ranges(wider)
            return
        self.trials.append((volts[0], volts[1]))
        if len(self.trials) >= self.settings.trial_hits:
            usual = np.median(np.array(self.trials), axis=0)
            self._set_ranges([range_for(2.5 * float(v), self.facts.ranges) for v in usual])
            self.ranged = True
            if not self.own:
                self.level = 0.1 * float(usual[0] * self.scale[0])
                self.marks.append({"t": self.end / self.rate, "kind": "trigger", "level": self.level})
            held = dict(zip(self.roles, self.ranges, strict=True))
            self.marks.append({"t": self.end / self.rate, "kind": "ranged", "ranges": held})

    def _set_ranges(self, ranges: list[float]) -> None:
        self.ranges = ranges
        self.wish = {"ranges": dict(zip(self.roles, ranges, strict=True))}

    def _count(self, number: int, force: Floats, response: Floats) -> None:
        self.good[number] = (force, response)
        self._weigh()
        if not self.good:
            return
        made = frf_of(
            self.good.values(), self.rate, self.before, self.settings.estimator, self.settings.response_decay,
            self.settings.force_window,
        )  # fmt: skip
        self.live["frf"] = frf_picture(made)
        self.live["left"] = made.left

    def _weigh(self) -> None:
        """Put aside what turned out weak beside the others; the first hits can't be told so at once."""
        counted = [h for h in self.hits if h["number"] in self.good and "overruled" not in h]
        if len(counted) < 3:
            return
        usual = float(np.median([h["peak"] for h in counted]))
        for h in counted:
            if h["peak"] < WEAK * usual:
                h["fault"] = f"weak hit, {h['peak']:.3g} of usually {usual:.3g}"
                self.put_aside[h["number"]] = self.good.pop(h["number"])
                self.marks.append({"kind": "hit", **h})

    def _picture(self, trigger: int, force: Floats, response: Floats, fault: str | None, number: int) -> None:
        a, b = max(self.before - int(AHEAD * self.rate), 0), self.before + int(AFTER * self.rate)
        t, y = envelope(response, 300)
        f, lines = peaks_of_lines(np.abs(np.fft.rfft(force)) / self.rate, self.rate / self.block, 240)
        self.live["hit"] = {
            "number": number, "fault": fault, "peak": float(force.max()),
            "t": rounded((np.arange(a, b) - self.before) / self.rate * 1e3, 6), "force": rounded(force[a:b], 5),
            "tr": rounded((t - self.before) / self.rate, 6), "response": rounded(y, 5),
            "f": rounded(f, 5), "spectrum": rounded(lines, 4),
        }  # fmt: skip
        peaks = (float(np.max(np.abs(force))), float(np.max(np.abs(response))))
        self.live["lamps"] = {
            role: lamp(peak / scale, r, role in self.over, self.facts.ranges)
            for role, peak, scale, r in zip(self.roles, peaks, self.scale, self.ranges, strict=True)
        }

    def told(self) -> dict[str, Any]:
        """What faces show."""
        t, y = envelope(self.sign * self.kept[0, -self.facts.block :], 120)
        return {
            **self.live, "stage": "hits" if self.ranged else "ranging", "good": len(self.good), "wanted": self.wanted,
            "trials": len(self.trials), "trials_wanted": self.settings.trial_hits, "trigger": self.level,
            "ranges": dict(zip(self.roles, self.ranges, strict=True)), "hits": [dict(h) for h in self.hits[-24:]],
            "waiting": self.pending is None, "moving": self.moving,
            "places": self.settings.points, "place": self.at,
            "scope": {"t": rounded(t / self.rate, 6), "force": rounded(y, 4)},
        }  # fmt: skip


def frf_picture(made: FrfEstimate) -> dict[str, Any]:
    """Magnitude and coherence in at most 500 lines, up to where the hammer excites."""
    usable = excited_up_to(made.frequency, made.force)
    top = int(np.searchsorted(made.frequency, 1.15 * usable))
    stride = max(1, top // 500)
    held = slice(1, top, stride)
    picture: dict[str, Any] = {
        "f": rounded(made.frequency[held], 5), "magnitude": rounded(np.abs(made.response[held]), 4),
        "usable_to": usable, "count": made.count,
    }  # fmt: skip
    if made.coherence is not None:
        picture["coherence"] = rounded(made.coherence[held], 4)
    return picture


def perform(settings: ImpactSettings, facts: Facts) -> Performance:
    """Listen until there are as many good hits as wanted, none for ten minutes, or the operator ends it."""
    run = HitRun(settings, facts)
    silence = np.zeros(facts.block)
    if settings.points:
        run.marks.append({"t": 0.0, "kind": "point", "point": settings.points[0]})
    begin = {"t": 0.0, "kind": "hits", "wanted": run.wanted, "block": settings.block}
    got = yield Want(silence, marks=(begin, *run.marks), live=run.told())
    run.marks.clear()
    shown = 0
    while True:
        known = len(run.hits), len(run.good), len(run.trials)
        run.heed(got)
        complete = len(run.good) >= run.wanted and run.pending is None
        if complete and run.at + 1 < len(settings.points):
            run.moving, complete = True, False
        done = complete or any(o["order"] == "skip" for o in got.orders)
        done = done or run.end - run.last > PATIENCE * run.rate
        fresh = known != (len(run.hits), len(run.good), len(run.trials))
        shown += 1
        more: dict[str, Any] = {"live": run.told()} if fresh or shown % 3 == 0 or done else {}
        if run.wish is not None:
            more["settings"], run.wish = run.wish, None
        got = yield Want(silence, marks=tuple(run.marks), **more)
        run.marks.clear()
        if done:
            return
