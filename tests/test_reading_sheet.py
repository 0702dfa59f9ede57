"""A stranger's record in the window: read by a method, kept as a take, read again, reported."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication
from tests.test_desktop import leave, until
from tests.test_own_work import Person
from tests.test_steps_methods import force_bench

from lucid_anvil.core.errors import BadInput
from lucid_anvil.desktop.lightbox.place import FOLDER
from lucid_anvil.desktop.lightbox.reading_sheet import ReadingSheet, likely
from lucid_anvil.desktop.parts.rows_sheet import RowsSheet
from lucid_anvil.desktop.shell.window import MainWindow
from lucid_anvil.engine.adopting import SOURCE, Adoption, adopt
from lucid_anvil.engine.evaluating import evaluate_take
from lucid_anvil.formats import read
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.hashes import wrong
from lucid_anvil.lab.rowtext import as_text, from_text
from lucid_anvil.lab.takes import from_file, list_takes


def coupon(place: Path, cut: bool = False) -> Path:
    """A pulled bar, as somebody's logger wrote it."""
    strain = np.linspace(0, 0.03, 1500)
    stress = np.interp(strain, [0, 0.0015, 0.03], [0, 300e6, 400e6])
    rows = [f"{i / 50:.2f};{s * 50.0 / 1e3:.5f};{e * 50:.6f}".replace(".", ",")
            for i, (s, e) in enumerate(zip(stress / 1e6, strain, strict=True))]  # fmt: skip
    place.write_text("time [s];load [kN];extensometer [mm]\n" + "\n".join(rows) + ("" if cut else "\n"))
    return place


def opened(lightbox: Any, file: Path) -> ReadingSheet:
    lightbox.open_file(file)
    lightbox.record.reread.emit()
    sheet = QApplication.activeModalWidget()
    assert isinstance(sheet, ReadingSheet)
    return sheet


def test_a_coupon_from_elsewhere_becomes_a_report(qtbot: Any, tmp_path: Path) -> None:
    file = coupon(tmp_path / "coupon 7.csv")
    before = file.read_bytes()
    k = Person(qtbot, tmp_path / "own", False)
    window = k.window
    k.did()
    window.go("Lightbox")
    lightbox = window.place("Lightbox")
    sheet = opened(lightbox, file)  # Open…, the file, Read…
    k.actions += 3
    k.click(sheet.rows["tension"])
    assert sheet.boxes["force"].currentText().startswith("1 · load")
    assert sheet.boxes["extension"].currentText().startswith("2 · ext")
    k.click(sheet.yes)
    until(lambda: not sheet.wrong.isHidden())
    assert "Article" in sheet.wrong.text()
    k.type(sheet.article, "Coupon 7")
    k.click(sheet.yes)
    until(lambda: "its size is missing" in sheet.wrong.text())
    assert not list_takes(window.lab.jobs)  # nothing is written of what can't be read
    for key, text in (
        ("specimen.width", "12.5 mm"),
        ("specimen.thickness", "4 mm"),
        ("specimen.gauge_length", "50 mm"),
    ):
        k.did()
        box = sheet.sheet.rows[key].box
        box.setText(text)
        box.editingFinished.emit()
    k.click(sheet.yes)
    until(lambda: sheet.take is not None and QApplication.activeModalWidget() is None)
    (take,) = list_takes(window.lab.jobs)
    assert (take.folder / SOURCE / file.name).read_bytes() == before == file.read_bytes()
    assert take.status() == "done" and wrong(take) is None
    finding = take.finding()
    assert finding is not None and finding.reading("modulus").value == pytest.approx(200, rel=2e-3)
    assert lightbox.list.currentItem().data(FOLDER) == take.folder and "stress" in str(
        lightbox.overlay.shown[0].finding.curves
    )
    # Reported, and read again with one more offset.
    k.click(lightbox.paper)
    until(lambda: window.tabs["Folio"].isChecked())
    view = window.place("Folio").view_of_cards
    until(lambda: view.made is not None)
    k.click(view.hand)
    k.did()
    QApplication.activeModalWidget().fields.boxes["by"].setText("K.B.")
    k.click(QApplication.activeModalWidget().yes)
    assert len(list((window.lab.folder / "papers").glob("*.pdf"))) == 1
    window.go("Lightbox")
    lightbox.tabs.choose("raw")
    lightbox.record.reread.emit()
    lightbox.again.sheet.changed.emit(lightbox.again.sheet.rows["proof"].setting, "[0.2 %, 1 %]")
    lightbox.again.go.click()
    until(lambda: "new" in lightbox.again.told.text())
    again = take.finding()
    assert len(take.finding_files()) == 2 and again is not None and again.reading("proof_1").value is not None
    assert k.actions <= 24, k.actions
    leave(window)


def test_rows_of_steps_are_pasted(qtbot: Any, tmp_path: Path) -> None:
    bench = force_bench()
    file = tmp_path / "cell.csv"
    t = np.arange(len(bench.unit)) / 10
    file.write_text("time [s],load [N],bridge [mV/V]\n" + "".join(
        f"{a:.1f},{b!r},{c!r}\n" for a, b, c in zip(t, bench.reference, bench.unit, strict=True)))  # fmt: skip
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", False)
    window = qtbot_window(qtbot)  # the sheet goes with it
    sheet = ReadingSheet(window, lab, file)
    sheet.choose("force-comparison")
    sheet.article.setText("Cell 4")
    row = sheet.sheet.rows["steps"]
    table = "Series\tNominal [N]\tDirection\tPosition\tStart\tStop\n" + "".join(
        f"{s['series']}\t{s['nominal']:g}\t{s['direction']}\t{s['position']}\t{s['start']}\t{s['stop']}\n"
        for s in bench.steps
    )
    rows = RowsSheet(sheet, row.setting, None)
    rows.fields.boxes["rows"].setPlainText(table)
    rows.done_with()
    row.changed.emit(row.setting, rows.text)
    take = adopt(lab, sheet.wanted())
    finding = take.finding()
    assert finding is not None and finding.reading("class").value == 0.5
    again = RowsSheet(sheet, row.setting, row.value)
    assert len(from_text(again.fields.values()["rows"], row.setting.columns)) == len(bench.steps)
    sheet.reject()


