"""The ledger on a PostgreSQL server of its own, started here: many benches, nothing doubled, nothing lost."""

from __future__ import annotations

import datetime
import importlib.util
import multiprocessing
import os
import pwd
import shutil
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy as sa

from lucid_anvil.core.errors import BadInput
from lucid_anvil.lab.ledger import Calibration, Ledger, Sensor
from lucid_anvil.lab.moving import move_ledger
from lucid_anvil.lab.place import Lab, open_lab

DAY = datetime.date(2026, 11, 30)
THERE = all(shutil.which(p) for p in ("initdb", "pg_ctl", "postgres")) and bool(importlib.util.find_spec("psycopg"))
pytestmark = pytest.mark.skipif(not THERE, reason="no PostgreSQL server here: apt-get install postgresql")


class Server:
    """A server in a folder of its own, on a port of its own, as a user that is not root."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.user = "postgres" if os.getuid() == 0 else pwd.getpwuid(os.getuid()).pw_name
        if os.getuid() == 0:
            shutil.chown(folder, self.user)
        with socket.socket() as s:
            s.bind(("127.0.0.1", 0))
            self.port = s.getsockname()[1]
        self.run("initdb", "-A", "trust", "-U", "bench", "--no-sync", "-D", str(folder / "data"))
        self.start()
        self.url = f"postgresql+psycopg://bench@127.0.0.1:{self.port}/postgres"

    def run(self, *line: str) -> None:
        first = ["runuser", "-u", self.user, "--"] if os.getuid() == 0 else []
        ran = subprocess.run([*first, *line], capture_output=True, text=True, cwd=self.folder, timeout=120)
        assert ran.returncode == 0, (line, ran.stdout, ran.stderr)

    def start(self) -> None:
        options = f"-p {self.port} -k {self.folder} -c listen_addresses=127.0.0.1"
        self.run("pg_ctl", "-w", "-D", str(self.folder / "data"), "-l", str(self.folder / "log"), "-o", options, "start")

    def stop(self, how: str = "fast") -> None:
        self.run("pg_ctl", "-w", "-D", str(self.folder / "data"), "-m", how, "stop")


@pytest.fixture(scope="module")
def server() -> Iterator[Server]:
    # Not below pytest's own folder: that is root's alone, and the server is somebody else.
    folder = Path(tempfile.mkdtemp(prefix="lucid-anvil-pg-"))
    made = Server(folder)
    yield made
    made.stop("immediate")
    shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture
def url(server: Server) -> Iterator[str]:
    """An empty database."""
    name = f"lab{time.monotonic_ns()}"
    engine = sa.create_engine(server.url, isolation_level="AUTOCOMMIT")
    with engine.connect() as link:
        link.exec_driver_sql(f"create database {name}")
    engine.dispose()
    yield server.url.replace("/postgres", f"/{name}")


def accept(url: str, count: int, log: str) -> None:
    """What a bench does: accept, and write down what it was told."""
    ledger = Ledger(url)
    with Path(log).open("a") as file:
        for _ in range(count):
            try:
                number = ledger.accept("GA-1", Calibration(DAY, 10.0, by="K.B."), "GTH-2026-")
            except BadInput as problem:
                file.write(f"- {str(problem)[:60]}\n")
                break
            file.write(f"{number}\n")
            file.flush()
    ledger.close()


def numbers(url: str) -> list[str]:
    ledger = Ledger(url)
    try:
        return sorted(c.certificate for c in ledger.entry("GA-1").history)
    finally:
        ledger.close()


def with_sensor(url: str) -> str:
    ledger = Ledger(url)
    ledger.add(Sensor("GA-1", "accelerometer"))
    ledger.close()
    return url


@pytest.mark.parametrize("where", ["postgresql", "sqlite"])
def test_four_benches_accept_at_once_and_no_number_stands_twice(where: str, tmp_path: Path, request: Any) -> None:
    url = request.getfixturevalue("url") if where == "postgresql" else f"sqlite:///{tmp_path / 'l.sqlite'}"
    with_sensor(url)
    logs = [str(tmp_path / f"bench{i}.log") for i in range(4)]
    with multiprocessing.get_context("spawn").Pool(4) as pool:
        pool.starmap(accept, [(url, 60, log) for log in logs])
    told = [line for log in logs for line in Path(log).read_text().split()]
    assert sorted(told) == numbers(url) == [f"GTH-2026-{i:04d}" for i in range(1, 241)]


def test_a_server_that_is_killed_loses_nothing_that_was_said(server: Server, url: str, tmp_path: Path) -> None:
    with_sensor(url)
    logs = [str(tmp_path / f"bench{i}.log") for i in range(3)]
    context = multiprocessing.get_context("spawn")
    benches = [context.Process(target=accept, args=(url, 100_000, log)) for log in logs]
    for bench in benches:
        bench.start()
    end = time.monotonic() + 60
    while not all(Path(log).exists() and Path(log).read_text().count("\n") > 5 for log in logs):
        assert time.monotonic() < end
        time.sleep(0.05)
    server.stop("immediate")  # as a power cut: nothing is brought to its end
    for bench in benches:
        bench.join(60)
        assert bench.exitcode == 0  # told in a sentence, no traceback
    server.start()
    told = [line for log in logs for line in Path(log).read_text().splitlines()]
    said = sorted(line for line in told if line.startswith("GTH"))
    kept = numbers(url)
    assert len(said) == len(set(said)) and set(said) <= set(kept) and len(kept) == len(set(kept))
    assert len(kept) - len(said) <= 3  # at most the one of each bench that was under way
    assert sum(line.startswith("- ") for line in told) == 3


def test_a_calibration_is_neither_changed_nor_taken_away(url: str) -> None:
    ledger = Ledger(with_sensor(url))
    ledger.append("GA-1", Calibration(DAY, 10.0))
    for line in ("update calibrations set sensitivity = 11", "delete from calibrations"):
        with pytest.raises(sa.exc.DBAPIError), ledger.engine.begin() as link:
            link.exec_driver_sql(line)
    last = ledger.entry("GA-1").last
    assert last is not None and last.sensitivity == 10.0
    with pytest.raises(BadInput, match="GA-2"):
        ledger.accept("GA-2", Calibration(DAY, 10.0), "GTH-2026-")
    assert ledger.next_number("GTH-2026-") == "GTH-2026-0001"  # the number that was refused is free
    ledger.close()


def test_a_lab_moves_there_and_back(demo_lab: Lab, url: str) -> None:
    before = demo_lab.ledger()
    held = before.entries()
    before.close()
    counts = move_ledger(demo_lab, url)
    there = open_lab(demo_lab.folder)
    assert there.facts.ledger == url and sum(counts.values()) > len(held)
    ledger = there.ledger()
    assert ledger.entries() == held
    number = ledger.accept("GA-11", Calibration(DAY, 9.9), "GTH-2026-")
    assert number not in {c.certificate for e in held for c in e.history}
    ledger.close()
    back = move_ledger(there, "sqlite:///back.sqlite")
    again = open_lab(demo_lab.folder).ledger()
    assert back["calibration"] == counts["calibration"] + 1
    last = again.entry("GA-11").last
    assert last is not None and last.certificate == number
    again.close()


def test_a_server_that_is_gone_is_one_sentence_without_a_password(server: Server) -> None:
    gone = server.url.replace(str(server.port), "1").replace("bench@", "bench:secret@")
    with pytest.raises(BadInput, match="can't be used now") as problem:
        Ledger(gone)
    assert "secret" not in str(problem.value) and "\n" not in str(problem.value)
