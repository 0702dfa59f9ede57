"""Formulas over measured quantities: units carried, nonsense refused, nothing run."""

from __future__ import annotations

import numpy as np
import pytest

from lucid_anvil.core.errors import BadInput
from lucid_anvil.core.formulas import formula

UNITS = {"force": "N", "area": "m^2", "way": "m", "k": "N/m", "n": "", "heat": "°C"}
VALUES = {"force": np.array([1e3, -2e3]), "area": np.array(50e-6), "way": np.array([1e-3, 2e-3]),
          "k": np.array([4e5, 3e5]), "n": np.array([1.0, 100.0]), "heat": np.array([20.0, 30.0])}  # fmt: skip


@pytest.mark.parametrize(
    ("text", "wanted", "unit"),
    [("force/area", [2e7, -4e7], "Pa"), ("2 kN/mm - k", [1.6e6, 1.7e6], "N/m"), ("-force^2/area", [-2e10, -8e10], None),
     ("100 * way / 5 cm", [2, 4], ""), ("lg(n) + n^0.5", [1, 12], ""), ("max(force, 1.5 kN)", [1500, 1500], "N"),
     ("abs(force)*way", [1, 4], "J"), ("k/first(k) - last(n)/100", [0, -0.25], ""), ("2^n/2^n", [1, 1], ""),
     ("sqrt(area)", [7.0710678e-3] * 2, "m"), ("4 mm^2 × 1 MPa", [4, 4], "N"), ("3 − -2", [5, 5], ""),
     ("2*(1 + (n - 1))", [2, 200], ""), ("force / 0", [np.inf, -np.inf], "N"), ("1e3 N + .5 kN", [1500, 1500], "N")],
)  # fmt: skip
def test_values_and_units(text: str, wanted: list[float], unit: str | None) -> None:
    made = formula(text, UNITS, "column")
    got = np.broadcast_to(made(VALUES), (2,))
    assert np.allclose(got, wanted, rtol=1e-6) and (unit is None or made.unit == unit)


def test_it_is_shown_in_the_unit_that_is_asked_for() -> None:
    made = formula("force / area", UNITS, "column", "MPa")
    assert made.unit == "MPa" and made.names == ("force", "area") and np.allclose(made(VALUES), [20, -40])
    assert np.allclose(formula("k/first(k)", UNITS, "c", "%")(VALUES), [100, 75])


@pytest.mark.parametrize(
    ("text", "why"),
    [("", "no formula"), ("force + area", "N and m\\^2 do not go together"), ("forc*2", "did you mean 'force'"),
     ("force *", "ends too soon"), ("(1+2", "not closed"), ("lg(area)", "do not go together"), ("1 2", "not expected"),
     ("area^n", "written out"), ("2^force", "must be a number"), ("max(n)", "takes 2"), ("__import__('os')", "not known"),
     ("force.real", "not expected"), ("[1]", "not expected"), ("(" * 60 + "1" + ")" * 60, "too many brackets"),
     ("1+" * 300 + "1", "longer than"), ("xyzzy", "it knows force, area"), ("lambda: 1", "not known"), ("1/0", "comput")],
)  # fmt: skip
def test_what_can_not_be_is_said(text: str, why: str) -> None:
    with pytest.raises(BadInput, match=f"column: .*{why}"):
        formula(text, UNITS, "column")
    with pytest.raises(BadInput, match="can't be shown in mm"):
        formula("force", UNITS, "column", "mm")
