"""The comparison against known truth, and every fault that must be struck and not averaged in."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from tests.conftest import Synthetic, make_record

from lucid_anvil.core.calibration.comparison import Tone, measure_multisine, measure_series, measure_tone
from lucid_anvil.core.signal.health import beyond_range, bursts, flat_tops
from lucid_anvil.core.signal.hum import gather
from lucid_anvil.core.signal.multisine import low_crest_phases, multisine

RATE = 51200.0


def tones(r: Synthetic) -> list[Tone]:
    return [Tone(s["frequency"], s["start"], s["stop"]) for s in r.steps]


def test_ratio_through_settling_hum_offset_and_distortion(record: Synthetic) -> None:
    results = measure_series(record.read, record.rate, tones(record))
    for result in results:
        truth = record.ratio[result.frequency]
        assert result.fault is None
        assert abs(result.ratio) == pytest.approx(abs(truth), rel=1e-4)
        assert np.degrees(np.angle(result.ratio / truth)) == pytest.approx(0, abs=0.01)
        assert result.settle > 0.1
        assert result.fitted == pytest.approx(result.frequency * (1 + 20e-6), rel=5e-6)


def test_hum_on_the_very_frequency_is_known_from_the_other_tones() -> None:
    r = make_record((40.0, 50.0, 63.0, 80.0, 100.0, 125.0, 160.0, 200.0), hum=0.02)
    with_all = {x.frequency: x for x in measure_series(r.read, r.rate, tones(r))}
    at = with_all[50.0]
    assert at.fault is None
    assert abs(at.ratio) == pytest.approx(abs(r.ratio[50.0]), rel=1e-3)
    assert at.hum > 0
    # Alone it can't be known: the hum goes into the ratio unseen.
    alone, _ = measure_tone(r.read, r.rate, Tone(50.0, r.steps[1]["start"], r.steps[1]["stop"]))
    assert abs(abs(alone.ratio) / abs(r.ratio[50.0]) - 1) > 5e-3


def test_hum_that_wanders_strikes_the_tone_it_sits_on() -> None:
    r = make_record((50.0, 160.0, 400.0, 630.0, 1000.0), hum=0.0)
    t = np.arange(r.channels["unit"].size) / r.rate
    wander = np.cumsum(np.random.default_rng(2).normal(0, 0.02, t.size)) / 10
    r.channels["unit"] += 0.05 * np.cos(2 * np.pi * 50 * t + wander)
    results = {x.frequency: x for x in measure_series(r.read, r.rate, tones(r))}
    assert results[50.0].fault == "hum can't be told from the tone"
    assert results[1000.0].fault is None


def spoiled(record: Synthetic, frequency: float, change) -> dict[float, str | None]:  # type: ignore[no-untyped-def]
    """Faults by frequency when the unit's samples at one tone are changed."""
    r = replace(record, channels={k: v.copy() for k, v in record.channels.items()})
    step = next(s for s in r.steps if s["frequency"] == frequency)
    a, b = int(step["start"] * r.rate), int(step["stop"] * r.rate)
    change(r.channels["unit"][a:b], r.channels["reference"][a:b])
    return {x.frequency: x.fault for x in measure_series(r.read, r.rate, tones(r))}


def intermittent(unit: np.ndarray, _ref: np.ndarray) -> None:
    unit[40000:43000] = 0.0


def early_dropout(unit: np.ndarray, _ref: np.ndarray) -> None:
    unit[12000:20000] *= 0.05


def clicks(unit: np.ndarray, _ref: np.ndarray) -> None:
    unit[50000:50006] += 0.4


def clipped(unit: np.ndarray, _ref: np.ndarray) -> None:
    np.clip(unit, -0.35, 0.35, out=unit)


def dead(unit: np.ndarray, _ref: np.ndarray) -> None:
    unit[:] = 1e-5 * np.random.default_rng(1).normal(size=unit.size)


def nothing_at_all(unit: np.ndarray, _ref: np.ndarray) -> None:
    unit[:] = 0.0


def loose(unit: np.ndarray, _ref: np.ndarray) -> None:
    unit += 0.3 * np.abs(unit)


def reference_out(_unit: np.ndarray, ref: np.ndarray) -> None:
    ref[40000:43000] = 0.0


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (intermittent, "unit signal"),
        (early_dropout, "drops out"),
        (clicks, "bursts"),
        (clipped, "flat tops"),
        (dead, "no output"),
        (nothing_at_all, "no output"),
        (loose, "mounted loose"),
        (reference_out, "reference signal"),
    ],
)
def test_a_fault_strikes_its_tone_alone(record: Synthetic, change, words: str) -> None:  # type: ignore[no-untyped-def]
    faults = spoiled(record, 160.0, change)
    assert faults[160.0] is not None
    assert words in faults[160.0]
    assert all(fault is None for f, fault in faults.items() if f != 160.0)


