"""A tone through the path before the first step, what a sheet reads between channels, and any reading once more."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
from tests.test_amplifier_sheet import performed, prepared, rig_of, step

from lucid_anvil.contracts.method import LEAD, Got
from lucid_anvil.contracts.settings import check
from lucid_anvil.core.errors import BadInput
from lucid_anvil.domains.amplifier import sheet_path
from lucid_anvil.domains.amplifier.sheet_path import level_of, said_of
from lucid_anvil.domains.amplifier.sheet_run import SheetRun
from lucid_anvil.domains.amplifier.sheet_settings import SheetSettings
from lucid_anvil.engine.inprocess import play_through
from lucid_anvil.engine.preparing import prepared_from

GAIN = [step("gain", "gain", loads=[8], drive={"voltage": "0.1 V"}, read=0.2)]


def wired(ready: Any, leads: dict[bool, dict[str, str]]) -> tuple[list[str], list[dict[str, Any]], dict[str, Any] | None]:
    """A run on leads of gain 30 that go, before and after a person said Done, from each input to an output; what was
    asked, the marks, and the trip."""
    run = SheetRun(ready.settings, ready.facts).perform()
    n, mended, asked, marks, trip = ready.facts.block, False, [], [], None
    want, drives, index = next(run), [np.zeros(n)] * LEAD, 0
    while trip is None and index < 4000:
        drives.append(want.drive)
        marks += want.marks
        trip = want.trip
        route = next((w["route"] for w in (want.settings,) if w and "route" in w), None)
        fed = next((c for c, way in (route or {}).items() if way == "differential"), None)
        wired.fed = fed if route is not None else getattr(wired, "fed", None)  # type: ignore[attr-defined]
        went: dict[str, Any] = {}
        if (want.live or {}).get("stage") == "asking":
            asked.append(str((want.live or {})["ask"]))
            went, mended = {"orders": ({"order": "go"},)}, True
        heard = {c: np.zeros(n) for c in "AB"}
        played = drives.pop(0)
        if wired.fed is not None and wired.fed in leads[mended]:  # type: ignore[attr-defined]
            heard[leads[mended][wired.fed]] = 30 * played  # type: ignore[attr-defined]
        try:
            want = run.send(Got(index, index * n / ready.facts.rate, heard, **went))
        except StopIteration:
            break
        index += 1
    return asked, marks, trip


def test_leads_that_are_changed_over_are_told_and_the_run_goes_on_once_they_are_right() -> None:
    ready = prepared(GAIN, path="10 mV")
    right = {"A": "A", "B": "B"}
    asked, marks, trip = wired(ready, {False: {"A": "B", "B": "A"}, True: right})
    assert trip is None and set(asked) == {"The tone for A comes back on B: change over the leads of A and B"}
    kinds = [m["kind"] for m in marks]
    assert kinds.index("path") < kinds.index("reading")
    mark = next(m for m in marks if m["kind"] == "path")
    assert mark["gains"] == {c: pytest.approx(30, rel=0.01) for c in "AB"}
    asked, _, _ = wired(ready, {False: {"A": "A"}, True: right})
    assert set(asked) == {"Nothing comes back on B (0 mV of 300 mV): look at its input lead, its load and whether it is on"}
    assert wired(prepared(GAIN), {False: {"A": "B", "B": "A"}, True: {}})[0] == []  # not asked for, not looked at


def test_what_is_said_of_a_path() -> None:
    assert said_of("A", {"A": 0.3, "B": 0.01}, 0.3) == "" == said_of("A", {"A": 0.16, "B": 0.29}, 0.3)
    assert "−10 dB off" in said_of("A", {"A": 0.095, "B": 0.0}, 0.3) and "+9 dB off" in said_of("A", {"A": 0.85}, 0.3)
    assert "comes back on B" in said_of("A", {"A": 0.01, "B": 0.3}, 0.3)
    t = np.arange(14400) / 96e3
    noisy = 0.2 * np.sin(2 * math.pi * 1e3 * t) + 0.1 * np.sin(2 * math.pi * 50 * t)
    assert level_of(noisy, 96e3) == pytest.approx(0.2 / math.sqrt(2), rel=1e-3)


def test_a_path_that_nobody_mends_ends_the_run(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(sheet_path, "LONGEST", 1.0)
    ready = prepared(GAIN, path="10 mV", gain=90)
    made = play_through(ready, longest=8.0)
    assert made.trip is not None and made.trip.guard == "path" and "A comes back −9 dB off" in made.trip.label
    assert not any(m["kind"] == "reading" for m in made.marks)
    with pytest.raises(BadInput, match="path"):
        check(SheetSettings, {"steps": GAIN, "path": "3 V", "ceiling": "2 V"}, "sheet")


def test_what_the_tone_showed_stands_in_the_finding() -> None:
    _, _, found = performed(GAIN, path="10 mV")
    # 31 V/V through 90 milliohm into 8 ohm; the crossover kink takes 0.4 % of what is small.
    told = next(n for n in found.notes if "a tone went through" in n)
    assert "A 29.7 dB, B 29.6 dB" in told


def test_phase_between_channels_over_frequency_and_a_response_beyond_40_khz() -> None:
    steps = [step("response", "response", loads=[8], drive={"power": "1 W"}, read=4.0, span=["5 Hz", "43 kHz"])]
    _, _, found = performed(steps)
    curve = found.curve("between_response_A_8")
    f = np.array(curve.x)
    assert curve.label == "response, A minus B · 8 Ω" and 41e3 < f[-1] < 43.1e3
    other = rig_of().standin.scene.channels["B"]  # type: ignore[union-attr]
    def phase(low: float, high: float) -> np.ndarray:
        """Of the stand-in's filter, which is made by the bilinear rule."""
        w, a, b = (np.tan(np.pi * np.asarray(v) / 96e3) for v in (f, low, high))
        return np.angle(1j * w / (1j * w + a) / (1j * w + b), deg=True)

    truth = phase(7.0, 28e3) - phase(other.low_corner, other.high_corner)
    inside = (f > 20) & (f < 20e3)
    assert np.max(np.abs(np.array(curve.y, float) - truth)[inside]) < 0.7
    with pytest.raises(BadInput, match="two frequencies"):
        prepared([step("response", "response", span=["90 kHz", "1 Hz"])])


