"""A horn driver under power on the stand-in: level and crest factor at its terminals, heat by the probe, and what must
stop it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from lucid_anvil.contracts.finding import Finding
from lucid_anvil.core.audio.programme import Programme, clip_for, magnitudes
from lucid_anvil.core.errors import BadInput
from lucid_anvil.engine.inprocess import Played, play_through
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.engine.preparing import Prepared, prepare
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.editing import put, put_in

STAGE = {"level": "9 V", "stages": [{"duration": "40 s"}]}


def planned(tmp_path: Path, scene: str = "", play: Any = None, **settings: Any) -> Prepared:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    rig = lab.folder / "rigs" / "horn.rig.yaml"
    text = rig.read_text()
    assert "{kind: hot-driver}" in text
    rig.write_text(text.replace("{kind: hot-driver}", "{kind: hot-driver" + (f", {scene}" if scene else "") + "}"))
    plan = begin_plan("power-endurance", rig, "Horn 1", lab.jobs / "a" / "a.plan.yaml", lab=lab)
    given = {"every": "4 s", "cold_temperature": 20, "probe": {"frequency": "4 Hz"}, "play": play or STAGE, **settings}
    for key, value in given.items():
        put(plan, (key,), value)
    return prepare(plan)


def read(prepared: Prepared, played: Played) -> Finding:
    held = {k: c for k, c in played.channels.items() if k != "drive"}
    return prepared.method.evaluate(held, prepared.settings, played.marks)


def truth(played: Played, **scene: float) -> tuple[np.ndarray, np.ndarray]:
    """Times [s] of the take and the coil's temperature [°C], by the current and the stand-in's heat alone."""
    held = {"coil_capacity": 3.0, "coil_resistance": 3.0, "magnet_capacity": 400.0, "magnet_resistance": 0.8, **scene}
    i = played.channels["current"].samples()
    n = 1024
    power = np.mean(i[: i.size // n * n].reshape(-1, n) ** 2, axis=1)
    coil = magnet = 20.0
    made = []
    for p in power:
        across = (coil - magnet) / held["coil_resistance"]
        watts = p * 6.4 * (1 + 0.00393 * (coil - 20))
        coil += (watts - across) / held["coil_capacity"] * n / 48000
        magnet += (across - (magnet - 20) / held["magnet_resistance"]) / held["magnet_capacity"] * n / 48000
        made.append(coil)
    return (np.arange(power.size) + 0.5) * n / 48000, np.array(made)


def test_it_is_driven_at_its_level_and_the_heat_is_the_coils(tmp_path: Path) -> None:
    play = {"level": "14 V", "stages": [{"duration": "36 s"}, {"duration": "16 s", "by": "-6 dB", "on": "4 s", "off": "4 s"}]}
    prepared = planned(tmp_path, play=play)
    assert sum(i.duration for i in prepared.course()) == pytest.approx(57)
    played = play_through(prepared)
    assert played.trip is None
    found = read(prepared, played)
    by = {r.key: r.value for r in found.readings}
    begun = next(m for m in played.marks if m["kind"] == "programme")
    assert begun["gain"] == pytest.approx(20, rel=1e-3)
    v = played.channels["voltage"].samples()
    loud = v[int((begun["start"] + 2) * 48000) : int((begun["start"] + 34) * 48000)]
    assert np.std(loud) == pytest.approx(14, rel=0.02)
    assert np.abs(loud).max() / np.std(loud) == pytest.approx(2, rel=0.02) and by["crest_factor"] < 2.6
    quiet = v[int((begun["start"] + 42) * 48000) : int((begun["start"] + 43) * 48000)]
    assert np.std(quiet) == pytest.approx(0.14, rel=0.03)  # the probe alone
    softer = v[int((begun["start"] + 37.5) * 48000) : int((begun["start"] + 39.5) * 48000)]
    assert np.std(softer) == pytest.approx(14 / 10**0.3, rel=0.04)
    t, coil = truth(played)
    curve = next(c for c in found.curves if c.key == "coil_temperature")
    at = np.array(curve.x) + begun["start"]
    wanted = [coil[(t > a - 2) & (t < a + 2)].mean() for a in at]
    assert max(wanted) > 70 and np.abs(np.array(curve.y, float) - wanted).max() < 2.0
    assert by["coil_temperature_max"] == pytest.approx(max(wanted), abs=2)
    heat = found.reading("coil_temperature_max")
    assert heat.uncertainty is not None and 0.01 < heat.uncertainty < 3
    assert found.reading("compression_end").uncertainty is not None
    assert by["power"] > 5 and by["compression_end"] > 0.1
    assert any("cold resistance" in n for n in found.notes) and by["resistance_end"] > 6.4


@pytest.mark.parametrize(
    ("scene", "play", "why", "after"),
    [("opens: 8 s", {}, "open", 8.3), ("shorts: 8 s", {}, "shorted", 8.3), ("shorts: 8 s", {"level": "2 V"}, "shorted", 8.3),
     ("", {"level": "26 V", "crest": 1.4, "hottest": "90 °C"}, "Coil temperature", 40.0)],
)  # fmt: skip
def test_what_would_burn_is_stopped_by_the_guards(
    tmp_path: Path, scene: str, play: dict[str, Any], why: str, after: float
) -> None:
    prepared = planned(tmp_path, scene, {**STAGE, **play})
    played = play_through(prepared)
    assert played.trip is not None and played.trip.t < after
    # A short at full level is told by the current sooner than by the resistance.
    assert why in played.trip.label or (why == "shorted" and played.trip.guard == "current")
    if "hottest" in play:
        t, coil = truth(played)
        assert coil.max() < 90 + 12 and played.trip.action == "ease"
        assert coil[t < played.trip.t].max() > 80  # it was not stopped long before
    else:
        assert played.trip.t >= 8.0 and played.trip.action == "cut"
        v = played.channels["voltage"].samples()
        assert not np.any(np.abs(v[int((played.trip.t + 0.2) * 48000) :]) > 0.01)


@pytest.mark.parametrize(("channel", "size", "guard"), [("voltage", -0.3, "coil_heat"), ("voltage", -0.5, "coil_heat"),
                                                        ("current", -0.5, "coil_heat"), ("current", 0.6, "coil_heat")])
def test_a_channel_that_lies_hides_no_heat(tmp_path: Path, channel: str, size: float, guard: str) -> None:
    """Half the voltage is half the resistance: a coil that seems to be cold while it burns."""
    prepared = planned(tmp_path)
    text = prepared.rig_file.read_text()
    fault = f"standin:\n  faults: [{{kind: gain_jump, at: 8 s, channel: {channel}, size: {size}}}]\n"
    prepared.rig_file.write_text(text.replace("standin:\n", fault, 1))
    played = play_through(prepare(prepared.plan_file))
    assert played.trip is not None and played.trip.guard == guard and 8.0 < played.trip.t < 11.5
    if size < 0 and channel == "voltage" or size > 0:
        assert "colder than cold" in played.trip.label


@pytest.mark.parametrize(("channel", "why"), [("voltage", "no voltage is seen"), ("current", "open")])
def test_a_lead_that_comes_off_is_told_at_once(tmp_path: Path, channel: str, why: str) -> None:
    prepared = planned(tmp_path)
    text = prepared.rig_file.read_text()
    fault = f"standin:\n  faults: [{{kind: no_output, at: 8 s, channel: {channel}}}]\n"
    prepared.rig_file.write_text(text.replace("standin:\n", fault, 1))
    played = play_through(prepare(prepared.plan_file))
    assert played.trip is not None and why in played.trip.label and 8.0 <= played.trip.t < 8.4


def test_a_cone_that_would_go_too_far_is_stopped(tmp_path: Path) -> None:
    driver = {"force_factor": "9 N/A", "moving_mass": "4 g", "resonance": "420 Hz", "quality": 2.5}
    by = {}
    for wide in ("5 mm", "0.3 mm"):
        play = {**STAGE, "from": "60 Hz", "stages": [{"duration": "6 s"}], "driver": {**driver, "excursion": wide}}
        played = play_through(planned(tmp_path / wide, play=play))
        by[wide] = played
    assert by["5 mm"].trip is None
    trip = by["0.3 mm"].trip
    assert trip is not None and trip.guard == "excursion" and trip.unit == "m"
    # Far below its resonance a cone goes as far as a spring lets it: Bl·i / (m·ω²).
    i = np.abs(by["5 mm"].channels["current"].samples()).max()
    room = by["5 mm"].most["excursion"]
    assert 0.3e-3 < room.value < 3 * 9 * i / (4e-3 * (2 * np.pi * 420) ** 2)


@pytest.mark.parametrize(
    ("scene", "given", "why"),
    [("", {"play": {"level": "25 V", "crest": 3.0}}, "beyond the source"),
     ("", {"play": {"level": "900 W", "on": "dc"}}, "beyond the source"),
     ("resistance: 3.1 ohm", {"cold_resistance": "6.4 ohm"}, "colder than cold"),
     ("resistance: 9.5 ohm", {"cold_resistance": "6.4 ohm"}, "another part"),
     ("resistance: 90 ohm", {"cold_resistance": "6.4 ohm"}, "open")],
)  # fmt: skip
def test_what_should_not_be_begun_is_not(tmp_path: Path, scene: str, given: dict[str, Any], why: str) -> None:
    prepared = planned(tmp_path, scene, **given)
    played = play_through(prepared)
    assert played.trip is not None and why in played.trip.label
    assert not prepared.method.readable(played.marks)
    assert np.abs(played.channels["voltage"].samples()).max() < 1.0


def test_watts_are_meant_on_what_is_said(tmp_path: Path) -> None:
    for on, ohms in (("rated", 8.0), ("minimum", 7.0), ("dc", 6.4)):
        play = {"level": "6 W", "on": on, "minimum": "7 ohm", "stages": [{"duration": "3 s"}]}
        played = play_through(planned(tmp_path / on, play=play))
        begun = next(m for m in played.marks if m["kind"] == "programme")
        assert begun["volts"] == pytest.approx(np.sqrt(6 * ohms), rel=0.01)


class Bench:
    """A coil of 6.4 ohm on an amplifier of 20, two blocks late: the generator's other half."""

    def __init__(self, prepared: Prepared, start: dict[str, Any] | None = None) -> None:
        self.prepared, self.run = prepared, prepared.method.perform(prepared.settings, prepared.facts, start)
        self.want = next(self.run)
        self.queue = [np.zeros(1024), np.zeros(1024)]
        self.index, self.marks, self.volts = 0, [], []
        self.position: Any = None

    def go(self, seconds: float, *orders: dict[str, Any]) -> bool:
        """So many seconds on; False when it has ended."""
        from lucid_anvil.contracts.method import Got

        for _ in range(int(np.ceil(seconds * 48000 / 1024))):
            self.queue.append(self.want.drive)
            self.marks += self.want.marks
            self.position = self.want.position or self.position
            v = 20 * self.queue.pop(0)
            self.volts.append(float(np.mean(v * v)))
            held = {"voltage": v, "current": v / 6.4 * 0.5, "microphone": np.zeros(1024)}
            try:
                self.want = self.run.send(Got(self.index, self.index * 1024 / 48000, held, orders=orders))
            except StopIteration:
                return False
            orders = ()
            self.index += 1
        return True


