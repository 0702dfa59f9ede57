"""Papers of cards: begun, changed, handed over once, revised, resting on what was found wrong later."""

from __future__ import annotations

import datetime
import io
import json
import multiprocessing
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from openpyxl import load_workbook
from PIL import Image
from pypdf import PdfReader, PdfWriter
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QFileDialog
from tests.test_desktop import leave, until

from lucid_anvil.core.errors import BadInput
from lucid_anvil.desktop.folio.paper_sheets import ends, marks_of
from lucid_anvil.desktop.shell.window import MainWindow
from lucid_anvil.engine.adopting import Adoption, adopt
from lucid_anvil.folio.chain import found_wrong, known_sensors
from lucid_anvil.folio.handing import again, begin_paper, hand_over, may_sign, revise, troubles
from lucid_anvil.folio.keeping import begin_report
from lucid_anvil.folio.lists import MONTH, VERDICTS, month_rows, verdict_rows, write_list
from lucid_anvil.folio.papers import compose
from lucid_anvil.folio.words import languages, words
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.ledger import Calibration
from lucid_anvil.lab.papers import (
    Card,
    Mark,
    Paper,
    in_lab,
    keep_beside,
    list_papers,
    load_paper,
    next_number,
    papers,
    save_paper,
)
from lucid_anvil.lab.photos import article_of
from lucid_anvil.lab.place import Lab, open_lab
from lucid_anvil.lab.takes import Take


def hold(lab: Lab, name: str, leak: float, high: float = 0.02) -> Take:
    """A hull's pressure over four hours, read: bar, leaking `leak` bar/h, allowed `high`."""
    file = lab.folder / f"{name}.csv"
    t = np.arange(0, 14400, 60.0)
    file.write_text("time [s],pressure [bar]\n" + "".join(f"{a:.0f},{5 - leak * a / 3600:.7f}\n" for a in t))
    return adopt(lab, Adoption(file, "pressure-hold", name, {}, {"limits": {"decay": {"high": f"{high} bar/h"}}}, name))


@pytest.fixture
def lab(tmp_path: Path) -> Lab:
    made = begin_lab(tmp_path / "lab", "Gullstone Test House", ["Harbour Road 7"], "K.B.", False)
    place = made.folder / "lab.yaml"
    place.write_text(place.read_text(encoding="utf-8") + "may_sign: [M.O., A.F.]\n", encoding="utf-8")
    return open_lab(made.folder)


@pytest.fixture
def take(lab: Lab) -> Take:
    return hold(lab, "Hull 2", 0.006)


def text_of(pdf: bytes | Path) -> list[str]:
    """The words of each page."""
    held = PdfReader(io.BytesIO(pdf) if isinstance(pdf, bytes) else str(pdf))
    return [" ".join(p.extract_text().split()) for p in held.pages]


def changed(place: Path, **changes: Any) -> Paper:
    made = load_paper(place).model_copy(update=changes)
    save_paper(place, made)
    return load_paper(place)


def other_pdf(place: Path, pages: int, rotated: bool = False) -> Path:
    writer = PdfWriter()
    for _ in range(pages):
        page = writer.add_blank_page(400, 700)
        if rotated:
            page.rotate(90)
    writer.write(place)
    return place


def test_a_takes_cards_make_a_paper_that_says_its_verdict_first(lab: Lab, take: Take) -> None:
    place = begin_paper(lab, [take])
    paper = load_paper(place)
    assert [c.kind for c in paper.cards][:2] == ["cover", "readings"] and paper.title == "Hull 2"
    made = compose(lab, paper)
    pages = text_of(made.pdf)
    assert len(pages) == made.pages and "Inside the tolerance" in pages[0] and "draft" in pages[0]
    # Whatever is left out or put first, the first page says what came of it.
    for cards in (paper.cards[2:], [c.model_copy(update={"out": c.kind != "conditions"}) for c in paper.cards]):
        pages = text_of(compose(lab, paper.model_copy(update={"cards": cards})).pdf)
        assert "Inside the tolerance" in pages[0] and f"page 1 of {len(pages)}" in pages[0]
    with pytest.raises(BadInput, match="all of its cards"):
        compose(lab, paper.model_copy(update={"cards": [c.model_copy(update={"out": True}) for c in paper.cards]}))


