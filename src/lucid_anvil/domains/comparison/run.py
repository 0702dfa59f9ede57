"""Performing the accelerometer comparison: the course beforehand, and the run as a generator."""

from __future__ import annotations

import math
from collections.abc import Generator, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ...contracts.method import LEAD, CourseItem, Facts, Got, Performance, Want, drive_block
from ...core.calibration.budget import entries
from ...core.calibration.comparison import Tone, measure_tone, strike_loose
from ...core.calibration.uncertainty import combine
from ...core.quantities import parse
from ...core.signal.multisine import low_crest_phases, multisine
from ...core.signal.sinefit import Floats, block_phasors
from .accelerometer_comparison import ComparisonSettings

LEVEL_TOLERANCE = 0.03
"""A level this close to the wished one is not corrected any more."""


@dataclass(frozen=True)
class BenchTables:
    """What the rig allows and how the drive acts, as arrays; parsed once, since it is asked for every block."""

    frequencies: Floats
    allowed: Floats
    why: tuple[str, ...]
    gain: Floats

    def level(self, wanted: float, frequency: float) -> tuple[float, str | None]:
        """Level [m/s² peak] at a frequency, and what limits it if it is not the level wished."""
        if not self.why:
            return wanted, None
        x = np.log(self.frequencies)
        may = float(np.exp(np.interp(np.log(frequency), x, np.log(self.allowed))))
        if may >= wanted:
            return wanted, None
        return may, self.why[int(np.argmin(np.abs(x - np.log(frequency))))]

    def gain_at(self, frequency: float) -> float:
        """Predicted m/s² per volt at the source."""
        return float(np.exp(np.interp(np.log(frequency), np.log(self.frequencies), np.log(self.gain))))


def tables(settings: ComparisonSettings) -> BenchTables:
    """The settings' rows as arrays."""
    if not settings.levels or not settings.drive_gain:
        return BenchTables(np.array([1.0, 1e5]), np.full(2, np.inf), (), np.ones(2))
    f, allowed = _table([(r[0], r[1]) for r in settings.levels], "m/s^2")
    _, gain = _table(settings.drive_gain, "m/s^2")
    return BenchTables(f, allowed, tuple(str(r[2]) for r in settings.levels), gain)


def _table(rows: list[tuple[Any, Any]], unit: str) -> tuple[Floats, Floats]:
    f = np.array([parse(r[0], "Hz") for r in rows])
    v = np.array([parse(r[1], unit) for r in rows])
    return f, v


def dwell_time(settings: ComparisonSettings, frequency: float) -> float:
    """s, measured time of one step: the wished dwell and no fewer than twenty periods."""
    return max(settings.dwell, 20.0 / frequency)


def settle_time(settings: ComparisonSettings, frequency: float) -> float:
    return settings.settle_run + 4.0 / frequency


def order_of(settings: ComparisonSettings) -> list[float]:
    """The reference frequency first, so that every deviation can be told at once; then from low to high."""
    wanted = settings.frequencies()
    if not wanted:
        return []
    anchor = min(wanted, key=lambda f: abs(math.log(f / settings.at_reference())))
    return [anchor] + [f for f in wanted if f != anchor]


def multisine_period(frequencies: list[float]) -> float:
    """s, the shortest of 1, 2, 5, 10, 20, 50, 100 s of which every frequency is a whole multiple of the inverse."""
    for period in (1.0, 2.0, 5.0, 10.0, 20.0, 50.0):
        if all(abs(f * period - round(f * period)) < 1e-6 for f in frequencies):
            return period
    return 100.0


def course(settings: ComparisonSettings) -> list[CourseItem]:
    """What will happen when: one item a step."""
    made = []
    if settings.insert:
        made.append(CourseItem("Gain ratio", 4.5 * multisine_period(settings.frequencies())))
    if settings.excitation == "multisine":
        period = multisine_period(settings.frequencies())
        made.append(CourseItem("Multi-sine, levelling", 2 * period))
        made.append(CourseItem("Multi-sine", (settings.periods + 1) * period))
        return made
    bench = tables(settings)
    for f in order_of(settings):
        level, limited = bench.level(settings.level, f)
        made.append(CourseItem(f"{f:g} Hz", 2 * settle_time(settings, f) + dwell_time(settings, f), f, level, limited))
    return made


