"""The listening methods performed on stand-ins: hits judged as they come, a run-down caught, a calibrator awaited."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from lucid_anvil.contracts.method import Got
from lucid_anvil.contracts.settings import check
from lucid_anvil.core.errors import BadInput
from lucid_anvil.desktop.parts.docket import take_facts
from lucid_anvil.domains.listening.impact_run import HitRun
from lucid_anvil.domains.listening.listening import lamp, range_for
from lucid_anvil.domains.listening.microphone_run import ToneRun
from lucid_anvil.domains.listening.planning import check_settings
from lucid_anvil.domains.listening.speed_run import SpeedRun
from lucid_anvil.engine.evaluating import evaluate_take, reread
from lucid_anvil.engine.inprocess import play_through
from lucid_anvil.engine.preparing import Prepared, prepare
from lucid_anvil.engine.tiles import listening_chain
from lucid_anvil.folio.accepting import accept_check
from lucid_anvil.folio.testreport import report_context
from lucid_anvil.lab.plans import load_plan
from lucid_anvil.lab.takes import Take
from lucid_anvil.lab.textfiles import dump_yaml, load_yaml
from lucid_anvil.rig.model import Rig
from lucid_anvil.rig.standins.choosing import bench_of

PLANS = {"impact": "mooring-plate/impact", "run-down": "bilge-pump/run-down", "check": "bilge-pump/check"}
RIGS = {"impact": "hammer", "run-down": "pump", "check": "microphone"}


def plan_of(lab: Any, name: str) -> Path:
    return lab.jobs / "0412" / PLANS[name] / f"{name}.plan.yaml"


def changed(lab: Any, name: str, settings: dict[str, Any] | None = None, **scene: Any) -> Prepared:
    """A demo plan with other settings, on its rig with another scene."""
    rig = lab.folder / "rigs" / f"{RIGS[name]}.rig.yaml"
    held = load_yaml(rig)
    held["standin"]["scene"].update(scene)
    rig.write_text(dump_yaml(held), encoding="utf-8")
    place = plan_of(lab, name)
    plan = load_yaml(place)
    plan["steps"][0]["settings"].update(settings or {})
    place.write_text(dump_yaml(plan), encoding="utf-8")
    return prepare(place)


def found(prepared: Prepared, played: Any) -> Any:
    return prepared.method.evaluate(played.channels, prepared.settings, played.marks)


# --- the hammer ------------------------------------------------------------------------------------------------------


def test_five_good_hits_among_clumsy_ones_give_the_plates_modes(demo_lab: Any) -> None:
    prepared = changed(demo_lab, "impact", clumsy="45 %")
    played = play_through(prepared)
    hits = {m["number"]: m for m in played.marks if m["kind"] == "hit"}
    aside = [h["fault"] for h in hits.values() if h["fault"]]
    assert sum(1 for h in hits.values() if h["fault"] is None) == 5
    assert {w.split(",")[0].split(" hit")[0] for w in aside} >= {"double", "no response"}
    made = found(prepared, played)
    by = {r.key: r for r in made.readings}
    assert by["hits_accepted"].value == 5 and by["hits_rejected"].value == len(aside)
    for n, mode in enumerate(prepared.rig.standin.scene.modes, 1):  # type: ignore[union-attr]
        assert by[f"mode{n}_frequency"].value == pytest.approx(mode.frequency, rel=1e-3)
        assert by[f"mode{n}_damping"].value == pytest.approx(mode.damping, rel=0.03)
    # The ranges were found from trial hits, and the hits use a fair share of them.
    ranged = next(m for m in played.marks if m["kind"] == "ranged")
    assert ranged["ranges"] == {"force": 1.0, "response": 1.0}
    assert all(m["t"] > ranged["t"] for m in hits.values())
    # The response function stands on the accelerance of the modes, off their antiresonances.
    f = np.array(made.curve("frf_magnitude").x)
    w = 2j * np.pi * f
    truth = sum(
        w**2 / (m.mass * (w**2 + 2 * m.damping / 100 * 2 * np.pi * m.frequency * w + (2 * np.pi * m.frequency) ** 2))
        for m in prepared.rig.standin.scene.modes  # type: ignore[union-attr]
    )
    near = (f > 150) & (f < 900) & (np.abs(truth) > 0.3)
    off = 20 * np.log10(np.array(made.curve("frf_magnitude").y, float)[near] / np.abs(truth)[near])
    assert np.max(np.abs(off)) < 0.3


def test_a_driving_point_is_checked(demo_lab: Any) -> None:
    """The demo's second mode moves against the hammer: it is no driving point."""
    prepared = changed(demo_lab, "impact", {"driving_point": True, "hits": 2, "trial_hits": 0}, clumsy="0 %")
    made = found(prepared, play_through(prepared))
    reading = made.reading("against")
    assert reading.value == 1 and not reading.valid and "415 Hz" in (reading.reason or "")
    assert any("not at one place" in n for n in made.notes)
    modes = load_yaml(demo_lab.folder / "rigs" / "hammer.rig.yaml")["standin"]["scene"]["modes"]
    prepared = changed(demo_lab, "impact", modes=[{**m, "mass": str(m["mass"]).lstrip("-")} for m in modes])
    good = found(prepared, play_through(prepared)).reading("against")
    assert good.value == 0 and good.valid


