"""Courses and settings of the shaker methods: what they become, and the sentence that a mistake gets."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from lucid_anvil.contracts.recording import channel_of
from lucid_anvil.contracts.settings import check
from lucid_anvil.core.control.plant import LoopResponse
from lucid_anvil.core.control.sineloop import Regulation
from lucid_anvil.core.errors import BadInput
from lucid_anvil.domains.shaker.course import items, level_stretches, sine_stretches
from lucid_anvil.domains.shaker.settings import (
    ShakerSettings,
    control_roles,
    decibel,
    follow_profile,
    in_units,
    with_tolerance,
)
from lucid_anvil.lab.textfiles import dump_yaml

SINE = {
    "kind": "sine", "start": "10 Hz", "stop": "160 Hz", "segments": [{"acceleration": "10 m/s^2"}],
    "sweep": {"rate": "1 oct/min"},
}  # fmt: skip
RANDOM = {
    "kind": "random",
    "points": [
        {"frequency": "20 Hz", "density": "1 (m/s^2)^2/Hz"},
        {"frequency": "200 Hz", "density": "1 (m/s^2)^2/Hz"},
    ],
}


def settings(profile: Any = SINE, **more: Any) -> ShakerSettings:
    return check(ShakerSettings, {"profile": profile, **more}, "plan.yaml")


def lengths(*course: dict[str, Any], profile: Any = SINE) -> list[tuple[str, float]]:
    return [(s.label, round(s.duration, 6)) for s in sine_stretches(settings(profile, course=list(course)))]


def test_without_a_course_the_profile_sweeps_by_itself() -> None:
    assert lengths() == [("Sweep up 10 → 160 Hz", 240.0)]
    both = {**SINE, "sweep": {"rate": "2 oct/min", "direction": "both"}, "sweeps": 2}
    assert lengths(profile=both) == [("Sweep up 10 → 160 Hz", 120.0), ("Sweep down 160 → 10 Hz", 120.0)]


def test_any_two_of_rate_number_and_time_make_the_course() -> None:
    assert lengths({"sweep": "up", "duration": "60 s"}) == [("Sweep up 10 → 160 Hz", 60.0)]
    assert lengths({"sweep": "both", "sweeps": 3, "total": "90 s"}) == [
        ("Sweep up 10 → 160 Hz", 30.0), ("Sweep down 160 → 10 Hz", 30.0), ("Sweep up 10 → 160 Hz", 30.0),
    ]  # fmt: skip
    cut = lengths({"sweep": "both", "rate": "4 oct/min", "total": "150 s"})
    assert [d for _, d in cut] == [60.0, 60.0, 30.0]
    whole = lengths({"sweep": "both", "rate": "4 oct/min", "total": "150 s", "fit": "whole"})
    assert [d for _, d in whole] == [60.0, 60.0]


def test_two_hours_of_sweeping_are_split() -> None:
    made = lengths({"sweep": "both", "total": "2 h"})
    assert len(made) == 30 and sum(d for _, d in made) == pytest.approx(7200.0)
    linear = sine_stretches(settings(course=[{"sweep": "down", "law": "linear", "rate": "5 Hz/s"}]))[0]
    assert linear.duration == pytest.approx(30.0) and linear.sweep is not None
    assert float(linear.sweep.frequency(15.0)) == pytest.approx(85.0)


def test_dwells_by_time_and_by_cycles() -> None:
    made = lengths({"dwell": "50 Hz", "duration": "12 s"}, {"dwell": "40 Hz", "cycles": 1000}, {"pause": "3 s"},
                   {"follow": "118 Hz", "duration": "20 s", "level": "-6 dB"}, {"follow": "resonance", "total": "1 min"})  # fmt: skip
    assert made == [
        ("Dwell 50 Hz", 12.0), ("Dwell 40 Hz", 25.0), ("Pause", 3.0), ("Dwell on resonance near 118 Hz −6 dB", 20.0),
        ("Dwell on resonance", 60.0),
    ]  # fmt: skip


def test_ladders_become_rungs() -> None:
    made = level_stretches(
        settings(RANDOM, course=[{"random": True, "ladder": ["-12 dB", -6, "0 dB"], "each": "5 s", "duration": "40 s"},
                                 {"pause": "2 s"}, {"random": True}]), "random", 30.0)  # fmt: skip
    assert [(s.level, s.duration, s.rung) for s in made] == [
        (-12.0, 5.0, True), (-6.0, 5.0, True), (0.0, 40.0, False), (0.0, 2.0, False), (0.0, 30.0, False),
    ]  # fmt: skip
    assert [s.step for s in made] == [0, 0, 0, 1, 2]
    shown = items(settings(RANDOM), made)
    assert shown[0].label == "Probe run" and shown[1].label == "Random −12 dB" and shown[4].duration == 2.0
    quiet = settings(RANDOM, control={"probe": {"on": False}})
    assert items(quiet, made)[0].label == "Random −12 dB"
    record = level_stretches(settings(course=[{"history": True, "repeats": 3}]), "history", 8.0)
    assert (record[0].duration, record[0].label) == (24.0, "Record ×3")


@pytest.mark.parametrize(
    ("course", "word"),
    [
        ([{"sweep": "up", "dwell": "50 Hz"}], "one of sweep, dwell"),
        ([{}], "one of sweep, dwell"),
        ([{"random": True}], "a sine profile has no random"),
        ([{"dwell": "500 Hz", "duration": "5 s"}], "not within the profile's 10 to 160 Hz"),
        ([{"dwell": "50 Hz"}], "needs its duration, or cycles"),
        ([{"sweep": "up", "start": "5 Hz"}], "not within the profile's"),
        ([{"sweep": "up", "total": "10 h", "rate": "4000 oct/min"}], "more than 10000 sweeps"),
        ([{"sweep": "sideways"}], "sweep"),
        ([{"sweep": "up", "duration": "60 kg"}], "duration"),
        ([{"follow": "resonance", "duration": "5 s", "level": "-6 V"}], "a level is in dB"),
        ([{"swep": "up"}], "did you mean 'sweep'"),
    ],
)
def test_courses_that_can_not_be(course: list[dict[str, Any]], word: str) -> None:
    with pytest.raises(BadInput, match=word):
        sine_stretches(settings(course=course))


@pytest.mark.parametrize(
    ("more", "word"),
    [
        ({"control": {"detect": "loud"}}, "detect"),
        ({"control": {"degrees_of_freedom": 1}}, "degrees_of_freedom"),
        ({"control": {"clipping": 9}}, "clipping"),
        ({"control": {"probe": {"periods": 1}}}, "periods"),
        ({"control": {"pases": 3}}, "did you mean 'passes'"),
        ({"profile": "sine.profile.yaml"}, "can only be followed from a plan"),
        ({"limits": 3}, "limits"),
    ],
)
def test_settings_that_can_not_be(more: dict[str, Any], word: str) -> None:
    with pytest.raises(BadInput, match=word):
        check(ShakerSettings, {"profile": SINE, **more}, "plan.yaml")


def test_a_profile_of_another_kind_is_said() -> None:
    with pytest.raises(BadInput, match="stop"):
        settings({**SINE, "stop": "5 Hz"}).sine().solved()
    for wrong, read in ((RANDOM, "sine"), (SINE, "random"), (SINE, "time")):
        with pytest.raises(BadInput, match=f"of kind {wrong['kind']}"):
            getattr(settings(wrong), read)()
    with pytest.raises(BadInput, match="it is missing"):
        check(ShakerSettings, {}, "s").sine()
    with pytest.raises(BadInput, match="does not belong here"):
        level_stretches(settings(RANDOM, course=[{"history": True}]), "random", 9.0)


def test_levels_and_widths_as_people_write_them() -> None:
    assert (decibel("-3 dB"), decibel(-3), decibel("6")) == (-3.0, -3.0, 6.0)
    part = settings(control={"tracking": "15 %"}).control.regulation(0.08)
    assert part.periods == pytest.approx(9.6) and part.window(12.0) == pytest.approx(0.8)
    part = settings(control={"tracking": "5 Hz", "detect": "peak", "combine": "maximum"}).control.regulation(0.08)
    assert part.window(500.0) == pytest.approx(0.288) and (part.detect, part.combine) == ("peak", "maximum")
    assert Regulation().window(1000.0) == pytest.approx(0.04)


def test_volts_become_acceleration_by_role() -> None:
    volts = channel_of("control", "V", 1000.0, np.full(4, 0.02))
    table = channel_of("more", "g", 1000.0, np.ones(4))
    made = in_units({"control": volts, "more": table}, settings(control_sensitivity="10 mV/(m/s^2)"))
    assert made["control"].samples() == pytest.approx(2.0) and made["more"].samples() == pytest.approx(9.80665)
    other = in_units({"control": volts}, settings(sensitivity={"control": "98.0665 mV/g"}))
    assert other["control"].samples() == pytest.approx(2.0)
    for more, word in (({}, "say control_sensitivity"), ({"control_sensitivity": "-1 mV/(m/s^2)"}, "above zero"),
                       ({"sensitivity": {"tray": "10 mV/(m/s^2)"}}, "no role 'tray'")):  # fmt: skip
        with pytest.raises(BadInput, match=word):
            in_units({"control": volts}, settings(**more))


def test_control_points_are_found_by_name_or_said() -> None:
    roles = ["control", "control2", "tray"]
    assert control_roles(roles, settings().control) == ["control", "control2"]
    assert control_roles(roles, settings(control={"points": ["tray"]}).control) == ["tray"]
    with pytest.raises(BadInput, match="no role 'deck'"):
        control_roles(roles, settings(control={"points": ["deck"]}).control)


def test_the_standards_tolerance_stands_in_where_none_is_given() -> None:
    held, usual = with_tolerance(settings().sine())
    low, high = held.solved().edges(np.array([50.0]), "tolerance")
    assert usual and (low[0], high[0]) == (pytest.approx(8.5), pytest.approx(11.5))
    _, usual = with_tolerance(settings({**SINE, "tolerance": {"low": "-1 dB", "high": "1 dB"}}).sine())
    assert not usual


def test_a_profiles_file_is_followed_from_its_own_folder(tmp_path: Path) -> None:
    (tmp_path / "deep").mkdir()
    (tmp_path / "deep" / "shock.profile.yaml").write_text(dump_yaml({"kind": "time", "file": "shock.csv"}))
    held = follow_profile({"profile": "deep/shock.profile.yaml", "control": {}}, tmp_path)
    assert held["profile"]["file"] == str((tmp_path / "deep" / "shock.csv").resolve()) and held["control"] == {}
    assert follow_profile({"course": []}, tmp_path) == {"course": []}
    with pytest.raises(BadInput, match="no such file"):
        follow_profile({"profile": "nowhere.yaml"}, tmp_path)


def test_a_loops_magnitudes_go_straight_between_logarithms() -> None:
    f = np.arange(0, 101.0)
    h = np.vstack([np.exp(0.05 * f), 2 * np.ones(101)]) * np.exp(1j * 0.1 * f)
    loop = LoopResponse(f, h.astype(complex), np.ones((2, 101)), np.zeros(2), 0.0)
    for at in (1.0, 20.5, 77.25):
        assert loop.magnitudes(at) == pytest.approx([np.exp(0.05 * at), 2.0], rel=1e-12)
        assert loop.magnitude(0, at) == pytest.approx(abs(loop.at(0, at)), rel=1e-9)
    assert loop.magnitudes(500.0) == pytest.approx([np.exp(5.0), 2.0])
    assert loop.phase(0, 30.2) == pytest.approx(3.0 - 0.0, abs=1e-9)