def live_point(
    x: Floats, rate: float, t0: float, frequency: float, settings: ComparisonSettings, sideways: float | None
) -> dict[str, Any]:
    """One step as it will be read from the take, for the faces. `x` (2 or 3, n) volts, settled: reference, unit
    and transverse; `sideways` reference over transverse sensitivity."""
    from .reading import budget_inputs

    n = x.shape[1]
    transverse = None
    if sideways is not None and x.shape[0] > 2:
        p = np.abs(block_phasors(x[[0, 2]], rate, frequency, np.array([0, n]), t0)[:, 0])
        transverse = float(p[1] / p[0] * sideways) if p[0] > 0 else None
    x = x[:2]
    result, _ = measure_tone(
        lambda _a, _b: x, rate, Tone(frequency, t0, t0 + n / rate), settle=0.0, mains=settings.mains_hz()
    )
    result = strike_loose([result])[0]
    made: dict[str, Any] = {"frequency": frequency, "fault": result.fault, "spread": 100 * result.spread}
    response = settings.response()
    if response is not None and not response.covers(frequency):
        made["fault"] = "outside the frequencies of the reference's calibration"
    if made["fault"] is None and response is not None:
        scale = 1e3 if settings.conditioner_gain is None else 1e3 / settings.conditioner_gain
        given = budget_inputs(settings, [])
        doubt = combine(
            entries(result, given, response.interpolation_doubt(frequency), transverse), given.floor(frequency)
        )
        made |= {
            "sensitivity": abs(result.ratio) * response.at(frequency) * scale,
            "uncertainty": doubt.expanded,
            "phase": math.degrees(math.atan2(result.ratio.imag, result.ratio.real)),
            "distortion": [100 * d for d in result.distortion],
            "transverse": None if transverse is None else 100 * transverse,
            "level": result.amplitude[0] / response.at(frequency),
        }
    return made


@dataclass
class _Run:
    """State of a performance between turns."""

    settings: ComparisonSettings
    facts: Facts
    bench: BenchTables
    amplitude: float = 0.0
    frequency: float = 0.0
    phase: float = 0.0
    correction: float = 1.0
    """Measured over predicted gain, learned from step to step."""
    points: dict[float, dict[str, Any]] = field(default_factory=dict)
    got: Got | None = None
    result: Any = None

    @property
    def span(self) -> float:
        return self.facts.block / self.facts.rate

    def expected(self, amplitude: float) -> float | None:
        """rms that the reference should show for a drive amplitude [m/s²]."""
        if not self.frequency:
            return None
        return amplitude * self.bench.gain_at(self.frequency) * self.correction / math.sqrt(2)

    def turn(self, amplitude: float, **more: Any) -> Generator[Want, Got, Got]:
        """Play one block that goes straight to `amplitude`; receive one block."""
        n, rate = self.facts.block, self.facts.rate
        wave = drive_block((self.amplitude, amplitude), self.frequency, self.phase, rate, n)
        self.phase = (self.phase + 2 * np.pi * self.frequency * n / rate) % (2 * np.pi)
        low = min(self.amplitude, amplitude)
        self.amplitude = amplitude
        got = yield Want(wave, expect=self.expected(low) if low > 0 else None, **more)
        self.got = got
        if got.result is not None:
            self.result = got.result
        return got

    def go(self, amplitude: float, seconds: float) -> Generator[Want, Got, Got]:
        """Go to an amplitude over three periods (one block at least), then wait until it has stood for `seconds`
        at the inputs. A faster change would make the suspension swing."""
        count = max(1, math.ceil(3.0 / self.frequency / self.span)) if self.frequency else 1
        for target in np.linspace(self.amplitude, amplitude, count + 1)[1:]:
            got = yield from self.turn(float(target))
        arrives = got.index + LEAD + 1
        wait = arrives + max(1, math.ceil(seconds / self.span))
        while got.index < wait:
            got = yield from self.turn(amplitude)
        return got


def _amplitude_of(run: _Run, blocks: list[Got]) -> float:
    """Level of the reference [m/s² peak] over some blocks."""
    x = np.concatenate([b.channels["reference"] for b in blocks])
    p = block_phasors(x, run.facts.rate, run.frequency, np.array([0, x.size]), 0.0)
    return float(abs(p[0, 0])) / run.facts.sensitivity["reference"]


