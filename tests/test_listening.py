"""Microphone check, impact response and orders over speed, each on made records of known truth."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from typer.testing import CliRunner

from lucid_anvil.cli import app
from lucid_anvil.contracts import registry
from lucid_anvil.contracts.finding import Finding
from lucid_anvil.contracts.recording import channel_of
from lucid_anvil.contracts.settings import check
from lucid_anvil.core.errors import BadInput
from lucid_anvil.core.signal.impact import hits_of, second_peak, stands_still
from lucid_anvil.core.signal.modes import find_modes
from lucid_anvil.core.signal.tacho import pulse_times, repaired, rotation_of
from lucid_anvil.formats import Recording, write

RATE = 25600.0


def read(name: str, settings: dict[str, Any], rate: float = RATE, **channels: tuple[str, np.ndarray]) -> Finding:
    method = registry.get(name)
    held = {r: channel_of(r, unit, rate, x) for r, (unit, x) in channels.items()}
    return method.evaluate(held, check(method.Settings, settings, "settings"), [])


# --- microphone ------------------------------------------------------------------------------------------------


def calibrator(seconds: float = 6.0, level: float = 1.0, f: float = 1003.0, **more: float) -> np.ndarray:
    """A tone on a microphone of 50 mV/Pa, switched on after a second; level in Pa rms."""
    t = np.arange(int(seconds * RATE)) / RATE
    rng = np.random.default_rng(5)
    size = 0.05 * level * np.sqrt(2) * (1 + more.get("wander", 0.0) * np.sin(2 * np.pi * 0.4 * t))
    wave = np.sin(2 * np.pi * f * t) + more.get("second", 0.0) * np.sin(4 * np.pi * f * t)
    return np.clip(t - 1, 0, 0.2) / 0.2 * size * wave + more.get("noise", 1e-4) * rng.standard_normal(t.size)


def test_a_calibrators_tone_gives_the_sensitivity() -> None:
    made = read("microphone-level", {"level": "94.10 dB", "previous_sensitivity": "49.5 mV/Pa"},
                microphone=("V", calibrator(level=20e-6 * 10 ** (94.1 / 20), second=0.004)))  # fmt: skip
    assert 20 * np.log10(made.reading("sensitivity").value / 50) == pytest.approx(0.0, abs=0.002)
    assert made.reading("tone_frequency").value == pytest.approx(1003.0, abs=1e-4)
    assert made.reading("tone_distortion").value == pytest.approx(0.4, rel=0.02)
    assert made.reading("change").value == pytest.approx(20 * np.log10(50 / 49.5), abs=0.002)
    assert made.reading("sensitivity").valid and made.curve("spectrum").y


@pytest.mark.parametrize(
    ("more", "settings", "word"),
    [
        ({"wander": 0.05}, {}, "wanders"),
        ({"f": 1150.0}, {}, "no tone"),
        ({"level": 1e-4}, {}, "no tone"),
        ({"second": 0.05}, {"distortion_allowed": "3 %"}, "seat the calibrator"),
        ({}, {"input_range": {"microphone": "60 mV"}}, "overloaded"),
    ],
)
def test_a_bad_check_is_not_accepted(more: dict[str, float], settings: dict[str, Any], word: str) -> None:
    made = read("microphone-level", settings, microphone=("V", calibrator(**more)))
    held = made.reading("sensitivity")
    assert not held.valid and held.verdict == "open" and word in str(held.reason)


def test_corrections_and_units_of_the_check() -> None:
    plain = read("microphone-level", {}, microphone=("mV", 1e3 * calibrator()))
    moved = read("microphone-level", {"corrections": {"pressure": "-0.2 dB"}, "level_uncertainty": "0.1 dB"},
                 microphone=("V", calibrator()))  # fmt: skip
    assert plain.verdict == "none" and {r.key for r in plain.readings} == {
        "sensitivity",
        "tone_frequency",
        "tone_distortion",
    }
    missing = read("microphone-level", {"limits": {"change": {"high": "0.2 dB"}}}, microphone=("V", calibrator()))
    assert missing.verdict == "open" and "nothing to compare" in str(missing.reading("change").reason)
    ratio = moved.reading("sensitivity").value / plain.reading("sensitivity").value
    assert 20 * np.log10(ratio) == pytest.approx(0.2, abs=1e-3)
    doubt = moved.reading("sensitivity").uncertainty / moved.reading("sensitivity").value
    assert 20 * np.log10(1 + doubt) == pytest.approx(0.1, abs=0.005)
    with pytest.raises(BadInput, match="volts"):
        read("microphone-level", {}, microphone=("Pa", calibrator()))


# --- impact ------------------------------------------------------------------------------------------------------

MODES = ((180.0, 0.5, 0.2), (410.0, 0.8, 0.3), (433.0, 0.6, -0.25), (1250.0, 1.2, 0.5))
"""Hz, % of critical, (m/s²)/N far above it"""


def accelerance(s: np.ndarray) -> np.ndarray:
    return sum(g * s**2 / (s**2 + 0.02 * z * 2 * np.pi * f * s + (2 * np.pi * f) ** 2) for f, z, g in MODES)


def hammered(double: int | None = 3, clip: int | None = 5, noise: float = 1.0) -> tuple[np.ndarray, np.ndarray]:
    """Eight hits: force [N] and response [m/s²], with a double hit and an overload among them."""
    rng = np.random.default_rng(4)
    n = int(14 * RATE)
    t = np.arange(n) / RATE
    force = np.zeros(n)
    for h in range(8):
        size, at = rng.uniform(80, 160), 0.4 + 1.6 * h
        for share, later in ((1.0, 0.0), (0.45 * (h == double), 0.012)):
            u = (t - at - later) / 0.6e-3
            force += np.where((u >= 0) & (u < 1), share * size * np.sin(np.pi * np.clip(u, 0, 1)) ** 2, 0)
    count = 1 << int(np.ceil(np.log2(2 * n)))
    s = 2j * np.pi * np.fft.rfftfreq(count, 1 / RATE)
    response = np.fft.irfft(np.fft.rfft(force, count) * accelerance(s), count)[:n]
    force = force + 0.02 * noise * rng.standard_normal(n)
    response = response + 0.01 * noise * rng.standard_normal(n)
    if clip is not None:
        a, b = int((0.3 + 1.6 * clip) * RATE), int((1.5 + 1.6 * clip) * RATE)
        top = 0.6 * np.abs(response[a:b]).max()
        response[a:b] = np.clip(response[a:b], -top, top)
    return force, response


@pytest.fixture(scope="module")
def hits() -> tuple[np.ndarray, np.ndarray]:
    return hammered()


@pytest.mark.parametrize("decay", [None, "0.08 s"])
def test_modes_and_response_are_the_plates(hits: tuple[np.ndarray, np.ndarray], decay: str | None) -> None:
    settings = {"block": 32768, "pretrigger": "3 %", "trigger": "10 N", "hits": 6, "response_decay": decay}
    made = read("impact-response", settings, force=("N", hits[0]), response=("m/s^2", hits[1]))
    assert made.reading("hits_accepted").value == 6 and made.reading("hits_rejected").value == 2
    assert any("double" in n for n in made.notes) and any("response input overloaded" in n for n in made.notes)
    for i, (f, z, _) in enumerate(MODES, 1):
        assert made.reading(f"mode{i}_frequency").value == pytest.approx(f, rel=1e-3)
        assert made.reading(f"mode{i}_damping").value == pytest.approx(z, rel=0.03)
    assert "mode5_frequency" not in {r.key for r in made.readings}
    curve = made.curve("frf_magnitude")
    x, y = np.array(curve.x), np.array(curve.y)
    truth = np.abs(accelerance(2j * np.pi * x))
    around = np.array([truth[max(i - 300, 0) : i + 301].max() for i in range(x.size)])
    used = (x > 80) & (x < 2000) & (truth > 0.1 * around)
    assert np.max(np.abs(20 * np.log10(y[used] / truth[used]))) < 0.3
    assert np.min(np.array(made.curve("coherence").y)[used]) > 0.98


def test_sensitivities_estimator_and_limits(hits: tuple[np.ndarray, np.ndarray]) -> None:
    settings = {"block": 32768, "force_sensitivity": "2 mV/N", "response_sensitivity": "10 mV/(m/s^2)",
                "estimator": "h2", "trigger": "10 N", "overrule": [4],
                "limits": {"mode1_frequency": {"low": "170 Hz", "high": "190 Hz"}, "mode9_damping": {"high": 3}}}  # fmt: skip
    made = read("impact-response", settings, force=("V", -2e-3 * hits[0]), response=("V", -1e-2 * hits[1]))
    assert made.reading("hits_accepted").value == 7  # the double hit was overruled
    assert made.reading("mode1_frequency").verdict == "inside"
    assert not made.reading("mode9_damping").valid and made.verdict == "open"
    for settings, units, word in (
        ({}, ("V", "m/s^2"), "force_sensitivity"),
        ({"force_sensitivity": "2 mV/N"}, ("N", "m/s^2"), "already"),
        ({"block": 10**7}, ("N", "m/s^2"), "smaller"),
    ):
        with pytest.raises(BadInput, match=word):
            read("impact-response", settings, force=(units[0], hits[0]), response=(units[1], hits[1]))


def test_too_few_and_no_hits(hits: tuple[np.ndarray, np.ndarray]) -> None:
    few = read("impact-response", {"block": 32768, "trigger": "10 N", "hits": 9}, force=("N", hits[0]),
               response=("m/s^2", hits[1]))  # fmt: skip
    assert not few.reading("hits_accepted").valid and any("hit again" in n for n in few.notes)
    none = read("impact-response", {"trigger": "1 kN"}, force=("N", hits[0]), response=("m/s^2", hits[1]))
    assert none.reading("hits_accepted").value == 0 and "no force reached" in str(none.reading("hits_accepted").reason)


def test_hits_are_told_apart() -> None:
    rng = np.random.default_rng(1)
    t = np.arange(256)
    pulse = np.exp(-(((t - 60) / 6) ** 2))
    assert second_peak(pulse + 0.02 * rng.standard_normal(256)) is None
    assert second_peak(pulse + 0.3 * np.exp(-(((t - 120) / 6) ** 2))) == pytest.approx(0.3, abs=0.01)
    assert stands_still(np.minimum(pulse, 0.7)) and not stands_still(pulse)
    assert not stands_still(np.rint(pulse * 20) / 20)  # a coarse converter is no overload
    force, response = np.zeros(8192), 1e-3 * rng.standard_normal(8192)
    force[1000:1256] += 100 * pulse
    force[4000:4256] += 100 * pulse
    response[1060:1200] += np.sin(np.arange(140) / 4)
    faults = [h.fault for h in hits_of(force, response, 10.0, 2048, 100)]
    assert faults == [None, "no response"]


# --- orders ----------------------------------------------------------------------------------------------------------

ORDERS = {0.5: 0.1, 1.0: 1.0, 2.0: 0.5, 2.5: 0.2, 6.0: 0.3}


def turned(hum: float = 0.0, jitter: float = 20e-6, first: float = 3000.0, last: float = 600.0
           ) -> tuple[np.ndarray, np.ndarray]:  # fmt: skip
    """20 s of run-down: tach [V], one pulse a turn, and signal [Pa]."""
    rng = np.random.default_rng(3)
    n = int(20 * RATE)
    t = np.arange(n) / RATE
    angle = (first * t + (last - first) * t**2 / 40) / 60
    k = np.arange(1, int(angle[-1]))
    tach = np.zeros(n)
    for at in np.interp(k, angle, t) + jitter * rng.standard_normal(k.size):
        i = int(np.ceil(at * RATE))
        tach[i : i + 12] = 5.0
    x = 0.01 * rng.standard_normal(n) + hum * np.sin(2 * np.pi * 50.02 * t) + 0.4 * hum * np.sin(2 * np.pi * 150.06 * t)
    for order, size in ORDERS.items():
        x += size * np.sqrt(2) * np.sin(2 * np.pi * order * angle + order)
    return tach, x


@pytest.mark.parametrize(("hum", "first", "last"), [(0.0, 3000.0, 600.0), (0.3, 3000.0, 600.0), (0.3, 600.0, 3000.0)])
def test_orders_are_right_through_jitter_and_hum(hum: float, first: float, last: float) -> None:
    tach, x = turned(hum, first=first, last=last)
    settings = {"orders": list(ORDERS), "speed": {"from": 500, "to": 3000, "step": "50 rpm"}}
    made = read("speed-orders", settings, tach=("V", tach), signal=("Pa", x))
    assert made.reading("speed_max").value == pytest.approx(3000, rel=0.01)
    assert made.reading("speed_min").value == pytest.approx(600, rel=0.03)
    for order, size in ORDERS.items():
        curve = made.curve(f"order_{order:g}")
        assert curve.x[0] == 500 and curve.x[-1] == 3000 and curve.y[0] is None
        db = 20 * np.log10(np.array([v for v in curve.y if v is not None]) / size)
        assert db.size >= 48 and np.max(np.abs(db)) < 0.5
    whole = np.sqrt(sum(v**2 for v in ORDERS.values()) + 0.58 * hum**2)
    overall = np.array([v for v in made.curve("overall").y if v is not None])
    assert np.median(overall) == pytest.approx(20 * np.log10(whole / 20e-6), abs=0.1)
    assert any("Steady tones at 50.02 Hz, 150.1 Hz" in n for n in made.notes) == (hum > 0)
    held = made.maps[0]
    assert held["key"] == "spectra" and np.shape(held["z"]) == (len(held["y"]), len(held["x"]))


def test_a_tach_is_repaired_or_says_why_not() -> None:
    times = np.cumsum(np.full(60, 0.02)) * (1 + 0.001 * np.arange(60))
    broken = np.sort(np.append(np.delete(times, [20, 21, 40]), times[30] + 0.004))
    number, t, missing, extra = repaired(broken)
    assert (missing, extra) == (3, 1) and number[-1] == 59 and t.size == 57
    made = rotation_of(broken, 1.0)
    assert made.speed_at(np.array([0.6]))[0] == pytest.approx(60 / 0.02 / 1.06, rel=0.02)
    x = np.where(np.arange(2000) % 100 < 10, 5.0, 0.0) + 0.2 * np.random.default_rng(0).standard_normal(2000)
    assert pulse_times(x, 1000.0, 2.5).size == 19
    assert pulse_times(x, 1000.0, 2.5, rising=False)[0] == pytest.approx(0.0095, abs=0.001)
    quiet = read("speed-orders", {"trigger_level": "9 V"}, tach=("V", x), signal=("V", x))
    assert not quiet.reading("speed_min").valid and "trigger_level" in str(quiet.reading("speed_min").reason)
    for settings, word in (({"orders": [1, 1]}, "once"), ({"speed": {"from": 9, "to": 3, "step": 1}}, "from < to"),
                           ({"signal_sensitivity": "3 mV/kg"}, "sensitivity"), ({"weighting": "B"}, "A, C or Z")):  # fmt: skip
        with pytest.raises(BadInput, match=word):
            read("speed-orders", settings, tach=("V", x), signal=("V", x))


def test_from_the_command_line(tmp_path: Path) -> None:
    tach, x = turned()
    n = int(6 * RATE)
    record = Recording("made", (channel_of("tach", "V", RATE, tach[:n]), channel_of("mic", "V", RATE, 0.0125 * x[:n])))
    write(tmp_path / "pump.uff", record)
    (tmp_path / "s.yaml").write_text("orders: [1, 2]\nsignal_sensitivity: 12.5 mV/Pa\nweighting: A\n")
    done = CliRunner().invoke(app, ["evaluate", "speed-orders", str(tmp_path / "pump.uff"), "--settings",
                                    str(tmp_path / "s.yaml"), "--role", "signal=mic", "--json", "-"])  # fmt: skip
    assert done.exit_code == 0, done.output
    made = json.loads(done.stdout)
    order = next(c for c in made["curves"] if c["key"] == "order_1")
    assert order["y_unit"] == "Pa" and np.median([v for v in order["y"] if v]) == pytest.approx(1.0, rel=0.02)


@pytest.mark.parametrize(
    ("name", "settings", "word"),
    [
        ("impact-response", {"estimator": "H3"}, "H1 or H2"),
        ("impact-response", {"pretrigger": "95 %"}, "below 90"),
        ("impact-response", {"trigger": "-3 N"}, "above zero"),
        ("impact-response", {"response_decay": "0 s"}, "above zero"),
        ("impact-response", {"force_sensitivity": "0 mV/N"}, "zero"),
        ("impact-response", {"blok": 1024}, "did you mean 'block'"),
        ("impact-response", {"limits": {"hits": {"low": 3}}}, "there is no reading 'hits'"),
        ("microphone-level", {"frequency": "-5 Hz"}, "above zero"),
        ("microphone-level", {"previous_sensitivity": "0 mV/Pa"}, "above zero"),
        ("microphone-level", {"level": "94 Pa"}, "dB"),
        ("speed-orders", {"slope": "up"}, "rising or falling"),
        ("speed-orders", {"speed": {"from": 1, "to": 1e6, "step": 0.01}}, "5000 points"),
        ("speed-orders", {"orders": []}, "orders"),
        ("speed-orders", {"signal_sensitivity": "0 mV/Pa"}, "sensitivity"),
    ],
)
def test_settings_that_can_not_be(name: str, settings: dict[str, Any], word: str) -> None:
    t = np.arange(20000) / RATE
    wave = ("V", np.sin(2 * np.pi * 1000 * t))
    roles = dict.fromkeys(registry.get(name).roles, wave)
    if name == "impact-response":
        roles = {"force": ("N", wave[1]), "response": ("m/s^2", wave[1])}
    with pytest.raises(BadInput, match=word):
        read(name, settings, **roles)


def test_a_window_on_the_force_does_not_move_the_modes(hits: tuple[np.ndarray, np.ndarray]) -> None:
    settings = {"block": 16384, "trigger": "10 N", "response_decay": "0.1 s", "force_window": "2 ms"}
    made = read("impact-response", settings, force=("N", hits[0]), response=("m/s^2", hits[1]))
    assert made.reading("mode1_frequency").value == pytest.approx(180.0, rel=1e-3)
    assert made.reading("mode4_damping").value == pytest.approx(1.2, rel=0.03)
    assert made.detail is not None and len(made.detail["hits"]) == 8
    short = read(
        "impact-response", {"block": 2048, "trigger": "10 N"}, force=("N", hits[0]), response=("m/s^2", hits[1])
    )
    assert any("has not died out" in n for n in short.notes)


def test_modes_say_how_sure_they_are() -> None:
    rng = np.random.default_rng(9)
    f = np.arange(1.0, 2000.0, 2.0)
    clean = accelerance(2j * np.pi * f)
    spread = []
    for share in (0.003, 0.03):
        noisy = clean * (1 + share * (rng.standard_normal(f.size) + 1j * rng.standard_normal(f.size)) / np.sqrt(2))
        modes = find_modes(f, noisy, np.full(f.size, share))
        assert [round(m.frequency) for m in modes] == [180, 410, 433, 1250]
        spread.append([m.damping_error for m in modes])
        for m, (_, z, _) in zip(modes, MODES, strict=True):
            assert abs(m.damping - z) < 5 * m.damping_error + 1e-3
    assert np.all(np.array(spread[1]) > 5 * np.array(spread[0]))
    assert (
        find_modes(f, 1e-3 * (rng.standard_normal(f.size) + 1j * rng.standard_normal(f.size)), np.full(f.size, 0.1))
        == []
    )


def test_the_speed_of_a_wobbling_shaft_is_followed() -> None:
    t = np.arange(0, 12, 1e-4)
    speed = 20 + 2 * np.sin(2 * np.pi * 0.5 * t)  # rev/s
    angle = np.cumsum(speed) * 1e-4
    times = np.interp(np.arange(1, int(4 * angle[-1])) / 4, angle, t)
    made = rotation_of(times + 5e-6 * np.random.default_rng(2).standard_normal(times.size), 4.0)
    inner = np.arange(1.0, 11.0, 0.1)
    assert made.speed_at(inner) / 60 == pytest.approx(20 + 2 * np.sin(2 * np.pi * 0.5 * inner), rel=0.004)
    assert made.jitter == pytest.approx(5e-6, rel=0.3)
    assert made.missing == made.extra == 0
    with pytest.raises(BadInput, match="no speed can be told"):
        rotation_of(times[:5], 4.0)
