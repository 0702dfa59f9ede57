"""Force, pressure, torque, a hold and hysteresis, from records of known truth."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from tests.reading import arrays, doubt, read, value

from lucid_anvil.contracts import registry
from lucid_anvil.contracts.finding import Finding
from lucid_anvil.core.errors import BadInput
from lucid_anvil.core.steps import force as iso376
from lucid_anvil.engine.evaluating import evaluate_file
from lucid_anvil.formats import read as read_file

FORCES = (2e3, 4e3, 6e3, 8e3, 10e3)


class Bench:
    """Steps of five seconds, at ten samples a second, told as a user tells them."""

    def __init__(self) -> None:
        self.steps: list[dict[str, Any]] = []
        self.reference: list[float] = []
        self.unit: list[float] = []

    def step(self, reference: float, unit: float, seconds: int = 5, **told: Any) -> None:
        start = len(self.unit) / 10
        self.steps.append({**told, "start": start + 1, "stop": start + seconds})
        self.reference += [reference] * (10 * seconds)
        self.unit += [unit] * (10 * seconds)


def force_bench(turn: float = 4e-4, again: float = 1e-4, zero: float = 2e-4, back: float = 1e-3) -> Bench:
    """Four series of a transducer of 0.2 µV/V per N: what turning, repeating, returning and falling do to it."""
    made = Bench()
    off = {1: 0.0, 2: again, 3: turn, 4: -turn}
    for series, position in ((1, "0 deg"), (2, "0 deg"), (3, "120 deg"), (4, "240 deg")):
        told = {"series": series, "position": position}
        made.step(3.0, 0.01, nominal=0, direction="up", **told)
        for f in FORCES:  # the reference is never quite at its nominal
            made.step(3 + 1.001 * f, 0.01 + 2e-4 * 1.001 * f * (1 + off[series]), nominal=f, direction="up", **told)
        if series > 2:
            for f in FORCES[-2::-1]:
                made.step(3 + f, 0.01 + 2e-4 * f * (1 + off[series]) * (1 + back), nominal=f, direction="down", **told)
        made.step(3.0, 0.01 + zero, nominal=0, direction="down", **told)
    return made


def compared(bench: Bench, **settings: Any) -> Finding:
    channels = {"reference": ("N", bench.reference), "unit": ("mV/V", bench.unit)}
    return read("force-comparison", 10.0, channels, **{"steps": bench.steps, "fit_order": 1, **settings})


# --- force ---------------------------------------------------------------------------------------------------


def test_characteristics_of_a_force_transducer() -> None:
    found = compared(force_bench(), reference_uncertainty="0.02 %")
    mean = 2e-4  # series 1, 3 and 4
    assert value(found, "sensitivity") == pytest.approx(mean, rel=1e-6)
    assert value(found, "repeatability") == pytest.approx(100 * 1e-4 / 1.00005, rel=1e-6)
    assert value(found, "reproducibility") == pytest.approx(0.08, rel=1e-6)
    assert value(found, "interpolation") == pytest.approx(0, abs=1e-9)
    assert value(found, "zero") == pytest.approx(100 * 2e-4 / 2.0, rel=1e-6)
    assert value(found, "reversibility") == pytest.approx(0.1, rel=1e-6)
    assert value(found, "creep") is None and value(found, "class") == 0.5
    assert any("reproducibility" in n and "better class" in n for n in found.notes)
    x, y = arrays(found.curve("reproducibility"))
    assert tuple(x) == FORCES and y == pytest.approx(np.full(5, 0.08), rel=1e-6)
    off = compared(
        force_bench(), reference_uncertainty="0.02 %", limits={"class": {"high": 0.5}, "zero": {"high": "0.005 %"}}
    )
    assert off.reading("class").verdict == "inside" and off.verdict == "outside"


@pytest.mark.parametrize(("share", "best"), [(0.998, 0), (1.002, 0.5)])
def test_a_class_holds_to_its_limits(share: float, best: float) -> None:
    """Each characteristic by itself, just inside and just outside class 00."""
    quiet = {"turn": 0.0, "again": 0.0, "zero": 0.0, "back": 0.0}
    for key, figure in (("turn", 2.5e-4), ("again", 2.5e-4), ("zero", 2.4e-4), ("back", 7e-4)):
        found = compared(force_bench(**{**quiet, key: share * figure}), reference_uncertainty="0.01 %")
        assert value(found, "class") == best, key
    found = compared(force_bench(**quiet), reference_uncertainty=f"{0.01 * share} %")
    assert value(found, "class") == best
    for one, limits in iso376.CLASSES.items():
        for i, name in enumerate(iso376.NAMES):
            assert iso376.class_of({name: limits[i] * 0.999}) == one
    assert iso376.class_of({"zero": 0.201}) is None


def test_creep_is_read_at_its_times_and_waited_for() -> None:
    bench = force_bench()
    start = len(bench.unit) / 10
    t = np.arange(3100) / 10
    bench.unit += list(2.0 * (1 + 1e-4 * np.log10(np.maximum(t, 0.1) / 30)))
    bench.reference += [10e3] * 3100
    found = compared(bench, creep={"loaded": [start, start + 305]})
    assert value(found, "creep") == pytest.approx(0.01, rel=0.01)
    with pytest.raises(BadInput, match="300 s"):
        compared(bench, creep={"loaded": [start, start + 200]})


def test_what_is_not_there_is_null_and_a_wrong_order_is_said() -> None:
    bench = force_bench()
    one = [s for s in bench.steps if s["series"] == 1]
    found = compared(bench, steps=one)
    for key in ("repeatability", "reproducibility", "class"):
        assert value(found, key) is None and found.reading(key).reason
    with pytest.raises(BadInput, match="no zero before"):
        compared(bench, steps=one[1:])
    with pytest.raises(BadInput, match="out of its order"):
        compared(bench, steps=[one[1], one[0], *one[2:]])
    turned = [{**s, "nominal": 3e3} if i == 3 else s for i, s in enumerate(one)]
    with pytest.raises(BadInput, match="rising while up"):
        compared(bench, steps=turned)
    with pytest.raises(BadInput, match="overlap"):
        compared(bench, steps=[one[0], {**one[1], "start": one[0]["stop"] - 1}, *one[2:]])
    with pytest.raises(BadInput, match="the record ends"):
        compared(bench, steps=[*one[:-1], {**one[-1], "stop": 1e4}])
    with pytest.raises(BadInput, match="fit_order"):
        compared(bench, fit_order=5)


def test_truth_lies_in_the_doubt_of_the_sensitivity() -> None:
    inside, ratios = 0, []
    for seed in range(40):
        rng = np.random.default_rng(seed)
        bench = force_bench(*rng.normal(0, 1.5e-4, 2), zero=0.0)
        share = rng.normal(0, 1e-4)  # the reference's own, 0.02 % at k = 2
        bench.reference = [3 + (r - 3) * (1 + share) for r in bench.reference]
        found = compared(bench, reference_uncertainty="0.02 %")
        off = abs(value(found, "sensitivity") - 2e-4)
        inside += off <= doubt(found, "sensitivity")
        ratios.append(off / doubt(found, "sensitivity"))
    assert inside >= 36 and 0.3 < np.sqrt(np.mean(np.square(ratios))) < 0.7


# --- pressure ------------------------------------------------------------------------------------------------

PRESSURES = (0.0, 25e3, 50e3, 75e3, 100e3)


def pressure_bench(head: float = 0.0) -> Bench:
    """Two series of a 4 to 20 mA transmitter with an offset, a bow, a lag and a drift between the series."""
    made = Bench()
    for series in (1, 2):
        for i, p in enumerate((*PRESSURES, *PRESSURES[-2::-1])):
            rising = i < len(PRESSURES)
            bow = 0.008 * np.sin(np.pi * p / 1e5) * (1 if rising else 3)
            made.step(p - head, 4 + 16 * p / 1e5 + 0.016 + bow + 0.0016 * series, series=series, nominal=p,
                      direction="up" if rising else "down")  # fmt: skip
    return made


@pytest.mark.parametrize("head", [0.0, 1000 * 9.80665 * 0.5])
def test_errors_of_a_pressure_transmitter(head: float) -> None:
    bench = pressure_bench(head)
    more = {"head": {"height": "50 cm", "density": "1000 kg/m^3"}} if head else {}
    channels = {"reference": ("kPa", np.array(bench.reference) / 1e3), "unit": ("mA", bench.unit)}
    found = read("pressure-comparison", 10.0, channels, steps=bench.steps, span={"low": 0, "high": "1 bar"},
                 output={"low": "4 mA", "high": "20 mA"}, **more)  # fmt: skip
    for key, truth in (("zero_error", 0.115), ("span_error", 0.0), ("hysteresis", 0.1), ("nonlinearity", 0.1),
                       ("repeatability", 0.01), ("accuracy", 0.1 + 0.02 + 0.15)):  # fmt: skip
        assert value(found, key) == pytest.approx(truth, abs=1e-6), key
    _, up = arrays(found.curve("error_up"))
    assert up[2] == pytest.approx(0.115 + 0.05)
    one = read("pressure-comparison", 10.0, channels, steps=bench.steps[:5], span={"low": 0, "high": "100 kPa"},
               output={"low": 4, "high": 20}, **more)  # fmt: skip
    assert value(one, "hysteresis") is None and value(one, "repeatability") is None
    assert value(one, "nonlinearity") == pytest.approx(0.05, abs=1e-6)


# --- a hold --------------------------------------------------------------------------------------------------


def log_of(hours: float = 30.0, leak: float = 0.002, swing: float = 2.0) -> dict[str, tuple[str, np.ndarray]]:
    """A minute a row: a leak of `leak` bar/h under a day's swing of temperature."""
    t = np.arange(0, hours * 3600, 60.0)
    heat = 20 + swing * np.sin(2 * np.pi * t / 86400) + 0.02 * t / 3600
    absolute = (11.01325 - leak * t / 3600) * (heat + 273.15) / 293.15
    return {"pressure": ("bar", absolute - 1.01325), "temperature": ("°C", heat)}


