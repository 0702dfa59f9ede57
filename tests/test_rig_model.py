"""The rig file: what it may say, what is refused in a sentence, and what follows from it."""

from __future__ import annotations

import datetime
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lucid_anvil.contracts.settings import check
from lucid_anvil.core.errors import BadInput
from lucid_anvil.engine.loadheat import AMBIENT, LoadHeat
from lucid_anvil.formats.teds import decode
from lucid_anvil.lab.textfiles import dump_yaml
from lucid_anvil.rig.choosing import rig_for, rig_of
from lucid_anvil.rig.device import InputBlock
from lucid_anvil.rig.model import CardPart, LoadRating, Rig, load_rig
from lucid_anvil.rig.standins.inputs import InputStage

SENSORS = {
    "GA-1": {"sensitivity": "10 mV/(m/s²)"},
    "GA-2": {"sensitivity": "31 pC/(m/s^2)", "output": "charge",
             "datasheet": {"maker": 4101, "model": 7, "serial": 99, "sensitivity": "0.01 V/(m/s^2)"}},
    "F-1": {"sensitivity": "2.2 mV/N", "noise": "0.01 N"},
}  # fmt: skip


def rig(**more: Any) -> Rig:
    held = {
        "lucid-anvil-rig": 1, "name": "bench", "standin": {"sensors": SENSORS},
        "channels": [{"role": "reference", "input": 1, "sensor": "GA-1"}, {"role": "unit", "input": 2, "sensor": "GA-2"},
                     {"role": "force", "input": 3, "kind": "force", "sensor": "F-1"},
                     {"role": "current", "input": 4, "kind": "current", "scale": "0.2 V/A"}],
        **more,
    }  # fmt: skip
    return check(Rig, held, "bench.rig.yaml")


def channels(*rows: dict[str, Any]) -> dict[str, Any]:
    return {"channels": list(rows)}


@pytest.mark.parametrize(
    ("more", "says"),
    [
        (
            channels({"role": "a", "input": 1, "sensor": "GA-1"}, {"role": "a", "input": 2, "sensor": "GA-2"}),
            "same role",
        ),
        (
            channels({"role": "a", "input": 1, "sensor": "GA-1"}, {"role": "b", "input": 1, "sensor": "GA-2"}),
            "share one input",
        ),
        (channels({"role": "a", "input": 1}), "needs the serial number of its sensor"),
        (channels({"role": "a", "input": 1, "sensor": "GA-9"}), "stand-in sensor 'GA-9'.*not described"),
        (channels({"role": "a", "input": 1, "sensor": "GA-1", "on": "mode1"}), "sits on 'mode1'"),
        (channels({"role": "a", "input": 0, "sensor": "GA-1"}), "input"),
        ({"front_end": {"rate": "51.2 kV"}}, "front_end.rate"),
        ({"front_end": {"blok": 64}}, "did you mean 'block'"),
        ({"front_end": {"block": 32}}, "front_end.block"),
        ({"front_end": {"driver": "card"}}, "front_end.driver"),
        ({"front_end": {"card": {"delay": -1}}}, "front_end.card.delay"),
        ({"front_end": {"card": {"output_volts": "loud"}}}, "output_volts"),
        ({"instruments": {"scope": {"port": 5025}}}, "instruments"),
        ({"instruments": {"meter": {"port": 0}}}, "instruments.meter.port"),
        ({"room": {"supply": "230 A"}}, "room.supply"),
        ({"standin": {"sensors": SENSORS, "article": {"modes": [{"mass": "1 kg", "frequency": "90 Hz"}]}}}, "payload"),
        ({"standin": {"sensors": SENSORS, "faults": [{"at": "1 s", "kind": "gremlin"}]}}, "faults.0.kind"),
    ],
)
def test_a_rig_that_can_not_be_is_refused_in_a_sentence(more: dict[str, Any], says: str) -> None:
    with pytest.raises(BadInput, match=says) as refused:
        rig(**more)
    assert str(refused.value).startswith("bench.rig.yaml") and "\n" not in str(refused.value)


def test_sensors_say_who_they_are_and_how_much_they_give() -> None:
    made = rig()
    assert made.standin.sensors["GA-1"].per_unit("acceleration") == pytest.approx(0.01)
    assert made.standin.sensors["F-1"].per_unit("force") == pytest.approx(2.2e-3)
    assert made.standin.sensors["F-1"].noise == pytest.approx(0.01)
    assert made.standin.sensors["GA-2"].model().sensitivity == pytest.approx(31e-12)
    memories = made.identities()
    assert set(memories) == {"unit"}
    sheet = decode(bytes.fromhex(memories["unit"]))
    assert (sheet.basic.maker, sheet.basic.model, sheet.basic.serial) == (4101, 7, 99)


def test_a_damaged_data_sheet_is_told_from_a_whole_one() -> None:
    sensors = {**SENSORS, "GA-2": {**SENSORS["GA-2"], "datasheet": {**SENSORS["GA-2"]["datasheet"], "damaged": "yes"}}}
    made = rig(standin={"sensors": sensors})
    with pytest.raises(BadInput, match="checksum"):
        decode(bytes.fromhex(made.identities()["unit"]))


def test_a_cards_volts_are_one_for_all_or_one_each() -> None:
    one = check(CardPart, {"output_volts": "2 V", "input_volts": 5}, "card")
    assert one.known and [one.at(one.output_volts, i) for i in range(3)] == [2.0] * 3
    each = check(CardPart, {"output_volts": ["2 V", "2100 mV"], "input_volts": ["5 V", "4.9 V"]}, "card")
    assert [each.at(each.output_volts, i) for i in (0, 1)] == [2.0, 2.1] and each.at(each.input_volts, 1) == 4.9
    assert not CardPart().known and not check(CardPart, {"output_volts": "2 V"}, "card").known
    dated = check(CardPart, {"calibrated": "2026-11-26"}, "card")
    assert dated.calibrated == datetime.date(2026, 11, 26)


