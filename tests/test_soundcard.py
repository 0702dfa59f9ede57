"""A sound card's calibration in the core, and the card's process over a stream that plays the part of PortAudio's."""

from __future__ import annotations

import datetime
import json
import math
import threading
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.test_amplifier_sheet import rig_of

from lucid_anvil.core.audio.card import LOOK, TONE_AT, dropouts, levels, look_wave
from lucid_anvil.core.errors import BadInput
from lucid_anvil.engine.preparing import prepare
from lucid_anvil.engine.rehearsal import rehearse
from lucid_anvil.lab.planning import sensors_of
from lucid_anvil.lab.textfiles import dump_yaml, load_yaml
from lucid_anvil.rig import card_calibration, soundcard
from lucid_anvil.rig.card_calibration import CardTone, calibrate, put_card
from lucid_anvil.rig.device import Wire, unpack, wire_pair
from lucid_anvil.rig.model import load_rig

RATE = 48000.0


def look(delay: int, gain: float, noise: float = 1e-5) -> tuple[np.ndarray, np.ndarray]:
    count = int((TONE_AT + LOOK) * RATE)
    sent = 0.5 * look_wave(0, count, RATE, 997.0)
    heard = np.concatenate([np.zeros(delay), gain * sent])[:count]
    return sent, heard + noise * np.random.default_rng(delay).standard_normal(count)


@pytest.mark.parametrize("delay", [0, 48, 731, 11264])
def test_one_meter_reading_and_a_loop_give_volts_and_delay(delay: int) -> None:
    # 0.5 of a full scale of 2.6 V peak is 0.919 V rms.
    made = levels(*look(delay, 0.8), RATE, 997.0, 0.5 * 2.6 / math.sqrt(2))
    assert made.delay == delay
    assert made.output_volts == pytest.approx(2.6, rel=1e-4)
    assert made.input_volts == pytest.approx(2.6 / 0.8, rel=1e-4)


def test_a_loop_that_is_none_is_told() -> None:
    for gain, noise in ((0.0, 1e-5), (0.0, 0.0), (1e-6, 1e-3)):
        with pytest.raises(ValueError, match="not heard"):
            levels(*look(100, gain, noise), RATE, 997.0, 1.0)
    with pytest.raises(ValueError, match="delay"):
        levels(*look(int(0.5 * RATE), 1.0), RATE, 997.0, 1.0)


@pytest.mark.parametrize("lost", [7, 64, 300])
def test_lost_samples_show_as_a_jump_of_the_phase(lost: int) -> None:
    x = np.sin(2 * np.pi * 997 * np.arange(96000) / RATE) + 1e-4 * np.random.default_rng(2).standard_normal(96000)
    assert dropouts(x, RATE, 997.0).size == 0
    assert dropouts(x, RATE, 997.3).size == 0
    cut = np.concatenate([x[:40000], x[40000 + lost :]])
    found = dropouts(cut, RATE, 997.0)
    assert found.size == 1 and found[0] == pytest.approx(40000 / RATE, abs=0.01)
    assert dropouts(x[:100], RATE, 997.0).size == 0


class Flags:
    """PortAudio's flags of one call."""

    def __init__(self, *on: str) -> None:
        self.on = on

    def __getattr__(self, name: str) -> bool:
        return name in self.on

    def __bool__(self) -> bool:
        return bool(self.on)


class Loop:
    """A card whose output is wired to its inputs, a block and 100 samples late and at half the level. Its clock goes as fast as it
    is answered; `flags` by number of the call, `gap` a call at which 33 samples are lost without a word."""

    def __init__(self, rig: Any, callback: Any, flags: dict[int, str] | None = None, gap: int = -1, gain: float = 0.5,
                 dies_at: int = -1) -> None:  # fmt: skip
        self.block, self.callback, self.gain = rig.front_end.block, callback, gain
        self.flags, self.gap, self.dies_at = flags or {}, gap, dies_at
        self.line = np.zeros((self.block + 100, 2))
        self.closed = threading.Event()
        self.answered: Any = None

    def start(self) -> None:
        threading.Thread(target=self._tick, daemon=True).start()

    def _tick(self) -> None:
        duplex, call = self.callback.__self__, 0
        while not self.closed.is_set() and call != self.dies_at:
            if len(duplex.waiting) <= duplex.ahead - 1:
                self.closed.wait(0.0005)  # the other side is busy; a card's clock would go on, a test's need not
                continue
            heard, self.line = self.line[: self.block], self.line[self.block :]
            playing = np.zeros((self.block, 2))
            self.callback(heard, playing, self.block, None, Flags(self.flags[call]) if call in self.flags else Flags())
            self.line = np.concatenate([self.line[33:] if call == self.gap else self.line, self.gain * playing])
            call += 1

    def close(self) -> None:
        self.closed.set()


