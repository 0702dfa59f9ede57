"""A lab on disk: one folder with lab.yaml, the ledger, rigs, jobs and certificates."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from pydantic import Field

from ..contracts.settings import Model, check
from ..core.errors import BadInput
from .afterrules import After, Mail
from .textfiles import load_yaml

if TYPE_CHECKING:
    from .ledger import Calibration, Ledger


class LabFacts(Model):
    """lab.yaml: who the lab is."""

    version: int = Field(default=1, alias="lucid-anvil-lab")
    name: str
    address: list[str] = Field(default_factory=list)
    accreditation: str = ""
    job: str = ""
    """The job that is open."""
    job_title: str = ""
    customer: str = ""
    customer_address: str = ""
    operator: str = ""
    signatory: str = ""
    may_sign: list[str] = Field(default_factory=list)
    """Who may sign papers; the signatory alone where nobody is named"""
    ledger: str = "sqlite:///ledger.sqlite"
    rig: str = "rigs/comparison.rig.yaml"
    certificate_prefix: str = "C"
    after: After | None = None
    """What is done after each take by itself"""
    mail: Mail | None = None
    method_text: str = "Comparison with a reference transducer, ISO 16063-21"


@dataclass(frozen=True)
class Lab:
    """A lab's folder."""

    folder: Path
    facts: LabFacts

    def ledger(self) -> Ledger:
        from .ledger import Ledger

        url = self.facts.ledger
        if url.startswith("sqlite:///") and not url.startswith("sqlite:////"):
            url = f"sqlite:///{self.folder / url.removeprefix('sqlite:///')}"
        return Ledger(url)

    def history(self, serial: str) -> tuple[Calibration, ...]:
        """A sensor's calibrations, oldest first; none for a sensor that the ledger does not know."""
        ledger = self.ledger()
        try:
            return next((e.history for e in ledger.entries() if e.sensor.serial == serial), ())
        finally:
            ledger.close()

    @property
    def note(self) -> Path:
        """Where a running conductor tells its door."""
        return self.folder / "run" / "door.json"

    @property
    def jobs(self) -> Path:
        return self.folder / "jobs"

    @property
    def certificates(self) -> Path:
        return self.folder / "certificates"

    def wants_after(self, take: Path) -> bool:
        """Whether something is done with this take by itself: not with checks of the hook-up and the bench."""
        if self.facts.after is None or not take.resolve().is_relative_to(self.jobs.resolve()):
            return False
        return take.resolve().relative_to(self.jobs.resolve()).parts[0] not in ("bench", "hook-up")

    def rig_file(self) -> Path:
        return self.folder / self.facts.rig


def open_lab(folder: Path) -> Lab:
    """Raises BadInput when the folder holds no lab."""
    place = folder / "lab.yaml"
    if not place.exists():
        raise BadInput(f"{folder}: there is no lab here (no lab.yaml): choose another folder, or start the demo.")
    return Lab(folder.resolve(), check(LabFacts, load_yaml(place), str(place)))


def lab_of(inside: Path) -> Lab | None:
    """The lab that a folder lies in, if any."""
    for parent in (inside.resolve(), *inside.resolve().parents):
        if (parent / "lab.yaml").exists():
            return open_lab(parent)
    return None


def usual_lab() -> Path:
    """Where the lab is when nobody says: LUCID_ANVIL_LAB, else the working folder."""
    return Path(os.environ.get("LUCID_ANVIL_LAB", "."))
