"""A process that has imported all that a run needs, and forks: a conductor, guards or a device are there in a few
hundredths of a second instead of a second and a half each.

It holds nothing open but its own socket and does nothing but fork, with one thread, so that a fork is safe. Who started
it holds the other end of a pipe: when that closes, it goes. What it forked lives on. Where there is none, or it can't
be reached, a process is started as ever.
"""

from __future__ import annotations

import argparse
import array
import contextlib
import json
import os
import selectors
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any, Protocol

PLACE = "LUCID_ANVIL_NURSERY"
"""Environment variable that names its socket"""
MODULES = (
    "lucid_anvil.engine.conductor", "lucid_anvil.engine.keeper", "lucid_anvil.engine.doorman",
    "lucid_anvil.rig.standins.serve",
)  # fmt: skip
"""What it forks, each by its `main`"""
READY = 20.0
"""s that its imports may take"""


class Started(Protocol):
    """A process that was started, one way or the other."""

    pid: int
    returncode: int | None

    def poll(self) -> int | None: ...

    def wait(self, timeout: float | None = None) -> int: ...

    def send_signal(self, number: int) -> None: ...

    def kill(self) -> None: ...

    def terminate(self) -> None: ...


def start(
    module: str, arguments: Sequence[str], pass_fds: Sequence[int] = (), new_session: bool = False,
    errors: int | None = None,
) -> Started:  # fmt: skip
    """Start a module's `main` in a process of its own: forked where a nursery is, else anew. `errors`: where its
    standard error goes; its input and output go nowhere in a session of its own."""
    with contextlib.suppress(OSError, ValueError):
        made = _born(module, arguments, pass_fds, new_session, errors)
        if made is not None:
            return made
    quiet: dict[str, Any] = {"stdin": subprocess.DEVNULL, "stdout": subprocess.DEVNULL} if new_session else {}
    if errors is not None:
        quiet["stderr"] = errors
    return subprocess.Popen(
        [sys.executable, "-m", module, *arguments], pass_fds=list(pass_fds), start_new_session=new_session, **quiet
    )


class Born:
    """A forked process as the one that asked for it sees it; its end comes over the line that it was asked on."""

    def __init__(self, line: socket.socket, pid: int) -> None:
        self.line, self.pid = line, pid
        self.returncode: int | None = None
        self.said = b""

    def poll(self) -> int | None:
        """Its exit code, as `subprocess` counts it; None while it lives."""
        return self._look(0.0)

    def _look(self, timeout: float | None) -> int | None:
        until = None if timeout is None else time.monotonic() + timeout
        while self.returncode is None:
            left = None if until is None else max(until - time.monotonic(), 0.0)
            self.line.settimeout(left if left is None or left > 0 else 1e-6)
            try:
                held = self.line.recv(64)
            except (TimeoutError, BlockingIOError):
                return None
            except OSError:
                held = b""
            self.said += held
            if self.said.endswith(b"\n"):
                self.returncode = int(self.said)
            elif not held:  # the nursery is gone: what it forked may live on
                if _there(self.pid):
                    if until is not None and time.monotonic() >= until:
                        return None
                    time.sleep(0.02)
                    continue
                self.returncode = 0
        self.line.close()
        return self.returncode

    def wait(self, timeout: float | None = None) -> int:
        made = self._look(timeout)
        if made is None:
            raise subprocess.TimeoutExpired(f"process {self.pid}", timeout or 0.0)
        return made

    def send_signal(self, number: int) -> None:
        if self.poll() is None:
            with contextlib.suppress(ProcessLookupError):
                os.kill(self.pid, number)

    def kill(self) -> None:
        self.send_signal(signal.SIGKILL)

    def terminate(self) -> None:
        self.send_signal(signal.SIGTERM)


