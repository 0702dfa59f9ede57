"""Finding anything by typing, and the manual inside the window."""

from __future__ import annotations

import re
import time
from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication
from tests.test_desktop import until

from lucid_anvil.contracts import registry
from lucid_anvil.contracts.explained import explained
from lucid_anvil.contracts.manual import reference
from lucid_anvil.desktop.shell.finder import Finder
from lucid_anvil.desktop.shell.help_view import FIRST, pages, topic_at
from lucid_anvil.engine.guards import LABELS
from lucid_anvil.lab.finding_things import Thing, find, things


def test_the_reference_pages_are_as_the_methods_say() -> None:
    held = pages()
    assert next(iter(held)) == FIRST
    made = reference()
    assert {n: t for n, t in held.items() if n.startswith("method-")} == made, "make manual writes them anew"
    for name in registry.names():
        for setting in explained(registry.get(name).Settings):
            assert f"(`{setting.key}`)" in made[f"method-{name}.md"]


def test_every_guard_and_key_is_explained() -> None:
    held = pages()
    for text in (*LABELS.values(), *(registry.guard_kind(k).label for k in registry.guard_kinds())):
        assert f"## {text}\n" in held["guards.md"], text
    window = (Path(__file__).parent.parent / "src/lucid_anvil/desktop/shell/window.py").read_text()
    for sequence in re.findall(r'\bkey\("([^"]+)"', window):
        assert f"**{sequence}**" in held["keys.md"] or f"{sequence}" in held["keys.md"], sequence
    for text in held.values():
        assert not re.search(r"\b(keeper|conductor)\b", text)


def test_typing_finds_what_all_words_say() -> None:
    held = [
        Thing("take", "sine · take-003", "0412 / battery-tray", "a"), Thing("plan", "sine", "0412 / battery-tray", "b"),
        Thing("sensor", "GA-07", "accelerometer Northhaven", "GA-07", "worn"), Thing("action", "New test", "Ctrl T", "new"),
    ]  # fmt: skip
    assert [t.key for t in find(held, "sine tray")] == ["b", "a"] and [t.key for t in find(held, "WORN ga")] == [
        "GA-07"
    ]
    assert (
        find(held, "nothing") == []
        and [t.key for t in find(held, "")] == ["new"]
        and find(held, "sine", 1)[0].key == "b"
    )


def test_a_lab_is_walked_once_and_all_of_it_is_found(demo_lab: Any) -> None:
    held = things(demo_lab)
    kinds = {t.kind for t in held}
    assert {"plan", "sensor", "rig"} <= kinds and len([t for t in held if t.kind == "sensor"]) == len(
        demo_lab.ledger().entries()
    )
    (tray,) = [t for t in find(held, "battery sine") if t.kind == "plan" and t.title == "sine"]
    assert Path(tray.key).exists()


def test_ctrl_k_opens_what_is_typed(window: Any, demo_lab: Any) -> None:
    window.activateWindow()
    until(window.isActiveWindow)
    QTest.keyClick(window, Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
    finder = QApplication.activeModalWidget()
    assert isinstance(finder, Finder) and finder.found.chosen.kind == "action"
    QTest.keyClicks(finder.line, "GM-0")
    assert {t.key for t in finder.found.rows} == {"GM-03", "GM-05"}
    QTest.keyClick(finder.line, Qt.Key.Key_Down)
    QTest.keyClick(finder.line, Qt.Key.Key_Return)
    until(lambda: QApplication.activeModalWidget() is None)
    assert window.ledger.chosen.sensor.serial == "GM-05"
    window.find_anything()
    QTest.keyClicks(window.finder.line, "battery tray sine")
    plan = next(t for t in window.finder.found.rows if t.kind == "plan")
    window.finder.reject()
    window._found(plan)
    until(lambda: window.bench.plan_file == Path(plan.key) and not window.bench.aside.open)


def test_whatever_can_be_pressed_is_reached_by_typing(window: Any, demo_lab: Any) -> None:
    place = demo_lab.jobs / "0412" / "battery-tray" / "sine" / "sine.plan.yaml"
    window.go("Bench")
    bench = window.bench
    bench.open_plan(place)
    until(lambda: bench.plan_file == place and bench.state == "walk-round" and bool(bench.walk.shown))
    window.find_anything()
    named = {t.title: t for t in window.finder.found.rows if t.kind == "action"} | {
        t.title: t for t in window._here()}  # fmt: skip
    assert {"Limits", "Settings", "Add a stretch", "Join plans"} <= set(named)
    assert named["Settings"].detail == "T" and "Next" not in named  # what can't be pressed now is not offered
    window.finder.reject()
    window._found(named["Settings"])
    assert bench.editing.open
    bench.editing.hide()


def test_f1_explains_what_is_under_the_pointer(window: Any, demo_lab: Any) -> None:
    window.go("Folio")
    window.explain()
    shown = window.manual
    assert shown.isVisible() and "Ledger" in shown.page.toPlainText()
    place = demo_lab.jobs / "0412" / "battery-tray" / "sine" / "sine.plan.yaml"
    window.go("Bench")
    window.bench.open_plan(place)
    until(lambda: window.bench.plan_file == place and not window.bench.aside.open)
    window.bench.editing.show()
    row = window.bench.editing.sheet.rows["control.compression"]
    assert topic_at(row.box) == ("method-sine-sweep.md", "Compression")
    shown.open(*topic_at(row.box))
    assert "dB/s" in shown.page.toPlainText() and shown.page.textCursor().selectedText() == "Compression"
    shown.search.setText("bias voltage")
    assert "Troubleshooting" in [shown.list.item(i).text() for i in range(shown.list.count())]
    assert topic_at(window.ledger) is None


@pytest.mark.parametrize("text", ["take-0500", "ga 2", "unit 17 sine"])
def test_a_thousand_takes_are_found_in_no_time(text: str) -> None:
    held = [Thing("take", f"sine · take-{i:04d}", f"0412 / unit-{i % 40}", str(i)) for i in range(1000)]
    held += [Thing("sensor", f"GA-{i}", "accelerometer", str(i)) for i in range(300)]
    began = time.process_time()
    for _ in range(20):
        assert find(held, text)
    assert (time.process_time() - began) / 20 < 1.0  # a hang, not a speed: `make bench` has the figure


def test_what_differs_between_two_readings_is_said() -> None:
    from lucid_anvil.contracts.finding import Finding, Reading
    from lucid_anvil.desktop.lightbox.again_view import difference, with_value
    from lucid_anvil.lab.editing import NOTHING

    before = Finding("m", (Reading("a", "A", 1.0, "V"), Reading("b", "B", 2.0, "V"), Reading("c", "C", None, "V")))
    after = Finding("m", (Reading("a", "A", 1.0, "V"), Reading("b", "B", 2.2, "V"), Reading("c", "C", 3.0, "V")))
    assert difference(before, after) == "2 of 3 readings differ. C: nothing → 3 V; B: 2 → 2.2 V."
    assert difference(before, before) == "No reading differs." and "nothing was read" in difference(None, after)
    assert "1 readings are gone" in difference(before, Finding("m", after.readings[:2]))
    held = {"a": {"b": 1}}
    assert with_value(held, ("a", "c"), 2) == {"a": {"b": 1, "c": 2}} and held == {"a": {"b": 1}}
    assert with_value(held, ("a", "b"), NOTHING) == {"a": {}} and with_value(held, ("x", "y"), 1)["x"] == {"y": 1}
