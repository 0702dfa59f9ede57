"""Profiles: crossovers, octaves, durations, peaks and rms against closed forms; tables; what users' scripts see."""

from __future__ import annotations

import json
import math
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lucid_anvil.core.control import headroom, history
from lucid_anvil.core.control import randomprofile as rp
from lucid_anvil.core.control.corridor import Band, Side
from lucid_anvil.core.control.sineprofile import Segment, SineProfile, crossover, solve
from lucid_anvil.core.control.sweep import Sweep, sweeping
from lucid_anvil.core.control.table import read_table, recognise
from lucid_anvil.core.errors import BadInput
from lucid_anvil.core.shaker import Capability, Shaker
from lucid_anvil.domains.shaker.profile import work_out
from lucid_anvil.domains.shaker.profiles import SineFile, TimeFile, load_profile, prepare_history, profile_of

G = 9.80665
EXAMPLE = """\
lucid-anvil-profile: 1
kind: sine
start: 8 Hz
stop: 400 Hz
segments:
  - {displacement: 4.4 mm}
  - {acceleration: 11 m/s^2, until: 47 Hz}
  - {line: true, until: 80 Hz}
  - {acceleration: 32 m/s^2}
sweep: {law: log, rate: 1 oct/min}
sweeps: 2
moving_mass: 6.2 kg
"""


def example() -> SineProfile:
    return solve(
        8.0, 400.0,
        [Segment("displacement", 0.0044), Segment("acceleration", 11.0, 47.0), Segment("line", None, 80.0),
         Segment("acceleration", 32.0)],
    )  # fmt: skip


def test_the_example_is_solved_exactly() -> None:
    p = example()
    f = math.sqrt(2 * 11 / 0.0044) / (2 * math.pi)
    assert p.crossovers == (pytest.approx(f, rel=1e-12),)
    assert p.peak("velocity")[0] == pytest.approx(11 / (2 * math.pi * f), rel=1e-12)
    assert p.peak("displacement")[0] == pytest.approx(0.0044, rel=1e-12)
    assert p.peak("acceleration") == (pytest.approx(32.0, rel=1e-12), 80.0)
    # The line is straight on log-log axes between its neighbours.
    n = math.log(32 / 11) / math.log(80 / 47)
    assert p.acceleration(60.0) == pytest.approx(11 * (60 / 47) ** n, rel=1e-12)


@given(st.floats(1e-4, 0.05), st.floats(0.05, 2.0), st.floats(1.0, 300.0))
def test_two_laws_give_the_same_level_where_they_cross(d: float, v: float, a: float) -> None:
    parts = [Segment("displacement", d), Segment("velocity", v), Segment("acceleration", a)]
    for one in parts:
        for other in parts:
            f = crossover(one, other)
            if one.law == other.law:
                assert f is None
            else:
                assert f is not None and one.at(f) == pytest.approx(other.at(f), rel=1e-9)
    assert crossover(parts[0], parts[1]) == pytest.approx(v / (math.pi * d), rel=1e-9)
    assert crossover(parts[1], parts[2]) == pytest.approx(a / (2 * math.pi * v), rel=1e-9)


@pytest.mark.parametrize(
    ("segments", "word"),
    [
        ([Segment("acceleration", 1.0), Segment("acceleration", 2.0)], "never cross"),
        ([Segment("displacement", 1e-9), Segment("acceleration", 1.0)], "outside"),
        ([Segment("line", None, 50.0), Segment("acceleration", 1.0)], "either side"),
        ([Segment("acceleration", 1.0), Segment("line", None, 50.0), Segment("acceleration", 2.0)], "needs 'until'"),
        ([Segment("acceleration", 1.0, 20.0), Segment("line"), Segment("acceleration", 2.0)], "needs 'until'"),
        ([Segment("acceleration", 0.0)], "above zero"),
        ([], "none"),
        ([Segment("acceleration", 1.0, 50.0)], "stop is"),
    ],
)  # fmt: skip
def test_profiles_that_can_not_be(segments: list[Segment], word: str) -> None:
    with pytest.raises(BadInput, match=word):
        solve(10.0, 100.0, segments)


