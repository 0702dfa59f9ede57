"""The shaker's control loops against the stand-in's physics, judged from the raw record."""

from __future__ import annotations

import dataclasses
import math
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from lucid_anvil.contracts.finding import Finding
from lucid_anvil.core.control.plant import LoopResponse, estimate, judge_loop, periodic_noise, sharpest
from lucid_anvil.core.control.randomloop import NoiseSource, rolled_off, smear
from lucid_anvil.core.control.replication import compare, make_target
from lucid_anvil.core.control.sineloop import fastest_rate
from lucid_anvil.core.signal.spectra import averaged, frame_for
from lucid_anvil.domains.shaker.random_reading import parts_of, spectra_of
from lucid_anvil.domains.shaker.settings import in_units
from lucid_anvil.engine.inprocess import Played, play_through
from lucid_anvil.engine.preparing import Prepared, prepared_from
from lucid_anvil.lab.plans import Plan
from lucid_anvil.lab.textfiles import load_yaml
from lucid_anvil.rig.model import Rig, load_rig

RIG = Path(__file__).parents[1] / "src/lucid_anvil/data/demo/rigs/shaker.rig.yaml"
SENSORS = {r: {"serial": r, "sensitivity": s} for r, s in (("control", 10.02), ("response", 9.87), ("tray", 10.11))}
BANDS = {"tolerance": {"low": "-3 dB", "high": "3 dB"}, "abort": {"low": "-6 dB", "high": "6 dB"}}


def prepared(
    method: str, settings: dict[str, Any], modes: list[dict[str, Any]] | None = None, **standin: Any
) -> Prepared:
    """A run on the demo's shaker, its article and faults changed."""
    data = load_yaml(RIG)
    data["front_end"]["block"] = standin.pop("block", data["front_end"]["block"])
    data["standin"] |= standin
    if modes is not None:
        data["standin"]["article"] = {"modes": modes}
        for channel in data["channels"]:
            if channel.get("on") == "mode2" and len(modes) < 2:
                channel["on"] = "mode1"
    plan = Plan.model_validate({
        "lucid-anvil-plan": 1, "title": method, "sensors": SENSORS,
        "steps": [{"method": method, "settings": settings}],
    })  # fmt: skip
    return prepared_from(plan, Path("here.plan.yaml"), Rig.model_validate(data), RIG)


def sine(start: float, stop: float, rate: str, **more: Any) -> dict[str, Any]:
    profile = {"kind": "sine", "start": start, "stop": stop, "segments": [{"acceleration": "15 m/s^2"}],
               "sweep": {"rate": rate}, **BANDS}  # fmt: skip
    return {"profile": profile, **more}


def played(p: Prepared) -> tuple[Played, Finding]:
    made = play_through(p)
    return made, p.method.evaluate(made.channels, p.settings, made.marks)


def errors(finding: Finding) -> tuple[np.ndarray, np.ndarray]:
    c, t = finding.curve("control"), finding.curve("target")
    return np.array(c.x), 20 * np.log10(np.array(c.y, float) / np.array(t.y, float))


@pytest.mark.parametrize(
    ("mode", "band", "rate", "near", "far"),
    [(118.0, (80.0, 180.0), "1 oct/min", 1.0, 0.3), (118.0, (80.0, 180.0), "4 oct/min", 2.0, 0.7),
     (30.0, (22.0, 42.0), "1 oct/min", 2.0, 2.0)],
)  # fmt: skip
def test_a_sweep_through_a_sharp_mode(
    mode: float, band: tuple[float, float], rate: str, near: float, far: float
) -> None:
    article = [{"mass": "0.9 kg", "frequency": mode, "quality": 30}]
    _, finding = played(prepared("sine-sweep", sine(*band, rate), article, seed=3))
    f, db = errors(finding)
    close = np.abs(np.log2(f / mode)) < 0.1
    assert f[0] == pytest.approx(band[0]) and f[-1] > band[1] / 1.03 and close.sum() > 5
    assert np.max(np.abs(db[close])) < near
    assert np.max(np.abs(db[~close])) < far
    assert finding.reading("in_tolerance").value == 100.0


