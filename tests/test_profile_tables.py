"""Tables recognised as the laws they round, profiles' own words and refusals to the letter."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from lucid_anvil.core.control import history
from lucid_anvil.core.control.corridor import Band, Side, abort_inside
from lucid_anvil.core.control.points import combined
from lucid_anvil.core.control.randomprofile import Point
from lucid_anvil.core.control.randomprofile import solve as solve_random
from lucid_anvil.core.control.sineprofile import Segment, SineProfile, crossover, solve
from lucid_anvil.core.control.table import Table, accelerations, read_table, recognise
from lucid_anvil.core.errors import BadInput
from lucid_anvil.domains.shaker.profiles import (
    BandPart,
    PointPart,
    RandomFile,
    SineFile,
    SweepPart,
    TimeFile,
    json_schema,
    load_profile,
    prepare_history,
    profile_of,
)

G = 9.80665


def refused(said: str, call: Any, *arguments: Any, **more: Any) -> None:
    """The sentence, to the letter."""
    with pytest.raises(BadInput) as problem:
        call(*arguments, **more)
    assert str(problem.value) == said


@pytest.mark.parametrize(("how", "want"), [("maximum", [5, 9]), ("minimum", [1, 2]), ("average", [3, 5])])
def test_control_points_taken_as_one(how: str, want: list[float]) -> None:
    made = combined(np.array([[1.0, 9.0], [3.0, 4.0], [5.0, 2.0]]), how)
    assert isinstance(made, np.ndarray) and made.tolist() == want


# --- tables ------------------------------------------------------------------------------------------------------------


def rounded(profile: SineProfile, f: list[float], digits: int = 3) -> Table:
    a = [float(f"{x:.{digits}g}") for x in profile.acceleration(np.array(f))]
    return Table(np.array(f), np.array(a), "acceleration")


def test_three_laws_and_both_crossovers_are_found_in_rounded_breakpoints() -> None:
    true = solve(5, 500, [Segment("displacement", 0.015), Segment("velocity", 0.25), Segment("acceleration", 42.0)])
    c1, c2 = true.crossovers
    assert (c1, c2) == (pytest.approx(0.25 / (0.0075 * 2 * math.pi)), pytest.approx(42 / (0.25 * 2 * math.pi)))
    made = recognise(rounded(true, [5, float(f"{c1:.3g}"), 12, float(f"{c2:.3g}"), 100, 500]))
    assert [(s.law, s.value, s.until) for s in made.segments] == [
        ("displacement", pytest.approx(0.015, rel=2e-3), None), ("velocity", 0.25, None), ("acceleration", 42.0, None)]
    assert made.constants == 3 and made.profile.crossovers == pytest.approx((c1, c2), rel=2e-3)
    assert np.max(np.abs(made.difference)) < 1.0 and np.any(made.difference != 0)
    assert made.difference[-1] == pytest.approx(0, abs=1e-9)


def test_a_line_between_two_levels_stays_one() -> None:
    made = recognise(Table(np.array([10.0, 50, 100, 400]), np.array([10.0, 10, 35, 35]), "acceleration"))
    assert [(s.law, s.value, s.until) for s in made.segments] == [
        ("acceleration", 10.0, 50.0), ("line", None, 100.0), ("acceleration", 35.0, None)]
    assert made.constants == 2 and made.profile.crossovers == () and np.allclose(made.difference, 0)


def test_levels_of_one_law_that_differ_are_kept_as_they_are_written() -> None:
    made = recognise(Table(np.array([10.0, 20, 40]), np.array([10.0, 10, 10.9]), "acceleration"))
    assert [(s.law, s.value, s.until) for s in made.segments] == [
        ("acceleration", pytest.approx(10.0), 20.0), ("acceleration", pytest.approx(math.sqrt(109)), None)]
    close = recognise(Table(np.array([10.0, 20, 40]), np.array([10.0, 10, 10.7]), "acceleration"))
    assert [(s.law, s.until) for s in close.segments] == [("acceleration", None)] and close.constants == 1
    two = recognise(Table(np.array([10.0, 20, 40, 80]), np.array([0.010, 0.0100, 0.0109, 0.0109]), "displacement"))
    assert [(s.law, s.until) for s in two.segments] == [("displacement", 20.0), ("displacement", 40.0),
                                                        ("displacement", None)]  # fmt: skip
    assert [s.value for s in two.segments] == pytest.approx([0.01, math.sqrt(109e-6), 0.0109])


@pytest.mark.parametrize(("values", "want"), [([9.8, 9.85], 9.8), ([9.8066, 9.8066], 9.8066), ([9.76, 9.87], 9.8),
                                              ([9.80665012, 9.80665012], 9.80665)])  # fmt: skip
def test_a_constant_gets_as_few_digits_as_its_spread_allows(values: list[float], want: float) -> None:
    made = recognise(Table(np.array([10.0, 20]), np.array(values), "acceleration"))
    assert made.segments[0].value == want


@pytest.mark.parametrize("f", [50.0, 60.0])
@pytest.mark.parametrize(("kind", "power", "law"), [("displacement", 2, 0.5), ("velocity", 1, 1.0), ("acceleration", 0, 1.0)])
def test_values_as_accelerations(f: float, kind: str, power: int, law: float) -> None:
    made = accelerations(Table(np.array([f]), np.array([0.3]), kind))
    assert made == pytest.approx([0.3 * law * (2 * np.pi * f) ** power])


@pytest.mark.parametrize(("slope", "law"), [(0.14, "acceleration"), (0.16, None), (0.86, "velocity"), (0.84, None),
                                            (1.14, "velocity"), (1.86, "displacement"), (2.16, None), (-0.16, None)])
def test_how_near_a_slope_must_be_to_a_law(slope: float, law: str | None) -> None:
    table = Table(np.array([10.0, 11.0]), np.array([1.0, 1.1**slope]), "acceleration")
    if law is None:
        refused("No constant law is seen in this table: keep it as lines.", recognise, table)
    else:
        assert recognise(table).segments[0].law == law


def test_what_can_not_be_recognised() -> None:
    refused("A density is a random profile's: it has no constant laws to be recognised.", recognise,
            Table(np.array([10.0, 20]), np.array([1.0, 1]), "density"))  # fmt: skip
    refused("No constant law is seen in this table: keep it as lines.", recognise,
            Table(np.array([10.0, 20, 40, 80]), np.array([1.0, 1, 3, 9]), "acceleration"))  # fmt: skip


@pytest.mark.parametrize(("text", "unit", "f", "v", "kind"), [
    ("# made-up\nf [Hz]\ta [g]\n10,5\t1,5\n20\t2", None, [10.5, 20], [1.5 * G, 2 * G], "acceleration"),
    ("\ufeffHz; m/s\n10,5;1,5\n20;2", None, [10.5, 20], [1.5, 2], "velocity"),
    ("f [kHz], a (m/s²)\n0.01, 1.5\n0.02, 2", None, [10, 20], [1.5, 2], "acceleration"),
    ("10,5 1,5\n20 2", "mm", [10.5, 20], [1.5e-3, 2e-3], "displacement"),
    ("10 2\n20,5 1,5\n30 3", "mm", [10, 20.5, 30], [2e-3, 1.5e-3, 3e-3], "displacement"),
    ("10, 1.5\n20,2", "m/s", [10, 20], [1.5, 2], "velocity"),
    ("10.5 1.5\n20 2", "g^2/Hz", [10.5, 20], [1.5 * G * G, 2 * G * G], "density"),
    ("10.5, 1.5\n20, 2", "m/s", [10.5, 20], [1.5, 2], "velocity"),
    ("10.5,1.5\n20,2", "m/s", [10.5, 20], [1.5, 2], "velocity"),
    ("f [Hz]; a [g]\n10; 1\n20; 2", "m/s^2", [10, 20], [1, 2], "acceleration"),
    ("frequency Hz  level (g)\n10  1\n20  2", None, [10, 20], [G, 2 * G], "acceleration"),
])  # fmt: skip
def test_tables_as_people_paste_them(text: str, unit: str | None, f: list[float], v: list[float], kind: str) -> None:
    made = read_table(text, unit)
    assert made.kind == kind and made.frequency == pytest.approx(f) and made.value == pytest.approx(v)


@pytest.mark.parametrize(("text", "unit", "said"), [
    ("", "g", "The table is empty: paste two columns, frequency and value."),
    ("# only this\n\n", "g", "The table is empty: paste two columns, frequency and value."),
    ("f [Hz] a [g]\n10 1\n20 two\n30 3", None, "Line 3, '20 two': two numbers are wanted here: mend it."),
    ("10 1\n20\n30 3", "g", "Line 2, '20': two numbers are wanted here: mend it."),
    ("f [Hz] a [g]\n10 1", None,
     "The table has fewer than two rows of numbers: paste two columns, frequency and value."),
    ("10 1\n20 2", None, "The table has no unit: write it in the header, like 'Hz; g', or choose one."),
    ("f [Hz]\n10 1\n20 2", None, "'f [Hz]': its units are not understood: write them like 'f [Hz]; a [g]'."),
    ("10 1\n20 2", "V", "'V' is no acceleration, velocity, displacement or density: choose another unit."),
    ("20 1\n10 2", "g", "The table's frequencies must be above zero and rise, and its values be above zero."),
    ("10 1\n10 2", "g", "The table's frequencies must be above zero and rise, and its values be above zero."),
    ("0 1\n10 2", "g", "The table's frequencies must be above zero and rise, and its values be above zero."),
    ("10 1 5\n20 2", "g", "Line 2, '20 2': it has 2 columns, the first row 3: mend it."),
    ("10 0\n20 2", "g", "The table's frequencies must be above zero and rise, and its values be above zero."),
])  # fmt: skip
def test_tables_that_are_refused(text: str, unit: str | None, said: str) -> None:
    refused(said, read_table, text, unit)


# --- sine --------------------------------------------------------------------------------------------------------------

A, D, LINE = Segment("acceleration", 10.0), Segment("displacement", 0.01), Segment("line", None, 50.0)


@pytest.mark.parametrize(("segments", "said"), [
    ([], "segments: there is none: give at least one, like {acceleration: 10 m/s^2}."),
    ([Segment("acceleration", 0.0)], "segments, 1: the acceleration must be above zero."),
    ([Segment("acceleration", -1.0)], "segments, 1: the acceleration must be above zero."),
    ([Segment("acceleration", 10.0, 90.0)], "segments, 1: the last one ends at 90 Hz, but stop is 100 Hz."),
    ([A, LINE, A], "segments, 1: before a line it needs 'until', where the line begins."),
    ([A, Segment("acceleration", 20.0)],
     "segments, 1: two segments of constant acceleration never cross: give the first 'until'."),
    ([LINE, A], "segments, 1: a line needs a constant segment on either side."),
    ([Segment("acceleration", 10.0, 20.0), LINE], "segments, 2: a line needs a constant segment on either side."),
    ([Segment("acceleration", 10.0, 20.0), LINE, Segment("line", None, 80.0), A],
     "segments, 2: a line needs a constant segment on either side."),
    ([Segment("acceleration", 10.0, 20.0), Segment("line"), A], "segments, 2: a line needs 'until', where it ends."),
    ([Segment("acceleration", 10.0, 4.0), D], "segments, 1: it ends at 4 Hz, outside 5 Hz to 100 Hz: mend its value or"
     " its 'until'."),
    ([Segment("acceleration", 10.0, 100.0), D], "segments, 1: it ends at 100 Hz, outside 5 Hz to 100 Hz: mend its value"
     " or its 'until'."),
    ([Segment("acceleration", 10.0, 5.0), D], "segments, 1: it ends at 5 Hz, outside 5 Hz to 100 Hz: mend its value or"
     " its 'until'."),
    ([Segment("displacement", 0.1), A], "segments, 1: it crosses the next law at 2.251 Hz, outside 5 Hz to 100 Hz: mend"
     " its value or its 'until'."),
])  # fmt: skip
def test_segments_that_can_not_be(segments: list[Segment], said: str) -> None:
    refused(said, solve, 5, 100, segments)


@pytest.mark.parametrize("ends", [(0, 10), (10, 10), (20, 10), (5, math.inf), (-1, 10)])
def test_ends_that_can_not_be(ends: tuple[float, float]) -> None:
    start, stop = ends
    refused(f"start, stop: {start:g} Hz to {stop:g} Hz: start must be above zero and below stop.", solve, *ends, [A])


def test_a_profile_with_a_line_and_bands() -> None:
    bands = Band(Side(-3, "db"), Side(10, "percent"))
    made = solve(5, 100, [Segment("displacement", 0.01, 20.0, bands), LINE,
                          Segment("acceleration", 40.0, 100.0, None, Band(None, Side(50, "absolute")))])  # fmt: skip
    low = 0.005 * (2 * math.pi * 20) ** 2
    assert made.acceleration(np.array([20.0, 50.0, 70.0])) == pytest.approx([low, 40, 40])
    assert float(np.ravel(made.acceleration(math.sqrt(1000)))[0]) == pytest.approx(math.sqrt(low * 40))
    lo, hi = made.edges(np.array([10.0, 30.0]), "tolerance")
    at = 0.005 * (2 * math.pi * 10) ** 2
    assert lo == pytest.approx([at * 10 ** (-3 / 20), 0]) and hi == pytest.approx([at * 1.1, np.inf])
    assert made.edges(np.array([70.0]), "abort")[1] == pytest.approx([50])
    assert made.peak("acceleration") == (pytest.approx(low), 20.0)
    assert made.peak("displacement") == (pytest.approx(0.01), pytest.approx(5)) and made.peak("velocity")[1] == 20.0
    assert made.peak("velocity")[0] == pytest.approx(low / (2 * math.pi * 20))
    assert made.level_at(1.0) == pytest.approx(float(np.ravel(made.acceleration(5.0))[0]))
    assert made.velocity(np.array([70.0])) == pytest.approx([40 / (2 * math.pi * 70)])
    assert made.displacement(np.array([70.0])) == pytest.approx([80 / (2 * math.pi * 70) ** 2])
    grid = made.grid(12)
    assert grid[0] == 5 and grid[-1] == 100 and {20.0, 50.0} <= set(grid.tolist())
    assert grid.size == math.ceil(12 * math.log2(20)) + 1 + 2 and made.grid().size == math.ceil(24 * math.log2(20)) + 3
    assert made.scaled(0.5).acceleration(np.array([70.0])) == pytest.approx([20])
    assert crossover(A, Segment("acceleration", 3.0)) is None


def test_where_an_abort_edge_lies_inside_the_tolerance() -> None:
    f = np.array([10.0, 20.0, 30.0, 40.0])
    wide = (np.full(4, 1.0), np.full(4, 10.0))
    assert abort_inside(f, wide, (np.full(4, 1.0), np.full(4, 10.0))) is None
    assert abort_inside(f, wide, (np.array([0, 1.1, 1.0, 0]), np.array([11, 11, 9.9, 11.0]))) == (20.0, 30.0)
    free = (np.zeros(4), np.full(4, np.inf))
    assert abort_inside(f, free, (np.full(4, 5.0), np.full(4, 6.0))) is None
    assert abort_inside(f, wide, free) is None


# --- random ------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("points", "rms", "said"), [
    ([Point(10, 1.0)], None, "points: a random profile needs at least two."),
    ([Point(0, 1.0), Point(20, 1.0)], None, "points, 1: 0 Hz: frequencies must be above zero and rise."),
    ([Point(20, 1.0), Point(20, 1.0)], None, "points, 2: 20 Hz: frequencies must be above zero and rise."),
    ([Point(10, 1.0), Point(20, 1.0, 3.0)], None,
     "points, 2: give its density, or its slope from the point before; not both."),
    ([Point(10, 1.0), Point(20)], None, "points, 2: give its density, or its slope from the point before; not both."),
    ([Point(10, 0.0), Point(20, 1.0)], None, "points, 1: the density must be above zero."),
    ([Point(10, None, 3.0), Point(20, 1.0)], None,
     "points, 1: the first point needs a density; a slope needs a point before it."),
    ([Point(10, 1.0), Point(20, 1.0)], 0.0, "rms: it must be above zero."),
])  # fmt: skip
def test_points_that_can_not_be(points: list[Point], rms: float | None, said: str) -> None:
    refused(said, solve_random, points, rms)


def test_a_random_profile_by_its_laws() -> None:
    band = Band(Side(-3, "db"), Side(1.5, "db"))
    made = solve_random([Point(10, 2.0, tolerance=band), Point(40, None, -3.0), Point(80, 0.5, None, None, band)])
    assert made.densities == pytest.approx((2.0, 2.0 * 4 ** (-3 / (10 * math.log10(2))), 0.5), rel=1e-9)
    assert made.density(np.array([9.9, 10, 80, 80.1])) == pytest.approx([0, 2, 0.5, 0])
    f = np.geomspace(10, 80, 200_001)
    for power in (0, -2, -4):
        exact = np.trapezoid(made.density(f) * (2 * np.pi * f) ** power, f)
        assert made.mean_square(power) == pytest.approx(float(exact), rel=1e-6)
    assert made.rms("velocity") == pytest.approx(math.sqrt(made.mean_square(-2)))
    low, high = made.edges(np.array([20.0, 60.0]), "tolerances")
    d = float(made.density(np.array([20.0]))[0])
    assert low == pytest.approx([d * 10**-0.3, 0]) and high == pytest.approx([d * 10**0.15, np.inf])
    assert made.edges(np.array([80.0, 500.0]), "aborts")[0] == pytest.approx([0.5 * 10**-0.3, 0])
    assert made.edges(np.array([1.0]), "tolerances")[0] == pytest.approx([0])
    grid = made.grid(6)
    assert grid[0] == 10 and grid[-1] == 80 and 40.0 in grid and grid.size == 18 + 1
    assert made.grid().size == 73
    locked = solve_random([Point(10, 2.0), Point(80, 2.0)], 7.0)
    assert locked.rms() == pytest.approx(7.0) and locked.densities[0] == pytest.approx(49 / 70)
    flat = solve_random([Point(10, 1.0), Point(20, 0.5)])  # falls as 1/f: the integral is a logarithm
    assert flat.mean_square() == pytest.approx(10 * math.log(2))


# --- files -------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("part", "want"), [
    ({"rate": "1 oct/min"}, 1 / 60), ({"rate": 2}, 2 / 60), ({"rate": "3"}, 3 / 60), ({"rate": "0.1 oct/s"}, 0.1),
    ({"rate": "1 dec/min"}, math.log2(10) / 60), ({"rate": "2 decade/s"}, 2 * math.log2(10)),
    ({"law": "linear", "rate": "3 Hz/s"}, 3), ({"law": "linear", "rate": 4}, 4), ({}, None),
    ({"law": "linear", "rate": "60 Hz/min"}, 1),
])  # fmt: skip
def test_rates_in_words(part: dict[str, Any], want: float | None) -> None:
    made = SweepPart(**part).rate_si()
    assert made is None if want is None else made == pytest.approx(want, rel=1e-12)


@pytest.mark.parametrize("part", [{"rate": "1 Hz/s"}, {"law": "linear", "rate": "1 oct/min"}, {"rate": "1 dec/Hz"}])
def test_a_rate_in_another_unit_is_refused_by_its_name(part: dict[str, Any]) -> None:
    with pytest.raises(BadInput, match=r"^sweep\.rate"):
        SweepPart(**part).rate_si()


def test_edges_in_words() -> None:
    made = BandPart(low="-3 dB", high="10 %").band("acceleration", "x")
    assert made == Band(Side(-3, "db"), Side(10, "percent"))
    assert BandPart(low=-2, high="2 g").band("acceleration", "x") == Band(Side(-2, "db"), Side(2 * G, "absolute"))
    assert BandPart(high="5 mm").band("displacement", "x") == Band(None, Side(0.005, "absolute"))
    assert BandPart(low="1 (m/s^2)^2/Hz").band("density", "x").low == Side(1, "absolute")
    with pytest.raises(BadInput, match=r"^segments, 1, abort\.high"):
        BandPart(high="5 mm").band("acceleration", "segments, 1, abort")
    with pytest.raises(BadInput, match=r"^segments, 1, abort\.low"):
        BandPart(low="5 mm").band("acceleration", "segments, 1, abort")


@pytest.mark.parametrize(("slope", "want"), [(3, 3.0), ("-3 dB/oct", -3), ("6 dB/octave", 6), ("2", 2), (None, None),
                                             ("1 DB / oct", 1)])  # fmt: skip
def test_slopes_in_words(slope: Any, want: float | None) -> None:
    assert PointPart(frequency=10, slope=slope).slope_si("points, 2, slope") == want


def test_a_slope_in_another_unit_is_refused() -> None:
    refused("points, 2, slope: '3 dB/dec': a slope is in dB/oct.",
            PointPart(frequency=10, slope="3 dB/dec").slope_si, "points, 2, slope")  # fmt: skip


def sine(**more: Any) -> SineFile:
    return SineFile(start=10, stop=80, segments=[{"acceleration": "10 m/s^2"}], **more)


def test_the_time_of_a_sine_profile() -> None:
    assert sine().sweeping() is None
    refused("sweep: give its law and rate or duration, so that the course is known.", sine(sweeps=2).sweeping)
    refused("sweep: give its law and rate or duration, so that the course is known.", sine(total=60).sweeping)
    refused("sweep: give its law and rate or duration, so that the course is known.", sine(cycles=60).sweeping)
    made = sine(sweeps=3, total="90 s").sweeping()
    assert made is not None and (made.count, made.total, made.one.duration) == (3, 90, 30)
    assert (made.one.start, made.one.stop, made.one.law, made.direction) == (10, 80, "log", "up")
    rate = sine(sweep={"law": "linear", "rate": "7 Hz/s", "direction": "both"}, total=25).sweeping()
    assert rate is not None and (rate.one.duration, rate.count, rate.total) == (10, 2.5, 25)
    assert (rate.one.law, rate.direction) == ("linear", "both")
    whole = sine(sweep={"duration": "10 s"}, total=24, fit="whole").sweeping()
    assert whole is not None and (whole.count, whole.total) == (2, 20)
    twice = sine(sweep={"rate": "1 oct/min"}, sweeps=2).sweeping()
    assert twice is not None and twice.total == pytest.approx(360)
    cycles = sine(sweep={"duration": "10 s"}, cycles=1000).sweeping()
    assert cycles is not None and cycles.total == pytest.approx(1000 * math.log(8) / 70)


def test_bands_of_a_file_hold_for_its_parts_unless_they_have_their_own() -> None:
    made = SineFile(start=10, stop=80, tolerance={"low": -3, "high": 3}, abort={"high": "6 dB"}, segments=[
        {"displacement": "4 mm", "tolerance": {"high": "1 dB"}}, {"acceleration": "1 g"}]).solved()  # fmt: skip
    assert [p.tolerance for p in made.pieces] == [Band(None, Side(1, "db")), Band(Side(-3, "db"), Side(3, "db"))]
    assert [p.abort for p in made.pieces] == [Band(None, Side(6, "db"))] * 2
    assert [p.law for p in made.pieces] == ["displacement", "acceleration"] and made.pieces[1].level == pytest.approx(G)
    with pytest.raises(BadInput, match=r"^segments, 2, abort\.high"):
        SineFile(start=10, stop=80, segments=[{"displacement": "10 mm"}, {"acceleration": "1 g", "abort": {
            "high": "1 mm"}}]).solved()  # fmt: skip
    random = RandomFile(kind="random", tolerance={"low": -3}, points=[
        {"frequency": 10, "density": 1, "abort": {"high": "6 dB"}}, {"frequency": 20, "slope": "3 dB/oct"}])
    held = random.solved()
    assert held.tolerances == (Band(Side(-3, "db"), None),) * 2 and held.aborts == (Band(None, Side(6, "db")), None)
    assert held.densities[1] == pytest.approx(10**0.3)
    with pytest.raises(BadInput, match=r"^points, 2, tolerance\.low"):
        RandomFile(kind="random", points=[{"frequency": 10, "density": 1}, {"frequency": 20, "density": 1, "tolerance": {
            "low": "1 mm"}}]).solved()  # fmt: skip
    with pytest.raises(BadInput, match=r"^points, 2, slope"):
        RandomFile(kind="random", points=[{"frequency": 10, "density": 1}, {"frequency": 20, "slope": "1 V"}]).solved()


def test_kinds_of_files(tmp_path: Path) -> None:
    assert isinstance(profile_of({"start": 5, "stop": 9, "segments": [{"acceleration": 1}]}, "p"), SineFile)
    assert isinstance(profile_of({"kind": "random", "points": []}, "p"), RandomFile)
    assert isinstance(profile_of({"kind": "time", "file": "a.csv"}, "p"), TimeFile)
    refused("p: a profile is wanted here: keys and values, 'kind: sine' among them.", profile_of, [], "p")
    refused("p: kind: it is missing: use sine, random or time.", profile_of, {"title": "x"}, "p")
    refused("p: kind: 'saw': use sine, random or time.", profile_of, {"kind": "saw"}, "p")
    place = tmp_path / "p.yaml"
    place.write_text("kind: saw\n", encoding="utf-8")
    refused(f"{place}: kind: 'saw': use sine, random or time.", load_profile, place)
    schema = json_schema()
    assert "lucid-anvil-profile" in str(schema) and {"SineFile", "RandomFile", "TimeFile"} <= set(schema["$defs"])


# --- records -----------------------------------------------------------------------------------------------------------


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    t = np.arange(4000) / 1000
    x = np.sin(2 * np.pi * 20 * t)
    (tmp_path / "r.csv").write_text("# rate_hz=1000\na [g]\n" + "".join(f"{v:.9f}\n" for v in x), encoding="utf-8")
    (tmp_path / "two.csv").write_text(
        "# rate_hz=1000\na [m/s²],b [V]\n" + "".join(f"{v:.9f},{2 * v:.9f}\n" for v in x), encoding="utf-8")
    return tmp_path


def driven(folder: Path, file: str = "r.csv", **more: Any) -> Any:
    return prepare_history(TimeFile(kind="time", file=file, compensate=False, **more), folder)[0]


def test_a_record_is_cut_scaled_and_left_alone_as_chosen(folder: Path) -> None:
    x = np.sin(2 * np.pi * 20 * np.arange(4000) / 1000)
    made = driven(folder)
    assert made.after.acceleration == pytest.approx(G * x, abs=1e-7) and made.after.rate == 1000
    assert made.before is made.after and made.high_pass == 0.0 and made.notes == ("Not compensated, as chosen.",)
    assert driven(folder, scale=3.0).after.acceleration == pytest.approx(3 * G * x, abs=1e-6)
    cut = driven(folder, cut={"start": 0.5, "stop": 1.25}).after.acceleration
    assert cut == pytest.approx(G * x[500:1250], abs=1e-7)
    assert driven(folder, cut={"start": 3}).after.acceleration.size == 1000
    assert driven(folder, str(folder / "r.csv")).after.acceleration.size == 4000
    assert driven(folder, "two.csv", channel="a").after.acceleration == pytest.approx(x, abs=1e-7)
    assert driven(folder, "two.csv", channel=2, unit="m/s^2").after.acceleration == pytest.approx(2 * x, abs=1e-7)
    assert driven(folder, unit="m/s^2").after.acceleration == pytest.approx(x, abs=1e-7)


def test_a_record_is_resampled_filtered_and_tapered_in_this_order(folder: Path) -> None:
    x = G * np.sin(2 * np.pi * 20 * np.arange(4000) / 1000)
    wanted = history.resample(x, 1000, 500)
    made = driven(folder, resample=500)
    assert made.after.rate == 500 and made.after.acceleration == pytest.approx(wanted, abs=1e-6)
    low = driven(folder, low_pass=100).after.acceleration
    assert low == pytest.approx(history.zero_phase(x, 1000, None, 100), abs=1e-6)
    high = driven(folder, high_pass=10)
    assert high.high_pass == 10 and high.after.acceleration == pytest.approx(
        history.zero_phase(x, 1000, 10, None), abs=1e-6)  # fmt: skip
    assert driven(folder, taper=0.2).after.acceleration == pytest.approx(history.taper(x, 1000, 0.2), abs=1e-6)
    all_of = driven(folder, resample=500, low_pass=100, taper=0.2, high_pass=10).after.acceleration
    step = history.taper(history.zero_phase(wanted, 500, None, 100), 500, 0.2)
    assert all_of == pytest.approx(history.zero_phase(step, 500, 10, None), abs=1e-6)
    held, channel = prepare_history(TimeFile(kind="time", file="r.csv", high_pass=5, stroke="2 mm"), folder)
    again = history.compensate(x, 1000, 5, 0.002)
    assert held.after.acceleration == pytest.approx(again.after.acceleration, abs=1e-6) and channel.label == "a"
    assert held.high_pass == again.high_pass


@pytest.mark.parametrize(("file", "more", "said"), [
    ("two.csv", {}, "two.csv: it has 2 channels: say channel, one of a, b."),
    ("two.csv", {"channel": "b"}, "two.csv: 'V' is no acceleration: say its unit, like 'unit: m/s^2'."),
    ("r.csv", {"unit": "mm"}, "r.csv: 'mm' is no acceleration: say its unit, like 'unit: m/s^2'."),
    ("r.csv", {"cut": {"start": 1, "stop": 4.5}}, "cut: 1 s to 4.5 s is not within the record's 4 s."),
    ("r.csv", {"cut": {"start": 2, "stop": 2}}, "cut: 2 s to 2 s is not within the record's 4 s."),
    ("r.csv", {"cut": {"start": -1, "stop": 2}}, "cut: -1 s to 2 s is not within the record's 4 s."),
    ("r.csv", {"cut": {"start": 5}}, "cut: 5 s to 4 s is not within the record's 4 s."),
    ("r.csv", {"low_pass": 500}, "low_pass: 500 Hz is not below half the rate, 500 Hz."),
    ("r.csv", {"low_pass": 300, "resample": 500}, "low_pass: 300 Hz is not below half the rate, 250 Hz."),
])  # fmt: skip
def test_records_that_can_not_be_driven(folder: Path, file: str, more: dict[str, Any], said: str) -> None:
    refused(said, driven, folder, file, **more)