def test_signal_to_noise_against_the_greatest_output_just_found() -> None:
    steps = [step("power", "power", channels=["A"], loads=[8], drive={"distortion": "1 %"}),
             step("noise", "noise", loads=[8], read=1.0, reference="power")]  # fmt: skip
    _, _, found = performed(steps)
    power, noise = found.reading("power_A_8_power"), found.reading("noise_A_8_noise")
    assert power.value is not None and noise.value is not None
    ohm = 8 * 1.002 * 1.0004
    truth = 20 * math.log10(math.sqrt(power.value * ohm) / noise.value)
    assert found.reading("noise_A_8_snr").value == pytest.approx(truth, abs=0.1)
    # B's greatest output was not looked for: its noise is told, the ratio is not.
    other = found.reading("noise_B_8_snr")
    assert other.value is None and "'power'" in str(other.reason) and "not taken on B" in str(other.reason)
    assert found.reading("noise_B_8_noise").valid
    with pytest.raises(BadInput, match="no step before it"):
        prepared([step("noise", "noise", reference="power")])


def test_an_input_that_blocks_a_mean_reads_no_offset() -> None:
    ready = prepared([step("offset", "offset", loads=[8])])
    closed = [c.model_copy(update={"coupling": "ac"}) if c.role == "B" else c for c in ready.rig.channels]
    with pytest.raises(BadInput, match=r"step 'offset': channel 'B': its input is AC coupled"):
        prepared_from(ready.plan, ready.plan_file, ready.rig.model_copy(update={"channels": closed}), ready.rig_file)
