"""Courses of a pulse: what they are between their least and greatest load, and as they are driven."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from tests.reading import arrays
from tests.test_pulses_run import pulsed, rig  # noqa: F401  (a fixture)

from lucid_anvil.core.errors import BadInput
from lucid_anvil.domains.frame.cyclic import METHOD, CyclicSettings
from lucid_anvil.domains.frame.pulse_shapes import course_of, shape_of

RECORD = [[0, 10], [1, 10], [2, 40], [3, 30], [6, 10]]


@pytest.mark.parametrize("pause", [0.0, 0.4])
@pytest.mark.parametrize("name", ["sine", "haversine", "triangle", "square", "points"])
def test_a_shape_and_its_slope_are_of_one_piece(name: str, pause: float) -> None:
    made = shape_of(name, pause, RECORD if name == "points" else ())
    u = np.linspace(0, 3, 300_001)
    y = made.value(u)
    assert y.min() == pytest.approx(-1, abs=1e-4) and y.max() == pytest.approx(1, abs=1e-4)
    assert np.abs(y[:100_000] - y[100_000:200_000]).max() < 1e-6  # cycle after cycle
    whole = np.concatenate([[0.0], np.cumsum(made.slope((u[:-1] + u[1:]) / 2) * np.diff(u))])
    assert np.abs(whole + y[0] - y).max() < 2e-3
    at = made.value(np.array([made.start - 1e-3, made.start, made.start + 1e-3]))
    assert at[0] <= at[1] < at[2] and abs(at[1]) < 1e-6  # it begins in the middle, rising
    if pause:
        rest = made.value(np.linspace(0.61, 0.99, 50))
        assert np.ptp(rest) == 0 and rest[0] == made.value(np.zeros(1))[0]
        assert not made.slope(np.linspace(0.61, 0.99, 50)).any()


@pytest.mark.parametrize(("points", "text"), [
    ([[0, 1], [1, 2]], "three rows"), ([[0, 1], [2, 5], [1, 1]], "must rise"), ([[0, 3], [1, 1], [2, 3]], "least load"),
    ([[0, 1], [1, 1], [2, 1]], "least load"),
])  # fmt: skip
def test_points_that_are_no_pulse_are_refused(points: list[list[float]], text: str) -> None:
    with pytest.raises(BadInput, match=text):
        shape_of("points", 0.0, points)


@pytest.mark.parametrize("pulse", [{"shape": "triangle"}, {"shape": "points", "points": RECORD},
                                   {"shape": "square", "frequency": "0.5 Hz"}, {"pause": "0.5 s"}])  # fmt: skip
def test_peaks_are_held_in_any_shape_and_none_goes_beyond(rig: Path, pulse: dict[str, Any]) -> None:  # noqa: F811
    told = {"mean": "1.0 kN", "amplitude": "0.8 kN", "frequency": "0.8 Hz", "cycles": 24, **pulse}
    prepared, played, found = pulsed(rig, told)
    assert played.trip is None
    _, top = arrays(found.curve("force_max"))
    _, low = arrays(found.curve("force_min"))
    assert found.reading("cycles").value in (22, 23, 24)
    assert np.abs(top[12:] / 1800 - 1).max() < 0.02 and top.max() < 1.03 * 1800
    assert np.abs(low[12:] - 200).max() < 0.02 * 1800
    hertz = prepared.settings.pulse.cycles_a_second
    way = played.channels["displacement"].samples() / 0.2
    (begun,) = [m["t"] for m in played.marks if m["kind"] == "pulses"]
    t = begun + np.arange(12, 20)[:, None] / hertz + np.arange(200) / 200 / hertz
    x = -way[(t * 4000).astype(int)].mean(axis=0)
    x = 2 * (x - x.min()) / np.ptp(x) - 1
    late = 3 * 64 / 4000 * hertz
    wanted = prepared.settings.pulse.shaped().value(np.arange(200) / 200 + prepared.settings.pulse.shaped().start - late)
    assert np.sqrt(np.mean((x - wanted) ** 2)) < (0.15 if pulse.get("shape") == "square" else 0.06)


def test_a_stress_and_a_strain_become_force_and_length() -> None:
    size = {"area": "2500 mm^2", "parallel_length": "40 mm"}
    held = CyclicSettings.model_validate({"specimen": size, "pulse": {
        "control": "stress", "mean": "0.5 MPa", "amplitude": "0.4 MPa",
        "blocks": [{"mean": "0.4 MPa", "amplitude": "0.2 MPa", "cycles": 5}]}})  # fmt: skip
    assert (held.pulse.control, held.pulse.mean, held.pulse.amplitude) == ("force", pytest.approx(1250), pytest.approx(1000))
    assert held.pulse.blocks[0].amplitude == pytest.approx(500)
    held = CyclicSettings.model_validate({"specimen": size, "pulse": {
        "control": "strain", "mean": "10 %", "amplitude": "5 %"}})  # fmt: skip
    assert held.pulse.control == "length" and held.pulse.mean == pytest.approx(4e-3)
    with pytest.raises(ValueError, match="its area is missing: pulses of stress need it"):
        CyclicSettings.model_validate({"pulse": {"control": "stress", "mean": "0.5 MPa", "amplitude": "0.4 MPa"}})
    with pytest.raises(ValueError, match="shape: points"):
        CyclicSettings.model_validate({"pulse": {"points": RECORD}})


def test_very_many_cycles_go_by_decades() -> None:
    few, many = (CyclicSettings.model_validate({"pulse": {"cycles": n}}) for n in (999, 1000))
    assert not any(v.x_log for v in METHOD.shown(few)) and all(v.x_log for v in METHOD.shown(many))


def test_a_pulse_is_taken_out_of_a_record() -> None:
    t = np.arange(4000) / 1000.0
    one = np.interp(np.mod(t, 1.0), [0, 0.1, 0.35, 0.5, 0.8, 1.0], [1, 1, 5, 4, 1.2, 1])
    for x in (one, -one, one + 0.005 * np.random.default_rng(3).standard_normal(t.size)):
        course = course_of(x, 1000.0)
        at, load = np.array(course.points).T
        assert at[-1] == pytest.approx(1.0, abs=0.1) and course.off < 0.02 and len(at) <= 240
        assert load.max() == pytest.approx(5, rel=0.01) and load[0] == load[-1] == load.min() == pytest.approx(1, abs=0.03)
        top = at[np.argmax(load)] - at[np.flatnonzero(load > 3)[0]]
        assert top == pytest.approx(0.125, abs=0.02)
        shape_of("points", 0.0, course.points)
    whole = course_of(one[:1000], 1000.0)
    assert whole.points[-1][0] == pytest.approx(0.999)
    for x in (np.ones(100), one[200:700]):
        with pytest.raises(BadInput, match="holds no"):
            course_of(x, 1000.0)


def test_the_shape_is_chosen_by_picture_or_out_of_a_file(qtbot: Any, tmp_path: Path, monkeypatch: Any) -> None:
    from PyQt6.QtWidgets import QFileDialog
    from tests.test_desktop import leave
    from tests.test_own_work import Person

    k = Person(qtbot, tmp_path / "own", True)
    k.window.go("Bench")
    k.new_test("cyclic", rig="Pulser", article="Fender 1")
    side = k.bench.kinds["pulses"]
    shapes = side.stage.shapes
    assert shapes.key == "haversine"
    k.did()
    shapes.chosen.emit("triangle")
    k.settled()
    assert k.settings()["pulse"]["shape"] == "triangle" and k.bench.prepared.settings.pulse.shape == "triangle"
    t = np.arange(300) / 100.0
    load = 500 + 400 * (1 - np.cos(2 * np.pi * t)) ** 2
    rows = "\n".join(f"{a:.3f},{b:.3f},{-b / 1e3:.5f}" for a, b in zip(t, load, strict=True))
    (tmp_path / "measured.csv").write_text("time [s],load [N],way [mm]\n" + rows)
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(tmp_path / "measured.csv"), ""))
    shapes.chosen.emit("points")
    k.sheet(channel="load")
    k.settled()
    made = k.bench.prepared.settings.pulse
    assert made.shape == "points" and len(made.points) > 50 and shapes.key == "points"
    assert "measured.csv" in k.window.strip.text() and "lines between them miss" in k.window.strip.text()
    shapes.chosen.emit("sine")
    k.settled()
    assert k.bench.prepared.settings.pulse.points == []
    (tmp_path / "measured.csv").write_text("time [s],load [N]\n" + "\n".join(f"{a:.2f},5" for a in t))
    shapes.chosen.emit("points")
    assert "holds no pulse" in k.window.strip.text()
    k.window.grab().save("/tmp/p3.png")
    leave(k.window)
