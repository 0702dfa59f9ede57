"""Limits from data: a unit's curve and an offset, thinned; the spread of a batch."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lucid_anvil.core.quality.masks import Mask, around, batch, carried

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
    mask = around(F, y, 0.5 * y, 1.0 * y)
    assert mask.judge(F, 1.8 * y) == "inside" and mask.judge(F, 2.3 * y) == "outside"


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 10_000), st.floats(0.01, 1.0))
def test_thinning_keeps_ends_and_tolerance(seed: int, tolerance: float) -> None:
    y = np.cumsum(np.random.default_rng(seed).standard_normal(50)) * 0.1
    x = np.arange(1.0, 51.0)
    keep = carried(x, [y], tolerance)
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
    edge = width + 1e-12 * width  # what is rounding of numbers is not outside
    wanted = "inside" if abs(off) + doubt <= edge else "outside" if abs(off) - doubt > edge else "open"
    assert verdict == wanted
    # A point that has nothing takes no part, and one beyond the mask's ends neither.
    beside = mask.judge(np.array([3.0, 5.0, 50.0]), np.array([off, np.nan, 9.0]), np.array([doubt, 0.0, 0.0]))
    assert beside == wanted


@pytest.mark.parametrize(
    ("y", "doubt", "said"),
    [
        (0.0, 0.5, "inside"), (-0.9, 0.05, "inside"), (-0.9, 0.2, "open"), (-1.1, 0.2, "open"), (-1.3, 0.2, "outside"),
        (0.9, 0.2, "open"), (1.1, 0.2, "open"), (1.3, 0.2, "outside"), (1.0, 0.0, "inside"), (-1.0, 0.0, "inside"),
        (1.0 + 1e-9, 0.0, "outside"), (-1.0 - 1e-9, 0.0, "outside"), (1.0 - 0.2, 0.2, "inside"), (-0.8, 0.2, "inside"),
        (1.2, 0.2, "open"), (-1.2, 0.2, "open"),
    ],
)  # fmt: skip
def test_each_edge_with_its_doubt(y: float, doubt: float, said: str) -> None:
    mask = Mask(np.array([1.0, 10.0]), np.array([-1.0, -1.0]), np.array([1.0, 1.0]))
    assert mask.judge(np.array([3.0]), np.array([y]), np.array([doubt])) == said


def test_a_mask_is_straight_over_the_logarithm_or_over_what_has_none() -> None:
    assert Mask(np.array([1.0, 100.0]), np.array([0.0, 2.0]), np.array([4.0, 4.0])).at(np.array([10.0]))[
        0
    ] == pytest.approx([1.0])
    assert Mask(np.array([0.0, 100.0]), np.array([0.0, 2.0]), np.array([4.0, 4.0])).at(np.array([50.0]))[
        0
    ] == pytest.approx([1.0])
    assert Mask(np.array([0.01, 1.0]), np.array([0.0, 2.0]), np.array([4.0, 4.0])).at(np.array([0.1]))[
        0
    ] == pytest.approx([1.0])


def test_a_width_about_a_good_unit_in_its_unit_or_as_a_share() -> None:
    x, y = np.array([1.0, 2.0]), np.array([10.0, 20.0])
    share = around(x, y, 0.1 * y, 0.2 * y)
    assert share.low == pytest.approx([9.0, 18.0]) and share.high == pytest.approx([12.0, 24.0])
    plain = around(x, y, 0.5, 0.0)
    assert plain.low == pytest.approx([9.5, 19.5]) and plain.high == pytest.approx([10.0, 20.0])
    assert around(x, y, 0.0, 0.25).high == pytest.approx([10.25, 20.25])
    for bad in ((-0.1, 1.0), (1.0, -0.1), (0.0, 0.0)):
        with pytest.raises(ValueError, match="^a curve of two points"):
            around(x, y, *bad)
    with pytest.raises(ValueError, match="^a curve of two points"):
        around(x[:1], y[:1], 1.0, 1.0)
    # Thinned to a tenth of the narrower width: a bend below it goes, one above it stays.
    long, bend = np.arange(1.0, 12.0), np.zeros(11)
    bend[5] = 0.09
    assert around(long, bend, 1.0, 5.0).x.size == 2
    bend[5] = 0.11
    assert 5.0 < around(long, bend, 1.0, 5.0).x[1] < 12.0
    # One line alone leaves the other side open; no more points than are wanted.
    alone = around(x, y, None, 1.0)
    assert np.isnan(alone.low).all() and alone.high == pytest.approx([11.0, 21.0])
    wavy = np.sin(long)
    assert around(long, wavy, 1e-3, 1e-3, 5).x.size == 5 and around(long, wavy, 1e-3, 1e-3).x.size == 11


def test_what_a_batch_has_in_common() -> None:
    first, second = (
        (np.array([1.0, 2.0, 4.0]), np.array([1.0, 2.0, 3.0])),
        (np.array([1.0, 2.0, 4.0]), np.array([3.0, 2.0, 7.0])),
    )
    made = batch([first, second])
    assert list(made.x) == [1.0, 2.0, 4.0] and made.count == 2
    assert (
        list(made.mean) == [2.0, 2.0, 5.0]
        and list(made.lowest) == [1.0, 2.0, 3.0]
        and list(made.highest) == [3.0, 2.0, 7.0]
    )
    assert made.deviation == pytest.approx([np.sqrt(2), 0.0, np.sqrt(8)])
    for few, word in (
        ([first], "^two curves"),
        ([first, (np.array([8.0, 9.0]), np.array([1.0, 1.0]))], "^the curves have no"),
    ):
        with pytest.raises(ValueError, match=word):
            batch(few)
    two = (np.array([1.0, 2.0]), np.array([0.0, 1.0]))
    assert batch([two, two]).x.size == 2
