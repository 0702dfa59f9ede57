"""What is known of an article, what a rig lacks, and how a new test shows what it is for."""

from __future__ import annotations

import io
from pathlib import Path
from typing import Any

import pytest
from pypdf import PdfReader
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import QApplication
from tests.test_desktop import until

from lucid_anvil.contracts import registry
from lucid_anvil.contracts.finding import Finding, Reading
from lucid_anvil.core.errors import BadInput
from lucid_anvil.desktop.parts.limits_sheet import ReadingLimits
from lucid_anvil.engine.newplan import lacking, suits
from lucid_anvil.folio.cards import report_of
from lucid_anvil.folio.handing import begin_paper
from lucid_anvil.folio.papers import about, compose
from lucid_anvil.lab.articles import (
    Article,
    copied_into,
    facts_in,
    figures_as_text,
    figures_in_unit,
    figures_typed,
    folder_of,
    keep_facts,
    known,
)
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.papers import load_paper
from lucid_anvil.lab.photos import photos_at, photos_in
from lucid_anvil.lab.textfiles import load_yaml
from lucid_anvil.rig.editing import Card, add_inputs, begin_rig
from lucid_anvil.rig.model import load_rig

HORN = Article(name="Fog horn", maker="Gullstone", model="FH-2", serial="0117", note="from the second batch",
               figures={"rated power": "40 W", "sensitivity": "97 dB", "colour": "red"})  # fmt: skip


def test_facts_are_typed_kept_and_found(demo_lab: Any) -> None:
    assert figures_typed("rated power: 40 W\n\ncolour:  red ") == {"rated power": "40 W", "colour": "red"}
    assert figures_typed(figures_as_text(HORN.figures)) == HORN.figures
    for bad, why in (("40 W", "line 1.*write"), ("a: 1\na: 2", "line 2.*twice"), (": 3", "line 1")):
        with pytest.raises(BadInput, match=why):
            figures_typed(bad)
    folder = folder_of(demo_lab, HORN.name)
    assert facts_in(folder) is None
    keep_facts(folder, HORN)
    assert facts_in(folder) == HORN and HORN.words == "Gullstone FH-2, no. 0117"
    assert Article(name="x", serial="7").words == "no. 7" and not Article(name="x").words
    there = known(demo_lab)
    assert there["Fog horn"] == folder and there["battery tray"].name == "battery-tray"
    (folder / "article.yaml").write_text("lucid-anvil-article: 1\nname: Fog horn\nmakr: x\n")
    with pytest.raises(BadInput, match="did you mean 'maker'"):
        facts_in(folder)
    assert "fog horn" not in known(demo_lab) and "Fog horn" not in known(demo_lab)


def test_published_figures_are_what_limits_count_from(qtbot: Any) -> None:
    assert figures_in_unit(HORN, "W") == [("rated power", "40 W")] and figures_in_unit(None, "W") == []
    method = registry.get("driver-check")
    seen = Finding("driver-check", (Reading("sensitivity", "Sensitivity", 96.4, "dB", 0.2),))
    page = ReadingLimits(method, seen, {}, list, HORN)
    qtbot.addWidget(page)
    row = next(i for i, (key, _, _) in enumerate(page.rows) if key == "sensitivity")
    assert page.offered(row) == [("97 dB · published: sensitivity", "97 dB", "published: sensitivity")]
    page.count_from(row, *page.offered(row)[0][1:])
    page.table.item(row, 2).setText("-1 dB")
    assert page.limits() == {"sensitivity": {"low": "-1 dB", "of": "97 dB", "from": "published: sensitivity"}}
    page.table.item(row, 4).setText("96 dB")  # typed over: it comes from nowhere else
    assert page.limits() == {"sensitivity": {"low": "-1 dB", "of": "96 dB"}}


def test_a_take_keeps_the_facts_of_its_time_and_its_paper_says_them(demo_lab: Any, kept: Any) -> None:
    take = kept
    folder = take.folder.parent
    one = report_of(take.folder)
    assert about([one]) is None
    keep_facts(folder.parent, HORN)
    copied_into(take.folder, folder / "x.plan.yaml")
    keep_facts(folder.parent, HORN.model_copy(update={"serial": "0999"}))
    assert about([one]) == HORN
    other = report_of(take.folder)
    object.__setattr__(other, "plan", other.plan.model_copy(update={"article": "something else"}))
    assert about([one, other]) is None
    (take.folder / "article.yaml").rename(take.folder / "kept.yaml")
    (take.folder / "article.yaml").write_text("name: [x\n")
    with pytest.raises(BadInput, match="article.yaml"):
        about([one])
    (take.folder / "kept.yaml").rename(take.folder / "article.yaml")
    paper = begin_paper(demo_lab, [take], "Horn")
    text = " ".join(p.extract_text() for p in PdfReader(io.BytesIO(compose(demo_lab, load_paper(paper)).pdf)).pages)
    assert "no. 0117" in text and "rated power: 40 W" in text and "from the second batch" in text and "0999" not in text