def test_a_leak_under_a_drift_is_found() -> None:
    held = log_of(leak=2e-4, swing=6.0)
    found = read("pressure-hold", 1 / 60, held, medium="gas", window={"from": "2 h", "to": "9 h"})
    assert abs(value(found, "decay_raw")) > 20 * value(found, "decay")
    assert value(found, "decay") == pytest.approx(2e-4 * found_scale(held, 2, 9), rel=0.01)
    assert value(found, "elapsed") == 7 * 3600 and value(found, "record_maximum") == pytest.approx(
        held["pressure"][1].max()
    )
    assert value(found, "minimum") >= value(found, "record_minimum")
    tight = read("pressure-hold", 1 / 60, held, medium="gas", limits={"decay": {"high": "0.0001 bar/h"}})
    assert tight.verdict == "outside"
    plain = read("pressure-hold", 1 / 60, held)
    assert value(plain, "decay") == value(plain, "decay_raw") and any("not compensated" in n for n in plain.notes)
    with pytest.raises(BadInput, match="one of them"):
        read("pressure-hold", 1 / 60, held, medium="gas", coefficient=100)


def found_scale(held: dict[str, tuple[str, np.ndarray]], low: float, high: float) -> float:
    """Absolute pressures are brought to the window's mean temperature, and the leak with them."""
    heat = held["temperature"][1][int(low * 60) : int(high * 60) + 1]
    return (float(heat.mean()) + 273.15) / 293.15


