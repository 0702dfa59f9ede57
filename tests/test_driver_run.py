"""A driver on the stand-in line: gain found first, one sweep, and what is wrong with the part told."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from lucid_anvil.engine.inprocess import Played, play_through
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.engine.preparing import prepare
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.editing import put

LIMITS = {"polarity": {"low": 1}, "loose": {"high": 0}, "rub_max": {"high": "-60 dB"},
          "sensitivity": {"low": "96 dB", "high": "98 dB"}, "resonance": {"low": "90 Hz", "high": "100 Hz"},
          "impedance_minimum": {"low": "5.8 ohm", "high": "6.8 ohm"}, "thd_max": {"high": "3 %"}}  # fmt: skip


def driven(
    tmp_path: Path, part: str = "", changes: tuple[tuple[str, str], ...] = (), **settings: Any
) -> tuple[Any, Played]:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    rig = lab.folder / "rigs" / "driver.rig.yaml"
    text = rig.read_text().replace("{kind: driver}", "{kind: driver" + (f", {part}" if part else "") + "}")
    for old, new in changes:
        assert old in text
        text = text.replace(old, new)
    rig.write_text(text)
    plan = begin_plan("driver-check", rig, "Driver 1", lab.jobs / "a" / "a.plan.yaml", lab=lab)
    for key, value in {"limits": LIMITS, "decision": "simple", **settings}.items():
        put(plan, (key,), value)
    prepared = prepare(plan)
    played = play_through(prepared)
    if not prepared.method.readable(played.marks):
        return None, played
    held = {k: c for k, c in played.channels.items() if k != "drive"}
    return prepared.method.judged(held, prepared.settings, played.marks), played


@pytest.mark.parametrize("play", [{}, {"first": "20 Hz", "last": "20 kHz"}, {"seconds": "0.6 s"}])
def test_a_good_part_is_inside_at_its_level(tmp_path: Path, play: dict[str, str]) -> None:
    found, played = driven(tmp_path, play=play)
    assert found.verdict == "inside", [(r.key, r.value, r.verdict) for r in found.readings]
    by = {r.key: r.value for r in found.readings}
    assert by["resonance"] == pytest.approx(95, rel=0.01) and by["delay"] == pytest.approx(0.0029, abs=1e-4)
    assert by["sensitivity"] == pytest.approx(20 * np.log10(0.5 * 2.83 / 20e-6), abs=0.2)
    # The level was asked for at the terminals, whatever the amplifier's gain.
    x = np.asarray(played.channels["stimulus"].samples())
    assert np.abs(x).max() == pytest.approx(np.sqrt(2) * 2.83, rel=0.01)
    assert [m["gain"] for m in played.marks if m["kind"] == "sweep"] == [pytest.approx(5, rel=1e-3)]


@pytest.mark.parametrize(
    ("part", "key"),
    [("reversed: on", "polarity"), ("rub: 0.01", "rub_max"), ("loose: 6", "loose"), ("sensitivity: 0.4 Pa/V", "sensitivity"),
     ("resonance: 120 Hz", "resonance"), ("resistance: 7.4 ohm", "impedance_minimum"), ("square: 0.03", "thd_max")],
)  # fmt: skip
def test_what_is_wrong_with_a_part_is_told(tmp_path: Path, part: str, key: str) -> None:
    found, _ = driven(tmp_path, part)
    assert found.verdict == "outside" and found.reading(key).verdict == "outside"


@pytest.mark.parametrize(("part", "said"), [("", "inside"), ("leak: 0.9", "outside")])
def test_a_leak_is_told_by_its_curve_alone(tmp_path: Path, part: str, said: str) -> None:
    found, _ = driven(tmp_path, part, curve_limits={"impedance": {"x": ["90 Hz", "100 Hz"], "low": [25, 25]}})
    assert found.verdict == said == found.reading("margin_impedance").verdict
    assert all(r.verdict != "outside" for r in found.readings if not r.key.startswith("margin"))


@pytest.mark.parametrize(
    ("changes", "play", "why"),
    [((("gain: 5", "gain: 0.0001"),), {}, "nothing arrives"), ((), {"level": "9 V"}, "beyond the source")],
)
def test_what_can_not_be_driven_is_said_and_nothing_is_read(
    tmp_path: Path, changes: Any, play: dict[str, str], why: str
) -> None:
    found, played = driven(tmp_path, changes=changes, play=play)
    assert found is None and played.trip is not None and why in played.trip.label and played.trip.action == "ease"
    assert np.abs(played.channels["drive"].samples()).max() < 0.05  # no more than the tone that finds the gain
