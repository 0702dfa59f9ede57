"""The walk-round's checks one by one, from what is sensed; no device, no process."""

from __future__ import annotations

import datetime
from dataclasses import replace
from typing import Any

import numpy as np
import pytest

from lucid_anvil.engine.preparing import Prepared, capability_rows, plain, sensitivities
from lucid_anvil.engine.study import demo_rig, study_run
from lucid_anvil.engine.walkround import Sensed, WalkRound
from lucid_anvil.lab.plans import SensorRecord

TODAY = datetime.date(2026, 6, 1)


@pytest.fixture(scope="module")
def usual() -> Prepared:
    return study_run(demo_rig(), {"steps_per_octave": 1})


def sensed(**changes: Any) -> Sensed:
    made = Sensed(
        bias={"reference": 11.0, "unit": 10.5, "transverse": 12.0},
        rms={"reference": 2e-5, "unit": 2e-5},
        temperature=21.0,
        today=TODAY,
    )
    for key, value in changes.items():
        setattr(made, key, value)
    return made


def state(walk: WalkRound, key: str, seen: Sensed) -> tuple[bool, str]:
    found = next(s for s in walk.states(seen) if s.key == key)
    return found.done, found.why


def test_all_sensed_checks_pass_on_a_sound_bench(usual: Prepared) -> None:
    states = WalkRound(usual).states(sensed())
    assert [s.key for s in states] == [
        "reference_date", "reference_range", "mounting", "cables", "supply", "temperature", "input_range", "noise",
    ]  # fmt: skip
    assert {s.key for s in states if not s.done} == {"mounting", "cables"}
    assert all(s.why for s in states)


@pytest.mark.parametrize(
    ("volts", "done", "words"),
    [(11.0, True, "unit 11.0 V"), (23.8, False, "open"), (19.0, False, "open"), (0.2, False, "short"), (4.0, False, "short"),
     (float("nan"), False, "no bias")],
)  # fmt: skip
def test_the_supply_tells_open_from_short(usual: Prepared, volts: float, done: bool, words: str) -> None:
    seen = sensed(bias={"reference": 11.0, "unit": volts, "transverse": 12.0})
    assert state(WalkRound(usual), "supply", seen)[0] is done
    assert words in state(WalkRound(usual), "supply", seen)[1]


def test_nothing_is_sensed_before_the_front_end_speaks(usual: Prepared) -> None:
    walk, nothing = WalkRound(usual), Sensed(today=TODAY)
    for key, words in (("supply", "waiting"), ("noise", "waiting"), ("temperature", "no temperature")):
        done, why = state(walk, key, nothing)
        assert not done
        assert words in why


@pytest.mark.parametrize(("t", "done"), [(17.9, False), (18.0, True), (26.0, True), (26.1, False)])
def test_room_temperature_has_a_window(usual: Prepared, t: float, done: bool) -> None:
    assert state(WalkRound(usual), "temperature", sensed(temperature=t))[0] is done


@pytest.mark.parametrize(("rms", "done"), [(2e-5, True), (1.9e-3, True), (2.5e-3, False)])
def test_noise_against_the_smallest_level(usual: Prepared, rms: float, done: bool) -> None:
    # 30 m/s² at about 10 mV/(m/s²) is 0.21 V rms; 40 dB below that is 2.1 mV. The stroke allows less at 16 Hz.
    assert state(WalkRound(usual), "noise", sensed(rms={"reference": 2e-5, "unit": rms}))[0] is done


@pytest.mark.parametrize(
    ("record", "done", "words"),
    [
        ({"calibrated": "2026-01-01", "due": "2026-06-01"}, True, "due 2026-06-01"),
        ({"calibrated": "2026-01-01", "due": "2026-05-31"}, False, "was due on"),
        ({"calibrated": "2026-01-01"}, True, "no due date"),
        ({}, False, "names no calibration"),
    ],
)
def test_reference_in_date(usual: Prepared, record: dict[str, str], done: bool, words: str) -> None:
    plan = usual.plan.model_copy(update={"sensors": {"reference": SensorRecord(serial="GA-02", **record)}})
    found = state(WalkRound(replace(usual, plan=plan)), "reference_date", sensed())
    assert found[0] is done
    assert words in found[1]


