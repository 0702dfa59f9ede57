"""The small parts that the loops and the watch over the chain rest on, each against what it should be exactly."""

from __future__ import annotations

from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest

from lucid_anvil.core.control.chain import (
    AUDIBLE,
    PASSED,
    SHIFT,
    SURE,
    ChainWatch,
    Changed,
    apart,
    chain_model,
    changes,
    middle_of_others,
)
from lucid_anvil.core.control.contact import ContactWatch
from lucid_anvil.core.control.moving import MOST, NOISE, QUICKEST, SETTLED_ABOVE, Moving
from lucid_anvil.core.control.plant import LoopResponse
from lucid_anvil.core.control.randomloop import RandomLoop, smear
from lucid_anvil.core.control.sineloop import FALL, STEP, Regulation, SineLoop, fastest_rate
from lucid_anvil.core.rolling import Rolling

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


def test_what_a_sweep_past_a_narrow_mode_explains() -> None:
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
    square = np.where(np.arange(BLOCK) % 32 < 16, 5.0, -1.0)
    for detect, level in (("rms", 3.0 * np.sqrt(2)), ("peak", 3.0)):
        loop = loop_of(plant_of(np.ones(513, complex)), 1, detect=detect)
        loop.raw.extend([square[None] * 0 + 50.0, square[None], square[None]])
        assert loop._broadband(2 * BLOCK / RATE)[0] == pytest.approx(level, rel=1e-6)


def driven(loop: SineLoop, f: float, blocks: int, gains: tuple[float, ...], volts: float = 0.2) -> None:
    """Blocks of a sine as a bench with these gains per volt would show it, a quarter of a turn late."""
    phase = 0.0
    for _ in range(blocks):
        u = phase + 2 * np.pi * f * np.arange(BLOCK) / RATE
        loop.observe(np.array([g * volts * np.sin(u - np.pi / 2) for g in gains]), volts * np.sin(u), u, f)
        phase += 2 * np.pi * f * BLOCK / RATE


@pytest.mark.parametrize("detect", ["tracking", "rms", "peak"])
def test_a_reading_has_level_phase_and_age(detect: str) -> None:
    loop = loop_of(plant_of(10 * np.ones(513, complex), 5 * np.ones(513, complex)), 2, detect=detect)
    driven(loop, 64.0, 60, (12.0, 5.0))
    made = loop.reading
    assert made is not None and made.levels == pytest.approx([2.4, 1.0], rel=0.01)
    assert np.degrees(made.phases) == pytest.approx([-90.0, -90.0], abs=1.0)
    assert loop.now == pytest.approx(60 * BLOCK / RATE) and 0 < made.age < 0.3
    # What was seen over what was probed is kept with the moment that it is of, which lies before now.
    t, f, ratio = loop.trail[-1]
    assert f == pytest.approx(64.0) and ratio[1] == pytest.approx(np.log(1.2), abs=0.01)
    assert loop.now - 0.3 < t == pytest.approx(loop.now - made.age)
    loop.arrive()
    assert len(loop.trail) == 1 and loop.trail[0][0] == t and loop.arrived == loop.now
    assert loop.raw.maxlen == 64


def test_the_gain_that_is_expected_follows_a_line_or_stays_a_mean() -> None:
    loop = loop_of(plant_of(10 * np.ones(513, complex)), 1)
    assert loop.gains(60.0) == pytest.approx([10.0, 10.0])
    span = BLOCK / RATE
    loop.now = 40 * span
    for k in range(20):
        loop.trail.append(((20 + k) * span, 60.0, np.full(2, 0.02 * k)))
    held = loop.regulation.window(60.0)
    window = max(1.5 * held, 8.5 * span)
    recent = [0.02 * k for k in range(20) if (20 + k) * span > 39 * span - window]
    assert 4 <= len(recent) < 20
    # Carried on along the line to when the drive acts, as far as the loop trusts it.
    middle = np.mean([(20 + k) * span for k in range(20 - len(recent), 20)])
    ahead = np.mean(recent) + loop.trust * (loop.now + loop.lead - middle) * 0.02 / span
    assert loop.gains(60.0)[0] == pytest.approx(10 * np.exp(ahead))
    assert loop.gains(60.0, steady=0.9 * window)[0] == pytest.approx(10 * np.exp(np.mean(recent)))
    assert loop.gains(60.0, steady=20 * span)[0] == pytest.approx(10 * np.exp(0.19), rel=0.01)


