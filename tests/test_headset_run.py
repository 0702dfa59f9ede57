"""A headset on the stand-in couplers: both sides, then what it keeps out, each turn asked of a person."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from lucid_anvil.contracts.finding import Finding
from lucid_anvil.core.errors import BadInput
from lucid_anvil.engine.inprocess import Played, play_through
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.engine.preparing import Prepared, prepare
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.editing import put


def planned(tmp_path: Path, scene: str = "", play: Any = None, **settings: Any) -> Prepared:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    rig = lab.folder / "rigs" / "headset.rig.yaml"
    text = rig.read_text()
    assert "{kind: headset}" in text
    rig.write_text(text.replace("{kind: headset}", "{kind: headset" + (f", {scene}" if scene else "") + "}"))
    plan = begin_plan("headset-check", rig, "Headset 1", lab.jobs / "a" / "a.plan.yaml", lab=lab)
    for key, value in {"level_uncertainty": "0.3 dB", "play": play or {"seconds": "3 s"}, **settings}.items():
        put(plan, (key,), value)
    return prepare(plan)


def run(prepared: Prepared) -> tuple[Played, Finding]:
    played = play_through(prepared)
    held = {k: c for k, c in played.channels.items() if k != "drive"}
    return played, prepared.method.evaluate(held, prepared.settings, played.marks)


def test_both_sides_are_played_at_their_level(tmp_path: Path) -> None:
    prepared = planned(tmp_path, "left: {sensitivity: 6 Pa/V}, right: {sensitivity: 5 Pa/V, reversed: on}",
                       {"seconds": "3 s", "level": "0.15 V"}, band={"from": "200 Hz", "to": "4 kHz"})  # fmt: skip
    played, found = run(prepared)
    mark = next(m for m in played.marks if m["kind"] == "played")
    assert mark["level"] == pytest.approx(0.15, rel=0.03)
    by = {r.key: r.value for r in found.readings}
    assert by["sensitivity_left"] == pytest.approx(20 * np.log10(6 / 20e-6), abs=0.4)
    assert by["sensitivity_left"] - by["sensitivity_right"] == pytest.approx(20 * np.log10(6 / 5), abs=0.1)
    assert by["difference_max"] == pytest.approx(20 * np.log10(6 / 5), abs=0.3)
    assert by["polarity_left"] == 1 and by["polarity_right"] == -1
    assert by["passive"] is None and sum(m["kind"] == "asked" for m in played.marks) == 1


def test_what_it_keeps_out_is_found_worn_and_with_its_cancelling(tmp_path: Path) -> None:
    prepared = planned(tmp_path, play={"seconds": "3 s", "attenuation": "active"}, band={"from": "100 Hz", "to": "8 kHz"})
    assert [i.label for i in prepared.course()] == ["Both sides, 0.2 V", "Field, open", "Field, worn", "Field, active"]
    played, found = run(prepared)
    asked = [m["text"] for m in played.marks if m["kind"] == "asked"]
    assert len(asked) == 4 and "off the couplers" in asked[1] and "cancelling on" in asked[3]
    curves = {c.key: c for c in found.curves}
    f, kept = (np.array(getattr(curves["attenuation_passive"], k), float) for k in "xy")

    def shelf(low: float, high: float, corner: float) -> np.ndarray:
        return -20 * np.log10(np.abs((high * 1j * f + low * corner) / (1j * f + corner)))

    assert np.abs(kept - shelf(0.7, 10 ** (-22 / 20), 500.0)).max() < 0.8
    f, more = (np.array(getattr(curves["attenuation_active"], k), float) for k in "xy")
    assert np.abs(more - shelf(10 ** (-15 / 20), 1.0, 800.0)).max() < 0.8
    by = {r.key: r.value for r in found.readings}
    assert by["passive"] > 5 and by["active"] > 2 and by["sensitivity_left"] > 100


def test_a_leak_and_a_dead_side_are_told(tmp_path: Path) -> None:
    limits = {"difference_max": {"low": "-3 dB", "high": "3 dB"}}
    _, good = run(planned(tmp_path / "a", band={"from": "100 Hz", "to": "4 kHz"}, limits=limits))
    assert good.verdict == "inside"
    _, leaky = run(planned(tmp_path / "b", "right: {leak: 400 Hz}", band={"from": "100 Hz", "to": "4 kHz"}, limits=limits))
    assert leaky.verdict == "outside" and leaky.reading("difference_max").value > 10
    _, dead = run(planned(tmp_path / "c", "left: {sensitivity: 0.001 Pa/V}", band={"from": "100 Hz", "to": "4 kHz"},
                          limits=limits))  # fmt: skip
    assert dead.verdict == "outside"


@pytest.mark.parametrize(
    ("level", "changed", "why"), [("1.2 V", "", "beyond the source"), ("0.1 V", "gain: 0.00001", "nothing arrives")]
)
def test_what_can_not_be_played_is_said(tmp_path: Path, level: str, changed: str, why: str) -> None:
    prepared = planned(tmp_path, play={"level": level})
    if changed:
        prepared.rig_file.write_text(prepared.rig_file.read_text().replace("gain: 1", changed))
        prepared = prepare(prepared.plan_file)
    played = play_through(prepared)
    assert played.trip is not None and why in played.trip.label and not prepared.method.readable(played.marks)


def test_a_band_beyond_the_bench_is_refused(tmp_path: Path) -> None:
    with pytest.raises(BadInput, match="up to 21600 Hz"):
        play_through(planned(tmp_path, play={"to": "23 kHz"}))
    with pytest.raises(BadInput, match="from below to"):
        planned(tmp_path / "b", play={"from": "2 kHz", "to": "1 kHz"})
