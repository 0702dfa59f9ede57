"""Processes forked from one that has imported all: they end, fail, inherit and outlive as those that are started anew."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import tempfile
import textwrap
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from lucid_anvil.engine import nursery
from lucid_anvil.lab.takes import Take
from lucid_anvil.rig.device import wire_pair

DOORMAN = "lucid_anvil.engine.doorman"


@pytest.fixture
def short() -> Iterator[Path]:
    """A folder with a short name: a socket's path holds 107 bytes."""
    with tempfile.TemporaryDirectory(prefix="la-") as made:
        yield Path(made)


@pytest.fixture
def own(short: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[subprocess.Popen[bytes]]:
    """A nursery that this test may do anything with."""
    made = nursery.begin(short / "nursery")
    until = time.monotonic() + 60
    while not (short / "nursery").exists() and time.monotonic() < until:
        time.sleep(0.02)
    monkeypatch.setenv(nursery.PLACE, str(short / "nursery"))
    yield made
    if made.stdin is not None and not made.stdin.closed:
        made.stdin.close()
    made.wait(10)


def gone(pid: int) -> bool:
    until = time.monotonic() + 20
    while time.monotonic() < until:
        try:
            if Path(f"/proc/{pid}/stat").read_text().split(") ")[1][0] == "Z":
                return True
        except FileNotFoundError:
            return True
        time.sleep(0.02)
    return False


def doorman() -> tuple[Any, Any]:
    """A door's process, and the wire to it: it ends when the wire does."""
    ours, theirs = wire_pair()
    made = nursery.start(DOORMAN, ["--fd", str(theirs.fileno())], [theirs.fileno()])
    theirs.close()
    ours.send(b"T", b"a word")
    return made, ours


def test_a_fork_is_told_from_a_start_and_both_do_the_same(own: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    for forked in (True, False):
        if not forked:
            monkeypatch.delenv(nursery.PLACE)
        made, wire = doorman()
        assert isinstance(made, nursery.Born) == forked
        assert wire.ready(20) and wire.receive()[0] == b"P"  # the descriptor came along, at its own number
        assert made.poll() is None
        with pytest.raises(subprocess.TimeoutExpired):
            made.wait(0.05)
        made.terminate()
        assert made.wait(20) == made.returncode == made.poll() == -signal.SIGTERM
        made.kill()  # of one that is gone: nothing


def test_exit_codes_and_last_words_arrive(own: Any, tmp_path: Path) -> None:
    with (tmp_path / "log").open("ab") as log:
        made = nursery.start("lucid_anvil.engine.conductor", ["--plan", str(tmp_path / "no.plan.yaml"), "--take",
                             str(tmp_path / "t"), "--pace", "fast", "--note", str(tmp_path / "n")], new_session=True,
                             errors=log.fileno())  # fmt: skip
    assert made.wait(30) == 2 and "no.plan.yaml" in (tmp_path / "log").read_text()
    made = nursery.start("lucid_anvil.engine.conductor", ["--nonsense"], errors=os.open(os.devnull, os.O_WRONLY))
    assert made.wait(30) == 2


def test_environment_and_folder_are_those_of_who_asks(own: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("MADE_UP_FOR_THIS", "yes")
    monkeypatch.chdir(tmp_path)
    made, wire = doorman()
    assert wire.ready(20)
    assert b"MADE_UP_FOR_THIS=yes" not in Path(f"/proc/{own.pid}/environ").read_bytes()
    assert Path(f"/proc/{made.pid}/cwd").resolve() == tmp_path.resolve()
    held = {int(n) for n in os.listdir(f"/proc/{made.pid}/fd")}
    assert not any("nursery" in os.readlink(f"/proc/{made.pid}/fd/{n}") for n in held)
    made.kill()
    assert made.wait(20) == -signal.SIGKILL
    # Packages from elsewhere were not imported: a process of its own is started for them.
    monkeypatch.setenv("PYTHONPATH", str(tmp_path))
    other, _ = doorman()
    assert isinstance(other, subprocess.Popen)
    other.kill()
    other.wait(20)


def test_what_was_forked_outlives_a_nursery_that_is_killed(own: Any) -> None:
    made, wire = doorman()
    assert wire.ready(20)
    own.kill()
    own.wait(10)
    assert made.poll() is None and Path(f"/proc/{made.pid}").exists()
    again, other = doorman()  # nobody forks any more
    assert isinstance(again, subprocess.Popen) and other.ready(30)
    again.kill()
    again.wait(20)
    made.kill()
    assert gone(made.pid)
    assert made.wait(20) is not None


def test_it_goes_with_who_began_it_and_leaves_nothing(short: Path) -> None:
    script = textwrap.dedent(f"""
        import sys, time
        from pathlib import Path
        from lucid_anvil.engine import nursery
        made = nursery.begin(Path({str(short / "n")!r}))
        while not Path({str(short / "n")!r}).exists():
            time.sleep(0.02)
        print(made.pid, flush=True)
    """)
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, timeout=60)
    assert gone(int(done.stdout)) and not (short / "n").exists()


@pytest.mark.parametrize("forked", [True, False])
def test_a_run_is_the_same_either_way(
    own: Any, demo_lab: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, forked: bool
) -> None:
    if not forked:
        monkeypatch.delenv(nursery.PLACE)
    plan = demo_lab.jobs / "0412" / "fog-driver" / "line" / "line.plan.yaml"
    done = subprocess.run([sys.executable, "-m", "lucid_anvil.cli", "run", str(plan), "--pace", "fast", "--take",
                           str(tmp_path / "take")], capture_output=True, text=True)  # fmt: skip
    assert done.returncode == 0, done.stdout + done.stderr
    found = Take(tmp_path / "take").finding()
    assert found is not None and found.verdict == "inside"
    assert found.reading("resonance").value == pytest.approx(95.0, rel=0.01)
