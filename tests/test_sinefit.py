"""Sine fits and multi-sines against closed form."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lucid_anvil.core.signal.multisine import crest_factor, low_crest_phases, multisine
from lucid_anvil.core.signal.sinefit import block_phasors, fit_tone, periodic_phasors, resolvable, turning

RATE = 51200.0


def tone(f: float, phasor: complex, n: int, t0: float = 0.0) -> np.ndarray:
    return (phasor * np.exp(2j * np.pi * f * (t0 + np.arange(n) / RATE))).real


def test_turning_is_the_complex_exponential() -> None:
    made = turning(1234.5, RATE, 0.37, 5000)
    assert np.allclose(made, np.exp(2j * np.pi * 1234.5 * (0.37 + np.arange(5000) / RATE)), atol=1e-9)


@settings(max_examples=25, deadline=None)
@given(
    f=st.floats(11.0, 9000.0),
    amplitude=st.floats(0.01, 5.0),
    phase=st.floats(-3.1, 3.1),
    off=st.floats(-0.3, 0.3),
)
def test_a_clean_tone_is_found_whatever_its_frequency(f: float, amplitude: float, phase: float, off: float) -> None:
    n = 20480
    phasor = amplitude * np.exp(1j * phase)
    x = np.array([tone(f, phasor, n), tone(f, 0.5 * phasor, n) + 0.3])
    fit = fit_tone(x, RATE, f + off * RATE / n)
    assert fit.frequency == pytest.approx(f, abs=1e-4 * RATE / n + 1e-9)
    assert abs(fit.phasors[1] / fit.phasors[0]) == pytest.approx(0.5, rel=1e-6)
    assert abs(fit.phasors[0]) == pytest.approx(amplitude, rel=1e-5)


def test_harmonics_hum_offset_and_drift_do_not_bias_the_ratio() -> None:
    n, f = 51200, 160.0
    t = np.arange(n) / RATE
    x = np.array([tone(f, 1.0, n), tone(f, 0.7j, n)])
    x[1] += 0.2 + 0.05 * t + 0.1 * np.cos(2 * np.pi * 50 * t) + 0.05 * np.cos(2 * np.pi * 2 * f * t)
    fit = fit_tone(x, RATE, f, lines=np.array([50.0, 100.0]))
    assert fit.phasors[1] / fit.phasors[0] == pytest.approx(0.7j, rel=1e-9)
    assert abs(fit.lines[1, 0]) == pytest.approx(0.1, rel=1e-6)
    assert fit.distortion[1] == pytest.approx(0.05 / 0.7, rel=1e-6)
    assert fit.offset[1] == pytest.approx(0.225, abs=1e-6)


def test_a_line_too_near_is_not_told_from_the_tone() -> None:
    fit = fit_tone(tone(50.2, 1.0, 51200), RATE, 50.2, lines=np.array([50.0, 220.0]))
    assert np.isnan(fit.lines[0, 0])
    assert np.isfinite(fit.lines[0, 1])
    assert not resolvable(50.0, np.array([51.0]), 1.0)
    assert resolvable(50.0, np.array([52.0]), 1.0)


def test_the_frequency_is_common_and_the_noisy_channel_does_not_spoil_it() -> None:
    n, f = 20480, 400.013
    rng = np.random.default_rng(3)
    x = np.array([tone(f, 1.0, n), tone(f, 1e-3, n) + rng.normal(0, 0.5, n)])
    assert fit_tone(x, RATE, 400.0).frequency == pytest.approx(f, abs=2e-4)


def test_less_than_a_period_is_refused() -> None:
    with pytest.raises(ValueError, match="period"):
        fit_tone(np.zeros(100), RATE, 10.0)


def test_noise_on_the_phasor_is_what_theory_says() -> None:
    n, sigma = 5120, 0.1
    rng = np.random.default_rng(5)
    found = [fit_tone(tone(1000.0, 1.0, n) + rng.normal(0, sigma, n), RATE, 1000.0).phasors[0] for _ in range(120)]
    # Standard deviation of a quadrature of the phasor: sigma·sqrt(2/n).
    assert np.std(np.real(found)) == pytest.approx(sigma * np.sqrt(2 / n), rel=0.25)


def test_block_phasors_follow_a_change() -> None:
    n = 10240
    x = np.concatenate([tone(200.0, 1.0, n), 0.5 * tone(200.0, 1.0, n, n / RATE)])
    p = block_phasors(x, RATE, 200.0, np.array([0, n // 2, n, 2 * n]), 0.0)
    assert np.abs(p[0]) == pytest.approx([1.0, 1.0, 0.5], rel=1e-9)


def test_periodic_phasors_separate_all_tones_exactly() -> None:
    f = np.array([10.0, 12.5, 31.5, 1000.0, 9999.5])
    period = 102400
    amplitudes, phases = np.array([1.0, 0.5, 2.0, 0.1, 0.3]), np.array([0.1, 2.0, -1.0, 3.0, 0.5])
    wave = multisine(f, amplitudes, phases, RATE, period)
    p = periodic_phasors(np.tile(wave, 3), RATE, f, period)[0]
    assert p.shape == (5, 3)
    assert np.allclose(p, (amplitudes * np.exp(1j * phases))[:, None], atol=1e-10)
    with pytest.raises(ValueError, match="whole multiple"):
        periodic_phasors(wave, RATE, np.array([10.3]), period)
    with pytest.raises(ValueError, match="one period"):
        periodic_phasors(wave[:50], RATE, f, period)


@pytest.mark.parametrize(
    "bins_and_limit",
    [(np.arange(20.0, 51.0), 1.8), (np.unique(np.geomspace(20, 20000, 31).astype(int)).astype(float), 4.2)],
    ids=["neighbours", "thirds of an octave"],
)
def test_low_crest_phases_are_far_better_than_none(bins_and_limit: tuple[np.ndarray, float]) -> None:
    bins, limit = bins_and_limit
    amplitudes = np.ones(bins.size)
    period = 102400
    aligned = crest_factor(multisine(bins, amplitudes, np.zeros(bins.size), float(period), period))
    chosen = crest_factor(
        multisine(bins, amplitudes, low_crest_phases(bins, amplitudes, period), float(period), period)
    )
    assert aligned > 5
    assert chosen < limit
    assert np.array_equal(low_crest_phases(bins, amplitudes, period), low_crest_phases(bins, amplitudes, period))
