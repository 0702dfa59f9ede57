"""The ramp that brings the drive to zero: whatever comes, no step upward, and zero in its time."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lucid_anvil.engine.ramp import Ramp

RATE, BLOCK = 10000.0, 64


def test_until_it_begins_it_passes_everything() -> None:
    ramp = Ramp(RATE)
    x = np.sin(np.arange(BLOCK))
    assert np.array_equal(ramp(x, BLOCK), x) and not ramp.begun and not ramp.zero


@settings(max_examples=60, deadline=None)
@given(st.floats(0.0001, 0.2), st.lists(st.booleans(), min_size=60, max_size=60), st.integers(1, 5))
def test_it_is_at_zero_in_its_time_and_never_louder_again(seconds: float, comes: list[bool], before: int) -> None:
    """`comes`: whether a block came in time, for each."""
    ramp, made = Ramp(RATE), []
    for _ in range(before):
        ramp(np.ones(BLOCK), BLOCK)
    assert ramp.begin(seconds)
    for one in comes:
        made.append(ramp(np.ones(BLOCK) if one else None, BLOCK))
    # What it plays without a block is what was played last, backwards: of a steady drive that is the drive itself.
    level = np.concatenate(made)
    span = max(int(seconds * RATE), 1)
    assert np.all(level[span:] == 0) and np.all(np.diff(level[:span]) <= 1e-12)
    assert ramp.zero == (len(comes) * BLOCK >= span)


@settings(max_examples=40, deadline=None)
@given(st.floats(0.01, 0.3), st.floats(0.001, 0.3), st.integers(1, 30))
def test_the_faster_of_two_fades_holds_and_there_is_no_step_between_them(
    first: float, second: float, blocks: int
) -> None:
    ramp = Ramp(RATE)
    ramp(np.ones(BLOCK), BLOCK)
    ramp.begin(first)
    made = [ramp(np.ones(BLOCK), BLOCK) for _ in range(blocks)]
    left, level = ramp.left or 0, float(made[-1][-1])
    changed = ramp.begin(second)
    assert changed == (left > 0 and max(int(second * RATE), 1) < left)
    after = np.concatenate([ramp(np.ones(BLOCK), BLOCK) for _ in range(60)])
    assert after[0] <= level + 1e-12 and after[0] >= level - 2 / max(min(second, first) * RATE, 1)
    assert np.all(after[left:] == 0) and np.all(np.diff(after) <= 1e-12)


def test_a_missing_block_joins_on_to_the_last_one() -> None:
    ramp = Ramp(RATE)
    x = np.sin(2 * np.pi * 0.013 * np.arange(BLOCK))
    ramp(x, BLOCK)
    ramp.begin(1.0)
    made = ramp(None, BLOCK)
    # The next sample after the end of the last block is that end itself.
    assert made[0] == pytest.approx(x[-1], abs=2e-4)
    assert np.max(np.abs(np.diff(made))) <= np.max(np.abs(np.diff(x))) + 2e-4