def test_the_hammer_moves_over_three_points_and_gives_the_modes_shapes(demo_lab: Any) -> None:
    """At each point the modes answer with other signs and sizes: so do the shapes that are read."""
    wanted = {"A": (1.0, 1.0), "B": (0.5, -0.8), "C": (-0.7, 0.4)}
    settings = {"points": list(wanted), "hits": 2, "trial_hits": 0, "trigger": "5 N"}
    modes = [
        {"frequency": "182 Hz", "damping": "1 %", "mass": "3 kg"},
        {"frequency": "520 Hz", "damping": "1 %", "mass": "2 kg"},
    ]
    prepared = changed(demo_lab, "impact", settings, clumsy="0 %", modes=modes)
    assert [i.label for i in prepared.course()] == ["2 good hits at A", "2 good hits at B", "2 good hits at C"]
    bench = bench_of(prepared.rig)
    performance, want, orders, marks, rows = (
        prepared.method.perform(prepared.settings, prepared.facts, None),
        None,
        (),
        [],
        [],
    )
    waited = 0
    for k in range(2000):
        held = bench.play(np.zeros(prepared.facts.block))
        rows.append(held.samples[:2])
        got = Got(k, 0.0, {"force": held.samples[0], "response": held.samples[1]}, frozenset(), None, orders)
        orders = ()
        try:
            want = next(performance) if want is None else performance.send(got)
        except StopIteration:
            break
        marks += want.marks
        if want.live is not None and want.live.get("moving"):
            waited += 1
            if waited % 12 == 0:  # the person takes a while to move
                orders = ({"order": "go"},)
                # The plate is hit elsewhere: other modal masses, from rest on.
                point = list(wanted)[sum(m["kind"] == "point" for m in marks)]
                for mode, size in zip(prepared.rig.standin.scene.modes, wanted[point], strict=True):  # type: ignore[union-attr]
                    mode.mass = (3.0 if mode.frequency < 300 else 2.0) / size
                later = bench_of(prepared.rig)
                later.index = bench.index
                later.scene.next = bench.scene.next + 1.0  # type: ignore[attr-defined]
                bench = later
    else:
        raise AssertionError("it did not end")
    from lucid_anvil.contracts.recording import channel_of

    whole = np.concatenate(rows, axis=1)
    channels = {r: channel_of(r, "V", prepared.facts.rate, whole[i]) for i, r in enumerate(("force", "response"))}
    assert [m["point"] for m in marks if m["kind"] == "point"] == ["A", "B", "C"]
    made = prepared.method.evaluate(channels, prepared.settings, marks)
    assert made.reading("hits_accepted").value == 2
    assert made.reading("mode1_frequency").value == pytest.approx(182, rel=1e-3)
    for n in (1, 2):
        shape = made.curve(f"shape_mode{n}")
        assert shape.x == (1.0, 2.0, 3.0)
        assert list(shape.y) == pytest.approx([w[n - 1] for w in wanted.values()], abs=0.03)
    assert {"frf_magnitude@B", "frf_phase@C"} <= {c.key for c in made.curves}
    with pytest.raises(BadInput, match="once"):
        check(type(prepared.settings), {"points": ["A", "A"]}, "x")