def test_the_gain_never_falls_faster_than_the_chain_is_judged() -> None:
    loop = loop_of(plant_of(10 * np.ones(513, complex)), 1)
    loop.now, loop.arrived, loop.lowest_gain = 100.0, 0.0, 1.0
    span = BLOCK / RATE
    for f in (200.0, 20.0):
        loop.lowest_gain = 1.0
        slowest = min(FALL, 1.8 / (3 * max(0.07, 2.5 / f) + 3 * span))
        assert loop._not_suddenly(5.0, f, 0.0) == pytest.approx(10 * 10 ** (-slowest * span / 20))
    loop.lowest_gain = None
    assert loop._not_suddenly(5.0, 60.0, 0.0) == 5.0 and loop.lowest_gain == pytest.approx(0.5)


def test_what_moved_modes_explain_reaches_over_both_sides() -> None:
    w = watch(np.ones(513, complex), np.exp(np.arange(513) * 0.01), 2 * np.ones(513, complex))
    low, high = w._explained(100.0)
    # The second one's ln grows by 0.01 a line of half a hertz: 8 % of 100 Hz are 16 lines either way.
    assert high[1] == pytest.approx(0.17, abs=0.011) and low[1] == pytest.approx(-0.16, abs=0.011)
    assert w._explained(100.0)[0].shape == (3,)
    far = w._explained(250.0)  # beyond what was probed
    assert np.isfinite(far[0]).all()


def test_a_channel_that_shows_little_more_than_its_noise_is_not_compared() -> None:
    w = watch(np.ones(513, complex), np.ones(513, complex))
    w.floor = np.array([1e-4, 1e-4])
    rows = np.zeros((2, 4, 3))
    rows[:, 0, -1] = 100.0
    for energy, compared in ((AUDIBLE**2 * 1.1e-4, True), (AUDIBLE**2 * 0.9e-4, False)):
        rows[:, 1, :2] = rows[:, 2, :2] = 100.0 * energy
        r = w._ratio(rows)
        assert np.isfinite(r).all() == compared
    rows[:, 1, :2], rows[:, 2, :2] = 400.0 + 100.0 * 1e-4, 100.0
    assert w._ratio(rows) == pytest.approx([np.log(2), np.log(2)])


def test_the_best_witnesses_are_those_that_follow_the_drive_most_clearly() -> None:
    flat = np.ones(513, complex)
    coherence = np.ones((6, 513)) * np.array([[1.0], [0.7], [0.95], [0.5], [0.9], [0.99]])
    plant = plant_of(*[flat] * 6, coherence=coherence)
    made = chain_model(plant, ["c", "p", "q", "r", "s", "t"], 1, (20.0, 200.0), True)
    assert made.roles == ("c", "q", "s", "t") and made.controls == 1 and made.highest == 200.0


def test_a_change_in_a_record_is_told_at_the_end_of_its_block() -> None:
    found = Changed(1, 0.5, (0,))
    model = SimpleNamespace(watch=lambda rate, block: SimpleNamespace(
        feed=lambda x, drive: found if x[0, 0] >= 300 else None))  # fmt: skip
    told = changes(model, lambda a, b: np.tile(np.arange(a, b, dtype=float), (3, 1)), 0, 1000, 1000.0, 100)
    assert told == [(0.4, found)]


