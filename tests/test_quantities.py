"""Units at the edge."""

from __future__ import annotations

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lucid_anvil.core.errors import BadInput
from lucid_anvil.core.quantities import (
    factor,
    parse,
    preferred_frequencies,
    round_to_doubt,
    same_kind,
    sensitivity_unit,
    split,
)  # fmt: skip


@pytest.mark.parametrize(
    ("text", "unit", "value"),
    [
        ("98.6 mV/(m/s²)", "mV/(m/s²)", 98.6),
        ("100 mV/g", "mV/(m/s^2)", 100 / 9.80665),
        ("1 g", "m/s^2", 9.80665),
        ("5 %", "%", 5.0),
        ("0.04 g^2/Hz", "(m/s^2)^2/Hz", 0.04 * 9.80665**2),
        ("2 kN", "N", 2000.0),
        ("4.4 mm", "m", 0.0044),
        ("1 µV", "V", 1e-6),
        ("51.2 kHz", "Hz", 51200.0),
        ("0.31 pC/(m/s²)", "pC/(m/s²)", 0.31),
        ("2 min", "s", 120.0),
        ("1,5 V", "V", 1.5),
        ("−3 %", "%", -3.0),
        (7, "Hz", 7.0),
        ("7", "Hz", 7.0),
        ("180 deg", "rad", math.pi),
        ("1 kg", "kg", 1.0),
    ],
)
def test_quantities_as_people_write_them(text: object, unit: str, value: float) -> None:
    assert parse(text, unit) == pytest.approx(value, rel=1e-12)


@pytest.mark.parametrize("text", ["x V", "", "5 foo", "5 kg", "nan V", True, None, [1], "1 V/", float("inf")])
def test_what_is_not_a_voltage_is_refused_with_its_place(text: object) -> None:
    with pytest.raises(BadInput, match="here"):
        parse(text, "V", "here")


def test_g_is_gravity_and_never_the_gram() -> None:
    assert same_kind("g", "m/s^2")
    assert not same_kind("g", "kg")
    assert factor("g", "m/s²") == 9.80665


@given(st.floats(-1e9, 1e9, allow_nan=False), st.sampled_from(["V", "m/s^2", "%", "pC/(m/s²)", "mm"]))
def test_text_and_back(value: float, unit: str) -> None:
    assert parse(f"{value!r} {unit}", unit) == pytest.approx(value, rel=1e-12, abs=1e-300)


def test_split_and_kind_of_sensitivity() -> None:
    assert split("12.76 mV/(m/s²)") == (12.76, "mV/(m/s²)")
    assert sensitivity_unit("3 pC/g") == "pC/(m/s²)"
    assert sensitivity_unit("100 mV/g") == "mV/(m/s²)"
    assert sensitivity_unit(9.8) == "mV/(m/s²)"


def test_preferred_frequencies_are_those_of_iso_266() -> None:
    thirds = preferred_frequencies(10, 10000, 3)
    assert len(thirds) == 31
    assert thirds[:8] == [10, 12.5, 16, 20, 25, 31.5, 40, 50]
    assert thirds[-4:] == [5000, 6300, 8000, 10000]
    assert preferred_frequencies(31.5, 8000, 1) == [31.5, 63, 125, 250, 500, 1000, 2000, 4000, 8000]
    assert set(thirds) < set(preferred_frequencies(10, 10000, 6)) < set(preferred_frequencies(10, 10000, 12))
    with pytest.raises(BadInput, match="1, 3, 6 or 12"):
        preferred_frequencies(10, 100, 5)


@pytest.mark.parametrize(
    ("value", "doubt", "text"),
    [
        (9.86287, 0.0493, "9.863"), (9.771, 1.25, "9.8"), (-1.371, 0.49, "−1.37"), (0.0001, 0.01, "0.000"),
        (-0.0001, 0.01, "0.000"), (1234.5, 150.0, "1234"), (2.0, None, "2"),
        (10400.0, None, "10400"), (5.0, None, "5"), (12345.6, None, "12350"), (-0.25, None, "−0.25"), (3e-7, None, "3e−07"),
        (2.5e9, None, "2.5e+09"), (0.0, None, "0"),
    ],
)  # fmt: skip
def test_the_doubt_decides_the_digits(value: float, doubt: float | None, text: str) -> None:
    assert round_to_doubt(value, doubt) == text