def test_what_is_outside_or_not_whole_is_said_on_page_one(lab: Lab, take: Take) -> None:
    bad = hold(lab, "Hull 3", 0.05)
    place = begin_paper(lab, [take, bad])
    paper = load_paper(place)
    assert [c.kind for c in paper.cards][1:3] == ["summary", "series"]
    only_good = [c for c in paper.cards if c.take != paper.takes[1] and c.kind not in ("summary", "series")]
    first = text_of(compose(lab, paper.model_copy(update={"cards": only_good})).pdf)[0]
    assert "Outside the tolerance" in first and "Hull 3" in first  # its cards are gone, its verdict is not
    with (bad.folder / "events.jsonl").open("a", encoding="utf-8") as file:
        file.write(json.dumps({"kind": "doubtful", "why": "the gauge was dropped"}) + "\n")
    assert "the gauge was dropped" in text_of(compose(lab, paper).pdf)[0]
    raw = take.folder / "raw.h5"
    raw.write_bytes(raw.read_bytes() + b"!")
    first = text_of(compose(lab, paper).pdf)[0]
    assert "Not complete" in first and "hash differs" in first and "Inside" not in first


def test_the_same_paper_is_the_same_bytes_and_holds_its_sources(lab: Lab, take: Take) -> None:
    paper = load_paper(begin_paper(lab, [take]))
    made = compose(lab, paper)
    assert made.pdf == compose(lab, paper).pdf
    held = PdfReader(io.BytesIO(made.pdf))
    assert "pdfaid:part" in held.trailer["/Root"]["/Metadata"].get_object().get_data().decode()
    note = json.loads(held.attachments["sources.json"][0])
    assert note["sources"] == made.sources
    raw = next(v for k, v in made.sources.items() if k.endswith("raw.h5"))
    assert raw == next(e["sha256"] for e in reversed(take.events()) if "sha256" in e)
    assert any("/findings/" in k for k in made.sources) and note["paper"]["title"] == "Hull 2"


@pytest.mark.parametrize(("size", "turned", "points"), [("A4", False, (595, 842)), ("A5", True, (595, 420)),
                                                        ("letter", False, (612, 792))])  # fmt: skip
def test_sizes_of_paper(lab: Lab, take: Take, size: Any, turned: bool, points: tuple[int, int]) -> None:
    paper = load_paper(begin_paper(lab, [take])).model_copy(update={"size": size, "turned": turned})
    page = PdfReader(io.BytesIO(compose(lab, paper).pdf)).pages[0].mediabox
    assert (round(float(page.width)), round(float(page.height))) == points


