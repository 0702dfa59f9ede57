"""Every sensed check of the walk-round at each of its edges, with the whole sentence that a person reads."""

from __future__ import annotations

import datetime
from dataclasses import replace
from types import SimpleNamespace
from typing import Any

import pytest

from lucid_anvil.engine import walkround
from lucid_anvil.engine.guards import default_guards
from lucid_anvil.engine.preparing import Prepared
from lucid_anvil.engine.study import demo_rig, study_run
from lucid_anvil.engine.walkround import Sensed, WalkRound
from lucid_anvil.lab.plans import Check, GuardPart, SensorRecord
from lucid_anvil.rig.model import check_guards

TODAY = datetime.date(2026, 6, 1)
NAN = float("nan")
SHOWN = {"supply": 229.6, "temperature": {"A": 41.2, "B": 69.0}, "fan": True, "meter": 0.1234}


@pytest.fixture(scope="module")
def usual() -> Prepared:
    return study_run(demo_rig(), {"steps_per_octave": 1})


def sensed(**changes: Any) -> Sensed:
    made = Sensed(bias={"reference": 11.0, "unit": 10.5, "transverse": 12.0}, rms={"reference": 2e-5, "unit": 2e-5},
                  temperature=21.0, today=TODAY)  # fmt: skip
    for key, value in changes.items():
        setattr(made, key, value)
    return made


def check(prepared: Prepared, sense: str | None, seen: Sensed, **parts: Any) -> tuple[bool, str]:
    """One check alone, whole; `parts` of the plan or the settings changed."""
    walk = WalkRound(prepared)
    one = Check.model_validate({"key": "one", "text": "One thing", "sense": sense})
    plan = prepared.plan.model_copy(
        update={"walk_round": [one], **({"sensors": parts["sensors"]} if "sensors" in parts else {})}
    )
    walk.prepared = replace(prepared, plan=plan, settings=parts.get("settings", prepared.settings))
    (made,) = walk.states(seen)
    assert (made.key, made.text, made.kind) == ("one", "One thing", "sensed" if sense else "signed")
    assert made.by is None
    return made.done, made.why


def test_before_it_is_signed_and_without_a_sense(usual: Prepared) -> None:
    assert check(usual, None, sensed()) == (False, "sign when you have done it")


def test_the_supplies_of_those_that_have_one(usual: Prepared) -> None:
    assert check(usual, "supply", Sensed(today=TODAY)) == (False, "waiting for the front end")
    assert check(usual, "supply", sensed()) == (True, "reference 11.0 V, unit 10.5 V, transverse 12.0 V")
    assert check(usual, "supply", sensed(bias={"reference": 11.0})) == (False, "unit: no bias voltage is read")
    # On a bench where no input has a supply there is no bias to wait for.
    none = [c.model_copy(update={"supply": False}) for c in usual.rig.channels]
    bare = replace(usual, rig=usual.rig.model_copy(update={"channels": none}))
    assert check(bare, "supply", sensed(bias={})) == (True, "no channel needs a supply")
    assert check(bare, "supply", Sensed(today=TODAY)) == (False, "waiting for the front end")
    assert check(usual, "supply", sensed(bias={})) == (False, "reference: no bias voltage is read")
    assert check(usual, "supply", sensed(bias={"reference": 19.0, "unit": 11.0, "transverse": 11.0})) == (
        False, "reference: open, 19.0 V; plug the cable in",
    )  # fmt: skip
    assert check(usual, "supply", sensed(bias={"reference": 4.0, "unit": 11.0, "transverse": 11.0})) == (
        False, "reference: short, 4.0 V; change the cable",
    )  # fmt: skip
    bare = usual.rig.model_copy(deep=True)
    for part in bare.channels:
        part.supply = False
    assert check(replace(usual, rig=bare), "supply", sensed()) == (True, "no channel needs a supply")


def test_a_reference_that_no_plan_can_vouch_for(usual: Prepared) -> None:
    why = "the plan names no calibration of the reference; make the plan from the ledger"
    assert check(usual, "reference_date", sensed(), sensors={}) == (False, why)
    none = usual.settings.model_copy(update={"reference_response": None})
    why = "no response of the reference is known; make the plan from the ledger"
    assert check(usual, "reference_range", sensed(), settings=none) == (False, why)
    one = usual.settings.model_copy(update={"reference_response": None, "reference_sensitivity": "10 mV/(m/s²)"})
    assert check(usual, "reference_range", sensed(), settings=one) == (True, "one sensitivity for every frequency")
    short = usual.settings.model_copy(update={"reference_response": usual.settings.reference_response[:20]})
    first = next(f for f in short.frequencies() if not short.response().covers(f))
    why = f"{first:g} Hz is not covered; the certificate ends there, narrow the course"
    assert check(usual, "reference_range", sensed(), settings=short) == (False, why)