@given(st.floats(2, 50), st.floats(1.5, 100), st.floats(5, 600), st.sampled_from(["log", "linear"]))
def test_a_sweep_hangs_together(low: float, ratio: float, duration: float, law: str) -> None:
    s = Sweep(low, low * ratio, duration, law)
    assert s.octaves == pytest.approx(math.log2(ratio))
    assert s.phase(duration) == pytest.approx(2 * np.pi * s.cycles, rel=1e-9)
    f = float(s.frequency(0.3 * duration))
    assert s.time_at(f) == pytest.approx(0.3 * duration, rel=1e-9)
    h = 1e-4 * duration
    slope = (float(s.frequency(0.3 * duration + h)) - float(s.frequency(0.3 * duration - h))) / (2 * h)
    assert s.rate_at(f) == pytest.approx(slope, rel=1e-5)


def test_any_two_fix_the_third() -> None:
    octaves = math.log2(50)
    one = octaves * 60
    by_rate = sweeping(8, 400, rate=1 / 60, sweeps=2)
    assert (by_rate.one.duration, by_rate.total) == (pytest.approx(one, rel=1e-12), pytest.approx(2 * one, rel=1e-12))
    assert sweeping(8, 400, total=7200, sweeps=10).one.duration == pytest.approx(720)
    assert sweeping(8, 400, rate=1 / 60, total=7200).count == pytest.approx(7200 / one)
    whole = sweeping(8, 400, rate=1 / 60, total=7200, whole=True)
    assert whole.count == 21 and whole.total == pytest.approx(21 * one)
    cycles = Sweep(8, 400, one).cycles
    assert sweeping(8, 400, rate=1 / 60, cycles=3 * cycles).total == pytest.approx(3 * one)
    both = sweeping(8, 400, rate=1 / 60, direction="both")
    assert (both.at(0).start, both.at(1).start) == (8, 400)
    for wrong in ({"rate": 1.0, "duration": 1.0}, {"rate": 1.0, "total": 9.0, "sweeps": 2.0}, {}, {"rate": -1.0}):
        with pytest.raises(BadInput):
            sweeping(8, 400, **wrong)


def test_the_widely_published_screening_profile() -> None:
    g2 = G * G
    rounded = [(20.0, 0.01), (80.0, 0.04), (350.0, 0.04), (2000.0, 0.007)]
    made = rp.solve([rp.Point(f, s * g2) for f, s in rounded])
    assert made.rms() / G == pytest.approx(6.058, abs=5e-4)
    n = 3 / (10 * math.log10(2))
    assert n == pytest.approx(0.9966, abs=5e-5)
    exact = rp.solve(
        [rp.Point(20.0, 0.04 * g2 * (20 / 80) ** n), rp.Point(80.0, slope=3.0), rp.Point(350.0, slope=0.0),
         rp.Point(2000.0, slope=-3.0)]
    )  # fmt: skip
    assert exact.rms() / G == pytest.approx(6.064, abs=5e-4)
    assert exact.densities[1] == pytest.approx(0.04 * g2, rel=1e-12)


@given(st.lists(st.floats(0.001, 10), min_size=2, max_size=6), st.floats(5, 30), st.floats(1.2, 4))
def test_rms_is_the_integral(densities: list[float], start: float, ratio: float) -> None:
    made = rp.solve([rp.Point(start * ratio**i, s) for i, s in enumerate(densities)])
    f = np.unique(np.concatenate([np.geomspace(made.start, made.stop, 40001), made.frequencies]))
    for power, quantity in ((0, "acceleration"), (-2, "velocity"), (-4, "displacement")):
        wanted = np.trapezoid(made.density(f) * (2 * np.pi * f) ** power, f) ** 0.5
        assert made.rms(quantity) == pytest.approx(wanted, rel=1e-6)
    assert made.scaled_to(7.0).rms() == pytest.approx(7.0, rel=1e-12)


def test_a_density_that_falls_with_the_frequency_has_a_logarithm_for_integral() -> None:
    made = rp.solve([rp.Point(10.0, 1.0), rp.Point(100.0, 0.1)])
    assert made.rms() == pytest.approx(math.sqrt(10 * math.log(10)), rel=1e-12)