def card_rig(**card: Any) -> Any:
    rig = rig_of()
    end = rig.front_end.model_copy(update={"driver": "soundcard", "block": 256, "rate": RATE})
    return rig.model_copy(update={"front_end": end.model_copy(update={"card": end.card.model_copy(update=card)})})


def test_the_cards_process_plays_hears_and_tells_what_it_lost() -> None:
    rig = card_rig(output_volts=[4.0], input_volts=[10.0], delay=20 * 256 + 256 + 100)
    ours, theirs = wire_pair()
    held: list[Loop] = []

    def opened(rig: Any, callback: Any) -> Loop:
        held.append(Loop(rig, callback, {8: "input_overflow"}))
        return held[0]

    thread = threading.Thread(target=soundcard.serve, args=(rig, Wire(theirs), opened), daemon=True)
    thread.start()
    ours.send_json(b"C", {"name": "route", "value": {"A": "differential"}})
    rows, said, drive = [], [], np.sin(2 * np.pi * 1000 * np.arange(256) / RATE)
    while len(rows) < 60:
        assert ours.ready(5)
        kind, payload = ours.receive()
        if kind == b"I":
            rows.append(unpack(payload, 2, 256).samples)
            ours.send(b"O", drive.astype("<f8").tobytes())
        elif kind == b"X":
            said.append(json.loads(payload)["dropout"])
    ours.send(b"Q")
    thread.join(5)
    whole = np.concatenate(rows, axis=1)[:, 40 * 256 :]
    # Volts out over 4 V full scale, halved by the loop, times 10 V: 1.25 times; the source's row lies beside it.
    assert np.allclose(whole[0], 1.25 * whole[-1], atol=1e-5) and np.max(np.abs(whole[0])) > 1.2
    assert np.all(whole[1] == 0)
    assert len(said) == 2 and "lost samples" in said[0] and "does not count" in said[0]
    # What was played into the gap comes back a delay later.
    at = [float(text.split(" at ")[1].split(" s")[0]) for text in said]
    assert at[1] - at[0] == pytest.approx((20 * 256 + 256 + 100) / RATE, abs=0.012)
    assert held[0].closed.is_set()


def test_without_a_card_or_its_calibration_it_says_so(monkeypatch: pytest.MonkeyPatch) -> None:
    def none() -> Any:
        raise BadInput(soundcard.NO_PORTAUDIO)

    monkeypatch.setattr(soundcard, "portaudio", none)
    for rig, stream, says in (
        (card_rig(output_volts=[4.0], input_volts=[10.0]), soundcard.opened, "PortAudio is not installed"),
        (card_rig(), Loop, "volts are not known"),
    ):
        ours, theirs = wire_pair()
        soundcard.serve(rig, Wire(theirs), stream)
        kind, payload = ours.receive()
        assert kind == b"X" and says in json.loads(payload)["lost"]

    class Empty:
        @staticmethod
        def query_devices() -> list[dict[str, Any]]:
            return [{"name": "speaker", "max_input_channels": 0, "max_output_channels": 2, "default_samplerate": 48e3}]

    monkeypatch.setattr(soundcard, "portaudio", Empty)
    with pytest.raises(BadInput, match="has none that plays and records"):
        soundcard.cards()


def test_a_card_is_calibrated_channel_by_channel_and_the_rig_file_keeps_its_words(tmp_path: Path) -> None:
    place = written_rig(tmp_path)
    rig, asked, said = load_rig(place), [], []

    def ask(text: str) -> float:
        asked.append(text)
        return 1.0 + len(asked)

    found = calibrate(rig, ask, said.append, Loop)
    put_card(place, found, datetime.date(2026, 11, 26))
    assert "output 1" in asked[0] and "cable it to input 2" in asked[1] and "none lost" in said[0]
    kept = load_rig(place).front_end.card
    full = math.sqrt(2) / 10 ** (card_calibration.LEVEL_DB / 20)
    assert kept.output_volts == pytest.approx([2 * full, 3 * full], rel=1e-3)
    assert kept.input_volts == pytest.approx([4 * full, 6 * full], rel=1e-3)
    # The card holds 0.1 s of silence and a block ahead, and is a hundred samples late itself.
    assert kept.delay == 4 * 2048 + 2048 + 100 and kept.calibrated == datetime.date(2026, 11, 26)
    assert "# ours" in place.read_text()