def test_a_liquid_is_compensated_by_its_coefficient() -> None:
    t = np.arange(0, 36000, 30.0)
    heat = 20 + t / 36000
    p = 50e5 - 20 * t / 3600 + 4e4 * (heat - 20)
    found = read(
        "pressure-hold", 1 / 30, {"pressure": ("Pa", p), "temperature": ("K", heat + 273.15)}, coefficient="40 kPa/K"
    )
    assert value(found, "decay") == pytest.approx(2e-4, rel=1e-6) and value(found, "decay_raw") < 0


def test_a_log_has_gaps_dates_and_a_summer_time(tmp_path: Path) -> None:
    place = tmp_path / "night.csv"
    rows = [f"2026-03-2{8 + (i * 60 + 79200) // 86400}T{(i + 1320) // 60 % 24:02d}:{i % 60:02d}:00;{5 - i * 1e-4:.5f}".replace(".", ",")
            for i in range(600) if not 100 < i < 130]  # fmt: skip
    place.write_text("time;pressure [bar]\n" + "\n".join(rows) + "\n")
    found = evaluate_file("pressure-hold", place, None, [])
    assert value(found, "decay") == pytest.approx(6e-3, rel=1e-6)
    assert any("gap of 1800 s" in n for n in found.notes)
    with pytest.raises(BadInput):
        read_file(place)  # no other method is given such
    jump = [r if i < 200 else r.replace("T0", "T1", 1) if "T0" in r else r for i, r in enumerate(rows)]
    place.write_text("time;pressure [bar]\n" + "\n".join(jump[:150] + jump[120:]) + "\n")
    with pytest.raises(BadInput, match="time goes back"):
        evaluate_file("pressure-hold", place, None, [])
    hour = ["2026-10-25T02:59:00,5", "2026-10-25T02:59:30,5", "2026-10-25T03:00:00,5", "2026-10-25T02:00:30,5"]
    place.write_text("time,pressure [bar]\n" + "\n".join(hour) + "\n")
    with pytest.raises(BadInput, match="summer time ends"):
        evaluate_file("pressure-hold", place, None, [])
    zones = [h.replace(",5", "+02:00,5") for h in hour[:3]] + ["2026-10-25T02:00:30+01:00,5"]
    place.write_text("time,pressure [bar]\n" + "\n".join(zones) + "\n")
    assert value(evaluate_file("pressure-hold", place, None, []), "elapsed") == pytest.approx(90)
    ahead = ["2026-03-29T01:59:00,5", "2026-03-29T01:59:30,5", "2026-03-29T03:00:00,5", "2026-03-29T03:00:30,5"]
    place.write_text("time,pressure [bar]\n" + "\n".join(ahead) + "\n")
    assert any("summer time begins" in n for n in evaluate_file("pressure-hold", place, None, []).notes)
    place.write_text("time,pressure [bar]\n" + "\n".join([*ahead, "noon,5"]) + "\n")
    with pytest.raises(BadInput, match="line 6: 'noon'"):
        evaluate_file("pressure-hold", place, None, [])


