"""Plans and rigs changed as texts: what was not changed stays as the person left it."""

from __future__ import annotations

import difflib
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lucid_anvil.lab.editing import put_rows, sync
from lucid_anvil.lab.planning import change_step
from lucid_anvil.lab.textfiles import dump_yaml, load_yaml

PLAN = """# for the tray
lucid-anvil-plan: 1
title: A   # ours
steps:
- method: sine-sweep
  settings:
    profile:
      start: 10 Hz
      stop: 500 Hz   # the customer's
      segments:
      # by the fixture
      - {displacement: 4.4 mm}   # first
      - {acceleration: 32 m/s^2, until: 200 Hz}
      - {acceleration: 10 m/s^2}
    course:
    - {sweep: up}   # once
walk_round: []
"""


def lines_changed(before: str, after: str) -> list[str]:
    return [d for d in difflib.ndiff(before.splitlines(), after.splitlines()) if d[0] in "+-"]


def test_a_changed_profile_leaves_every_other_line_alone(tmp_path: Path) -> None:
    place = tmp_path / "a.plan.yaml"
    place.write_text(PLAN)
    profile = load_yaml(place)["steps"][0]["settings"]["profile"]
    profile["segments"][1]["acceleration"] = "20 m/s^2"
    change_step(place, {"profile": profile})
    assert (
        len(lines_changed(PLAN, place.read_text())) == 2
        and "{acceleration: 20 m/s^2, until: 200 Hz}" in place.read_text()
    )
    before = place.read_text()
    profile["segments"] = [profile["segments"][0], {"line": True}, *profile["segments"][1:]]
    change_step(place, {"profile": profile, "course": [{"sweep": "up"}, {"pause": "5 s"}]})
    assert lines_changed(before, place.read_text()) == ["+       - {line: true}", "+     - {pause: 5 s}"]
    assert "# first" in place.read_text() and "# by the fixture" in place.read_text()
    # Rows exchanged: their comments go with them, and the first one's heading stays above it.
    profile["segments"] = profile["segments"][::-1]
    change_step(place, {"profile": profile})
    text = place.read_text()
    assert (
        text.index("{acceleration: 10 m/s^2}")
        < text.index("# by the fixture")
        < text.index("displacement: 4.4 mm}   # first")
    )
    assert load_yaml(place)["steps"][0]["settings"]["profile"] == profile


def test_what_has_no_place_in_the_text_is_written_all_the_same(tmp_path: Path) -> None:
    place = tmp_path / "x.yaml"
    place.write_text("a: &one {b: 1}\nc: *one\n")
    sync(place, {"a": {"b": 2}, "c": {"b": 1}})
    assert load_yaml(place) == {"a": {"b": 2}, "c": {"b": 1}}
    place.write_text("rows: [1, 2]  # two\n")
    put_rows(place, ["rows"], [1, 2, 3])
    assert place.read_text() == "rows: [1, 2, 3]  # two\n"


values = st.one_of(
    st.integers(-5, 5),
    st.sampled_from(["10 Hz", "-3 dB", "a: b", "# no", "on", "1e3", "ä é", "x, y", "", "- 1"]),
    st.booleans(),
)
tables = st.recursive(values, lambda inner: st.one_of(
    st.lists(inner, max_size=3), st.dictionaries(st.sampled_from(["a", "b", "c", "d e"]), inner, max_size=3)), max_leaves=12)  # fmt: skip


@given(
    st.dictionaries(st.sampled_from("pqrs"), tables, min_size=1, max_size=3),
    st.dictionaries(st.sampled_from("pqrs"), tables, max_size=3),
)
def test_whatever_stands_there_becomes_what_is_wanted(
    tmp_path_factory: Any, held: dict[str, Any], wanted: dict[str, Any]
) -> None:
    place = tmp_path_factory.mktemp("sync") / "x.yaml"
    place.write_text(dump_yaml(held))
    sync(place, wanted)
    after = load_yaml(place)
    assert (after or {}) == wanted


@pytest.mark.parametrize("key", ["profile", "course"])
def test_a_change_back_gives_the_text_back(key: str, tmp_path: Path) -> None:
    place = tmp_path / "a.plan.yaml"
    place.write_text(PLAN)
    was = load_yaml(place)["steps"][0]["settings"][key]
    other: Any = {**was, "stop": "400 Hz"} if key == "profile" else [{"sweep": "down"}]
    change_step(place, {key: other})
    change_step(place, {key: was})
    assert place.read_text() == PLAN