def hit_run(lab: Any, **settings: Any) -> HitRun:
    prepared = changed(lab, "impact", {"trial_hits": 0, "trigger": "5 N", "block": 2048, **settings})
    return HitRun(prepared.settings, prepared.facts)


def block(run: HitRun, force: Any = None, response: Any = None, orders: tuple[Any, ...] = (), over: Any = ()) -> None:
    """One block with a force and a response of given shape (functions of time within the block)."""
    n, rate = run.facts.block, run.rate
    rng = np.random.default_rng(run.end)
    t = np.arange(n) / rate
    f = 0.02 * rng.standard_normal(n) + (force(t) if force else 0.0)
    r = 0.02 * rng.standard_normal(n) + (response(t) if response else 0.0)
    channels = {"force": f / run.scale[0], "response": r / run.scale[1]}
    run.heed(Got(0, 0.0, channels, frozenset(over), None, orders))


def pulse(peak: float, at: float = 0.01) -> Any:
    return lambda t: np.where(np.abs(t - at) < 3e-4, peak * np.cos((t - at) / 3e-4 * np.pi / 2) ** 2, 0.0)


def ring(peak: float, at: float = 0.01) -> Any:
    return lambda t: peak * np.exp(-np.maximum(t - at, 0) / 0.01) * np.sin(2 * np.pi * 400 * (t - at)) * (t > at)


def struck(run: HitRun, force: Any, response: Any) -> dict[str, Any]:
    """One hit with rest before and after it; how it was judged."""
    for _ in range(3):
        block(run)
    block(run, force, response)
    for _ in range(4):
        block(run)
    return run.hits[-1]


def test_each_kind_of_hit_is_told_apart(demo_lab: Any) -> None:
    run = hit_run(demo_lab)
    assert struck(run, pulse(60), ring(30))["fault"] is None
    two = struck(run, lambda t: pulse(60)(t) + pulse(20, 0.025)(t), ring(30))
    assert "double hit" in two["fault"]
    assert struck(run, pulse(60), None)["fault"] == "no response"
    loud = run.ranges[1] * run.scale[1]
    over = struck(run, pulse(60), lambda t: np.clip(ring(9 * loud)(t), -loud, loud))
    assert over["fault"] == "response input overloaded"
    assert struck(run, pulse(58), ring(30))["fault"] is None
    assert struck(run, pulse(61), ring(30))["fault"] is None
    weak = struck(run, pulse(5.7), ring(3))
    assert weak["fault"].startswith("weak hit")
    assert len(run.good) == 3 and run.told()["good"] == 3
    assert run.told()["frf"]["count"] == 3


def test_weak_first_hits_are_put_aside_when_the_others_come(demo_lab: Any) -> None:
    run = hit_run(demo_lab)
    assert struck(run, pulse(5.6), ring(3))["fault"] is None  # there is nothing to compare it with yet
    struck(run, pulse(70), ring(30))
    struck(run, pulse(70), ring(30))
    assert run.hits[0]["fault"].startswith("weak hit") and len(run.good) == 2


def test_a_person_overrules_and_moves_the_trigger(demo_lab: Any) -> None:
    run = hit_run(demo_lab)
    struck(run, lambda t: pulse(60)(t) + pulse(20, 0.025)(t), ring(30))
    assert not run.good
    block(run, orders=({"order": "overrule", "number": 1, "note": "cable slapped"},))
    assert len(run.good) == 1 and run.hits[0]["overruled"] == "cable slapped"
    assert run.marks[-1] == {"kind": "overrule", "t": run.hits[0]["t"], "number": 1, "note": "cable slapped"}
    block(run, orders=({"order": "trigger", "level": 100.0},))
    before = len(run.hits)
    for _ in range(2):
        block(run)
    block(run, pulse(60), ring(30))
    for _ in range(4):
        block(run)
    assert len(run.hits) == before  # it no longer reaches the trigger
    assert run.marks[-1]["kind"] == "trigger" and run.marks[-1]["level"] == 100.0


def test_a_hammer_that_counts_the_other_way(demo_lab: Any) -> None:
    run = hit_run(demo_lab)
    made = struck(run, lambda t: -pulse(60)(t), ring(30))
    assert made["fault"] is None and made["peak"] == pytest.approx(60, rel=0.03)


