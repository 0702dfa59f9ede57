"""From tach pulses to speed and angle against rotations known in closed form."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lucid_anvil.core.errors import BadInput
from lucid_anvil.core.signal.tacho import LEAST, pulse_times, repaired, rotation_of

RATE = 51200.0


def square(turns: np.ndarray, per_rev: float, high: float = 5.0, duty: float = 0.3) -> np.ndarray:
    """A tach signal whose edges rise at whole pulses of an angle [revolutions] a sample."""
    return np.where((turns * per_rev) % 1.0 < duty, high, 0.0)


def run_down(t: np.ndarray, start: float = 50.0, fall: float = 2.0) -> np.ndarray:
    """Revolutions of a shaft that slows down evenly from `start` [rev/s]."""
    return start * t - fall * t**2 / 2


@pytest.mark.parametrize("rising", [True, False])
def test_edges_are_found_between_samples(rising: bool) -> None:
    t = np.arange(int(RATE)) / RATE
    # A sine has edges that lie anywhere between samples.
    x = 2.0 + np.sin(2 * np.pi * 37.3 * t + 0.4)
    found = pulse_times(x, RATE, None, rising)
    phase = -0.4 if rising else np.pi - 0.4
    wanted = (phase / (2 * np.pi) + np.arange(40)) / 37.3
    wanted = wanted[(wanted > 0) & (wanted < 1)]
    # The very first may lie before the signal was ever well below its level.
    assert wanted.size - found.size in (0, 1)
    assert found == pytest.approx(wanted[-found.size :], abs=2e-6)


def test_the_level_decides_which_pulses_count() -> None:
    t = np.arange(int(RATE)) / RATE
    x = square(20 * t, 1) + 0.4 * square(20 * t + 0.5, 1)
    assert pulse_times(x, RATE, 3.5).size == pytest.approx(20, abs=1)
    assert pulse_times(x, RATE, 1.0).size == pytest.approx(40, abs=1)
    assert pulse_times(x, RATE, 9.0).size == 0 and pulse_times(np.zeros(1000), RATE).size == 0


def test_noise_on_an_edge_counts_once() -> None:
    t = np.arange(2 * int(RATE)) / RATE
    slow = 2.5 + 2.5 * np.sin(2 * np.pi * 5 * t)
    noisy = slow + 0.1 * np.random.default_rng(1).standard_normal(t.size)
    assert pulse_times(noisy, RATE).size == pytest.approx(10, abs=1)


@settings(max_examples=60, deadline=None)
@given(
    st.sets(st.integers(8, 91), max_size=4), st.sets(st.integers(8, 91), max_size=4), st.floats(0.0, 0.004)
)  # fmt: skip
def test_missing_and_extra_pulses_are_counted_and_mended(lost: set[int], added: set[int], slow: float) -> None:
    """Whatever single pulses are lost or put in: the numbers of those that are left are what they were."""
    numbers = np.arange(100)
    true = 0.02 * numbers + slow * 0.02 * numbers**2 / 2
    apart = all(abs(a - b) > 6 for a in lost | added for b in lost | added if a != b)
    if not apart or lost & added:
        return
    left = np.array([k for k in numbers if k not in lost])
    between = [true[k] + 0.3 * (true[k + 1] - true[k]) for k in added]
    turns, times, missing, extra = repaired(np.sort(np.concatenate([true[left], between])))
    assert (missing, extra) == (len(lost), len(added))
    assert np.array_equal(turns, left - left[0]) and times == pytest.approx(true[left])


@pytest.mark.parametrize("per_rev", [1.0, 4.0, 60.0])
def test_speed_and_angle_of_an_even_run_down(per_rev: float) -> None:
    t = np.arange(int(8 * RATE)) / RATE
    made = rotation_of(pulse_times(square(run_down(t), per_rev), RATE), per_rev)
    at = np.linspace(1.0, 7.0, 30)
    # Edges of a square wave are only known to a sample, 20 µs.
    assert made.speed_at(at) == pytest.approx(60 * (50 - 2 * at), rel=5e-4)
    turned = made.angle_at(at) - made.angle_at(np.array([1.0]))
    assert turned == pytest.approx(run_down(at) - run_down(np.array([1.0])), abs=2e-3)
    assert made.missing == made.extra == 0 and np.all(np.diff(made.angle) > 0)


@pytest.mark.parametrize("jitter", [5e-6, 20e-6])
def test_jitter_is_told_and_does_not_go_into_the_speed(jitter: float) -> None:
    t = np.arange(0.0, 10.0, 1e-6)
    turns = run_down(t)
    edges = np.interp(np.arange(1, int(turns[-1])), turns, t)
    shaken = edges + jitter * np.random.default_rng(4).standard_normal(edges.size)
    made = rotation_of(shaken, 1.0)
    assert made.jitter == pytest.approx(jitter, rel=0.2)
    at = np.linspace(1.0, 9.0, 40)
    # One pulse's jitter over one turn would be 0.1 % of the speed at 20 µs; the course knows better.
    assert made.speed_at(at) == pytest.approx(60 * (50 - 2 * at), rel=1e-4)


@pytest.mark.parametrize("first, last, law", [
    (3000.0, 300.0, "even"), (300.0, 3000.0, "even"), (1500.0, 100.0, "even"), (3000.0, 300.0, "coast"),
])  # fmt: skip
@pytest.mark.parametrize("begin", [0.1, 0.6, 0.95])
def test_one_pulse_a_turn_tells_the_ends_of_the_speed(first: float, last: float, law: str, begin: float) -> None:
    t = np.arange(0, 20, 5e-5)
    speed = first + (last - first) * t / 20 if law == "even" else first * (last / first) ** (t / 20)
    turns = begin + np.cumsum(speed / 60) * 5e-5
    edges = np.interp(np.arange(1, int(turns[-1]) + 1), turns, t)
    made = 60 / rotation_of(edges, 1.0, (0.0, 20.0)).per_angle
    assert made.min() == pytest.approx(min(first, last), rel=0.002)
    assert made.max() == pytest.approx(max(first, last), rel=0.002)


def test_few_slow_pulses_count_as_much_as_many_fast_ones() -> None:
    # A slow stretch between fast ones: half of all pulses tell nothing of it.
    t = np.arange(0, 20, 5e-5)
    speed = 1650 + 1350 * np.cos(2 * np.pi * 1.5 * t / 20)
    turns = np.cumsum(speed / 60) * 5e-5
    made = rotation_of(np.interp(np.arange(1, int(turns[-1]) + 1), turns, t), 1.0)
    at = np.arange(1.0, 19.0, 0.05)
    assert made.speed_at(at) == pytest.approx(np.interp(at, t, speed), rel=1e-3)


def test_a_stray_pulse_is_taken_out() -> None:
    edges = np.arange(200) * 0.02
    edges[90] += 0.004
    made = rotation_of(edges, 1.0)
    assert made.extra >= 1 and made.speed_at(np.array([1.8])) == pytest.approx([3000.0], rel=1e-5)


@pytest.mark.parametrize("count", [0, 1, LEAST - 1])
def test_too_few_pulses_are_told_with_what_to_do(count: int) -> None:
    with pytest.raises(BadInput, match=f"{count} pulses.*trigger_level"):
        rotation_of(np.arange(count) * 0.01, 1.0)
