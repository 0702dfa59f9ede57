"""A profile as a table of breakpoints: what a typed cell makes of it, and a course changed by its menu."""

from __future__ import annotations

import copy
from typing import Any

import numpy as np
import pytest

from lucid_anvil.core.errors import BadInput
from lucid_anvil.desktop.parts import course_menu
from lucid_anvil.domains.shaker import breakpoints as bp
from lucid_anvil.domains.shaker.profiles import BandPart

SINE: dict[str, Any] = {
    "kind": "sine", "start": "8 Hz", "stop": "400 Hz",
    "segments": [{"displacement": "4.4 mm"}, {"acceleration": "11 m/s^2", "until": "47 Hz"},
                 {"line": True, "until": "80 Hz"}, {"acceleration": "32 m/s^2"}],
    "sweep": {"law": "log", "rate": "1 oct/min"}, "tolerance": {"low": "-3 dB", "high": "3 dB"},
}  # fmt: skip
RANDOM: dict[str, Any] = {
    "kind": "random",
    "points": [{"frequency": "20 Hz", "density": "0.5 (m/s^2)^2/Hz"}, {"frequency": "500 Hz", "slope": "-3 dB/oct"}],
}  # fmt: skip


def cells(data: dict[str, Any]) -> list[tuple[str, str, str]]:
    return [(r.frequency, r.level, r.law) for r in bp.rows(data)]


def test_rows_say_what_was_typed_and_what_follows() -> None:
    made = bp.rows(SINE)
    assert [r.frequency for r in made] == ["8", "11.254", "47", "80", "400"]
    # Where 4.4 mm peak to peak meets 11 m/s²: sqrt(2·11/0.0044)/(2π).
    assert float(made[1].frequency) == pytest.approx(np.sqrt(2 * 11 / 4.4e-3) / (2 * np.pi), rel=1e-4)
    assert [r.typed for r in made] == [True, False, True, True, True]
    assert [r.level_typed for r in made] == [True, True, False, True, False]
    assert made[0].level == "4.4 mm pk-pk" and made[4].level == "32 m/s²" and made[4].law == ""
    assert [r.law for r in bp.rows(RANDOM)] == ["−3.0 dB/oct", ""]
    assert bp.rows(RANDOM)[1].level == "0.02022 (m/s²)²/Hz"  # 0.5 by -13.93 dB


@pytest.mark.parametrize(
    ("change", "rows"),
    [
        (lambda: bp.with_level(SINE, 1, "1 g"), {1: ("10.626", "9.807 m/s²", "acceleration")}),
        (lambda: bp.with_level(SINE, 3, "+6 dB"), {3: ("80", "63.85 m/s²", "acceleration")}),
        (lambda: bp.with_level(SINE, 3, "0.1 m/s"), {3: ("80", "0.1 m/s", "velocity")}),
        (lambda: bp.with_frequency(SINE, 1, "12 Hz"), {1: ("12", "11 m/s²", "acceleration")}),
        (lambda: bp.with_frequency(SINE, 4, "1 kHz"), {4: ("1000", "32 m/s²", "")}),
        (lambda: bp.with_law(SINE, 1, "velocity"), {1: ("11.254", "0.1556 m/s", "velocity")}),
        (lambda: bp.with_law(bp.added(SINE, 3), 3, "line"), None),
        (lambda: bp.added(SINE, 3), {4: ("179", "32 m/s²", "acceleration"), 5: ("400", "32 m/s²", "")}),
        (lambda: bp.removed(bp.added(SINE, 3), 3), {4: ("400", "32 m/s²", "")}),
        (lambda: bp.with_level(RANDOM, 1, "0.01 g^2/Hz"), {1: ("500", "0.9617 (m/s²)²/Hz", "")}),
        (lambda: bp.added(RANDOM, 0), {1: ("100", "0.1006 (m/s²)²/Hz", "−3.0 dB/oct")}),
    ],
)
def test_a_typed_cell_changes_its_own_row(change: Any, rows: Any) -> None:
    before = copy.deepcopy((SINE, RANDOM))
    if rows is None:
        with pytest.raises(BadInput, match="line"):
            change()
    else:
        made = cells(change())
        assert {i: made[i] for i in rows} == rows
    assert before == (SINE, RANDOM)


def test_a_breakpoint_more_leaves_the_curve_as_it_is() -> None:
    for data in (SINE, RANDOM):
        a, b = bp.file_of(data).solved(), bp.file_of(bp.added(data, 0)).solved()
        f = a.grid()
        value = "density" if "points" in data else "acceleration"
        assert getattr(b, value)(f) == pytest.approx(getattr(a, value)(f), rel=2e-4)