def test_lamps_say_which_way_to_go() -> None:
    ranges = (0.1, 0.3, 1.0, 3.0, 10.0)
    assert lamp(0.5, 1.0, False, ranges)["state"] == "well"
    assert lamp(0.9, 1.0, False, ranges)["text"] == "nearly overloaded: range up to 3 V"
    assert lamp(1.0, 1.0, True, ranges)["text"] == "overloaded: range up to 3 V"
    assert lamp(10.0, 10.0, True, ranges)["text"] == "overloaded: hit softer, or less gain"
    assert lamp(0.05, 10.0, False, ranges) == {
        "state": "cold", "share": 0.005, "text": "range wasted: down to 0.1 V"
    }  # fmt: skip
    assert lamp(0.003, 0.1, False, ranges)["state"] == "well"  # there is no narrower one
    assert range_for(0.4, ranges) == 1.0 and range_for(40.0, ranges) == 10.0


# --- the pump --------------------------------------------------------------------------------------------------------


def test_a_run_down_begins_and_ends_by_itself(demo_lab: Any) -> None:
    prepared = prepare(plan_of(demo_lab, "run-down"))
    played = play_through(prepared)
    run = [m for m in played.marks if m["kind"] == "rotation"][-1]
    # Idle until 4 s, then 3000 to 400 rpm in 21.7 s; the range is 600 to 2950.
    assert run["start"] == pytest.approx(4.4 - 0.48, abs=1.0)
    assert run["stop"] == pytest.approx(24.5 - 0.48, abs=1.2)
    made = found(prepared, played)
    scene = prepared.rig.standin.scene
    for order, k in ((1.0, 1), (5.0, 3)):
        curve = made.curve(f"order_{order:g}")
        part = scene.orders[k]  # type: ignore[union-attr]
        rpm = np.array(curve.x)
        u = order * rpm / 60 / scene.casing  # type: ignore[union-attr]
        casing = np.abs(1 + 0.15 / (1 - u**2 + 1j * u / scene.casing_quality))  # type: ignore[union-attr]
        truth = casing * part.pressure * (rpm / 3000) ** (part.slope / 6.0206)
        got = np.array([np.nan if v is None else v for v in curve.y], float)
        far = np.isfinite(got) & (rpm > 700)
        assert far.sum() > 20
        assert np.max(np.abs(20 * np.log10(got[far] / truth[far]))) < 0.5
    assert "Steady tones at 50 Hz" in " ".join(made.notes)
    assert made.maps[0]["z"] and max(made.maps[0]["x"]) >= 1900


def spin(lab: Any, seconds: float, settings: dict[str, Any] | None = None, **scene: Any) -> SpeedRun:
    """The pump listened to for a while."""
    prepared = changed(lab, "run-down", settings, **scene)
    bench, run = bench_of(prepared.rig), SpeedRun(prepared.settings, prepared.facts)
    roles = [c.role for c in prepared.rig.channels]
    for k in range(int(seconds * prepared.facts.rate / prepared.facts.block)):
        held = bench.play(np.zeros(prepared.facts.block))
        run.heed(Got(k, 0.0, {r: held.samples[i] for i, r in enumerate(roles)}))
    return run


def test_the_speed_now_and_its_spread(demo_lab: Any) -> None:
    run = spin(demo_lab, 3.0)
    assert run.rpm == pytest.approx(3000, rel=0.002)
    assert run.spread == pytest.approx(100 * 20e-6 * 50, rel=0.5)  # 20 µs of a 20 ms turn
    assert run.stage == "waiting" and run.why == ""


def test_a_trigger_that_gives_no_speed_is_said_in_plain_words(demo_lab: Any) -> None:
    run = spin(demo_lab, 1.5, {"trigger_level": "9 V"})
    assert run.rpm is None and "outside the pulses" in run.why
    run = spin(demo_lab, 1.5, {"trigger_level": "0 V"})
    assert run.rpm is None and "noise" in run.why
    run.heed(
        Got(0, 0.0, {"tach": np.zeros(1024), "signal": np.zeros(1024)}, orders=({"order": "trigger", "level": 2.0},))
    )
    assert run.level == 2.0 and run.marks[-1]["level"] == 2.0
    run.heed(
        Got(0, 0.0, {"tach": np.zeros(1024), "signal": np.zeros(1024)}, orders=({"order": "slope", "rising": False},))
    )
    assert not run.rising and run.marks[-1]["rising"] is False and run.marks[-1]["level"] == 2.0
    run = spin(demo_lab, 1.5, {"trigger_level": None}, pulse_height="0.0001 V", pulse_noise="0.001 V")
    assert run.rpm is None and run.why


