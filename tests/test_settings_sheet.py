"""Settings in words from any method's own declaration, and changing them in the plan's text."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtWidgets import QComboBox

from lucid_anvil.contracts import registry
from lucid_anvil.contracts.explained import explained, value_at
from lucid_anvil.core.errors import BadInput
from lucid_anvil.desktop.parts.settings_view import SettingRow
from lucid_anvil.lab.editing import NOTHING, put, settings_in, shown, typed
from lucid_anvil.lab.textfiles import load_yaml

PLAN = """# The plan of the fore deck.
lucid-anvil-plan: 1
title: "Plate, corner to centre"   # as the customer calls it
steps:
  - method: impact-response
    # eight good ones
    settings: {hits: 8, trigger:   12 N,
      block: 8192}
    # nothing else
"""


@pytest.mark.parametrize("name", registry.names())
def test_every_setting_of_every_method_is_explained(name: str) -> None:
    model = registry.get(name).Settings
    made = explained(model)
    assert {s.path[0] for s in made} == {f.alias or k for k, f in model.model_fields.items()}
    assert all(s.kind in ("quantity", "number", "count", "flag", "choice", "text", "data") for s in made)
    assert all(s.unit for s in made if s.kind == "quantity") and len({s.key for s in made}) == len(made)


def test_units_choices_and_meanings_come_from_the_declaration() -> None:
    by = {s.key: s for s in explained(registry.get("sine-sweep").Settings)}
    assert by["control.probe.period"].unit == "s" and by["control.probe.period"].usual == 4.0
    assert by["control.detect"].choices == ("tracking", "rms", "peak") and by["control.probe.on"].kind == "flag"
    assert "Roles of the control points" in by["control.points"].meaning and by["decision"].rare
    assert value_at({"control": {"probe": {"period": "2 s"}}}, ("control", "probe", "period")) == "2 s"
    assert value_at({"control": "x"}, ("control", "probe")) is None


def test_a_setting_is_put_in_its_place_and_nothing_else_moves(tmp_path: Path) -> None:
    place = tmp_path / "a.plan.yaml"
    place.write_text(PLAN)
    put(place, ("trigger",), "15 N")
    assert load_yaml(place)["steps"][0]["settings"] == {"hits": 8, "trigger": "15 N", "block": 8192}
    for line in ("# The plan of the fore deck.", "    # eight good ones", "    # nothing else",
                 'title: "Plate, corner to centre"   # as the customer calls it'):  # fmt: skip
        assert line in place.read_text().splitlines()
    put(place, ("trigger",), NOTHING)
    put(place, ("limits", "usable_to"), {"low": "2 kHz"})
    assert load_yaml(place)["steps"][0]["settings"] == {
        "hits": 8,
        "block": 8192,
        "limits": {"usable_to": {"low": "2 kHz"}},
    }
    with pytest.raises(BadInput, match="no place"):
        put(place, ("hits", "more"), 1)


def test_every_line_but_one_stays_in_a_block_plan(demo_lab: Any) -> None:
    place = next(demo_lab.jobs.rglob("sine.plan.yaml"))
    before = place.read_text().splitlines()
    put(place, ("control", "probe", "period"), "2 s")
    after = place.read_text().splitlines()
    assert load_yaml(place)["steps"][0]["settings"]["control"]["probe"]["period"] == "2 s"
    assert [x for x in before if x not in after] == [] and len(after) - len(before) <= 3
    profile = place.with_name("sine.profile.yaml")
    put(place, ("profile", "start"), "12 Hz")
    assert load_yaml(profile)["start"] == "12 Hz" and place.read_text().splitlines() == after


def test_what_is_typed_is_yaml_and_what_is_shown_can_be_typed() -> None:
    assert typed("") is NOTHING and typed(" 12 N ") == "12 N" and typed("[1, 2.5]") == [1, 2.5] and typed("on") == "on"
    for value in ("12 N", 8, 2.5, [1, 2], {"low": "-5 %"}, True):
        again = typed(shown(value))
        assert again == value or (value is True and again == "on")
    with pytest.raises(BadInput, match="what was typed"):
        typed("[1, ")


def test_a_choice_that_nobody_made_does_not_stand_there_as_made(qapp: Any) -> None:
    shape = next(s for s in explained(registry.get("tension").Settings) if s.key == "specimen.shape")
    row, told = SettingRow(shape, None), []
    row.changed.connect(lambda _s, text: told.append(text))
    assert isinstance(row.box, QComboBox) and row.box.currentText() == "not set"
    row.box.setCurrentText("round")
    row._tell()
    row.show_value("round")
    row.box.setCurrentText("not set")
    row._tell()
    assert told == ["round", ""]


# --- in the window -----------------------------------------------------------------------------------------------------


def opened(window: Any, place: Path) -> Any:
    from test_shaker_window import opened as open_plan

    bench = open_plan(window, place)
    window.resize(1280, 800)
    bench.editing.toggle()
    assert bench.stages.currentWidget() is bench.editing.sheet
    return bench


def put_in(bench: Any, key: str, text: str) -> Any:
    """Type a value as a person does, and wait until it was taken or refused."""
    from PyQt6.QtWidgets import QComboBox

    from test_shaker_window import settled

    row = bench.editing.sheet.rows[key]
    if isinstance(row.box, QComboBox):
        row.box.setCurrentText(text)
        row.box.activated.emit(row.box.currentIndex())
    else:
        row.box.setText(text)
        row.box.editingFinished.emit()
    settled(bench)
    return row


def test_the_sheet_changes_the_plan_and_the_course_at_once(window: Any, demo_lab: Any) -> None:
    place = demo_lab.jobs / "0412" / "mooring-plate" / "impact" / "impact.plan.yaml"
    place.write_text(place.read_text() + "# kept by hand\n")
    bench = opened(window, place)
    before = place.read_text().splitlines()
    row = put_in(bench, "trigger", "25 N")
    assert load_yaml(place)["steps"][0]["settings"]["trigger"] == "25 N" and bench.prepared.settings.trigger == 25.0
    after = place.read_text().splitlines()
    assert after[-1] == "# kept by hand" and len([x for x in before if x not in after]) <= 1
    assert row.back.isVisible() and not row.wrong.isVisible()
    row = put_in(bench, "trigger", "25 V")
    assert row.wrong.isVisible() and "V" in row.wrong.text() and place.read_text().splitlines() == after
    put_in(bench, "estimator", "H2")
    put_in(bench, "driving_point", "on")
    assert bench.prepared.settings.estimator == "H2" and bench.prepared.settings.driving_point is True
    for _ in range(3):
        bench.editing.undo()
        from test_shaker_window import settled

        settled(bench)
    assert place.read_text().splitlines() == before
    bench.editing.redo()
    settled(bench)
    assert bench.prepared.settings.trigger == 25.0
    bench.editing.sheet.search.setText("fades")
    shown_ = [k for k, r in bench.editing.sheet.rows.items() if not r.isHidden()]
    assert "trigger" not in shown_
    bench.editing.hide()
    assert bench.stages.currentWidget() is bench.side.stage


@pytest.mark.parametrize(
    "name", ["battery-tray/sine/sine", "battery-tray/random/random", "battery-tray/record/record",
             "mooring-plate/impact/impact", "fog-amplifier/sheet/sheet"],
)  # fmt: skip
def test_every_setting_of_a_plan_has_its_editor_and_changes_that_place_alone(
    name: str, window: Any, demo_lab: Any
) -> None:
    place = demo_lab.jobs / "0412" / f"{name}.plan.yaml"
    bench = opened(window, place)
    method = bench.prepared.method
    assert set(bench.editing.sheet.rows) == {s.key for s in explained(method.Settings)}
    for s in explained(method.Settings):
        value = {"flag": not s.usual, "count": 3, "number": 2.5, "quantity": f"3 {s.unit}"}.get(s.kind)
        if value is None or s.path[0] == "profile":
            continue
        text = place.read_text()
        held = value_at(settings_in(load_yaml(place)), s.path)
        put(place, s.path, value)
        assert shown(value_at(settings_in(load_yaml(place)), s.path)) == shown(value), s.key
        gone = [x for x in text.splitlines() if x not in place.read_text().splitlines()]
        assert len(gone) <= 1, (s.key, gone)
        put(place, s.path, NOTHING if held is None else held)
        assert shown(value_at(settings_in(load_yaml(place)), s.path)) == shown(held)
        place.write_text(text)
