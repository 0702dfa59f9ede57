"""A rig put together: inputs looked at, the file changed in its place alone, and the drive turned up by hand."""

from __future__ import annotations

import difflib
import math
import socket
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtCore import QMimeData, QPointF, Qt
from PyQt6.QtGui import QDropEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication
from tests.test_desktop import leave, until

from lucid_anvil.contracts.method import Facts, Got, Input
from lucid_anvil.contracts.recording import channel_of
from lucid_anvil.core.errors import BadInput
from lucid_anvil.core.signal.looking import lines, look, still
from lucid_anvil.desktop.shell.window import MainWindow
from lucid_anvil.domains.hookup.by_hand import METHOD, HandSettings
from lucid_anvil.domains.hookup.hand_run import Hand
from lucid_anvil.domains.hookup.window.device_sheets import FrontEndSheet, InstrumentSheet, ShakerSheet
from lucid_anvil.domains.hookup.window.hand_strip import level_in_volts
from lucid_anvil.domains.hookup.window.input_lanes import SENSOR, Quiet
from lucid_anvil.domains.hookup.window.rig_sheets import ChannelSheet, GuardSheet
from lucid_anvil.domains.hookup.window.stage import answer
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.engine.preparing import prepare
from lucid_anvil.engine.rehearsal import rehearse
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.ledger import Sensor
from lucid_anvil.rig.editing import (
    Card,
    add_channel,
    begin_rig,
    change_channel,
    channels_in,
    plug,
    put_channels,
    put_guard,
    rows_from_table,
)
from lucid_anvil.rig.model import load_rig

RATE, BLOCK = 10240.0, 400
FACTS = Facts(RATE, BLOCK, 5.0, {"control": 0.01}, (Input("control", "acceleration", 100.0, "m/s²"),))


# --- looking ------------------------------------------------------------------------------------------------


def test_a_look_tells_level_and_the_tone_that_stands_out() -> None:
    t = np.arange(2400) / RATE
    noise = np.random.default_rng(3).standard_normal((2, t.size))
    x = np.array([2 + 0.5 * np.sin(2 * np.pi * 163.7 * t) + 0.01 * noise[0], 0.1 * noise[1], 0 * t])
    seen = look(x, RATE)
    assert seen.mean[0] == pytest.approx(2, abs=0.01) and seen.rms[0] == pytest.approx(0.5 / math.sqrt(2), rel=0.01)
    assert seen.frequency[0] == pytest.approx(163.7, abs=0.05 * RATE / t.size * 2)
    assert np.isnan(seen.frequency[1]) and np.isnan(seen.frequency[2])  # noise and silence have no tone
    f, made = lines(x, RATE)
    at = int(np.argmax(made[0]))
    assert f[at] == pytest.approx(163.7, rel=0.06) and made[0, at] == pytest.approx(0.5 / math.sqrt(2), rel=0.1)


def test_noise_is_hardly_ever_called_a_tone() -> None:
    noise = np.random.default_rng(5).standard_normal((2000, 1024))
    assert np.sum(np.isfinite(look(noise, RATE).frequency)) == 0


def test_a_still_picture_keeps_every_peak() -> None:
    t = np.arange(2400) / RATE
    x = np.array([np.sin(2 * np.pi * 40 * t)])
    x[0, 2000] = 9.0
    times, waves = still(x, RATE, None)
    assert waves.max() == 9.0 and waves.shape[1] <= 200 and times[-1] < 2400 / RATE
    times, waves = still(x[:, :1900], RATE, 160.0)
    assert times[-1] == pytest.approx(4 / 160, rel=0.05)


def test_a_tapped_input_lights_up_and_goes_out() -> None:
    quiet = Quiet()
    for level in (1e-3, 1.1e-3, 0.9e-3):
        quiet.heed(level)
    assert quiet.lit == 0
    quiet.heed(5e-3)
    assert quiet.lit == 0  # five times is no tap
    quiet.heed(2e-2)
    assert quiet.lit > 0
    for _ in range(30):
        quiet.heed(1e-3)
    assert quiet.lit == 0


