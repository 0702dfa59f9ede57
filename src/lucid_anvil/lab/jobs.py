"""Jobs: the work for a customer. Each has a folder below `jobs` with its facts; one of them is open in a lab."""

from __future__ import annotations

import datetime
from collections.abc import Mapping
from pathlib import Path

from pydantic import Field

from ..contracts.settings import Flag, Model, check
from ..core.errors import BadInput
from .editing import put_in
from .place import Lab, open_lab
from .textfiles import dump_yaml, load_yaml, whole_write

FILE = "job.yaml"
OPEN = ("job", "job_title", "customer", "customer_address")
"""What lab.yaml says of the job that is open; plans and papers take it from there"""


class Job(Model):
    """A job's facts, as `jobs/NUMBER/job.yaml` has them."""

    version: int = Field(default=1, alias="lucid-anvil-job")
    job: str
    job_title: str = ""
    customer: str = ""
    customer_address: str = ""
    order: str = ""
    """The customer's order"""
    fields: dict[str, str] = Field(default_factory=dict)
    """What else stands on this job's papers"""
    closed: Flag = False
    begun: datetime.date | None = None

    @property
    def text(self) -> str:
        return f"{self.job} {self.job_title}".strip()


def jobs(lab: Lab) -> list[Job]:
    """All jobs, the open one first, then by number, closed ones last; a folder without facts is one of that name."""
    found = []
    for folder in sorted(p for p in lab.jobs.iterdir() if p.is_dir()) if lab.jobs.exists() else ():
        place = folder / FILE
        if place.exists():
            found.append(check(Job, load_yaml(place), str(place)))
        elif folder.name not in ("bench", "hook-up"):
            here = folder.name == lab.facts.job
            title = lab.facts.job_title if here else ""
            found.append(Job(job=folder.name, job_title=title))
    if lab.facts.job and all(j.job != lab.facts.job for j in found):
        facts = lab.facts
        found.append(Job(job=facts.job, job_title=facts.job_title, customer=facts.customer,
                         customer_address=facts.customer_address))  # fmt: skip
    return sorted(found, key=lambda j: (j.job != lab.facts.job, j.closed, j.job))


def job_of(lab: Lab, number: str) -> Job:
    """One job. Raises BadInput where there is none of that number."""
    for one in jobs(lab):
        if one.job == number:
            return one
    raise BadInput(f"There is no job '{number}' in this lab.")


def put_job(lab: Lab, job: Job) -> Path:
    """Keep a job's facts."""
    if not job.job.strip() or job.job != Path(job.job).name or job.job.startswith("."):
        raise BadInput("A job needs a number or a name that a folder can have.")
    folder = lab.jobs / job.job
    folder.mkdir(parents=True, exist_ok=True)
    held = job.model_dump(by_alias=True, exclude_defaults=True, exclude={"version"}, mode="json")
    whole_write(folder / FILE, dump_yaml({"lucid-anvil-job": 1, **held}))
    return folder


def begin_job(lab: Lab, typed: Mapping[str, str]) -> Lab:
    """A new job, and open it. Raises BadInput where there is one of that number."""
    number = typed["job"].strip()
    if any(j.job == number for j in jobs(lab)):
        raise BadInput(f"There is a job '{number}' already: open that, or choose another number.")
    put_job(lab, _with(Job(job=number, begun=datetime.date.today()), typed))
    return open_job(lab, number)


def change_job(lab: Lab, number: str, typed: Mapping[str, str]) -> Lab:
    """A job's facts changed; where it is the open one, new plans and papers follow."""
    put_job(lab, _with(job_of(lab, number), {k: v for k, v in typed.items() if k != "job"}))
    return open_job(lab, number) if number == lab.facts.job else open_lab(lab.folder)


def _with(job: Job, typed: Mapping[str, str]) -> Job:
    own = {k: v.strip() for k, v in typed.items() if k in ("job_title", "customer", "customer_address", "order")}
    fields = dict(job.fields)
    if "fields" in typed:
        fields = {}
        for line in typed["fields"].splitlines():
            name, colon, value = line.partition(":")
            if line.strip() and not (colon and name.strip()):
                raise BadInput(f"'{line.strip()}': write a field as 'name: value'.")
            if line.strip():
                fields[name.strip()] = value.strip()
    return job.model_copy(update={**own, "fields": fields})


def open_job(lab: Lab, number: str) -> Lab:
    """Make a job the open one; a closed one is open again. The lab as it is then. Raises BadInput."""
    job = job_of(lab, number)
    put_job(lab, job.model_copy(update={"closed": False}))
    for key in OPEN:
        put_in(lab.folder / "lab.yaml", [key], getattr(job, key))
    return open_lab(lab.folder)


def close_job(lab: Lab) -> Lab:
    """Close the open job: it stays where it is, and none is open."""
    if not lab.facts.job:
        raise BadInput("No job is open.")
    put_job(lab, job_of(lab, lab.facts.job).model_copy(update={"closed": True}))
    for key in OPEN:
        put_in(lab.folder / "lab.yaml", [key], "")
    return open_lab(lab.folder)


def customers(lab: Lab) -> list[tuple[str, str]]:
    """Customers of earlier jobs with their address, to be offered again."""
    made: dict[str, str] = {}
    for job in jobs(lab):
        if job.customer:
            made.setdefault(job.customer, job.customer_address)
    return sorted(made.items())
