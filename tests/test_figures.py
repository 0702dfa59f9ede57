"""Values as people read them: prefix, digits by the doubt, limits in few signs; and lists of numbers for pictures."""

from __future__ import annotations

import math
import re

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lucid_anvil.core.figures import figure, limit_text
from lucid_anvil.core.signal.rounding import rounded

PREFIX = {"": 1.0, "m": 1e-3, "µ": 1e-6, "k": 1e3}


def back(text: str, unit: str) -> float:
    """The value that a figure shows."""
    found = re.fullmatch(rf"([−-]?[\d.]+) ([mµk]?){unit}", text)
    assert found is not None, text
    return float(found.group(1).replace("−", "-")) * PREFIX[found.group(2)]


@settings(max_examples=200)
@given(st.floats(1e-6, 1e5), st.sampled_from(["V", "W", "Hz"]), st.floats(1e-4, 0.2), st.booleans())
def test_a_figure_is_its_value_within_its_doubt(value: float, unit: str, share: float, negative: bool) -> None:
    value = -value if negative else value
    doubt = share * abs(value)
    shown = back(figure(value, doubt, unit), unit)
    assert abs(shown - value) <= 0.5 * max(doubt, 5e-3 * abs(value)) + 1e-12


@given(st.floats(1e-6, 1e5), st.sampled_from(["V", "W"]))
def test_a_prefix_keeps_the_number_short(value: float, unit: str) -> None:
    digits = figure(value, None, unit).split(" ")[0].replace(".", "").replace("−", "").lstrip("0")
    assert len(digits) <= 6


@pytest.mark.parametrize(
    ("value", "doubt", "unit", "text"),
    [
        (0.0, None, "V", "0 V"), (0.0, 1e-3, "V", "0.0 mV"), (12.3456, 0.1, "dB", "12.35 dB"), (4.0, 0.4, "ohm", "4.00 Ω"),
        (-0.5, 0.05, "deg", "−0.500 °"), (2e-4, 1e-6, "ohm", "200.0 µΩ"), (15000.0, 100.0, "Hz", "15.00 kHz"),
        (99.0, 5.0, "", "99.0"), (109.0, 0.0, "", "109"),
    ],
)  # fmt: skip
def test_figures_as_they_stand_on_a_sheet(value: float, doubt: float | None, unit: str, text: str) -> None:
    made = figure(value, doubt, unit)
    if value == 0.0 and doubt:
        assert back(made, unit) == 0.0  # whatever its prefix
    else:
        assert made.replace("-", "−") == text


@given(st.floats(0.001, 1e4), st.floats(0.001, 1e4), st.sampled_from(["dB", "%", "V"]))
def test_limits_say_both_sides_or_the_one_there_is(a: float, b: float, unit: str) -> None:
    low, high = sorted((a, b))
    both = limit_text(low, high, unit)
    assert " to " in both and both.count(unit) == 2
    assert limit_text(low, None, unit).startswith("≥ ") and limit_text(None, high, unit).startswith("≤ ")
    assert limit_text(-high, high, unit).startswith("± ") and limit_text(None, None, unit) == ""


@settings(max_examples=100)
@given(st.lists(st.floats(-1e30, 1e30), max_size=30), st.integers(1, 9))
def test_rounding_keeps_so_many_digits(values: list[float], digits: int) -> None:
    made = rounded(values, digits)
    assert len(made) == len(values)
    for a, b in zip(values, made, strict=True):
        assert b == pytest.approx(a, rel=0.51 * 10 ** (1 - digits), abs=1e-300)
        assert rounded([b], digits) == [b]


def test_what_is_no_number_stays_none() -> None:
    assert rounded([], 3) == [] and rounded(7.0, 3) == 7.0  # type: ignore[comparison-overlap]
    made = rounded(np.array([np.nan, np.inf, 0.0, -2.345]), 2)
    assert rounded(np.array([[1.26, 2.0]]), 2) == [[1.3, 2.0]]  # type: ignore[comparison-overlap]
    assert math.isnan(made[0]) and math.isinf(made[1]) and made[2:] == [0.0, -2.3]
