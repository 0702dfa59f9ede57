"""Any pulse of a record alone: rise, fall, width and rest, by its number, out of what was kept."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from tests.test_pulses_run import pulsed, rig  # noqa: F401  (a fixture)

from lucid_anvil.core.errors import BadInput
from lucid_anvil.core.frame.pulse import measure
from lucid_anvil.domains.frame.one_pulse import Pulses, pulses_of
from lucid_anvil.domains.frame.window.pulse_view import PulseView, seconds


@pytest.mark.parametrize("noise", [0.0, 2.0])
def test_a_trapezoid_with_an_undershoot_is_measured(noise: float) -> None:
    rate = 1000.0
    t = np.array([0, 0.5, 0.7, 1.2, 1.5, 1.52, 1.56, 2.5, 2.7, 3.2])
    y = np.array([200, 200, 2200, 2200, 200, 140, 200, 200, 2200, 2200])
    x = np.interp(np.arange(int(3.0 * rate)) / rate, t, y)
    x = x + noise * np.random.default_rng(1).standard_normal(x.size)
    made = measure(x, rate, 600, 2600)
    assert made.rise == pytest.approx(0.8 * 0.2, rel=0.05) and made.fall == pytest.approx(0.8 * 0.3, rel=0.05)
    assert made.width == pytest.approx(0.1 + 0.5 + 0.15, rel=0.02)
    assert made.rest == pytest.approx(1.02 - 0.02 + 0.03 + 0.02, abs=0.04)  # what swings under does not end it
    assert made.base == pytest.approx(200, abs=30) and made.least == pytest.approx(140, abs=8)
    assert made.risen == pytest.approx((0.52, 0.68), abs=0.01)


def test_a_triangle_stays_nowhere_and_a_sine_rests_at_its_ends() -> None:
    t = np.arange(3000) / 1000.0
    made = measure(1000 * np.abs(np.mod(t + 0.5, 1) * 2 - 1), 1000.0, 750, 1750)
    assert made.rise == pytest.approx(0.4, abs=0.01) and made.width == pytest.approx(0.5, abs=0.01)
    assert made.rest == pytest.approx(0.1, abs=0.01)
    made = measure(500 - 500 * np.cos(2 * np.pi * t), 1000.0, 250, 1250)
    # Of a haversine: between the angles at which its cosine is 0.8 and -0.8.
    assert made.rise == pytest.approx((np.arccos(-0.8) - np.arccos(0.8)) / (2 * np.pi), rel=0.03)
    cut = measure(500 - 500 * np.cos(2 * np.pi * t[:1260]), 1000.0, 250, 1250)
    assert cut.rest is None and cut.rise is not None


def test_a_pulse_is_looked_at_by_its_number(rig: Path, qapp: Any) -> None:  # noqa: F811
    prepared, played, found = pulsed(rig, {"cycles": 12, "frequency": "1 Hz", "pause": "0.5 s"})
    record = {k: c for k, c in played.channels.items() if k != "drive"}
    pulses = pulses_of(record, prepared.settings, played.marks)
    assert list(pulses.numbers) == list(range(1, int(found.reading("cycles").value) + 1))
    one = pulses.take(8)
    assert one.measures.greatest == pytest.approx(found.curve("force_max").y[7], rel=5e-3)
    assert one.measures.width == pytest.approx(0.5, abs=0.05) and one.measures.rest == pytest.approx(0.7, abs=0.1)
    with pytest.raises(BadInput, match="the nearest that is has the number 10"):
        pulses.take(40)
    view = PulseView()
    view.resize(760, 420)
    view.show_pulses(pulses)
    assert view.typed.text() == "10" and "Rise" in view.told.text() and "of 10" in view.of.text()
    view.typed.setText("5")
    view.typed.returnPressed.emit()
    view.back.click()
    assert view.shown is not None and view.shown.number == 4
    first, last = view.handles
    first.put(0.0)
    last.put(1e3 * 0.3)
    force = view.shown.record["force"]
    assert f"force {force[int(0.3 * view.shown.rate)] - force[0]:+.3g}"[:9] in view.between.text()
    view.typed.setText("soon")
    view.typed.returnPressed.emit()
    assert view.typed.text() == "4" and seconds(None) == "–"
    view.show_pulses(None)
    assert not view.back.isEnabled()
    with pytest.raises(BadInput, match="no whole pulse"):
        Pulses(()).nearest(1)


def test_of_a_thinned_record_the_nearest_that_was_kept_is_shown(rig: Path, qapp: Any) -> None:  # noqa: F811
    from lucid_anvil.cli import app
    from lucid_anvil.engine.evaluating import material
    from lucid_anvil.engine.newplan import begin_plan
    from lucid_anvil.lab.editing import put
    from lucid_anvil.lab.takes import Take

    plan = begin_plan("cyclic", rig, "Fender", rig.parent.parent / "jobs" / "a" / "t.plan.yaml")
    put(plan, ("pulse",), {"mean": "0.6 kN", "amplitude": "0.4 kN", "frequency": "4 Hz", "cycles": 150, "keep": "decades",
                           "keep_first": 10})  # fmt: skip
    assert app(["run", str(plan), "--take", str(plan.parent / "take"), "--signed-by", "K.B."],
               standalone_mode=False) in (0, None)  # fmt: skip
    take = Take(plan.parent / "take")
    _, record, settings, marks = material(take)
    pulses = pulses_of(record, settings, marks)
    numbers, found = np.sort(pulses.numbers), take.finding()
    assert found is not None and np.all(np.diff(numbers) > 0) and numbers[0] == 1 and np.diff(numbers).max() > 1
    for number in (2, int(numbers[-2]), int(numbers[numbers.size // 2])):
        one = pulses.take(number)
        assert one.measures.greatest == pytest.approx(found.curve("force_max").y[number - 1], rel=5e-3)
    lost = next(n for n in range(1, int(numbers[-1])) if n not in numbers)
    view = PulseView()
    view.show_pulses(pulses)
    view.show_number(lost)
    assert f"Pulse {lost} was not kept" in view.told.text()


def test_rest_after_an_undershoot_is_no_cycle() -> None:
    from lucid_anvil.core.frame.cycles import begins

    rate, one = 200.0, np.array([0.0, 0.25, 0.35, 0.9, 1.0, 1.01, 1.06, 1.65])
    load = np.array([370.0, 370, 2000, 2010, 400, 194, 395, 370])
    t = np.arange(int(8 * 1.65 * rate)) / rate
    x = np.concatenate([np.interp(np.mod(t, 1.65), one, load), np.full(int(4 * rate), 370.0)])
    x += np.random.default_rng(2).standard_normal(x.size)
    edges = begins(x, 1.65 * rate) / rate
    assert edges.size == 8 and np.allclose(np.diff(edges), 1.65, atol=0.01) and edges[-1] < 8 * 1.65
    # Pulses that go on smaller about another mean lose no cycle but where they change.
    small = np.concatenate([1200 + 1000 * np.sin(2 * np.pi * np.arange(2000) / 200),
                            300 + 100 * np.sin(2 * np.pi * np.arange(2000) / 200)])  # fmt: skip
    assert begins(small, 200.0).size in (18, 19, 20)