def test_a_run_up_is_caught_too(demo_lab: Any) -> None:
    prepared = changed(demo_lab, "run-down", {"run": "up", "speed": {"from": "700 rpm", "to": "2800 rpm", "step": "100 rpm"}},
                       idle="1 s", down="3 s", rest="2 s", up="6 s")  # fmt: skip
    played = play_through(prepared)
    run = [m for m in played.marks if m["kind"] == "rotation"][-1]
    assert run["start"] > 5.0 and run["stop"] < 12.5
    made = found(prepared, played)
    assert made.curve("order_1").x[0] == 700 and made.curve("order_1").y[-1] is not None


# --- the microphone --------------------------------------------------------------------------------------------------


def test_a_badly_seated_calibrator_is_waited_for(demo_lab: Any) -> None:
    prepared = changed(demo_lab, "check", reseat="6 s")
    played = play_through(prepared)
    mark = [m for m in played.marks if m["kind"] == "calibrator"][-1]
    assert mark["stop"] > 6 + 3 + 4 - 0.5
    made = found(prepared, played)
    true = 48.9 * 10 ** ((94 - 93.99) / 20)
    assert made.reading("sensitivity").value == pytest.approx(true, rel=0.0015)  # 0.013 dB
    assert made.verdict == "inside"


def tone(lab: Any, seconds: float, settings: dict[str, Any] | None = None, **scene: Any) -> ToneRun:
    prepared = changed(lab, "check", settings, reseat=None, **scene)
    bench, run = bench_of(prepared.rig), ToneRun(prepared.settings, prepared.facts)
    for k in range(int(seconds * prepared.facts.rate / prepared.facts.block)):
        run.heed(Got(k, 0.0, {"microphone": bench.play(np.zeros(prepared.facts.block)).samples[0]}))
    return run


def test_what_the_calibrator_lacks_is_said(demo_lab: Any) -> None:
    run = tone(demo_lab, 3.0, frequency="250 Hz")
    assert run.stage == "no tone" and "a tone of 250 Hz, wanted 1000 Hz" in run.text
    run = tone(demo_lab, 6.0, frequency="1 kHz", seated="off")
    assert run.stage == "settling" and "seat the calibrator again" in run.text and not run.done
    run = tone(demo_lab, 9.0, seated="on")
    assert run.stage == "steady" and run.done
    run = tone(demo_lab, 2.0, level="-20 dB", noise="0.0001 Pa")
    assert run.stage == "no tone" and "switch it on" in run.text


def test_a_check_goes_into_the_ledger_and_marks_a_series(demo_lab: Any, tmp_path: Path) -> None:
    """Checks before and after a run-down that differ: the run-down between them is doubtful."""
    takes = []
    for number, (name, gain) in enumerate((("check", 1.0), ("run-down", 1.0), ("check", 1.09)), 1):
        prepared = changed(demo_lab, name)
        for sensor in prepared.rig.standin.sensors.values():
            sensor.sensitivity = f"{48.9 * gain} mV/Pa"
        takes.append(kept_take(prepared, number))
    first, run, last = takes
    history = len(demo_lab.ledger().entry("GM-03").history)
    finding = evaluate_take(first)
    assert "accepted" in accept_check(demo_lab, first, finding, "K.B.")
    entry = demo_lab.ledger().entry("GM-03")
    assert len(entry.history) == history + 1 and entry.history[-1].as_state == "check"
    assert entry.history[-1].sensitivity == pytest.approx(48.95, abs=0.05)
    # It is on the channel of the article's plans now; the take made before keeps what it was made with.
    renewed = load_plan(plan_of(demo_lab, "run-down")).sensors["signal"].sensitivity
    assert renewed == entry.history[-1].sensitivity != run.plan().sensors["signal"].sensitivity
    assert check_settings(demo_lab, "GM-03")["previous_sensitivity"].startswith("48.9")
    later = evaluate_take(last)
    assert later.reading("change").value == pytest.approx(20 * np.log10(1.09), abs=0.1)
    with pytest.raises(BadInput, match="outside its limits"):
        accept_check(demo_lab, last, later, "K.B.")
    wide = reread(last, {**last.plan().step.settings, "limits": {"change": {"low": "-2 dB", "high": "2 dB"}}})
    said = accept_check(demo_lab, last, wide, "K.B.")
    assert "1 takes between the two are marked as doubtful" in said
    doubt = [e for e in run.events() if e["kind"] == "doubtful"]
    assert len(doubt) == 1 and "+0.75 dB" in doubt[0]["why"].replace("0.74", "0.75")
    assert first.doubt() is None and run.doubt() == doubt[0]["why"]
    run.keep(evaluate_take(run))
    facts = take_facts(run)
    assert facts["doubtful"] and "checks before and after" in facts["reason"]
    notes = report_context(run, run.finding(), None)["notes"]
    assert notes[0].startswith("Doubtful: the microphone's checks")


