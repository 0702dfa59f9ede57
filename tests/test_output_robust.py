"""Whatever an amplifier's record holds, each output method gives a finding that keeps the contract, or one sentence."""

from __future__ import annotations

import json
import math
import re
from typing import Any

import numpy as np
import pytest

from lucid_anvil.contracts import registry
from lucid_anvil.contracts.finding import Finding, as_json
from lucid_anvil.contracts.recording import channel_of
from lucid_anvil.contracts.settings import check
from lucid_anvil.core.errors import BadInput

RATE = 48000.0
N = 48000
T = np.arange(N) / RATE
SETTINGS: dict[str, dict[str, Any]] = {
    "output-distortion": {}, "output-noise": {"reference_level": "1 V"}, "output-response": {},
    "output-intermodulation": {"kind": "modulation"}, "output-separation": {}, "output-gain": {}, "output-offset": {},
    "output-power": {"load": "8 ohm"},
    "output-impedance": {"load": "8 ohm", "steps": [{"load": "off", "start": 0, "stop": 0.5},
                                                      {"load": "on", "start": 0.5, "stop": 1.0}]},
    "output-common-mode": {"steps": [{"mode": "differential", "start": 0, "stop": 0.5},
                                     {"mode": "common", "start": 0.5, "stop": 1.0}]},
}  # fmt: skip


def sine(f: float = 1000.0, size: float = 1.0) -> np.ndarray:
    return size * np.sin(2 * np.pi * f * T)


RECORDS: dict[str, np.ndarray] = {
    "silence": np.zeros(N),
    "a constant": np.full(N, 0.7),
    "noise": 1e-3 * np.random.default_rng(1).standard_normal(N),
    "a tone": sine() + 1e-5 * np.random.default_rng(2).standard_normal(N),
    "a pure tone": sine(),
    "a tone on an offset": sine() + 3.0,
    "a clipped tone": np.clip(2 * sine(), -1, 1),
    "half a tone": np.where(T < 0.5, sine(), 0.0),
    "one click": np.eye(1, N, N // 2)[0],
    "a slow drift": np.linspace(-1, 1, N),
    "a square": np.sign(sine(997.0)),
    "mains alone": sine(50.0, 0.01),
    "a tone at the end of the band": sine(23500.0),
    "the smallest numbers": 1e-200 * sine(),
    "large numbers": 1e60 * sine(),
    "two tones": sine(60.0, 0.8) + sine(7000.0, 0.2),
}


def evaluated(name: str, x: np.ndarray, other: np.ndarray | None = None, rate: float = RATE, **more: Any) -> Finding:
    method = registry.get(name)
    settings = check(method.Settings, {**SETTINGS[name], **more}, name)
    second = x if other is None else other
    held = dict(zip(method.roles, (x, second), strict=False))
    record = {role: channel_of(role, "V", rate, y) for role, y in held.items()}
    return method.evaluate(record, settings, ())


def keeps_the_contract(found: Finding, name: str) -> None:
    held = as_json(found)
    text = json.dumps(held, allow_nan=False)
    assert json.loads(text) == held
    listed = " ".join(registry.get(name).readings)
    for r in held["readings"]:
        # Numbered ones are listed once: modeN_frequency, dwell_N_duration, _cycles, ...
        numbered = re.fullmatch(r"(mode|dwell_)\d+(_\w+)", r["key"])
        named = re.fullmatch(r"(proof_|permanent_).+", r["key"])
        assert (numbered.group(2) if numbered else named.group(1) if named else r["key"]) in listed, r["key"]
    for r in held["readings"]:
        assert r["valid"] or r["reason"], r
        assert r["value"] is None or math.isfinite(r["value"])
        # What does not apply is null with a reason, and leaves the verdict alone unless it is limited.
        assert r["value"] is not None or r["interval"] is not None or r["reason"], r
        assert r["uncertainty"] is None or r["uncertainty"] >= 0
        if r["interval"] is not None:
            low, high = r["interval"]["low"], r["interval"]["high"]
            assert low is None or high is None or low <= high
            if r["value"] is not None and low is not None and high is not None:
                assert low - 1e-9 * abs(low) <= r["value"] <= high + 1e-9 * abs(high)
    for c in held["curves"]:
        assert len(c["x"]) == len(c["y"]) and all(v is not None for v in c["x"])
        # A specimen that is unloaded, or cooled, goes back; every other axis rises.
        rises = all(b > a for a, b in zip(c["x"], c["x"][1:], strict=False))
        assert rises or c["key"] == "stress" or c["x_unit"] == "°C", c["key"]


@pytest.mark.parametrize("name", sorted(SETTINGS))
@pytest.mark.parametrize("kind", sorted(RECORDS))
def test_any_record_gives_a_finding_that_keeps_the_contract(name: str, kind: str) -> None:
    try:
        found = evaluated(name, RECORDS[kind])
    except BadInput as said:
        # A contradiction of settings and record; one sentence, no more.
        assert 20 < len(str(said)) < 240 and "\n" not in str(said)
        return
    keeps_the_contract(found, name)


@pytest.mark.parametrize("name", sorted(SETTINGS))
@pytest.mark.parametrize("kind", ["silence", "noise", "a tone", "a constant"])
def test_a_second_channel_of_another_kind_is_no_surprise(name: str, kind: str) -> None:
    if len(registry.get(name).roles) < 2:
        return
    for other in ("silence", "noise", "a pure tone", "one click"):
        try:
            keeps_the_contract(evaluated(name, RECORDS[kind], RECORDS[other]), name)
        except BadInput as said:
            assert 20 < len(str(said)) < 240


@pytest.mark.parametrize("name", sorted(SETTINGS))
@pytest.mark.parametrize("count", [0, 1, 2, 100, 300])
def test_scraps_are_told_in_a_sentence_or_read_as_nothing(name: str, count: int) -> None:
    try:
        found = evaluated(name, sine()[:count])
    except BadInput as said:
        assert 20 < len(str(said)) < 240
        return
    keeps_the_contract(found, name)


@pytest.mark.parametrize("name", sorted(SETTINGS))
@pytest.mark.parametrize("rate", [1.0, 20.0, 60.0, 8000.0])
def test_records_of_any_rate(name: str, rate: float) -> None:
    """Down to meter readings, which most methods can't use and say so."""
    try:
        found = evaluated(name, sine()[:4000], rate=rate)
    except BadInput as said:
        assert 20 < len(str(said)) < 240
        return
    keeps_the_contract(found, name)


@pytest.mark.parametrize("name", sorted(SETTINGS))
def test_limits_of_either_side_give_every_reading_a_verdict(name: str) -> None:
    units = {k: text.rpartition(" [")[2].rstrip("]") for k, text in registry.get(name).readings.items()}
    for low, high in ((-1e9, None), (None, 1e9), (-1e9, 1e9), (1e9, None)):
        limits = {k: {s: v for s, v in (("low", low), ("high", high)) if v is not None} for k in units}
        try:
            found = evaluated(name, RECORDS["a tone"], limits=limits)
        except BadInput:
            continue
        keeps_the_contract(found, name)
        for r in found.readings:
            assert r.verdict in ("inside", "outside", "open"), r
            if not r.valid:
                assert r.verdict == "open", r
            elif low == 1e9:
                assert r.verdict in ("outside", "open"), r
