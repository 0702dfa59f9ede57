"""A sheet's settings: what a step may say, what is refused in a sentence, and the single readings that they come to."""

from __future__ import annotations

import math
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lucid_anvil.contracts.settings import check
from lucid_anvil.core.errors import BadInput
from lucid_anvil.domains.amplifier.planning import sheet_steps
from lucid_anvil.domains.amplifier.sheet_settings import (
    PRECONDITION,
    Drive,
    SheetSettings,
    SupplyWindow,
    duration,
    tasks,
)
from lucid_anvil.lab.plans import Plan


def one(**more: Any) -> dict[str, Any]:
    return {"method": "output-gain", "name": "gain", "drive": {"power": "1 W"}, **more}


def sheet(*steps: dict[str, Any], **more: Any) -> SheetSettings:
    given_ = {
        "channels": ["A", "B"],
        "loads": ["8 ohm", 4],
        "rated": {"8 ohm": "40 W", 4: 60},
        "steps": list(steps),
        **more,
    }
    return check(SheetSettings, given_, "sheet")


@pytest.mark.parametrize(
    ("power", "rated", "watts"),
    [("1 W", None, 1.0), ("250 mW", None, 0.25), ("rated", 40.0, 40.0), ("0.5 rated", 60.0, 30.0), (2, None, 2.0)],
)
def test_powers_as_people_ask_for_them(power: Any, rated: float | None, watts: float) -> None:
    assert Drive(power=power).watts(rated) == pytest.approx(watts)


def test_a_share_of_nothing_is_refused() -> None:
    with pytest.raises(BadInput, match="no published power is given for this load"):
        Drive(power="0.5 rated").watts(None)


@pytest.mark.parametrize(
    ("step", "says"),
    [
        (one(drive={}), "give one of voltage, output, power, distortion or like"),
        (one(drive={"voltage": "1 V", "power": "1 W"}), "give one of voltage"),
        (one(drive={"voltage": "1 W"}), "drive.voltage"),
        (one(drive={"volts": "1 V"}), "did you mean 'voltage'"),
        (one(drive={"like": "gain"}), "refers to 'gain', which is no step before it"),
        (one(name="gain_1"), "letters, digits, blanks and hyphens only"),
        (one(loads=["8 W"]), "loads"),
        (one(driven="all"), "driven"),
        (one(ask={"text": "x", "knob": 2}), "ask.knob"),
        (one(series={"per_decade": 0}), "series.per_decade"),
        (one(tones=[]), "tones"),
        (one(mask={"x": [1.0], "low": [0.0], "high": [1.0]}), "two points at least"),
        (one(mask={"x": [1, 2], "low": [0.0], "high": [1.0, 1.0]}), "one a place"),
        (one(mask={"x": [2, 1], "low": [0, 0], "high": [1, 1]}), "x must rise"),
        (one(mask={"x": [1, 2], "low": [0, 2], "high": [1, 1]}), "low must not be above high"),
    ],
)
def test_a_step_that_can_not_be_is_refused_in_a_sentence(step: dict[str, Any], says: str) -> None:
    with pytest.raises(BadInput, match=says) as refused:
        sheet(step)
    assert "\n" not in str(refused.value)


def test_two_steps_of_one_name_and_a_channel_that_is_not_there() -> None:
    with pytest.raises(BadInput, match="two steps have the name 'gain'"):
        sheet(one(), one())
    with pytest.raises(BadInput, match="there is no channel 'C'"):
        tasks(sheet(one(channels=["C"])))
    with pytest.raises(BadInput, match="there is no reading 'gain_C_8'"):
        tasks(sheet(one(), only=["gain_C_8"]))