def test_it_is_muted_and_turned_down_by_hand_and_goes_on_where_it_was(tmp_path: Path) -> None:
    prepared = planned(tmp_path)
    bench = Bench(prepared)
    assert bench.go(12) and np.sqrt(np.mean(bench.volts[-50:])) == pytest.approx(9, rel=0.05)
    assert bench.go(3, {"order": "hold"}) and np.sqrt(np.mean(bench.volts[-50:])) == pytest.approx(0.09, rel=0.05)
    at = bench.want.live["at"]  # type: ignore[index]
    assert bench.go(2) and bench.want.live["at"] == at and bench.want.live["shown"]["Level"] == "muted"  # type: ignore[index]
    assert bench.go(3, {"order": "go"}, {"order": "level", "by": -3.0})
    assert np.sqrt(np.mean(bench.volts[-50:])) == pytest.approx(9 / 10**0.15, rel=0.05)
    assert bench.go(1, {"order": "level", "by": 9.0}) and bench.want.live["shown"]["Level"] == "+0.0 dB"  # type: ignore[index]
    assert [m["kind"] for m in bench.marks if m["kind"] in ("muted", "unmuted", "level")] == ["muted", "unmuted", "level", "level"]
    again = Bench(prepared, bench.position)
    assert again.go(8)
    begun = next(m for m in again.marks if m["kind"] == "programme")
    assert begun["at"] == bench.position["at"] > 5 and not again.go(60)
    assert again.position["at"] > 38 and again.marks[-1]["kind"] == "programme ended"
    # Another piece of noise, not the same one again.
    assert again.volts[300:320] != bench.volts[300:320]


