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


def test_where_units_differ_most_the_mask_is_widest() -> None:
    """A batch that is of one mind but about its resonance: thinning must not cut off what the spread does there."""
    rng = np.random.default_rng(2)
    bump = np.exp(-((np.log(F / 3e3) / 0.1) ** 2))
    made = batch([(F, Y + rng.normal(0, 0.1) + rng.normal(0, 1.0) * bump) for _ in range(60)])
    mask = made.mask(3.0)
    low, high = mask.at(F)
    half = 3 * made.deviation
    assert np.max(np.abs((high - low) / 2 - half)) < 0.15 * np.median(half)
    top = int(np.argmax(high - low))
    assert F[top] == pytest.approx(3e3, rel=0.05) and (high - low)[top] > 5 * np.median(high - low)
    assert mask.x.size < 100


@settings(max_examples=40, deadline=None)
@given(st.floats(-2.0, 2.0), st.floats(0.01, 1.0), st.floats(0.0, 1.0))
def test_inside_and_outside_are_told_only_when_all_of_the_doubt_is(off: float, width: float, doubt: float) -> None:
    mask = Mask(np.array([1.0, 10.0]), np.array([-width, -width]), np.array([width, width]))
    verdict = mask.judge(np.array([3.0]), np.array([off]), np.array([doubt]))
    wanted = "inside" if abs(off) + doubt <= width else "outside" if abs(off) - doubt > width else "open"
    assert verdict == wanted
    # A point that has nothing takes no part, and one beyond the mask's ends neither.
    beside = mask.judge(np.array([3.0, 5.0, 50.0]), np.array([off, np.nan, 9.0]), np.array([doubt, 0.0, 0.0]))
    assert beside == wanted
