"""A reference that is read over its own line: SCPI and Modbus TCP, in the run, in the reading, silent, frozen."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtWidgets import QApplication
from tests.conftest import Running
from tests.test_desktop import until

from lucid_anvil.core.errors import BadInput
from lucid_anvil.domains.hookup.window.gauge_sheet import NONE, GaugeSheet
from lucid_anvil.engine import launch
from lucid_anvil.engine.inprocess import play_through
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.engine.preparing import prepare
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.editing import put
from lucid_anvil.lab.takes import Take
from lucid_anvil.rig.gauge import GaugeDesk, GaugePart
from lucid_anvil.rig.instruments import Trouble
from lucid_anvil.rig.model import load_rig
from lucid_anvil.rig.standins.gauge import server

COURSE = {"top": "4 kN", "steps": 4, "preloads": 1, "wait": "1 s", "read": "1 s", "positions": ["0 deg"], "same": 2}


class Press:
    """What a gauge stands on."""

    def __init__(self) -> None:
        self.at, self.quiet = 12345.0, False

    def indication(self) -> float:
        return self.at

    def silent(self) -> bool:
        return self.quiet


@pytest.mark.parametrize(
    "more",
    [{}, {"over": "modbus"}, {"over": "modbus", "table": "holding", "first": 40, "order": "low first"},
     {"over": "modbus", "words": "int32", "count": 0.001}, {"over": "modbus", "words": "int16", "count": 0.01}],
)  # fmt: skip
def test_a_gauge_is_read_in_whatever_way_it_says_its_number(more: dict[str, Any]) -> None:
    press, part = Press(), GaugePart(measures="force", unit="kN", **more)
    held = server(press, part)
    desk = GaugeDesk(part, "127.0.0.1", held.ports["gauge"], 0.3)
    try:
        (answer,) = desk.answers
        assert answer[0] == "gauge" and answer[1]
        for press.at in (12345.0, -3210.0, 0.0):
            assert desk.look()["gauge"] == pytest.approx(press.at, abs=5 if more.get("words") == "int16" else 0.5)
        press.quiet = True
        with pytest.raises(Trouble, match="gauge at .* does not answer"):
            desk.look()
        press.quiet = False
        assert desk.look()["gauge"] == pytest.approx(0, abs=1)
    finally:
        desk.close()
        held.close()
    with pytest.raises(Trouble, match="can't be reached|does not answer"):
        GaugeDesk(part, "127.0.0.1", held.ports["gauge"], 0.3).look()


def test_what_is_no_number_is_not_taken_for_one() -> None:
    press = Press()
    part = GaugePart(measures="pressure", unit="bar", over="modbus")
    held = server(press, part)
    desk = GaugeDesk(part, "127.0.0.1", held.ports["gauge"], 0.3)
    press.at = float("nan")
    with pytest.raises(Trouble, match="shows no number"):
        desk.look()
    desk.close()
    held.close()
    for wrong in ({"unit": "kN"}, {"query": "MEAS"}, {"port": 0}, {"words": "int8"}):
        with pytest.raises(ValueError):
            GaugePart.model_validate({"measures": "pressure", "unit": "bar", **wrong})


def gauged(tmp_path: Path, more: str = "", faults: str = "[]") -> Path:
    """A plan on a press whose reference stands on a gauge and on no input."""
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    rig = lab.folder / "rigs" / "press.rig.yaml"
    text = rig.read_text()
    wired = "  - {role: reference, input: 1, kind: force, range: 10 V, sensor: GF-40, supply: off}\n"
    held = text.replace(wired, "").replace("  - {watch: force, channel: reference, limit: 4.4 kN}\n", "")
    held = held.replace("room:", f"gauge: {{measures: force, unit: kN, sensor: GF-40{more}}}\nroom:")
    held = held.replace("  seed: 83\n", f"  seed: 83\n  faults: {faults}\n")
    assert held.count("gauge:") == 1 and wired in text
    rig.write_text(held)
    plan = begin_plan("force-comparison", rig, "Cell", lab.jobs / "a" / "a.plan.yaml", lab=lab)
    put(plan, ("course",), COURSE)
    return plan


def test_a_unit_is_compared_with_a_gauge_from_first_to_last(tmp_path: Path) -> None:
    plan = gauged(tmp_path)
    ready = prepare(plan)
    assert ready.plan.sensors["reference"].serial == "GF-40" and ready.settings.course.gauge
    played = play_through(ready)
    assert played.trip is None
    record = {k: c for k, c in played.channels.items() if k != "drive"}
    found = ready.method.evaluate(record, ready.settings, played.marks)
    steps = [m for m in played.marks if m["kind"] == "step"]
    assert len(steps) == 2 * 6 + 3 and all(m["reference_scatter"] >= 0 for m in steps)
    # The stand-in's own: 2.172 mV/N, and the share that its mounting adds.
    turned = 1 + 0.03e-2 * 0.766
    reading = found.reading("sensitivity")
    assert reading.value == pytest.approx(2.172e-3 * turned, rel=3e-4) and reading.uncertainty > 0
    assert any("over its own line" in n for n in found.notes)
    with pytest.raises(BadInput, match="the gauge was not read there"):
        ready.method.evaluate(record, ready.settings, [{**m, "reference": None} for m in played.marks])


@pytest.mark.parametrize(
    ("fault", "guard", "word"),
    [("{kind: silent, channel: gauge, at: 40 s}", "instrument", "gauge"),
     ("{kind: frozen, channel: gauge, at: 40 s}", "chain", "unit shows")],
)
def test_a_gauge_that_fails_takes_the_load_off(tmp_path: Path, fault: str, guard: str, word: str) -> None:
    plan = gauged(tmp_path, ", over: modbus", f"[{fault}]")
    folder, note = plan.parent / "take-001", tmp_path / "note.json"
    process = launch.start(plan, None, folder, "fast", note, "K.B.")
    run = Running(launch.wait_for(note, process, 60), process, folder)
    over = run.over(90)
    assert over.state == "done", over.message
    launch.order(run.address, "close")
    process.wait(15)
    trip = next(e for e in Take(folder).events() if e["kind"] == "trip")
    assert trip["guard"] == guard and word in trip["label"], trip


def test_a_gauge_is_put_on_a_rig_asked_and_taken_off(qapp: QApplication, tmp_path: Path) -> None:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    place = lab.folder / "rigs" / "press.rig.yaml"
    press, part = Press(), GaugePart(measures="force", unit="kN", over="modbus", first=7, words="int32", count=0.001)
    held = server(press, part)
    sheet = GaugeSheet(None, place, ["GF-40"])  # type: ignore[arg-type]
    sheet.ask()
    assert "Say what it measures" in sheet.shows.text()

    def put_in_fields(**values: str) -> None:
        for key, value in values.items():
            box = sheet.fields.boxes[key]
            (box.setCurrentText if hasattr(box, "setCurrentText") else box.setText)(value)

    put_in_fields(measures="force", unit="bar", sensor="GF-40", host="127.0.0.1", port=str(held.ports["gauge"]))
    sheet.done_with()
    assert "not in 'bar'" in sheet.wrong.text()
    put_in_fields(over="modbus", unit="kN", words="int32", count="0.001", first="7")
    assert sheet.fields.boxes["query"].isHidden() and not sheet.fields.boxes["first"].isHidden()
    sheet.ask()
    until(sheet.asked.isEnabled)
    assert "It shows 12.345 kN" in sheet.shows.text()
    sheet.done_with()
    kept = load_rig(place).gauge
    assert kept is not None and (kept.sensor, kept.first, kept.count) == ("GF-40", 7, 0.001)
    assert not load_rig(place).gauged  # its reference has an input of its own, which comes first
    held.close()
    sheet = GaugeSheet(None, place, ["GF-40"])  # type: ignore[arg-type]
    put_in_fields(over="scpi", query="MEAS:FORC?")
    sheet.done_with()
    kept = load_rig(place).gauge
    assert kept is not None and kept.query == "MEAS:FORC?" and "first" not in place.read_text()
    sheet = GaugeSheet(None, place, [])  # type: ignore[arg-type]
    put_in_fields(measures=NONE)
    sheet.done_with()
    assert load_rig(place).gauge is None


def test_a_real_front_end_needs_to_know_where_its_gauge_is(tmp_path: Path) -> None:
    place = tmp_path / "real.rig.yaml"
    text = "lucid-anvil-rig: 1\nname: Own\nfront_end: {driver: soundcard}\n"
    text += "channels:\n  - {role: unit, input: 1, kind: force}\n"
    place.write_text(text + "gauge: {measures: force, unit: kN, port: 5025}\n")
    assert load_rig(place).gauged
    place.write_text(text + "gauge: {measures: force, unit: kN}\n")
    with pytest.raises(BadInput, match="at which address and port"):
        load_rig(place)