# --- torque --------------------------------------------------------------------------------------------------

PEAKS = (10.0, 10.2, 9.8, 10.1, 10.05)


def rundowns(click: bool = False, sign: float = 1.0) -> dict[str, tuple[str, np.ndarray]]:
    torque, angle = np.zeros(17000), np.zeros(17000)
    for i, p in enumerate(PEAKS):
        a = 1000 + 3000 * i
        torque[a : a + 501] = np.linspace(0, p, 501)
        angle[a : a + 501] = angle[a - 1] + np.linspace(0, 50, 501)
        angle[a + 501 :] = angle[a + 500]
        if click:  # it lets go, and the hand pulls on
            torque[a + 501 : a + 701] = np.concatenate(
                [np.linspace(p, 0.8 * p, 50), np.linspace(0.8 * p, 1.3 * p, 150)]
            )
    return {"torque": ("N*m", sign * torque), "angle": ("deg", angle)}


@pytest.mark.parametrize(("kind", "sign"), [("driven", 1.0), ("click", 1.0), ("driven", -1.0)])
def test_rundowns_are_caught_and_judged(kind: str, sign: float) -> None:
    found = read("torque-capability", 1000.0, rundowns(kind == "click", sign), kind=kind, threshold="3 N*m", snug="2 N*m",
                 low=9, high=11)  # fmt: skip
    x = np.array(PEAKS)
    s = x.std(ddof=1)
    assert value(found, "count") == 5 and value(found, "mean") == pytest.approx(x.mean())
    assert value(found, "standard_deviation") == pytest.approx(s)
    assert value(found, "cm") == pytest.approx(2 / (6 * s), rel=1e-12)
    assert value(found, "cmk") == pytest.approx((11 - x.mean()) / (3 * s), rel=1e-12)
    assert value(found, "angle_mean") == pytest.approx(np.mean(50 * (1 - 2 / x)), abs=0.2)
    assert arrays(found.curve("peak"))[1] == pytest.approx(x)
    span = found.reading("cm").interval
    assert span is not None and span[0] < value(found, "cm") < span[1]


