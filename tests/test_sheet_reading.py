"""From a record and its marks to a sheet, on records made in closed form: what counts, what does not and why."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest

from lucid_anvil.contracts import registry
from lucid_anvil.contracts.finding import Finding
from lucid_anvil.contracts.recording import channel_of
from lucid_anvil.contracts.settings import check
from lucid_anvil.core.audio import response
from lucid_anvil.domains.amplifier.sheet_reading import out_of_supply
from lucid_anvil.domains.amplifier.sheet_settings import SheetSettings

RATE = 48000.0
SHEET = registry.get("amplifier-sheet")


def settings(*steps: dict[str, Any], **more: Any) -> SheetSettings:
    held = {"channels": ["A", "B"], "loads": [8], "rated": {8: "40 W"}, "steps": list(steps), "gain_uncertainty": "0.1 %",
            "supply": {"nominal": "230 V", "within": "1 %"}, **more}  # fmt: skip
    return check(SheetSettings, held, "sheet")


def record(seconds: float = 4.0, gains: tuple[float, float] = (20.0, 19.0), third: float = 0.0) -> dict[str, Any]:
    t = np.arange(int(seconds * RATE)) / RATE
    drive = 0.1 * math.sqrt(2) * np.sin(2 * np.pi * 1000 * t)
    made = {"drive": drive}
    for name, gain in zip("AB", gains, strict=True):
        made[name] = gain * (drive + third * 0.1 * math.sqrt(2) * np.sin(6 * np.pi * 1000 * t))
    rng = np.random.default_rng(1)
    return {k: channel_of(k, "V", RATE, x + 1e-6 * rng.standard_normal(x.size)) for k, x in made.items()}


def mark(key: str, start: float, stop: float, **more: Any) -> dict[str, Any]:
    return {"kind": "reading", "t": start, "key": key, "start": start, "stop": stop, "drive": 0.1, **more}


GAIN = {"method": "output-gain", "name": "gain", "drive": {"voltage": "0.1 V"},
        "limits": {"gain": {"low": "25 dB", "high": "27 dB"}, "difference": {"low": "-1 dB", "high": "1 dB"}}}  # fmt: skip
MARKS = [mark("gain_A_8", 0.5, 1.5), mark("gain_B_8", 2.0, 3.0)]


def test_each_reading_is_of_its_own_stretch_and_channel() -> None:
    found = SHEET.evaluate(record(), settings(GAIN), MARKS)
    assert found.reading("gain_A_8_gain").value == pytest.approx(20 * math.log10(20), abs=1e-4)
    assert found.reading("gain_B_8_gain").value == pytest.approx(20 * math.log10(19), abs=1e-4)
    difference = found.reading("gain_A_8_difference")
    assert difference.value == pytest.approx(20 * math.log10(20 / 19), abs=1e-4) and difference.verdict == "inside"
    assert found.reading("gain_A_8_phase_difference").value == pytest.approx(0.0, abs=1e-3)
    assert found.verdict == "inside" and found.notes == ()
    sheet = found.detail["sheet"]
    assert sheet["columns"] == ["A · 8 Ω", "B · 8 Ω"] and sheet["retake"] == []
    row = next(r for r in sheet["rows"] if r["reading"] == "Gain")
    assert (row["low"], row["high"]) == (25.0, 27.0) and set(row["cells"]) == set(sheet["columns"])


def test_what_was_not_taken_is_said_and_the_rest_read() -> None:
    found = SHEET.evaluate(record(), settings(GAIN), MARKS[:1])
    assert found.reading("gain_A_8_gain").value is not None
    assert found.notes == ("Not taken: 1 of 2 readings, the first gain_B_8.",)
    assert not any(r.key.startswith("gain_B") or "difference" in r.key for r in found.readings)


@pytest.mark.parametrize(
    ("seen", "reason"),
    [([229.0, 230.5], None), ([227.6, 230.0], "227.6 V"), ([229.0, 232.35], "232.35 V"), (None, None),
     ([220.0, 240.0], "outside 227.7 V to 232.3 V")],
)  # fmt: skip
def test_the_supply_decides_what_counts(seen: list[float] | None, reason: str | None) -> None:
    why = out_of_supply(mark("gain_A_8", 0, 1, supply=seen), settings(GAIN))
    assert (why is None) == (reason is None) and (reason is None or reason in why)
    marks = [mark("gain_A_8", 0.5, 1.5, supply=seen), MARKS[1]]
    found = SHEET.evaluate(record(), settings(GAIN), marks)
    a = found.reading("gain_A_8_gain")
    assert a.valid == (reason is None) and a.value == pytest.approx(26.02, abs=0.01)  # still said
    assert found.reading("gain_B_8_gain").valid
    assert found.verdict == ("inside" if reason is None else "open")
    assert found.detail["sheet"]["retake"] == ([] if reason is None else ["gain_A_8"])


@pytest.mark.parametrize("inside", ["parts", "points"])
def test_a_part_of_a_reading_spoils_the_whole(inside: str) -> None:
    held = mark("x", 0, 1, supply=[230.0, 230.0], **{inside: [{"supply": [230.0, 230.0]}, {"supply": [225.0, 230.0]}]})
    assert "225.0 V" in (out_of_supply(held, settings(GAIN)) or "")
    assert out_of_supply({**held, inside: [{"supply": None}, {}]}, settings(GAIN)) is None


def test_lost_samples_spoil_the_reading_they_are_in_and_no_other() -> None:
    lost = {"kind": "dropout", "t": 1.2, "text": "lost"}
    found = SHEET.evaluate(record(), settings(GAIN), [*MARKS, lost])
    assert not found.reading("gain_A_8_gain").valid and "lost samples at 1.20 s" in (
        found.reading("gain_A_8_gain").reason or ""
    )
    assert found.reading("gain_B_8_gain").valid and found.detail["sheet"]["retake"] == ["gain_A_8"]
    between = SHEET.evaluate(record(), settings(GAIN), [*MARKS, {**lost, "t": 1.8}])
    assert between.detail["sheet"]["retake"] == []


def test_a_drive_that_was_not_had_is_invalid_but_not_to_be_taken_again() -> None:
    marks = [{**MARKS[0], "why": "50 W can't be reached below the ceiling of 1 V at the input; 20 W could"}, MARKS[1]]
    found = SHEET.evaluate(record(), settings(GAIN), marks)
    assert not found.reading("gain_A_8_gain").valid and found.detail["sheet"]["retake"] == []


def test_the_newest_of_several_takes_stands_and_nothing_else_moves() -> None:
    first, again = record(), record(gains=(10.0, 5.0))
    given = settings(GAIN)
    only = given.model_copy(update={"only": ["gain_B_8"]})
    both: Finding = SHEET.together([(first, given, MARKS), (again, only, [mark("gain_B_8", 0.2, 1.2)])])  # type: ignore[attr-defined]
    assert both.reading("gain_A_8_gain").value == pytest.approx(20 * math.log10(20), abs=1e-4)
    assert both.reading("gain_B_8_gain").value == pytest.approx(20 * math.log10(5), abs=1e-4)
    assert both.reading("gain_A_8_difference").value == pytest.approx(20 * math.log10(4), abs=1e-3)


def test_power_is_of_the_load_as_hot_as_it_was_and_named_when_corrected() -> None:
    step = {"method": "output-power", "name": "power", "channels": ["A"], "drive": {"distortion": "1 %"}}
    hot = [mark("power_A_8", 0.5, 1.5, ohm=8.4, supply=[228.0, 228.0])]
    found = SHEET.evaluate(record(third=0.01), settings(step), hot)
    watts = found.reading("power_A_8_power").value
    assert watts == pytest.approx(4.0 / 8.4, rel=1e-3)
    nominal = found.reading("power_A_8_power_nominal")
    assert nominal.value == pytest.approx(watts * (230 / 228) ** 2, rel=1e-9) and "nominal" in nominal.label
    # Where rails do not follow the supply, or the drive was no search for clipping, there is nothing to correct.
    for other in (settings(step, supply={"nominal": "230 V", "regulated": True}),
                  settings({**step, "drive": {"power": "0.5 W"}})):  # fmt: skip
        plain = SHEET.evaluate(record(third=0.01), other, hot)
        assert not any("nominal" in r.key for r in plain.readings)


def test_a_stimulus_on_a_large_offset_is_one_all_the_same() -> None:
    t = np.arange(int(3 * RATE)) / RATE
    sweep = 1e-3 * np.sin(2 * np.pi * 20 / np.log(1000) * 3 * (1000 ** (t / 3) - 1))
    made = response.measure(5.0 + sweep, 2.0 * sweep, RATE)
    inside = (made.frequency > 100) & (made.frequency < 10e3)
    assert made.kind == "sweep" and 20 * np.log10(np.abs(made.gain[inside])) == pytest.approx(
        20 * np.log10(2), abs=0.05
    )
    for x, says in ((np.full(48000, 0.7), "silent"), (sweep[:300], "too short")):
        with pytest.raises(ValueError, match=says):
            response.measure(x, x, RATE)