def test_a_dwell_follows_a_mode_that_drifts() -> None:
    article = [{"mass": "0.9 kg", "frequency": 118, "quality": 30, "drift": "-2 %"}]
    settings = sine(80, 180, "8 oct/min", course=[
        {"sweep": "up"}, {"follow": "resonance", "channel": "response", "duration": "30 s"},
        {"dwell": "90 Hz", "cycles": 450, "level": "-6 dB"}, {"pause": "1 s"},
    ])  # fmt: skip
    made, finding = played(prepared("sine-sweep", settings, article))
    assert made.trip is None
    assert finding.reading("dwell_1_phase_error").value < 3.0
    assert finding.reading("dwell_1_drift").value == pytest.approx(-2 * 26 / 60, abs=0.2)
    assert abs(finding.reading("dwell_1_error").value) < 1.0
    assert finding.reading("dwell_2_cycles").value == pytest.approx(450, abs=4)
    assert finding.reading("dwell_2_frequency").value == pytest.approx(90.0)
    assert abs(finding.reading("dwell_2_error").value) < 0.5


def test_drive_never_steps() -> None:
    made, _ = played(prepared("sine-sweep", sine(40, 160, "20 oct/min")))
    slope = np.max(np.abs(np.diff(made.drive)))
    top = np.max(np.abs(made.drive))
    assert slope < 2.2 * np.pi * 160 / 10240 * top * 1.2
    assert made.drive[-1] == 0.0


def test_a_response_limit_notches_the_profile() -> None:
    settings = sine(80, 180, "4 oct/min", control={"limits": {"response": "120 m/s^2"}})
    settings["profile"] = {**settings["profile"], "abort": {"low": "-40 dB", "high": "6 dB"}}
    made, finding = played(prepared("sine-sweep", settings))
    assert made.trip is None
    top = max(y for y in finding.curve("response_response").y if y)
    assert 100 < top < 150
    _, db = errors(finding)
    assert db.min() < -3 and abs(db[0]) < 0.3


def test_several_control_points_and_detectors() -> None:
    for control in ({"points": ["control", "tray"], "combine": "maximum"}, {"detect": "rms"}, {"detect": "peak"},
                    {"tracking": "8 Hz"}, {"tracking": "20 %"}):  # fmt: skip
        modes = [{"mass": "0.5 kg", "frequency": 700, "quality": 5}]
        made, finding = played(prepared("sine-sweep", sine(40, 110, "12 oct/min", control=control), modes))
        assert made.trip is None, made.trip
        assert finding.reading("in_tolerance").value == 100.0


def test_hold_and_level_are_obeyed() -> None:
    p = prepared("sine-sweep", sine(60, 90, "4 oct/min", control={"probe": {"on": False}}))
    run = p.method.perform(p.settings, p.facts, None)
    want = next(run)
    from lucid_anvil.contracts.method import Got
    from lucid_anvil.rig.standins.bench import StandInBench

    bench = StandInBench(p.rig.model_copy(deep=True))
    queue, frequencies, levels = [np.zeros(400), np.zeros(400)], [], []
    roles = [c.role for c in p.rig.channels] + ["drive"]
    for i in range(1, 400):
        queue.append(want.drive)
        held = bench.play(queue.pop(0))
        orders = {100: ({"order": "hold"},), 150: ({"order": "level", "by": -6.0},), 230: ({"order": "go"},)}.get(i, ())
        try:
            want = run.send(Got(i, 0.0, dict(zip(roles, held.samples, strict=True)), frozenset(), None, orders))
        except StopIteration:
            break
        if want.live and "f" in want.live:
            frequencies.append((i, want.live["f"]))
            levels.append((i, want.live["level_db"]))
    still = [f for i, f in frequencies if 125 < i < 230]
    assert max(still) - min(still) < 1e-6
    assert [v for i, v in levels if i > 220][0] == pytest.approx(-6.0, abs=0.01)
    assert frequencies[-1][1] > still[0] * 1.05


def random_settings(**more: Any) -> dict[str, Any]:
    points = [{"frequency": "20 Hz", "density": "0.01 g^2/Hz"}, {"frequency": "80 Hz", "density": "0.04 g^2/Hz"},
              {"frequency": "350 Hz", "density": "0.04 g^2/Hz"}, {"frequency": "2000 Hz", "density": "0.007 g^2/Hz"}]  # fmt: skip
    return {"profile": {"kind": "random", "points": points, **BANDS}, **more}


