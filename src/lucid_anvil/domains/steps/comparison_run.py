"""A comparison run step by step: gone to, waited for, read once it is steady; by a source, or by a person's hand."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Generator, Sequence
from typing import Any

import numpy as np

from ...contracts.method import LEAD, Facts, Got, Performance, Want
from ...core.errors import BadInput
from ...core.quantities import parse, split
from .comparison_course import ComparisonCourse, Hold, Stage, Turn, stretches

AT_REST = 0.02
"""of the highest step below which a load counts as taken off"""
FEEL = 0.05
"""of the source's range in a second, by which it is brought up while it is not known what a volt does"""
KNOWN = 0.05
"""of the highest step from which that is known"""
TRIM = 0.4
"""of what is missing that is made good in a second, once a step is near"""
LOST = 60.0
"""s in which the source may fail to bring a step about"""
LATER = 0.25
"""s between two pictures"""

RIGHT = 0.2
"""of the least spacing of weights by which the unit may be off, so that the right ones lie there"""
AGREE = 0.1
"""by which the unit may go away from what it showed per N or Pa of the reference: beyond it one of them has changed"""
STATED = 0.25
"""by which it may be off what the Ledger says of it, before it was seen"""
UNSURE, STRAY = 0.05, 0.05
"""of a step by which a load may be off it where the unit alone tells it, and of the highest one by which a typed
reading may be off at rest before it is asked about"""
UNANSWERED = 200
"""times that somebody goes on without having typed a reading: nobody is there who would"""
LATE = 1.0
"""s by which a gauge may come after the unit, its line and its own averaging together"""
TOLD = 0.1
"""of the highest step from which the two are compared"""

Told = Callable[[list[dict[str, Any]]], dict[str, Any]]
"""From the steps read so far what a face is shown of them"""