def _level_up(run: _Run, target: float) -> Generator[Want, Got, None]:
    """Bring the reference to the target level: careful at first, then corrected by what it showed."""
    limit = 0.98 * run.facts.source_range
    share = 1.0 if run.points else 0.3
    count = max(1, math.ceil(2.0 / run.frequency / run.span))
    for attempt in range(5):
        gain = run.bench.gain_at(run.frequency) * run.correction
        wanted = min(share * target / gain, limit)
        yield from run.go(wanted, settle_time(run.settings, run.frequency) if attempt else run.settings.settle_run)
        blocks = []
        for _ in range(count):
            blocks.append((yield from run.turn(wanted)))
        level = _amplitude_of(run, blocks)
        if level > 0.02 * share * target:
            run.correction *= float(np.clip(level / (share * target), 0.2, 5.0)) if wanted < limit else 1.0
        if share == 1.0 and (abs(level / target - 1) < LEVEL_TOLERANCE or wanted >= limit):
            return
        share = 1.0


def _one_step(run: _Run, frequency: float, number: int, count: int) -> Generator[Want, Got, None]:
    settings = run.settings
    target, limited = run.bench.level(settings.level, frequency)
    if run.amplitude > 0:
        yield from run.go(0.0, 0.0)  # no jump in frequency while there is drive
    run.frequency = frequency
    head = {"frequency": frequency, "step": number, "steps": count, "level": target, "limited_by": limited}
    yield from run.turn(0.0, live={**head, "stage": "levelling"}, position={"step": number})
    yield from _level_up(run, target)
    wanted = max(1, math.ceil(dwell_time(settings, frequency) / run.span))
    blocks: list[Got] = []
    point: dict[str, Any] = {}
    for attempt in range(settings.repeats):
        if attempt == 0:
            got = yield from run.go(run.amplitude, settle_time(settings, frequency))
        for _ in range(wanted):
            got = yield from run.turn(run.amplitude, live={**head, "stage": "measuring", "repeat": attempt + 1})
            blocks.append(got)
        known = run.facts.sensitivity
        roles = [r for r in ("reference", "unit", "transverse") if r in known]
        x = np.array([np.concatenate([b.channels[r] for b in blocks]) for r in roles])
        sideways = known["reference"] / known["transverse"] if "transverse" in known else None
        job = (live_point, (x, run.facts.rate, blocks[0].start, frequency, settings, sideways))
        run.result = None
        got = yield from run.turn(run.amplitude, compute=job)
        blocks.append(got)
        while run.result is None:
            blocks.append((yield from run.turn(run.amplitude)))
        point = run.result
        overloaded = set().union(*(b.overload for b in blocks)) & {"reference", "unit"}
        if overloaded:
            point = {**point, "fault": f"{min(overloaded)} input is overloaded"}
        if point.get("fault") or point.get("spread", 0.0) <= settings.spread_wanted:
            break
    if not point.get("fault") and point.get("spread", 0.0) > settings.spread_wanted:
        point = {**point, "unsteady": True}
    run.points[frequency] = point
    mark = {
        "kind": "tone", "t": blocks[0].start, "frequency": frequency, "start": blocks[0].start,
        "stop": blocks[-1].start + run.span, "fault": point.get("fault"),
    }  # fmt: skip
    yield from run.turn(run.amplitude, marks=(mark,), live={**head, "stage": "done", "point": point})