def test_takes_that_go_on_are_read_as_one(tmp_path: Path) -> None:
    prepared = planned(tmp_path, play={"level": "12 V", "stages": [{"duration": "30 s"}]})
    first = play_through(prepared, longest=22.0)
    assert first.position is not None and 14 < first.position["at"] < 18
    second = play_through(prepared, start=first.position)
    parts = [({k: c for k, c in p.channels.items() if k != "drive"}, prepared.settings, p.marks) for p in (first, second)]
    found = prepared.method.together(parts)
    curve = next(c for c in found.curves if c.key == "coil_temperature")
    assert list(curve.x) == sorted(curve.x) and 24 < curve.x[-1] < 31 and any("went on" in n for n in found.notes)
    by = {r.key: r.value for r in found.readings}
    alone = {r.key: r.value for r in prepared.method.evaluate(*parts[-1]).readings}
    assert by["duration"] > 28 and alone["duration"] < 17
    # The coil that was known cold stays the reference for the part that began warm, or cold again.
    assert curve.y[0] is not None and 20 < curve.y[0] < 60


def test_a_clipped_noise_has_its_crest_factor() -> None:
    for crest in (1.3, 2.0, 3.2, 4.0):
        x = Programme("pink", 40, 16e3, [], crest, 48000, 3).next(400_000)
        assert np.abs(x).max() / np.std(x) == pytest.approx(crest, rel=0.01) and np.std(x) == pytest.approx(1, abs=0.01)
    assert clip_for(2.0) > 1.5
    for wrong in (1.0, 5.0):
        with pytest.raises(BadInput, match="crest"):
            clip_for(wrong)