def test_random_lines_at_stated_degrees_of_freedom() -> None:
    settings = random_settings(course=[{"random": True, "ladder": [-12, -6, 0], "each": "6 s", "duration": "52 s"}])
    p = prepared("random-vibration", settings, seed=5)
    made, finding = played(p)
    assert made.trip is None
    record = in_units(made.channels, p.settings)
    profile = p.settings.random().solved()
    part = parts_of(made.marks, p.settings, record["control"].duration)[0]
    frame = frame_for(10240.0, 5.0)
    for dof, tolerance, share in ((120, 1.5, 97.0), (480, 1.0, 99.0)):
        seconds = frame * (dof * 0.265 + 0.5) / 10240.0
        shares = []
        for start in np.arange(part.start, part.stop - seconds, seconds):
            made_s = spectra_of(
                record, ["control"], [dataclasses.replace(part, start=start, stop=start + seconds)], frame
            )
            inside = (made_s.frequency >= 20) & (made_s.frequency <= 2000)
            db = 10 * np.log10(made_s.auto[0][inside] / profile.density(made_s.frequency[inside]))
            shares.append(100 * np.mean(np.abs(db) <= tolerance))
            rms = math.sqrt(np.sum(made_s.auto[0][inside]) * made_s.frequency[1])
            assert rms == pytest.approx(profile.rms(), rel=0.02)
        assert made_s.dof == pytest.approx(dof, rel=0.05)
        assert np.mean(shares) >= share and min(shares) >= share - 1.0
    assert finding.reading("in_tolerance").value == 100.0
    assert finding.reading("kurtosis").value == pytest.approx(3.0, abs=0.15)
    assert finding.reading("rms_error").value == pytest.approx(0.0, abs=2.0)
    edge = averaged([record["control"].between(part.start, part.stop)[None]], 1, 10240.0, frame).auto[0]
    assert edge[int(2300 / 5)] < 0.02 * edge[int(1990 / 5)]


def test_lines_beyond_abort_are_seen() -> None:
    """A drive that clips far below what is wanted can't hold the lines."""
    settings = random_settings(
        control={"lines_abort": 2.0, "probe": {"period": "2 s"}}, course={"random": True, "duration": "20 s"}
    )
    settings["profile"]["abort"] = {"low": "-0.3 dB", "high": "0.3 dB"}
    made = play_through(prepared("random-vibration", settings))
    assert made.trip is not None and made.trip.guard in ("lines", "abort")


def shocks(folder: Path, seconds: float = 8.0, rate: float = 2560.0) -> Path:
    rng = np.random.default_rng(3)
    t = np.arange(0, seconds, 1 / rate)
    x = np.zeros(t.size)
    for k in range(int(seconds / 2)):
        u = np.maximum(t - 1 - 2 * k - rng.uniform(0, 0.3), 0.0)
        f = rng.uniform(25, 380)
        x += rng.uniform(20, 70) * np.exp(-0.15 * u * f) * np.sin(2 * np.pi * f * u)
    folder.mkdir(exist_ok=True)
    place = folder / "shocks.csv"
    place.write_text(f"# rate_hz={rate:g}\na [m/s^2]\n" + "".join(f"{v:.5g}\n" for v in x))
    return place


def test_a_record_is_followed_within_six_passes(tmp_path: Path) -> None:
    profile = {"kind": "time", "file": str(shocks(tmp_path)), "low_pass": "600 Hz"}
    made, finding = played(prepared("time-replication", {"profile": profile}))
    assert made.trip is None
    assert finding.reading("passes").value == 6
    assert finding.reading("rms_error").value < 5.0
    assert abs(finding.reading("peak_error").value) < 3.0
    assert finding.reading("rms_error_6").value < finding.reading("rms_error_1").value
    assert finding.reading("level").value == pytest.approx(100.0, abs=1.0)


