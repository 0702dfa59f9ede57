"""What stands around a sheet's readings: warming up, points that a sagging supply spoiled, tones of 20 kHz."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from tests.test_amplifier_sheet import performed, prepared, rig_of, step

from lucid_anvil.contracts.method import Got
from lucid_anvil.domains.amplifier.sheet_settings import SheetSettings, tasks
from lucid_anvil.engine.inprocess import play_through

WARM = step("warm", "precondition", loads=[8], drive={"power": "0.1 rated"}, read="2 s")


def test_the_amplifier_is_warmed_up_before_anything_is_read() -> None:
    ready, made, found = performed([WARM, step("gain", "gain", loads=[8], drive={"power": "1 W"}, read=0.2)])
    (mark,) = [m for m in made.marks if m["kind"] == "preconditioned"]
    first = next(m for m in made.marks if m["kind"] == "reading")
    assert mark["stop"] - mark["start"] == pytest.approx(2.0, abs=0.05) and first["start"] >= mark["stop"]
    assert mark["driven"] == ["A", "B"]
    # A tenth of 50 W into 8 ohm, on both outputs.
    for channel, share in (("A", 1.0), ("B", 30.2 / 31.0)):
        x = made.channels[channel]
        heard = x.load(int((mark["start"] + 0.5) * x.rate), int((mark["stop"] - 0.1) * x.rate))
        assert np.std(heard) == pytest.approx(share * math.sqrt(5 * 8), rel=0.02)
    # It reads nothing, is missed by nobody, and is told beforehand.
    assert not any(r.key.startswith("warm") for r in found.readings) and not found.notes
    assert [i.label for i in ready.course()][0] == "warm, A · 8 Ω" and ready.course()[0].duration > 2.0


def test_a_supply_is_trimmed_while_the_amplifier_warms_up() -> None:
    sagging = rig_of(supply={"nominal": "230 V", "actual": "230 V", "sag": 0.05})
    warm = {**WARM, "drive": {"voltage": "0.5 V"}, "read": "2 s"}
    seen = {}
    for trim in (False, True):
        ready = prepared([warm, step("gain", "gain", loads=[8], drive={"power": "1 W"}, read=0.2)], sagging,
                         supply={"nominal": "230 V", "within": "0.5 %", "trim": trim})  # fmt: skip
        run, set_to = ready.method.perform(ready.settings, ready.facts, None), []
        level = 40.0 * math.sqrt(2) * np.sin(2 * np.pi * 1000 * np.arange(ready.facts.block) / ready.facts.rate)
        shown = {"supply": 226.0, "temperature": {"A": 25.0, "B": 25.0}, "resistance": {"A": 8.0, "B": 8.0}}
        want = next(run)
        for i in range(120):
            if (want.live or {}).get("stage") == "warming" and want.settings:
                set_to.append(want.settings.get("supply"))
            heard = dict.fromkeys(("A", "B", "drive"), level)
            done = None if want.compute is None else want.compute[0](*want.compute[1])
            want = run.send(Got(i, i * ready.facts.block / ready.facts.rate, heard, result=done, instruments=shown))
        run.close()
        seen[trim] = [v for v in set_to if v is not None]
    assert not seen[False] and len(seen[True]) >= 2 and all(v > 230 for v in seen[True])


def test_a_retake_needs_no_warming_and_a_continued_run_none_again() -> None:
    ready = prepared([WARM, step("gain", "gain", loads=[8], drive={"power": "1 W"}, read=0.2)])
    only = ready.settings.model_copy(update={"only": ["gain_B_8"]})
    assert isinstance(only, SheetSettings) and [t.key for t in tasks(only)] == ["gain_B_8"]
    run = ready.method.perform(ready.settings, ready.facts, {"done": ["warm", "gain_A_8"], "found": {}})
    quiet = {r: np.zeros(ready.facts.block) for r in ("A", "B", "drive")}
    want, told = next(run), set()
    for i in range(8):
        told.add((want.live or {}).get("task"))
        want = run.send(Got(i, i * ready.facts.block / ready.facts.rate, quiet))
    assert told - {None} == {"gain_B_8"}
    made = play_through(replace(ready, settings=only))
    assert [m["key"] for m in made.marks if "key" in m] == ["gain_B_8"]


SERIES = step("row", "power", channels=["A"], loads=[4], drive={"power": "1 W"},
              series={"lowest": "0.5 W", "per_decade": 3})  # fmt: skip
MASK = {"x": [0.52, 185.0], "low": [0.0, 0.0], "high": [50.0, 50.0]}


def sheet_of(*, trim: bool, **more: Any) -> Any:
    return performed([{**SERIES, **more}], rig_of(supply={"nominal": "230 V", "actual": "230 V", "sag": 0.05}),
                     supply={"nominal": "230 V", "within": "0.5 %", "trim": trim})[2]  # fmt: skip


def test_points_that_a_sagging_supply_spoiled_do_not_count_and_are_retaken() -> None:
    spoiled = sheet_of(trim=False, mask=MASK)
    (curve,) = [c for c in spoiled.curves if c.key.startswith("distortion_power")]
    valid = np.array(curve.valid)
    assert valid[0] and not valid[-1] and np.all(np.diff(valid.astype(int)) <= 0)
    assert spoiled.verdict == "open" and spoiled.detail["sheet"]["retake"] == ["row_A_4"]
    assert any("row_A_4" in note for note in spoiled.notes)
    mended = sheet_of(trim=True, mask=MASK)
    (again,) = [c for c in mended.curves if c.key.startswith("distortion_power")]
    assert all(again.valid) and mended.verdict == "inside" and mended.detail["sheet"]["retake"] == []


def test_a_point_that_counts_outside_its_mask_is_outside_whatever_the_others() -> None:
    low = {**MASK, "high": [0.001, 0.001]}
    assert sheet_of(trim=False, mask=low).verdict == "outside"


def test_tones_of_20_khz_are_read_with_their_harmonics_to_80() -> None:
    rig = rig_of(a={"kink": "0 %", "third": "0.2 %", "second": "0.1 %", "high_corner": "400 kHz", "hum": "1 nV"})
    rig = rig.model_copy(update={"front_end": rig.front_end.model_copy(update={"rate": 192000.0})})
    wide, narrow = (
        step(name, "distortion", channels=["A"], loads=[8], drive={"power": "20 W"}, tones=[20000.0], read=0.4,
             settings={"bandwidth": ["20 Hz", top]})
        for name, top in (("wide", "80 kHz"), ("narrow", "50 kHz"))
    )  # fmt: skip
    thousand = step("low", "distortion", channels=["A"], loads=[8], drive={"power": "20 W"}, read=0.4)
    _, _, found = performed([wide, narrow, thousand], rig)
    values = {k: found.reading(f"{k}_A_8_thd").value for k in ("wide", "narrow", "low")}
    # The stand-in's law has no memory: at 20 kHz it distorts as at 1 kHz, less what its corner takes of the harmonics.
    assert values["wide"] == pytest.approx(values["low"], rel=0.03)
    # The band tells: to 50 kHz only the second harmonic is left.
    assert values["narrow"] < 0.75 * values["wide"]
    spectrum = next(c for c in found.curves if c.key == "spectrum_wide_A_8")
    assert max(spectrum.x) >= 80e3


def test_an_offset_that_the_signal_makes_is_told_from_the_one_at_rest() -> None:
    """An even law rectifies: v + 2·s·v²/rail has the mean 2·s·rms²/rail over the signal."""
    rig = rig_of(a={"kink": "0 %", "third": "0 %", "second": "0.2 %", "offset": "5 mV", "impedance": "1 mohm"})
    _, _, found = performed(
        [step("rest", "offset", channels=["A"], loads=[8], read=0.3),
         step("driven", "offset", channels=["A"], loads=[8], read=0.3, drive={"power": "20 W"})], rig,
    )  # fmt: skip
    rest, driven = (found.reading(f"{k}_A_8_offset") for k in ("rest", "driven"))
    assert rest.value == pytest.approx(5e-3, abs=3e-5)
    made = 2 * 0.002 * 20 * 8 / 36
    assert driven.value - rest.value == pytest.approx(made, rel=0.02)
    assert driven.uncertainty is not None and driven.uncertainty < 1e-3
