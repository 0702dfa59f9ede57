"""A calibrator's tone: found, steady, fitted, against tones made in closed form."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lucid_anvil.core.calibration.soundlevel import (
    BLOCK,
    block_levels,
    find_tone,
    pressure,
    read_tone,
    steady_stretch,
)

RATE = 48000.0


def tone(seconds: float, frequency: float, rms: float, harmonics: dict[int, float] | None = None,
         noise: float = 0.0, seed: int = 0) -> np.ndarray:  # fmt: skip
    """`harmonics` as shares of the fundamental by order."""
    t = np.arange(int(seconds * RATE)) / RATE
    x = np.sin(2 * np.pi * frequency * t + 0.7)
    for order, share in (harmonics or {}).items():
        x = x + share * np.sin(2 * np.pi * order * frequency * t + order)
    return np.sqrt(2) * rms * x + noise * np.random.default_rng(seed).standard_normal(t.size)


def test_levels_are_re_20_micropascal() -> None:
    assert pressure(94) == pytest.approx(1.0024, abs=1e-4) and pressure(114) == pytest.approx(10.024, abs=1e-3)
    assert pressure(0) == pytest.approx(20e-6)


@settings(max_examples=30, deadline=None)
@given(
    st.sampled_from([250.0, 1000.0]), st.floats(-0.02, 0.02), st.floats(1e-3, 1.0), st.floats(0.0, 0.03),
    st.integers(0, 99),
)  # fmt: skip
def test_frequency_level_and_distortion_of_any_tone(
    nominal: float, off: float, rms: float, share: float, seed: int
) -> None:
    frequency = nominal * (1 + off)
    x = tone(4.0, frequency, rms, {2: share, 3: share / 2}, 1e-4 * rms, seed)
    found = read_tone(x, RATE, nominal, 0.1)
    assert found is not None
    assert found.frequency == pytest.approx(frequency, rel=1e-6)
    assert 20 * np.log10(found.rms / rms) == pytest.approx(0.0, abs=1e-3)
    assert found.distortion == pytest.approx(np.hypot(share, share / 2), abs=2e-5)
    assert found.wander < 0.02 and found.stop - found.start > 3.0


def test_noise_and_silence_are_no_tone() -> None:
    rng = np.random.default_rng(2)
    assert read_tone(1e-3 * rng.standard_normal(96000), RATE, 1000.0, 0.1) is None
    assert find_tone(np.zeros(48000), RATE, 1000.0) is None
    # A tone elsewhere is none of this calibrator's.
    assert read_tone(tone(3.0, 1250.0, 0.1), RATE, 1000.0, 0.1) is None
    assert read_tone(tone(3.0, 1090.0, 0.1), RATE, 1000.0, 0.1) is not None
    # One that is buried is not there.
    assert find_tone(tone(3.0, 1000.0, 1e-3, noise=0.1), RATE, 1000.0) is None


@pytest.mark.parametrize(("clear", "found"), [(7.0, False), (13.0, True)])
def test_a_tone_is_one_from_ten_decibels_over_the_rest(clear: float, found: bool) -> None:
    noise = np.random.default_rng(5).standard_normal(3 * 48000)
    x = noise + np.sqrt(2) * 10 ** (clear / 20) * np.sin(2 * np.pi * 1000.0 * np.arange(noise.size) / RATE)
    assert (find_tone(x, RATE, 1000.0) is not None) == found


def test_too_short_a_record_is_none() -> None:
    assert read_tone(tone(BLOCK, 1000.0, 0.1), RATE, 1000.0, 0.1) is None


def test_handling_before_the_tone_and_its_end_are_left_out() -> None:
    quiet = 1e-5 * np.random.default_rng(3).standard_normal(int(1.5 * RATE))
    steady = tone(5.0, 1000.0, 0.05)
    # It comes up over a second, as a calibrator that is being seated does.
    t = np.arange(steady.size) / RATE
    x = np.concatenate([quiet, steady * (1 - 0.3 * np.exp(-t / 0.25)), quiet])
    found = read_tone(x, RATE, 1000.0, 0.1)
    assert found is not None and found.start > 2.0 and found.stop <= 6.51
    assert 20 * np.log10(found.rms / 0.05) == pytest.approx(0.0, abs=0.05)
    assert found.wander <= 0.1 + 1e-9


def test_a_tone_that_never_keeps_still_says_how_far_it_wanders() -> None:
    t = np.arange(int(6 * RATE)) / RATE
    x = tone(6.0, 1000.0, 0.05) * 10 ** (0.5 * np.sin(2 * np.pi * 0.7 * t) / 20)
    found = read_tone(x, RATE, 1000.0, 0.1)
    assert found is not None and 0.8 < found.wander <= 1.01 and found.spread == pytest.approx(0.35, abs=0.05)


def test_levels_of_blocks_follow_a_step() -> None:
    x = np.concatenate([tone(1.0, 1000.0, 0.1), tone(1.0, 1000.0, 0.2)])
    levels = block_levels(x, RATE, 1000.0)
    assert levels.size == 16
    assert levels[:7] == pytest.approx(-20.0, abs=0.01) and levels[9:] == pytest.approx(-13.979, abs=0.01)
    assert block_levels(x[:100], RATE, 1000.0).size == 0


@pytest.mark.parametrize(
    ("levels", "stretch"),
    [
        ([-90, -90, -20, -20, -20, -20, -20, -20, -20, -20, -20, -20], (2, 12)),
        ([-20.5, -20.3, -20, -20, -20, -20, -20, -20, -20, -20], (2, 10)),
        ([-20, -20, -20, -20, -20, -20, -60, -60], (0, 5)),
        ([-20, -22, -20, -22, -20, -22], (0, 6)),
    ],
)
def test_where_the_tone_is_steady(levels: list[float], stretch: tuple[int, int]) -> None:
    assert steady_stretch(np.array(levels, dtype=float), 0.1) == stretch