def kept_take(prepared: Prepared, wall: float) -> Take:
    """A take on disk of what a plan gives on its stand-in."""
    import json

    from lucid_anvil.engine.preparing import plan_as_kept, rig_as_kept
    from lucid_anvil.formats import Recording, write
    from lucid_anvil.lab.takes import begin_take, next_take_folder

    played = play_through(prepared)
    made = begin_take(
        next_take_folder(prepared.plan_file.parent), dump_yaml(plan_as_kept(prepared)), dump_yaml(rig_as_kept(prepared))
    )
    write(made.folder / "raw.h5", Recording("x", tuple(played.channels.values())))
    lines = [{"kind": "begin", "t": 0.0, "wall": wall}, *played.marks, {"kind": "end", "status": "done", "t": 1.0}]
    text = "".join(json.dumps(dict(m)) + "\n" for m in lines)
    (made.folder / "events.jsonl").write_text(text, encoding="utf-8")
    return made


# --- rig and chain ---------------------------------------------------------------------------------------------------


def test_a_listening_rigs_chain_shows_each_sensor_in_its_unit(demo_lab: Any) -> None:
    prepared = prepare(plan_of(demo_lab, "run-down"))
    t = np.arange(1024) / 25600
    samples = {"tach": 4.0 * (np.mod(t, 0.01) < 0.001), "signal": 0.05 * np.sin(2 * np.pi * 1000 * t)}
    tiles = {x.key: x for x in listening_chain(prepared, samples, {"rpm": 1234.4})}
    assert tiles["tach"].detail == "1234 rpm" and tiles["tach"].value == "4.00 V"
    assert float(tiles["signal"].value.split()[0]) == pytest.approx(94 - 2.85, abs=0.1)
    assert tiles["signal"].note == "re 20 µPa · 1 V"
    tiles = {x.key: x for x in listening_chain(prepared, {**samples, "signal": np.ones(1024)}, {})}
    assert tiles["inputs"].value == "overload" and tiles["inputs"].alarm and tiles["signal"].alarm
    assert tiles["tach"].detail == "no speed"


def test_rigs_with_contradictions_are_refused(demo_lab: Any) -> None:
    held = load_yaml(demo_lab.folder / "rigs" / "pump.rig.yaml")
    held["standin"]["scene"]["low"] = "4000 rpm"
    with pytest.raises(BadInput, match="low speed must lie"):
        check(Rig, held, "pump")
    held["standin"]["scene"] = {"kind": "choir"}
    with pytest.raises(BadInput, match="scene"):
        check(Rig, held, "pump")


def test_ranges_clip_and_faults_act(demo_lab: Any) -> None:
    prepared = changed(demo_lab, "check", seated="on")
    bench = bench_of(prepared.rig)
    quiet = bench.play(np.zeros(1024))
    assert not quiet.overload[0] and quiet.bias[0] == pytest.approx(12.1)
    bench.command("ranges", {"microphone": 0.03})
    held = bench.play(np.zeros(1024))
    assert held.overload[0] and np.abs(held.samples[0]).max() == pytest.approx(0.03)
    bench.command("fault", {"at": 0, "kind": "open", "channel": "microphone"})
    held = bench.play(np.zeros(1024))
    assert held.bias[0] > 19 and np.abs(held.samples[0]).max() < 1e-3


