"""A reference that no cable reaches: a person brings the load up, reads it and types what it shows, step by step."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import numpy as np
import pytest
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication
from tests.test_comparison_run import QUICK, TODAY
from tests.test_desktop import until
from tests.test_weights import lab, laid, read

from lucid_anvil.contracts.recording import channel_of
from lucid_anvil.contracts.settings import check
from lucid_anvil.core.errors import BadInput
from lucid_anvil.domains.steps.force_comparison import METHOD as FORCE
from lucid_anvil.domains.steps.standin import PressBench
from lucid_anvil.engine.inprocess import play_through
from lucid_anvil.lab.place import Lab
from lucid_anvil.lab.steps_planning import read_for, steps_plan

__all__ = ["lab"]
COURSE = {**QUICK, "top": "4 kN", "steps": 5, "drive": "hand", "typed": True}
Answers = Callable[[Mapping[str, Any]], tuple[dict[str, Any], ...]]


@pytest.fixture
def reads(monkeypatch: pytest.MonkeyPatch) -> Callable[[float], Answers]:
    """A person who reads the instrument behind the press, to a newton, and what it lies by."""
    seen: list[PressBench] = []
    feel = PressBench.feel

    def spied(self: PressBench, t: np.ndarray) -> dict[str, np.ndarray]:
        seen[:] = [self]
        return feel(self, t)

    monkeypatch.setattr(PressBench, "feel", spied)

    def person(by: float = 1.0) -> Answers:
        def answers(live: Mapping[str, Any]) -> tuple[dict[str, Any], ...]:
            return ({"order": "row", "meter": f"{by * seen[0].load:.0f} N"},) if live.get("typing") else ({"order": "go"},)

        return answers

    return person


def test_what_is_typed_stands_for_the_reference(lab: Lab, reads: Callable[..., Answers]) -> None:
    settings = {"reference_uncertainty": "0.05 %", "course": COURSE}
    p = laid(lab, "press", settings, turn=0.005, hysteresis=0.01, bow=0.005)
    played = play_through(p, answers=reads())
    assert played.trip is None
    steps = [m for m in played.marks if m["kind"] == "step"]
    # A hand misses a step by some tenths of a percent: what was read counts, and not what was asked for.
    off = [m["reference"] / m["nominal"] - 1 for m in steps if m["nominal"]]
    assert max(map(abs, off)) > 1e-3 and len({m["reference"] for m in steps}) > 10
    found = read(p, played)
    s = found.reading("sensitivity")
    assert s.value is not None and s.uncertainty is not None and abs(s.value - 2.172e-3) < s.uncertainty
    assert found.complete and any("typed by a person" in n for n in found.notes)
    marks = [{**m, "reference": 1.1 * m["reference"]} if m["kind"] == "step" else m for m in played.marks]
    lies = p.method.evaluate(played.channels, p.settings, marks).reading("sensitivity")
    assert lies.value == pytest.approx(s.value / 1.1, rel=1e-6)  # nothing else is there that could tell


def test_what_can_not_be_a_reading_is_asked_for_again(lab: Lab, reads: Callable[..., Answers]) -> None:
    p = laid(lab, "press", {"course": {**COURSE, "preloads": 0, "same": 1, "positions": [0.0]}})
    asked: list[str] = []
    right, wrong = reads(), iter(["2", "two kN", "3 bar", "3 kN", "3 kN"])

    def answers(live: Mapping[str, Any]) -> tuple[dict[str, Any], ...]:
        if live.get("typing") and live["gauge"]["wanted"] == pytest.approx(800):
            asked.append(live["ask"])
            text = next(wrong, None)
            if text is not None:
                return ({"order": "row", "meter": text},)
        return right(live)

    played = play_through(p, answers=answers)
    assert "type what the reference shows" in asked[0] and "has no unit" in asked[1] and "two" in asked[2]
    assert "bar" in asked[3] and "3 kN is far from 800 N: type it once more" in asked[4]
    typed = [m["reference"] for m in played.marks if m["kind"] == "step"]
    assert typed[1] == 3000.0  # said twice: a person's word stands, and shows
    assert len(typed) == len({m["stop"] for m in played.marks if m["kind"] == "step"})


def test_a_unit_that_lost_half_asks_nobody_to_press_twice_as_hard(lab: Lab, reads: Callable[..., Answers]) -> None:
    p = laid(lab, "press", {"course": COURSE}, scale=-50.0)
    seen: list[float] = []
    person = reads()

    def answers(live: Mapping[str, Any]) -> tuple[dict[str, Any], ...]:
        made = person(live)
        seen.append(float(made[0]["meter"].split()[0]) if "meter" in made[0] else 0.0)
        return made

    # A stand-in's hand goes where it is told by the step, not by the unit: what the unit shows there is half of it.
    PressBench_command = PressBench.command
    try:
        PressBench.command = lambda s, n, v: PressBench_command(s, n, 2 * float(str(v)) if n == "ask" else v)  # type: ignore[method-assign]
        played = play_through(p, answers=answers)
    finally:
        PressBench.command = PressBench_command  # type: ignore[method-assign]
    assert played.trip is not None and "0.50 times what was read" in played.trip.label
    assert max(seen) < 0.25 * 4000 and not [m for m in played.marks if m["kind"] == "step"]


def test_where_nobody_types_the_run_ends_and_nothing_is_made_up(lab: Lab) -> None:
    p = laid(lab, "press", {"course": COURSE})
    played = play_through(p)
    assert played.trip is not None and "nobody typed" in played.trip.label
    assert not [m for m in played.marks if m["kind"] == "step"]
    record = {"unit": channel_of("unit", "V", 100.0, np.zeros(4000))}
    steps = [{"nominal": f, "start": 4 * i, "stop": 4 * i + 2} for i, f in enumerate((0, "1 kN", "2 kN"))]
    given = check(FORCE.Settings, {"course": COURSE, "steps": steps}, "settings")
    with pytest.raises(BadInput, match="nobody typed what the reference showed"):
        FORCE.evaluate(record, given, ())


@pytest.mark.parametrize(
    ("more", "why"), [({"drive": "source"}, "drive: hand"), ({"weights": {"loads": ["1 kg", "2 kg", "3 kg"]}}, "laid on is")]
)
def test_what_does_not_go_together_is_refused(more: dict[str, Any], why: str) -> None:
    with pytest.raises(BadInput, match=why):
        check(FORCE.Settings, {"course": {**COURSE, **more}}, "settings")


def test_it_is_chosen_in_the_window_and_typed_there(window: Any, demo_lab: Lab) -> None:
    ledger = demo_lab.ledger()
    assert read_for(ledger.entries(), "force-comparison") == ["GF-40"]
    ledger.close()
    with pytest.raises(BadInput, match="no reference for force"):
        steps_plan(demo_lab, "GF-01", top="4 kN", today=TODAY, read="GP-01")
    place = demo_lab.folder / "rigs" / "press.rig.yaml"
    text = place.read_text().replace("kind: press,", "kind: press, hand: true,")
    place.write_text(text)
    window.ledger.reload("GF-01")
    until(window.ledger.go.isEnabled)
    window.ledger.go.click()
    sheet = QApplication.activeModalWidget()
    sheet.fields.boxes["how"].setCurrentText("by hand, read from GF-40")
    for key, value in (("top", "4 kN"), ("steps", "3"), ("wait", "0.3 s")):
        sheet.fields.boxes[key].setText(value)
    sheet.done_with()
    bench = window.bench
    until(lambda: bench.state == "walk-round" and bool(bench.walk.shown))
    assert bench.prepared.settings.course.typed and bench.prepared.plan.sensors["reference"].serial == "GF-40"
    for one in bench.walk.shown:
        if one.kind == "signed":
            bench.walk.sign.emit(one.key, "K.B.")
    until(bench.walk.go.isEnabled)
    bench.walk.go.click()
    box = bench.plain.stage.typed
    until(lambda: box.isVisible())
    assert "type what the reference shows" in bench.plain.stage.asked.text()
    bench.plain.go()  # nothing typed: nothing goes on
    steps = bench.link.latest.live["shown"]["Step"]
    QTest.keyClicks(box, "400 N")
    QTest.keyClick(box, "\r")
    until(lambda: not box.isVisible())
    until(lambda: box.isVisible() and bench.link.latest.live["shown"]["Step"] != steps)
    assert box.text() == ""  # the reading before does not stand there as the next one
    QTest.keyClicks(box, "12 bar")
    bench.plain.done.click()
    until(lambda: "turned into" in bench.plain.stage.asked.text())