def test_attached_pages_stand_among_the_others(lab: Lab, take: Take, tmp_path: Path) -> None:
    place = begin_paper(lab, [take])
    paper = load_paper(place)
    weld = keep_beside(lab, other_pdf(tmp_path / "weld-map.pdf", 3), "attached")
    turned = keep_beside(lab, other_pdf(tmp_path / "turned.pdf", 2, rotated=True), "attached")
    assert keep_beside(lab, tmp_path / "weld-map.pdf", "attached") == weld  # the same one is not kept twice
    cards = [paper.cards[0], Card(kind="attached", file=weld), *paper.cards[1:], Card(kind="attached", file=turned)]
    made = compose(lab, paper.model_copy(update={"cards": cards}))
    pages = text_of(made.pdf)
    assert made.first[1] == 1 and made.first[2] == 4 and "weld-map.pdf, page 1 of 3" in pages[1]
    assert "turned.pdf, page 2 of 2" in pages[-1] and f"page {len(pages)} of {len(pages)}" in pages[-1]
    assert made.pdf == compose(lab, paper.model_copy(update={"cards": cards})).pdf
    # What others put into theirs can't be vouched for: such a paper does not call itself PDF/A.
    assert "pdfaid" not in str(PdfReader(io.BytesIO(made.pdf)).xmp_metadata)
    for content, word in ((b"%PDF-1.4 nonsense", "no PDF"), (b"", "no PDF")):
        torn = tmp_path / "torn.pdf"
        torn.write_bytes(content)
        with pytest.raises(BadInput, match=word):
            compose(lab, paper.model_copy(update={"cards": [Card(kind="attached", file=str(torn))]}))
    locked = PdfWriter()
    locked.add_blank_page(100, 100)
    locked.encrypt("secret")
    locked.write(tmp_path / "locked.pdf")
    with pytest.raises(BadInput, match="password"):
        compose(lab, paper.model_copy(update={"cards": [Card(kind="attached", file=str(tmp_path / "locked.pdf"))]}))


def test_photos_texts_notes_and_the_raw_record(lab: Lab, take: Take, tmp_path: Path) -> None:
    paper = load_paper(begin_paper(lab, [take]))
    shot = tmp_path / "hull.jpg"
    Image.new("RGB", (4000, 3000), (90, 120, 140)).save(shot)
    curve = next(c for c in paper.cards if c.kind == "curves")
    raw = next(c for c in paper.cards if c.kind == "raw")
    cards = [
        paper.cards[0],
        Card(kind="photo", file=str(shot), title="The hull", text="Valve 3 is the left one."),
        Card(kind="text", title="Remark", text="<b>Rain</b> & wind"),
        curve.model_copy(update={"marks": [Mark(at=7200.0, text="rain"), Mark(at=60.0, text="valve shut")],
                                 "y": (4.9, 5.1)}),  # fmt: skip
        raw.model_copy(update={"out": False, "every": 3600.0}),
    ]
    paper = Paper.model_validate({**paper.model_dump(by_alias=True), "cards": [c.model_dump() for c in cards]})
    made = compose(lab, paper)
    words_of = " ".join(text_of(made.pdf))
    assert "Valve 3 is the left one." in words_of and "<b>Rain</b> & wind" in words_of
    assert words_of.index("valve shut") < words_of.index("rain")  # numbered along the axis
    assert "7200 4.988" in words_of and "every 3600 s" in words_of
    assert len(made.pdf) < 2_000_000
    shot.write_bytes(b"no photo")
    with pytest.raises(BadInput, match="photo can't be read"):
        compose(lab, paper)
    with pytest.raises(BadInput, match="no plot 'nonsense'"):
        compose(lab, paper.model_copy(update={"cards": [curve.model_copy(update={"view": "nonsense"})]}))
    with pytest.raises(BadInput, match="names no take"):
        compose(lab, paper.model_copy(update={"cards": [curve.model_copy(update={"take": "jobs/elsewhere"})]}))


def test_other_languages_are_a_table_that_a_lab_may_change(lab: Lab, take: Take) -> None:
    assert languages(lab) == ["en", "de"]
    paper = load_paper(begin_paper(lab, [take])).model_copy(update={"language": "de"})
    pages = text_of(compose(lab, paper).pdf)
    assert "Prüfbericht" in pages[0] and "Innerhalb der Toleranz" in pages[0] and "Seite 1 von" in pages[0]
    own = lab.folder / "templates"
    own.mkdir(exist_ok=True)
    (own / "words.de.yaml").write_text("Test report: Messbericht\n", encoding="utf-8")
    (own / "words.fi.yaml").write_text("Test report: Testiraportti\n", encoding="utf-8")
    assert "Messbericht" in text_of(compose(lab, paper).pdf)[0] and languages(lab) == ["en", "de", "fi"]
    assert words("fi", lab)("Test report") == "Testiraportti" and words("fi", lab)("Job") == "Job"
    with pytest.raises(BadInput, match="no words in 'xx'"):
        words("xx", lab)
    (own / "words.fi.yaml").write_text("- Test report\n", encoding="utf-8")
    with pytest.raises(BadInput, match="table of words"):
        words("fi", lab)


