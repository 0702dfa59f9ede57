"""Electronic data sheets: bit by bit, checksums, and matching with what the ledger knows."""

from __future__ import annotations

import datetime
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lucid_anvil.core.errors import BadInput
from lucid_anvil.formats.teds import PAGE, Basic, Bits, DataSheet, decode, encode, with_checksums, without_checksums
from lucid_anvil.lab.identity import judged, matching, take_in
from lucid_anvil.lab.plans import SensorRecord

BASIC = Basic(4101, 10, "B", 3, 7)
TODAY = datetime.date(2026, 3, 2)


def test_the_basic_data_lie_where_the_standard_puts_them() -> None:
    held = int.from_bytes(without_checksums(encode(DataSheet(BASIC)))[:8], "little")
    assert held & 0x3FFF == 4101
    assert held >> 14 & 0x7FFF == 10
    assert held >> 29 & 0x1F == 2
    assert held >> 34 & 0x3F == 3
    assert held >> 40 == 7
    assert decode(encode(DataSheet(BASIC))) == DataSheet(BASIC)


def test_bits_come_lowest_first() -> None:
    bits = Bits()
    bits.put(0b101, 3)
    bits.put(0x1F, 5)
    bits.put(1, 1)
    assert bits.whole() == bytes([0b11111101, 1])
    back = Bits(bits.whole())
    assert (back.take(3), back.take(5), back.take(1)) == (0b101, 0x1F, 1)
    with pytest.raises(BadInput, match="does not fit"):
        bits.put(8, 3)
    with pytest.raises(BadInput, match="middle of a field"):
        Bits(b"\1").take(9)


@given(st.floats(1e-6, 100), st.booleans(), st.floats(200, 50000), st.integers(0, 20000))
def test_accelerometers_come_back_within_their_resolution(
    value: float, transfer: bool, resonance: float, day: int
) -> None:
    date = datetime.date(1998, 1, 1) + datetime.timedelta(days=day)
    values: dict[str, Any] = {
        "quantity": "accelerometer", "sensitivity": value, "direction": "z", "polarity": "negative", "calibrated": date,
        "transfer": "yes" if transfer else "no", "calibrated_by": "KB", "period": 365, "reference_temperature": 23.0,
    }  # fmt: skip
    if transfer:
        values |= {"resonance": resonance, "quality": 25.0, "temperature_coefficient": 0.05}
    back = decode(encode(DataSheet(BASIC, 25, values)))
    assert back.kind == "accelerometer" and back.basic == BASIC
    assert back.values["sensitivity"] == pytest.approx(value, rel=0.00016)
    assert (back.values["calibrated"], back.values["calibrated_by"], back.values["period"]) == (date, "KB", 365)
    assert (back.values["direction"], back.values["polarity"]) == ("z", "negative")
    assert back.values["high_pass"] is None
    if transfer:
        assert back.values["resonance"] == pytest.approx(resonance, rel=0.0105)


@pytest.mark.parametrize(
    ("number", "values", "kind"),
    [(25, {"quantity": "force sensor", "sensitivity": 0.0022, "stiffness": 1e8}, "force sensor"),
     (27, {"sensitivity": 0.05, "response": "free field"}, "microphone")],
)  # fmt: skip
def test_force_and_microphone(number: int, values: dict[str, Any], kind: str) -> None:
    back = decode(encode(DataSheet(BASIC, number, values)))
    assert back.kind == kind and back.values["sensitivity"] == pytest.approx(values["sensitivity"], rel=2e-4)


@given(st.binary(min_size=1, max_size=120), st.integers(0, 10**6))
def test_every_wrong_bit_is_seen(content: bytes, where: int) -> None:
    memory = with_checksums(content)
    assert len(memory) % PAGE == 0 and without_checksums(memory)[: len(content)] == content
    bit = where % (8 * len(memory))
    spoiled = bytearray(memory)
    spoiled[bit // 8] ^= 1 << bit % 8
    with pytest.raises(BadInput, match="checksum of page"):
        without_checksums(bytes(spoiled))


def test_sheets_that_can_not_be_read() -> None:
    bits = Bits()
    for value, count in ((1, 14), (1, 15), (1, 5), (1, 6), (1, 24), (0, 2), (99, 8)):
        bits.put(value, count)
    with pytest.raises(BadInput, match="template 99"):
        decode(with_checksums(bits.whole()))
    with pytest.raises(BadInput, match="whole pages"):
        decode(b"abc")
    with pytest.raises(BadInput, match="three letters"):
        encode(DataSheet(BASIC, 25, {"calibrated_by": "1-9"}))
    with pytest.raises(BadInput, match="out of its field"):
        encode(DataSheet(BASIC, 25, {"sensitivity": 1e9}))
    with pytest.raises(BadInput, match="one of"):
        encode(DataSheet(BASIC, 25, {"direction": "up"}))


RECORD = SensorRecord(serial="GA-07", maker="Tidewrack", model="T 10", sensitivity=10.0)
OTHER = SensorRecord(serial="GA-15", maker="Tidewrack", model="T 10", sensitivity=9.87)


def sheet(serial: int, sensitivity: float | None = 0.01) -> DataSheet:
    return DataSheet(Basic(4101, 10, "A", 1, serial), 25, {"quantity": "accelerometer", "sensitivity": sensitivity})


def test_a_sensor_is_matched_and_a_difference_said() -> None:
    assert matching(sheet(7), [OTHER, RECORD]).text == ""
    far = matching(sheet(7, 0.0105), [RECORD])
    assert far.record is RECORD and far.difference == pytest.approx(5.0, abs=0.05) and "+5.0 %" in far.text
    assert "not known" in matching(sheet(99), [RECORD]).text
    memory = encode(sheet(15)).hex()
    assert "GA-15 is plugged in here" in judged("control", memory, RECORD, [RECORD, OTHER])
    assert (
        judged("response", memory, OTHER, [RECORD, OTHER])
        == "response: GA-15: its data sheet says 10 mV, the ledger 9.87 mV/(m/s²) (+1.3 %)"
    )
    assert "checksum" in judged("control", ("ff" + memory[2:]), RECORD, [])


def test_a_sheet_is_taken_into_the_ledger(demo_lab: Any) -> None:
    ledger = demo_lab.ledger()
    values = {**sheet(7).values, "calibrated": datetime.date(2026, 1, 5), "period": 365}
    said = take_in(ledger, DataSheet(sheet(7).basic, 25, values), "GA-07", TODAY)
    last = ledger.entry("GA-07").last
    assert (
        last.sensitivity == pytest.approx(10.0, rel=2e-4) and last.due == datetime.date(2027, 1, 5) and "GA-07" in said
    )
    take_in(ledger, sheet(500), "S-500", TODAY)
    assert ledger.entry("S-500").last.date == TODAY
    with pytest.raises(BadInput, match="no sensitivity"):
        take_in(ledger, sheet(501, None), "S-501", TODAY)
    ledger.close()