def test_what_a_rig_lacks_is_added(tmp_path: Path) -> None:
    place = tmp_path / "desk.rig.yaml"
    begin_rig(place, "Desk", Card(0, 48000.0, 1))
    rig = load_rig(place)
    roles, kinds = lacking("speed-orders", rig)
    assert roles == ["tach", "signal"] and suits("speed-orders", rig) is not None
    before = place.read_text()
    with pytest.raises(BadInput):
        add_inputs(place, [("tach", "voltage", "", None), ("tach", "voltage", "", None)])
    assert place.read_text() == before
    made = add_inputs(place, [("tach", "voltage", "", None), ("signal", "pressure", "50 mV/Pa", None)])
    assert suits("speed-orders", made) is None and [c.input for c in made.channels] == [1, 2, 3]
    assert made.channels[2].kind == "pressure" and made.channels[2].typed_sensitivity == pytest.approx(0.05)


def test_every_test_has_a_picture_in_its_box() -> None:
    for domain in registry.domains():
        for name in domain.methods:
            method = registry.get(name)
            if method.begun_as:
                continue
            assert method.sketch, name
            assert all(0 <= x <= 1 and 0 <= y <= 1 for line in method.sketch for x, y in line), name
            assert len(method.sketch[0]) > 5, name


def test_a_new_test_of_a_new_article_on_a_rig_that_lacks_an_input(window: Any, demo_lab: Any, tmp_path: Path) -> None:
    photo = tmp_path / "pump.png"
    picture = QImage(60, 40, QImage.Format.Format_RGB32)
    picture.fill(0x336699)
    picture.save(str(photo))
    window.go("Bench")
    bench = window.bench
    bench.new_test()
    sheet = QApplication.activeModalWidget()
    sheet.choose("speed-orders")
    sheet.ask_facts()
    assert "what is tested first" in sheet.wrong.text()
    sheet.fields.boxes["article"].setText("Deck pump")
    sheet.about.click()
    facts = QApplication.activeModalWidget()
    for key, text in (("maker", "Gullstone"), ("serial", "P-7")):
        facts.fields.boxes[key].setText(text)
    facts.fields.boxes["figures"].setPlainText("speed 3000")
    facts.done_with()
    assert "line 1" in facts.wrong.text()
    facts.fields.boxes["figures"].setPlainText("speed: 3000 rpm")
    facts.choose(photo)
    facts.done_with()
    assert sheet.about.text() == "Gullstone, no. P-7"
    # The shaker's rig has no tach: it gets one here, with a microphone beside it.
    at = next(i for i, (place, _, _) in enumerate(sheet.order) if place.name == "shaker.rig.yaml")
    sheet.fields.boxes["rig"].setCurrentIndex(at)
    assert not sheet.mend.isHidden()
    sheet.mend.click()
    more = QApplication.activeModalWidget()
    more.fields.boxes["signal.sensor"].setCurrentText("GM-03")
    more.fields.boxes["signal.sensitivity"].setText("50 mV/Pa")
    more.done_with()
    assert "stands in the ledger" in more.wrong.text()
    more.fields.boxes["signal.sensitivity"].setText("")
    more.done_with()
    assert sheet.order[sheet.fields.boxes["rig"].currentIndex()][0].name == "shaker.rig.yaml" and sheet.mend.isHidden()
    rig = load_rig(demo_lab.folder / "rigs" / "shaker.rig.yaml")
    assert rig.channel("signal").sensor == "GM-03" and rig.channel("signal").kind == "pressure"
    sheet.done_with()
    until(lambda: bench.plan_file is not None and bench.state == "walk-round")
    folder = bench.plan_file.parent.parent
    assert facts_in(folder) == Article(name="Deck pump", maker="Gullstone", serial="P-7", figures={"speed": "3000 rpm"})
    assert len(photos_in(photos_at(folder))) == 1
    assert load_yaml(bench.plan_file)["article"] == "Deck pump"
    bench.menus.article(folder, bench.plan_file)
    again = QApplication.activeModalWidget()
    again.fields.boxes["model"].setText("DP")
    again.done_with()
    assert facts_in(folder).model == "DP"


def test_an_article_of_another_job_is_known(qapp: Any, tmp_path: Path) -> None:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    keep_facts(lab.jobs / "0099" / "fog-horn", HORN)
    assert list(known(lab)) == ["Fog horn"]