@pytest.mark.parametrize(
    ("volts", "done", "why"),
    [(1.0, True, "reference 10 dB headroom, unit 11 dB headroom"),
     (100.0, False, "unit: only 0.3 % of 100 V used; take a narrower range"),
     (0.3, False, "unit: 0.3 V expected in a range of 0.3 V; take a wider range"),
     (30 * 0.009868 / 0.8, True, "reference 10 dB headroom, unit 2 dB headroom"),
     (30 * 0.009868 / 0.005, True, "reference 10 dB headroom, unit 46 dB headroom")],
)  # fmt: skip
def test_input_ranges_of_those_that_are_compared(usual: Prepared, volts: float, done: bool, why: str) -> None:
    rig = usual.rig.model_copy(deep=True)
    next(c for c in rig.channels if c.role == "unit").range = volts
    rig.channels.insert(0, rig.channels.pop())  # a current first: it is passed over, not the end
    facts = replace(usual.facts, sensitivity={**usual.facts.sensitivity, "unit": 0.009868})
    assert check(replace(usual, rig=rig, facts=facts), "input_range", sensed()) == (done, why)


def test_sensors_in_date(usual: Prepared) -> None:
    def sensors(**due: str | None) -> dict[str, SensorRecord]:
        return {r: SensorRecord(serial=f"GA-{i}", due=d) for i, (r, d) in enumerate(due.items())}

    held = sensors(reference="2026-06-01", unit="2027-01-31")
    assert check(usual, "sensor_dates", sensed(), sensors=held) == (True, "GA-0 to 2026-06, GA-1 to 2027-01")
    held = sensors(reference=None, unit="2026-05-31")
    why = "unit: GA-1 was due on 2026-05-31; take another sensor"
    assert check(usual, "sensor_dates", sensed(), sensors=held) == (False, why)
    held = sensors(reference=None, unit=None, elsewhere="2020-01-01")
    assert check(usual, "sensor_dates", sensed(), sensors=held) == (True, "no due dates")
    why = "unit: the plan names no sensor for it; make the plan from the ledger"
    assert check(usual, "sensor_dates", sensed(), sensors=sensors(reference=None)) == (False, why)


@pytest.mark.parametrize(
    ("bits", "why"),
    [(0, "all three well"), (1, "cooling is not well; see to it at the amplifier"),
     (2, "field supply is not well; see to it at the amplifier"), (4, "emergency stop is not well; see to it at the amplifier"),
     (6, "field supply is not well; see to it at the amplifier")],
)  # fmt: skip
def test_interlocks(usual: Prepared, bits: int, why: str) -> None:
    assert check(usual, "interlocks", sensed(interlock=bits)) == (bits == 0, why)
    assert check(usual, "interlocks", sensed(interlock=bits, bias={})) == (bits == 0, why)
    assert check(usual, "interlocks", sensed(interlock=bits, rms={})) == (bits == 0, why)
    assert check(usual, "interlocks", Sensed(interlock=bits)) == (False, "waiting for the front end")


def test_a_front_end_that_reads_no_interlocks_has_them_signed(usual: Prepared) -> None:
    """Nothing tells them there: "all three well" would be a guess."""
    end = usual.rig.front_end.model_copy(update={"driver": "soundcard"})
    real = replace(usual, rig=usual.rig.model_copy(update={"front_end": end}))
    plan = usual.plan.model_copy(update={"walk_round": [Check(key="i", text="Interlocks", sense="interlocks")]})
    for prepared, kind in ((usual, "sensed"), (real, "signed")):
        walk = WalkRound(replace(prepared, plan=plan))
        state = walk.states(sensed())[0]
        assert state.kind == kind and state.done == (kind == "sensed")
        assert walk.sign("i", "K.B.") == (kind == "signed")
        assert walk.states(sensed())[0].done
    with pytest.raises(ValueError, match="reads no interlocks"):
        check_guards([GuardPart(watch="interlock")], real.rig)
    assert all(g.watch != "interlock" for g in default_guards(real.rig))
    assert any(g.watch == "interlock" for g in default_guards(usual.rig.model_copy(update={"guards": []})))


def test_who_is_plugged_in(usual: Prepared, monkeypatch: pytest.MonkeyPatch) -> None:
    asked = []

    def judged(role: str, memory: str, wanted: SensorRecord | None, others: Any) -> str:
        asked.append((role, memory, wanted.serial if wanted else None, sorted(o.serial for o in others)))
        return "unit: GA-02 is plugged in here" if memory == "bad" else ""

    monkeypatch.setattr(walkround, "judged", judged)
    assert check(usual, "identity", sensed()) == (False, "waiting for the front end")
    assert check(usual, "identity", sensed(sheets={})) == (True, "no sensor carries one")
    good = {"unit": "aa", "other": "bb"}
    assert check(usual, "identity", sensed(sheets=good)) == (True, "2 of 3 tell who they are, and agree")
    all_of_them = ["GA-02", "GA-11", "GA-21"]
    assert asked == [("unit", "aa", "GA-11", all_of_them), ("other", "bb", None, all_of_them)]
    assert check(usual, "identity", sensed(sheets={"unit": "bad"})) == (False, "unit: GA-02 is plugged in here")