@pytest.mark.parametrize(
    ("loop", "says"),
    [
        ({"flags": {60: "output_underflow"}}, "lost samples 1 times"),
        ({"gap": 60}, "lost samples 1 times"),
        ({"gain": 0.0}, "not heard at the input"),
        ({"gain": 9.0}, "overdriven"),
        ({"dies_at": 30}, "stopped: look at its cable"),
    ],
)
def test_a_calibration_that_can_not_be_trusted_is_refused(loop: dict[str, Any], says: str,
                                                         monkeypatch: pytest.MonkeyPatch) -> None:  # fmt: skip
    monkeypatch.setattr(soundcard, "CARD_PATIENCE", 0.1)
    rig = card_rig()
    rig = rig.model_copy(update={"front_end": rig.front_end.model_copy(update={"block": 2048})})
    with pytest.raises(BadInput, match=says):
        calibrate(rig, lambda _text: 1.0, lambda _text: None, lambda r, c: Loop(r, c, **loop))


def test_a_meter_that_shows_nothing_is_no_reading() -> None:
    tone = CardTone(card_rig(), Loop)
    with pytest.raises(BadInput, match="above 0 V"):
        tone.measure(0.0)


def written_rig(folder: Path, more: str = "") -> Path:
    place = folder / "card.rig.yaml"
    place.write_text(
        "lucid-anvil-rig: 1  # ours\nname: Card\nfront_end: {driver: soundcard, rate: 48 kHz, block: 2048}\n"
        "channels:\n  - {role: A, input: 1, kind: voltage}\n  - {role: B, input: 2, kind: voltage}\n" + more
    )
    return place


def test_the_window_leads_through_the_calibration(qtbot: Any, tmp_path: Path) -> None:
    from PyQt6.QtCore import Qt
    from PyQt6.QtTest import QTest

    from lucid_anvil.domains.amplifier.window.card_view import CardView

    place = written_rig(tmp_path)
    rig = load_rig(place)
    view = CardView(rig, place, None, lambda r: CardTone(r, Loop))
    qtbot.addWidget(view)
    view.show()
    said: list[str] = []
    view.kept.connect(said.append)
    assert "off the outputs" in view.told.text() and not view.take.isVisible() and not view.keep.isVisible()
    view.play.click()
    qtbot.waitUntil(lambda: "hears" not in view.told.text() and view.picture.heard > -40, timeout=3000)
    assert "output 1" in view.told.text() and view.take.isVisible() and view.picture.on
    view.volts.setText("much")
    view.take.click()
    assert "voltmeter" in view.problem.text() and not view.found
    for i in range(2):
        view.volts.setText("700 mV")
        QTest.keyClick(view.volts, Qt.Key.Key_Return)
        qtbot.waitUntil(lambda n=i + 1: len(view.found) == n and not view.aside.open, timeout=20000)
        assert not view.problem.text() and view.volts.text() == ""
    assert view.tone is None and not view.play.isVisible() and "B: output" in view.lines.text()
    view.grab()
    view.keep.click()
    assert said and not view.isVisible()
    kept = load_rig(place).front_end.card
    assert kept.output_volts == pytest.approx([0.7 * math.sqrt(2) / 10 ** (-12 / 20)] * 2, rel=1e-3)


def test_f12_silences_the_calibration_and_nothing_is_kept(qtbot: Any, tmp_path: Path) -> None:
    from PyQt6.QtCore import Qt
    from PyQt6.QtTest import QTest

    from lucid_anvil.domains.amplifier.window.card_view import CardView

    place = written_rig(tmp_path)
    before, held = place.read_text(), []

    def tone(rig: Any) -> CardTone:
        held.append(CardTone(rig, Loop))
        return held[0]

    view = CardView(load_rig(place), place, None, tone)
    qtbot.addWidget(view)
    view.show()
    view.begin()
    QTest.keyClick(view, Qt.Key.Key_F12)
    assert held[0].ended.is_set() and not held[0].thread.is_alive() and not view.isVisible()
    assert place.read_text() == before