def qtbot_window(qtbot: Any) -> Any:
    from PyQt6.QtWidgets import QWidget

    made = QWidget()
    qtbot.addWidget(made)
    return made


def test_a_table_of_rows_says_what_is_wrong() -> None:
    columns = ("series", "nominal", "start")
    assert from_text("Nominal [kN];start\n1;0.5\n", columns) == [{"nominal": "1 kN", "start": 0.5}]
    assert from_text("", columns) == [] and as_text([{"start": 1}], columns).splitlines()[1].endswith("1")
    for text, why in (("nominl\n1", "did you mean 'nominal'"), ("series,start\n1,2,3", "line 2: 3 cells")):
        with pytest.raises(BadInput, match=why):
            from_text(text, columns)


def test_a_log_keeps_its_times_and_its_word(tmp_path: Path) -> None:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", False)
    place = tmp_path / "night.csv"
    rows = [f"{60 * i + i % 7},{5 - 1e-3 * (60 * i + i % 7) / 3600:.9f}" for i in range(200) if not 50 < i < 80]
    place.write_text("time [s],p [bar]\n" + "\n".join(rows))  # its last line does not end
    take = adopt(lab, Adoption(place, "pressure-hold", "Hose 3", {"pressure": "p"}))
    finding = take.finding()
    assert finding is not None and finding.reading("decay").value == pytest.approx(1e-3, rel=1e-4)
    assert any("does not end" in n for n in finding.notes)
    again = evaluate_take(take)
    assert again.reading("decay").value == finding.reading("decay").value
    assert any("does not end" in n for n in again.notes) and any("gap" in n for n in again.notes)
    with pytest.raises(BadInput, match="Article"):
        adopt(lab, Adoption(place, "pressure-hold", " ", {"pressure": "p"}))
    with pytest.raises(BadInput, match="uneven"):
        adopt(lab, Adoption(place, "microphone-level", "Hose 3", {"microphone": "p"}))
    assert len(list_takes(lab.jobs)) == 1 and not list(lab.jobs.rglob(".*.part"))


def test_the_channel_that_is_likely_meant_is_offered(tmp_path: Path) -> None:
    place = tmp_path / "a.csv"
    place.write_text("time [s],zwei [V],cell force [kN],T [°C],displacement [mm]\n0,1,2,3,4\n1,1,2,3,4\n2,1,2,3,4\n")
    record = read(place)
    assert likely("displacement", record, set()) == 3 and likely("force", record, set()) == 1
    assert likely("temperature", record, set()) == 2 and likely("extension", record, {3}) is None
    assert likely("voltage", record, set()) == 0


def test_both_ends_of_a_window_are_dragged_on_the_curve(qtbot: Any, tmp_path: Path) -> None:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", False)
    file = tmp_path / "hose.csv"
    t = np.arange(0, 14400, 60.0)
    p = np.interp(t, [0, 3600, 14400], [5.2, 5.0, 4.994])  # it settles for an hour, then leaks
    file.write_text("time [s],pressure [bar]\n" + "".join(f"{a:.0f},{b:.7f}\n" for a, b in zip(t, p, strict=True)))
    take = adopt(lab, Adoption(file, "pressure-hold", "Hose 2", {}, {}, "Hose 2"))
    other = adopt(lab, Adoption(coupon(tmp_path / "c.csv"), "tension", "Coupon", {"force": "load", "extension": "extensometer"}, {"specimen": {
        "width": "12.5 mm", "thickness": "4 mm", "gauge_length": "50 mm"}}, "Coupon"))  # fmt: skip
    window = MainWindow(lab)
    window.show()
    window.go("Lightbox")
    lightbox = window.place("Lightbox")
    for i in range(lightbox.list.count()):
        lightbox.list.item(i).setCheckState(Qt.CheckState.Checked)
    lightbox.overlay.choose("pressure")  # both are ticked; the window is of the one whose curve is shown
    low, high = lightbox.overlay.window_.lines
    assert (low.note.toPlainText(), high.note.toPlainText()) == ("from 0 s", "to 3.983 h")
    low.put(14000.0)  # past the other end: exchanged, and too narrow to be read
    high.put(13990.0)
    high.sigPositionChangeFinished.emit(high)
    until(lambda: "fewer than three" in lightbox.hint.text())
    assert len(take.finding_files()) == 1
    low.put(3600.0)
    high.put(14340.0)
    high.sigPositionChangeFinished.emit(high)
    until(lambda: lightbox.hint.text().startswith("Read again from 3600 s to 3.983 h"))
    first, second = (from_file(f) for f in take.finding_files())
    assert first.reading("decay").value > 0.02 and second.reading("decay").value == pytest.approx(0.002, rel=1e-3)
    assert len(other.finding_files()) == 1 and lightbox.overlay.shown[0].finding == second
    assert lightbox.overlay.window_.lines[0].get() == pytest.approx(3600)
    leave(window)