def test_the_certificate_must_cover_the_course(usual: Prepared) -> None:
    assert state(WalkRound(usual), "reference_range", sensed()) == (True, "5 Hz to 10000 Hz")
    one = usual.settings.model_copy(update={"reference_response": None, "reference_sensitivity": "10 mV/(m/s²)"})
    assert "every frequency" in state(WalkRound(replace(usual, settings=one)), "reference_range", sensed())[1]
    none = usual.settings.model_copy(update={"reference_response": None})
    assert not state(WalkRound(replace(usual, settings=none)), "reference_range", sensed())[0]
    rows = usual.settings.reference_response[:20]
    short = usual.settings.model_copy(update={"reference_response": rows})
    done, why = state(WalkRound(replace(usual, settings=short)), "reference_range", sensed())
    assert not done
    assert "narrow the course" in why


@pytest.mark.parametrize(
    ("volts", "done", "words"), [(1.0, True, "headroom"), (0.3, False, "wider"), (100.0, False, "narrower")]
)
def test_input_ranges_neither_overloaded_nor_wasted(volts: float, done: bool, words: str) -> None:
    rig = demo_rig()
    rig["channels"][1]["range"] = f"{volts} V"
    found = state(WalkRound(study_run(rig, {"steps_per_octave": 1})), "input_range", sensed())
    assert found[0] is done
    assert words in found[1]


def test_only_a_person_signs_and_only_with_a_name(usual: Prepared) -> None:
    walk = WalkRound(usual)
    assert not walk.sign("supply", "K.B.")
    assert not walk.sign("mounting", " ")
    assert not walk.sign("nothing", "K.B.")
    assert walk.sign("mounting", " K.B. ")
    found = next(s for s in walk.states(sensed()) if s.key == "mounting")
    assert (found.done, found.by, found.why) == (True, "K.B.", "signed by K.B.")


def test_sensed_averages_the_noise() -> None:
    seen, rng = Sensed(), np.random.default_rng(1)
    for _ in range(60):
        seen.learn({"unit": rng.normal(0, 1e-3, 2048)}, {"unit": 11.0}, 20.0)
    assert seen.rms["unit"] == pytest.approx(1e-3, rel=0.03)
    assert (seen.bias, seen.temperature) == ({"unit": 11.0}, 20.0)


def test_capability_rows_are_what_the_course_lives_under(usual: Prepared) -> None:
    rows = capability_rows(usual.rig)
    f = [r[0] for r in rows]
    assert f == sorted(f)
    assert rows[0][3] == "stroke"
    assert rows[0][1] == pytest.approx(0.8 * 0.006 * (2 * np.pi * rows[0][0]) ** 2, rel=1e-6)
    assert all(r[2] > 0 for r in rows)
    for item in usual.course():
        if item.frequency and item.level:
            assert item.level <= np.interp(np.log(item.frequency), np.log(f), [r[1] for r in rows]) * 1.01


def test_sensitivities_for_levels_and_guards(usual: Prepared) -> None:
    made = sensitivities(usual.plan, usual.rig)
    assert set(made) == {"reference", "unit", "transverse"}
    assert made["unit"] == pytest.approx(9.868e-3, rel=1e-3)
    nobody = usual.plan.model_copy(update={"sensors": {}})
    assert sensitivities(nobody, usual.rig)["unit"] == pytest.approx(0.01)


def test_plain_data_for_yaml() -> None:
    made = plain({"a": (1, np.float64(2.5)), "b": {"c": np.int64(3)}})
    assert made == {"a": [1, 2.5], "b": {"c": 3}}
    assert type(made["a"][1]) is float