@pytest.mark.parametrize(("shape", "rise"), [("pink", 0.0), ("white", 3.01), ("curve", 6.0)])
def test_a_noise_has_its_shape(shape: str, rise: float) -> None:
    from scipy.signal import welch

    x = Programme(shape, 100, 10e3, [[100, 0], [1000, 19.93], [10000, 39.86]], 4.4, 48000, 5).next(1_500_000)
    f, s = welch(x, 48000, nperseg=16384)
    octaves = [10 * np.log10(s[(f >= a) & (f < 2 * a)].sum()) for a in (200, 400, 800, 1600, 3200)]
    assert np.diff(octaves) == pytest.approx([rise] * 4, abs=0.4)
    below = 10 * np.log10(s[(f >= 25) & (f < 50)].sum())
    assert octaves[0] - below > 24
    assert magnitudes(shape, 100, 10e3, [[100, 0], [1000, 19.93]], np.array([3.0]))[0] == 0


@pytest.mark.parametrize(
    ("play", "why"),
    [({"on": "minimum"}, "smallest impedance"), ({"level": "0 V"}, "above zero"), ({"from": "2 kHz", "to": "1 kHz"}, "from"),
     ({"shape": "curve"}, "two rows"), ({"shape": "curve", "curve": [[200, 0], [100, 0]]}, "rising"),
     ({"stages": [{"on": "3 s"}]}, "go together"), ({"stages": []}, "stages"), ({"crest": 9}, "crest"),
     ({"hottest": "warm"}, "hottest")],
)  # fmt: skip
def test_what_can_not_be_played_is_said_in_the_plan(tmp_path: Path, play: dict[str, Any], why: str) -> None:
    with pytest.raises(BadInput, match=why):
        planned(tmp_path, play=play)


def test_a_coils_guards_are_for_a_coils_plan(tmp_path: Path) -> None:
    prepared = planned(tmp_path)
    put_in(prepared.plan_file, ["guards"], [{"watch": "coil_heat", "limit": "60 °C"}])
    assert play_through(prepare(prepared.plan_file), longest=3.0).trip is None
    put_in(prepared.plan_file, ["guards"], [{"watch": "coil_heta"}])
    with pytest.raises(BadInput, match="did you mean 'coil_heat'"):
        prepare(prepared.plan_file)


def test_it_is_muted_from_the_window(window: Any, demo_lab: Any) -> None:
    from PyQt6.QtCore import Qt
    from PyQt6.QtTest import QTest

    from test_desktop import until

    bench = window.bench
    place = demo_lab.jobs / "0412" / "fog-driver" / "own" / "own.plan.yaml"
    plan = begin_plan("power-endurance", demo_lab.folder / "rigs" / "horn.rig.yaml", "Horn driver", place, lab=demo_lab)
    for key, value in {"every": "2 s", "play": {"level": "9 V", "stages": [{"duration": "30 s"}]}}.items():
        put(plan, (key,), value)
    window.go("Bench")
    window.resize(1280, 800)
    bench.open_plan(plan)
    until(lambda: bench.state == "walk-round", 60)
    assert bench.side is bench.plain and bench.plain.orders.hold.text() == "Mute  H"
    for check in bench.prepared.plan.walk_round:
        bench.walk.sign.emit(check.key, "K.B.")
    until(lambda: bench.walk.go.isEnabled(), 60)
    bench.walk.go.click()
    until(lambda: "Coil" in (bench.link.latest.live or {}).get("shown", {}), 120)
    chart = bench.plain.stage.views["coil_temperature"][1]
    assert "growing now" in chart.series and bench.plain.orders.up.isVisible()
    QTest.keyClick(window, Qt.Key.Key_H)
    until(lambda: bench.link.latest.live.get("held") is True, 30)
    until(lambda: bench.plain.orders.hold.text() == "Go on  H", 10)
    QTest.keyClick(window, Qt.Key.Key_H)
    QTest.keyClick(window, Qt.Key.Key_BracketLeft)
    until(lambda: bench.link.latest.live.get("shown", {}).get("Level") == "-3.0 dB", 30)
    until(lambda: bench.finding is not None and bench.state == "done", 180)
    assert bench.plain.result.isVisible() and not bench.plain.orders.hold.isVisible()
