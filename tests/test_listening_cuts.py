"""A sensor that goes dead while a bench listens: the recording ends by itself, and what was heard before is read."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pytest

from lucid_anvil.contracts.recording import channel_of
from lucid_anvil.domains.listening.speed_reading import _stretch
from lucid_anvil.engine.preparing import prepare
from lucid_anvil.lab.takes import Take
from lucid_anvil.lab.textfiles import dump_yaml, load_yaml

Conduct = Callable[..., Any]

BENCHES = {
    "run-down": ("pump", "bilge-pump/run-down", "signal", "14 s"),
    "impact": ("hammer", "mooring-plate/impact", "response", "25 s"),
    "check": ("microphone", "bilge-pump/check", "microphone", "3 s"),
}


def with_a_dead_sensor(lab: Any, name: str) -> Any:
    """A demo plan whose sensor loses its supply on the way."""
    rig, plan, channel, at = BENCHES[name]
    place = lab.folder / "rigs" / f"{rig}.rig.yaml"
    held = load_yaml(place)
    held["standin"]["faults"] = [{"kind": "open", "channel": channel, "at": at}]
    place.write_text(dump_yaml(held), encoding="utf-8")
    return lab.jobs / "0412" / plan / f"{name}.plan.yaml"


@pytest.mark.parametrize("name", sorted(BENCHES))
def test_a_sensor_that_goes_dead_ends_the_recording(demo_lab: Any, conduct: Conduct, name: str) -> None:
    running = conduct(with_a_dead_sensor(demo_lab, name))
    running.over()
    take = Take(running.take)
    assert take.status() == "cut"
    assert f"Sensor supply on {BENCHES[name][2]}" in (take.reason() or "")
    finding = take.finding()
    assert finding is not None and finding.verdict != "inside"
    if name == "check":
        assert not finding.reading("sensitivity").valid
    if name == "impact":
        assert not finding.reading("hits_accepted").valid and finding.reading("hits_accepted").value in (2.0, 3.0, 4.0)
    if name == "run-down":
        # Orders where the speed had been before the cut; no figure, not the noise of a dead cable, where it had not.
        order = next(c for c in finding.curves if c.key == "order_5")
        reached = [y for x, y in zip(order.x, order.y, strict=True) if x > 2000]
        beyond = [y for x, y in zip(order.x, order.y, strict=True) if x < 1000]
        assert len(reached) > 5 and all(y is not None and y > 1e-3 for y in reached)
        assert len(beyond) > 3 and all(y is None for y in beyond)


def test_a_run_that_was_cut_as_it_began_has_no_speed(demo_lab: Any) -> None:
    prepared = prepare(demo_lab.jobs / "0412" / "bilge-pump/run-down" / "run-down.plan.yaml")
    x = np.random.default_rng(1).standard_normal(4 * 25_600)
    record = {"tach": channel_of("tach", "V", 25_600.0, x), "signal": channel_of("signal", "V", 25_600.0, x)}
    marks = [{"kind": "rotation", "t": 1.5, "start": 1.2}, {"kind": "trip", "t": 1.6, "action": "ease"}]
    made = prepared.method.evaluate(record, prepared.settings, marks)
    assert not any(r.valid for r in made.readings) and all(r.reason for r in made.readings)


def test_the_stretch_of_a_run() -> None:
    whole = {"kind": "rotation", "t": 4.0, "start": 3.5}
    assert _stretch([], 20.0) == (0.0, 20.0)
    assert _stretch([whole], 20.0) == (3.5, 20.0)
    assert _stretch([whole, {"kind": "rotation", "t": 18.0, "start": 3.5, "stop": 18.0}], 20.0) == (3.5, 18.0)
    assert _stretch([whole, {"kind": "trip", "t": 9.0, "action": "ease"}], 20.0) == (3.5, 8.5)
    # Cut as soon as it began: nothing is left, rather than what the cut has spoiled.
    assert _stretch([whole, {"kind": "trip", "t": 3.8, "action": "cut"}], 20.0) == (3.5, 3.5)
    # A guard that only notes cuts nothing.
    assert _stretch([whole, {"kind": "trip", "t": 9.0, "action": "note"}], 20.0) == (3.5, 20.0)