def test_pieces_that_a_sine_lost_are_told_from_what_drives_it() -> None:
    rate, f = 1024.0, 64.0
    watch_ = ContactWatch(2, BLOCK / rate)
    told = []
    for k in range(80):
        t = (k * BLOCK + np.arange(BLOCK)) / rate
        drive = np.sin(2 * np.pi * f * t)
        z = np.array([2.0 * np.sin(2 * np.pi * f * t + 0.4), 3.0 * np.sin(2 * np.pi * f * t - 1.0)])
        if k >= 60:
            z[0, 20:70] = 0.0
        told.append(watch_.feed(z, z * 0 + np.array([[2.0], [3.0]]) * drive, drive, f))
    assert told[:60] == [None] * 60
    channel, by = next(v for v in told if v is not None)
    assert channel == 0 and 0.4 < by < 0.9
    zz = watch_.known.rows[30]  # ln of the sine's part over the twin's, and the share without shape
    assert zz[0] == pytest.approx([0.0, 0.0], abs=1e-6) and zz[1] == pytest.approx([0.0, 0.0], abs=1e-6)
    alone = ContactWatch(1, BLOCK / rate)
    assert alone._lost(np.array([[-0.5], [0.5]]), np.array([True])) is None  # nobody beside it to tell


def random_loop(level: float = 2.0) -> RandomLoop:
    plant = plant_of(10 * np.ones(513, complex))
    return RandomLoop(RATE, 2.0, lambda f: np.full_like(f, level), (20.0, 200.0), plant, 1, dof=60.0)


def test_a_random_drive_has_the_rms_that_target_and_plant_ask_for() -> None:
    loop = random_loop()
    df = loop.source.frequency[1] - loop.source.frequency[0]
    assert loop.sigma == pytest.approx(np.sqrt(loop.density.sum() * df)) and loop.sigma == pytest.approx(np.sqrt(0.02 * 180), rel=0.1)
    x = np.concatenate([loop.play(BLOCK, 1.0) for _ in range(400)])
    assert np.std(x[2 * BLOCK :]) == pytest.approx(loop.sigma, rel=0.05)
    # The amplitude goes straight from one level to the next.
    loop.source = lambda n, density: np.ones(n)  # type: ignore[assignment]
    loop.play(BLOCK, 0.0)
    assert loop.play(BLOCK, 0.5) == pytest.approx(0.5 * np.arange(1, BLOCK + 1) / BLOCK)
    assert loop.slow.forget == 0.03 and loop.forget == pytest.approx(4 / 62)


def test_a_random_drive_is_corrected_from_the_fourth_frame_on() -> None:
    loop = random_loop()
    rng = np.random.default_rng(5)
    frames = 0
    while frames < 6:
        x = 0.1 * rng.standard_normal(BLOCK)
        frames += loop.observe(np.array([20 * x, x]))  # twice what was probed
        assert loop.fast_frames == frames
        corrected = not np.all(loop.correction == 1.0)
        assert corrected == (frames >= 4)
    inside = (loop.frequency > 40) & (loop.frequency < 180)
    assert np.median(loop.correction[inside]) == pytest.approx(0.25, rel=0.15)


def test_the_last_rows_stay_in_their_order_however_many_come() -> None:
    held, all_ = Rolling(5, 2), []
    assert len(held) == 0 and held.rows.shape == (0, 2) and held.last(3).shape == (0, 2)
    for k in range(37):
        row = np.array([k, -k], dtype=float)
        held.add(row)
        all_.append(row)
        assert np.array_equal(held.rows, np.array(all_[-5:])) and len(held) == min(k + 1, 5)
        assert np.array_equal(held.last(3), np.array(all_[-3:]))


@pytest.mark.parametrize("count", [2, 3, 4, 5, 8])
def test_the_middle_of_the_others_is_their_median(count: int) -> None:
    x = np.random.default_rng(count).standard_normal((count, 7))
    x[:, 3] = 1.0
    wanted = [np.median(np.delete(x, i, axis=0), axis=0) for i in range(count)]
    assert np.array_equal(middle_of_others(x), np.array(wanted))
    d = np.append(x[:, 0], np.nan)
    e = apart(d)
    assert np.array_equal(e[:-1], x[:, 0] - np.array(wanted)[:, 0]) and np.isnan(e[-1])
    assert np.array_equal(apart(np.array([0.3])), [0.3])
