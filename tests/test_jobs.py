"""Jobs of a lab: begun, opened, changed and closed, and the window that follows."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication
from tests.test_desktop import leave, until

from lucid_anvil.core.errors import BadInput
from lucid_anvil.desktop.parts import theme
from lucid_anvil.desktop.shell import window as window_module
from lucid_anvil.desktop.shell.window import MainWindow
from lucid_anvil.engine.newplan import new_plan
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.jobs import begin_job, change_job, close_job, customers, job_of, jobs, open_job
from lucid_anvil.lab.place import open_lab


def test_jobs_are_begun_opened_and_closed_and_plans_follow(tmp_path: Path) -> None:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    text = (lab.folder / "lab.yaml").read_text() + "# ours\n"
    (lab.folder / "lab.yaml").write_text(text)
    lab = begin_job(lab, {"job": "0413", "job_title": "Winches", "customer": "Skerry Marine", "customer_address": "Pier 2",
                          "order": "A-77", "fields": "ship: Skua\n\nberth: 4"})  # fmt: skip
    assert (lab.facts.job, lab.facts.customer) == ("0413", "Skerry Marine") and "# ours" in (
        lab.folder / "lab.yaml"
    ).read_text()
    assert job_of(lab, "0413").fields == {"ship": "Skua", "berth": "4"}
    plan = new_plan("random-vibration", lab.folder / "rigs" / "shaker.rig.yaml", "Winch", lab=lab)
    assert (plan["job"], plan["customer"]) == ("0413", "Skerry Marine")
    lab = begin_job(lab, {"job": "0414", "job_title": "Lamps", "customer": "Northlight"})
    assert [j.job for j in jobs(lab)] == ["0414", "0413"] and customers(lab) == [
        ("Northlight", ""),
        ("Skerry Marine", "Pier 2"),
    ]
    lab = change_job(lab, "0414", {"job": "x", "customer": "Northlight Ltd", "job_title": "Lamps"})
    assert lab.facts.customer == "Northlight Ltd" and job_of(lab, "0414").job == "0414"
    lab = close_job(lab)
    assert lab.facts.job == "" and [(j.job, j.closed) for j in jobs(lab)] == [("0413", False), ("0414", True)]
    assert open_job(lab, "0414").facts.job_title == "Lamps" and not job_of(lab, "0414").closed
    for typed, why in (({"job": "0413"}, "already"), ({"job": "../x"}, "folder"), ({"job": " "}, "needs"),
                       ({"job": "1", "fields": "ship Skua"}, "name: value")):  # fmt: skip
        with pytest.raises(BadInput, match=why):
            begin_job(lab, typed)
    with pytest.raises(BadInput, match="no job '9'"):
        open_job(lab, "9")
    assert not (lab.jobs / "1").exists()


def test_the_window_goes_over_to_another_job(qapp: Any, tmp_path: Path) -> None:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", False)
    begin_job(lab, {"job": "0413", "customer": "Skerry Marine", "customer_address": "Pier 2"})
    window = MainWindow(open_lab(lab.folder))
    window.show()
    places = window.tabs["Bench"].mapTo(window, window.tabs["Bench"].rect().topLeft()).x()
    window.where.new_job()
    sheet = QApplication.activeModalWidget()
    ink = sheet.fields.names["job"].palette().windowText().color().name().upper()
    assert ink == theme.palette().ink.upper()  # not the light one of the head that it was asked for in
    sheet.done_with()
    assert "needs a number" in sheet.wrong.text()
    QTest.keyClicks(sheet.fields.boxes["job"], "0414")
    QTest.keyClicks(sheet.fields.boxes["job_title"], "A job with a very long name that fits into no head of a window")
    sheet.fields.boxes["customer"].completer().activated[str].emit("Skerry Marine")
    assert sheet.fields.boxes["customer_address"].text() == "Pier 2"
    sheet.done_with()
    until(lambda: bool(window_module.OPENED))
    other = window_module.OPENED[0]
    assert other.lab.facts.job == "0414" and other.isVisible()
    QApplication.processEvents()
    assert other.tabs["Bench"].mapTo(other, other.tabs["Bench"].rect().topLeft()).x() == places
    other.where.busy = lambda: True
    other.where.job_facts()
    assert "going on" in other.strip.text() and open_lab(lab.folder).facts.job == "0414"
    window_module.OPENED.clear()
    leave(other)
