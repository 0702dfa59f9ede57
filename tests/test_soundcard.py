"""A sound card's calibration in the core, and the card's process over a stream that plays the part of PortAudio's."""

from __future__ import annotations

import json
import math
import threading
from typing import Any

import numpy as np
import pytest
from tests.test_amplifier_sheet import rig_of

from lucid_anvil.core.audio.card import dropouts, levels
from lucid_anvil.core.errors import BadInput
from lucid_anvil.rig import soundcard
from lucid_anvil.rig.device import Wire, unpack, wire_pair

RATE = 48000.0


def test_one_meter_reading_and_a_loop_give_volts_and_delay() -> None:
    t = np.arange(48000) / RATE
    sent = np.where(t > 0.1, 0.5 * np.sin(2 * np.pi * 997 * t), 0.0)
    heard = np.concatenate([np.zeros(731), 0.8 * sent[:-731]]) + 1e-5 * np.random.default_rng(0).standard_normal(48000)
    # 0.5 of a full scale of 2.6 V peak is 0.919 V rms.
    made = levels(sent, heard, RATE, 997.0, 0.5 * 2.6 / math.sqrt(2))
    assert made.delay == 731
    assert made.output_volts == pytest.approx(2.6, rel=1e-4)
    assert made.input_volts == pytest.approx(2.6 / 0.8, rel=1e-4)
    with pytest.raises(ValueError, match="not heard"):
        levels(sent, 1e-5 * np.random.default_rng(1).standard_normal(48000), RATE, 997.0, 1.0)


@pytest.mark.parametrize("lost", [7, 64, 300])
def test_lost_samples_show_as_a_jump_of_the_phase(lost: int) -> None:
    x = np.sin(2 * np.pi * 997 * np.arange(96000) / RATE) + 1e-4 * np.random.default_rng(2).standard_normal(96000)
    assert dropouts(x, RATE, 997.0).size == 0
    assert dropouts(x, RATE, 997.3).size == 0
    cut = np.concatenate([x[:40000], x[40000 + lost :]])
    found = dropouts(cut, RATE, 997.0)
    assert found.size == 1 and found[0] == pytest.approx(40000 / RATE, abs=0.01)
    assert dropouts(x[:100], RATE, 997.0).size == 0


class Loop:
    """A card whose output is wired to its inputs, 100 samples late and at half the level."""

    def __init__(self, lose_at: int = -1) -> None:
        self.line = np.zeros((100, 2))
        self.count, self.lose_at, self.closed = 0, lose_at, False

    def start(self) -> None:
        pass

    def write(self, data: Any) -> bool:
        self.line = np.concatenate([self.line, 0.5 * np.asarray(data, dtype=float)])
        return False

    def read(self, frames: int) -> tuple[np.ndarray, bool]:
        made, self.line = self.line[:frames], self.line[frames:]
        self.count += 1
        return made, self.count == self.lose_at

    def close(self) -> None:
        self.closed = True


def card_rig(**card: Any) -> Any:
    rig = rig_of()
    end = rig.front_end.model_copy(update={"driver": "soundcard", "block": 256, "rate": RATE})
    return rig.model_copy(update={"front_end": end.model_copy(update={"card": end.card.model_copy(update=card)})})


def test_the_cards_process_plays_hears_and_tells_what_it_lost() -> None:
    rig = card_rig(output_volts=4.0, input_volts=10.0, delay=100)
    ours, theirs = wire_pair()
    stream = Loop(lose_at=6)
    thread = threading.Thread(target=soundcard.serve, args=(rig, Wire(theirs), lambda _rig: stream), daemon=True)
    thread.start()
    ours.send_json(b"C", {"name": "route", "value": {"A": "differential"}})
    rows, said, drive = [], [], np.sin(2 * np.pi * 1000 * np.arange(256) / RATE)
    while len(rows) < 12:
        assert ours.ready(5)
        kind, payload = ours.receive()
        if kind == b"I":
            rows.append(unpack(payload, 2, 256).samples)
            ours.send(b"O", drive.astype("<f8").tobytes())
        elif kind == b"X":
            said.append(json.loads(payload)["dropout"])
    ours.send(b"Q")
    thread.join(5)
    whole = np.concatenate(rows, axis=1)[:, 1024:]
    # Volts out over 4 V full scale, halved by the loop, times 10 V: 1.25 times; the source's row lies beside it.
    assert np.allclose(whole[0], 1.25 * whole[-1], atol=1e-5) and np.max(np.abs(whole[0])) > 1.2
    assert np.all(whole[1] == 0)
    assert len(said) == 1 and "lost samples" in said[0] and "does not count" in said[0]
    assert stream.closed


def test_without_a_card_or_its_calibration_it_says_so(monkeypatch: pytest.MonkeyPatch) -> None:
    def none() -> Any:
        raise BadInput(soundcard.NO_PORTAUDIO)

    monkeypatch.setattr(soundcard, "portaudio", none)
    for rig, stream, says in (
        (card_rig(output_volts=4.0, input_volts=10.0), soundcard.opened, "PortAudio is not installed"),
        (card_rig(), lambda _rig: Loop(), "volts are not known"),
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