class Runner:
    """The bench while the stages are gone through."""

    def __init__(
        self, course: ComparisonCourse, stages: Sequence[Stage], top: float, unit: str, facts: Facts, told: Told,
    ) -> None:  # fmt: skip
        self.laid = course.weights is not None
        """Whether loads are weights that a person lays on: then the unit alone tells that they are there"""
        self.typed = course.typed
        """Whether a person reads the reference: then the unit alone tells when a step is reached"""
        self.told_by = "unit" if course.unseen else "gauge" if course.gauge else "reference"
        if course.unseen and "unit" not in facts.sensitivity:
            what = "the weights lie there" if self.laid else "a step is reached"
            raise BadInput(f"the unit's sensitivity is not known: nothing else tells that {what}.")
        if not course.unrecorded and "reference" not in facts.sensitivity:
            raise BadInput("the reference's sensitivity is not known: enter its certificate into the Ledger.")
        self.course, self.stages, self.top, self.unit, self.facts = course, stages, top, unit, facts
        self.told = told
        self.per = 1.0 if course.gauge else facts.sensitivity[self.told_by]
        self.span = facts.block / facts.rate
        self.volts = self.goal = 0.0
        self.per_volt: float | None = None
        self.got: Got | None = None
        self.recent: deque[tuple[float, float]] = deque(maxlen=max(4, round(2.0 / self.span)))
        """When, and what the reference showed"""
        self.lately: deque[float] = deque(maxlen=max(round(LATE / self.span), 1))
        """What the unit showed within the last moments [N or Pa]"""
        self.rest = self.unit_rest = 0.0
        """What the reference shows at rest [N or Pa], and the unit [V]"""
        self.unit_now = 0.0
        self.unit_per: float | None = None
        """V of the unit per N or Pa of the reference, once they were seen together at the highest step"""
        self.over = False
        self.steps: list[dict[str, Any]] = []
        self.pictured = -1e9
        self.at = 0
        self.items = stretches(stages)

    @property
    def load(self) -> float:
        """N or Pa on the reference now, its rest taken off."""
        return self.recent[-1][1] - self.rest if self.recent else 0.0

    def turn(
        self, word: str, wanted: float, left: float = 0.0, marks: tuple[dict[str, Any], ...] = (), **more: Any
    ) -> Generator[Want, Got, None]:
        """One block: the drive as it is to be, and what a person reads meanwhile."""
        hand = self.course.by_hand
        before = self.volts
        if not hand:
            self.volts = float(np.clip(self.goal, -0.98, 0.98) * self.facts.source_range)
        drive = before + (self.volts - before) * np.arange(1, self.facts.block + 1) / self.facts.block
        live = None
        now = self.got.start if self.got is not None else 0.0
        if now - self.pictured >= LATER or marks or more.get("stage"):
            self.pictured = now
            live = self._live(word, wanted, left, more)
        settings = more.get("settings")
        self.got = yield Want(drive, marks=marks, live=live, settings=settings)
        if self.course.gauge:
            # Between two looks at it the gauge stands where it was; silent for long is the guard's matter.
            held = (self.got.instruments or {}).get("gauge")
            mean = float(held) if held is not None else self.recent[-1][1] if self.recent else 0.0
        else:
            mean = float(np.mean(self.got.channels[self.told_by])) / self.per
        self.unit_now = float(np.mean(self.got.channels["unit"]))
        self.recent.append((self.got.start + self.span, mean))
        trip = self._apart()
        if trip is not None:
            # Whoever of the two lies: a load that is steered by a wrong reference breaks what stands under it.
            yield from self._end(trip)

    def _end(self, trip: dict[str, Any] | None) -> Generator[Want, Got, None]:
        """The load is taken off, and nothing more is asked for."""
        self.over = True
        while True:
            yield Want(np.zeros(self.facts.block), trip=trip)
            trip = None

    def _give_up(self, label: str) -> Generator[Want, Got, None]:
        """What was waited for does not come."""
        yield from self._end({"guard": "control_lost", "label": label, "channel": "reference", "value": self.load,
                              "limit": self.top, "unit": self.unit, "action": "ease"})  # fmt: skip

    def _apart(self) -> dict[str, Any] | None:
        """The end of the run, where reference and unit no longer tell the same."""
        if not self.recent or self.over or self.course.unseen:
            return None
        unit = self.unit_now - self.unit_rest
        known, within = (self.unit_per, AGREE) if self.unit_per else (self.facts.sensitivity.get("unit"), STATED)
        if not known:
            return None
        shown = unit / known
        if self.course.gauge:  # whatever the unit showed while the gauge took its time
            self.lately.append(shown)
            shown = min(max(self.load, min(self.lately)), max(self.lately))
        if max(abs(shown), abs(self.load)) < TOLD * self.top:
            return None
        ratio = shown / self.load if self.load else float("inf")
        if abs(ratio - 1) <= within:
            return None
        past = "did before" if self.unit_per else "stands in the Ledger"
        label = (f"the unit shows {ratio:.2f} times what it {past}, against the reference: one of the two lies, or is"
                 " not the one that the plan names")  # fmt: skip
        return {"guard": "chain", "label": label, "channel": "unit", "value": 100 * (ratio - 1), "limit": 100 * within,
                "unit": "%", "action": "ease"}  # fmt: skip

    def _live(self, word: str, wanted: float, left: float, more: dict[str, Any]) -> dict[str, Any]:
        within = max(self.course.within / 100 * abs(wanted), AT_REST / 2 * self.top)
        gauge = {"value": self.load, "wanted": wanted, "within": within, "top": self.top, "unit": self.unit,
                 "word": word, "left": left}  # fmt: skip
        item, share = self.items[self.at]
        made: dict[str, Any] = {"item": item, "at": share, "of": 1.0, "gauge": gauge}
        shown = {"Step": f"{self.at + 1} of {len(self.stages)}"}
        made |= {k: v for k, v in more.items() if k in ("stage", "ask", "typing")}
        found = self.told(self.steps)
        return {**made, **found, "shown": {**shown, **found.get("shown", {})}}

    # --- going there -----------------------------------------------------------------------------------------

    def go_to(self, hold: Hold) -> Generator[Want, Got, None]:
        """Until the load is there."""
        if self.course.by_hand:
            yield from self._by_hand(hold)
            return
        begun = self._now()
        while self.per_volt is None and hold.load > 0:
            # What a volt does is found out slowly, the first time.
            self.goal += FEEL * self.span
            yield from self.turn("rise", hold.load)
            if self.load > KNOWN * self.top:
                # A press comes late: it is let come to rest, or a volt would seem to do less than it does.
                since = self._now()
                while self._now() - since < LOST and self._change(1.0) > self.course.steady / 100 * self.top:
                    yield from self.turn("rise", hold.load)
                if self._now() - since >= LOST:  # a figure taken on the way would overshoot
                    yield from self._give_up(self._restless(hold))
                self.per_volt = self.load / self.volts
            elif self.goal > 0.95:
                yield from self._give_up("the source is at its end, and the reference shows next to no load")
            elif self.goal > 0.5 and self.load < KNOWN * self.top / 4:
                yield from self._give_up("the source is at half its range, and the reference shows no load")
        start = self.load
        if hold.load == 0:
            while self.goal > 0:
                self.goal = max(self.goal - self._volts_a_second() * self.span / self.facts.source_range, 0.0)
                yield from self.turn("lower", 0.0)
        else:
            assert self.per_volt is not None
            rate = self.course.rate / 100 * self.top
            point = start
            while abs(point - hold.load) > 1e-9 * self.top:
                step = float(np.clip(hold.load - point, -rate * self.span, rate * self.span))
                point += step
                self.goal += step / self.per_volt / self.facts.source_range
                yield from self.turn("rise" if hold.load > start else "lower", hold.load)
        near = self.course.within / 100 * abs(hold.load) if hold.load else AT_REST * self.top
        since = self._now()
        while abs(self.load - hold.load) > near or self._change(0.4) > 20 * self.course.steady / 100 * self.top:
            self._trim(hold, 0.4)
            yield from self.turn("rise" if self.load < hold.load else "lower", hold.load)
            if self._now() - since > LOST:
                if abs(self.load - hold.load) <= near:
                    yield from self._give_up(self._restless(hold))
                said = f"{hold.text}: the load did not come to {hold.load:.6g} {self.unit} in"
                yield from self._give_up(
                    f"{said} {self._now() - begun:.0f} s, it stands at {self.load:.6g} {self.unit}"
                )

    def _by_hand(self, hold: Hold) -> Generator[Want, Got, None]:
        near = self.course.within / 100 * hold.load if hold.load else AT_REST * self.top
        if self.laid:  # a weight too few or too many shows; what the unit is off by does not matter
            near = RIGHT * self._spacing()
            if not hold.read and hold.load:  # nothing is read there, and what the unit shows may not be known yet
                near = STATED * hold.load
        elif self.typed:  # by what the unit shows, which is what is to be found out
            near = max(near, UNSURE * hold.load)
        asked: dict[str, Any] = {"settings": {"lay" if self.laid else "ask": hold.load}}
        while True:
            off = self.load - hold.load
            word = "hold" if abs(off) <= near else "lower" if off > 0 else "rise"
            yield from self.turn(word, hold.load, **asked)
            asked = {}
            if abs(self.load - hold.load) <= near and self._change(0.4) < 20 * self.course.steady / 100 * self.top:
                return

    def _spacing(self) -> float:
        """N or Pa between the two steps that lie nearest."""
        loads = sorted({s.load for s in self.stages if isinstance(s, Hold)} | {0.0})
        return min(b - a for a, b in zip(loads, loads[1:], strict=False))

    def _trim(self, hold: Hold, over: float) -> None:
        """Make good what is missing, once the press has come to rest; never past the step."""
        if hold.load and self.per_volt and self._change(over) < 5 * self.course.steady / 100 * self.top:
            self.goal += TRIM * self.span * (hold.load - self.load) / self.per_volt / self.facts.source_range

    def _volts_a_second(self) -> float:
        if self.per_volt is None:
            return FEEL * self.facts.source_range
        return self.course.rate / 100 * self.top / self.per_volt

    # --- waiting and reading ---------------------------------------------------------------------------------

    def stay(self, seconds: float, hold: Hold, word: str) -> Generator[Want, Got, None]:
        end = self._now() + seconds
        while self._now() < end - 1e-9:
            yield from self.turn(word, hold.load, max(end - self._now(), 0.0))

    def read(self, hold: Hold) -> Generator[Want, Got, None]:
        """Wait, see that it is steady, read; a reading that was not steady is taken again."""
        yield from self.stay(self.course.wait, hold, "hold")
        since = self._now()
        while True:
            if not self.course.by_hand and self._now() - since > LOST:
                yield from self._give_up(self._restless(hold))
            while self._change(1.0) > self.course.steady / 100 * self.top:
                yield from self.turn("hold", hold.load)
                if not self.course.by_hand and self._now() - since > LOST:
                    break
            assert self.got is not None
            start = self._now()
            volts: list[float] = []
            shown_there: list[float] = []
            while self._now() < start + self.course.read - 1e-9:
                yield from self.turn("reading", hold.load, start + self.course.read - self._now())
                volts.append(float(np.mean(self.got.channels["unit"])))
                shown_there.append(self.recent[-1][1])
            if self._change(min(self.course.read, 1.0)) <= self.course.steady / 100 * self.top:
                break
        stop, typed = self._now(), float(np.mean(shown_there)) if self.course.gauge else None
        if self.typed:
            typed = yield from self._asked(hold)
            stop = self._now()
        if hold.load == 0 and hold.rising:
            self.rest += self.load * (1.0 if abs(self.load) < AT_REST * self.top else 0.0)
        mark = {"kind": "step", "t": stop, "series": hold.series, "nominal": hold.load, "start": start, "stop": stop,
                "direction": "up" if hold.rising else "down", "position": f"{hold.position:g} deg"}  # fmt: skip
        mark |= {} if typed is None else {"reference": typed}
        mark |= {"reference_scatter": _error(shown_there)} if self.course.gauge else {}
        shown = hold.load if self.laid else self.recent[-1][1] if typed is None else typed
        if self.course.unseen and hold.load > TOLD * self.top and self.load > 0 and shown > 0:
            by = self.load / shown
            if self.laid or abs(by - 1) <= STATED:  # a slip of the pen must not tell a person to press harder
                self.per *= by  # from here on by what the unit itself has shown
                self.rest /= by
        self.steps.append({**mark, "reference": shown, "unit": float(np.mean(volts))})
        yield from self.turn("hold", hold.load, marks=(mark,))

    def _asked(self, hold: Hold) -> Generator[Want, Got, float]:
        """What the reference shows, N or Pa, as a person types it. What is far from the step is asked about once more;
        where the load moved meanwhile, unit and reference are read again."""
        ask = usual = f"{hold.text}: type what the reference shows now, with its unit."
        doubted: float | None = None
        before, idle = self.load, 0
        while True:
            yield from self.turn("reading", hold.load, stage="asking", ask=ask,
                                 typing=len(self.steps) + 1)  # fmt: skip
            assert self.got is not None
            for order in self.got.orders:
                idle += order.get("order") == "go"
                if order.get("order") != "row" or not order.get("meter"):
                    continue
                text = str(order["meter"]).strip()
                try:
                    if not split(text)[1]:
                        raise BadInput(f"'{text}' has no unit: write it like '{hold.load:g} {self.unit}'.")
                    value = parse(text, self.unit, "reference")
                except BadInput as problem:
                    ask = f"{problem}"
                    continue
                far = abs(value - hold.load) > max(STATED * hold.load, STRAY * self.top)
                if far and value != doubted:
                    doubted = value
                    ask = f"{text} is far from {hold.load:.6g} {self.unit}: type it once more if it is so."
                    continue
                if abs(self.load - before) > 5 * self.course.steady / 100 * self.top:
                    before, doubted = self.load, None
                    ask = f"The load moved while you read. {usual}"
                    continue
                return value
            if idle > UNANSWERED:
                yield from self._end({"guard": "control_lost", "label": "nobody typed what the reference shows",
                                      "channel": "unit", "value": self.load, "limit": self.top, "unit": self.unit,
                                      "action": "ease"})  # fmt: skip

    def try_unit(self) -> Generator[Want, Got, None]:
        """At a tenth of the highest step, before anything is preloaded: whether the unit, by which a person is told how
        far to go, shows what the reference does."""
        first = Hold(TOLD * self.top, "First, a tenth of the highest step")
        yield from self.go_to(first)
        value = yield from self._asked(first)
        by = self.load / value if value > 0 else float("inf")
        if abs(by - 1) > STATED:
            yield from self._end({"guard": "chain", "label": f"the unit shows {by:.2f} times what was read of the"
                                  " reference: one of the two lies, or was misread", "channel": "unit",
                                  "value": 100 * (by - 1), "limit": 100 * STATED, "unit": "%",
                                  "action": "ease"})  # fmt: skip

    def _restless(self, hold: Hold) -> str:
        return f"{hold.text}: the load does not come to rest at {hold.load:.6g} {self.unit}"

    def _change(self, over: float) -> float:
        """By which the reference changes in a second, from one half of the last `over` s to the other."""
        n = max(2, round(over / self.span / 2))
        if len(self.recent) < 2 * n:
            return 1e30
        held = [v for _, v in list(self.recent)[-2 * n :]]
        return abs(float(np.mean(held[n:])) - float(np.mean(held[:n]))) / (n * self.span)

    def _now(self) -> float:
        return self.got.start + self.span if self.got is not None else 0.0


