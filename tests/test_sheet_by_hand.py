"""A sheet on a bench where a person changes loads and leads, and on one whose inputs hear late, as a sound card's do."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from tests.test_amplifier_sheet import prepared, rig_of, step

from lucid_anvil.contracts.finding import Finding
from lucid_anvil.contracts.method import LEAD, Got
from lucid_anvil.contracts.recording import channel_of
from lucid_anvil.engine.inprocess import play_through
from lucid_anvil.engine.preparing import Prepared, facts_of


def by_hand(ready: Prepared) -> Prepared:
    return replace(ready, facts=replace(ready.facts, switched=False, routed=False))


def asked(marks: list[Any]) -> list[str]:
    return [str(m["text"]) for m in marks if m["kind"] == "asked"]


def test_where_no_instrument_switches_a_person_is_asked_for_each_load() -> None:
    steps = [step("gain", "gain", loads=[8, 4], drive={"power": "1 W"}, read=0.2),
             step("noise", "noise", loads=[4], read=0.3)]  # fmt: skip
    ready = by_hand(prepared(steps))
    made = play_through(ready)
    assert asked(made.marks) == ["8 Ω on A and B", "4 Ω on A and B"]
    # Nothing is driven while a person works.
    block, drive = ready.facts.block, made.channels["drive"]
    x = drive.load(0, drive.length)
    for mark in made.marks:
        if mark["kind"] == "asked":
            at = int(mark["t"] * drive.rate)
            assert not np.any(x[at - block : at + block])
    assert not asked(play_through(prepared(steps)).marks)


def test_load_on_and_off_and_the_leads_in_common_by_hand_give_the_same_readings() -> None:
    steps = [step("damping", "impedance", channels=["A"], loads=[8], drive={"power": "2 W"}, read=0.3),
             step("cmrr", "common-mode", channels=["A"], loads=[8], drive={"power": "0.2 W"})]  # fmt: skip
    found = []
    for ready in (prepared(steps), by_hand(prepared(steps))):
        made = play_through(ready)
        found.append(ready.method.evaluate(made.channels, ready.settings, made.marks))
    said = asked(made.marks)
    assert said[1:6] == ["No load on A, 8 Ω on B", "8 Ω on A and B"] * 2 + ["No load on A, 8 Ω on B"]
    assert said[-2:] == ["Feed both leads of input A together", "Feed input A as before"]
    for key in ("damping_A_8_source_impedance", "cmrr_A_8_common_mode_rejection"):
        one, two = (f.reading(key) for f in found)
        assert one.value is not None and two.value is not None and one.uncertainty is not None
        assert two.value == pytest.approx(one.value, abs=2 * one.uncertainty)


def test_the_rig_file_tells_what_is_done_by_hand() -> None:
    rig = rig_of()
    card = rig.front_end.model_copy(update={"driver": "soundcard", "rate": 48000.0})
    card = card.model_copy(update={"card": card.card.model_copy(update={"delay": 4800})})
    plan = prepared([step("gain", "gain", drive={"voltage": "1 V"})]).plan
    facts = facts_of(plan, rig.model_copy(update={"front_end": card}))
    assert not facts.switched and not facts.routed and facts.delay == 0.1
    assert facts_of(plan, rig).switched and facts_of(plan, rig).delay == 0.0


def over_a_wire(ready: Prepared, delay: int, shares: dict[str, float]) -> Finding:
    """The run on a wire that is `delay` samples late on top of the usual lead; the source's row lies beside it."""
    facts = ready.facts
    late = int(np.ceil(delay / facts.block)) + 2
    fed = {r: [np.zeros(facts.block)] * (late + LEAD) for r in (*shares, "drive")}
    route = dict.fromkeys(shares, "terminated")
    rows: dict[str, list[np.ndarray]] = {r: [] for r in fed}
    marks: list[Any] = []
    run, got = ready.method.perform(ready.settings, facts, None), None
    result = None
    while True:
        try:
            want = run.send(got) if got is not None else next(run)
        except StopIteration:
            break
        assert want.trip is None, want.trip
        route.update((want.settings or {}).get("route", {}))
        marks.extend(want.marks)
        fed["drive"].append(want.drive)
        for r, share in shares.items():
            fed[r].append(share * want.drive * (route[r] != "terminated"))
        index = len(rows["drive"])
        for r, blocks in fed.items():
            held = np.concatenate(blocks[index : index + late + 2])
            at = late * facts.block - delay
            rows[r].append(held[at : at + facts.block])
        if want.compute is not None:
            result = want.compute[0](*want.compute[1])
        now = {r: rows[r][index] for r in shares}
        orders = ({"order": "go"},) if (want.live or {}).get("stage") == "asking" else ()
        got, result = Got(index, index * facts.block / facts.rate, now, result=result, orders=orders), None
    record = {r: channel_of(r, "V", facts.rate, np.concatenate(x)) for r, x in rows.items()}
    return ready.method.evaluate(record, ready.settings, marks)


@pytest.mark.parametrize("delay", [0, 700, 11264, 23000])
def test_inputs_that_hear_late_are_waited_for(delay: int) -> None:
    steps = [
        step("gain", "gain", loads=[8], drive={"voltage": "0.3 V"}, read=0.3),
        step("search", "gain", loads=[8], drive={"output": "0.2 V"}, read=0.3),
        step("rated", "distortion", loads=[8], drive={"voltage": "0.5 V"}, read=0.3),
        step("response", "response", loads=[8], drive={"voltage": "0.3 V"}, read=2.0),
    ]
    ready = by_hand(prepared(steps, gain=1, gain_uncertainty=None, rated={}))
    ready = replace(ready, facts=replace(ready.facts, delay=delay / ready.facts.rate))
    found = over_a_wire(ready, delay, {"A": 0.8, "B": 0.5})
    for channel, share in (("A", 0.8), ("B", 0.5)):
        assert found.reading(f"gain_{channel}_8_gain").value == pytest.approx(20 * np.log10(share), abs=1e-6)
        assert found.reading(f"gain_{channel}_8_phase").value == pytest.approx(0.0, abs=1e-6)
        assert found.reading(f"search_{channel}_8_output_level").value == pytest.approx(0.2, rel=0.002)
        assert found.reading(f"rated_{channel}_8_level").value == pytest.approx(0.5 * share, rel=1e-6)
        assert found.reading(f"rated_{channel}_8_thd").value == pytest.approx(0.0, abs=1e-6)
        assert abs(found.reading(f"response_{channel}_8_flatness").value or 1.0) < 0.01