SETTINGS = SimpleNamespace(supply=SimpleNamespace(edges=(229.6, 230.6)), load_limit=89.0)


@pytest.mark.parametrize(
    ("sense", "shown", "done", "why"),
    [
        ("mains", {}, True, "229.6 V"),
        ("mains", {"supply": 230.6}, True, "230.6 V"),
        ("mains", {"supply": 229.5}, False, "229.5 V, wanted 229.6 V to 230.6 V; set the supply"),
        ("mains", {"supply": 230.7}, False, "230.7 V, wanted 229.6 V to 230.6 V; set the supply"),
        ("mains", {"supply": NAN}, False, "the supply says nothing"),
        ("loads", {}, True, "2 outputs, 69 °C"),
        ("loads", {"temperature": {"A": 69.6}}, False, "70 °C; let it cool below 69 °C"),
        ("loads", {"temperature": {"A": 20.0, "B": NAN}}, False, "the load bank tells no temperature"),
        ("fan", {}, True, "on"),
        ("fan", {"fan": False}, False, "off; switch it on at the load bank"),
        ("meter", {}, True, "reads 123 mV"),
        ("meter", {"meter": None}, False, "the voltmeter says nothing"),
    ],
)
def test_what_the_instruments_show(usual: Prepared, sense: str, shown: dict[str, Any], done: bool, why: str) -> None:
    seen = sensed(instruments={**SHOWN, **shown})
    assert check(usual, sense, seen, settings=SETTINGS) == (done, why)
    assert check(usual, sense, sensed(), settings=SETTINGS) == (False, "waiting for the instruments")
    seen.trouble = "the supply at 127.0.0.1 does not answer"
    assert check(usual, sense, seen, settings=SETTINGS) == (False, seen.trouble)


def test_what_the_settings_do_not_name(usual: Prepared) -> None:
    bare = SimpleNamespace()
    assert check(usual, "mains", sensed(instruments=SHOWN), settings=bare) == (False, "the plan names no supply")
    at = {**SHOWN, "temperature": {"A": 90.0}}
    assert check(usual, "loads", sensed(instruments=at), settings=bare) == (True, "1 outputs, 90 °C")
    at = {**SHOWN, "temperature": {"A": 91.0}}
    assert check(usual, "loads", sensed(instruments=at), settings=bare) == (False, "91 °C; let it cool below 90 °C")


def test_noise_and_temperature_say_which_and_how_far(usual: Prepared) -> None:
    assert check(usual, "temperature", sensed(temperature=NAN)) == (False, "no temperature is read")
    assert check(usual, "noise", sensed(rms={"reference": 2e-5})) == (False, "waiting for the front end")
    loud = sensed(rms={"reference": 30 / 2**0.5 * usual.facts.sensitivity["reference"] / 10, "unit": 2e-5})
    why = "reference: noise only 20 dB below the level; look for hum and loose cables"
    assert check(usual, "noise", loud) == (False, why)
    # Where no unit is compared with a reference, 20 dB are enough.
    walk = WalkRound(usual)
    walk.watched = ["reference"]
    for rms, done in ((loud.rms["reference"] * 0.999, True), (loud.rms["reference"] * 1.001, False)):
        assert walk._noise(sensed(rms={"reference": rms}))[0] is done


def test_a_method_without_reference_is_watched_at_its_control(usual: Prepared) -> None:
    facts = replace(usual.facts, sensitivity={"control": 0.01})
    bare = replace(usual, facts=facts)
    object.__setattr__(bare, "control", lambda: {"roles": ["control"]})
    assert WalkRound(bare).watched == ["control"]
    object.__setattr__(bare, "control", dict)
    assert WalkRound(bare).watched == []
    only = replace(usual, facts=replace(usual.facts, sensitivity={"reference": 0.01, "control": 0.01}))
    assert WalkRound(only).watched == ["reference"]


def test_interlocks_are_learned_with_every_block() -> None:
    import numpy as np

    seen = Sensed()
    seen.learn({"unit": np.array([-1.0, 1.0])}, {}, 20.0, 4)
    assert (seen.interlock, seen.rms["unit"]) == (4, 1.0)
    seen.learn({"unit": np.array([-2.0, 2.0])}, {}, 20.0)
    assert (seen.interlock, seen.rms["unit"]) == (0, pytest.approx(1.1))
