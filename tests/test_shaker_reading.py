"""The shaker methods over records of any origin, as users' scripts call them."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from ruamel.yaml import YAML

from lucid_anvil.contracts import registry
from lucid_anvil.contracts.recording import channel_of
from lucid_anvil.contracts.settings import check
from lucid_anvil.core.control.sweep import Sweep
from lucid_anvil.core.errors import BadInput
from lucid_anvil.domains.shaker.course import sine_stretches
from lucid_anvil.domains.shaker.settings import ShakerSettings, decibel
from lucid_anvil.engine.evaluating import evaluate_file

RATE = 4096.0
PROFILE: dict[str, Any] = {
    "kind": "sine", "start": "10 Hz", "stop": "200 Hz", "segments": [{"displacement": "2 mm"}, {"acceleration": "20 m/s^2"}],
    "tolerance": {"low": "-1 dB", "high": "1 dB"}, "sweep": {"rate": "6 oct/min"},
}  # fmt: skip


def settings(**given: Any) -> ShakerSettings:
    return check(ShakerSettings, given, "here")


def swept(level: float = 1.0, lead: float = 0.7, down: bool = False) -> tuple[np.ndarray, np.ndarray]:
    """A control record [m/s²] that follows PROFILE, with silence before, hum and noise; and its drive [V]."""
    profile = settings(profile=PROFILE).sine().solved()
    one = Sweep(10, 200, np.log2(20) / 6 * 60)
    one = Sweep(200, 10, one.duration) if down else one
    t = np.arange(int(one.duration * RATE)) / RATE
    drive = np.sin(one.phase(t))
    x = level * profile.acceleration(one.frequency(t)) * np.sin(one.phase(t) + 0.4)
    rng = np.random.default_rng(1)
    quiet = np.zeros(int(lead * RATE))
    x = np.concatenate([quiet, x, quiet])
    x = x + 0.05 * np.sin(2 * np.pi * 50 * np.arange(x.size) / RATE) + rng.normal(0, 0.03, x.size)
    return x, np.concatenate([quiet, drive, quiet])


def write(place: Path, columns: dict[str, np.ndarray], rate: float = RATE) -> Path:
    rows = zip(*columns.values(), strict=True)
    body = "\n".join(",".join(f"{v:.7g}" for v in r) for r in rows)
    place.write_text(f"# rate_hz={rate:g}\n{','.join(columns)}\n{body}\n")
    return place


def dump(place: Path, data: dict[str, Any]) -> Path:
    with place.open("w") as file:
        YAML().dump(data, file)
    return place


@pytest.mark.parametrize("down", [False, True])
@pytest.mark.parametrize("with_drive", [False, True])
def test_a_foreign_sweep_is_found_and_read(tmp_path: Path, down: bool, with_drive: bool) -> None:
    x, drive = swept(10 ** (0.5 / 20), down=down)
    columns = {"ch a [V]": x * 0.01, **({"drive [V]": drive} if with_drive else {})}
    place = write(tmp_path / "r.csv", columns)
    rules = dump(tmp_path / "s.yaml", {"profile": PROFILE, "control_sensitivity": "10 mV/(m/s²)", "uncertainty": {"control": "2 %"},
                                      "limits": {"in_tolerance": {"low": "90 %"}}})  # fmt: skip
    made = evaluate_file("sine-sweep", place, rules, ["control=ch a"])
    c, t = made.curve("control"), made.curve("target")
    db = 20 * np.log10(np.array(c.y, float) / np.array(t.y, float))
    f = np.array(c.x)
    assert f[0] < 13.5 and f[-1] > 185
    inner = (f > 14) & (f < 190)
    assert db[inner] == pytest.approx(0.5, abs=0.1)
    assert made.reading("in_tolerance").value > 95 and made.verdict == "inside"
    low, high = made.reading("in_tolerance").interval
    assert low <= made.reading("in_tolerance").value <= high
    assert any("found from the record" in n for n in made.notes)
    if with_drive:
        assert made.reading("drive_peak").value == pytest.approx(1.0, rel=0.02)


def test_a_profile_beside_its_settings_and_a_wrong_level(tmp_path: Path) -> None:
    x, _ = swept(10 ** (1.5 / 20))
    place = write(tmp_path / "r.csv", {"control [m/s^2]": x})
    dump(tmp_path / "p.yaml", PROFILE)
    rules = dump(
        tmp_path / "s.yaml", {"profile": "p.yaml", "limits": {"in_tolerance": {"low": "95 %"}}, "decision": "simple"}
    )
    done = subprocess.run(
        [sys.executable, "-m", "lucid_anvil.cli", "evaluate", "sine-sweep", str(place), "--settings", str(rules), "--json", "-"],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    held = json.loads(done.stdout)
    assert done.returncode == 1 and held["verdict"] == "outside"
    value = {r["key"]: r["value"] for r in held["readings"]}
    assert value["in_tolerance"] < 5 and value["error_max"] == pytest.approx(1.5, abs=0.3)


def test_what_can_not_be_read_is_said(tmp_path: Path) -> None:
    silent = {"control": channel_of("control", "m/s²", RATE, np.zeros(8000))}
    made = registry.get("sine-sweep").evaluate(silent, settings(profile=PROFILE), ())
    assert not made.reading("in_tolerance").valid and "no sweep" in str(made.reading("in_tolerance").reason)
    volts = {"control": channel_of("control", "V", RATE, np.zeros(8000))}
    with pytest.raises(BadInput, match="control_sensitivity"):
        registry.get("sine-sweep").evaluate(volts, settings(profile=PROFILE), ())
    with pytest.raises(BadInput, match="profile: it is missing"):
        registry.get("sine-sweep").evaluate(silent, settings(), ())
    with pytest.raises(BadInput, match="random profile is wanted"):
        registry.get("random-vibration").evaluate(silent, settings(profile=PROFILE), ())
    with pytest.raises(BadInput, match="did you mean 'in_tolerance'"):
        registry.get("sine-sweep").evaluate(silent, settings(profile=PROFILE, limits={"in_tolerence": {"low": 1}}), ())
    with pytest.raises(BadInput, match="no role 'table'"):
        registry.get("sine-sweep").evaluate(
            silent, settings(profile=PROFILE, sensitivity={"table": "1 mV/(m/s^2)"}), ()
        )
    with pytest.raises(BadInput, match="did you mean 'profile'"):
        settings(profil=PROFILE)
    del tmp_path


POINTS = [{"frequency": 20, "density": "1 (m/s^2)^2/Hz"}, {"frequency": 500, "density": "1 (m/s^2)^2/Hz"}]


def test_a_foreign_random_record() -> None:
    rng = np.random.default_rng(2)
    x = rng.normal(0, np.sqrt(RATE / 2), int(60 * RATE))
    record = {"control": channel_of("control", "m/s²", RATE, x), "seat": channel_of("seat", "m/s²", RATE, 2 * x)}
    given = settings(profile={"kind": "random", "points": POINTS}, control={"line_spacing": "2 Hz"})
    made = registry.get("random-vibration").evaluate(record, given, ())
    assert made.reading("in_tolerance").value == 100.0 and any("±3 dB" in n for n in made.notes)
    assert made.reading("rms").value == pytest.approx(np.sqrt(480), rel=0.01)
    assert abs(made.reading("rms_error").value) < 3 * (made.reading("rms_error").uncertainty or 0)
    assert made.reading("kurtosis").value == pytest.approx(3.0, abs=0.1)
    assert made.reading("degrees_of_freedom").value == pytest.approx(2 * 60 * 2 * 2 / 1.0556, rel=0.02)
    seat, control = made.curve("response_seat"), made.curve("control")
    assert np.array(seat.y, float) == pytest.approx(4 * np.array(control.y, float), rel=1e-9)
    short = {"control": channel_of("control", "m/s²", RATE, x[:1000])}
    assert "shorter than one frame" in str(
        registry.get("random-vibration").evaluate(short, given, ()).readings[0].reason
    )


def test_a_foreign_replication_record(tmp_path: Path) -> None:
    rate = 2000.0
    t = np.arange(int(4 * rate)) / rate
    x = 30 * np.sin(2 * np.pi * 60 * t) * np.exp(-((t - 2) ** 2) * 8)
    write(tmp_path / "wanted.csv", {"a [m/s^2]": x}, rate)
    rng = np.random.default_rng(5)
    response = np.concatenate([np.zeros(3000), 1.02 * x, np.zeros(1000)]) + rng.normal(0, 0.02, 12000)
    place = write(tmp_path / "r.csv", {"control [m/s^2]": response}, rate)
    rules = dump(tmp_path / "s.yaml", {"profile": {"kind": "time", "file": "wanted.csv"}})
    made = evaluate_file("time-replication", place, rules, [])
    assert made.reading("rms_error").value == pytest.approx(2.0, abs=0.5)
    assert made.reading("level").value == pytest.approx(102.0, abs=0.2)
    assert made.reading("peak_error").value == pytest.approx(2.0, abs=0.3)
    assert made.reading("in_tolerance").value == 100.0
    assert {"control", "target", "error"} <= {c.key for c in made.curves}


def test_courses_as_people_write_them() -> None:
    base = {**PROFILE, "sweep": {"rate": "1 oct/min"}}
    octaves = np.log2(20)
    made = sine_stretches(settings(profile=base, course=[{"sweep": "both", "total": "10 min"}]))
    assert [s.sweep.start for s in made if s.sweep] == [10, 200, 10] and sum(s.duration for s in made) == pytest.approx(
        600
    )
    made = sine_stretches(settings(profile=base, course=[{"sweep": "both", "total": "10 min", "fit": "whole"}]))
    assert len(made) == 2 and made[0].duration == pytest.approx(60 * octaves)
    made = sine_stretches(settings(profile=base, course=[
        {"sweep": "up", "duration": "30 s", "level": "-6 dB", "start": "20 Hz"}, {"dwell": "50 Hz", "cycles": 1000},
        {"follow": "resonance", "duration": 5}, {"pause": "2 s"}]))  # fmt: skip
    assert [s.kind for s in made] == ["sweep", "dwell", "follow", "pause"] and made[1].duration == pytest.approx(20)
    assert made[0].level == -6 and made[0].sweep and made[0].sweep.start == 20
    for wrong in (
        [{"dwell": "500 Hz", "duration": 1}],
        [{"dwell": "50 Hz"}],
        [{"random": True}],
        [{"sweep": "up", "start": 5}],
    ):
        with pytest.raises(BadInput):
            sine_stretches(settings(profile=base, course=wrong))
    with pytest.raises(BadInput, match="one of sweep"):
        settings(course=[{"sweep": "up", "pause": 1}])
    assert decibel("-3 dB") == -3 and decibel(2) == 2
    with pytest.raises(BadInput):
        decibel("3 V")