def test_every_phrase_of_the_template_is_in_the_other_language() -> None:
    import re

    from lucid_anvil.folio.certificate import RULES, VERDICT_WORDS
    from lucid_anvil.folio.testreport import INCOMPLETE
    from lucid_anvil.lab.papers import KINDS

    template = (Path(__file__).parents[1] / "src/lucid_anvil/folio/templates/paper.html").read_text(encoding="utf-8")
    phrases = {a or b for a, b in re.findall(r"""_\((?:"([^"]+)"|'([^']+)')\)""", template)}
    phrases |= {*KINDS.values(), *VERDICT_WORDS.values(), *RULES.values(), *INCOMPLETE.values()}
    german = words("de", None)
    assert len(phrases) > 60
    assert [p for p in phrases if german(p) == p and p not in ("Name", "Revision", "Text")] == []


def test_handed_over_once_signed_by_who_may_and_never_written_over(lab: Lab, take: Take) -> None:
    place = begin_paper(lab, [take])
    assert may_sign(lab) == ["M.O.", "A.F."]
    for who, word in (("", "who signs"), ("K.B.", "may not sign")):
        with pytest.raises(BadInput, match=word):
            hand_over(lab, place, who)
    year = datetime.date.today().year
    first = hand_over(lab, place, "M.O.")
    assert first.number == f"GTH-R-{year}-0001" and first.revision == 0
    file = in_lab(lab, first.file)
    before = file.read_bytes()
    assert first.number in text_of(before)[0] and "M.O." in text_of(before)[0]
    with pytest.raises(BadInput, match="revise it"):
        hand_over(lab, place, "M.O.")
    assert again(lab, load_paper(place)).pdf == before and troubles(lab, load_paper(place)) == []
    with pytest.raises(BadInput, match="why it is revised"):
        revise(place, " ")
    revise(place, "customer's name was wrong")
    second = hand_over(lab, place, "A.F.")
    assert (second.number, second.revision) == (first.number, 1) and file.read_bytes() == before
    page = text_of(in_lab(lab, second.file))[0]
    assert "Revision 1" in page and f"replaces {first.number}" in page and "customer's name was wrong" in page
    assert again(lab, load_paper(place)).pdf == in_lab(lab, second.file).read_bytes()
    assert next_number(lab, year) == f"GTH-R-{year}-0002"
    file = in_lab(lab, second.file)
    file.write_bytes(file.read_bytes() + b"\n")
    assert "not the one that was handed over" in troubles(lab, load_paper(place))[0]
    file.unlink()
    assert "gone" in troubles(lab, load_paper(place))[0]


def _hand(folder: str, place: str) -> str:
    return hand_over(open_lab(Path(folder)), Path(place), "M.O.").number


def test_two_benches_hand_over_at_once_and_no_number_stands_twice(lab: Lab, take: Take) -> None:
    places = [begin_paper(lab, [take], f"Paper {i}") for i in range(4)]
    with multiprocessing.get_context("spawn").Pool(2) as pool:
        numbers = pool.starmap(_hand, [(str(lab.folder), str(p)) for p in places])
    assert len(set(numbers)) == 4 and len(list(papers(lab).glob("*.pdf"))) == 4
    for place in places:
        paper = load_paper(place)
        assert paper.issues[0].number in text_of(in_lab(lab, paper.issues[0].file))[0]