def perform(settings: ComparisonSettings, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
    """The run: each turn a block of drive out, a block of inputs in. `start` continues at a step's number."""
    run = _Run(settings, facts, tables(settings))
    if settings.insert:
        yield from _insert(run)
    if settings.excitation == "multisine":
        yield from _many_at_once(run)
        return
    frequencies = order_of(settings)
    first = int((start or {}).get("step", 0))
    for number, f in enumerate(frequencies):
        if number >= first:
            yield from _one_step(run, f, number, len(frequencies))
    yield from run.go(0.0, 0.1)


def _periodic(run: _Run, wave: Floats, seconds: float, **more: Any) -> Generator[Want, Got, list[Got]]:
    """Play a periodic wave from its start, faded in over a quarter of a second; what came back meanwhile."""
    n, held = run.facts.block, []
    total = math.ceil(seconds / run.span)
    fade = max(1, math.ceil(0.25 / run.span))
    for k in range(total):
        at = (k * n + np.arange(n)) % wave.size
        envelope = np.clip((k * n + np.arange(n)) / (fade * n), 0, 1)
        held.append((yield Want(wave[at] * envelope, **(more if k % 5 == 0 else {}))))
    return held


def _fade(run: _Run, wave: Floats, at: int, marks: tuple[Any, ...] = ()) -> Generator[Want, Got, None]:
    n = run.facts.block
    yield Want(wave[(at + np.arange(n)) % wave.size] * np.linspace(1, 0, n), marks=marks)
    for _ in range(LEAD + 1):
        yield Want(np.zeros(n))


def low_crest_wave(frequencies: Floats, amplitudes: Floats, rate: float, period: float) -> Floats:
    """One period [s] of a multi-sine with a low crest factor."""
    n = int(round(period * rate))
    phases = low_crest_phases(frequencies * period, amplitudes, n)
    return multisine(frequencies, amplitudes, phases, rate, n)


def _ask(run: _Run, work: Any, given: tuple[Any, ...]) -> Generator[Want, Got, Any]:
    """Have something computed while the drive rests."""
    zeros = np.zeros(run.facts.block)
    got = yield Want(zeros, compute=(work, given))
    while got.result is None:
        got = yield Want(zeros)
    return got.result


def _insert(run: _Run) -> Generator[Want, Got, None]:
    """One signal to both inputs: their gain ratio, to be taken out of the comparison."""
    frequencies = np.array(run.settings.frequencies())
    period_s = multisine_period(list(frequencies))
    wave = yield from _ask(run, low_crest_wave, (frequencies, np.ones(frequencies.size), run.facts.rate, period_s))
    wave = wave * (0.3 * run.facts.source_range / np.max(np.abs(wave)))
    yield Want(np.zeros(run.facts.block), settings={"insert": True}, live={"stage": "insert"})
    held = yield from _periodic(run, wave, 4.3 * period_s, live={"stage": "insert"})
    begin = held[LEAD].start + 0.5
    mark = {
        "kind": "insert", "t": begin, "start": begin, "stop": held[-1].start + run.span,
        "period": period_s, "frequencies": list(map(float, frequencies)),
    }  # fmt: skip
    yield from _fade(run, wave, len(held) * run.facts.block, (mark,))
    yield Want(np.zeros(run.facts.block), settings={"insert": False})
    yield Want(np.zeros(run.facts.block))


def _many_at_once(run: _Run) -> Generator[Want, Got, None]:
    """The multi-sine variant: level each tone once, then measure whole periods."""
    from ...core.signal.sinefit import periodic_phasors

    settings, facts = run.settings, run.facts
    frequencies = np.array(settings.frequencies())
    period_s = multisine_period(list(frequencies))
    period = int(round(period_s * facts.rate))
    targets = np.array([run.bench.level(settings.level, f)[0] for f in frequencies]) / math.sqrt(frequencies.size) / 1.5
    amplitudes = targets / np.array([run.bench.gain_at(f) for f in frequencies])
    marks: tuple[Any, ...] = ()
    for stage, periods in (("levelling", 2), ("measuring", settings.periods + 1)):
        wave = yield from _ask(run, low_crest_wave, (frequencies, amplitudes, facts.rate, period_s))
        over = np.max(np.abs(wave)) / (0.9 * facts.source_range)
        if over > 1:
            wave, amplitudes = wave / over, amplitudes / over
        share = 0.3 if stage == "levelling" else 1.0
        live = {"stage": stage, "frequency": None, "step": 0, "steps": int(frequencies.size)}
        held = yield from _periodic(run, share * wave, periods * period_s + 0.6, live=live)
        begin = next(b.start for b in held[LEAD:] if b.start >= held[LEAD].start + 0.5)
        if stage == "levelling":
            x = np.concatenate([b.channels["reference"] for b in held if b.start >= begin])
            phasors = yield from _ask(run, periodic_phasors, (x, facts.rate, frequencies, period))
            shown = np.abs(phasors).mean(axis=2)[0]
            seen = shown / facts.sensitivity["reference"] / share
            amplitudes = amplitudes * np.clip(targets / np.maximum(seen, 1e-9), 0.2, 5.0)
        else:
            mark = {
                "kind": "multisine", "t": begin, "start": begin, "stop": held[-1].start + run.span,
                "period": period_s, "frequencies": list(map(float, frequencies)),
            }  # fmt: skip
            marks = (mark,)
        yield from _fade(run, share * wave, len(held) * facts.block, marks)


def with_bench(settings: ComparisonSettings, rows: list[tuple[float, float, float, str]]) -> ComparisonSettings:
    """ComparisonSettings that know the bench: rows of (Hz, m/s² allowed, m/s² per volt, what limits)."""
    return settings.model_copy(
        update={
            "levels": [(f, a, why) for f, a, _, why in rows],
            "drive_gain": [(f, g) for f, _, g, _ in rows],
        }
    )
