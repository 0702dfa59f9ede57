"""The output methods over records, as `evaluate` calls them."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from typer.testing import CliRunner

from lucid_anvil.cli import app
from lucid_anvil.contracts import registry
from lucid_anvil.contracts.finding import Finding, as_json, from_json
from lucid_anvil.contracts.recording import Channel, channel_of
from lucid_anvil.contracts.settings import check
from lucid_anvil.core.errors import BadInput

RATE = 48000.0
OUTPUTS = [n for n in registry.names() if n.startswith("output-")]


def sine(f: float, seconds: float = 1.0, a: float = 1.0, phase: float = 0.0, rate: float = RATE) -> np.ndarray:
    return a * np.sin(2 * np.pi * f * np.arange(int(seconds * rate)) / rate + phase)


def evaluate(name: str, given: dict[str, Any] | None = None, rate: float = RATE, **signals: np.ndarray) -> Finding:
    method = registry.get(name)
    record: dict[str, Channel] = {role: channel_of(role, "V", rate, x) for role, x in signals.items()}
    return method.evaluate(record, check(method.Settings, given or {}, "the settings"), ())


def hiss(seconds: float = 1.0, rms: float = 1e-5, seed: int = 0, rate: float = RATE) -> np.ndarray:
    return rms * np.random.default_rng(seed).standard_normal(int(seconds * rate))


def test_distortion_reads_level_thd_and_sinad_against_limits() -> None:
    x = sine(1000, a=math.sqrt(2)) + sine(2000, a=math.sqrt(2) * 1e-3) + hiss()
    made = evaluate("output-distortion", {"limits": {"thd": {"high": "0.2 %"}, "sinad": {"low": "70 dB"}}}, output=x)
    assert made.reading("thd").value == pytest.approx(0.1, rel=1e-3)
    assert made.reading("thd").verdict == "inside" and made.reading("sinad").verdict == "outside"
    assert made.reading("level").value == pytest.approx(1.0, rel=1e-6)
    assert made.curve("harmonics").y[0] == pytest.approx(0.1, rel=1e-3)
    assert made.verdict == "outside"


def test_a_distortion_beneath_the_noise_is_open_at_a_limit_within_its_doubt() -> None:
    made = evaluate("output-distortion", {"limits": {"thd": {"high": "0.0005 %"}}}, output=sine(1000) + hiss(rms=1e-3))
    thd = made.reading("thd")
    assert thd.interval is not None and thd.interval[0] == 0 and thd.verdict == "open"
    assert any("can't be told from the noise" in n for n in made.notes)


@pytest.mark.parametrize(
    ("given", "says"),
    [
        ({"fundamental": "30 kHz"}, "holds no tone"),
        ({"fundamental": "3 Hz"}, "six periods"),
        ({"bandwidth": ["20 Hz", "80 kHz"]}, "holds nothing above"),
        ({"bandwidth": ["20 kHz", "20 Hz"]}, "lower edge comes first"),
        ({"start": "0.5 s", "stop": "3 s"}, "ends at"),
        ({"start": 2, "stop": 1}, "stop must come after start"),
        ({"harmonic": 3}, "did you mean 'harmonics'"),
        ({"full_scale": {"input": "2 V"}}, "no role"),
    ],
)
def test_settings_that_contradict_the_record_are_said(given: dict[str, Any], says: str) -> None:
    with pytest.raises(BadInput, match=says):
        evaluate("output-distortion", given, output=sine(1000))


def test_nothing_usable_is_an_invalid_reading() -> None:
    for name, signals in (
        ("output-distortion", {"output": hiss()}),
        ("output-power", {"output": hiss()}),
        ("output-intermodulation", {"output": sine(1000) + hiss()}),
        ("output-separation", {"driven": hiss(), "undriven": hiss(seed=1)}),
        ("output-gain", {"stimulus": hiss(), "output": hiss(seed=1)}),
        ("output-response", {"stimulus": np.zeros(48000), "output": hiss()}),
    ):
        made = evaluate(name, **signals)
        assert all(not r.valid and r.value is None and r.reason for r in made.readings), name


def test_a_clipped_input_makes_a_reading_invalid_but_gives_it() -> None:
    made = evaluate("output-distortion", output=np.clip(sine(1000), -0.9, 0.9))
    assert not made.reading("thd").valid and made.reading("thd").value > 1
    ranged = evaluate("output-distortion", {"input_range": {"output": "0.5 V"}}, output=sine(1000))
    assert ranged.reading("level").reason == "the input is overloaded"
    free = evaluate("output-distortion", {"input_range": {"output": "5 V"}}, output=np.clip(sine(1000), -0.9, 0.9))
    assert free.reading("thd").valid


def test_noise_against_a_reference_level() -> None:
    x = hiss(4, 1e-3) + sine(100, 4, 1e-3 * math.sqrt(2))
    made = evaluate("output-noise", {"reference_level": "1 V"}, output=x)
    truth = 1e-3 * math.sqrt(1 + (20e3 - 20) / 24e3)
    assert 20 * math.log10(made.reading("noise").value / truth) == pytest.approx(0, abs=0.1)
    assert made.reading("snr").value == pytest.approx(-20 * math.log10(truth), abs=0.1)
    assert made.reading("mains_share").value == pytest.approx(100e-6 / truth**2, rel=0.05)
    assert made.curve("mains").x[0] == pytest.approx(100, abs=0.1)
    weighted = evaluate("output-noise", {"weighting": "A"}, output=x)
    assert weighted.reading("noise").value < made.reading("noise").value
    assert weighted.reading("snr").value is None and not weighted.reading("snr").valid


def test_response_gives_gain_corner_and_delay() -> None:
    t = np.arange(int(RATE * 3)) / RATE
    span = 3 / math.log(22e3 / 8)
    x = np.concatenate([np.sin(2 * np.pi * 8 * span * (np.exp(t / span) - 1)), np.zeros(9600)])
    y = np.concatenate([np.zeros(48), 4 * x[:-48]])
    made = evaluate("output-response", stimulus=x, output=y)
    assert made.reading("gain_reference").value == pytest.approx(20 * math.log10(4), abs=0.005)
    assert made.reading("delay").value == pytest.approx(1e-3, abs=2e-7)
    assert made.reading("flatness").value < 0.01
    assert made.reading("corner_high").value is None and "lies beyond" in made.reading("corner_high").reason
    wide = evaluate("output-response", {"band": ["5 Hz", "23 kHz"]}, stimulus=x, output=y)
    assert not wide.reading("flatness").valid
    assert max(abs(v) for v in made.curve("phase").y) < 0.5


def test_dwelling_tones_give_points_and_no_corners() -> None:
    x = np.concatenate([sine(f, 0.5) for f in (100, 1000, 10000)])
    made = evaluate("output-response", stimulus=x, output=-2 * x)
    assert made.curve("gain").x == pytest.approx((100, 1000, 10000), rel=1e-6)
    assert made.curve("phase").y == pytest.approx((180, 180, 180), abs=0.01)
    assert made.reading("corner_low").value is None and not made.reading("corner_low").valid


def test_intermodulation_finds_its_tones() -> None:
    x = sine(70, a=0.8) + sine(6000, a=0.2) + sine(6070, a=2e-3) + sine(5930, a=2e-3) + hiss()
    for given in ({}, {"f1": "70 Hz", "f2": "6 kHz"}):
        assert evaluate("output-intermodulation", given, output=x).reading("imd").value == pytest.approx(2.0, rel=0.02)
    with pytest.raises(BadInput, match="does not hold the product"):
        evaluate("output-intermodulation", {"f1": 6000, "f2": 20000}, output=x)


def test_separation_beneath_the_noise_is_a_bound() -> None:
    driven = sine(1000, a=10)
    near = evaluate("output-separation", driven=driven, undriven=sine(1000, a=1e-3) + hiss())
    assert near.reading("separation").value == pytest.approx(80, abs=0.1)
    far = evaluate(
        "output-separation", {"limits": {"separation": {"low": "60 dB"}}}, driven=driven, undriven=hiss(rms=1e-4)
    )
    reading = far.reading("separation")
    assert reading.value is None and reading.interval[0] > 100 and reading.verdict == "inside"
    held = as_json(far)
    assert held["readings"][0]["interval"]["high"] is None
    json.dumps(held, allow_nan=False)
    assert math.isinf(from_json(held).reading("separation").interval[1])


STEPS = [{"load": "off", "start": 0, "stop": 5}, {"load": "on", "start": 5, "stop": 10}]


def test_damping_factor_of_a_coarse_meter_is_open() -> None:
    readings = np.repeat([12.0, 11.99], 5)
    limits = {"damping_factor": {"low": 2000}}
    made = evaluate("output-impedance", {"load": 8, "steps": STEPS, "limits": limits}, rate=1.0, output=readings)
    assert made.reading("damping_factor").verdict == "open"
    still = evaluate("output-impedance", {"steps": STEPS, "limits": {"damping_factor": {"low": 200}}}, rate=1.0,
                     output=np.full(10, 12.0) + np.repeat([0.01, 0.01], 5))  # fmt: skip
    damping = still.reading("damping_factor")
    assert damping.value is None and damping.verdict == "inside" and damping.interval[0] > 300
    assert any("more than" in n for n in still.notes)


def test_damping_factor_of_a_waveform() -> None:
    x = np.concatenate([sine(1000, a=10), sine(1000, a=10 * 4 / 4.02)]) + hiss(2)
    steps = [{"load": "off", "start": 0.1, "stop": 0.9}, {"load": "on", "start": 1.1, "stop": 1.9}]
    made = evaluate("output-impedance", {"load": 4, "load_measured": "4.0 ohm", "steps": steps}, output=x)
    assert made.reading("source_impedance").value == pytest.approx(0.02, rel=0.01)
    assert made.reading("damping_factor").value == pytest.approx(200, rel=0.01)
    with pytest.raises(BadInput, match="load on and one"):
        evaluate("output-impedance", {"steps": steps[:1]}, output=x)


def test_power_offset_gain_and_common_mode() -> None:
    x = sine(1000, a=math.sqrt(2) * 12) + 0.03 + hiss()
    power = evaluate("output-power", {"load": "4 ohm", "gain_uncertainty": "0.1 %"}, output=x)
    assert power.reading("power").value == pytest.approx(36.0, rel=1e-4)
    assert power.reading("power").uncertainty == pytest.approx(0.072, rel=0.05)
    assert evaluate("output-offset", output=x).reading("offset").value == pytest.approx(0.03, abs=1e-5)
    gain = evaluate("output-gain", stimulus=sine(1000, a=0.5), output=sine(1000, a=10, phase=-0.1))
    assert gain.reading("gain").value == pytest.approx(20 * math.log10(20), abs=1e-6)
    assert gain.reading("phase").value == pytest.approx(-math.degrees(0.1), abs=1e-4)
    steps = [{"mode": "differential", "start": 0, "stop": 1, "drive": 0.1},
             {"mode": "common", "start": 1, "stop": 2, "drive": 1.0}]  # fmt: skip
    both = np.concatenate([sine(1000, a=2), sine(1000, a=0.02)]) + hiss(2)
    made = evaluate("output-common-mode", {"steps": steps}, output=both)
    assert made.reading("common_mode_rejection").value == pytest.approx(60, abs=0.05)


def test_a_sound_file_through_the_command_line(tmp_path: Path) -> None:
    place = tmp_path / "amp.wav"
    soundfile.write(place, 0.5 * sine(1000) + 5e-4 * sine(3000), int(RATE), subtype="FLOAT")
    (tmp_path / "s.yaml").write_text("full_scale: {output: 40 V}\nlimits: {thd: {high: 0.2 %}}\n")
    out = tmp_path / "found.json"
    words = ["evaluate", "output-distortion", place, "--settings", tmp_path / "s.yaml", "--json", out]
    code = CliRunner().invoke(app, [str(w) for w in words]).exit_code
    made = json.loads(out.read_text())
    read = {r["key"]: r for r in made["readings"]}
    assert code == 0 and read["thd"]["value"] == pytest.approx(0.1, rel=1e-3)
    assert read["level"]["value"] == pytest.approx(20 / math.sqrt(2), rel=1e-4)


@pytest.mark.parametrize("name", OUTPUTS)
def test_meter_readings_are_no_waveform(name: str) -> None:
    """Below 50 Hz only offset and impedance have anything to read."""
    method = registry.get(name)
    slow = {role: np.full(20, 1.0) + np.arange(20) * 0.01 for role in method.roles}
    given = {"steps": STEPS} if name == "output-impedance" else {}
    if name in ("output-impedance", "output-offset"):
        assert evaluate(name, given, rate=1.0, **slow).readings
        return
    with pytest.raises(BadInput, match="meter readings"):
        evaluate(name, given, rate=1.0, **slow)