# --- the signal ---------------------------------------------------------------------------------------------


def played(hand: Hand, seconds: float) -> np.ndarray:
    return np.concatenate([hand.next_block() for _ in range(math.ceil(seconds * RATE / BLOCK))])


def test_the_level_comes_up_slowly_and_never_beyond_the_highest() -> None:
    hand = Hand(HandSettings(highest=0.5), FACTS)
    assert np.all(played(hand, 0.2) == 0)
    hand.heed({"order": "drive", "level": 3.0})
    x = played(hand, 8)
    tops = np.abs(x).reshape(-1, BLOCK).max(axis=1)
    assert tops[-1] == pytest.approx(0.5, rel=1e-3) and np.max(np.abs(x)) <= 0.5
    for second in (1, 2, 3):  # 12 dB a second, from a thousandth of the highest
        at = int(second * RATE / BLOCK)
        assert 20 * math.log10(tops[at] / 0.5e-3) == pytest.approx(12 * second, abs=1.0)
    hand.heed({"order": "drive", "level": 0.0})
    y = played(hand, 1.5)
    assert (
        np.all(y[-BLOCK:] == 0)
        and np.max(np.abs(np.diff(np.concatenate([x[-1:], y])))) < 0.5 * 2 * math.pi * 163 / RATE
    )


