"""The comparison's course and performance, fed with arrays: no device, no process."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from lucid_anvil.contracts import registry
from lucid_anvil.contracts.method import Facts, Got, drive_block
from lucid_anvil.contracts.settings import check
from lucid_anvil.core.errors import BadInput
from lucid_anvil.domains.comparison.accelerometer_comparison import METHOD, ComparisonSettings, points
from lucid_anvil.domains.comparison.run import (
    course,
    dwell_time,
    live_point,
    low_crest_wave,
    multisine_period,
    order_of,
    settle_time,
    tables,
    with_bench,
)  # fmt: skip
from lucid_anvil.engine.study import demo_rig, study_run

RATE, BLOCK = 51200.0, 2048
FACTS = Facts(RATE, BLOCK, 5.0, {"reference": 0.01, "unit": 0.01})
ROWS = [(5.0, 5.0, 300.0, "stroke"), (50.0, 500.0, 300.0, "force"), (12000.0, 500.0, 300.0, "force")]


def settings(**changes: Any) -> ComparisonSettings:
    held = {
        "reference_sensitivity": "10 mV/(m/s²)", "reference_uncertainty": "0.5 %", "start": 80, "stop": 315,
        "steps_per_octave": 3, "dwell": "0.3 s", "settle_run": "0.1 s", "level": 20, **changes,
    }  # fmt: skip
    return with_bench(check(ComparisonSettings, held, "settings"), ROWS)


class Plant:
    """A shaker that is nothing but a gain [m/s² per volt], one queued block late; the unit is `unit` times the reference."""

    def __init__(self, gain: float = 300.0, unit: float = 0.98, noise: float = 1e-6) -> None:
        self.gain, self.unit, self.noise = gain, unit, noise
        self.queue = [np.zeros(BLOCK), np.zeros(BLOCK)]
        self.index = 0
        self.rng = np.random.default_rng(1)
        self.drives: list[np.ndarray] = []
        self.levels: list[float] = []

    def step(self, result: Any = None) -> Got:
        played = self.queue.pop(0)
        self.drives.append(played)
        reference = 0.01 * self.gain * played
        self.levels.append(float(np.max(np.abs(self.gain * played))))
        channels = {
            "reference": reference + self.rng.normal(0, self.noise, BLOCK),
            "unit": self.unit * reference + self.rng.normal(0, self.noise, BLOCK),
        }
        self.index += 1
        return Got(self.index - 1, (self.index - 1) * BLOCK / RATE, channels, frozenset(), result)


def perform(plant: Plant, made: ComparisonSettings, start: Any = None) -> tuple[list[Any], list[Any], list[Any]]:
    """All marks, live points and positions of a whole performance."""
    run = METHOD.perform(made, FACTS, start)
    marks, found, positions = [], [], []
    want, result = next(run), None
    try:
        while True:
            plant.queue.append(want.drive)
            marks += list(want.marks)
            if want.live and want.live.get("point"):
                found.append(want.live["point"])
            if want.position:
                positions.append(want.position)
            if want.compute:
                result = want.compute[0](*want.compute[1])
            got, result = plant.step(result), None
            want = run.send(got)
    except StopIteration:
        return marks, found, positions


def test_the_reference_frequency_comes_first_then_from_low_to_high() -> None:
    assert order_of(settings()) == [160, 80, 100, 125, 200, 250, 315]
    assert order_of(settings(reference_frequency="80 Hz")) == [80, 100, 125, 160, 200, 250, 315]
    assert order_of(settings(only=["250 Hz"])) == [160, 250]
    # A reference frequency that is no preferred one is put in between.
    assert 159.155 in settings(reference_frequency="159.155 Hz").frequencies()


def test_the_course_tells_level_limit_and_time() -> None:
    items = course(settings(start=10, level=30))
    by = {i.frequency: i for i in items}
    assert by[10.0].limited_by == "stroke"
    assert by[10.0].level is not None
    assert by[10.0].level < 30
    assert by[160.0].limited_by is None
    assert by[160.0].level == 30
    assert by[10.0].duration > by[160.0].duration
    assert [i.label for i in course(settings(excitation="multisine", insert=True))] == [
        "Gain ratio", "Multi-sine, levelling", "Multi-sine",
    ]  # fmt: skip


def test_times_grow_with_the_period() -> None:
    made = settings()
    assert dwell_time(made, 10.0) == pytest.approx(2.0)
    assert dwell_time(made, 1000.0) == pytest.approx(0.3)
    assert settle_time(made, 10.0) == pytest.approx(0.5)


def test_bench_tables_interpolate_on_log_axes() -> None:
    bench = tables(settings())
    assert bench.level(1e6, 5.0)[0] == pytest.approx(5.0)
    assert bench.level(1e6, np.sqrt(5.0 * 50.0))[0] == pytest.approx(np.sqrt(5.0 * 500.0))
    assert bench.gain_at(777.0) == pytest.approx(300.0)
    plain = tables(check(ComparisonSettings, {}, "x"))
    assert plain.level(20.0, 100.0) == (20.0, None)


@pytest.mark.parametrize(
    ("frequencies", "period"),
    [([10, 20], 1.0), ([12.5, 31.5], 2.0), ([11.2, 10.6], 5.0), ([10.05], 20.0), ([10.01], 100.0)],
)
def test_the_shortest_common_period(frequencies: list[float], period: float) -> None:
    assert multisine_period(frequencies) == period


def test_a_performance_reaches_its_level_and_reads_the_ratio() -> None:
    plant = Plant()
    marks, found, positions = perform(plant, settings())
    assert [m["frequency"] for m in marks] == [160, 80, 100, 125, 200, 250, 315]
    for point in found:
        assert point["fault"] is None
        assert point["sensitivity"] == pytest.approx(9.8, rel=1e-4)
        assert point["uncertainty"] == pytest.approx(0.5, rel=0.05)
        assert point["level"] == pytest.approx(20.0, rel=0.04)
    assert [p["step"] for p in positions] == list(range(7))
    assert max(plant.levels) < 20 * 1.1
    assert np.max(np.abs(plant.drives[-1])) == 0


def test_marks_hold_nothing_but_the_settled_tone() -> None:
    plant = Plant()
    marks, _, _ = perform(plant, settings())
    x = np.concatenate(plant.drives)
    for mark in marks:
        piece = x[int(mark["start"] * RATE) : int(mark["stop"] * RATE)]
        n = int(4 * RATE / mark["frequency"])
        tops = [np.max(np.abs(piece[i : i + n])) for i in range(0, piece.size - n, n)]
        assert np.ptp(tops) < 0.01 * max(tops)


@pytest.mark.parametrize("gain", [60.0, 900.0])
def test_a_gain_that_was_predicted_wrong_is_learned_without_overshoot(gain: float) -> None:
    plant = Plant(gain=gain)
    _, found, _ = perform(plant, settings())
    assert [p["level"] for p in found] == pytest.approx([20.0] * len(found), rel=0.04)
    # Careful at first: a third of the level is asked for, so three times the gain just reaches it.
    assert max(plant.levels) < 20 * 1.1


def test_a_level_beyond_the_source_stays_at_the_source() -> None:
    plant = Plant(gain=2.0)
    _, found, _ = perform(plant, settings(level=20))
    assert np.max(np.abs(np.concatenate(plant.drives))) <= 0.98 * 5.0 + 1e-9
    assert all(p["level"] < 10.5 for p in found)


def test_repeats_until_the_spread_is_small_or_it_is_said() -> None:
    noisy = Plant(noise=3e-3)
    marks, found, _ = perform(noisy, settings(repeats=2, spread_wanted="0.01 %", start=125, stop=200))
    assert all(p.get("unsteady") for p in found)
    assert all(m["stop"] - m["start"] > 0.55 for m in marks)
    quiet, calm, _ = perform(Plant(), settings(repeats=2, start=125, stop=200))
    assert not any(p.get("unsteady") for p in calm)
    assert all(m["stop"] - m["start"] < 0.5 for m in quiet)


def test_overload_during_a_step_strikes_it() -> None:
    class Hot(Plant):
        def step(self, result: Any = None) -> Got:
            got = super().step(result)
            hot = frozenset({"unit"}) if 40 < got.index < 60 else frozenset()
            return Got(got.index, got.start, got.channels, hot, got.result)

    _, found, _ = perform(Hot(), settings())
    assert found[0]["fault"] is None or "overloaded" in found[0]["fault"]
    assert any("overloaded" in (p["fault"] or "") for p in found)


def test_a_performance_is_continued_where_it_was_cut() -> None:
    marks, _, positions = perform(Plant(), settings(), {"step": 5})
    assert [m["frequency"] for m in marks] == [250, 315]
    assert positions[0] == {"step": 5}


def test_closing_a_performance_is_no_fault() -> None:
    run = METHOD.perform(settings(), FACTS, None)
    next(run)
    run.close()
    with pytest.raises(StopIteration):
        next(run)


def test_what_the_reference_should_show_goes_with_every_driven_block() -> None:
    plant, run = Plant(), METHOD.perform(settings(), FACTS, None)
    want = next(run)
    plant.queue.append(want.drive)
    plant.step()
    result, told = None, []
    for _ in range(150):
        want = run.send(plant.step(result))
        result = want.compute[0](*want.compute[1]) if want.compute else None
        plant.queue.append(want.drive)
        if want.expect is not None:
            told.append((want.expect, float(np.sqrt(np.mean((300.0 * want.drive) ** 2)))))
    assert len(told) > 50
    for expect, real in told[20:]:
        assert real == pytest.approx(expect, rel=0.6)


def test_the_multisine_performance_marks_whole_periods() -> None:
    plant = Plant()
    marks, _, _ = perform(plant, settings(excitation="multisine", periods=3))
    assert [m["kind"] for m in marks] == ["multisine"]
    assert marks[0]["stop"] - marks[0]["start"] >= 3 * marks[0]["period"]
    assert marks[0]["frequencies"] == [80, 100, 125, 160, 200, 250, 315]
    assert np.max(np.abs(np.concatenate(plant.drives))) <= 5.0


def test_low_crest_wave_has_its_tones() -> None:
    f = np.array([80.0, 160.0, 315.0])
    wave = low_crest_wave(f, np.array([1.0, 2.0, 0.5]), RATE, 1.0)
    spectrum = np.abs(np.fft.rfft(wave)) * 2 / wave.size
    assert spectrum[f.astype(int)] == pytest.approx([1.0, 2.0, 0.5])
    assert np.sum(spectrum > 1e-9) == 3


def test_live_point_with_transverse_and_a_loose_unit() -> None:
    t = np.arange(25600) / RATE
    x = 0.3 * np.sin(2 * np.pi * 160 * t)
    made = settings()
    point = live_point(np.array([x, 0.98 * x, 0.02 * x]), RATE, 0.0, 160.0, made, 1.0)
    assert point["transverse"] == pytest.approx(2.0, rel=1e-3)
    assert point["phase"] == pytest.approx(0.0, abs=1e-6)
    loose = live_point(np.array([x, 0.98 * x + 0.2 * np.abs(x)]), RATE, 0.0, 160.0, made, None)
    assert "mounted loose" in loose["fault"]
    assert "sensitivity" not in loose
    narrow = settings(reference_sensitivity=None, reference_response=[[10, "10 mV/(m/s²)"], [100, "10 mV/(m/s²)"]])
    assert "outside the frequencies" in live_point(np.array([x, x]), RATE, 0.0, 160.0, narrow, None)["fault"]


def test_drive_blocks_join_in_phase_and_amplitude() -> None:
    one = drive_block((0.0, 1.0), 100.0, 0.0, RATE, BLOCK)
    two = drive_block((1.0, 0.5), 100.0, 2 * np.pi * 100 * BLOCK / RATE, RATE, BLOCK)
    whole = np.concatenate([one, two])
    assert np.max(np.abs(np.diff(whole))) < 1.05 * 2 * np.pi * 100 / RATE
    assert one[0] == 0


@pytest.mark.parametrize(
    ("held", "words"),
    [
        ({"excitation": "noise"}, "stepped or multisine"),
        ({"start": 500, "stop": 100}, "not above stop"),
        ({"start": 0}, "above zero"),
        ({"settle": "-1 s"}, "below zero"),
        ({"repeats": 0}, "repeats"),
        ({"reference_response": []}, "empty"),
        ({"reference_response": [[10, "1 mV/(m/s²)"], [10, "1 mV/(m/s²)"]]}, "must rise"),
        ({"reference_correlation": 2}, "reference_correlation"),
        ({"steps": [{"frequency": 10, "start": 0}]}, "'steps.0.stop' is missing"),
        ({"steps": [{"frequency": 10, "start": 0, "stop": 1, "strat": 2}]}, "did you mean 'start'"),
        ({"full_scale": {"unit": "x"}}, "full_scale"),
    ],
)
def test_settings_that_contradict_themselves(held: dict[str, Any], words: str) -> None:
    with pytest.raises(BadInput, match=words):
        check(ComparisonSettings, held, "settings")


def test_rows_of_frequency_and_value() -> None:
    assert points("0.5 %", "u") == ((160.0, 0.5),)
    assert points([[10, "0.3 %"], ["1 kHz", 0.5]], "u") == ((10.0, 0.3), (1000.0, 0.5))
    with pytest.raises(BadInput, match="must rise"):
        points([[10, 1], [5, 1]], "u")


def test_registry_knows_its_methods() -> None:
    assert {"accelerometer-comparison", "sine-sweep", "random-vibration", "time-replication"} <= set(registry.names())
    method = registry.get("accelerometer-comparison")
    assert set(method.curves) == {"sensitivity", "deviation", "phase"}
    assert {v.key for v in method.views} == set(method.curves)
    with pytest.raises(BadInput, match="did you mean"):
        registry.get("accelerometer")


def test_a_study_run_is_a_whole_plan() -> None:
    prepared = study_run(demo_rig(), {"steps_per_octave": 1})
    assert prepared.settings.response() is not None
    assert prepared.facts.sensitivity["transverse"] == pytest.approx(0.01011)
    assert len(prepared.course()) == 11