def test_limits_rebounds_and_few_rundowns() -> None:
    held = rundowns()
    one = read("torque-capability", 1000.0, held, threshold=3, low=9)
    assert value(one, "cm") is None and value(one, "cmk") == pytest.approx(
        (np.mean(PEAKS) - 9) / (3 * np.std(PEAKS, ddof=1))
    )
    torque = held["torque"][1].copy()
    torque[1560:1580] = 4.5  # it bounces
    struck = read("torque-capability", 1000.0, {"torque": ("N*m", torque)}, threshold=3, strike=[2])
    assert (
        value(struck, "count") == 4 and any("rebound" in n for n in struck.notes) and value(struck, "maximum") == 10.1
    )
    none = read("torque-capability", 1000.0, {"torque": ("N*m", np.zeros(1000))}, threshold=3)
    assert value(none, "count") == 0 and value(none, "mean") is None
    single = read(
        "torque-capability", 1000.0, {"torque": ("N*m", held["torque"][1][:3000])}, threshold=3, low=9, high=11
    )
    assert value(single, "count") == 1 and value(single, "standard_deviation") is None and value(single, "cmk") is None
    cut = read("torque-capability", 1000.0, {"torque": ("N*m", held["torque"][1][:4400])}, threshold=3)
    assert value(cut, "count") == 1 and any("ends within" in n for n in cut.notes)


# --- hysteresis ----------------------------------------------------------------------------------------------


def loop(
    noise: float = 0.0, loops: int = 1, up_only: bool = False
) -> tuple[np.ndarray, np.ndarray, list[dict[str, float]]]:
    """Two seconds a step, 100 samples a second; the way down lies higher by up to 0.6 of a span of 25."""
    levels = [*range(11), *(range(9, -1, -1) if not up_only else ())] * loops
    drive: list[np.ndarray] = []
    response: list[np.ndarray] = []
    steps = []
    before = (0.0, 0.0)
    for i, v in enumerate(levels):
        falling = i % 21 > 10
        end = 2 * v + 0.05 * v * v + (0.6 * np.sin(np.pi * v / 10) if falling else 0.0)
        t = np.arange(200)
        drive.append(v - (v - before[0]) * np.exp(-t / 4))
        response.append(end - (end - before[1]) * np.exp(-t / 15))
        steps.append({"start": 2.0 * i + 1.5, "stop": 2.0 * i + 2})
        before = (float(v), end)
    rng = np.random.default_rng(1)
    x = np.concatenate(drive)
    return x + noise * rng.standard_normal(x.size), np.concatenate(response), steps


