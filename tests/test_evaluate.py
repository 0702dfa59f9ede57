"""`evaluate accelerometer-comparison` on records that some other recorder wrote, through the command line."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from tests.conftest import Synthetic, make_record

from lucid_anvil.contracts import registry
from lucid_anvil.contracts.finding import as_json, from_json
from lucid_anvil.contracts.recording import channel_of
from lucid_anvil.contracts.settings import check
from lucid_anvil.core.errors import BadInput

METHOD = registry.get("accelerometer-comparison")


def cli(*words: object) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-m", "lucid_anvil.cli", *map(str, words)], capture_output=True, text=True, timeout=120
    )


def finding_of(record: Synthetic, **settings: Any) -> Any:
    held = {"reference_sensitivity": "10 mV/(m/s²)", "steps": record.steps, **settings}
    made = check(METHOD.Settings, {k: v for k, v in held.items() if v is not None}, "settings")
    channels = {k: channel_of(k, "V", record.rate, v) for k, v in record.channels.items()}
    return METHOD.evaluate(channels, made, ())


def test_foreign_csv_to_the_stated_figures(tmp_path: Path, record: Synthetic) -> None:
    csv = record.write_csv(tmp_path / "r.csv", ("acc ref [V]", "acc unit [V]"))
    settings = record.write_settings(tmp_path / "s.yaml", "reference_frequency: 160 Hz\nreference_uncertainty: 0.5 %\n")
    done = cli("evaluate", METHOD.name, csv, "--settings", settings, "--role", "reference=acc ref", "--role", "unit=2",
               "--json", "-")  # fmt: skip
    assert done.returncode == 0, done.stderr
    found = json.loads(done.stdout)
    assert found["format"] == "lucid-anvil-findings"
    assert found["version"] == 1
    readings = {r["key"]: r for r in found["readings"]}
    truth = 10 * abs(record.ratio[160.0])
    assert readings["sensitivity"]["value"] == pytest.approx(truth, rel=5e-4)
    assert readings["sensitivity"]["unit"] == "mV/(m/s²)"
    assert readings["sensitivity"]["uncertainty"] == pytest.approx(0.005 * truth, rel=0.1)
    curves = {c["key"]: c for c in found["curves"]}
    for f, d in zip(curves["deviation"]["x"], curves["deviation"]["y"], strict=True):
        assert d == pytest.approx(100 * (abs(record.ratio[f]) / abs(record.ratio[160.0]) - 1), abs=0.1)
    assert set(curves) == {"sensitivity", "deviation", "phase"}
    assert readings["deviation_max"]["value"] == pytest.approx(
        100 * (abs(record.ratio[5000.0]) / abs(record.ratio[160.0]) - 1), abs=0.1
    )


@pytest.mark.parametrize(
    ("limit", "verdict", "code"), [("20 %", "inside", 0), ("1 %", "outside", 1), ("2.9 %", "open", 5)]
)
def test_exit_codes_follow_the_verdict(tmp_path: Path, record: Synthetic, limit: str, verdict: str, code: int) -> None:
    csv = record.write_csv(tmp_path / "r.csv")
    extra = f"reference_frequency: 160 Hz\nlimits: {{deviation_max: {{low: -{limit}, high: {limit}}}}}\n"
    settings = record.write_settings(tmp_path / "s.yaml", extra)
    done = cli("evaluate", METHOD.name, csv, "--settings", settings, "--json", tmp_path / "o.json")
    assert done.returncode == code, done.stderr
    assert json.loads((tmp_path / "o.json").read_text())["verdict"] == verdict
    assert "is assumed" in done.stderr


@pytest.mark.parametrize(
    ("extra", "words"),
    [
        ("reference_respnse: []\n", "did you mean 'reference_response'"),
        ("settle: 5 s\n", "as long as the step"),
        ("reference_frequency: 800 Hz\n", "not among the steps"),
        ("limits: {deviation_mx: {low: 1 %}}\n", "did you mean 'deviation_max'"),
        ("limits: {deviation_max: {lo: 1 %}}\n", "use low and high"),
        ("limits: {deviation_max: {low: 5 %, high: 1 %}}\n", "low is above high"),
        ("limits: {deviation_max: {low: 5 V}}\n", "can't be turned"),
        ("decision: maybe\n", "guarded or simple"),
        ("input_range: {foo: 5 V}\n", "no role 'foo'"),
        ("mains: 55 Hz\n", "50 Hz, 60 Hz or auto"),
        ("reference_response: [[10, 1 mV/(m/s^2)]]\n", "not both"),
        ("nominal_sensitivity: 1 pC/(m/s²)\n", "does not go with"),
        ("reference_uncertainty: 5 kg\n", "can't be turned"),
        ("steps: []\n", "YAML|none is given"),
        ("a: [1\n", "not YAML"),
    ],
)
def test_bad_settings_are_one_line_and_exit_2(tmp_path: Path, record: Synthetic, extra: str, words: str) -> None:
    import re

    csv = tmp_path / "r.csv"
    if not csv.exists():
        make_record((160.0, 400.0), dwell=0.4).write_csv(csv)
    small = make_record((160.0, 400.0), dwell=0.4)
    settings = small.write_settings(tmp_path / "s.yaml", extra)
    done = cli("evaluate", METHOD.name, csv, "--settings", settings, "--json", tmp_path / "o.json")
    assert done.returncode == 2, (done.stdout, done.stderr)
    assert len(done.stderr.strip().splitlines()) == 1
    assert re.search(words, done.stderr)
    assert not (tmp_path / "o.json").exists()


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("evaluate", "no-such", "x.csv"), "no method"), (("evaluate", METHOD.name, "x.csv"), "no such file"),
        (("evaluate", "--bad"), "--help"), (("frobnicate",), "frobnicate"), (("report", "nowhere", "--pdf", "x"), "take"),
        (("methods", "accelerometer-comparisn"), "did you mean"), (("run", "nowhere.yaml"), "no such file"),
        (("evaluate", METHOD.name, "x.csv", "--role", "unit"), "ROLE=CHANNEL"),
    ],
)  # fmt: skip
def test_usage_errors_are_one_line_too(words: tuple[str, ...], said: str, tmp_path: Path) -> None:
    done = cli(*words)
    assert done.returncode == 2
    assert len(done.stderr.strip().splitlines()) == 1
    assert said in done.stderr


def test_methods_lists_settings_roles_readings_and_curves() -> None:
    assert METHOD.name in cli("methods").stdout
    text = cli("methods", METHOD.name).stdout
    for word in ("reference, unit", "reference_response", "deviation_max", "phase"):
        assert word in text


def test_convert_and_schema(tmp_path: Path) -> None:
    csv = make_record((160.0,), dwell=0.3).write_csv(tmp_path / "a.csv")
    assert cli("convert", csv, tmp_path / "b.mat").returncode == 0
    assert cli("convert", csv, tmp_path / "b.mat").returncode == 2
    assert cli("convert", csv, tmp_path / "b.xyz").returncode == 2
    assert json.loads(cli("schema", "rig").stdout)["title"] == "Rig"
    assert cli("schema", "foo").returncode == 2


def test_a_struck_step_is_null_and_makes_the_finding_open(record: Synthetic) -> None:
    spoiled = make_record()
    a = int(spoiled.steps[1]["start"] * spoiled.rate)
    spoiled.channels["unit"][a + 40000 : a + 43000] = 0.0
    found = as_json(finding_of(spoiled, reference_frequency="160 Hz"))
    curve = next(c for c in found["curves"] if c["key"] == "deviation")
    at = curve["x"].index(50.0)
    assert curve["y"][at] is None
    assert curve["valid"][at] is False
    assert curve["uncertainty"][at] is None
    assert any(n.startswith("50 Hz struck") for n in found["notes"])
    assert found["verdict"] == "open"
    assert finding_of(record, reference_frequency="160 Hz").verdict == "none"


def test_a_struck_reference_step_makes_the_sensitivity_invalid() -> None:
    spoiled = make_record()
    a, b = (int(spoiled.steps[2][k] * spoiled.rate) for k in ("start", "stop"))
    spoiled.channels["unit"][a:b] = 0.0
    finding = finding_of(spoiled, reference_frequency="160 Hz", nominal_sensitivity="10 mV/(m/s²)")
    for key in ("sensitivity", "nominal_deviation", "deviation_max"):
        reading = finding.reading(key)
        assert reading.value is None
        assert not reading.valid
        assert reading.verdict == "open"
    assert "160 Hz" in (finding.reading("sensitivity").reason or "")


def test_one_step_alone_deviates_by_nothing() -> None:
    one = make_record((160.0,), dwell=0.8)
    finding = finding_of(one, limits={"sensitivity": {"low": "9 mV/(m/s²)", "high": "11 mV/(m/s²)"}})
    assert finding.reading("deviation_max").value == 0.0
    assert finding.verdict == "inside"


def test_a_step_outside_the_response_is_not_computed(record: Synthetic) -> None:
    response = [[10, "10 mV/(m/s²)"], [1000, "10 mV/(m/s²)"]]
    finding = finding_of(record, reference_sensitivity=None, reference_response=response, reference_frequency="160 Hz")
    assert finding.curve("sensitivity").y[-1] is None
    assert finding.curve("sensitivity").y[0] is not None
    assert any("5000 Hz struck" in n for n in finding.notes)
    with pytest.raises(BadInput, match="must rise"):
        finding_of(record, reference_sensitivity=None, reference_response=list(reversed(response)))


def test_units_of_the_channels_are_converted(record: Synthetic) -> None:
    made = check(METHOD.Settings, {"reference_sensitivity": "98.0665 mV/g", "steps": record.steps}, "settings")
    plain = METHOD.evaluate({k: channel_of(k, "V", record.rate, v) for k, v in record.channels.items()}, made, ())
    mixed = METHOD.evaluate(
        {
            "reference": channel_of("r", "mV", record.rate, 1e3 * record.channels["reference"]),
            "unit": channel_of("u", "mV", record.rate, 1e3 * record.channels["unit"]),
        },
        made, (),
    )  # fmt: skip
    assert mixed.reading("sensitivity").value == pytest.approx(plain.reading("sensitivity").value, rel=1e-9)
    motion = check(METHOD.Settings, {"steps": record.steps}, "settings")
    in_g = METHOD.evaluate(
        {
            "reference": channel_of("r", "g", record.rate, record.channels["reference"] / 0.01 / 9.80665),
            "unit": channel_of("u", "V", record.rate, record.channels["unit"]),
        },
        motion, (),
    )  # fmt: skip
    assert in_g.reading("sensitivity").value == pytest.approx(plain.reading("sensitivity").value, rel=1e-9)


def test_charge_sensors_are_in_picocoulomb(record: Synthetic) -> None:
    made = check(METHOD.Settings, {"reference_sensitivity": 10, "steps": record.steps}, "settings")
    channels = {
        "reference": channel_of("r", "V", record.rate, record.channels["reference"]),
        "unit": channel_of("u", "pC", record.rate, 100 * record.channels["unit"]),
    }
    reading = METHOD.evaluate(channels, made, ()).reading("sensitivity")
    assert reading.unit == "pC/(m/s²)"
    # 100 pC for each volt of a unit with 10·|ratio| mV/(m/s²).
    assert reading.value == pytest.approx(abs(record.ratio[160.0]), rel=1e-3)
    through = check(
        METHOD.Settings,
        {"reference_sensitivity": 10, "steps": record.steps, "conditioner_gain": "10 mV/pC"}, "settings",
    )  # fmt: skip
    volts = {k: channel_of(k, "V", record.rate, v) for k, v in record.channels.items()}
    reading = METHOD.evaluate(volts, through, ()).reading("sensitivity")
    assert reading.unit == "pC/(m/s²)"
    assert reading.value == pytest.approx(abs(record.ratio[160.0]), rel=1e-3)


@pytest.mark.parametrize(
    ("unit", "settings", "words"),
    [
        ("N", {}, "volts or coulombs"), ("", {}, "states no unit"),
        ("V", {"reference_sensitivity": "1 pC/(m/s²)"}, "does not go with"),
        ("V", {"reference_sensitivity": None}, "give reference_sensitivity"),
    ],
)  # fmt: skip
def test_channels_that_do_not_go_with_the_settings(
    record: Synthetic, unit: str, settings: dict[str, Any], words: str
) -> None:
    held = {"reference_sensitivity": "10 mV/(m/s²)", "steps": record.steps, **settings}
    made = check(METHOD.Settings, {k: v for k, v in held.items() if v is not None}, "settings")
    channels = {
        "reference": channel_of("r", "V", record.rate, record.channels["reference"]),
        "unit": channel_of("u", unit, record.rate, record.channels["unit"]),
    }
    with pytest.raises(BadInput, match=words):
        METHOD.evaluate(channels, made, ())


@pytest.mark.parametrize(
    ("step", "words"),
    [
        ({"frequency": 160, "start": 0.4, "stop": 99}, "ends at"),
        ({"frequency": 26000, "start": 0.4, "stop": 1}, "below half|stay below"),
        ({"frequency": 160, "start": 1, "stop": 0.5}, "stop after its start"),
        ({"frequency": -5, "start": 0, "stop": 0.5}, "above zero"),
    ],
)
def test_steps_that_contradict_the_record(record: Synthetic, step: dict[str, float], words: str) -> None:
    with pytest.raises(BadInput, match=words):
        finding_of(record, steps=[step])


def test_full_scale_turns_a_sound_file_into_volts(tmp_path: Path) -> None:
    import soundfile

    small = make_record((160.0, 400.0), dwell=0.5)
    both = np.column_stack([small.channels["reference"] / 2.5, small.channels["unit"]])
    soundfile.write(tmp_path / "r.wav", both, 51200, subtype="DOUBLE")
    settings = small.write_settings(tmp_path / "s.yaml", "full_scale: {reference: 2.5 V}\n")
    done = cli("evaluate", METHOD.name, tmp_path / "r.wav", "--settings", settings, "--role", "reference=ch1", "--role",
               "unit=ch2", "--json", "-")  # fmt: skip
    value = json.loads(done.stdout)["readings"][0]["value"]
    assert value == pytest.approx(10 * abs(small.ratio[160.0]), rel=1e-3)


def test_a_finding_survives_its_json(record: Synthetic) -> None:
    finding = finding_of(record, limits={"deviation_max": {"low": "-5 %", "high": "5 %"}})
    assert as_json(from_json(json.loads(json.dumps(as_json(finding))))) == as_json(finding)


def test_points_against_a_corridor(record: Synthetic) -> None:
    wide = finding_of(record, corridor=[[10, "-10 %", "10 %"], [10000, "-10 %", "10 %"]])
    assert wide.verdict == "inside"
    assert wide.curve("deviation").low == (-10.0,) * 5
    narrow = finding_of(record, corridor=[[10, "-10 %", "10 %"], [1000, "-10 %", "10 %"], [5000, "-0.1 %", "0.1 %"]])
    assert narrow.verdict == "outside"


def test_the_budget_is_in_the_detail_and_its_capability_is_a_floor(record: Synthetic) -> None:
    budget = [
        {"source": "mounting", "half_width": "0.2 %"},
        {"source": "gain_ratio", "half_width": [[10, "0.1 %"], [5000, "0.3 %"]]},
    ]
    finding = finding_of(record, reference_uncertainty="0.3 %", budget=budget, capability="2 %")
    rows = (finding.detail or {})["budgets"]
    assert {e["key"] for e in rows[0]["entries"]} >= {"reference", "mounting", "gain_ratio", "repeatability"}
    assert all(r["floored"] and r["expanded"] == 2.0 for r in rows)
    assert rows[0]["dominant"] == "Reference, its certificate"


def test_cold_start_is_late_in_its_imports() -> None:
    names = ("numpy", "scipy", "PyQt6", "pydantic", "h5py")
    code = f"import sys, lucid_anvil.cli; print([m for m in {names} if m in sys.modules])"
    assert subprocess.run([sys.executable, "-c", code], capture_output=True, text=True).stdout.strip() == "[]"