def test_bands_in_decibel_percent_and_absolute() -> None:
    target = np.array([2.0, 10.0])
    assert Band(Side(-6, "db"), Side(6, "db")).edges(target)[1] == pytest.approx(target * 10**0.3)
    assert Band(Side(-3, "db"), None).edges(target, power=True)[0] == pytest.approx(target * 10**-0.3)
    low, high = Band(Side(-10, "percent"), Side(12, "absolute")).edges(target)
    assert low == pytest.approx([1.8, 9.0]) and high == pytest.approx([12.0, 12.0])
    parts: dict[str, Any] = {"kind": "sine", "start": 10, "stop": 100, "tolerance": {"low": "-3 dB", "high": "3 dB"}}
    segments = [{"displacement": "1 mm", "tolerance": {"low": "0.9 mm", "high": "20 %"}}, {"acceleration": "30 m/s^2"}]
    held = profile_of({**parts, "segments": segments}, "p")
    assert isinstance(held, SineFile)
    made = held.solved()
    low, high = made.edges(np.array([12.0, 90.0]), "tolerance")
    assert low[0] == pytest.approx(0.9 * made.acceleration(12.0)) and high[0] == pytest.approx(
        1.2 * made.acceleration(12.0)
    )
    assert high[1] == pytest.approx(30 * 10**0.15)


@pytest.mark.parametrize(
    "text",
    ["Hz\tg\n10\t1,5\n20\t1,5\n", "f [Hz];a [g]\n10;1,5\n20;1,5\n", "Hz, g (g)\n10, 1.5\n20, 1.5",
     "# made\nf [kHz]  a [m/s²]\n0.010 14.709975\n0.020 14.709975\n", "f (Hz) a (g)\n10 1,5\n20 1,5\n"],
)  # fmt: skip
def test_tables_as_people_paste_them(text: str) -> None:
    made = read_table(text, "g" if "\t" in text else None)
    assert made.kind == "acceleration"
    assert made.frequency == pytest.approx([10.0, 20.0]) and made.value == pytest.approx([1.5 * G] * 2)


@pytest.mark.parametrize(
    ("text", "word"),
    [("", "empty"), ("10 1\n20 2", "no unit"), ("f [Hz] a [g]\n10 1\nx 2\n20 3", "Line 3"), ("f [Hz] a [V]\n1 1\n2 2", "'V'"),
     ("f [Hz] a [g]\n20 1\n10 1", "rise"), ("f [Hz] a [g]\n20 1", "fewer")],
)  # fmt: skip
def test_tables_that_can_not_be(text: str, word: str) -> None:
    with pytest.raises(BadInput, match=word):
        read_table(text)


def test_a_rounded_table_is_recognised_as_its_constants() -> None:
    parts = [Segment("displacement", 0.0044), Segment("acceleration", 11.0, 47.0), Segment("line", None, 100.0)]
    p = solve(8.0, 400.0, [*parts, Segment("acceleration", 32.0)])
    f = [8.0, 11.3, 47.0, 100.0, 400.0]
    rows = "\n".join(f"{x} {float(f'{float(p.acceleration(x)):.2g}')}" for x in f)
    made = recognise(read_table("f [Hz] a [m/s²]\n" + rows))
    assert [s.law for s in made.segments] == ["displacement", "acceleration", "line", "acceleration"]
    assert made.profile.crossovers[0] == pytest.approx(p.crossovers[0], rel=0.02)
    assert np.max(np.abs(made.difference)) < 4.0
    assert made.segments[1].value == pytest.approx(11.0) and made.segments[3].value == pytest.approx(32.0)


def test_headroom_says_what_exceeds_where() -> None:
    shaker = Shaker(10.4, 0.24, 9.0, 0.12, 2900.0, 0.03, 65.0, 1.9, 3e-4, 20.0)
    limits = Capability(0.025, 1.6, 1780.0, 40.0, 110.0, 10.0, 600.0)
    made = headroom.of_sine(example(), shaker, limits, (5.0, 2500.0))
    assert made.fits and made.limits[0].name == "Force" and made.limits[0].used == pytest.approx(32 * 10.4 / 1780)
    big = headroom.of_sine(example().scaled(8.0), shaker, limits, (20.0, 2500.0))
    over = {x.name: x for x in big.limits if x.used > 1}
    assert over["Stroke"].value == pytest.approx(8 * 0.0044) and over["Stroke"].frequency == pytest.approx(8.0, rel=0.5)
    assert "Frequency range" in over
    assert big.level_db == pytest.approx(-20 * math.log10(max(x.used for x in over.values() if "range" not in x.name)))
    noise = rp.solve([rp.Point(20.0, 1.0), rp.Point(2000.0, 1.0)])
    rows = {x.name: x for x in headroom.of_random(noise, shaker, limits).limits}
    assert rows["Acceleration"].value == pytest.approx(3 * math.sqrt(1980)) and rows["Stroke"].unit == "m"


