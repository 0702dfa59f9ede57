"""Faults put in on purpose, in all shaker modes, files, instruments, doors, disks, ledgers and templates: each is met
as it must be, or told. Clean runs beside them are not cut."""

from __future__ import annotations

import argparse
import collections
import datetime
import os
import sys
import tempfile
from pathlib import Path

from faulty import frame, house, instruments, shaker, torn
from faulty.told import Job

from lucid_anvil.lab.demo import make_demo


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--faults", type=int, default=200, help="of the shaker's runs")
    parser.add_argument("--chains", type=int, default=60, help="control sensors that lose or gain 20 to 60 %%")
    parser.add_argument("--cables", type=int, default=24, help="control sensors whose cable opens now and then")
    parser.add_argument("--clean", type=int, default=50)
    parser.add_argument("--places", type=int, default=200, help="at which a file of each format is torn")
    parser.add_argument("--lies", type=int, default=3, help="times that each lie of an instrument is told")
    parser.add_argument("--house", type=int, default=4, help="times of each fault around a run")
    parser.add_argument("--frames", type=int, default=3, help="times of each fault of a load frame")
    parser.add_argument("--part", type=int, default=0)
    parser.add_argument("--parts", type=int, default=1)
    given = parser.parse_args()
    bad, seen = [], collections.Counter[str]()
    with tempfile.TemporaryDirectory() as work:
        folder = Path(work)
        os.environ["LUCID_ANVIL_RUNS"] = str(folder / "runs")
        (folder / "files").mkdir()
        lab = make_demo(folder / "lab", datetime.date.today())
        jobs: list[Job] = torn.jobs(folder / "files", given.places)
        jobs += instruments.jobs(given.lies)
        jobs += house.jobs(folder, given.house)
        jobs += frame.jobs(folder, given.frames)
        jobs += shaker.jobs(lab, given.faults, given.chains, given.cables, given.clean)
        mine = jobs[given.part :: given.parts]
        for name, job in mine:
            try:
                told = job()
                good, text = told.good, told.text
            except Exception as problem:
                good, text = False, f"{type(problem).__name__}: {problem}"
            first = name.split()[0].rstrip(":")
            sort = first if first in ("torn", "instrument", "template") else name.partition(":")[2].strip() or name
            seen[sort] += 1
            if not good:
                bad.append(name)
            if not good or sort != "torn":
                print(f"{'good' if good else 'BAD '} {name:44} {text}", flush=True)
    for sort, count in sorted(seen.items()):
        print(f"{count:6d} {sort}")
    print(f"{len(mine) - len(bad)} of {len(mine)} good")
    sys.exit(1 if bad else 0)


if __name__ == "__main__":
    main()