def test_comparing_finds_delay_and_error() -> None:
    rate = 2000.0
    t = np.arange(4000) / rate
    x = np.sin(2 * np.pi * 40 * t) * np.exp(-((t - 1) ** 2) * 20)
    target = make_target(x, rate, (10.0, 200.0), 100)
    figures, moved = compare(1.1 * np.roll(target.wave, 7), target.wave, target)
    assert figures.delay == pytest.approx(7 / rate, abs=1e-5)
    assert figures.rms_error == pytest.approx(10.0, abs=0.1) and figures.level == pytest.approx(1.1, rel=1e-3)
    assert figures.peak_error == pytest.approx(10.0, abs=0.2) and figures.spectrum_error == pytest.approx(
        0.83, abs=0.02
    )


# --- the probe run ---------------------------------------------------------------------------------------------


def test_periodic_noise_shows_the_plant_without_leakage() -> None:
    rig = load_rig(RIG)
    rng = np.random.default_rng(4)
    rate, n = 10240.0, 40960
    wave = periodic_noise(n, rate, 10, 400, rng)
    assert np.std(wave) == pytest.approx(1.0)
    f = np.fft.rfftfreq(n, 1 / rate)
    h = rig.plant().response(np.maximum(f, 0.1))[0]
    y = np.fft.irfft(np.fft.rfft(wave) * h, n)
    noise = rng.normal(0, 0.05, 2 * n)
    made = estimate(np.tile(wave, 2), np.tile(y, 2)[None] + noise, rng.normal(0, 0.05, (1, n)), rate, n)
    for at in (12.0, 60.0, 200.0, 390.0):
        assert made.magnitude(0, at) == pytest.approx(
            float(np.abs(rig.plant().response(np.array([at]))[0, 0])), rel=0.02
        )
    assert made.noise[0] == pytest.approx(0.05, rel=0.05)


def loop(gains: list[Any], noise: float = 1e-3) -> tuple[LoopResponse, np.ndarray]:
    f = np.arange(0, 500, 0.5)
    model = 50 / np.sqrt(1 + (15 / np.maximum(f, 0.5)) ** 4)
    h = np.array([g * model.astype(complex) for g in gains])
    quiet = np.array([0.1 if np.all(np.abs(g) < 1e-3) else 1.0 for g in gains])[:, None]
    return LoopResponse(f, h, np.ones(h.shape) * quiet, np.full(len(gains), noise), 0.001), model


PEAK = 1 + 30 * np.exp(-(((np.arange(0, 500, 0.5) - 150) / 60) ** 2))


@pytest.mark.parametrize(
    ("gains", "burst", "kind"),
    [([1, 1], [1, 1], None), ([1e-5, 1], [1e-3, 1], "open loop"), ([1, -1], [1, 1], "reversed"),
     ([9.81, 1], [9, 1], "sensitivity"), ([0.1, 1], [0.1, 1], "sensitivity"), ([10, 1], [1, 1], "sensitivity"),
     ([PEAK, 1], [1, 1], "exchanged"), ([4.5, 1], [1, 1], "gain")],
)  # fmt: skip
def test_what_a_probe_run_finds_out(gains: list[Any], burst: list[float], kind: str | None) -> None:
    made, model = loop(gains)
    said = judge_loop(made, ["control", "tray"], model, (10, 400), np.array(burst, float), ["acceleration"] * 2)
    assert [d.kind for d in said] == ([] if kind is None else [kind])


def test_a_loose_sensor_is_told_from_its_coherence() -> None:
    made, model = loop([1, 1])
    spoiled = dataclasses.replace(made, coherence=np.array([np.full(1000, 0.4), np.ones(1000)]))
    said = judge_loop(spoiled, ["control", "tray"], model, (10, 400), np.ones(2), ["acceleration"] * 2)
    assert said[0].kind == "loose" and "control" in said[0].text


def placed(where: str) -> list[Any]:
    """What a probe run says with the control sensor on the table, on what is mounted, or its cable exchanged."""
    f = np.arange(0, 801) * 0.5
    table = 50.0 / (1 - 0.3j)
    r1, r2 = f / 120, f / 260
    first, second = 1 / (1 - r1**2 + 1j * r1 / 20), 1 / (1 - r2**2 + 1j * r2 / 15)
    h0 = np.full(f.size, table) * (1 + 0.1 * first)
    rows = {"right": [h0, h0 * first, h0 * second], "exchanged": [h0 * first, h0, h0 * second],
            "elsewhere": [h0 * first, h0 * second, h0 * second]}[where]  # fmt: skip
    loop = LoopResponse(f, np.array(rows), np.ones((3, f.size)), np.full(3, 1e-3), 0.001)
    return judge_loop(
        loop, ["control", "rib", "tray"], np.full(f.size, 50.0), (20, 390), np.ones(3), ["acceleration"] * 3
    )


