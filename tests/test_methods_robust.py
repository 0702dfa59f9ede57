"""Odd records for every method that reads files: a finding that keeps the contract, or one sentence, never a fault."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from tests.test_output_robust import keeps_the_contract

from lucid_anvil.contracts import registry
from lucid_anvil.contracts.finding import Finding
from lucid_anvil.contracts.recording import channel_of
from lucid_anvil.contracts.settings import check
from lucid_anvil.core.errors import BadInput

RATE = 8192.0
N = 4 * 8192
T = np.arange(N) / RATE
SINE: dict[str, Any] = {"kind": "sine", "start": "10 Hz", "stop": "200 Hz", "segments": [{"acceleration": "20 m/s^2"}],
                        "tolerance": {"low": "-1 dB", "high": "1 dB"}, "sweep": {"rate": "60 oct/min"}}  # fmt: skip
RANDOM: dict[str, Any] = {"kind": "random", "points": [{"frequency": "20 Hz", "density": "0.1 (m/s^2)^2/Hz"},
                                                       {"frequency": "400 Hz", "density": "0.1 (m/s^2)^2/Hz"}],
                          "tolerance": {"low": "-3 dB", "high": "3 dB"}}  # fmt: skip
UNITS = {
    "microphone-level": ("V",), "impact-response": ("N", "m/s²"), "speed-orders": ("V", "Pa"),
    "accelerometer-comparison": ("m/s²", "V"), "sine-sweep": ("m/s²",), "random-vibration": ("m/s²",),
    "tension": ("N", "mm"), "cyclic": ("N", "mm"), "dma": ("N", "mm"), "force-comparison": ("N", "mV/V"),
    "pressure-comparison": ("Pa", "mA"), "pressure-hold": ("bar",), "torque-capability": ("N*m", "deg"),
    "step-hysteresis": ("V", "um"), "driver-check": ("V", "Pa"), "headset-check": ("Pa", "Pa"),
    "handset-cases": ("V", "Pa"), "power-endurance": ("V", "A"),
}  # fmt: skip
STEPS = [
    {"series": 1, "nominal": n, "direction": "up", "start": i + 0.1, "stop": i + 0.9} for i, n in enumerate((0, 1, 2))
]
SETTINGS: dict[str, dict[str, Any]] = {
    "microphone-level": {"level": 94, "frequency": "1 kHz"},
    "impact-response": {"block": 2048, "trigger": "5 N", "hits": 3},
    "speed-orders": {"pulses_per_rev": 1, "orders": [1, 2], "speed": {"from": 600, "to": 3000, "step": 100}},
    "accelerometer-comparison": {"reference_frequency": "160 Hz",
                                 "steps": [{"frequency": "160 Hz", "start": 0.5, "stop": 2.0},
                                           {"frequency": "80 Hz", "start": 2.0, "stop": 3.9}]},
    "sine-sweep": {"profile": SINE},
    "random-vibration": {"profile": RANDOM},
    "tension": {"specimen": {"diameter": "10 mm", "gauge_length": "50 mm"}, "toe": "on"},
    "cyclic": {"stop_share": "80 %"},
    "dma": {"geometry": {"kind": "tension", "length": "20 mm", "area": "5e-6 m^2"}},
    "force-comparison": {"fit_order": 1, "steps": STEPS},
    "pressure-comparison": {"steps": STEPS, "span": {"low": 0, "high": 2}, "output": {"low": 4, "high": 20}},
    "pressure-hold": {},
    "torque-capability": {"low": 1, "high": 9, "snug": "0.1 N*m"},
    "step-hysteresis": {},
    "driver-check": {},
    "headset-check": {"states": [{"state": "open", "start": 0, "stop": 1}, {"state": "worn", "start": 1, "stop": 2}]},
    "handset-cases": {"mask": {"low": [[200, -10], [3000, -10]], "floating": True}},
    "power-endurance": {"every": "0.5 s", "probe": {"frequency": "20 Hz"}},
}  # fmt: skip
RNG = np.random.default_rng(3)
RECORDS: dict[str, np.ndarray] = {
    "silence": np.zeros(N),
    "a constant": np.full(N, -2.5),
    "noise": RNG.standard_normal(N),
    "a tone": np.sin(2 * np.pi * 160 * T),
    "a loud kilohertz": 1e3 * np.sin(2 * np.pi * 1000 * T),
    "one click": np.eye(1, N, N // 2)[0] * 50,
    "clicks": 50.0 * ((np.arange(N) % 4096) == 2000),
    "pulses": np.where((T * 20) % 1 < 0.2, 5.0, 0.0),
    "two pulses": np.where((T > 1) & (T < 1.1) | (T > 2) & (T < 2.1), 5.0, 0.0),
    "a drift": np.linspace(-3, 3, N),
    "a step": np.where(T > 2, 1.0, 0.0),
    "a sweep": 20 * np.sin(2 * np.pi * 10 / np.log(2) * (2**T - 1)),
    "clipped noise": np.clip(5 * RNG.standard_normal(N), -1, 1),
    "a dropout": np.where((T > 1.2) & (T < 1.6), 0.0, np.sin(2 * np.pi * 160 * T)),
    "tiny": 1e-30 * np.sin(2 * np.pi * 160 * T),
    "huge": 1e40 * np.sin(2 * np.pi * 160 * T),
}


def evaluated(name: str, first: np.ndarray, second: np.ndarray, **more: Any) -> Finding:
    method = registry.get(name)
    settings = check(method.Settings, {**SETTINGS[name], **more}, name)
    roles = [r for r in (*method.roles, *method.optional_roles) if r not in ("transverse", "temperature", "current")]
    roles = ["voltage", "current"] if name == "power-endurance" else roles
    roles = ["stimulus", "response"] if name == "handset-cases" else roles
    pairs = zip(roles, UNITS[name], (first, second), strict=False)
    return method.evaluate({r: channel_of(r, unit, RATE, x) for r, unit, x in pairs}, settings, ())


def holds(name: str, first: np.ndarray, second: np.ndarray, **more: Any) -> Finding | None:
    """A finding that keeps the contract, or one sentence."""
    try:
        found = evaluated(name, first, second, **more)
    except BadInput as said:
        assert 20 < len(str(said)) < 260 and "\n" not in str(said)
        return None
    keeps_the_contract(found, name)
    return found


@pytest.mark.parametrize("name", sorted(SETTINGS))
@pytest.mark.parametrize("kind", sorted(RECORDS))
def test_any_record_gives_a_finding_that_keeps_the_contract(name: str, kind: str) -> None:
    holds(name, RECORDS[kind], RECORDS[kind])


@pytest.mark.parametrize("name", [n for n, units in sorted(UNITS.items()) if len(units) == 2])
@pytest.mark.parametrize("kind", ["silence", "a constant", "noise", "a tone", "clicks", "pulses"])
def test_two_channels_that_have_nothing_to_do_with_one_another(name: str, kind: str) -> None:
    for other in ("silence", "noise", "one click", "a drift"):
        holds(name, RECORDS[kind], RECORDS[other])


@pytest.mark.parametrize("name", sorted(SETTINGS))
@pytest.mark.parametrize("count", [0, 1, 5, 60, 700])
def test_scraps_of_a_record(name: str, count: int) -> None:
    holds(name, RECORDS["a tone"][:count], RECORDS["noise"][:count])


def test_nothing_usable_is_never_inside() -> None:
    """Whatever the limits: what could not be read is open."""
    wide = {"low": -1e9, "high": 1e9}
    for name, key in (("microphone-level", "sensitivity"), ("impact-response", "mode1_frequency"),
                      ("speed-orders", "speed_max"), ("accelerometer-comparison", "sensitivity"),
                      ("tension", "modulus"), ("cyclic", "stiffness_final"), ("dma", "tg_tan_peak"),
                      ("force-comparison", "class"), ("pressure-comparison", "repeatability"),
                      ("torque-capability", "mean"), ("step-hysteresis", "hysteresis"), ("driver-check", "thd_max"),
                      ("headset-check", "difference_max"), ("handset-cases", "mask_margin"),
                      ("power-endurance", "coil_temperature_end")):  # fmt: skip
        found = holds(name, RECORDS["silence"], RECORDS["silence"], limits={key: wide})
        if found is not None:
            assert found.verdict == "open", name
            assert not any(r.valid and r.value for r in found.readings if r.key == key)
