"""A reading followed over takes and units."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from tests.test_desktop import until

from lucid_anvil.contracts.finding import Finding, Reading
from lucid_anvil.core.errors import BadInput
from lucid_anvil.core.quality.spread import histogram, spread
from lucid_anvil.desktop.lightbox.trend_view import words_of
from lucid_anvil.lab.takes import Take, begin_take
from lucid_anvil.lab.textfiles import dump_yaml, load_yaml
from lucid_anvil.lab.trends import counted, export_trend, follow, read_takes, readings_in

VALUES = [3.01, 2.98, 3.03, 2.97, 3.02, 2.99]


def test_the_spread_of_a_batch() -> None:
    s = spread(VALUES, 2.9, 3.1)
    assert (s.count, s.minimum, s.maximum) == (6, 2.97, 3.03) and s.mean == pytest.approx(3.0)
    # The squares about 3.00: 1, 4, 9, 9, 4, 1, in 1e-4: 28 over 5.
    assert s.standard_deviation == pytest.approx(np.sqrt(28e-4 / 5))
    assert s.cm == pytest.approx(0.2 / (6 * s.standard_deviation)) and s.cmk == pytest.approx(
        0.1 / (3 * s.standard_deviation)
    )
    one = spread(VALUES, None, 2.99)
    assert one.cm is None and one.cmk == pytest.approx((2.99 - 3.0) / (3 * s.standard_deviation))  # outside: negative
    assert spread([3.0], 2, 4).cmk is None and spread([3.0, 3.0], 2, 4).cm is None
    with pytest.raises(ValueError, match="finite"):
        spread([1.0, float("nan")])
    edges, counts = histogram(VALUES)
    assert counts.sum() == 6 and len(counts) == 3 and edges[0] == 2.97 and edges[-1] == 3.03
    assert "rough from 6" in words_of(s, "V", 0) and words_of(s, "V", 2).endswith(
        "2 without a value that counts left out"
    )


def taken(lab: Any, number: int, value: float | None, status: str = "done", **more: Any) -> Take:
    plan = lab.jobs / "0412" / "battery-tray" / "random" / "random.plan.yaml"
    folder = plan.parent / f"take-{number:03d}"
    begin_take(
        folder, dump_yaml({**load_yaml(plan), "article": f"BT-3 no {number}", **more.pop("plan", {})}), "rig: x\n"
    )
    rows = [
        {"kind": "begin", "t": 0.0, "wall": 1.7e9 + 100 * number},
        {"kind": "end", "t": 1.0, "status": status, "reason": None},
    ]
    (folder / "events.jsonl").write_text("".join(json.dumps(r) + "\n" for r in rows))
    reading = Reading("rms", "Control", value, more.pop("unit", "m/s²"), 0.02, 2.0, low=2.9, high=3.1, verdict="inside",
                      valid=value is not None, reason="" if value else "nothing")  # fmt: skip
    Take(folder).keep(Finding("random-vibration", (reading,), missing=more.pop("missing", ())))
    return Take(folder)


def test_only_what_is_whole_and_alike_is_followed(demo_lab: Any, tmp_path: Path) -> None:
    for i, v in enumerate(VALUES, 1):
        taken(demo_lab, i, v)
    taken(demo_lab, 7, None)
    taken(demo_lab, 8, 9.9, status="cut")
    taken(demo_lab, 9, 9.9, missing=("30 s of 60 s",))
    doubtful = taken(demo_lab, 11, 9.9)
    with (doubtful.folder / "events.jsonl").open("a") as file:
        file.write(json.dumps({"kind": "doubtful", "t": 0.0, "why": "its sensor was found broken"}) + "\n")
    read = read_takes(demo_lab.jobs)
    assert (
        readings_in(read, "random-vibration") == [("rms", "Control", "m/s²")] and readings_in(read, "sine-sweep") == []
    )
    rows = follow(read, "random-vibration", "rms")
    assert [r.value for r in rows] == [*VALUES, None] and [r.value for r in counted(rows)] == VALUES
    assert rows[0].article == "BT-3 no 1" and rows[0].when < rows[1].when
    out = tmp_path / "t.csv"
    export_trend(rows, "Control", out)
    lines = out.read_text(encoding="utf-8-sig").splitlines()
    assert (
        len(lines) == 8
        and lines[0].startswith("when,article,take,Control [m/s²]")
        and ",BT-3 no 3,take-003,3.03," in lines[3]
    )
    export_trend(rows, "Control", tmp_path / "t.xlsx")
    from openpyxl import load_workbook

    assert load_workbook(tmp_path / "t.xlsx")["trend"].max_row == 8
    with pytest.raises(BadInput, match="exists already"):
        export_trend(rows, "Control", out)
    taken(demo_lab, 10, 0.3, unit="g")  # another unit: the newest one's counts, the others are left out
    assert [r.value for r in follow(read_takes(demo_lab.jobs), "random-vibration", "rms")] == [0.3]


def test_the_trend_in_the_lightbox(window: Any, demo_lab: Any) -> None:
    for i, v in enumerate(VALUES, 1):
        taken(demo_lab, i, v)
    window.go("Lightbox")
    box = window.place("Lightbox")
    box.tabs.choose("trend")
    until(lambda: box.trend.reading.count() == 1 and not box.aside.open)
    told = box.trend.told.text()
    assert told.startswith(
        "6 values · mean 3.000 m/s² · s 0.024 m/s² · 2.970 to 3.030 m/s² · cm 1.41 · cmk 1.41, rough from 6"
    )
    assert list(box.trend.chart.table["values"][1]) == VALUES and {"low", "high", "mean"} <= set(box.trend.chart.series)
