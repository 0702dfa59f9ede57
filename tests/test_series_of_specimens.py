"""Several specimens beside each other: mean, spread, what lies off, on screen and on paper."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from tests.test_desktop import leave, until
from tests.test_papers import hold, text_of

from lucid_anvil.contracts.finding import Finding, Reading
from lucid_anvil.core.errors import BadInput
from lucid_anvil.core.quality.outliers import critical, far_off
from lucid_anvil.desktop.shell.window import MainWindow
from lucid_anvil.folio.handing import begin_paper
from lucid_anvil.folio.papers import compose
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.papers import load_paper
from lucid_anvil.lab.specimens import series, words


@pytest.mark.parametrize(("count", "five", "one"), [(3, 1.155, 1.155), (5, 1.715, 1.764), (10, 2.290, 2.482),
                                                    (20, 2.709, 3.001), (40, 3.036, 3.381)])  # fmt: skip
def test_critical_values_are_the_standards(count: int, five: float, one: float) -> None:
    """ISO 5725-2:2019, table 5, one greatest or one smallest, upper 5 % and 1 %."""
    assert critical(count, 0.05) == pytest.approx(five, abs=1e-3) and critical(count, 0.01) == pytest.approx(one, abs=1e-3)
    assert critical(2, 0.05) == float("inf")


def test_the_share_of_honest_series_in_which_one_is_called_off() -> None:
    rng = np.random.default_rng(3)
    found = [far_off(rng.normal(100, 2, 8).tolist()) for _ in range(2000)]
    off = sum(bool(f.stragglers or f.outliers) for f in found) / 2000
    assert 0.035 < off < 0.065 and 0.004 < sum(bool(f.outliers) for f in found) / 2000 < 0.018


def test_what_lies_off_is_found_and_half_of_a_series_never_is() -> None:
    base = [200.0, 201, 199, 200.5, 199.5, 200.2]
    assert far_off([*base, 230.0]).outliers == (6,) and far_off([None, *base, 230.0, 180.0]).outliers == ()
    assert far_off([*base, 203.7]).stragglers == (6,) and far_off([*base, 203.7]).outliers == ()
    assert far_off(base) == far_off([]) == far_off([1.0, 9.0]) == far_off([5.0] * 6)
    assert far_off([1.0, float("nan"), 1.1, 0.9, None, 1.05, 0.95, 8.0]).outliers == (7,)
    assert far_off([1.0, 1.0001, 5.0]).outliers == (2,) and far_off([1.0, 1.3, 5.0]) == far_off([])


def finding(value: float | None, **more: Any) -> Finding:
    held = {"unit": "GPa", "low": 190.0, "high": 210.0, "verdict": "inside", **more}
    return Finding("tension", (Reading("modulus", "Modulus", value, **held), Reading("count", "Count", 1.0, "")))


def test_rows_of_a_series() -> None:
    values = [200.0, 201, 199, 200.5, 199.5, 260.0]
    held = [(f"B{i}", finding(v, verdict="inside" if v < 210 else "outside")) for i, v in enumerate(values)]
    made = series(held)
    row = made.rows[0]
    assert row.values == tuple(values) and (row.low, row.high) == (190, 210) and row.inside == 5
    assert row.far.outliers == (5,) and words(row, made.names) == "outlier (1 %): B5"
    assert row.of_all is not None and row.of_all.mean == pytest.approx(np.mean(values))
    assert row.without is not None and row.without.mean == pytest.approx(200.0)
    odd = series([*held[:3], ("B9", finding(None)), ("B8", finding(205.0, valid=False)), ("B7", finding(1, low=0.0))])
    assert odd.rows[0].values[3:5] == (None, None) and odd.rows[0].low is None and odd.rows[0].verdicts[4] == "open"
    assert [r.label for r in series([("a", finding(1)), ("b", finding(2, unit="MPa"))]).rows] == ["Count"]
    with pytest.raises(BadInput, match="two takes"):
        series(held[:1])
    with pytest.raises(BadInput, match="of one method"):
        series([held[0], ("c", Finding("dma", ()))])


@pytest.fixture
def lab(tmp_path: Path) -> Any:
    return begin_lab(tmp_path / "lab", "Gullstone Test House", [], "K.B.", False)


def view_is_empty(box: Any) -> bool:
    return box.series_view.made is None and not box.series_view.cell_help(0)


def test_a_series_on_screen_and_on_paper(qtbot: Any, lab: Any) -> None:
    leaks = [0.0060, 0.0061, 0.0059, 0.0060, 0.0062, 0.0151]
    takes = [hold(lab, f"Hull {i}", leak) for i, leak in enumerate(leaks)]
    place = begin_paper(lab, takes, "Six hulls")
    paper = load_paper(place)
    assert [c.kind for c in paper.cards][:3] == ["cover", "summary", "series"]
    pages = text_of(compose(lab, paper).pdf)
    page = next(p for p in pages if "Series" in p and "Mean" in p)
    assert "outlier (1 %): Hull 5" in page and "Hull 0" in page and "0.0151" in page
    window = MainWindow(lab)
    window.show()
    window.go("Lightbox")
    box = window.place("Lightbox")
    for i in range(box.list.count()):
        box.list.item(i).setCheckState(Qt.CheckState.Unchecked)
    box.tabs.choose("series")
    assert view_is_empty(box)
    assert "tick more" in box.hint.text()
    for i in range(box.list.count()):
        box.list.item(i).setCheckState(Qt.CheckState.Checked)
    view = box.series_view
    assert view.made is not None and len(view.made.names) == 6
    decay = next(i for i, r in enumerate(view.made.rows) if "ecay" in r.label)
    assert len(view.made.rows[decay].far.outliers) == 1 and "hull-5" in view.cell_help(decay)
    assert view.minimumWidth() > 400 and not view.grab().isNull()
    until(lambda: box.aside.open == 0)
    leave(window)
