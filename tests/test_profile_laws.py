"""Profiles as laws: whatever the numbers, the pieces meet, the integrals are the closed forms, the bends are where they
must be."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from lucid_anvil.core.control.corridor import Band, Side
from lucid_anvil.core.control.randomprofile import DB_PER_OCTAVE, Point
from lucid_anvil.core.control.randomprofile import solve as solve_random
from lucid_anvil.core.control.sineprofile import Segment
from lucid_anvil.core.control.sineprofile import solve as solve_sine
from lucid_anvil.core.errors import BadInput
from lucid_anvil.core.signal.mobility import FORMS, against, form_of, part_of


def within(by: float, kind: str) -> Band:
    """The same on either side."""
    return Band(Side(-by, kind), Side(by, kind))


some = settings(max_examples=60, deadline=None)


@some
@given(st.floats(0.5e-3, 10e-3), st.floats(0.05, 1.0), st.floats(5.0, 100.0))
def test_displacement_velocity_acceleration_in_a_row(d: float, v: float, a: float) -> None:
    """The three usual laws: crossovers at v/(pi d) and a/(2 pi v), peaks as the laws say."""
    one, two = v / (math.pi * d), a / (2 * math.pi * v)
    assume(one * 1.1 < two)
    low, high = one / 3, two * 3
    made = solve_sine(low, high, [Segment("displacement", d), Segment("velocity", v), Segment("acceleration", a)])
    assert made.crossovers == pytest.approx((one, two))
    assert made.peak("displacement")[0] == pytest.approx(d)
    assert made.peak("velocity")[0] == pytest.approx(v)
    assert made.peak("acceleration")[0] == pytest.approx(a)
    f = made.grid()
    assert f[0] == low and f[-1] == high and np.all(np.diff(f) > 0)
    assert set(made.crossovers) <= {float(x) for x in f}
    held = np.where(
        f <= one, made.displacement(f) / d, np.where(f <= two, made.velocity(f) / v, made.acceleration(f) / a)
    )
    assert held == pytest.approx(1.0)
    # Each of the three is the others by the circle frequency.
    w = 2 * np.pi * f
    assert made.velocity(f) * w == pytest.approx(made.acceleration(f))
    assert made.displacement(f) * w**2 / 2 == pytest.approx(made.acceleration(f))
    assert [made.level_at(float(x)) for x in f] == pytest.approx(made.acceleration(f))
    assert made.scaled(0.5).acceleration(f) == pytest.approx(0.5 * made.acceleration(f))


@some
@given(st.floats(20.0, 60.0), st.floats(1.2, 4.0), st.floats(2.0, 50.0), st.floats(2.0, 50.0))
def test_a_line_is_straight_on_log_log_axes_between_its_neighbours(f: float, wide: float, a: float, b: float) -> None:
    segments = [Segment("acceleration", a, f), Segment("line", None, wide * f), Segment("acceleration", b)]
    made = solve_sine(10.0, 500.0, segments)
    middle = f * math.sqrt(wide)
    assert made.level_at(middle) == pytest.approx(math.sqrt(a * b), rel=1e-9)
    assert made.level_at(f) == pytest.approx(a) and made.level_at(wide * f) == pytest.approx(b)
    assert made.level_at(1.0) == pytest.approx(a) and made.level_at(9e9) == pytest.approx(b)


def test_edges_of_each_segment_are_in_what_it_holds() -> None:
    loose, tight = within(10, "percent"), within(1, "db")
    made = solve_sine(
        10, 200, [Segment("displacement", 2e-3, None, loose), Segment("acceleration", 40.0, None, tight, loose)]
    )
    f = np.array([12.0, 150.0])
    low, high = made.edges(f, "tolerance")
    target = made.acceleration(f)
    assert (low / target, high / target) == (
        pytest.approx([0.9, 10 ** (-1 / 20)]), pytest.approx([1.1, 10 ** (1 / 20)]),
    )  # fmt: skip
    none_low, none_high = made.edges(f, "abort")
    assert none_low[0] == 0 and np.isinf(none_high[0]) and none_high[1] == pytest.approx(44.0)


@pytest.mark.parametrize(
    ("segments", "says"),
    [
        ([], "there is none"),
        ([Segment("acceleration", 0.0)], "must be above zero"),
        ([Segment("acceleration", 1.0), Segment("acceleration", 2.0)], "never cross"),
        ([Segment("acceleration", 1.0, 90.0)], "ends at 90 Hz, but stop is 100 Hz"),
        ([Segment("acceleration", 1.0, 5.0), Segment("velocity", 1.0)], "outside 10 Hz to 100 Hz"),
        ([Segment("line", None, 50.0), Segment("acceleration", 1.0)], "constant segment on either side"),
        ([Segment("acceleration", 1.0, 20.0), Segment("line"), Segment("acceleration", 2.0)], "needs 'until'"),
        (
            [Segment("acceleration", 1.0), Segment("line", None, 50.0), Segment("acceleration", 2.0)],
            "where the line begins",
        ),
    ],
)
def test_a_profile_that_can_not_be_says_which_segment_and_why(segments: list[Segment], says: str) -> None:
    with pytest.raises(BadInput, match=says):
        solve_sine(10.0, 100.0, segments)


@pytest.mark.parametrize("ends", [(0.0, 100.0), (100.0, 100.0), (10.0, math.inf), (-5.0, 20.0)])
def test_a_profile_needs_two_ends(ends: tuple[float, float]) -> None:
    with pytest.raises(BadInput, match="start must be above zero"):
        solve_sine(*ends, [Segment("acceleration", 1.0)])


@some
@given(st.floats(-30.0, 30.0), st.floats(10.0, 100.0), st.floats(1.5, 30.0), st.floats(1e-4, 1.0))
def test_a_slope_in_db_an_octave_is_what_it_says(slope: float, f: float, wide: float, s: float) -> None:
    made = solve_random([Point(f, s), Point(wide * f, slope=slope)])
    end = float(made.density(np.array([wide * f]))[0])
    assert 10 * math.log10(end / s) == pytest.approx(slope * math.log2(wide), abs=1e-9)
    assert pytest.approx(0.33219, abs=1e-5) == DB_PER_OCTAVE


@some
@given(
    st.lists(st.tuples(st.floats(1.1, 4.0), st.floats(1e-3, 10.0)), min_size=1, max_size=5), st.floats(5.0, 50.0),
    st.floats(1e-3, 10.0),
)  # fmt: skip
def test_mean_squares_are_the_integrals(steps: list[tuple[float, float]], f: float, s: float) -> None:
    points = [Point(f, s)]
    for wide, density in steps:
        points.append(Point(points[-1].frequency * wide, density))
    made = solve_random(points)
    x = np.unique(np.concatenate([np.geomspace(made.start, made.stop, 20001), made.frequencies]))
    y = made.density(x)
    for power, quantity in ((0, "acceleration"), (-2, "velocity"), (-4, "displacement")):
        held = float(np.trapezoid(y * (2 * np.pi * x) ** power, x))
        assert made.mean_square(power) == pytest.approx(held, rel=1e-5)
        assert made.rms(quantity) ** 2 == pytest.approx(made.mean_square(power))
    louder = made.scaled_to(3.0)
    assert louder.rms() == pytest.approx(3.0) and louder.rms("velocity") == pytest.approx(
        made.rms("velocity") * 3 / made.rms()
    )


def test_nothing_lies_outside_a_random_profile_and_its_edges_are_its_bands() -> None:
    made = solve_random(
        [Point(20, 0.1, tolerance=within(3, "db")), Point(80, 0.4, abort=within(6, "db")), Point(200, 0.4)]
    )
    assert made.density(np.array([19.9, 200.1])) == pytest.approx([0, 0])
    low, high = made.edges(np.array([40.0, 100.0]), "tolerances")
    at = made.density(np.array([40.0]))[0]
    assert (low[0], high[0]) == (pytest.approx(at * 10**-0.3), pytest.approx(at * 10**0.3))
    assert low[1] == 0 and np.isinf(high[1])
    low, high = made.edges(np.array([100.0]), "aborts")
    assert high[0] / low[0] == pytest.approx(10**1.2)
    assert {20.0, 80.0, 200.0} <= set(made.grid())


@pytest.mark.parametrize(
    ("points", "rms", "says"),
    [
        ([Point(10, 1.0)], None, "at least two"),
        ([Point(10, slope=3.0), Point(20, 1.0)], None, "the first point needs a density"),
        ([Point(10, 1.0), Point(10, 1.0)], None, "must be above zero and rise"),
        ([Point(10, 1.0), Point(20)], None, "give its density, or its slope"),
        ([Point(10, 1.0), Point(20, 1.0, 3.0)], None, "not both"),
        ([Point(10, 0.0), Point(20, 1.0)], None, "density must be above zero"),
        ([Point(10, 1.0), Point(20, 1.0)], 0.0, "rms: it must be above zero"),
    ],
)
def test_points_that_can_not_be_are_named(points: list[Point], rms: float | None, says: str) -> None:
    with pytest.raises(BadInput, match=says):
        solve_random(points, rms)


@some
@given(st.floats(20.0, 2000.0), st.floats(0.001, 0.2), st.floats(0.1, 50.0))
def test_the_three_forms_of_a_response_are_one(f0: float, damping: float, mass: float) -> None:
    """Of one mass on a spring: receptance 1/k at rest, mobility at resonance 1/c, accelerance 1/m above."""
    f = np.geomspace(f0 / 100, f0 * 100, 400)
    f[200] = f0
    f = np.sort(f)
    w, w0 = 2 * np.pi * f, 2 * np.pi * f0
    accelerance = -(w**2) / (mass * (w0**2 - w**2 + 2j * damping * w0 * w))
    receptance, mobility = (form_of(f, accelerance, k) for k in ("receptance", "mobility"))
    assert abs(receptance[0]) == pytest.approx(1e6 / (mass * w0**2), rel=1e-3)
    at = int(np.argmin(np.abs(f - f0)))
    assert mobility[at].real == pytest.approx(1e3 / (2 * damping * w0 * mass), rel=1e-6)
    assert abs(form_of(f, accelerance, "accelerance")[-1]) == pytest.approx(1 / mass, rel=1e-3)
    assert part_of(mobility, "phase")[at] == pytest.approx(0.0, abs=1e-6)
    assert part_of(receptance, "magnitude") == pytest.approx(np.hypot(receptance.real, receptance.imag))
    assert np.array_equal(part_of(mobility, "real"), mobility.real)
    assert np.array_equal(part_of(mobility, "imaginary"), mobility.imag)
    # Where hammer and sensor sit at one place, nothing moves against the hammer; turned round, the mode does.
    assert against(f, accelerance, [f0]) == [] and against(f, -accelerance, [f0]) == [pytest.approx(f0)]
    assert set(FORMS) == {"accelerance", "mobility", "receptance"}