def sensed(take: Take, serial: str, sensitivity: float, certificate: str) -> Take:
    """The same take, as if measured with a sensor of the ledger."""
    place = take.folder / "plan.yaml"
    record = {"serial": serial, "sensitivity": sensitivity, "unit": "mV/(m/s²)", "certificate": certificate}
    from lucid_anvil.lab.textfiles import dump_yaml, load_yaml

    place.write_text(dump_yaml({**load_yaml(place), "sensors": {"pressure": record}}), encoding="utf-8")
    return take


@pytest.mark.parametrize(("found", "as_state", "said"), [(10.3, "as found", True), (10.02, "as found", False),
                                                         (10.3, "as left", False), (9.7, "as found", True)])  # fmt: skip
def test_a_sensor_found_off_later_is_told_by_every_paper_that_rests_on_it(
    demo_lab: Lab, found: float, as_state: str, said: bool
) -> None:
    ledger = demo_lab.ledger()
    used = ledger.entry("GA-21").last
    assert used is not None
    take = sensed(hold(demo_lab, "Hull 2", 0.006), "GA-21", 10.0, used.certificate)
    place = begin_paper(demo_lab, [take])
    issue = hand_over(demo_lab, place, may_sign(demo_lab)[0])
    assert troubles(demo_lab, load_paper(place)) == []
    later = datetime.date.today() + datetime.timedelta(days=30)
    ledger.append("GA-21", Calibration(later, found, as_state=as_state, uncertainty=0.5, certificate="X-1"))
    ledger.close()
    wrong = found_wrong(take, known_sensors(demo_lab))
    assert bool(wrong) is said and bool(troubles(demo_lab, load_paper(place))) is said
    first = text_of(compose(demo_lab, load_paper(place), issue).pdf)[0]
    assert ("found" in first and "GA-21" in first) is said
    if said:
        assert f"{'+' if found > 10 else '−'}3 % off" in wrong[0] and "X-1" in wrong[0]


def test_one_list_for_many(lab: Lab, take: Take, tmp_path: Path) -> None:
    place = begin_paper(lab, [take, hold(lab, "=Hull 3", 0.05)])
    issue = hand_over(lab, place, "M.O.", datetime.date(2026, 11, 30))
    rows = month_rows(lab, 2026, 11)
    assert [r[2] for r in rows] == [issue.number] and month_rows(lab, 2026, 12) == []
    write_list(MONTH, rows, tmp_path / "m.csv")
    assert issue.number in (tmp_path / "m.csv").read_text(encoding="utf-8")
    verdicts = verdict_rows(lab, place)
    assert {"inside", "outside"} <= {r[9] for r in verdicts}
    write_list(VERDICTS, verdicts, tmp_path / "v.xlsx")
    cells = list(load_workbook(tmp_path / "v.xlsx").active.values)
    assert len(cells) == 1 + len(verdicts) and any(str(c).startswith("'=Hull 3") for row in cells for c in row)
    for bad, word in ((tmp_path / "v.xlsx", "exists"), (tmp_path / "v.txt", "xlsx or .csv")):
        with pytest.raises(BadInput, match=word):
            write_list(VERDICTS, verdicts, bad)
    with pytest.raises(BadInput, match="month"):
        month_rows(lab, 2026, 13)


def test_report_opens_the_draft_that_is_there(lab: Lab, take: Take) -> None:
    place = begin_report(lab, take)
    assert begin_report(lab, take) == place and list_papers(lab) == [place]
    hand_over(lab, place, "M.O.")
    assert begin_report(lab, take) != place
    place.write_text("title: [", encoding="utf-8")
    assert begin_report(lab, take).exists()  # one that can't be read is in nobody's way


