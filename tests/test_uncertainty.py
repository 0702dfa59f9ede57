"""The GUM: divisors, Welch-Satterthwaite, coverage factors, verdicts."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lucid_anvil.core.calibration.budget import LABELS, BudgetInputs, Source, entries, in_degrees
from lucid_anvil.core.calibration.comparison import ToneResult
from lucid_anvil.core.calibration.decision import verdict, worst
from lucid_anvil.core.calibration.response import Response
from lucid_anvil.core.calibration.uncertainty import (
    COVERAGE_PROBABILITY,
    Entry,
    combine,
    coverage_factor,
    mean_square_interval,
    of_ratio,
)
from lucid_anvil.core.errors import BadInput


@pytest.mark.parametrize(
    ("dof", "k"),
    # JCGM 100, table G.2, column 95.45 %.
    [(1, 13.97), (2, 4.53), (3, 3.31), (5, 2.65), (10, 2.28), (20, 2.13), (50, 2.05), (math.inf, 2.000)],
)
def test_coverage_factors_are_those_of_the_table(dof: float, k: float) -> None:
    assert coverage_factor(dof) == pytest.approx(k, abs=0.006)


@pytest.mark.parametrize(
    ("distribution", "divisor"),
    [("rectangular", math.sqrt(3)), ("triangular", math.sqrt(6)), ("u-shaped", math.sqrt(2)), ("normal", 1.0),
     ("normal k=2", 2.0)],
)  # fmt: skip
def test_half_widths_become_standard_uncertainties(distribution: str, divisor: float) -> None:
    assert Entry("a", "A", 0.6, "%", distribution, 0.5).contribution == pytest.approx(0.3 / divisor)


def test_end_gauge_example_of_the_guide() -> None:
    # JCGM 100, H.1: contributions in nm and their degrees of freedom; u = 32 nm, 16 degrees of freedom, k(99 %) = 2.92.
    rows = [(25.0, 18.0), (9.7, 25.6), (2.9, 50.0), (16.6, 2.0), (0.0, math.inf)]
    budget = combine(tuple(Entry(str(i), "", u, "", "normal", 1.0, v) for i, (u, v) in enumerate(rows)))
    assert budget.combined == pytest.approx(31.7, abs=0.4)
    assert budget.dof == pytest.approx(16.7, abs=1.5)
    assert coverage_factor(16, 0.99) == pytest.approx(2.92, abs=0.005)


def test_shares_add_up_and_the_largest_is_named() -> None:
    budget = combine((Entry("a", "A", 3.0, "%", "normal"), Entry("b", "B", 4.0, "%", "normal")))
    assert budget.combined == pytest.approx(5.0)
    assert sum(budget.share(e) for e in budget.entries) == pytest.approx(1.0)
    assert budget.dominant.key == "b"


def test_never_below_the_declared_capability() -> None:
    small = (Entry("a", "A", 0.01, "%", "normal"),)
    assert combine(small, 0.5).expanded == 0.5
    assert combine(small, 0.5).floored
    assert not combine(small, 0.001).floored


def test_correlated_errors_cancel_in_a_ratio() -> None:
    common = (Entry("gain", "Gain", 0.3, "%", "normal", correlation=1.0),)
    free = (Entry("gain", "Gain", 0.3, "%", "normal", correlation=0.0),)
    assert of_ratio(common, common).combined == pytest.approx(0.0, abs=1e-12)
    assert of_ratio(free, free).combined == pytest.approx(0.3 * math.sqrt(2))
    assert of_ratio(free, ()).combined == pytest.approx(0.3)


def test_the_full_budget_of_a_point() -> None:
    tone = ToneResult(
        1000.0, 0, 1, 1 + 0j, spread=2e-4, dof=18.0, amplitude=(0.3, 0.3), distortion=(0.01, 0.02), hum=1e-4
    )
    sources = tuple(
        Source(k, LABELS[k], ((10.0, 0.1), (1000.0, 0.2), (10000.0, 0.4)))
        for k in ("mounting", "cable", "base_strain", "mass_loading", "rocking", "conditioner", "magnetic",
                  "temperature", "gain_ratio")
    )  # fmt: skip
    given_ = BudgetInputs(
        Source("reference", LABELS["reference"], ((160.0, 0.5),), "normal k=2"), sources, drift=0.05,
        transverse_sensitivity=(1.0, 2.0), resolution=(1e-6, 1e-6), capability=Source("c", "", ((100.0, 0.3),)),
    )  # fmt: skip
    made = {e.key: e for e in entries(tone, given_, 0.02, 0.03)}
    assert set(made) == set(LABELS)
    assert made["reference"].contribution == pytest.approx(0.25)
    assert made["mounting"].contribution == pytest.approx(0.2 / math.sqrt(3))
    assert made["transverse_unit"].contribution == pytest.approx(0.06 / math.sqrt(2))
    assert made["distortion"].half_width == pytest.approx(100 * 0.02**2 / 2)
    assert made["repeatability"].contribution == pytest.approx(0.02)
    assert made["repeatability"].dof == 18.0
    assert given_.floor(1000.0) == 0.3
    degrees = in_degrees(tuple(made.values()), 0.5)
    assert next(e for e in degrees if e.key == "reference").contribution == pytest.approx(0.25)
    assert next(e for e in degrees if e.key == "mounting").contribution == pytest.approx(
        math.degrees(0.002 / math.sqrt(3))
    )


def test_an_insert_replaces_the_stated_gain_ratio() -> None:
    tone = ToneResult(100.0, 0, 1, 1 + 0j, spread=1e-5, amplitude=(1.0, 1.0), distortion=(0.0, 0.0))
    reference = Source("reference", "", ((160.0, 0.5),), "normal k=2")
    gain = (Source("gain_ratio", "Gain", ((160.0, 0.4),)),)
    without = entries(tone, BudgetInputs(reference, gain), 0.0, None)
    with_it = entries(tone, BudgetInputs(reference, gain, gain_ratio_known=0.01), 0.0, None)
    assert next(e for e in without if e.key == "gain_ratio").half_width == 0.4
    assert next(e for e in with_it if e.key == "gain_ratio").half_width == 0.01


def test_a_response_is_linear_over_log_frequency_and_knows_its_ends() -> None:
    r = Response((10.0, 1000.0), (1.0, 3.0))
    assert r.at(100.0) == pytest.approx(2.0)
    assert r.covers(10.0)
    assert not r.covers(9.0)
    assert Response((160.0,), (5.0,)).at(7000.0) == 5.0
    assert Response((160.0,), (5.0,)).covers(7000.0)
    for bad in (((10.0, 10.0), (1.0, 1.0)), ((10.0,), (0.0,)), ((10.0, 20.0), (1.0,)), ((-1.0, 20.0), (1.0, 1.0))):
        with pytest.raises(BadInput):
            Response(*bad)


def test_interpolation_doubt_covers_the_curvature_and_is_zero_at_the_points() -> None:
    f = [10.0 * 2 ** (i / 3) for i in range(31)]
    truth = [1 + (x / 45000) ** 2 for x in f]
    r = Response(tuple(f), tuple(truth))
    assert r.interpolation_doubt(f[10]) == pytest.approx(0.0, abs=1e-9)
    at = (f[28] * f[29]) ** 0.5
    error = 100 * abs(r.at(at) / (1 + (at / 45000) ** 2) - 1)
    assert error > 0
    assert r.interpolation_doubt(at) == pytest.approx(error, rel=0.2)


@pytest.mark.parametrize("dof", [2, 8, 120])
def test_a_mean_square_lies_within_its_interval_as_often_as_said(dof: int) -> None:
    seen = (np.random.default_rng(dof).standard_normal((20000, dof)) ** 2).mean(axis=1)
    least, greatest = mean_square_interval(dof)
    for side in (seen * least > 1, seen * greatest < 1):
        assert np.mean(side) == pytest.approx((1 - COVERAGE_PROBABILITY) / 2, abs=0.005)


@pytest.mark.parametrize(
    ("value", "doubt", "low", "high", "rule", "said"),
    [
        (3.0, 1.0, -5.0, 5.0, "guarded", "inside"),
        (4.5, 1.0, -5.0, 5.0, "guarded", "open"),
        (7.0, 1.0, -5.0, 5.0, "guarded", "outside"),
        (4.5, 1.0, -5.0, 5.0, "simple", "inside"),
        (5.5, 1.0, -5.0, 5.0, "simple", "outside"),
        (3.0, None, -5.0, 5.0, "guarded", "open"),
        (3.0, None, -5.0, 5.0, "simple", "inside"),
        (3.0, 1.0, None, None, "guarded", "none"),
        (3.0, 1.0, None, 5.0, "guarded", "inside"),
        (-9.0, 1.0, -5.0, None, "guarded", "outside"),
        (None, None, -5.0, 5.0, "guarded", "open"),
        (5.0, 0.0, -5.0, 5.0, "guarded", "inside"),
        (-5.0, 0.0, -5.0, 5.0, "guarded", "inside"),
        (4.0, 1.0, -5.0, 5.0, "guarded", "inside"),
        (6.0, 1.0, -5.0, 5.0, "guarded", "open"),
        (-6.0, 1.0, -5.0, 5.0, "guarded", "open"),
        (5.0, 0.0, -5.0, 5.0, "simple", "inside"),
        (0.1 + 0.2, 0.0, None, 0.3, "simple", "inside"),
        (-0.1 - 0.2, 0.0, -0.3, None, "guarded", "inside"),
        (0.3 * (1 + 1e-9), 0.0, None, 0.3, "simple", "outside"),
    ],
)
def test_three_states(value: float, doubt: float, low: float, high: float, rule: str, said: str) -> None:
    assert verdict(value, doubt, low, high, rule) == said


def test_not_valid_is_open_and_the_order_of_verdicts() -> None:
    assert verdict(1.0, 0.1, -5, 5, valid=False) == "open"
    assert verdict(None, None, -5, 5, interval=(1.0, 2.0)) == "inside"
    assert worst(["inside", "open", "none"]) == "open"
    assert worst(["inside", "outside", "open"]) == "outside"
    assert worst(["none", "inside"]) == "inside"
    assert worst([]) == "none"


@given(st.floats(-10, 10), st.floats(0, 5))
def test_less_doubt_never_turns_inside_into_open(value: float, doubt: float) -> None:
    if verdict(value, doubt, -5, 5) == "inside":
        assert verdict(value, doubt / 2, -5, 5) == "inside"


def test_a_verdict_of_an_interval_alone_needs_the_guarded_rule() -> None:
    assert verdict(None, None, 0.0, 1.0, interval=(0.2, 0.8)) == "inside"
    assert verdict(None, None, 0.0, 1.0, "simple", interval=(0.2, 0.8)) == "open"
    assert verdict(0.5, 0.1, 0.0, None) == verdict(0.5, 0.1, None, 1.0) == "inside"
    assert verdict(-1e300, 0.0, 0.0, None) == verdict(1e300, 0.0, None, 1.0) == "outside"


def test_a_budget_of_nothing_and_one_that_just_reaches_the_capability() -> None:
    nothing = Entry("a", "A", 0.0)
    made = combine((nothing,))
    assert (made.combined, made.share(nothing), made.dof) == (0.0, 0.0, math.inf)
    one = Entry("a", "A", 1.0, distribution="normal", dof=4)
    held = combine((one,))
    assert held.coverage == coverage_factor(4) and held.expanded == pytest.approx(held.coverage)
    small = combine((Entry("a", "A", 0.2, distribution="normal"),))
    assert small.share(Entry("a", "A", 0.2, distribution="normal")) == pytest.approx(1.0)
    assert not combine((one,), held.expanded).floored
    # An endless entry beside one of few degrees of freedom: only that one counts down.
    both = combine((one, Entry("b", "B", 1.0, distribution="normal")))
    assert both.dof == pytest.approx(2**2 * 4)


def test_a_ratio_keeps_what_only_one_side_has() -> None:
    here = (
        Entry("a", "A", 0.3, distribution="normal", dof=7, correlation=0.6),
        Entry("b", "B", 0.4, distribution="normal"),
    )
    there = (Entry("b", "B", 0.4, distribution="normal", dof=5, correlation=1.0),)
    made = of_ratio(here, there, capability=0.9)
    a, b = made.entries
    assert (a.key, a.label, a.unit, a.dof, a.correlation) == ("a", "A", "%", 7, 0.6)
    assert a.contribution == pytest.approx(0.3) and b.contribution == pytest.approx(0.0) and b.dof == 5
    assert made.expanded == 0.9 and made.floored
    assert not of_ratio(here, there).floored


@pytest.mark.parametrize("dof", [0.3, 1.0])
def test_less_than_one_degree_of_freedom_counts_as_one(dof: float) -> None:
    assert coverage_factor(dof) == coverage_factor(1.0) and mean_square_interval(dof) == mean_square_interval(1.0)
    assert mean_square_interval(2.0) != mean_square_interval(1.0)
    assert coverage_factor(math.inf) == pytest.approx(2.0, abs=1e-4)
