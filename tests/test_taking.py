"""A take's folder before a run and after it."""

from __future__ import annotations

from pathlib import Path

from lucid_anvil.engine.taking import unmake_take


def test_a_run_that_never_began_leaves_nothing(tmp_path: Path) -> None:
    folder = tmp_path / "take-001"
    folder.mkdir()
    (folder / "guards.jsonl").write_text("{}\n", encoding="utf-8")
    unmake_take(folder)
    assert not folder.exists()
    unmake_take(folder)  # twice is no harm


def test_what_a_person_put_into_the_folder_stays(tmp_path: Path) -> None:
    folder = tmp_path / "take-001"
    folder.mkdir()
    (folder / "note.txt").write_text("torque 6 N·m", encoding="utf-8")
    unmake_take(folder)
    assert (folder / "note.txt").read_text(encoding="utf-8") == "torque 6 N·m"
