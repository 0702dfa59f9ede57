"""The small parts that the loops and the watch over the chain rest on, each against what it should be exactly."""

from __future__ import annotations

from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest

from lucid_anvil.core.control.chain import PASSED, SHIFT, SURE, ChainWatch
from lucid_anvil.core.control.moving import MOST, NOISE, QUICKEST, SETTLED_ABOVE, Moving
from lucid_anvil.core.control.plant import LoopResponse
from lucid_anvil.core.control.randomloop import smear
from lucid_anvil.core.control.sineloop import STEP, Regulation, SineLoop, fastest_rate

RATE, BLOCK = 4096.0, 128


def plant_of(*responses: np.ndarray, coherence: np.ndarray | None = None) -> LoopResponse:
    h = np.array(responses, complex)
    f = np.arange(h.shape[1]) * 0.5
    sure = np.ones(h.shape) if coherence is None else coherence
    return LoopResponse(f, h, sure, np.zeros(len(h)), 0.0)


def mode(at: float, quality: float, n: int = 513) -> np.ndarray:
    r = np.arange(n) * 0.5 / at
    return 1 / (1 - r**2 + 1j * r / quality)


def watch(*responses: np.ndarray) -> ChainWatch:
    return ChainWatch(plant_of(*responses), RATE, BLOCK, 200.0, range(len(responses)), True)


def swept(w: ChainWatch, frequencies: np.ndarray) -> np.ndarray:
    """Rows of the watch's sums as a sine drive of these frequencies, one a block, leaves them."""
    made = np.zeros((frequencies.size, 4, w.count + 1))
    turn = 2 * np.pi * frequencies * w.twin.thin / RATE
    made[:, 3, 0], made[:, 3, 1] = np.cos(turn), 1.0
    return made


def test_a_sines_frequency_from_three_samples() -> None:
    w = watch(mode(80, 20))
    held = swept(w, np.array([12.0, 60.0, 181.0]))
    assert w._frequencies(held) == pytest.approx([12.0, 60.0, 181.0], rel=1e-9)
    held[0, 3, 0] = 1.2  # noise: beyond what a cosine can be
    held[1, 3, 0] = -1.2
    assert w._frequencies(held)[:2] == pytest.approx([0.0, RATE / w.twin.thin / 2])


def test_each_response_against_the_middle_one_of_the_others() -> None:
    flat = np.ones(513, complex)
    w = watch(2 * flat, 3 * flat, 10 * flat)
    assert w._against(np.array([50.0, 100.25]))[:, 1] == pytest.approx(
        np.log([2 / np.sqrt(30), 3 / np.sqrt(20), 10 / np.sqrt(6)])
    )
    slope = np.exp(np.arange(513) * 0.01)
    w = watch(flat, slope)
    assert w._against(np.array([60.2]))[1, 0] == pytest.approx(1.204, abs=1e-3)  # between the lines too
    assert watch(slope)._against(np.array([60.2]))[0, 0] == pytest.approx(1.204, abs=1e-3)


def test_what_a_sweep_past_a_sharp_mode_explains() -> None:
    w = watch(np.ones(513, complex), mode(80, 50))
    before, after = 84.0, 84.6
    moves = 1 + np.linspace(-PASSED, PASSED, 4001)

    def level(f: np.ndarray) -> np.ndarray:
        r = f / 80.0
        return -np.log(np.abs(1 - r**2 + 1j * r / 50))

    jump = level(after * moves) - level(before * moves)
    truth = SURE * np.abs(jump - jump[2000]).max()
    assert w._passed(before, after)[1] == pytest.approx(truth, rel=0.12)
    far = w._passed(150.0, 151.0)
    assert np.all(far < 0.02) and np.all(w._passed(84.0, 100.0) == 0.0)


def test_what_the_wandering_of_a_followed_resonance_explains() -> None:
    w = watch(np.ones(513, complex), mode(80, 50))
    still = w._wandered(swept(w, np.full(40, 80.0)))
    assert still.shape == (2,) and not still.any()
    assert not w._wandered(swept(w, np.linspace(70.0, 80.0, 40))).any()  # that is a sweep
    swing = 0.004
    seen = w._wandered(swept(w, 80.0 * (1 + swing / 2 * np.cos(np.arange(40)))))
    f = 80.0 * np.linspace(1 - SHIFT, 1 + SHIFT, 8001)
    size = np.interp(f, w.lines * np.arange(w.size.shape[1]), w.size[1])
    n = round(swing * 80.0 / (f[1] - f[0]))
    truth = SURE * max(np.ptp(size[k : k + n]) for k in range(0, f.size - n, 7))
    assert seen[1] == pytest.approx(truth, rel=0.15)


