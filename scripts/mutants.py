"""Puts small faults into the modules that nothing may slip through, one at a time, and counts which the tests notice.

Runs on a copy of the tree; only tests that need no processes of their own are asked, each fault by those that touch its
function. A fault that survives is to be killed by a test or explained in docs/decisions.
"""

from __future__ import annotations

import argparse
import collections
import concurrent.futures
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

HERE = Path(__file__).resolve().parent.parent
PACKAGE = "src/lucid_anvil/"
SETS: dict[str, tuple[list[str], list[str]]] = {
    "verdict": (
        ["core/calibration/decision.py", "core/calibration/uncertainty.py", "core/quality/masks.py",
         "contracts/curvelimits.py", "contracts/limits.py"],
        ["test_uncertainty.py", "test_masks.py", "test_properties.py", "test_limits_of_curves.py"],
    ),
    "guards": (["engine/guards.py"], ["test_guards.py", "test_guards_edges.py", "test_keeper.py"]),
    "keeper": (["engine/keeper.py", "engine/ramp.py"], ["test_keeper.py", "test_guards.py", "test_ramp.py"]),
    "walk-round": (["engine/walkround.py"], ["test_walkround.py", "test_walkround_sensed.py"]),
    "ledger": (["lab/ledger.py"], ["test_lab.py", "test_ledger_changes.py", "test_nothing_claimed.py"]),
    "readers": (
        ["formats/csvfile.py", "formats/xlsxfile.py", "formats/files.py", "formats/whole.py"],
        ["test_formats.py", "test_formats_edges.py", "test_files_robust.py"]
        + [f"test_nothing_claimed.py::test_{name}" for name in (
            "a_file_cut_anywhere_is_refused_or_the_same[csv]",
            "a_file_cut_anywhere_is_refused_or_the_same[xlsx]", "time_axes_in_other_units_are_understood",
            "what_is_not_a_real_number_is_never_read_as_one", "csv_as_offices_write_it",
            "a_decimal_comma_that_comes_late", "two_channels_of_one_name", "units_of_a_pasted_table",
            "a_last_line_that_does_not_end_is_noted_in_the_finding",
        )],
    ),
    "profiles": (
        ["core/control/sineprofile.py", "core/control/randomprofile.py", "core/control/table.py",
         "core/control/corridor.py", "core/control/points.py", "lab/profiles.py"],
        ["test_profiles.py", "test_profile_laws.py", "test_profile_tables.py", "test_shaker_settings.py"],
    ),
    "headroom": (["core/control/headroom.py"], ["test_headroom.py", "test_profiles.py"]),
    "loops": (
        ["core/control/chain.py", "core/control/contact.py", "core/control/moving.py", "core/control/sineloop.py",
         "core/control/randomloop.py"],
        ["test_chain.py", "test_moving.py", "test_shaker_control.py", "test_loop_parts.py"],
    ),
}  # fmt: skip
SLOW = ["a_resonance_that_drifts", "stated_degrees_of_freedom", "mode_that_moved", "sharp_mode", "mode_that_drifts",
        "leave_no_bias", "very_sharp_mode", "several_control_points", "within_six_passes", "by_its_key",
        "read_again_by"]  # fmt: skip
"""tests of loops and windows that take ten seconds and more: too long for each of two thousand faults"""
CONFIG = """

[tool.mutmut]
source_paths = ["src/"]
only_mutate = {modules}
pytest_add_cli_args_test_selection = {tests}
pytest_add_cli_args = ["-p", "no:xdist", "-x", "-k", "{without}"]
also_copy = ["tests", "scripts"]
use_setproctitle = false
"""
WITHOUT = " and ".join(f"not {name}" for name in SLOW)
PATIENCE = 180
"""s that a fault may take in a process of its own"""
NOTICED = ("killed", "timeout", "segfault", "suspicious", "caught by type check")


def one(name: str, folder: Path, children: int, count: int | None) -> dict[str, collections.Counter[str]]:
    """Outcome of each fault of a set (or of `count` drawn at random), counted by module; what survived is left in
    `folder`/survivors.txt."""
    copy_of(name, folder)
    tool = [sys.executable, "-m", "mutmut"]
    keys = drawn_of(folder, count) if count else []
    with (folder / "log.txt").open("w") as log:
        ran = subprocess.run([*tool, "run", "--max-children", str(children), *keys], cwd=folder, stdout=log, stderr=log)
    said = subprocess.run([*tool, "results", "--all", "true"], cwd=folder, capture_output=True, text=True).stdout
    made: dict[str, collections.Counter[str]] = collections.defaultdict(collections.Counter)
    lines = [line.strip().rsplit(": ", 1) for line in said.splitlines() if ": " in line]
    lines = [line for line in lines if not keys or line[0] in set(keys)]
    if not lines:
        raise SystemExit(f"{name}: no fault was tried (exit {ran.returncode}); see {folder / 'log.txt'}")
    for key, outcome in lines:
        module = key.split(".x")[0].removeprefix("lucid_anvil.")
        made[module][outcome] += 1
    left = [key for key, outcome in lines if outcome not in NOTICED]
    (folder / "survivors.txt").write_text("\n".join(left) + "\n", encoding="utf-8")
    return made


