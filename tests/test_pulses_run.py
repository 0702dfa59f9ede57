"""Pulses on the stand-in frame: amplitude held while the specimen softens, ended by itself, guarded, read right."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from tests.reading import arrays

from lucid_anvil.core.errors import BadInput
from lucid_anvil.engine.inprocess import Played, play_through
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.engine.preparing import Prepared, prepare
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.editing import put


@pytest.fixture
def rig(tmp_path: Path) -> Path:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    return lab.folder / "rigs" / "pulser.rig.yaml"


def pulsed(rig: Path, pulse: dict[str, Any], **more: Any) -> tuple[Prepared, Played, Any]:
    plan = begin_plan("cyclic", rig, "Fender", rig.parent.parent / "jobs" / "a" / "a.plan.yaml")
    put(plan, ("pulse",), pulse)
    for key, value in more.items():
        put(plan, (key,), value)
    prepared = prepare(plan)
    played = play_through(prepared)
    held = {k: c for k, c in played.channels.items() if k != "drive"}
    return prepared, played, prepared.method.evaluate(held, prepared.settings, played.marks)


def why(played: Played) -> list[str]:
    return [m["why"] for m in played.marks if m["kind"] == "pulsed"]


@pytest.mark.parametrize("pulse", [{"frequency": "1 Hz"}, {"frequency": "2 Hz", "shape": "sine"}])
@pytest.mark.parametrize("guess", ["0.4 kN/mm", "0.55 kN/mm"])
def test_the_peak_force_is_held_while_the_specimen_softens(rig: Path, pulse: dict[str, Any], guess: str) -> None:
    told = {"mean": "1.2 kN", "amplitude": "1 kN", "cycles": 40, "stiffness": guess, **pulse}
    _, played, found = pulsed(rig, told)
    hertz = float(pulse["frequency"].split()[0])
    _, top = arrays(found.curve("force_max"))
    _, low = arrays(found.curve("force_min"))
    assert why(played) == ["cycles"] and found.reading("cycles").value in (38, 39, 40)
    assert np.abs(top[11:] / 2200 - 1).max() < (0.01 if hertz < 1.5 else 0.02) and top.max() < 1.03 * 2200
    assert np.abs(low[11:] - 200).max() < 0.01 * 2200
    # True: 0.36 kN/mm, four percent softer a decade, and what its loss adds at this frequency.
    truth = 0.36e6 * 0.96 ** np.log10(40) * np.hypot(1, 0.12 * hertz)
    assert found.reading("stiffness_final").value == pytest.approx(truth, rel=0.01)
    _, energy = arrays(found.curve("energy"))
    assert np.all(energy > 0)


def test_length_is_held_where_length_is_wanted(rig: Path) -> None:
    told = {"control": "length", "mean": "4 mm", "amplitude": "3 mm", "frequency": "1 Hz", "cycles": 20}
    _, _, found = pulsed(rig, told)
    _, top = arrays(found.curve("displacement_max"))
    _, low = arrays(found.curve("displacement_min"))
    assert np.abs(top[11:] - 7e-3).max() < 7e-5 and np.abs(low[11:] - 1e-3).max() < 7e-5
    assert top.max() < 1.03 * 7e-3


def test_it_ends_by_itself_where_the_specimen_is_spent(rig: Path) -> None:
    rig.write_text(rig.read_text().replace("softening: 4 %", "softening: 25 %"))
    told = {"mean": "1.2 kN", "amplitude": "1 kN", "frequency": "2 Hz", "cycles": 500}
    _, played, found = pulsed(rig, told, stop_share="80 %", initial_cycle=6)
    assert why(played) == ["stiffness"]
    assert found.reading("cycles_to_stop").value == pytest.approx(found.reading("cycles").value, abs=4)
    assert found.reading("cycles").value < 200


def test_a_force_beyond_its_limit_rests_the_crosshead(rig: Path) -> None:
    rig.write_text(rig.read_text().replace("limit: 5 kN", "limit: 1.5 kN"))
    _, played, found = pulsed(rig, {"mean": "1.2 kN", "amplitude": "1 kN", "frequency": "1 Hz", "cycles": 30})
    assert played.trip is not None and played.trip.guard == "force"
    force = np.abs(played.channels["force"].samples()) / 1e-3
    assert force.max() < 1.1 * 1500  # in the middle of a rise of 6 kN/s, seen and stopped within three blocks of 16 ms
    assert found.reading("cycles").value < 30


@pytest.mark.parametrize(
    ("pulse", "text"), [({"amplitude": "2 kN"}, "plates would part"), ({"mean": "2 mm"}, "turned into"),
                        ({"cycles": 0}, "greater than or equal"), ({"frequency": "0 Hz"}, "above zero")],
)  # fmt: skip
def test_what_makes_no_sense_is_refused(rig: Path, pulse: dict[str, Any], text: str) -> None:
    with pytest.raises(BadInput, match=text):
        pulsed(rig, pulse)


@pytest.mark.parametrize("size", [-0.5, -0.3, 0.45])
@pytest.mark.parametrize("at", [9.0, 9.2, 9.45, 9.75, 10.1])
def test_a_load_cell_that_lies_does_not_press_harder(rig: Path, size: float, at: float) -> None:
    text = rig.read_text()
    lie = f"  faults: [{{at: {at} s, kind: gain_jump, channel: force, size: {size}}}]\n"
    rig.write_text(text.replace("  seed: 51\n", f"  seed: 51\n{lie}"))
    _, played, found = pulsed(rig, {"mean": "1.2 kN", "amplitude": "1 kN", "frequency": "1 Hz", "cycles": 40})
    assert played.trip is not None and played.trip.guard == "stiffness"
    assert ("fell" if size < 0 else "rose") in played.trip.label and "a sensor or its lead" in played.trip.label
    force = np.abs(played.channels["force"].samples()) / 1e-3
    t = np.arange(force.size) / played.channels["force"].rate - 16e-3
    true = np.where(t >= at, force / (1 + size), force)[np.abs(t - at) > 0.04]
    assert played.trip.t < at + 3.2 and true.max() < 1.2 * 2200
    assert not any(m["kind"] == "pulsed" for m in played.marks)
    assert found.reading("cycles").value < 15