def test_a_stated_range_decides_about_overload(record: Synthetic) -> None:
    tone = tones(record)[2]
    fine, _ = measure_tone(record.read, record.rate, tone, limits=(1.0, 1.0))
    over, _ = measure_tone(record.read, record.rate, tone, limits=(1.0, 0.5))
    assert fine.fault is None
    assert over.fault == "unit input is overloaded"


def test_too_few_periods_are_said() -> None:
    r = make_record((20.0,), dwell=0.2)
    result, _ = measure_tone(r.read, r.rate, Tone(20.0, 0.4, 0.5))
    assert "fewer than three periods" in (result.fault or "")
    late, _ = measure_tone(r.read, r.rate, tones(r)[0], settle=0.15)
    assert "after settling" in (late.fault or "")


def test_the_end_of_a_step_may_be_a_few_samples_late(record: Synthetic) -> None:
    late = [Tone(t.frequency, t.start, t.stop + 2 / RATE) for t in tones(record)]
    assert all(r.fault is None for r in measure_series(record.read, record.rate, late))


def test_the_spread_tells_the_noise() -> None:
    quiet = measure_tone(make_record((400.0,), hum=0).read, RATE, Tone(400.0, 0.4, 1.9))[0]
    loud_record = make_record((400.0,), hum=0, noise=1e-2)
    loud = measure_tone(loud_record.read, RATE, Tone(400.0, 0.4, 1.9))[0]
    assert loud.spread > 20 * quiet.spread
    error = abs(loud.ratio / loud_record.ratio[400.0] - 1)
    assert error < 5 * loud.spread


def test_multisine_agrees_with_the_truth_and_sees_a_dropout() -> None:
    period = 51200
    f = np.array([10.0, 20.0, 50.0, 160.0, 500.0, 2000.0, 8000.0])
    wave = multisine(f, np.ones(f.size), low_crest_phases(f, np.ones(f.size), period), RATE, period)
    rng = np.random.default_rng(4)
    ref = np.tile(wave, 6) + rng.normal(0, 1e-3, 6 * period)
    unit = 0.987 * np.tile(wave, 6) + rng.normal(0, 1e-3, 6 * period)
    good = measure_multisine(np.array([ref, unit]), RATE, f, period, 0.0, 6.0)
    assert all(r.valid for r in good)
    assert [abs(r.ratio) for r in good] == pytest.approx([0.987] * f.size, rel=5e-4)
    unit[3 * period : 3 * period + 30000] = 0.0
    bad = measure_multisine(np.array([ref, unit]), RATE, f, period, 0.0, 6.0)
    assert all("drops out" in (r.fault or "") for r in bad)
    silent = measure_multisine(np.array([ref, 0 * unit]), RATE, f, period, 0.0, 6.0)
    assert all("no output" in (r.fault or "") for r in silent)


def test_flat_tops_are_not_seen_in_a_coarse_but_whole_sine() -> None:
    t = np.arange(51200) / RATE
    slow = np.round(100 * np.sin(2 * np.pi * 10 * t)) / 100
    assert not flat_tops(slow, RATE, 10.0)
    assert flat_tops(np.clip(slow, -0.7, 0.7), RATE, 10.0)
    assert not flat_tops(np.sin(2 * np.pi * 5000 * t), RATE, 5000.0)
    assert flat_tops(np.clip(np.sin(2 * np.pi * 1000 * t), -0.8, 1), RATE, 1000.0)
    assert not flat_tops(np.zeros(100), RATE, 10.0)


def test_range_and_bursts() -> None:
    x = np.sin(np.arange(5000.0))
    assert beyond_range(x, 0.99)
    assert not beyond_range(x, 1.01)
    noise = 1e-3 * np.random.default_rng(1).normal(size=20000)
    assert not bursts(noise, 1.0, 500)
    noise[7000:7100] += 0.2
    assert bursts(noise, 1.0, 500)
    assert not bursts(noise[:1000], 1.0, 500)


def test_hum_is_gathered_with_its_shift() -> None:
    times = np.linspace(0, 40, 20)
    phasors = np.full((20, 2, 1), np.nan + 0j)
    phasors[:, 1, 0] = 0.01 * np.exp(1j * (0.5 + 2 * np.pi * 0.04 * times))
    phasors[:, 0, 0] = 1e-6
    hum = gather(np.array([50.0]), phasors, times, np.full((20, 2), 1e-5))
    assert hum.seen[0]
    assert hum.shift[0] == pytest.approx(0.04, abs=5e-4)
    assert abs(hum.phasors[1, 0]) == pytest.approx(0.01, rel=0.02)
    nothing = gather(np.array([50.0]), 1e-6 * phasors / 0.01, times, np.full((20, 2), 1e-5))
    assert not nothing.seen[0]