def test_photos_of_an_article_and_of_a_take_come_onto_its_paper(qtbot: Any, lab: Lab, take: Take, tmp_path: Path,
                                                                monkeypatch: Any) -> None:  # fmt: skip
    shot = tmp_path / "hull.png"
    Image.new("RGB", (40, 30)).save(shot)
    window = MainWindow(lab)
    window.show()
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(shot), ""))
    plan = next(take.folder.parent.glob("*.plan.yaml"), take.folder.parent / "hull.plan.yaml")
    for menu, place in ((window.bench.menus.plan, plan), (window.bench.menus.take, take.folder)):
        menu(place, QPoint())
        act = next(a for a in window.bench.menus.menu.actions() if a.text().startswith("A photo of the"))
        act.trigger()
        menu(place, QPoint())
        assert any("photos (1)" in a.text() for a in window.bench.menus.menu.actions())
        window.bench.menus.menu.close()
    article = take.folder.parent.parent
    assert (article / "photos" / "001.png").exists() and (take.folder / "photos" / "001.png").exists()
    cards = [c for c in load_paper(begin_paper(lab, [take])).cards if c.kind == "photo"]
    assert [c.file for c in cards] == [f"jobs/bench/{article.name}/photos/001.png",
                                       f"{load_paper(list_papers(lab)[0]).takes[0]}/photos/001.png"]  # fmt: skip
    assert article_of(lab, lab.jobs / "0412" / "comparison-ga-11") is None and article_of(lab, tmp_path) is None
    leave(window)


def test_a_paper_of_all_takes_of_a_plan(qtbot: Any, lab: Lab, take: Take) -> None:
    import shutil

    second = take.folder.parent / "take-002"
    shutil.copytree(take.folder, second)
    plan = take.folder.parent / "hold.plan.yaml"
    shutil.copyfile(take.folder / "plan.yaml", plan)
    window = MainWindow(lab)
    window.show()
    window.bench.menus.paper_of(plan)
    until(lambda: window.tabs["Folio"].isChecked())
    (place,) = list_papers(lab)
    assert [Path(t).name for t in load_paper(place).takes] == ["take-001", "take-002"]
    window.bench.menus.paper_of(lab.folder / "rigs" / "none.plan.yaml")
    assert "nothing to report" in window.strip.text()
    until(lambda: window.place("Folio").view_of_cards.aside.open == 0)
    leave(window)


def test_what_is_typed_on_cards() -> None:
    assert ends("0 to 5", "Along") == [0, 5] and ends(" ", "Along") is None and ends("−3; 4", "Up") == [-3, 4]
    for text in ("5", "5 to 1", "a to b"):
        with pytest.raises(BadInput, match="Along"):
            ends(text, "Along")
    assert marks_of("12.5: valve 3: shut\n\n−1: x") == [{"at": 12.5, "text": "valve 3: shut"}, {"at": -1, "text": "x"}]
    for text in ("rain", "12:", "x: rain"):
        with pytest.raises(BadInput, match="a note is wanted"):
            marks_of(text)


