"""What counts as a jump of force against length, and what does not."""

from __future__ import annotations

import math

import numpy as np
import pytest

from lucid_anvil.domains.frame.cyclic import jumps_in
from lucid_anvil.domains.frame.stiffness_watch import COARSE, StiffnessWatch, trip_of


def told(values: list[float]) -> list[float | None]:
    watch = StiffnessWatch()
    return [watch.jump(v) for v in values]


def test_softening_noise_and_a_transition_are_no_jump() -> None:
    rng = np.random.default_rng(1)
    softens = 4e5 * 0.8 ** np.log10(np.arange(5, 300)) * (1 + 0.01 * rng.standard_normal(295))
    assert told(list(softens)) == [None] * 295
    # Through a transition: a decade in twenty windows, coming on within a few.
    t = np.arange(60)
    falls = 10 ** (9 - 2.5 / (1 + np.exp(-(t - 30) / 4)))
    assert told(list(falls)) == [None] * 60


@pytest.mark.parametrize("share", [0.75, 1.35, 0.5, 0.1])
def test_a_jump_is_told_with_its_factor_in_the_second_value_at_the_latest(share: float) -> None:
    made = told([100.0] * 8 + [100.0 * share] * 3)
    assert made[:8] == [None] * 8 and made[8] == pytest.approx(share)
    # Half of it in one value, the rest in the next.
    split = told([100.0] * 8 + [100.0 * (1 + share) / 2] + [100.0 * share] * 3)
    assert split[:8] == [None] * 8 and any(v is not None for v in split[8:10])


def test_too_few_values_and_none_at_all_tell_nothing() -> None:
    assert told([100.0]) == [None] and told([math.nan, -1.0, 0.0, math.inf, 5.0]) == [None] * 5
    watch = StiffnessWatch()
    for v in (100.0, 100.0, 100.0, 100.0):
        watch.jump(v)
    watch.forget()
    assert [watch.jump(v) for v in (50.0, 50.0, 50.0, 50.0)] == [None] * 4
    assert watch.jump(62.0) is not None and StiffnessWatch().jump(1.0) is None
    slow = StiffnessWatch()
    assert slow.jump(100.0, COARSE) is None and slow.jump(75.0, COARSE) is None and slow.jump(70.0, COARSE) is not None
    end = trip_of(0.5)
    assert end["value"] == -50.0 and end["action"] == "cut" and "fell" in end["label"]


def test_a_record_that_jumps_says_so_once() -> None:
    (said,) = jumps_in(np.r_[np.full(10, 4e5), np.full(10, 2e5)])
    assert "fell by 50 % at once, about cycle 11" in said
    (said,) = jumps_in(np.r_[np.full(10, 4e5), np.full(10, 6e5)])
    assert "rose by 50 %" in said
    softens = 4e5 * 0.8 ** np.log10(np.arange(1, 300))
    assert jumps_in(softens) == [] and jumps_in(np.r_[6e5, softens]) == []  # the first cycle may soften most