def test_the_fastest_rate_is_the_slower_of_settling_and_following() -> None:
    assert fastest_rate(118, 20.0, 0.2) == pytest.approx(25 / 118 / np.log(2) * 60)
    assert fastest_rate(118, 2.0, 0.01) == pytest.approx(np.pi / 118 / np.log(2) * 60)
    # ISO 7626-2, 8.3: 77.6 f/Q² octaves a minute at most.
    assert 0.8 < fastest_rate(118, 2.0, 0.01) / (77.6 * 118 / 59**2) < 1.0
    assert fastest_rate(118, 3.0, 0.01, octaves=False) == pytest.approx(0.25 * 9 * np.pi)


def test_a_smeared_line_is_a_hann_windows_own() -> None:
    fine = np.zeros(161)
    fine[80] = 4.0
    made = smear(fine, 4, 41)
    shape = made / made[20]
    # Hann, squared, at lines off the tone: 1, 1/4, 0.
    assert shape[19:22] == pytest.approx([0.25, 1.0, 0.25], rel=1e-6) and np.all(shape[[16, 17, 18, 22, 23]] < 1e-12)
    assert made.sum() == pytest.approx(1.0, rel=0.02)


def test_one_block_moves_what_a_kalman_filter_says() -> None:
    moving = Moving(0.1)
    p = np.diag([0.01**2 + (0.012**2) * 0.1, 0.1**2 + 0.03**2 * 0.1, 0.01**2 + 0.01**2 * 0.1])
    for slope, off in ((2.0, 0.01), (10.0, -0.02)):
        moving = Moving(0.1)
        moving.learn((0.0, 0.0), (off, slope), 200.0)
        g = np.array([slope, 0.0, 1.0])
        gain = p @ g / (g @ p @ g + NOISE**2 * (1 + (0.02 * slope) ** 2))
        assert moving.at == pytest.approx(gain[0] * off, rel=1e-9)
    # No quicker than is believed, either way; a low mode slower still.
    for sign in (1, -1):
        for f, share in ((200.0, 1.0), (30.0, 30.0 / SETTLED_ABOVE)):
            moving = Moving(0.01)
            moving.learn((0.0, 0.0), (sign * 0.3, 40.0), f)
            assert moving.at == pytest.approx(sign * QUICKEST * 0.01 * share)
    assert MOST > QUICKEST * 0.01


def loop_of(plant: LoopResponse, channels: int, highest: float = 200.0, **regulation: Any) -> SineLoop:
    return SineLoop(RATE, BLOCK, 1, channels, plant, Regulation(shortest=2 * BLOCK / RATE, **regulation), 10.0,
                    2 * BLOCK / RATE, highest=highest)  # fmt: skip


def test_the_responses_that_rise_highest_inside_the_band_tell_of_the_modes() -> None:
    flat = np.ones(513, complex)
    plant = plant_of(flat, mode(80, 8), mode(120, 30), mode(400, 100), 1.5 * flat)
    loop = loop_of(plant, 5)
    assert loop._telling(plant) == [2, 1]  # not the one whose mode lies beyond what is driven, nor one that is flat
    unsure = np.ones((5, 513))
    unsure[2] = 0.5
    loop = loop_of(plant_of(flat, mode(80, 8), mode(120, 30), mode(400, 100), 1.5 * flat, coherence=unsure), 5)
    assert loop.told == [1]


def test_what_is_learned_is_the_steepest_responses_ratio_to_the_control() -> None:
    flat = np.ones(513, complex)
    loop = loop_of(plant_of(flat, mode(80, 8), mode(120, 30)), 3)
    assert loop.told == [2, 1]
    heard: list[Any] = []
    loop.moving = SimpleNamespace(learn=lambda *given: heard.append(given))  # type: ignore[assignment]
    low, high = np.array([1.0, 1.0, 2.0]), np.array([1.02, 1.05, 1.9])
    loop._learn(np.array([1.1, 1.1, 1.3, 1.6]), np.array([1.0, 1.0, 1.0, 2.0]), np.concatenate([low, high]), 90.0)
    (control, response, f) = heard[0]
    steep = np.log(1.02) / (2 * STEP)
    assert control == (pytest.approx(np.log(1.1)), pytest.approx(steep)) and f == 90.0
    # Of the two that tell (channel 2, then 1) the last shows most of a move.
    assert response == (pytest.approx(np.log(1.3 / 1.1)), pytest.approx(np.log(1.9 / 2.0) / (2 * STEP) - steep))


def test_levels_of_all_that_is_in_a_signal() -> None:
    t = np.arange(BLOCK) / RATE
    x = 2.0 + 3.0 * np.sin(2 * np.pi * 64.0 * t)
    for detect, level in (("rms", 3.0), ("peak", 3.0)):
        loop = loop_of(plant_of(np.ones(513, complex)), 1, detect=detect)
        loop.raw.extend([x[None] * 0 + 50.0, x[None], x[None]])
        assert loop._broadband(2 * BLOCK / RATE)[0] == pytest.approx(level, rel=0.01)