def test_without_a_card_the_window_says_so_and_a_silent_meter_too(
    qtbot: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from lucid_anvil.domains.amplifier.window import card_view
    from lucid_anvil.rig.instruments import Trouble

    place = written_rig(tmp_path, "instruments: {meter: {port: 5025}}\n")
    rig = load_rig(place)

    def none(_rig: Any) -> CardTone:
        raise BadInput(soundcard.NO_CARD)

    view = card_view.CardView(rig, place, None, none)
    qtbot.addWidget(view)
    view.show()
    view.begin()
    assert "has none that plays and records" in view.problem.text() and view.tone is None
    view.make_tone = lambda r: CardTone(r, Loop)
    view.begin()

    class Meter:
        def __init__(self, *_: Any) -> None:
            pass

        def number(self, _query: str) -> float:
            return 0.61234

        def close(self) -> None:
            pass

    monkeypatch.setattr(card_view, "Instrument", Meter)
    assert view.meter.isVisible()
    view.meter.click()
    qtbot.waitUntil(lambda: view.volts.text() == "0.61234 V", timeout=3000)

    def silent(*_: Any) -> Any:
        raise Trouble("The meter at 127.0.0.1:5025 can't be reached: look at its cable and power.")

    monkeypatch.setattr(card_view, "Instrument", silent)
    view.meter.click()
    qtbot.waitUntil(lambda: "can't be reached" in view.problem.text(), timeout=3000)
    view.reject()


@settings(max_examples=12, deadline=None)
@given(st.integers(0, 15000), st.floats(0.05, 3.0), st.floats(0.1, 20.0), st.floats(1e-6, 1e-3))
def test_any_loop_is_measured(delay: int, gain: float, volts: float, noise: float) -> None:
    made = levels(*look(delay, gain, noise), RATE, 997.0, volts)
    full = volts * math.sqrt(2) / 0.5
    assert made.delay == delay
    assert made.output_volts == pytest.approx(full, rel=1e-5)
    assert made.input_volts == pytest.approx(full / gain, rel=2e-3)


@settings(max_examples=20, deadline=None)
@given(st.lists(st.integers(5000, 90000), min_size=1, max_size=4), st.integers(3, 40))
def test_every_gap_is_found_where_it_is(places: list[int], lost: int) -> None:
    places = sorted(places)
    if any(b - a < 4000 for a, b in zip(places, places[1:], strict=False)):
        return
    x = np.sin(2 * np.pi * 997 * np.arange(120000) / RATE)
    if min((lost * 997 / RATE) % 1, 1 - (lost * 997 / RATE) % 1) < 0.05:
        return  # a whole period's loss can't be told from none
    keep = np.ones(x.size, dtype=bool)
    for at in places:
        keep[at : at + lost] = False
    found = dropouts(x[keep], RATE, 997.0)
    assert found.size == len(places)
    wanted = [(at - i * lost) / RATE for i, at in enumerate(places)]
    assert found == pytest.approx(wanted, abs=0.012)


def test_a_rig_file_that_can_not_take_a_calibration_stays_as_it_is(tmp_path: Path) -> None:
    place = tmp_path / "bad.rig.yaml"
    place.write_text("name: [unclosed\n")
    with pytest.raises(BadInput, match="this is not YAML"):
        put_card(place, [], datetime.date(2026, 11, 26))
    assert place.read_text() == "name: [unclosed\n" and list(tmp_path.iterdir()) == [place]


# --- a rig whose sensors are really there ----------------------------------------------------------------------------

OWN = """lucid-anvil-rig: 1
name: Own bench
front_end:
  driver: soundcard
  rate: 48 kHz
  block: 2048
  card: {output_volts: [4.0], input_volts: [10.0, 10.0], delay: 3000}
amplifier: {gain: 12}
shaker: {payload: 0.1 kg}
channels:
  - {role: control, input: 1, sensor: GA-07}
  - {role: response, input: 2, sensor: GA-15}
guards:
  - {watch: drive, limit: 3 V}
"""


def own_plan(lab: Any) -> Any:
    (lab.folder / "rigs" / "own.rig.yaml").write_text(OWN)
    data = load_yaml(lab.jobs / "0412" / "battery-tray" / "random" / "random.plan.yaml")
    data["rig"] = "../../../../rigs/own.rig.yaml"
    data["sensors"] = sensors_of(lab, lab.folder / "rigs" / "own.rig.yaml")
    data["steps"][0]["settings"]["course"] = [{"random": True, "duration": "4 s"}]
    data["steps"][0]["settings"]["control"] = {"probe": {"period": "1 s"}}
    data["walk_round"] = []
    place = lab.jobs / "0412" / "battery-tray" / "random" / "own.plan.yaml"
    place.write_text(dump_yaml(data))
    return place


def test_a_card_with_accelerometers_from_the_ledger_prepares_and_rehearses(demo_lab: Any) -> None:
    prepared = prepare(own_plan(demo_lab))
    assert not prepared.rig.is_standin and prepared.rig.standin.sensors == {}
    known = {e.sensor.serial: e.last.sensitivity for e in demo_lab.ledger().entries() if e.last}
    assert prepared.facts.sensitivity == pytest.approx(
        {"control": 1e-3 * known["GA-07"], "response": 1e-3 * known["GA-15"]}
    )
    made = rehearse(prepared)
    used = {r.key: r.value for r in made.readings}
    assert 0 < used["guard_drive"] < 100 and used["duration"] > 4
    # The rehearsal described stand-ins for itself; the rig in hand has none.
    assert prepared.rig.standin.sensors == {} and prepared.facts.delay > 0


def test_a_real_sensor_without_a_sensitivity_is_refused(demo_lab: Any) -> None:
    place = own_plan(demo_lab)
    data = load_yaml(place)
    del data["sensors"]["response"]
    place.write_text(dump_yaml(data))
    with pytest.raises(BadInput, match="response.*no sensitivity.*Ledger"):
        prepare(place)