def test_a_new_frequency_is_glided_to_without_a_step_and_another_signal_begins_at_rest() -> None:
    hand = Hand(HandSettings(), FACTS)
    hand.heed({"order": "drive", "level": 1.0})
    before = played(hand, 6)
    hand.heed({"order": "drive", "frequency": 640.0})
    x = np.concatenate([before[-2:], played(hand, 1.5)])
    assert np.max(np.abs(np.diff(x))) < 2 * math.pi * 640 / RATE * 1.001
    assert hand.now == 640.0
    hand.heed({"order": "drive", "shape": "noise", "to": 1280.0})
    hand.heed({"order": "drive", "level": 0.6})
    y = played(hand, 14)
    tops = np.abs(y[: y.size // BLOCK * BLOCK]).reshape(-1, BLOCK).max(axis=1)
    low = int(np.argmin(tops))  # the sine is down before the noise begins
    assert tops[low] == 0 or tops[low] < 2e-3
    assert low * BLOCK / RATE == pytest.approx(1.0, abs=0.15) and np.abs(y[low * BLOCK :]).max() <= 0.6
    fallen = np.concatenate([x[-1:], y[: low * BLOCK]])
    assert np.max(np.abs(np.diff(fallen))) < 2 * math.pi * 640 / RATE * 1.01
    settled = y[-int(4 * RATE) :]
    assert np.std(settled) == pytest.approx(0.2, rel=0.1)  # a third of its peak
    power = np.abs(np.fft.rfft(settled)) ** 2
    f = np.fft.rfftfreq(settled.size, 1 / RATE)
    assert power[(f > 600) & (f < 1350)].sum() > 0.95 * power.sum()


def test_a_sweep_goes_up_and_down_again() -> None:
    hand = Hand(HandSettings(signal="sweep", frequency="100 Hz", to="200 Hz", rate="30 oct/min"), FACTS)  # type: ignore[arg-type]
    seen = []
    for _ in range(int(4.2 * RATE / BLOCK)):
        hand.next_block()
        seen.append(hand.now)
    assert max(seen) == 200 and min(seen[20:]) == 100 and seen[int(1.9 * RATE / BLOCK)] == pytest.approx(193, rel=0.02)


@pytest.mark.parametrize(
    ("text", "volts"), [("120 mV", 0.12), ("-20 dB", 0.1 * math.sqrt(2)), ("6 m/s²", 0.2), ("0.3 g", 0.0981)]
)
def test_a_level_is_typed_in_any_unit(text: str, volts: float) -> None:
    # At 0.1 V peak the control shows 30 mV rms, at 10 mV/(m/s²): 3 m/s².
    live = {"level": 0.1, "drive": 0.07, "figures": {"control": {"rms": 0.03, "frequency": 160.0}}}
    assert level_in_volts(text, live, {"control": ("m/s²", 0.01)}) == pytest.approx(volts, rel=1e-3)


def test_a_level_in_watts_goes_by_the_load() -> None:
    live = {"level": 0.1, "drive": 0.07, "figures": {"A": {"rms": 2.0, "frequency": 1000.0}}}
    inputs = {"A": ("V", 1.0)}
    assert level_in_volts("2 W", live, inputs, 8.0) == pytest.approx(0.1 * 4.0 / 2.0)
    with pytest.raises(BadInput, match="into which load"):
        level_in_volts("2 W", live, inputs)


@pytest.mark.parametrize(
    ("text", "why"), [("3", "no unit"), ("-3 V", "below zero"), ("2 N", "no input here"), ("6 m/s²", "turn it up")]
)
def test_a_level_that_says_nothing_is_refused(text: str, why: str) -> None:
    with pytest.raises(BadInput, match=why):
        level_in_volts(text, {"level": 0.1, "drive": 0.0}, {"control": ("m/s²", 0.01)})


# --- the run and its reading --------------------------------------------------------------------------------


def performed(
    settings: Any, orders: dict[int, list[dict[str, Any]]], most: int
) -> tuple[np.ndarray, list[dict[str, Any]]]:
    """The run on a path that is half the drive, two blocks late: what was recorded, and its marks."""
    run = METHOD.perform(settings, FACTS)
    want = next(run)
    drives, marks, result = [np.zeros(BLOCK), want.drive], list(want.marks), None
    rows = []
    for k in range(most):
        rows.append(0.5 * drives[k])
        got = Got(k, k * BLOCK / RATE, {"control": rows[-1], "drive": drives[k]}, result=result,
                  orders=tuple(orders.get(k, ())))  # fmt: skip
        try:
            want = run.send(got)
        except StopIteration:
            break
        result = want.compute[0](*want.compute[1]) if want.compute else None
        drives.append(want.drive)
        marks += want.marks
    return np.concatenate(rows), marks


def test_rows_are_read_from_the_record_and_the_end_is_at_rest() -> None:
    given = METHOD.Settings(highest=1.0, units={"control": "m/s²"}, sensitivity={"control": 0.01})
    orders = {5: [{"order": "drive", "level": 0.2}], 200: [{"order": "row", "text": "first", "meter": "1.02 V"}],
              205: [{"order": "drive", "level": 0.4}], 400: [{"order": "row"}], 402: [{"order": "skip"}]}  # fmt: skip
    x, marks = performed(given, orders, 900)
    assert len(x) < 900 * BLOCK and abs(x[-1]) < 1e-12
    record = {"control": channel_of("control", "V", RATE, x), "drive": channel_of("drive", "V", RATE, 2 * x)}
    finding = METHOD.evaluate(record, given, marks)
    by = {r.key: r for r in finding.readings}
    assert by["row_1_control"].value == pytest.approx(0.1 / math.sqrt(2) / 0.01, rel=1e-3)
    assert by["row_1_control"].unit == "m/s²" and by["row_1_control"].uncertainty is None
    assert by["row_2_control"].value == pytest.approx(0.2 / math.sqrt(2) / 0.01, rel=1e-3)
    assert by["row_1_meter"].value == 1.02 and by["row_1_meter"].unit == "V"
    assert "row_1_drive" not in by and "no calibration" in finding.notes[0]
    # Volts show what stands still beside them, and with a load the power into it.
    bare = METHOD.Settings(highest=1.0, load="8 ohm")
    volts = METHOD.evaluate({"A": channel_of("A", "V", RATE, 40 * x + 0.1)}, bare, marks)
    by = {r.key: r for r in volts.readings}
    assert by["row_1_a_dc"].value == pytest.approx(0.1, rel=1e-3)
    assert by["row_1_a_power"].value == pytest.approx(by["row_1_a"].value ** 2 / 8) and by["row_1_a_power"].unit == "W"
    assert not any("power" in r.key for r in finding.readings)
    # A distorted path shows it; a limit is judged; a record that is cut gives no figure.
    bent = {"control": channel_of("control", "V", RATE, x + 0.2 * x**2)}
    limited = given.model_copy(update={"limits": {"row_2_control_thd": {"high": "1 %"}}})
    told = {r.key: r for r in METHOD.evaluate(bent, limited, marks).readings}["row_2_control_thd"]
    # 0.2·x² of amplitude a has its second harmonic at 0.1·a².
    assert told.value == pytest.approx(100 * 0.1 * 0.2, rel=0.02) and told.verdict == "outside"
    cut = {"control": channel_of("control", "V", RATE, x[: int(390 * BLOCK)])}
    second = {r.key: r for r in METHOD.evaluate(cut, given, marks).readings}["row_2_control"]
    assert second.value is None and not second.valid and "ends before" in second.reason
    with pytest.raises(BadInput, match="no reading 'row_9"):
        METHOD.evaluate(record, given.model_copy(update={"limits": {"row_9_control": {"high": 1}}}), marks)


def test_it_comes_down_by_itself() -> None:
    x, _ = performed(METHOD.Settings(longest=3.0), {2: [{"order": "drive", "level": 0.5}]}, 900)
    assert x.size / RATE == pytest.approx(4.0, abs=0.6) and abs(x[-1]) < 1e-12


# --- the rig's file -----------------------------------------------------------------------------------------


def differing(before: str, after: str) -> list[str]:
    return [d for d in difflib.ndiff(before.splitlines(), after.splitlines()) if d[0] in "+-"]


def test_a_change_of_a_rig_touches_its_own_line(qtbot: Any, demo_lab: Any) -> None:
    place = demo_lab.folder / "rigs" / "shaker.rig.yaml"
    text = place.read_text().replace("channels:\n", "channels:\n  # by the door\n")
    place.write_text(text)
    change_channel(place, 1, {"range": "1 V"})
    changed = place.read_text()
    assert len(differing(text, changed)) == 2 and "range: 1 V" in changed and "# by the door" in changed
    rows = channels_in(place)
    put_channels(place, [rows[1], rows[0], *rows[2:]])
    moved = place.read_text()
    assert moved.index("role: response") < moved.index("# by the door") < moved.index("role: control")
    assert load_rig(place).channels[0].role == "response" and "# peak to peak" in moved
    for change, why in (
        ({"role": "control"}, "same role"),
        ({"input": 1}, "share one input"),
        ({"sensor": "X-1"}, "X-1"),
    ):
        with pytest.raises(BadInput, match=why):
            change_channel(place, 0, change)
        assert place.read_text() == moved
    sheet = ChannelSheet(None, place, 0, [])
    for key, text in (("coupling", "ac"), ("polarity", "reversed"), ("balanced", "balanced")):
        sheet.fields.boxes[key].setCurrentText(text)
    sheet.yes.click()
    part = load_rig(place).channels[0]
    assert (part.coupling, part.polarity, part.balanced) == ("ac", "reversed", True) and sheet.result()
    assert len(differing(moved, place.read_text())) == 2
    put_guard(place, {"watch": "stroke", "limit": "20 mm", "action": "ease"})
    put_guard(place, {"watch": "acceleration", "limit": "100 m/s^2", "action": "cut", "channel": "tray"})
    guards = load_rig(place).guards
    assert [(g.limit, g.action) for g in guards if g.watch == "stroke"] == [("20 mm", "ease")]
    assert guards[-1].channel == "tray" and len(guards) == 10
    with pytest.raises(BadInput, match="nothing to watch"):
        put_guard(place, {"watch": "current", "channel": "control", "limit": "1 A"})


def test_a_sensor_of_the_ledger_is_plugged_into_a_bench_of_stand_ins(demo_lab: Any) -> None:
    place = demo_lab.folder / "rigs" / "shaker.rig.yaml"
    add_channel(place)
    rig = plug(place, 4, Sensor("N-7", "force sensor", nominal=2.2, unit="mV/N"))
    assert (rig.channels[4].kind, rig.channels[4].sensor, rig.channels[4].input) == ("force", "N-7", 5)
    assert rig.standin.sensors["N-7"].per_unit("force") == pytest.approx(2.2e-3)
    with pytest.raises(BadInput, match="no nominal"):
        plug(place, 4, Sensor("N-8", "accelerometer"))
    assert load_rig(place).channels[4].sensor == "N-7"


def test_a_table_of_inputs_is_pasted_from_a_spreadsheet(tmp_path: Path) -> None:
    place = tmp_path / "many.rig.yaml"
    begin_rig(place, "Many", Card(inputs=2))
    table = "Input\tName\tMeasures\tSensitivity\tRange\n" + "".join(
        f"{i}\tpoint {i}\tacceleration\t10 mV/(m/s^2)\t1 V\n" for i in range(1, 41)
    )
    rig = put_channels(place, rows_from_table(table))
    assert len(rig.channels) == 40 and rig.channels[39].typed_sensitivity == pytest.approx(0.01)
    for bad, why in (
        ("Input;Nam\n1;a", "'nam'"),
        ("Input;Name\nx;a", "line 2"),
        ("Input;Name\n1;a;b", "line 2"),
        ("Input", "a line"),
    ):
        with pytest.raises(BadInput, match=why):
            rows_from_table(bad)


def test_a_card_with_accelerometers_plans_and_rehearses_without_a_stand_in(qapp: Any, tmp_path: Path) -> None:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", False)
    ledger = lab.ledger()
    ledger.add(Sensor("R-1", "accelerometer", nominal=10.0))
    sensor = ledger.entry("R-1").sensor
    ledger.close()
    place = lab.folder / "rigs" / "desk.rig.yaml"
    begin_rig(place, "Desk", Card(inputs=2))
    plug(place, 0, sensor)
    change_channel(place, 0, {"role": "control"})
    change_channel(place, 1, {"role": "response", "kind": "acceleration", "sensitivity": "5 mV/(m/s²)"})
    assert "standin" not in place.read_text()
    plan = begin_plan("random-vibration", place, "Bracket", lab.jobs / "a" / "a.plan.yaml", lab=lab)
    plan.write_text(plan.read_text().replace("1 min", "10 s"))
    made = prepare(plan)
    assert made.facts.sensitivity == {"control": pytest.approx(0.01), "response": pytest.approx(0.005)}
    # Nothing is known of the shaker: what it allows can't be told, and nobody says that it fits.
    told = rehearse(made)
    assert told.verdict == "open" and "does not describe its shaker" in told.missing[0]
    sheet = ShakerSheet(None, place)
    sheet.fields.boxes["shaker.force"].setText("120 kg")
    sheet.done_with()
    assert sheet.wrong.text() and load_rig(place).undescribed
    for key, text in (("model", "SK-9"), ("force", "120 N"), ("stroke", "12 mm")):
        sheet.fields.boxes[f"shaker.{key}"].setText(text)
    sheet.done_with()
    assert load_rig(place).shaker.force == 120 and not load_rig(place).undescribed
    assert rehearse(prepare(plan)).verdict == "inside"
    with pytest.raises(BadInput, match="above zero"):
        change_channel(place, 1, {"sensitivity": "0 mV/(m/s²)"})


def test_a_chamber_is_said_in_the_frames_sheet(qapp: Any, tmp_path: Path) -> None:
    place = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True).folder / "rigs" / "frame.rig.yaml"
    assert load_rig(place).chamber is None
    sheet = ShakerSheet(None, place)
    typed = {"host": "10.0.0.9", "port": "502", "set_register": "4", "lowest": "-40", "highest": "180"}
    for key, text in typed.items():
        sheet.fields.boxes[f"chamber.{key}"].setText(text)
    sheet.done_with()
    chamber = load_rig(place).chamber
    assert chamber is not None and (chamber.host, chamber.port, chamber.set_register) == ("10.0.0.9", 502, 4)
    assert (chamber.lowest, chamber.highest, chamber.step) == (-40, 180, 0.1)
    wrong = ShakerSheet(None, place)
    wrong.fields.boxes["chamber.port"].setText("here")
    wrong.done_with()
    assert wrong.wrong.text() and load_rig(place).chamber == chamber


# --- the window ---------------------------------------------------------------------------------------------


def test_devices_are_changed_without_a_text_file(qapp: Any, tmp_path: Path) -> None:
    place = tmp_path / "amplifier.rig.yaml"
    begin_rig(place, "Amplifier bench", Card(0, 48000.0, 2))
    place.write_text(place.read_text() + "# ours\n")
    sheet = FrontEndSheet(None, place)  # type: ignore[arg-type]
    assert sheet.fields.values()["front_end.rate"] == "48000 Hz"
    sheet.fields.boxes["front_end.rate"].setText("1 V")
    sheet.done_with()
    assert "rate" in sheet.wrong.text() and load_rig(place).front_end.rate == 48000
    sheet.fields.boxes["front_end.rate"].setText("96 kHz")
    sheet.fields.boxes["front_end.ranges"].setText("[1 V, 10 V]")
    sheet.fields.boxes["front_end.card.latency"].setText("0.2 s")
    sheet.done_with()
    end = load_rig(place).front_end
    assert (end.rate, end.ranges, end.card.latency) == (96000, [1.0, 10.0], 0.2) and "# ours" in place.read_text()

    # An instrument over the network: asked who it is, kept, and taken off again.
    bank = InstrumentSheet(None, place, "load")  # type: ignore[arg-type]
    bank.ask()
    assert "address first" in bank.who.text()
    bank.fields.boxes["host"].setText("127.0.0.1")
    bank.fields.boxes["port"].setText("99999")
    bank.done_with()
    assert "from 1 to 65535" in bank.wrong.text()
    with socket.create_server(("127.0.0.1", 0)) as nobody:
        port = nobody.getsockname()[1]
    bank.fields.boxes["port"].setText(str(port))
    bank.ask()
    until(bank.asked.isEnabled)
    assert "can't be reached" in bank.who.text() or "does not answer" in bank.who.text()
    bank.fields.boxes["limit"].setText("90")
    bank.done_with()
    rig = load_rig(place)
    assert rig.instruments["load"].port == port and rig.load is not None and rig.load.limit == 90
    off = InstrumentSheet(None, place, "load")  # type: ignore[arg-type]
    off.fields.boxes["host"].setText("")
    off.done_with()
    assert not load_rig(place).instruments

    # A guard by its words; one that could never act is refused where it is typed.
    sheet = GuardSheet(None, place)  # type: ignore[arg-type]
    sheet.fields.boxes["watch"].setCurrentText("Disk space")
    for limit, why in (("-3e8", "never be reached"), ("20 mm", "plain number"), ("3e8", "")):
        sheet.fields.boxes["limit"].setText(limit)
        sheet.done_with()
        assert why in sheet.wrong.text()
    assert [g.limit for g in load_rig(place).guards if g.watch == "disk"] == ["3e8"]

    # A guard of its own is taken away.
    guards = load_rig(place).guards
    sheet = GuardSheet(None, place, guards[0])  # type: ignore[arg-type]
    sheet._drop()
    assert [g.watch for g in load_rig(place).guards] == [g.watch for g in guards[1:]]
    sheet._drop()
    assert "no guard" in sheet.wrong.text()


def test_who_answers_is_said_with_the_time_that_it_took() -> None:
    assert answer("AI-8", "", 0.4216) == "AI-8 answers after 422 ms"
    assert answer("chamber", "Modbus TCP", 1.26) == "Chamber answers after 1.3 s · Modbus TCP"


def test_from_an_empty_folder_a_rig_is_hooked_up_and_driven_by_hand(qapp: Any, tmp_path: Path) -> None:
    window = MainWindow(begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True))
    window.resize(1280, 800)
    window.show()
    bench, hookup = window.bench, window.bench.kinds["hookup"]
    window.go("Bench")
    rig = window.lab.folder / "rigs" / "shaker.rig.yaml"

    def awake() -> bool:
        latest = bench.link.latest
        return bench.state == "walk-round" and latest is not None and bool(latest.look) and not bench.aside.open

    window.activateWindow()
    until(window.isActiveWindow)
    QTest.keyClick(window, Qt.Key.Key_R, Qt.KeyboardModifier.ControlModifier)
    sheet = QApplication.activeModalWidget()
    sheet.fields.boxes["rig"].setCurrentText("Shaker")
    sheet.done_with()
    until(awake)
    until(lambda: all(lane.seen for lane in hookup.stage.lanes))
    assert [lane.facts.role for lane in hookup.stage.lanes] == ["control", "response", "tray", "current"]
    assert bench.lefts.currentWidget() is hookup.left and "GA-07" in hookup.stage.lanes[0].facts.detail
    until(lambda: " answers after " in hookup.stage.who.text())
    assert all(np.isfinite(lane.facts.quiet.level) for lane in hookup.stage.lanes)

    # One more input, a sensor dropped on it, and its name typed.
    hookup.stage.more.click()
    until(lambda: len(hookup.stage.lanes) == 5 and awake())
    carried = QMimeData()
    carried.setData(SENSOR, b"GA-02")
    drop = QDropEvent(
        QPointF(9, 9), Qt.DropAction.CopyAction, carried, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    hookup.stage.lanes[4].dropEvent(drop)
    until(lambda: len(hookup.stage.lanes) == 5 and "GA-02" in hookup.stage.lanes[4].facts.detail and awake())
    QTest.mouseClick(hookup.stage.lanes[4], Qt.MouseButton.LeftButton)
    sheet = QApplication.activeModalWidget()
    sheet.fields.boxes["role"].setText("control")
    sheet.done_with()
    assert "same role" in sheet.wrong.text()
    sheet.fields.boxes["role"].setText("lid")
    sheet.done_with()
    until(lambda: len(hookup.stage.lanes) == 5 and hookup.stage.lanes[4].facts.role == "lid" and awake())
    assert load_rig(rig).channels[4].role == "lid"

    # Armed, turned up, noted, ended: a take like any other, read from its record.
    for check in bench.walk.shown:
        if check.kind == "signed":
            bench.link.order("sign", key=check.key, by="K.B.")
    until(lambda: all(c.done for c in bench.walk.shown))
    assert not hookup.stretches.bar.isEnabled()
    bench.link.order("begin")
    until(lambda: bench.state == "running")
    hookup.stretches.bar.setFocus()
    for _ in range(5):
        QTest.keyClick(hookup.stretches.bar, Qt.Key.Key_PageUp)
    until(lambda: (bench.link.latest.live.get("figures") or {}).get("control", {}).get("thd") is not None)
    hookup.stage.asked.emit(0)  # a driven rig is not changed
    assert QApplication.activeModalWidget() is None and "being driven" in window.strip.text()
    wanted = hookup.stretches.bar.wanted
    assert 0 < wanted < 0.1
    hookup.stretches.meter.setText("12.6 V")
    QTest.keyClick(hookup.stretches.note, Qt.Key.Key_Space)
    until(lambda: bench.link.latest.live.get("rows") == 1)
    QTest.mouseClick(hookup.end, Qt.MouseButton.LeftButton)
    until(lambda: bench.state == "done" and bench.finding is not None)
    by = {r.key: r for r in bench.finding.readings}
    assert by["row_1_meter"].value == 12.6 and by["row_1_control"].value > 0.05 and by["row_1_lid"].unit == "m/s²"
    assert not hookup.stage.lanes[0].seen  # nothing stands there as if it still came in
    # What a person set there stays when the rig is woken again, its words too.
    plan = bench.plan_file
    plan.write_text(plan.read_text().replace("settings: {}", "settings: {highest: 0.5 V}  # ours"))
    assert hookup.wake(rig)
    until(awake)
    assert bench.prepared.settings.highest == 0.5 and "# ours" in plan.read_text()
    bench.leave()
    assert bench.stages.currentWidget() is bench.nothing and bench.lefts.currentWidget() is bench.docket
    leave(window)