def _error(readings: list[float]) -> float:
    """Standard error of the mean of a gauge's readings; one that stood is one reading."""
    held = np.array(readings)
    apart = 1 + int(np.count_nonzero(np.diff(held)))
    return float(held.std(ddof=1) / np.sqrt(apart)) if held.size > 1 else 0.0


def perform(
    course: ComparisonCourse, stages: Sequence[Stage], top: float, unit: str, facts: Facts, told: Told,
) -> Performance:  # fmt: skip
    """All stages in their order; the load is taken off at the end."""
    run = Runner(course, stages, top, unit, facts, told)
    rest = Hold(0.0, "The end")
    mounted = next((s.position for s in stages if isinstance(s, Hold) and s.read), 0.0)
    yield from run.turn("hold", 0.0, settings={"position": mounted})
    yield from run.stay(0.5, rest, "hold")
    run.rest, run.unit_rest = float(np.mean([v for _, v in run.recent])), run.unit_now
    if run.typed:
        yield from run.try_unit()
    for run.at, stage in enumerate(stages):
        if isinstance(stage, Turn):
            yield from run.go_to(rest)
            yield from _turned(run, stage)
            continue
        yield from run.go_to(stage)
        if run.unit_per is None and stage.load > TOLD * top and run.load > 0:
            run.unit_per = (run.unit_now - run.unit_rest) / run.load
        if stage.read:
            yield from run.read(stage)
        else:
            begun = run._now()
            yield from run.stay(stage.lasts or 0.0, stage, "hold")
            if stage.creeps:
                mark = {"kind": "loaded", "t": run._now(), "start": begun, "stop": run._now()}
                yield from run.turn("hold", stage.load, marks=(mark,))
    yield from run.go_to(rest)
    for _ in range(LEAD + 2):
        yield from run.turn("hold", 0.0)


def _turned(run: Runner, stage: Turn) -> Generator[Want, Got, None]:
    """Asks, and waits for the answer."""
    assert run.got is not None
    while True:
        yield from run.turn("turn", 0.0, stage="asking", ask=stage.text)
        if any(o.get("order") == "go" for o in run.got.orders):
            break
    mark = {"kind": "turned", "t": run._now(), "position": f"{stage.position:g} deg"}
    yield from run.turn("hold", 0.0, marks=(mark,), settings={"position": stage.position})