def test_readings_are_laid_out_so_that_loads_change_seldom() -> None:
    made = tasks(sheet(one(), one(name="half", tones=[100, "1 kHz"], loads=[8]), one(name="off", loads=["off"])))
    assert [t.key for t in made] == [
        "gain_A_8", "gain_B_8", "gain_A_4", "gain_B_4", "half_A_8_100Hz", "half_A_8_1000Hz", "half_B_8_100Hz",
        "half_B_8_1000Hz", "off_A_off", "off_B_off",
    ]  # fmt: skip
    assert [t.column for t in made[:3]] == ["A · 8 Ω", "B · 8 Ω", "A · 4 Ω"] and made[-1].column == "B"
    assert made[0].driven == ("A",)
    both = tasks(sheet(one(driven="both")))
    assert all(t.driven == ("A", "B") for t in both)
    # Spot tones of a response are one reading.
    spots = tasks(sheet({"method": "output-response", "name": "spots", "tones": [20, 1000], "drive": {"power": "1 W"}}))
    assert [t.key for t in spots] == ["spots_A_8", "spots_B_8", "spots_A_4", "spots_B_4"]


def test_loads_find_their_published_power_however_they_are_written() -> None:
    made = sheet(one())
    assert made.rated_at(8.0) == 40 and made.rated_at(4) == 60
    assert made.rated_at(2.0) is None and made.rated_at(None) is None


@given(st.floats(1.0, 400.0), st.floats(0.01, 20.0))
def test_the_supplys_window_lies_about_its_nominal_voltage(nominal: float, within: float) -> None:
    low, high = SupplyWindow(nominal=nominal, within=within).edges
    assert low < nominal < high and (high - low) / nominal == pytest.approx(within / 50)
    assert (low + high) / 2 == pytest.approx(nominal)


def test_only_takes_what_it_refers_to_with_it() -> None:
    steps = (one(name="power", drive={"distortion": "1 %"}), one(name="half", drive={"like": "power", "times": 0.5}),
             one(name="quarter", drive={"like": "half", "times": 0.5}))  # fmt: skip
    made = tasks(sheet(*steps, only=["quarter_B_4"]))
    assert [t.key for t in made] == ["power_B_4", "half_B_4", "quarter_B_4"]
    assert [t.key for t in tasks(sheet(*steps, only=["half_A_8", "half_B_8"]))] == [
        "power_A_8", "power_B_8", "half_A_8", "half_B_8",
    ]  # fmt: skip


def test_how_long_a_reading_takes_grows_with_what_it_does() -> None:
    def long(**more: Any) -> float:
        return duration(tasks(sheet(one(**more)))[0])

    assert long(read=2.0) == pytest.approx(long(read=1.0) + 1.0)
    assert long(drive={"voltage": "1 V"}) < long(drive={"power": "1 W"}) < long(drive={"distortion": "1 %"})
    once = long(drive={"voltage": "1 V"})
    # Load off and on by turns, five times; common mode twice.
    assert long(method="output-impedance", drive={"voltage": "1 V"}) == pytest.approx(5 * once)
    assert long(method="output-common-mode", drive={"voltage": "1 V"}) == pytest.approx(2 * once)
    fine, coarse = (long(series={"lowest": "50 mW", "per_decade": n}) for n in (10, 5))
    assert fine > 1.8 * coarse
    decades = math.log10(600 / 0.05)
    assert long(series={"lowest": "0.5 W", "per_decade": 5}) < coarse * (decades - 0.9) / decades


def test_the_usual_sheet_is_a_plan_whose_first_step_warms_up() -> None:
    plan = check(
        Plan, {"lucid-anvil-plan": 1, "title": "t", "steps": sheet_steps("30 min"), "sheet": {"loads": [8, 4]}}, "p"
    )
    assert plan.step.method == "amplifier-sheet" and len(plan.step.settings["steps"]) == len(plan.steps)
    made = sheet(*plan.step.settings["steps"])
    first, *others = tasks(made)
    assert first.step.method == PRECONDITION and first.driven == ("A", "B") and first.step.read == 1800
    assert duration(first) > 1800 and all(t.step.method != PRECONDITION for t in others)
    assert len({t.key for t in others}) == len(others)


def test_several_steps_of_other_methods_are_no_plan() -> None:
    steps = [{"method": "accelerometer-comparison", "settings": {}}, {"method": "output-gain", "name": "g"}]
    with pytest.raises(BadInput, match="sheet of their own"):
        check(Plan, {"lucid-anvil-plan": 1, "title": "t", "steps": steps}, "plan")