def copy_of(name: str, folder: Path) -> None:
    """A copy of the tree in which a set's faults are put."""
    modules, tests = SETS[name]
    shutil.rmtree(folder, ignore_errors=True)  # what was found of an older tree is no answer
    shutil.copytree(
        HERE, folder, ignore=shutil.ignore_patterns(".git", ".venv", "docs", "*cache*", "mutants"), dirs_exist_ok=True
    )
    told = CONFIG.format(modules=[PACKAGE + m for m in modules], tests=[f"tests/{t}" for t in tests], without=WITHOUT)
    told = told.replace("'", '"')
    project = folder / "pyproject.toml"
    project.write_text(project.read_text(encoding="utf-8") + told, encoding="utf-8")


def drawn_of(folder: Path, count: int) -> list[str]:
    """`count` of a set's faults, drawn at random; they are made by asking for one that is not there."""
    subprocess.run([sys.executable, "-m", "mutmut", "run", "none.of.them"], cwd=folder, capture_output=True)
    keys = [k for meta in sorted((folder / "mutants").rglob("*.meta"))
            for k in json.loads(meta.read_text(encoding="utf-8"))["exit_code_by_key"]]  # fmt: skip
    return random.Random(1).sample(keys, min(count, len(keys)))


def apart(name: str, folder: Path, count: int, children: int) -> dict[str, collections.Counter[str]]:
    """As `one`, with each fault in a process of its own and `count` of them drawn at random: a library with threads of
    its own (the one that reads tables) does not live through the fork by which `one` tries them, and hangs."""
    tests = SETS[name][1]
    copy_of(name, folder)
    drawn = drawn_of(folder, count)
    environment = {**os.environ, "PYTHONPATH": "src", "PYTHONDONTWRITEBYTECODE": "1"}
    line = [sys.executable, "-m", "pytest", "-q", "-x", "-p", "no:xdist", "-p", "no:cacheprovider",
            "-k", WITHOUT, *(f"tests/{t}" for t in tests)]  # fmt: skip

    def outcome(key: str) -> str:
        try:
            ran = subprocess.run(line, cwd=folder / "mutants", env={**environment, "MUTANT_UNDER_TEST": key},
                                 capture_output=True, timeout=PATIENCE)  # fmt: skip
        except subprocess.TimeoutExpired:
            return "timeout"
        return {0: "survived", 1: "killed", 2: "killed"}.get(ran.returncode, "suspicious")

    if outcome("") != "survived":
        raise SystemExit(f"{name}: its tests fail without any fault; see {folder}")
    made: dict[str, collections.Counter[str]] = collections.defaultdict(collections.Counter)
    left = []
    with concurrent.futures.ThreadPoolExecutor(children) as pool:
        for key, said in zip(drawn, pool.map(outcome, drawn), strict=True):
            made[key.split(".x")[0].removeprefix("lucid_anvil.")][said] += 1
            if said not in NOTICED:
                left.append(key)
                (folder / "survivors.txt").write_text("\n".join(left) + "\n", encoding="utf-8")
    return made


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("sets", nargs="*", default=list(SETS), help=f"of {', '.join(SETS)}; all when none is named")
    parser.add_argument("--children", type=int, default=2)
    parser.add_argument("--apart", type=int, metavar="N", help="N faults of a set, each in a process of its own")
    parser.add_argument("--drawn", type=int, metavar="N", help="only N faults of a set, drawn at random")
    parser.add_argument("--keep", type=Path, help="folder for the copies and the lists of survivors")
    given = parser.parse_args()
    base = given.keep or Path(tempfile.mkdtemp(prefix="lucid-anvil-mutants-"))
    total: collections.Counter[str] = collections.Counter()
    print(f"{'module':44}{'faults':>8}{'noticed':>9}{'share':>8}", flush=True)
    for name in given.sets:
        how = apart(name, base / name, given.apart, given.children) if given.apart else one(
            name, base / name, given.children, given.drawn)  # fmt: skip
        for module, seen in how.items():
            total += seen
            row(module, seen)
    row("all", total)
    print(f"What survived: {base}/*/survivors.txt; 'mutmut show NAME' there shows one.")


def row(name: str, seen: collections.Counter[str]) -> None:
    noticed, faults = sum(seen[k] for k in NOTICED), sum(seen.values())
    print(f"{name:44}{faults:8d}{noticed:9d}{100 * noticed / max(faults, 1):7.0f} %", flush=True)


if __name__ == "__main__":
    main()