@pytest.mark.parametrize("noise", [0.0, 0.003])
@pytest.mark.parametrize("found", [True, False])
@pytest.mark.parametrize("loops", [1, 2])
def test_a_loop_of_steps(noise: float, found: bool, loops: int) -> None:
    drive, response, steps = loop(noise, loops)
    made = read("step-hysteresis", 100.0, {"drive": ("V", drive), "response": ("um", response)},
                **({} if found else {"steps": steps}))  # fmt: skip
    assert value(made, "span") == pytest.approx(25, rel=1e-3)
    assert value(made, "hysteresis") == pytest.approx(100 * 0.6 / 25, rel=0.01)
    mean = np.array([2 * v + 0.05 * v * v + 0.3 * np.sin(np.pi * v / 10) for v in range(11)])
    line = np.linspace(mean[0], mean[-1], 11)
    assert value(made, "nonlinearity") == pytest.approx(100 * np.abs(mean - line).max() / 25, rel=0.01)
    assert value(made, "zero_return") == pytest.approx(0, abs=0.01) and made.curve("up").y_unit == "um"


def test_one_way_has_no_hysteresis() -> None:
    drive, response, steps = loop(up_only=True)
    made = read("step-hysteresis", 100.0, {"drive": ("V", drive), "response": ("um", response)}, steps=steps)
    assert value(made, "hysteresis") is None and value(made, "span") == pytest.approx(25, rel=1e-3)
    still = read("step-hysteresis", 100.0, {"drive": ("V", np.ones(500)), "response": ("um", np.ones(500))})
    assert value(still, "span") is None and "found" in still.notes[0]
    with pytest.raises(BadInput, match="overlapping"):
        read("step-hysteresis", 100.0, {"drive": ("V", drive), "response": ("um", response)}, steps=steps[::-1])


def test_a_pressure_sensor_leaves_its_steps_to_the_ledger() -> None:
    bench = pressure_bench()
    channels = {"reference": ("kPa", np.array(bench.reference) / 1e3), "unit": ("V", np.array(bench.unit) / 2)}
    found = read("pressure-comparison", 10.0, channels, steps=bench.steps, span={"low": 0, "high": "1 bar"},
                 output={"low": "2 V", "high": "10 V"}, reference_uncertainty="0.05 %")  # fmt: skip
    made = registry.get("pressure-comparison").calibration(found, "mV/bar")
    assert made.points is not None and [p[0] for p in made.points] == pytest.approx(PRESSURES[1:], rel=1e-6)
    volts = np.array([p * s / 1e8 for p, s, _ in made.points])  # what it gives more than at rest
    bow = 0.008 * np.sin(np.pi * np.array(PRESSURES[1:]) / 1e5) * 2
    assert volts == pytest.approx((16 * np.array(PRESSURES[1:]) / 1e5 + bow) / 2, abs=2e-3)
    # Without a step at no pressure its offset is not known, and one number is all there is.
    aloft = [s for s in bench.steps if s["nominal"]]
    bare = read("pressure-comparison", 10.0, channels, steps=aloft, span={"low": 0, "high": "1 bar"},
                output={"low": "2 V", "high": "10 V"}, reference_uncertainty="0.05 %")  # fmt: skip
    assert registry.get("pressure-comparison").calibration(bare, "mV/bar").points is None


def test_alarm_lines_tell_how_long_a_log_was_beyond_them() -> None:
    t = np.arange(0, 3600, 10.0)
    p = np.where((t >= 600) & (t < 900), 5.4, 5.0) + np.where((t >= 2000) & (t < 2100), 0.3, 0.0)
    alarm = {"low": "4.5 bar", "high": "5.2 bar"}
    found = read("pressure-hold", 0.1, {"pressure": ("bar", p)}, alarm=alarm)
    said = " ".join(found.notes)
    assert "Above the alarm line of 5.2 bar for 400 s in 2 stretches, first at 600 s, as far as 5.4 bar." in said
    assert "Never below the alarm line of 4.5 bar." in said and found.verdict == "none"
    lines = {c.key: c.y for c in found.curves if c.key.startswith("alarm")}
    assert lines == {"alarm_low": (4.5, 4.5), "alarm_high": (5.2, 5.2)}
    with pytest.raises(BadInput, match="high must lie above low"):
        read("pressure-hold", 0.1, {"pressure": ("bar", p)}, alarm={"low": "5 bar", "high": "4 bar"})