def test_cards_are_taken_hold_of_in_the_window(qtbot: Any, lab: Lab, take: Take, tmp_path: Path, monkeypatch: Any) -> None:
    window = MainWindow(lab)
    window.show()
    window.go("Folio")
    folio = window.place("Folio")
    assert "New…" in folio.empty.text()
    folio.ask_new()
    sheet = QApplication.activeModalWidget()
    sheet.done_with()
    assert "one take" in sheet.wrong.text()
    item = sheet.list.item(0)
    QTest.mouseClick(sheet.list.viewport(), Qt.MouseButton.LeftButton,
                     pos=sheet.list.visualItemRect(item).center())  # fmt: skip
    sheet.done_with()
    view, cards = folio.view_of_cards, folio.view_of_cards.cards
    until(lambda: view.made is not None)
    (place,) = list_papers(lab)
    kinds = [c.kind for c in load_paper(place).cards]
    # The corner leaves out, Ctrl+Z puts back.
    QTest.mouseClick(cards, Qt.MouseButton.LeftButton, pos=cards.corner(1).center().toPoint())
    assert load_paper(place).cards[1].out
    view.undo()
    assert not load_paper(place).cards[1].out
    # Dragged before the first; by keys back again.
    a, b = cards.box(2).center().toPoint(), cards.box(0).center().toPoint() - QPoint(6, 0)
    QTest.mousePress(cards, Qt.MouseButton.LeftButton, pos=a)
    QTest.mouseMove(cards, b)
    QTest.mouseRelease(cards, Qt.MouseButton.LeftButton, pos=b)
    assert [c.kind for c in load_paper(place).cards] == [kinds[2], kinds[0], kinds[1], *kinds[3:]]
    QTest.keyClick(cards, Qt.Key.Key_Right, Qt.KeyboardModifier.AltModifier)
    QTest.keyClick(cards, Qt.Key.Key_Right, Qt.KeyboardModifier.AltModifier)
    assert [c.kind for c in load_paper(place).cards] == kinds
    # A text after the card in hand, then off again.
    QTest.keyClick(cards, Qt.Key.Key_Plus)
    sheet = QApplication.activeModalWidget()
    sheet.fields.boxes["what"].setCurrentText("a text")
    sheet.done_with()
    assert "Type the text" in sheet.wrong.text()
    sheet.fields.boxes["text"].setPlainText("Made in room 3.")
    sheet.done_with()
    assert load_paper(place).cards[3].text == "Made in room 3."
    QTest.keyClick(cards, Qt.Key.Key_Delete)
    assert [c.kind for c in load_paper(place).cards] == kinds
    # What a curve shows.
    at = kinds.index("curves")
    view.edit(at)
    sheet = QApplication.activeModalWidget()
    sheet.fields.boxes["y"].setText("5 to 4")
    sheet.done_with()
    assert "Up" in sheet.wrong.text()
    sheet.fields.boxes["y"].setText("4 to 6")
    sheet.fields.boxes["marks"].setPlainText("3600: rain")
    sheet.done_with()
    held = load_paper(place).cards[at]
    assert held.y == (4, 6) and held.marks[0].text == "rain"
    QTest.mouseClick(view.format.buttons["A5"], Qt.MouseButton.LeftButton)
    assert load_paper(place).size == "A5"
    # An editor's change is taken up.
    place.write_text(place.read_text(encoding="utf-8").replace("title: Hull 2", "title: Hull two"), encoding="utf-8")
    until(lambda: view.name.text() == "Hull two")
    # Handed over: the cards stay as they are.
    until(lambda: view.aside.open == 0 and not view.soon.isActive())
    view.ask_hand()
    sheet = QApplication.activeModalWidget()
    sheet.fields.boxes["by"].setCurrentText("A.F.")
    sheet.done_with()
    until(lambda: "signed by A.F" in view.foot.text() and view.aside.open == 0)
    issue = load_paper(place).issues[0]
    view.leave_out(1)
    assert not load_paper(place).cards[1].out and "Revise" in window.strip.text()
    assert issue.number in folio.list.currentItem().data(256).below
    kept = tmp_path / "copy.pdf"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(kept), ""))
    view.save.click()
    assert kept.read_bytes() == in_lab(lab, issue.file).read_bytes()
    view.ask_revise()
    sheet = QApplication.activeModalWidget()
    sheet.fields.boxes["why"].setText("a typing mistake")
    sheet.done_with()
    assert load_paper(place).open and "a typing mistake" in view.foot.text()
    folio.sought.setText("hull nobody")
    assert all(folio.list.item(i).isHidden() for i in range(folio.list.count()))
    folio.sought.setText("two hull")
    assert not folio.list.currentItem().isHidden()
    leave(window)


