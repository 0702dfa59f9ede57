"""A sensor that was calibrated step by step is used by its characteristic, from the certificate to the reading."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from lucid_anvil.contracts.recording import channel_of
from lucid_anvil.contracts.samples import samples_in
from lucid_anvil.core.calibration.characteristic import characteristic
from lucid_anvil.core.errors import BadInput
from lucid_anvil.domains.frame.tension_points import Points
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.engine.preparing import prepare
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.elsewhere import calibration_from, points_from
from lucid_anvil.lab.ledger import Sensor

TOP = 20e3


def bent(force: np.ndarray) -> np.ndarray:
    """V of a cell that is off its straight line by a percent."""
    u = force / TOP
    return 2e-4 * force * (1 + 0.03 * u - 0.02 * u**2)


STEPS = [(float(f), float(bent(np.array(f)))) for f in np.linspace(0.2, 1, 5) * TOP]


@pytest.mark.parametrize("sign", [1, -1])
def test_what_was_measured_comes_back_from_what_the_sensor_gave(sign: int) -> None:
    held = characteristic([(sign * x, -y) for x, y in STEPS])
    force = sign * np.linspace(0, TOP, 333)
    assert np.abs(held.measured(-bent(np.abs(force))) - force).max() < 2e-6 * TOP
    # Where nobody calibrated it the line goes straight on.
    for beyond in (1.2 * sign * TOP, -0.3 * sign * TOP):
        assert held.measured(held.output(np.array([beyond])))[0] == pytest.approx(beyond, rel=1e-6)
    first, second = np.diff(held.output(sign * np.array([-3e3, -2e3, -1e3])))
    assert first == pytest.approx(second)
    assert held.middle == pytest.approx(-sign * bent(np.array(TOP)) / TOP)


@pytest.mark.parametrize(
    ("rows", "word"),
    [([], "needs a step"), ([(0.0, 1.0)], "needs a step"), ([(-1.0, -1.0), (1.0, 1.0)], "one side"),
     ([(1.0, 1.0), (2.0, 3.0), (3.0, 3.2), (4.0, 1.0)], "turns back")],
)  # fmt: skip
def test_steps_that_make_no_line_are_refused(rows: list[tuple[float, float]], word: str) -> None:
    with pytest.raises(BadInput, match=word):
        characteristic(rows)


def test_one_step_is_a_straight_line() -> None:
    assert characteristic([(100.0, 2.0)]).measured(np.array([-1.0, 0.5, 3.0])) == pytest.approx([-50, 25, 150])


def test_a_record_in_volts_is_read_by_steps_and_nonsense_is_named() -> None:
    force = np.linspace(0, TOP, 50)
    record = {"force": channel_of("force", "mV", 100.0, 1e3 * bent(force))}
    given = {"unit": "kN", "steps": [[x / 1e3, y] for x, y in STEPS]}
    assert samples_in(record, "force", "N", {"force": given}) == pytest.approx(force, abs=1e-5 * TOP)
    by_number = samples_in(record, "force", "N", {"force": f"{STEPS[-1][1] / TOP} V/N"})
    assert np.abs(by_number - force).max() > 5e-4 * TOP
    for wrong, word in (({**given, "unit": "Pa"}, "N is needed"), ({"steps": given["steps"]}, "rows of a step"),
                        ({**given, "steps": [["1 kN", 2]]}, "rows of a step"), ({**given, "more": 1}, "rows of a step")):  # fmt: skip
        with pytest.raises(BadInput, match=word):
            samples_in(record, "force", "N", {"force": wrong})
    with pytest.raises(BadInput, match="its steps are in volts"):
        samples_in({"force": channel_of("force", "N", 100.0, force)}, "force", "N", {"force": given})


def test_means_of_a_pull_are_of_the_characteristic_too() -> None:
    volts = bent(np.full(64, 0.5 * TOP))
    held = Points(0.01, 0.05, 1000.0, {"force": STEPS[-1][1] / TOP}, {"force": characteristic(STEPS)})
    for speed in (1e-2, 0.0):
        made = [p for i in range(40) for p in held.add(0.064 * i, {"force": volts}, speed)]
        assert made and all(p["force"] == pytest.approx(0.5 * TOP, rel=1e-5) for p in made)


def test_a_certificate_by_steps_is_what_the_next_test_reads_with(tmp_path: Path) -> None:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    rig = lab.folder / "rigs" / "frame.rig.yaml"
    ledger = lab.ledger()
    cell = Sensor("GL-50", "load cell", model="L 50k", unit="mV/V")
    ledger.add(cell)
    table = "kN; mV/V; %\n" + "\n".join(f"{x / 1e3:g}; {y / 2:.6f}; 0.05" for x, y in STEPS)
    top = f"{STEPS[-1][1] / 2:.6f} mV/V"
    made = calibration_from(cell, top, "2026-01-05", "Elsewhere", "77", "0.05 %", table=table)
    assert made.frequency is None and made.points[0][0] == pytest.approx(STEPS[0][0])
    ledger.append("GL-50", made)
    ledger.close()
    wired = "sensor: GL-50, bridge_amplifier: 2 V/(mV/V)"
    text = rig.read_text().replace("sensor: GL-50, sensitivity: 0.2 V/kN", wired)
    assert text != rig.read_text()
    rig.write_text(text)
    plan = begin_plan("tension", rig, "Coupon", lab.jobs / "a" / "a.plan.yaml", lab=lab)
    ready = prepare(plan)
    given = ready.settings.sensitivity["force"]
    assert given["unit"] == "N" and np.allclose(given["steps"], STEPS, rtol=1e-5)
    # Levels and guards go by its sensitivity at the highest step.
    assert ready.facts.sensitivity["force"] == pytest.approx(STEPS[-1][1] / TOP, rel=1e-5)
    force = np.linspace(0, TOP, 20)
    record = {"force": channel_of("force", "V", 100.0, bent(force))}
    assert samples_in(record, "force", "N", ready.settings.sensitivity) == pytest.approx(force, abs=1e-5 * TOP)


def test_a_table_over_frequency_stays_one(tmp_path: Path) -> None:
    hammer = Sensor("GF-9", "force sensor", unit="mV/N")
    good = {"value": "10 mV/N", "date": "2026-01-02", "lab": "L", "number": "1"}
    over = calibration_from(hammer, **good, frequency="160 Hz", table="Hz; mV/N; %\n10; 10; 1\n1000; 10.2; 1")
    assert over.frequency == 160 and over.points[1][0] == 1000
    with pytest.raises(BadInput, match="stands over frequency"):
        calibration_from(hammer, **good, frequency="", table="Hz; mV/N; %\n10; 10; 1\n1000; 10.2; 1")
    held = calibration_from(hammer, **good, frequency="160 Hz", table="50; 10; 1\n100; 10.1; 1")
    assert held.frequency is None and held.points == [(50, 10, 1), (100, 10.1, 1)]
    with pytest.raises(BadInput, match="not one of N"):
        points_from("bar; mV/N; %\n1;2;3", "mV/N", "N")
    with pytest.raises(BadInput, match="turns back"):
        calibration_from(hammer, **good, table="50; 10; 1\n100; 10; 1\n150; 2; 1")


@pytest.mark.parametrize(
    ("name", "rig", "serial"),
    [("force-comparison", "press", "GF-40"), ("pressure-comparison", "pressure", "GP-01")],
)
def test_a_comparison_by_steps_is_begun_as_any_other_test(tmp_path: Path, name: str, rig: str, serial: str) -> None:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    wired, place = lab.folder / "rigs" / f"{rig}.rig.yaml", lab.jobs / "a" / "a.plan.yaml"
    ready = prepare(begin_plan(name, wired, "Cell", place, lab=lab))
    assert ready.plan.sensors["reference"].serial == serial
    assert ready.settings.reference_uncertainty > 0 and "reference" in ready.settings.sensitivity
