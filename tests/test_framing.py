"""Frames cut from blocks of any length, and transforms that are planned once."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lucid_anvil.core.signal.framing import GROUP, WINDOWS, Framer, Transform, window_of
from lucid_anvil.core.signal.spectra import averaged


@pytest.mark.parametrize("n", [16, 30, 1000, 1022, 4096, 4098])
def test_a_planned_transform_is_the_transform(n: int) -> None:
    rng = np.random.default_rng(n)
    transform, window = Transform(GROUP, n), window_of("hann", n)
    for rows in (3, 1, GROUP, 3):
        x = rng.standard_normal((rows, n))
        wanted = np.fft.rfft(x * window, axis=1)
        made = transform(x, window)
        assert made.shape == (rows, n // 2 + 1)
        assert np.max(np.abs(made - wanted)) < 1e-12 * n


def test_what_is_given_to_a_transform_is_not_touched() -> None:
    x = np.random.default_rng(1).standard_normal((2, 64))
    before = x.copy()
    Transform(2, 64)(x, window_of("blackman", 64))
    assert np.array_equal(x, before)


@settings(deadline=None, max_examples=40)
@given(
    overlap=st.sampled_from([0.0, 0.3, 0.5, 0.6, 0.75, 0.9]),
    blocks=st.lists(st.integers(1, 260), min_size=1, max_size=12),
)
def test_runs_hold_every_frame_once(overlap: float, blocks: list[int]) -> None:
    frame = 64
    x = np.random.default_rng(sum(blocks)).standard_normal((2, sum(blocks))) + 5.0
    framer, made, sums, at = Framer(2, frame, overlap), [], [], 0
    for n in blocks:
        for run in framer.runs(x[:, at : at + n]):
            made += [cut.copy() for cut in framer.frames(run).transpose(1, 0, 2)]
            sums += list(framer.sums(run[1]))
        at += n
    wanted = [x[:, a : a + frame] for a in range(0, x.shape[1] - frame + 1, framer.hop)]
    assert len(made) == len(wanted) == len(sums)
    assert all(np.array_equal(a, b) for a, b in zip(made, wanted, strict=True))
    assert sums == pytest.approx([w[1].sum() for w in wanted])
    assert framer.count < frame


@pytest.mark.parametrize("window", sorted(WINDOWS))
def test_an_offset_is_off_before_the_window_spreads_it(window: str) -> None:
    x = np.random.default_rng(3).standard_normal((2, 512))
    plain = [y.copy() for y in Framer(2, 256, 0.5, window).feed(x - x.mean(axis=1, keepdims=True))]
    lifted = [y.copy() for y in Framer(2, 256, 0.5, window).feed(x + 40.0)]
    assert len(plain) == 3
    assert np.max(np.abs(np.array(plain) - np.array(lifted))) < 1e-9


@pytest.mark.parametrize(("frame", "group"), [(64, 8), (8192, 8), (20_000, 3), (65_536, 1), (200_000, 1)])
def test_long_frames_are_not_heaped_up(frame: int, group: int) -> None:
    framer = Framer(1, frame)
    assert framer.group == group
    x = np.random.default_rng(5).standard_normal((1, 5 * frame // 2))
    made = averaged([x], 1, 1.0, frame)
    wanted = np.mean([np.abs(y[0]) ** 2 for y in framer.feed(x)], axis=0)
    assert made.frames == 4
    assert made.auto[0] == pytest.approx(wanted * 2 / np.sum(framer.window**2))


def test_many_threads_average_side_by_side() -> None:
    """Plans are made in one thread at a time, transforms in as many as there are."""
    rng = np.random.default_rng(4)
    records = [rng.standard_normal((3, 20_000 + 100 * k)) for k in range(24)]

    def work(k: int) -> np.ndarray:
        return averaged([records[k]], 3, 1000.0, 200 + 2 * k).auto

    alone = [work(k) for k in range(len(records))]
    with ThreadPoolExecutor(6) as pool:
        together = list(pool.map(work, range(len(records))))
    assert all(np.array_equal(a, b) for a, b in zip(alone, together, strict=True))