def test_a_control_sensor_at_another_place_is_told_from_the_shape_of_the_responses() -> None:
    assert placed("right") == []
    (said,) = placed("exchanged")
    assert said.fatal and "control and rib are exchanged" in said.text and "120 Hz" in said.text
    (said,) = placed("elsewhere")
    assert not said.fatal and "resonance of its own at 120 Hz" in said.text and "not on the table" in said.text


@pytest.mark.parametrize(
    ("change", "word"),
    [({"faults": [{"at": 0, "kind": "no_output", "channel": "control"}]}, "no more than its noise"),
     ({"faults": [{"at": 0, "kind": "amplifier_trip"}]}, "no more than its noise"),
     ({"faults": [{"at": 0, "kind": "gain_jump", "channel": "control", "size": 8.8}]}, "wrong by ten"),
     ({"faults": [{"at": 0, "kind": "gain_jump", "channel": "response", "size": -2.0}]}, "upside down"),
     ({"faults": [{"at": 0, "kind": "loose", "channel": "control", "size": 30}]}, "loose")],
)  # fmt: skip
def test_the_probe_run_refuses_and_the_drive_comes_down(change: dict[str, Any], word: str) -> None:
    made = play_through(
        prepared("sine-sweep", sine(20, 300, "10 oct/min", control={"probe": {"period": "1 s"}}), **change)
    )
    assert made.trip is not None and made.trip.guard == "probe" and word in made.trip.label
    assert not np.any(made.drive[-400:])


def test_the_probe_run_refuses_what_will_not_fit() -> None:
    settings = sine(20, 300, "10 oct/min", control={"probe": {"period": "1 s"}})
    settings["profile"]["segments"] = [{"acceleration": "180 m/s^2"}]
    made = play_through(prepared("sine-sweep", settings))
    assert made.trip is not None and "% of its limit" in made.trip.label and "dB would fit" in made.trip.label


def test_too_fast_for_a_sharp_mode_is_said_with_the_rate_that_would_hold() -> None:
    f = np.arange(0, 400, 0.25)
    h = 1 / (1 - (f / 118) ** 2 + 1j * f / 118 / 60)
    made = LoopResponse(f, np.array([50 / h]), np.ones((1, f.size)), np.zeros(1), 0.001)
    modes = sharpest(made, 0, (50, 300))
    assert modes[0][0] == pytest.approx(118, abs=0.5) and modes[0][1] == pytest.approx(118 / 60, rel=0.3)
    assert fastest_rate(118, 2.0, 0.2) < 4.0 < fastest_rate(118, 20.0, 0.2)
    article = [{"mass": "0.9 kg", "frequency": 100, "quality": 60}]
    p = prepared("sine-sweep", sine(80, 130, "12 oct/min"), article)
    probe = next(m for m in play_through(p, longest=22).marks if m["kind"] == "probe")
    assert any("too fast" in n for n in probe["notes"])


def test_noise_has_the_density_asked_for() -> None:
    source = NoiseSource(2048, 2048.0, np.random.default_rng(1))
    f = source.frequency
    wanted = rolled_off(lambda v: np.where(v < 300, 2.0, 0.5), 100.0, 600.0, f, 20.0)
    x = np.concatenate([source(333, wanted) for _ in range(900)])
    made = averaged([x[None]], 1, 2048.0, 1024)
    for at, level in ((200, 2.0), (450, 0.5)):
        assert np.mean(made.auto[0][at // 2 - 20 : at // 2 + 20]) == pytest.approx(level, rel=0.08)
    assert made.auto[0][20] < 1e-3 and made.auto[0][400] < 1e-3
    assert np.mean(x**4) / np.mean(x**2) ** 2 == pytest.approx(3.0, abs=0.1)
    assert smear(np.ones(801), 4, 200)[20:-20] == pytest.approx(1.0)