def test_an_order_is_one_line_of_the_map_over_orders(demo_lab: Any) -> None:
    prepared = changed(demo_lab, "run-down", idle="1 s", down="6 s", spurious="0 %", lost="0 %")
    made = found(prepared, play_through(prepared))
    spectra, orders, _ = made.maps
    assert (spectra["key"], orders["key"]) == ("spectra", "orders") and orders["x_unit"] == "order"
    assert len(orders["times"]) == len(orders["y"]) == len(orders["z"])
    x, z = np.array(orders["x"]), np.array(orders["z"])
    rpm = np.array(orders["y"])
    scene = prepared.rig.standin.scene
    five = z[:, np.argmin(np.abs(x - 5.0))]
    u = 5 * rpm / 60 / scene.casing  # type: ignore[union-attr]
    truth = 0.24 * (rpm / 3000) ** (12 / 6.0206) * np.abs(1 + 0.15 / (1 - u**2 + 1j * u / 14))
    fast = rpm > 1200
    assert np.max(np.abs(20 * np.log10(five[fast] / truth[fast]))) < 0.5  # though it falls by 400 rpm a second
    between = z[:, np.argmin(np.abs(x - 7.5))]
    assert np.all(between[fast] < 0.1 * five[fast])


def test_overall_with_a_time_weighting_and_bands(demo_lab: Any) -> None:
    settings = {"weighting": "A", "time_weighting": "S", "bands": "octaves"}
    prepared = changed(demo_lab, "run-down", settings, idle="1 s", down="8 s")
    played = play_through(prepared)
    slow = found(prepared, played)
    octaves = slow.curve("bands")
    assert [round(f) for f in octaves.x][:4] == [32, 63, 126, 251] and octaves.y_unit == "dB"
    over = next(m for m in slow.maps if m["key"] == "bands")
    z, rpm = np.array(over["z"]), np.array(over["y"])
    assert z.shape == (rpm.size, len(octaves.x)) and over["x"] == list(octaves.x)
    # All bands together are the overall level, and fall with the speed.
    summed = 10 * np.log10(np.sum(10 ** (z / 10), axis=1))
    fast_ones = [summed[np.argmin(np.abs(rpm - v))] for v in (2600, 1200)]
    assert fast_ones[0] - fast_ones[1] > 5
    fast = prepared.method.evaluate(
        played.channels, prepared.settings.model_copy(update={"time_weighting": "F"}), played.marks
    )

    def level(finding: Any, rpm: float) -> float:
        c = finding.curve("overall")
        return float(c.y[c.x.index(rpm)])

    # On the way down the slow level lags behind the falling one, by about its time constant's worth.
    assert 1.0 < level(slow, 1200) - level(fast, 1200) < 8.0
    assert level(fast, 2600) == pytest.approx(level(slow, 2600), abs=1.5)
    assert fast_ones[0] == pytest.approx(level(fast, 2600), abs=1.5)
    for bad in ({"time_weighting": "I"}, {"bands": "sixths"}, {"run": "sideways"}):
        with pytest.raises(BadInput, match="is not known"):
            check(
                type(prepared.settings), {**prepared.settings.model_dump(exclude_none=True, by_alias=True), **bad}, "x"
            )


def test_a_plot_says_which_curves_it_shows_and_how_far() -> None:
    from lucid_anvil.contracts import registry
    from lucid_anvil.contracts.finding import Curve, Finding, Reading
    from lucid_anvil.folio.plots import view_svg

    orders, *_ = registry.get("speed-orders").views
    assert orders.shows("order_2.5") and not orders.shows("overall")
    magnitude = registry.get("impact-response").views[0]
    x = tuple(float(f) for f in range(10, 10_000, 10))
    curve = Curve("frf_magnitude", "Accelerance", x, tuple(1.0 + f for f in x), "Hz", "(m/s²)/N")
    whole = view_svg(Finding("impact-response", (), (curve,)), magnitude)
    short = view_svg(Finding("impact-response", (Reading("usable_to", "", 1000.0, "Hz"),), (curve,)), magnitude)
    assert whole is not None and short is not None
    # Hidden text: the ticks of the long axis are not on the short one.
    assert "8000" in whole and "8000" not in short and "1000" in short
    assert view_svg(Finding("impact-response", (), ()), magnitude) is None
