"""Drivers, headsets, handsets and hours of power, from records of known truth."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from scipy import signal
from tests.reading import arrays, doubt, read, value

from lucid_anvil.core.audio import excitation, handset
from lucid_anvil.core.errors import BadInput

RATE = 48000
LATE = 0.0029
HIGHPASS = signal.butter(2, 80, "high", fs=4 * RATE, output="sos")


def sweep(first: float, last: float, seconds: float, rate: float, linear: bool = False) -> np.ndarray:
    t = np.arange(int(seconds * rate)) / rate
    if linear:
        phase = 2 * np.pi * (first * t + (last - first) * t * t / 2 / seconds)
    else:
        slow = seconds / np.log(last / first)
        phase = 2 * np.pi * first * slow * (np.exp(t / slow) - 1)
    ends = np.minimum(1, np.minimum(t, seconds - t) / 0.01)
    return np.sin(phase) * np.sin(np.pi / 2 * ends) ** 2


def part(
    first: float = 20.0, last: float = 20e3, seconds: float = 1.0, linear: bool = False, noise: float = 1e-3,
    square: float = 0.005, cube: float = 0.002, sign: float = 1.0,
) -> dict[str, tuple[str, np.ndarray]]:  # fmt: skip
    """A driver: high-pass, weak square and cube, half a pascal a volt, a delay; its impedance has a resonance at 95 Hz."""
    x = np.concatenate([np.zeros(4 * 4800), 4 * sweep(first, last, seconds, 4 * RATE, linear), np.zeros(4 * 9600)])
    y = signal.sosfilt(HIGHPASS, x)
    y = y + square * y**2 + cube * y**3
    x, y = (signal.resample_poly(v, 1, 4, window=("kaiser", 12)) for v in (x, y))
    n = x.size
    f = np.fft.rfftfreq(2 * n, 1 / RATE)
    heard = 0.5 * sign * np.fft.irfft(np.fft.rfft(y, 2 * n) * np.exp(-2j * np.pi * f * LATE), 2 * n)[:n]
    flows = np.fft.irfft(np.fft.rfft(x, 2 * n) / impedance(f), 2 * n)[:n]
    rng = np.random.default_rng(5)
    return {"stimulus": ("V", x), "microphone": ("Pa", heard + noise * heard.std() * rng.standard_normal(n)),
            "current": ("A", flows)}  # fmt: skip


def impedance(f: Any) -> Any:
    f = np.maximum(f, 1e-9)
    return 6.2 + 2j * np.pi * f * 0.4e-3 + 30 / (1 + 4j * (f / 95 - 95 / f))


LEAST = np.abs(impedance(np.geomspace(100, 15e3, 9999))).min()


def response(f: Any) -> Any:
    """Pa/V; the cube adds to the fundamental at 4 V what it does."""
    h = np.abs(signal.sosfreqz(HIGHPASS, f, fs=4 * RATE)[1])
    return 0.5 * (h + 0.75 * 0.002 * 16 * h**3)


# --- driver --------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("first", "last", "seconds", "linear"),
    [
        (20, 20e3, 1.0, False),
        (20e3, 20, 1.0, False),
        (20, 20e3, 1.0, True),
        (50, 18e3, 0.6, False),
        (20e3, 30, 3.0, False),
    ],
)
def test_one_sweep_tells_a_driver(first: float, last: float, seconds: float, linear: bool) -> None:
    found = read("driver-check", RATE, part(first, last, seconds, linear), reference_level="2 V", distance="50 cm")
    f, level = arrays(found.curve("response"))
    inside = (f > (200 if linear else 120)) & (f < 10e3)  # a linear sweep of a second hardly dwells below
    truth = 20 * np.log10(response(f) * 2 * 0.5 / 20e-6)
    assert np.abs(level - truth)[inside].max() < 0.1
    turn = np.angle(signal.sosfreqz(HIGHPASS, f, fs=4 * RATE)[1], deg=True)
    assert np.abs(arrays(found.curve("phase"))[1] - turn)[inside].max() < 2.0
    z = impedance(f)
    assert arrays(found.curve("impedance"))[1][inside] == pytest.approx(np.abs(z)[inside], rel=0.01)
    assert np.abs(arrays(found.curve("impedance_phase"))[1] - np.angle(z, deg=True))[inside].max() < 1.0
    if not linear:
        assert value(found, "resonance") == pytest.approx(95, rel=0.01)
        assert value(found, "impedance_minimum") == pytest.approx(LEAST, rel=0.01)
    assert value(found, "delay") == pytest.approx(LATE, abs=5e-5) and value(found, "polarity") == 1
    assert value(found, "loose") == 0
    band = np.geomspace(200, 10e3, 400)
    mean = 10 * np.log10(np.mean((response(band) * 2 * 0.5 / 20e-6) ** 2))
    assert value(found, "sensitivity") == pytest.approx(mean, abs=0.05)


@pytest.mark.parametrize(("first", "last", "seconds"), [(20, 20e3, 1.0), (20e3, 20, 1.0), (20, 20e3, 4.0)])
def test_distortion_by_order(first: float, last: float, seconds: float) -> None:
    found = read("driver-check", RATE, part(first, last, seconds, noise=1e-4))
    f, thd = arrays(found.curve("thd"))
    a = 4 * np.abs(signal.sosfreqz(HIGHPASS, f, fs=4 * RATE)[1])
    truth = 100 * np.hypot(0.005 * a**2 / 2, 0.002 * a**3 / 4) / (a + 0.0015 * a**3)
    inside = (f > 100) & (f < 6000)
    assert np.all(truth[inside] > 0.3)
    assert np.quantile(np.abs(thd / truth - 1)[inside], 0.95) < 0.05
    assert np.isnan(thd[f > 12.1e3]).all() and np.isfinite(thd[f < 11.5e3]).all()


def test_rub_is_told_forty_decibels_above_noise() -> None:
    held = part(20e3, 20)
    x = held["stimulus"][1]
    s = excitation.stimulus_of(x, RATE)
    assert s is not None
    buzz = np.zeros(x.size)
    within = (s.frequency > 60) & (s.frequency < 1200)
    wave = sum(np.cos(k * s.phase) for k in range(10, 21))
    buzz[s.first : s.last] = np.where(within, wave, 0) * s.envelope * 0.5 * 10 ** (-50 / 20)
    rng = np.random.default_rng(8)
    heard = 0.5 * x + buzz + 0.01 * 0.5 * x.std() * rng.standard_normal(x.size)
    found = read("driver-check", RATE, {"stimulus": ("V", x), "microphone": ("Pa", heard)},
                 band={"from": "150 Hz", "to": "900 Hz"})  # fmt: skip
    f, rub = arrays(found.curve("rub"))
    inside = (f > 150) & (f < 900)
    assert np.abs(rub - (-50 + 10 * np.log10(11)))[inside].max() < 1.0
    assert value(found, "rub_max") == pytest.approx(-39.6, abs=1.0) and doubt(found, "rub_max") < 3


@pytest.mark.parametrize(("first", "last"), [(20, 20e3), (20e3, 20)])
def test_each_particle_is_counted_and_none_in_a_clean_part(first: float, last: float) -> None:
    held = part(first, last)
    heard = held["microphone"][1].copy()
    at = (0.3, 0.45, 0.62, 0.8)
    k = np.arange(60)
    for t in at:
        heard[int(t * RATE) + k] += 0.04 * np.exp(-k / 8) * np.cos(2 * np.pi * 9000 * k / RATE)
    found = read("driver-check", RATE, {**held, "microphone": ("Pa", heard)}, limits={"loose": {"high": 0}})
    assert value(found, "loose") == 4 and found.verdict == "outside"
    assert found.detail is not None and np.abs(np.array(found.detail["loose"]) - at).max() < 2e-3


def test_a_wrong_polarity_and_what_is_not_recorded() -> None:
    held = part(sign=-1.0)
    found = read("driver-check", RATE, {k: held[k] for k in ("stimulus", "microphone")}, reference_level="none")
    assert value(found, "polarity") == -1 and value(found, "resonance") is None
    coil = read("driver-check", RATE, {"stimulus": held["stimulus"], "current": ("V", held["current"][1] / 10)},
                current_scale="10 A/V")  # fmt: skip
    assert value(coil, "sensitivity") is None and value(coil, "resonance") == pytest.approx(95, rel=0.01)
    with pytest.raises(BadInput, match="one of them"):
        read("driver-check", RATE, {"stimulus": held["stimulus"]})
    clipped = np.clip(held["microphone"][1], -0.5, 0.5)
    over = read("driver-check", RATE, {**held, "microphone": ("Pa", clipped)})
    assert not over.reading("sensitivity").valid and "overloaded" in str(over.reading("sensitivity").reason)
    silent = read("driver-check", RATE, {"stimulus": ("V", np.zeros(9000)), "microphone": ("Pa", np.zeros(9000))})
    assert not silent.reading("loose").valid


@pytest.mark.parametrize("told", [True, False])
def test_a_stepped_stimulus(told: bool) -> None:
    tones, steps, at = [], [], 1000
    for f in np.geomspace(8000, 100, 40):
        n = int(max(0.05, 14 / f) * RATE)
        tones.append(2 * np.sin(2 * np.pi * f * np.arange(n) / RATE))
        steps.append({"frequency": float(f), "start": at / RATE, "stop": (at + n) / RATE})
        at += n
    x = np.concatenate([np.zeros(1000), *tones, np.zeros(3000)])
    heard = 0.25 * x + 0.01 * x**2
    found = read("driver-check", RATE, {"stimulus": ("V", x), "microphone": ("Pa", heard), "current": ("A", x / 8)},
                 **({"steps": steps} if told else {}))  # fmt: skip
    f, level = arrays(found.curve("response"))
    assert f.size >= 38 and level == pytest.approx(np.full(f.size, 20 * np.log10(0.25 * 2.83 / 20e-6)), abs=0.05)
    assert arrays(found.curve("thd"))[1] == pytest.approx(np.full(f.size, 100 * 0.01 * 2 / 0.5), rel=0.02)
    assert arrays(found.curve("impedance"))[1] == pytest.approx(np.full(f.size, 8.0), rel=1e-3)
    assert value(found, "loose") is None and value(found, "polarity") == 1


# --- headset -------------------------------------------------------------------------------------------------


def test_both_sides_of_a_headset() -> None:
    rng = np.random.default_rng(3)
    n = 8 * RATE
    x = 0.2 * rng.standard_normal(n)
    left = signal.sosfilt(signal.butter(2, [60, 12e3], "band", fs=RATE, output="sos"), x) * 0.5
    right = -left * 10 ** (-1.5 / 20)
    found = read("headset-check", RATE, {"left": ("Pa", left), "right": ("mV", 1e3 * right * 0.0125), "stimulus": ("V", x)},
                 right_sensitivity="12.5 mV/Pa", limits={"difference_max": {"low": "-2 dB", "high": "2 dB"}}, decision="simple",
                 level_uncertainty="0.2 dB")  # fmt: skip
    assert value(found, "difference_max") == pytest.approx(1.5, abs=0.05) and found.verdict == "inside"
    assert (value(found, "polarity_left"), value(found, "polarity_right")) == (1, -1)
    f, level = arrays(found.curve("left"))
    h = np.abs(signal.sosfreqz(signal.butter(2, [60, 12e3], "band", fs=RATE, output="sos"), f, fs=RATE)[1])
    inside = (f > 100) & (f < 8000)
    assert np.abs(level - 20 * np.log10(0.5 * h / 20e-6))[inside].max() < 0.1
    assert value(found, "sensitivity_left") - value(found, "sensitivity_right") == pytest.approx(1.5, abs=0.02)
    assert value(found, "passive") is None and "open" in str(found.reading("passive").reason)


@pytest.mark.parametrize("outside", [True, False])
def test_what_a_headset_keeps_out(outside: bool) -> None:
    rng = np.random.default_rng(4)
    n = 12 * RATE
    noise = rng.standard_normal(n)
    louder = np.repeat([1.0, 2.0, 1.0], n // 3)  # the noise itself is not steady
    at_ear = noise * np.repeat([1.0, 0.1, 0.02], n // 3)
    channels = {"left": ("Pa", at_ear * louder), "right": ("Pa", 0.5 * at_ear * louder)}
    if outside:
        channels["outside"] = ("Pa", noise * louder)
    states = [{"state": s, "start": 4.0 * i, "stop": 4.0 * i + 4} for i, s in enumerate(("open", "worn", "active"))]
    found = read("headset-check", RATE, channels, states=states)
    off = 0.0 if outside else 20 * np.log10(2)
    assert value(found, "passive") == pytest.approx(20 - off, abs=0.05)
    assert value(found, "active") == pytest.approx(20 * np.log10(5) + off, abs=0.05)
    f, thirds = arrays(found.curve("attenuation_passive"))
    assert f[np.argmin(np.abs(f - 1000))] == pytest.approx(1000) and np.abs(thirds - 20 + off).max() < 1.0
    with pytest.raises(BadInput, match="the record ends"):
        read("headset-check", RATE, channels, states=[{"state": "open", "start": 0, "stop": 99}])


# --- handset -------------------------------------------------------------------------------------------------

LINE = signal.butter(2, [250, 3600], "band", fs=RATE, output="sos")
MIDDLES = 1e3 * 10 ** (0.1 * np.arange(-7, 7))


def spoken(late: float = 0.183) -> dict[str, tuple[str, np.ndarray]]:
    """Noise as speech is, through a line of 0.05 V/Pa that comes late."""
    rng = np.random.default_rng(9)
    x = signal.lfilter(*signal.butter(1, [150, 3000], "band", fs=RATE), rng.standard_normal(6 * RATE))
    shift = int(late * RATE)
    y = np.concatenate([np.zeros(shift), signal.sosfilt(LINE, x)[: x.size - shift]]) * 0.05
    return {"stimulus": ("Pa", x), "response": ("V", y)}


def test_a_loudness_rating_and_a_delay() -> None:
    found = read("handset-cases", RATE, spoken(), case="sending")
    s = 20 * np.log10(0.05 * np.abs(signal.sosfreqz(LINE, MIDDLES, fs=RATE)[1]))
    by_hand = (
        -10
        / 0.175
        * np.log10(sum(10 ** (0.0175 * (a - w)) for a, w in zip(s, handset.WEIGHTS["sending"], strict=True)))
    )
    assert value(found, "loudness_rating") == pytest.approx(by_hand, abs=0.05)
    assert value(found, "delay") == pytest.approx(183, abs=0.3)
    f, level = arrays(found.curve("response"))
    inside = (f > 200) & (f < 3800)
    truth = 20 * np.log10(0.05 * np.abs(signal.sosfreqz(LINE, f, fs=RATE)[1]))
    assert np.abs(level - truth)[inside].max() < 0.3
    wide = read("handset-cases", RATE, spoken(), case="sending", band="wide")
    assert value(wide, "loudness_rating") is None
    with pytest.raises(BadInput, match="needs one"):
        read("handset-cases", RATE, {"response": spoken()["response"]}, case="receiving")


def test_a_mask_floats_to_where_it_fits() -> None:
    f = np.array([300.0, 1000.0, 3000.0])
    level = np.array([-10.0, -7.0, -12.0])
    low = handset.margins(f, level, [(300, -5), (3000, -5)], False)
    high = handset.margins(f, level, [(200, 3), (500, 3)], True)
    assert low == pytest.approx([-5, -2, -7]) and high[0] == pytest.approx(13) and np.isnan(high[1:]).all()
    assert handset.floated(low, high) == pytest.approx(-10)
    mask = {"low": [["300 Hz", -40], ["3 kHz", -40]], "high": [[200, -20], [3400, -20]]}
    still = read("handset-cases", RATE, spoken(), mask=mask, level_uncertainty="0.3 dB")
    floating = read("handset-cases", RATE, spoken(), mask={**mask, "floating": "on"}, level_uncertainty="0.3 dB")
    assert value(still, "shift") is None and value(still, "mask_margin") < value(floating, "mask_margin")
    both = [still.reading("mask_margin"), floating.reading("mask_margin")]
    assert all(r.low == 0 and r.verdict == "inside" for r in both)
    tight = read("handset-cases", RATE, spoken(), mask={"low": [[300, -20], [3000, -20]]}, level_uncertainty="0.3 dB")
    assert tight.verdict == "outside"
    with pytest.raises(BadInput, match="rising"):
        read("handset-cases", RATE, spoken(), mask={"low": [[300, 0], [200, 0]]})


def test_idle_noise_and_distortion_of_a_handset() -> None:
    rng = np.random.default_rng(2)
    idle = read("handset-cases", RATE, {"response": ("mPa", 20 * rng.standard_normal(4 * RATE))}, case="idle")
    f = np.arange(100, 4000, 1.0)
    from lucid_anvil.core.signal.weighting import gain

    share = np.sum(gain(f, "A") ** 2) / (RATE / 2)
    assert value(idle, "noise") == pytest.approx(60 + 10 * np.log10(share), abs=0.2) and value(idle, "delay") is None
    t = np.arange(2 * RATE) / RATE
    tone = np.sin(2 * np.pi * 1004 * t)
    held = {"stimulus": ("Pa", tone), "response": ("V", tone + 0.01 * np.sin(2 * np.pi * 2008 * t))}
    assert value(read("handset-cases", RATE, held, case="distortion"), "sinad") == pytest.approx(40, abs=0.01)


# --- endurance -----------------------------------------------------------------------------------------------


def powered(wire: float = 0.00393, seconds: int = 400) -> tuple[dict[str, tuple[str, np.ndarray]], np.ndarray]:
    """Noise with a probe 40 dB below it; the coil of 6 ohm warms by 100 K; the sound falls with the current."""
    rate = 4000
    t = np.arange(seconds * rate) / rate
    rise = 100 * (1 - np.exp(-t / 100))
    r = 6 * (1 + wire * rise)
    rng = np.random.default_rng(7)
    noise = signal.lfilter(*signal.butter(2, [40, 1500], "band", fs=rate), rng.standard_normal(t.size))
    v = 10 * noise / noise.std() + 0.1 * np.sqrt(2) * np.sin(2 * np.pi * 5 * t)
    held = {"voltage": ("V", v + 1e-3 * rng.standard_normal(t.size)), "current": ("V", v / r / 10),
            "microphone": ("Pa", 0.6 * v / r)}  # fmt: skip
    return held, rise


@pytest.mark.parametrize("wire", ["copper", "aluminium"])
def test_the_coil_s_temperature_is_followed(wire: str) -> None:
    held, rise = powered(0.00393 if wire == "copper" else 0.00403)
    found = read("power-endurance", 4000, held, wire=wire, probe={"frequency": "5 Hz"}, cold_resistance="6 ohm",
                 current_scale="10 A/V", impedance_uncertainty="0.5 %",
                 limits={"power": {"low": "10 W"}}, decision="simple")  # fmt: skip
    assert found.verdict == "inside"
    x, heat = arrays(found.curve("coil_temperature"))
    truth = 20 + 100 * (1 - np.exp(-x / 100))
    assert np.abs(heat - truth).max() < 2.0 and x[0] == 5.0 and x.size == 40
    assert value(found, "coil_temperature_end") == pytest.approx(truth[-1], abs=1.0)
    v, i = held["voltage"][1], held["current"][1] * 10
    assert value(found, "power") == pytest.approx(np.mean(v * i)) and value(found, "rms_voltage") == pytest.approx(
        np.sqrt(np.mean(v**2))
    )
    assert value(found, "crest_factor") == pytest.approx(np.abs(v).max() / np.sqrt(np.mean(v**2)))

    def louder(part: slice) -> float:
        return 20 * np.log10(held["microphone"][1][part].std() / v[part].std())

    ends = louder(slice(0, 40000)) - louder(slice(-40000, None))
    assert value(found, "compression_end") == pytest.approx(ends, abs=0.01)
    # A third of a kelvin for each tenth of a percent of resistance.
    assert doubt(found, "coil_temperature_end") == pytest.approx(np.sqrt(2) * 0.005 * (rise[-1] + 254), rel=0.03)


def test_without_a_probe_there_is_no_temperature_and_a_warm_start_is_said() -> None:
    held, _ = powered(seconds=60)
    none = read("power-endurance", 4000, held, current_scale=10)
    assert value(none, "coil_temperature_max") is None and value(none, "power") > 0
    warm = read("power-endurance", 4000, held, current_scale=10, probe={"frequency": 5})
    assert any("first stretch" in n for n in warm.notes)
    assert arrays(warm.curve("coil_temperature"))[1][0] == pytest.approx(20)
    over = read("power-endurance", 4000, held, current_scale=10, input_range={"voltage": "5 V"})
    assert not over.reading("power").valid
    with pytest.raises(BadInput, match="one of them"):
        read("power-endurance", 4000, held, wire="copper", coefficient=0.004)
    with pytest.raises(BadInput, match="four periods"):
        read("power-endurance", 4000, held, current_scale=10, probe={"frequency": 0.2})
