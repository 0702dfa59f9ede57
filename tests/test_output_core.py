"""Tones, distortion, noise, response and source impedance, against closed forms."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from lucid_anvil.core.audio import distortion, impedance, intermodulation, noise, response, separation, stimuli
from lucid_anvil.core.audio.tones import density, fit, strongest
from lucid_anvil.core.signal.weighting import gain

RATE = 48000.0


def tone(f: float, n: int, rate: float = RATE, phase: float = 0.3) -> np.ndarray:
    return np.sin(2 * np.pi * f * np.arange(n) / rate + phase)


@pytest.mark.parametrize(("rate", "f"), [(48000.0, 997.3), (192000.0, 1000.0), (51200.0, 20.3), (44100.0, 6300.0)])
def test_a_pure_sine_shows_no_distortion(rate: float, f: float) -> None:
    made = distortion.analyse(1.3 * tone(f, int(rate), rate), rate, f * (1 + 2e-6), (20.0, 20e3))
    assert 20 * math.log10(made.thd.value) < -160
    assert 20 * math.log10(made.total) < -160
    assert made.frequency == pytest.approx(f, rel=1e-10)
    assert made.level == pytest.approx(1.3 / math.sqrt(2), rel=1e-10)


@settings(max_examples=12, deadline=None)
@given(
    st.floats(-5.7, -1.5), st.floats(30.0, 6000.0), st.floats(0.0, 6.0), st.sampled_from([44100.0, 48000.0, 96000.0])
)
def test_distortion_is_right_down_to_two_in_a_million(lg: float, f: float, phase: float, rate: float) -> None:
    """1 % of thd and 0.1 dB of thd + n, with noise at -120 dB and hum at -80 dB."""
    thd = 10**lg
    n = int(1.2 * rate)
    rng = np.random.default_rng(int(f * 10))
    parts = {2: 0.8 * thd, 3: 0.6 * thd}
    x = tone(f, n, rate, phase) + sum(a * tone(k * f, n, rate, k + phase) for k, a in parts.items())
    rough = 1e-6 / math.sqrt(2) * math.sqrt(rate / 2 / 20e3)
    hum = 1e-4 if min(abs(f * k - 50.02) for k in (1, 2, 3)) > 12 else 0.0
    x = x + rough * rng.standard_normal(n) + hum * tone(50.02, n, rate)
    at = distortion.fundamental(x, rate, None, (20.0, 20e3))
    assert at is not None
    made = distortion.analyse(x, rate, at, (20.0, 20e3))
    assert made.thd.value == pytest.approx(thd, rel=0.01)
    assert made.thd.floor < 2e-7
    every = math.sqrt(thd**2 + hum**2 + (rough**2 * 2) * (20e3 - 20) / (rate / 2))
    assert 20 * math.log10(made.total / (every / math.hypot(1, every))) == pytest.approx(0, abs=0.1)


def test_bandwidth_decides_which_harmonics_count() -> None:
    x = tone(9000.0, 96000, 96000.0) + 0.01 * tone(18000.0, 96000, 96000.0) + 0.02 * tone(27000.0, 96000, 96000.0)
    narrow = distortion.analyse(x, 96000.0, 9000.0, (20.0, 20e3))
    wide = distortion.analyse(x, 96000.0, 9000.0, (20.0, 40e3))
    assert narrow.orders == (2,) and 3 in wide.orders
    assert narrow.thd.value == pytest.approx(0.01, rel=1e-6)
    assert wide.thd.value == pytest.approx(math.hypot(0.01, 0.02), rel=1e-6)


def test_the_doubt_of_a_distortion_near_its_floor_holds_the_truth() -> None:
    inside = 0
    for seed in range(40):
        x = tone(1000.0, 48000) + 3e-6 * tone(2000.0, 48000) + 3e-4 * np.random.default_rng(seed).standard_normal(48000)
        thd = distortion.analyse(x, RATE, 1000.0, (20.0, 20e3)).thd
        inside += thd.low <= 3e-6 <= thd.high
    assert inside >= 36


def test_noise_is_read_within_a_tenth_of_a_decibel() -> None:
    rng = np.random.default_rng(2)
    n = int(4 * RATE)
    hum = {1: 4e-4, 2: 8e-4, 3: 3e-4}
    x = 0.02 + 1e-3 * rng.standard_normal(n) + sum(a * tone(50.07 * k, n, phase=k) for k, a in hum.items())
    lines = sum(a * a / 2 for a in hum.values())
    truth = math.sqrt(lines + 1e-6 * (20e3 - 20) / 24e3)
    flat = noise.measure(x, RATE, (20.0, 20e3))
    assert 20 * math.log10(flat.rms / truth) == pytest.approx(0, abs=0.1)
    assert flat.mains == pytest.approx(50.07, abs=0.02)
    assert flat.share == pytest.approx(lines / truth**2, rel=0.05)
    f = np.linspace(20, 20e3, 20001)
    weighted = sum(a * a / 2 * gain(np.array([50.07 * k]), "A")[0] ** 2 for k, a in hum.items())
    truth_a = math.sqrt(weighted + 1e-6 * np.trapezoid(gain(f, "A") ** 2, f) / 24e3)
    assert 20 * math.log10(noise.measure(x, RATE, (20.0, 20e3), "A").rms / truth_a) == pytest.approx(0, abs=0.1)


def test_sixty_hertz_is_told_from_fifty() -> None:
    x = 1e-4 * np.random.default_rng(1).standard_normal(96000) + 1e-3 * tone(120.0, 96000) + 1e-3 * tone(180.0, 96000)
    assert noise.measure(x, RATE, (20.0, 20e3)).mains == pytest.approx(60.0, abs=0.05)
    quiet = noise.measure(1e-4 * np.random.default_rng(4).standard_normal(96000), RATE, (20.0, 20e3))
    assert quiet.mains is None and quiet.share == 0.0


@pytest.mark.parametrize("d", [1e-2, 2e-4])
def test_intermodulation_adds_sideband_pairs(d: float) -> None:
    n, rng = 48000, np.random.default_rng(5)
    x = 0.8 * tone(60.0, n) + 0.2 * tone(7000.0, n, phase=1)
    x += 0.2 * d * (tone(7060.0, n) + 0.8 * tone(6940.0, n)) + 0.06 * d * (tone(7120.0, n) + tone(6880.0, n))
    made = intermodulation.analyse(x + 1e-6 * rng.standard_normal(n), RATE, "modulation", 60.3, 6999.8)
    assert made.second == pytest.approx(1.8 * d, rel=0.02)
    assert made.third == pytest.approx(0.6 * d, rel=0.02)
    assert made.total == pytest.approx(d * math.hypot(1.8, 0.6), rel=0.02)


def test_difference_tones_are_over_the_sum_of_the_two() -> None:
    n = 96000
    x = tone(18000.0, n, 96000.0) + tone(19000.0, n, 96000.0, 1) + 1e-3 * tone(1000.0, n, 96000.0)
    x += 2e-4 * tone(17000.0, n, 96000.0) + 4e-4 * tone(20000.0, n, 96000.0)
    made = intermodulation.analyse(x, 96000.0, "difference", 18000.0, 19000.0)
    assert made.second == pytest.approx(5e-4, rel=1e-4)
    assert made.third == pytest.approx(3e-4, rel=1e-4)
    with pytest.raises(ValueError, match="half the sampling rate"):
        intermodulation.analyse(x, 96000.0, "modulation", 18000.0, 19000.0)


def sweep(kind: str, rate: float, seconds: float, low: float = 10.0, high: float = 40e3) -> np.ndarray:
    t = np.arange(int(rate * seconds)) / rate
    if kind == "log":
        span = seconds / math.log(high / low)
        made = np.sin(2 * np.pi * low * span * (np.exp(t / span) - 1))
    elif kind == "tones":
        at = np.array([20.0, 100, 500, 1000, 5000, 10e3, 20e3])[np.minimum((t / seconds * 7).astype(int), 6)]
        made = np.sin(2 * np.pi * np.cumsum(at) / rate)
    else:
        made = 0.3 * np.random.default_rng(8).standard_normal(t.size)
    return np.concatenate([np.zeros(int(rate / 10)), made, np.zeros(int(rate / 5))])


@pytest.mark.parametrize(("kind", "off"), [("log", 0.02), ("tones", 0.001), ("noise", 0.1)])
def test_a_response_is_parted_from_distortion_and_noise(kind: str, off: float) -> None:
    rate, late = 192000.0, 37
    b, a = signal.butter(1, [12.0, 25e3], "bandpass", fs=rate)
    x = sweep(kind, rate, 5.0)
    bent = x + 0.01 * x * x + 0.01 * x**3 - 0.0075 * x if kind != "noise" else x
    y = 2 * signal.lfilter(b, a, np.concatenate([np.zeros(late), bent[:-late]]))
    y = y + 1e-4 * np.random.default_rng(1).standard_normal(y.size)
    made = response.measure(x, y, rate)
    assert made.kind == {"log": "sweep", "tones": "tones", "noise": "broad"}[kind]
    truth = np.abs(signal.freqz(b, a, worN=made.frequency, fs=rate)[1])
    reference = abs(signal.freqz(b, a, worN=[1000.0], fs=rate)[1][0])
    got = 20 * np.log10(np.abs(made.gain))
    got -= np.interp(np.log(1000.0), np.log(made.frequency), got)
    used = (made.frequency >= 20) & (made.frequency <= 30e3)
    assert np.max(np.abs(got - 20 * np.log10(truth / reference))[used]) < off
    # The filter's own lag at high frequencies reads as delay: 1.2 samples of it.
    assert made.delay * rate == pytest.approx(late + 1.0, abs=0.8)
    if kind == "log":
        fine = np.geomspace(5, 60e3, 100001)
        level = 20 * np.log10(np.abs(signal.freqz(b, a, worN=fine, fs=rate)[1]) / reference)
        for mine, exact in zip(
            response.corners(made.frequency, got, 1000.0), response.corners(fine, level, 1000.0), strict=True
        ):
            assert mine == pytest.approx(exact, rel=0.003)


def test_separation_is_in_step_with_the_driven_channel() -> None:
    n, rng = 48000, np.random.default_rng(6)
    driven = 10 * tone(1000.0, n) + 1e-4 * rng.standard_normal(n)
    other = 1e-3 * tone(1000.0, n, phase=1.1) + 1e-4 * rng.standard_normal(n)
    made = separation.passed(driven, other, RATE, 1000.2)
    assert -20 * math.log10(made.ratio.value) == pytest.approx(80.0, abs=0.1)
    assert made.phase == pytest.approx(math.degrees(0.8), abs=0.5)
    assert made.told
    nothing = separation.passed(driven, 1e-4 * rng.standard_normal(n), RATE, 1000.0)
    assert not nothing.told or nothing.ratio.value < 1e-6


def meter(values: list[float], grid: float) -> np.ndarray:
    return np.round(np.array(values) / grid) * grid


@pytest.mark.parametrize(("z", "grid"), [(0.04, 0.001), (0.01, 0.001), (0.2, 0.01)])
def test_the_meters_grid_is_in_the_doubt(z: float, grid: float) -> None:
    """Truth inside the doubt at nineteen of twenty levels at least, however coarse the meter."""
    inside = 0
    for u0 in np.random.default_rng(3).uniform(5, 20, 100):
        on = u0 * 8 / (8 + z)
        read = [impedance.level_of(meter([u] * 5, grid), t, loaded, grid)
                for t, (u, loaded) in enumerate([(u0, False), (on, True), (u0, False)])]  # fmt: skip
        found = impedance.source_impedance(read, 8.0, 8.0, grid)
        inside += found.low <= z <= found.high
        assert found.damping_low <= found.damping_high
    assert inside >= 92


def test_an_impedance_that_cant_be_told_from_zero_gives_a_bound() -> None:
    read = [
        impedance.level_of(np.full(5, 12.0), 0.0, False, 0.01),
        impedance.level_of(np.full(5, 12.0), 1.0, True, 0.01),
    ]
    found = impedance.source_impedance(read, 8.0, 8.0, 0.01)
    assert found.damping is None and math.isinf(found.damping_high)
    assert 1000 < found.damping_low < 2000
    with pytest.raises(ValueError, match="one without"):
        impedance.source_impedance(read[:1], 8.0, 8.0, 0.01)


def test_a_drift_is_taken_out_of_the_load_step() -> None:
    levels = [impedance.Level(t, bool(t % 2), (12.0 + 0.01 * t) * (8 / 8.05 if t % 2 else 1), 1e-6, False, 10)
              for t in range(5)]  # fmt: skip
    assert impedance.source_impedance(levels, 8.0, 8.0, 0.0).value == pytest.approx(0.05, rel=0.01)


def test_the_grid_of_readings_is_a_power_of_ten() -> None:
    assert impedance.decimal_grid(np.array([9.98, 10.0])) == pytest.approx(0.01)
    assert impedance.decimal_grid(np.array([120.0, 130.0])) == pytest.approx(10.0)
    assert impedance.decimal_grid(np.array([math.pi, math.e])) == 0.0


def test_two_tones_are_fitted_jointly() -> None:
    x = tone(1000.0, 48000) + 0.5 * tone(1010.0, 48000, phase=2.0)
    made = fit(x, RATE, np.array([[1, 0], [0, 1]]), np.array([1000.3, 1009.7]))
    assert made.bases == pytest.approx([1000.0, 1010.0], abs=1e-8)
    assert np.abs(made.phasors) == pytest.approx([1.0, 0.5], abs=1e-9)
    with pytest.raises(ValueError, match="too short"):
        fit(x[:2000], RATE, np.array([[1, 0], [0, 1]]), np.array([1000.0, 1010.0]))


def test_no_line_stands_out_of_noise() -> None:
    assert strongest(np.random.default_rng(0).standard_normal(48000), RATE, 20.0, 20e3) == []
    assert strongest(np.zeros(4800), RATE, 20.0, 20e3) == []


@pytest.mark.parametrize(
    "wave",
    [stimuli.Tones(((1000.0, 1.0),)), stimuli.Sweep(5.0, 20e3, 0.5), stimuli.Dwell((100.0, 1000.0, 5000.0), 0.2),
     stimuli.modulation(), stimuli.difference(15e3, 16e3)],
)  # fmt: skip
def test_stimuli_have_a_peak_of_one_and_join_block_by_block(
    wave: stimuli.Tones | stimuli.Sweep | stimuli.Dwell,
) -> None:
    whole = wave.samples(-512, 48000, RATE)
    blocks = np.concatenate([wave.samples(a, 1000, RATE) for a in range(-512, 47488, 1000)])
    assert np.array_equal(whole, blocks)
    assert 0.9 < np.max(np.abs(whole)) <= 1.0 + 1e-12
    if not isinstance(wave, stimuli.Tones):
        assert np.all(whole[:512] == 0) and np.all(whole[512 + int(wave.seconds * RATE) + 1 :] == 0)
        assert np.max(np.abs(np.diff(whole))) < 2.7  # no step beyond what its highest frequency makes


def test_a_sweep_spends_the_same_time_in_every_octave() -> None:
    x = stimuli.Sweep(20.0, 10240.0, 4.5).samples(0, int(4.5 * RATE), RATE)
    f, held = density(x, RATE, 2.0)
    octaves = [np.sum(held[(f >= a) & (f < 2 * a)]) for a in (80.0, 320.0, 1280.0, 2560.0)]
    assert np.max(octaves) / np.min(octaves) < 1.1


def test_reading_a_tone_needs_six_of_its_periods() -> None:
    with pytest.raises(ValueError, match="too short"):
        distortion.analyse(tone(100.0, 2000), RATE, 100.0, (20.0, 20e3))
    assert distortion.fundamental(tone(100.0, 9600) + tone(3000.0, 9600), RATE, 3010.0, (20.0, 20e3)) == pytest.approx(
        3000, abs=1
    )
    assert distortion.fundamental(tone(100.0, 9600), RATE, 3000.0, (20.0, 20e3)) is None


def test_band_edges_cut_lines_in_part() -> None:
    x = np.random.default_rng(9).standard_normal(480000)
    whole = distortion.band_power(x, RATE, 0.0, RATE / 2)
    parts = sum(distortion.band_power(x, RATE, a, b) for a, b in ((0, 333.3), (333.3, 7777.7), (7777.7, 24000)))
    assert parts == pytest.approx(whole, rel=1e-12)
    assert whole == pytest.approx(float(np.mean(x**2)), rel=0.01)
    assert distortion.band_power(x, RATE, 1000.0, 1000.6) == pytest.approx(0.6 / 24000, rel=0.35)