@given(st.integers(0, 50), st.floats(2, 40), st.floats(1, 50))
def test_a_compensated_record_ends_at_rest(seed: int, frequency: float, size: float) -> None:
    rate = 1000.0
    t = np.arange(4000) / rate
    rng = np.random.default_rng(seed)
    x = size * np.sin(2 * np.pi * frequency * t + rng.uniform(0, 6)) * (t > 1) * (t < 2.5) + rng.normal(0, 0.1, t.size)
    made = history.compensate(x + 0.3, rate)
    v, d = made.after.velocity, made.after.displacement
    assert abs(v[-1]) < 1e-9 * max(np.max(np.abs(v)), 1e-9) + 1e-12
    assert abs(d[-1]) < 1e-8 * max(np.max(np.abs(d)), 1e-9) + 1e-12


def test_a_record_that_needs_nothing_is_left_alone_and_stroke_raises_the_high_pass() -> None:
    rate = 2000.0
    t = np.arange(8000) / rate
    x = 10 * np.sin(2 * np.pi * 25 * t) * np.sin(np.pi * t / t[-1]) ** 2
    made = history.compensate(x, rate)
    assert np.sqrt(np.mean((made.after.acceleration - x) ** 2)) < 0.01 * np.std(x)
    assert made.after.peak_to_peak() == pytest.approx(2 * 10 / (2 * np.pi * 25) ** 2, rel=0.01)
    shock = 400 * np.sin(np.pi * (t - 1) / 0.011) * ((t > 1) & (t < 1.011))
    fitted = history.compensate(shock, rate, stroke=0.05)
    assert fitted.after.peak_to_peak() <= 0.05 and "raised" in fitted.notes[0]
    with pytest.raises(BadInput, match="stroke"):
        history.compensate(shock, rate, stroke=1e-6)
    assert history.resample(x, rate, 1000.0).size == 4000


def test_a_time_profile_does_what_it_says(tmp_path: Path) -> None:
    rows = "".join(f"{np.sin(2 * np.pi * 20 * i / 1000):.6f}\n" for i in range(4000))
    (tmp_path / "r.csv").write_text(f"# rate_hz=1000\na [g]\n{rows}")
    part = TimeFile(
        kind="time", file="r.csv", cut={"start": 1, "stop": 3}, scale=2.0, taper=0.1, resample=2000, low_pass=200
    )
    made, _ = prepare_history(part, tmp_path)
    assert made.after.acceleration.size == 4000 and made.after.rate == 2000
    assert np.max(np.abs(made.after.acceleration)) == pytest.approx(2 * G, rel=0.1)
    for wrong, word in (
        ({"cut": {"start": 3, "stop": 9}}, "cut"),
        ({"unit": "V"}, "acceleration"),
        ({"channel": "b"}, "channel"),
    ):
        with pytest.raises(BadInput, match=word):
            prepare_history(TimeFile(kind="time", file="r.csv", **wrong), tmp_path)


def run(*arguments: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-m", "lucid_anvil.cli", *arguments], capture_output=True, text=True, check=False
    )


def test_the_command_line_works_a_profile_out(tmp_path: Path) -> None:
    place = tmp_path / "p.yaml"
    place.write_text(EXAMPLE)
    done = run("profile", str(place), "--json", "-")
    assert done.returncode == 0, done.stderr
    held = json.loads(done.stdout)
    value = {r["key"]: r["value"] for r in held["readings"]}
    octaves = math.log2(50)
    assert held["method"] == "profile"
    assert value["octaves"] == pytest.approx(octaves, rel=1e-12)
    assert value["duration"] == pytest.approx(60 * octaves, rel=1e-12)
    assert value["total_duration"] == pytest.approx(120 * octaves, rel=1e-12)
    assert value["cycles"] == pytest.approx(392 / math.log(50) * 60 * octaves, rel=1e-12)
    assert value["force_peak"] == pytest.approx(32 * 6.2, rel=1e-12)
    assert {c["key"] for c in held["curves"]} == {"acceleration", "velocity", "displacement"}
    place.write_text(EXAMPLE.replace("segments", "segmints"))
    done = run("profile", str(place))
    assert done.returncode == 2 and "did you mean 'segments'" in done.stderr and done.stderr.count("\n") == 1
    assert "lucid-anvil-profile" in run("schema", "profile").stdout