def test_many_papers_are_listed_at_once_and_told_of_when_they_are_read(qtbot: Any, lab: Lab, take: Take) -> None:
    import shutil

    takes = [take]
    for i in range(2, 9):
        other = take.folder.parent / f"take-{i:03d}"
        shutil.copytree(take.folder, other)
        takes.append(Take(other))
    with (takes[3].folder / "events.jsonl").open("a", encoding="utf-8") as file:
        file.write(json.dumps({"kind": "doubtful", "why": "the gauge was dropped"}) + "\n")
    for one in takes:
        begin_paper(lab, [one], f"Paper {one.name}")
    (takes[5].folder / "plan.yaml").write_text("title: [", encoding="utf-8")  # one that can't be read any more
    window = MainWindow(lab)
    window.show()
    window.go("Folio")
    folio = window.place("Folio")

    def rows() -> list[Any]:
        return [e for i in range(folio.list.count()) if (e := folio.list.item(i).data(256)).place is not None]

    assert len(rows()) == 8 and {e.verdict for e in rows()} == {"none"}  # there at once, told of a little later
    until(lambda: {e.verdict for e in rows()} == {"inside", "none"})
    assert [e.title for e in rows() if e.verdict == "none"] == ["Paper take-006"]
    assert "takes not read: 1" in folio.rests.text()  # what was not looked at is not called sound
    assert [e.title for e in rows() if e.wrong] == ["Paper take-004"] and "later: 1" in folio.rests.text()
    with (takes[0].folder / "events.jsonl").open("a", encoding="utf-8") as file:
        file.write(json.dumps({"kind": "doubtful", "why": "it was the other hull"}) + "\n")
    folio.reload()
    assert sorted(e.title for e in rows() if e.wrong) == ["Paper take-001", "Paper take-004"]
    until(lambda: folio.view_of_cards.aside.open == 0 and folio.aside.open == 0)
    leave(window)


def test_papers_at_the_command_line(lab: Lab, take: Take, tmp_path: Path) -> None:
    from typer.testing import CliRunner

    from lucid_anvil.cli import app

    def run(*words: str) -> Any:
        return CliRunner().invoke(app, ["paper", *words], standalone_mode=False)

    assert run("new", str(take.folder), "--title", "Two hulls").return_value == 0
    (place,) = list_papers(lab)
    assert run("print", str(place), "--pdf", str(tmp_path / "draft.pdf")).return_value == 0
    assert "draft" in text_of(tmp_path / "draft.pdf")[0]
    assert run("hand-over", str(place), "--by", "M.O.").return_value == 0
    with (take.folder / "events.jsonl").open("a", encoding="utf-8") as file:  # a mail that went out later
        file.write(json.dumps({"kind": "after", "mailed": ["q@own.example"]}) + "\n")
    assert run("check", str(place)).return_value == 0
    assert run("list", str(tmp_path / "v.csv"), "--paper", str(place)).return_value == 0
    assert run("revise", str(place), "--reason", "a slip").return_value == 0
    assert isinstance(run("check", str(place)).exception, BadInput)
    assert isinstance(run("new", str(tmp_path)).exception, BadInput)
    run("hand-over", str(place), "--by", "M.O.")
    (take.folder / "plan.yaml").write_text((take.folder / "plan.yaml").read_text().replace("Hull 2", "Hull 9"))
    assert run("check", str(place)).return_value == 1  # its plan is another one now


def test_methods_and_their_readings_have_names_in_the_other_language() -> None:
    from lucid_anvil.contracts import registry

    german, same = words("de", None), {"Interpolation", "Intermodulation"}
    methods = {n: registry.get(n) for d in registry.domains() if d.name in ("frame", "steps") for n in d.methods}
    titles = {registry.get(n).title for n in registry.names()} - same
    assert [t for t in titles if german(t) == t] == []
    labels = {v.partition(" [")[0] for m in methods.values() for v in m.readings.values()}
    assert [x for x in labels if german(x) == x and x not in same] == []
    assert german("Proof strength 0.2 %") == "Dehngrenze 0.2 %"
    assert german("Strength of 3 things") == "Strength of 3 things"
