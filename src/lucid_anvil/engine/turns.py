"""A method's turns, block by block: what it is given, what it wants, and the work that takes it longer than a block."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from concurrent.futures import Future, ProcessPoolExecutor
from typing import Any

from ..contracts.method import Got, Performance, Want
from ..core.signal.sinefit import Floats
from .preparing import Prepared


class Turns:
    """One performance of one method. Work that it asks for is done beside the run in `real` pace, at once otherwise."""

    def __init__(self, pace: str, heavy: Sequence[str]) -> None:
        """`heavy`: modules that are imported before the first work comes."""
        self.performance: Performance | None = None
        self.want: Want | None = None
        """The last one"""
        self.wishes: list[dict[str, Any]] = []
        """Orders of the operator that the method has not seen yet"""
        self.worker: ProcessPoolExecutor | None = None
        self.job: Future[Any] | None = None
        self.result: Any = None
        if pace == "real":
            import multiprocessing

            for name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
                os.environ[name] = "1"
            self.worker = ProcessPoolExecutor(
                1, mp_context=multiprocessing.get_context("spawn"), initializer=os.nice, initargs=(10,)
            )
            self.worker.submit(_warm_up, heavy)

    @property
    def playing(self) -> bool:
        return self.performance is not None

    @property
    def keeps(self) -> bool:
        """Whether the block just received belongs to the record."""
        return self.want is None or self.performance is None or self.want.keep

    def begin(self, prepared: Prepared, position: Mapping[str, Any] | None) -> None:
        """From its first block, or from where an earlier take ended."""
        self.performance = prepared.method.perform(prepared.settings, prepared.facts, position)

    def turn(
        self, local: int, start: float, samples: Mapping[str, Floats], overload: Sequence[str],
        instruments: Mapping[str, Any] | None,
    ) -> Want | None:  # fmt: skip
        """What it wants on block `local` of the take, which began at `start` [s]; None where it is over."""
        assert self.performance is not None
        got = Got(local, start, samples, frozenset(overload), self._done(), tuple(self.wishes), instruments)
        self.wishes.clear()
        try:
            self.want = next(self.performance) if self.want is None else self.performance.send(got)
        except StopIteration:
            self.performance = None
            return None
        if self.want.compute is not None:
            work, given = self.want.compute
            if self.worker is not None:
                self.job = self.worker.submit(work, *given)
            else:
                self.result = work(*given)
        return self.want

    def _done(self) -> Any:
        """The result of the last work, once."""
        made, self.result = self.result, None
        if self.job is not None and self.job.done():
            made, self.job = self.job.result(), None
        return made

    def end(self) -> None:
        """Nothing is asked of it any more."""
        if self.performance is not None:
            self.performance.close()
            self.performance = None

    def close(self) -> None:
        if self.worker is not None:
            self.worker.shutdown(wait=False, cancel_futures=True)


def _warm_up(modules: Sequence[str]) -> None:
    """Imports that the first computation would otherwise wait for."""
    import importlib

    import scipy.special  # noqa: F401

    for name in modules:
        importlib.import_module(name)