def test_profiles_in_every_writing(tmp_path: Path) -> None:
    place = tmp_path / "p.yaml"
    place.write_text(EXAMPLE.replace("rate: 1 oct/min", "duration: 10 min").replace("sweeps: 2", "total: 2 h"))
    made = work_out(load_profile(place), tmp_path)
    assert made.reading("total_duration").value == 7200 and made.reading("sweeps").value == pytest.approx(12)
    place.write_text(EXAMPLE.replace("until: 47 Hz", "until: 47 Hz}\n  - {velocity: 0.03 m/s, until: 50 Hz"))
    with pytest.raises(BadInput, match="either side|until"):
        work_out(profile_of({"kind": "sine", "start": 1, "stop": 9, "segments": [{"line": "on"}]}, "p"), tmp_path)
    step = profile_of({"kind": "sine", "start": 5, "stop": 100, "segments": [
        {"displacement": "4.4 mm", "until": 11.3}, {"acceleration": 11}]}, "p")  # fmt: skip
    assert any("cross at 11.25" in n for n in work_out(step, tmp_path).notes)
    for wrong in ({"kind": "triangle"}, {}, []):
        with pytest.raises(BadInput):
            profile_of(wrong, "p")
    random = profile_of({"kind": "random", "rms": "2 g", "points": [
        {"frequency": 20, "density": "0.01 g^2/Hz"}, {"frequency": "2 kHz", "slope": "-6 dB/oct"}]}, "p")  # fmt: skip
    made = work_out(random, tmp_path)
    assert made.reading("acceleration_rms").value == pytest.approx(2 * G, rel=1e-12)
    d = made.reading("displacement_rms").value
    assert d and made.reading("displacement_three_sigma_peak_to_peak").value == pytest.approx(6 * d, rel=1e-12)


@pytest.mark.parametrize(
    ("tolerance", "abort", "said"),
    [({"low": "-3 dB", "high": "3 dB"}, {"low": "-6 dB", "high": "6 dB"}, None),
     ({"low": "-3 dB", "high": "3 dB"}, {"low": "-3 dB", "high": "3 dB"}, None),
     ({"high": "3 dB"}, {"low": "-1 dB", "high": "4 dB"}, None),
     ({"low": "-3 dB", "high": "3 dB"}, {"high": "10 %"}, "Between 10 and 200 Hz"),
     ({"low": "-3 dB"}, {"low": "-2 dB"}, "Between 10 and 200 Hz"),
     # An absolute edge that meets the tolerance of 20 m/s² (28.25 m/s²) only above the crossover
     ({"low": "-3 dB", "high": "3 dB"}, {"high": "25 m/s^2"}, "Between 50")],
)  # fmt: skip
@pytest.mark.parametrize("kind", ["sine", "random"])
def test_an_abort_band_inside_the_tolerance_is_said(
    tolerance: dict[str, str], abort: dict[str, str], said: str | None, kind: str, tmp_path: Path
) -> None:
    held: dict[str, Any] = {"start": "10 Hz", "stop": "200 Hz", "segments": [
        {"acceleration": "5 m/s^2", "until": "50 Hz"}, {"acceleration": "20 m/s^2"}]}  # fmt: skip
    if kind == "random":
        held = {
            "points": [
                {"frequency": f"{f} Hz", "density": f"{s} (m/s^2)^2/Hz"} for f, s in ((10, 5), (50, 20), (200, 20))
            ]
        }
        abort = {k: v.replace("m/s^2", "(m/s^2)^2/Hz") for k, v in abort.items()}
    made = work_out(
        profile_of({"lucid-anvil-profile": 1, "kind": kind, **held, "tolerance": tolerance, "abort": abort}, "x"),
        tmp_path,
    )
    notes = [n for n in made.notes if "narrower than the tolerance" in n]
    assert bool(notes) == (said is not None)
    if said is not None and (kind == "sine" or "50" not in said):
        assert notes[0].startswith(said)