def _there(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except OSError:
        return False
    return True


def _born(
    module: str, arguments: Sequence[str], pass_fds: Sequence[int], new_session: bool, errors: int | None
) -> Born | None:
    place = os.environ.get(PLACE)
    if not place or module not in MODULES:
        return None
    line = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    try:
        line.settimeout(READY)
        line.connect(place)
        streams = [2 if errors is None else errors]
        wanted = {
            "module": module, "arguments": list(arguments), "fds": list(pass_fds), "session": new_session,
            "env": dict(os.environ), "cwd": os.getcwd(),
        }  # fmt: skip
        held = json.dumps(wanted).encode()
        fds = array.array("i", [*streams, *pass_fds])
        line.sendmsg([len(held).to_bytes(4, "big")], [(socket.SOL_SOCKET, socket.SCM_RIGHTS, fds)])
        line.sendall(held)
        said = b""
        while not said.endswith(b"\n"):
            more = line.recv(1)
            if not more:
                raise OSError("the nursery hung up")
            said += more
        if int(said) == 0:  # it was made for other packages than are asked for now
            line.close()
            return None
        return Born(line, int(said))
    except BaseException:
        line.close()
        raise


# --- the process itself ----------------------------------------------------------------------------------------------


def begin(place: Path) -> subprocess.Popen[bytes]:
    """Start a nursery with its socket at `place`, for as long as this process lives and the `stdin` given is open."""
    environment = {**os.environ, "OMP_NUM_THREADS": "1", "OPENBLAS_NUM_THREADS": "1"}
    return subprocess.Popen(
        [sys.executable, "-m", "lucid_anvil.engine.nursery", "--at", str(place)], stdin=subprocess.PIPE,
        stdout=subprocess.DEVNULL, start_new_session=True, env=environment,
    )  # fmt: skip


def keep_one() -> None:
    """See that this process, and all that it starts, has a nursery; it is of use once its imports are done."""
    from .notes import runs_folder

    if not os.environ.get(PLACE):
        place = runs_folder() / f"nursery-{os.getpid()}"
        with contextlib.suppress(OSError):
            place.unlink(missing_ok=True)
            KEPT.append(begin(place))
            os.environ[PLACE] = str(place)


KEPT: list[subprocess.Popen[bytes]] = []
"""Held so that its pipe stays open"""


def _load() -> None:
    import importlib

    for name in (*MODULES, "scipy.signal", "scipy.fft", "scipy.linalg", "h5py"):
        importlib.import_module(name)


class Nursery:
    """Waits for who asks, forks, and tells each how its process ended."""

    def __init__(self, place: Path) -> None:
        self.door = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        self.door.bind(str(place))
        os.chmod(place, 0o600)
        self.door.listen(16)
        self.asked_by: dict[int, socket.socket] = {}
        self.paths = os.environ.get("PYTHONPATH", "")
        self.ended, self.told = os.pipe()
        os.set_blocking(self.told, False)
        signal.set_wakeup_fd(self.told, warn_on_full_buffer=False)
        signal.signal(signal.SIGCHLD, lambda *_: None)

    def run(self) -> None:
        """Until who started it is gone."""
        look = selectors.DefaultSelector()
        look.register(self.door, selectors.EVENT_READ)
        look.register(0, selectors.EVENT_READ)
        look.register(self.ended, selectors.EVENT_READ)
        while True:
            for key, _ in look.select(1.0):
                if key.fd == 0:
                    return
                if key.fd == self.ended:
                    os.read(self.ended, 4096)
                else:
                    self._serve()
            self._reap()

    def _reap(self) -> None:
        while self.asked_by:
            try:
                pid, status = os.waitpid(-1, os.WNOHANG)
            except ChildProcessError:
                return
            if pid == 0:
                return
            line = self.asked_by.pop(pid, None)
            if line is not None:
                with contextlib.suppress(OSError):
                    line.sendall(b"%d\n" % os.waitstatus_to_exitcode(status))
                line.close()

    def _serve(self) -> None:
        line, _ = self.door.accept()
        line.settimeout(5.0)
        fds = array.array("i")
        try:
            head, more, _, _ = line.recvmsg(4, socket.CMSG_SPACE(16 * fds.itemsize))
            for level, kind, data in more:
                if level == socket.SOL_SOCKET and kind == socket.SCM_RIGHTS:
                    fds.frombytes(data[: len(data) - len(data) % fds.itemsize])
            size, held = int.from_bytes(head, "big"), b""
            while len(held) < size:
                held += line.recv(size - len(held))
            wanted = json.loads(held)
        except (OSError, ValueError):
            line.close()
            return
        try:
            if wanted["env"].get("PYTHONPATH", "") != self.paths:
                line.sendall(b"0\n")
                line.close()
                return
            pid = os.fork()
            if pid == 0:
                _become(wanted, list(fds))
            self.asked_by[pid] = line
            line.sendall(b"%d\n" % pid)
        except OSError:
            line.close()
        finally:
            for fd in fds:
                os.close(fd)


def _become(wanted: dict[str, Any], fds: list[int]) -> None:
    """What the fork does: descriptors, environment and arguments as they were asked for, then the module's `main`."""
    code = 1
    try:
        signal.set_wakeup_fd(-1)
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
        if wanted["session"]:
            os.setsid()
        for fd in map(int, os.listdir("/proc/self/fd")):
            if fd > 2 and fd not in fds:  # lines of others: they must see when the nursery is gone
                with contextlib.suppress(OSError):
                    os.close(fd)
        nowhere = os.open(os.devnull, os.O_RDWR)
        os.dup2(nowhere, 0)
        os.dup2(fds[0], 2)
        if wanted["session"]:
            os.dup2(nowhere, 1)
        # Each descriptor at the number by which the arguments name it.
        spare = [os.dup(fd) for fd in fds[1:]]
        for fd in (*fds, nowhere):
            if fd > 2:
                os.close(fd)
        kept = [_away(fd, wanted["fds"]) for fd in spare]
        for fd, number in zip(kept, wanted["fds"], strict=True):
            os.dup2(fd, number, inheritable=True)
            os.close(fd)
        os.environ.clear()
        os.environ.update(wanted["env"])
        os.chdir(wanted["cwd"])
        sys.argv = [wanted["module"], *wanted["arguments"]]
        code = _run(wanted["module"])
    except BaseException:
        import traceback

        traceback.print_exc()
    finally:
        for stream in (sys.stdout, sys.stderr):
            with contextlib.suppress(Exception):
                stream.flush()
        os._exit(code)


def _away(fd: int, taken: Sequence[int]) -> int:
    """The same file at a number that is none of those taken."""
    held = []
    while fd in taken:
        held.append(fd)
        fd = os.dup(fd)
    for one in held:
        os.close(one)
    return fd


def _run(module: str) -> int:
    """A module's `main` to its end, as the interpreter ends: threads waited for, what was left to the end done."""
    import atexit
    import threading

    code = 0
    try:
        sys.modules[module].main()
    except SystemExit as ended:
        code = ended.code if isinstance(ended.code, int) else 0 if ended.code is None else 1
        if isinstance(ended.code, str):
            print(ended.code, file=sys.stderr)
    except KeyboardInterrupt:
        code = 130
    except BaseException:
        import traceback

        traceback.print_exc()
        code = 1
    threading._shutdown()  # type: ignore[attr-defined]
    atexit._run_exitfuncs()
    return code


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--at", type=Path, required=True)
    given = parser.parse_args()
    os.environ.pop(PLACE, None)
    _load()
    nursery = Nursery(given.at)
    try:
        nursery.run()
    finally:
        with contextlib.suppress(OSError):
            given.at.unlink()


if __name__ == "__main__":
    main()