@pytest.mark.parametrize(
    ("change", "why"),
    [
        (lambda: bp.with_level(SINE, 0, "4"), "no unit"), (lambda: bp.with_level(SINE, 0, "4 N"), "no acceleration"),
        (lambda: bp.with_level(SINE, 2, "3 dB"), "line goes"), (lambda: bp.with_level(SINE, 4, "1 g"), "last row"),
        (lambda: bp.with_level(RANDOM, 0, "1 m/s^2"), "no density"), (lambda: bp.with_frequency(SINE, 4, "5 Hz"), "below stop"),
        (lambda: bp.with_frequency(SINE, 1, "3 g"), "frequency"), (lambda: bp.removed(RANDOM, 0), "two breakpoints"),
        (lambda: bp.with_band(SINE, "tolerance", "3"), "dB or %"), (lambda: bp.with_band(SINE, "abort", "2 dB / 1 dB"), "lower edge"),
        (lambda: bp.with_rms(RANDOM, "2"), "no unit"), (lambda: bp.with_rms(RANDOM, "0 g"), "above zero"),
        (lambda: bp.with_sweep(SINE, "rate", "3 m"), "rate"),
    ],
)  # fmt: skip
def test_what_can_not_be_is_said(change: Any, why: str) -> None:
    with pytest.raises(BadInput, match=why):
        change()


@pytest.mark.parametrize(
    ("text", "band", "shown"),
    [
        ("3 dB", {"low": "-3 dB", "high": "3 dB"}, "±3 dB"), ("+-10 %", {"low": "-10 %", "high": "10 %"}, "±10 %"),
        ("−1/+2 dB", {"low": "-1 dB", "high": "2 dB"}, "−1 dB / +2 dB"), ("none / 3 dB", {"high": "3 dB"}, "none / +3 dB"),
        ("5 m/s^2 / 9 m/s^2", {"low": "5 m/s^2", "high": "9 m/s^2"}, "5 m/s^2 / 9 m/s^2"), ("", None, ""),
    ],
)  # fmt: skip
def test_bands_as_people_type_them(text: str, band: Any, shown: str) -> None:
    assert bp.band_typed(text) == band
    assert bp.band_text(None if band is None else BandPart(**band)) == shown
    assert bp.band_typed(shown) == band


def test_a_band_holds_for_the_whole_or_for_one_row() -> None:
    made = bp.with_tolerance(bp.with_band(SINE, "abort", "±6 dB"), 1, "-1 dB / 2 dB")
    low, high = bp.file_of(made).solved().edges(np.array([9.0, 30.0]), "tolerance")
    target = bp.file_of(made).solved().acceleration(np.array([9.0, 30.0]))
    assert 20 * np.log10(low / target) == pytest.approx([-3, -1]) and 20 * np.log10(high / target) == pytest.approx(
        [3, 2]
    )
    assert "tolerance" not in bp.with_tolerance(made, 1, "")["segments"][1] and "abort" not in bp.with_band(
        made, "abort", ""
    )


def test_of_rate_and_duration_the_other_follows() -> None:
    assert bp.sweep_texts(SINE) == {"law": "log", "rate": "1 oct/min", "duration": "338.63 s"}  # log2(50) min
    made = bp.with_sweep(SINE, "duration", "2 min")
    assert made["sweep"] == {"law": "log", "duration": "2 min"} and bp.sweep_texts(made)["rate"] == "2.822 oct/min"
    assert bp.with_sweep(made, "rate", "2 oct/min")["sweep"] == {"law": "log", "rate": "2 oct/min"}
    linear = bp.sweep_texts(bp.with_sweep(SINE, "law", "linear"))
    assert linear["duration"] == "338.63 s" and linear["rate"] == "1.158 Hz/s"


def test_a_course_is_added_to_moved_and_thinned() -> None:
    course = course_menu.course_in({}, "sine-sweep")
    assert course == [{"sweep": "up"}]
    course = course_menu.added(course, {"pause": "5 s"})
    course = course_menu.added(course, course[0], 0)
    assert [course_menu.kind_of(s) for s in course] == ["sweep", "sweep", "pause"]
    assert course_menu.moved(course, 2, -1)[1] == {"pause": "5 s"}
    for bad in (lambda: course_menu.moved(course, 0, -1), lambda: course_menu.without([{"sweep": "up"}], 0)):
        with pytest.raises(BadInput, match="course"):
            bad()
    assert course_menu.without(course, 1) == [{"sweep": "up"}, {"pause": "5 s"}]


def test_densities_stand_in_the_table_without_their_unit(qtbot: Any) -> None:
    from lucid_anvil.domains.shaker.window.profile_table import LEVEL, ProfileTable

    table = ProfileTable()
    qtbot.addWidget(table)
    made: list[Any] = []
    table.edited.connect(made.append)
    table.show_profile(RANDOM, "")
    assert table.table.item(0, LEVEL).text() == "0.5"
    assert table.table.horizontalHeaderItem(LEVEL).text() == "(m/s²)²/Hz"
    table.table.item(0, LEVEL).setText("0.25")
    assert bp.rows(made[-1])[0].level == "0.25 (m/s²)²/Hz"
    table.table.item(0, LEVEL).setText("0.01 g^2/Hz")
    assert bp.rows(made[-1])[0].level == "0.9617 (m/s²)²/Hz"
