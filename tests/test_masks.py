"""Limits from data: a unit's curve and an offset, thinned; the spread of a batch."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lucid_anvil.core.quality.masks import Mask, around, batch, decimated

F = np.geomspace(20, 20e3, 400)
Y = -3 * (np.log10(F / 1e3)) ** 2


def test_a_mask_follows_its_unit_within_a_tenth_of_its_width() -> None:
    mask = around(F, Y, 0.5, 1.0)
    low, high = mask.at(F)
    assert mask.x.size < 40
    assert np.max(np.abs(low - (Y - 0.5))) < 0.051 and np.max(np.abs(high - (Y + 1.0))) < 0.051
    assert mask.judge(F, Y) == "inside"
    assert mask.judge(F, Y + 1.2) == "outside"
    assert mask.judge(F, Y + 0.8, np.full(F.size, 0.4)) == "open"
    assert mask.judge(np.array([5.0, 10.0]), np.zeros(2)) == "none"


def test_shares_of_a_curve_over_decades() -> None:
    y = 0.01 * (1 + (F / 5e3) ** 2)
    mask = around(F, y, 0.5, 1.0, relative=True)
    assert mask.judge(F, 1.8 * y) == "inside" and mask.judge(F, 2.3 * y) == "outside"


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 10_000), st.floats(0.01, 1.0))
def test_thinning_keeps_ends_and_tolerance(seed: int, tolerance: float) -> None:
    y = np.cumsum(np.random.default_rng(seed).standard_normal(50)) * 0.1
    x = np.arange(1.0, 51.0)
    keep = decimated(x, y, tolerance)
    assert keep[0] == 0 and keep[-1] == 49
    back = np.interp(np.log(x), np.log(x[keep]), y[keep])
    assert np.max(np.abs(back - y)) <= tolerance + 1e-12


def test_statistics_of_a_batch() -> None:
    rng = np.random.default_rng(1)
    units = [(F, Y + rng.normal(0, 0.2)) for _ in range(200)]
    made = batch(units)
    assert made.count == 200
    assert np.allclose(made.mean, Y, atol=0.06)
    assert np.allclose(made.deviation, 0.2, rtol=0.2)
    judged = [made.mask(3.0).judge(*u) for u in units]
    assert judged.count("inside") >= 195
    shorter = batch([(F, Y), (F[50:300], Y[50:300] + 1)])
    assert shorter.x[0] == F[50] and shorter.x[-1] == F[299]
    assert np.allclose(shorter.mean, Y[50:300] + 0.5)


def test_what_makes_no_mask() -> None:
    with pytest.raises(ValueError, match="width above zero"):
        around(F, Y, 0.0, 0.0)
    with pytest.raises(ValueError, match="two curves"):
        batch([(F, Y)])
    with pytest.raises(ValueError, match="in common"):
        batch([(F[:10], Y[:10]), (F[50:], Y[50:])])
    assert Mask(np.array([1.0, 2.0]), np.zeros(2), np.ones(2)).judge(np.array([1.5]), np.array([np.nan])) == "none"