def test_the_rig_that_has_a_sensor_is_found_and_a_takes_own_is_read(tmp_path: Path) -> None:
    usual, other = tmp_path / "a.rig.yaml", tmp_path / "b.rig.yaml"
    held = rig().model_dump(by_alias=True, mode="json", exclude_none=True, exclude_defaults=True)
    usual.write_text(dump_yaml(held))
    swapped = [{**c, "sensor": {"reference": "GA-2", "unit": "GA-1"}.get(c["role"], c.get("sensor"))} if c.get("sensor")
               else c for c in held["channels"]]  # fmt: skip
    other.write_text(dump_yaml({**held, "channels": swapped}))
    assert rig_for(usual, "GA-2") == usual and rig_for(usual, "GA-1") == other
    with pytest.raises(BadInput, match="No rig has X-1 on its unit channel"):
        rig_for(usual, "X-1")
    (tmp_path / "rig.yaml").write_text(dump_yaml({**held, "calibrations": {"unit": {"serial": "GA-2"}}}))
    assert rig_of(tmp_path) == load_rig(usual)


@settings(max_examples=40, deadline=None)
@given(st.floats(5.0, 80.0), st.floats(10.0, 200.0), st.floats(0.1, 2.0), st.floats(0.5, 4.0))
def test_a_load_warms_as_its_rating_says_and_rests_where_it_must(
    watts: float, capacity: float, resistance: float, many: float
) -> None:
    """dT/dt = (P - (T - T0)/R)/C: after t it is P·R·(1 - exp(-t/RC)) above the room."""
    heat = LoadHeat(LoadRating(capacity=capacity, resistance=resistance, lowest=4.0))
    shown = {"resistance": {"A": 8.0}, "temperature": {}, "fan": True}
    volts, step = np.full(8, np.sqrt(watts * 8.0)), resistance * capacity / 400
    for _ in range(int(400 * many)):
        heat.add({"A": volts}, shown, step)
    rise = watts * resistance * (1 - np.exp(-many))
    assert heat.now["A"] - AMBIENT == pytest.approx(rise, rel=0.005)
    ahead, who = heat.hottest()
    assert who == "A" and heat.now["A"] <= ahead <= heat.now["A"] + watts / capacity + 1e-9


def test_a_fan_that_stands_still_and_a_bank_that_measures_count() -> None:
    rating = LoadRating(capacity=10.0, resistance=0.5, lowest=4.0)
    still, blown = LoadHeat(rating), LoadHeat(rating)
    for heat, fan in ((still, False), (blown, True)):
        for _ in range(2000):
            heat.add({"A": np.full(4, 20.0)}, {"resistance": {"A": 8.0}, "temperature": {}, "fan": fan}, 0.02)
    assert still.now["A"] - AMBIENT > 2.5 * (blown.now["A"] - AMBIENT)
    # A bank that says it is hotter is believed by a tenth a look.
    before = blown.now["A"]
    blown.add({"A": np.zeros(4)}, {"resistance": {"A": 8.0}, "temperature": {"A": before + 50}, "fan": True}, 0.0)
    assert blown.now["A"] == pytest.approx(before + 5.0)
    # A load that is off takes nothing; without a word from the bank the worst is taken.
    off, blind = LoadHeat(rating), LoadHeat(rating)
    off.add({"A": np.full(4, 20.0)}, {"resistance": {"A": None}, "temperature": {}, "fan": True}, 1.0)
    blind.add({"A": np.full(4, 20.0)}, None, 1.0)
    assert off.now["A"] == AMBIENT and blind.power["A"] == pytest.approx(100.0)


def test_what_lies_between_sensors_and_converters() -> None:
    held = rig(channels=[
        {"role": "closed", "input": 1, "kind": "voltage", "coupling": "ac"},
        {"role": "open", "input": 2, "kind": "voltage"},
        {"role": "pair", "input": 3, "kind": "voltage", "balanced": True},
    ], standin={"pickup": "10 mV"})  # fmt: skip
    stage, rate, n = InputStage(held), held.front_end.rate, 512
    blocks = round(4 * rate / n)
    t = np.arange(blocks * n) / rate
    wave = 2.0 + np.sin(2 * np.pi * 100 * t)
    made = np.concatenate([
        stage(InputBlock(i, np.tile(wave[i * n : (i + 1) * n], (4, 1)), np.zeros(3, bool), np.zeros(3), 21.0, 40.0, 230.0))
        .samples for i in range(blocks)
    ], axis=1)  # fmt: skip
    late = t > 3.5
    # What stands still is gone from the first, and a tone far above its corner is whole.
    assert abs(made[0, late].mean()) < 2e-3 and made[1, late].mean() == pytest.approx(2, abs=1e-3)
    assert np.ptp(made[0, late]) == pytest.approx(2, rel=0.02)
    assert np.std(made[1] - wave) == pytest.approx(0.01, rel=0.01)
    assert np.std(made[2] - wave) == pytest.approx(1e-4, rel=0.01)
    assert np.array_equal(made[3], wave)  # what the source really played
    plain = rig()
    block = InputBlock(0, np.ones((len(plain.channels) + 1, 8)), np.zeros(1, bool), np.zeros(1), 21.0, 40.0, 230.0)
    assert InputStage(plain)(block) is block
