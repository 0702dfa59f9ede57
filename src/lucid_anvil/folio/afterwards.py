"""What is done with a take when nobody is there: its papers saved by the lab's rule, and a mail that says the worst
first."""

from __future__ import annotations

import datetime
import json
import os
import smtplib
import ssl
import tempfile
import time
from collections.abc import Sequence
from dataclasses import dataclass
from email.message import EmailMessage
from email.utils import formatdate, make_msgid
from pathlib import Path

from ..contracts import registry
from ..contracts.finding import Finding, Reading
from ..core.errors import BadInput
from ..engine.ending import reason
from ..engine.evaluating import stated
from ..lab.afterrules import FORMATS, Mail, file_name, free_stem, password_of
from ..lab.exporting import Row, export
from ..lab.place import Lab, open_lab
from ..lab.takes import Take
from .certificate import report
from .testreport import reading_row

AGAIN = "60 300 1800"
"""s after which what could not be done is tried anew, when nobody waits for it; the environment's LUCID_ANVIL_AGAIN
goes first"""
PATIENCE = 30.0
"""s that a mail server may take for an answer"""


@dataclass(frozen=True)
class Afterwards:
    """What was done, and what could not be."""

    saved: tuple[Path, ...] = ()
    mailed: tuple[str, ...] = ()
    undone: tuple[str, ...] = ()

    @property
    def sentence(self) -> str:
        parts = []
        if self.saved:
            parts.append(f"Saved {', '.join(p.name for p in self.saved)} in {self.saved[0].parent}.")
        if self.mailed:
            parts.append(f"Mailed to {', '.join(self.mailed)}.")
        return " ".join([*parts, *self.undone])


def after_take(lab: Lab, take: Take, again: Sequence[float] = ()) -> Afterwards:
    """Do what the lab's rule says, each part whatever becomes of the others, and write it into the take's events.
    `again`: s after which what could not be done is tried anew, and then written down too."""
    made = _done(lab, take)
    _keep(take, made)
    for pause in again:
        if not made.undone:
            break
        time.sleep(pause)
        made = _done(open_lab(lab.folder), take, made)  # a server that was wrong may be mended meanwhile
        _keep(take, made)
    return made


def pauses() -> tuple[float, ...]:
    """s between tries. Raises BadInput where the environment says no numbers."""
    text = os.environ.get("LUCID_ANVIL_AGAIN", AGAIN)
    try:
        return tuple(float(word) for word in text.split())
    except ValueError:
        raise BadInput(f"LUCID_ANVIL_AGAIN: '{text}': seconds are wanted, such as '{AGAIN}'.") from None


def _done(lab: Lab, take: Take, before: Afterwards = Afterwards()) -> Afterwards:
    """One try: what an earlier one did is not done twice."""
    rule = lab.facts.after
    if rule is None:
        raise BadInput(f"{lab.folder}: the lab says nothing of what is done after a take: see 'After each take'.")
    saved, mailed = list(before.saved), list(before.mailed)
    undone: list[str] = []
    if rule.folder and (not saved or any(u.startswith("Not saved") for u in before.undone)):
        try:
            _save(lab, take, saved)
        except Exception as problem:  # nobody looks: whatever it was must stand in the take
            undone.append(f"Not saved: {_why(problem)}")
    if rule.to and not mailed:
        try:
            if lab.facts.mail is None:
                raise BadInput("the lab has no mail server.")
            # One that an earlier try saved may tell of another record than there is now.
            made_of = next((s for s in saved[len(before.saved) :] if s.suffix == ".pdf"), None)
            send(lab.facts.mail, letter(lab, take, made_of), lab.folder)
            mailed += rule.to
        except Exception as problem:
            undone.append(f"Not mailed: {_why(problem)}")
    return Afterwards(tuple(saved), tuple(mailed), tuple(undone))


def _why(problem: Exception) -> str:
    return str(problem) if isinstance(problem, BadInput) else reason(problem)


def _keep(take: Take, made: Afterwards) -> None:
    event = {"kind": "after", "wall": time.time(), "saved": [str(p) for p in made.saved], "mailed": list(made.mailed),
             "undone": list(made.undone), "said": made.sentence}  # fmt: skip
    with (take.folder / "events.jsonl").open("a", encoding="utf-8") as file:
        file.write(json.dumps(event) + "\n")


def _save(lab: Lab, take: Take, saved: list[Path]) -> None:
    rule = lab.facts.after
    assert rule is not None
    folder = lab.folder / rule.folder
    # A folder on another machine that is not there now must not be made as an empty one here.
    if not folder.exists() and not folder.parent.exists():
        raise BadInput(f"{folder}: it is not there: connect it, or change the folder.")
    folder.mkdir(exist_ok=True)
    finding = stated(take)
    if finding is None:
        raise BadInput(f"{take.folder}: it has no finding, so there is nothing to report.")
    formats = [f for f in FORMATS if f in rule.formats and f not in {p.suffix[1:] for p in saved}]
    stem = saved[0].stem if saved else free_stem(folder, file_name(rule.name, fields_of(take, finding)), tuple(formats))
    for ending in formats:
        place = folder / f"{stem}.{ending}"
        if ending == "pdf":
            report(take, place)
        else:
            export(finding, place, facts_of(take))
        saved.append(place)


def fields_of(take: Take, finding: Finding | None) -> dict[str, str]:
    """What a paper's name may be made of."""
    plan, began = take.plan(), _began(take)
    return {
        "date": began.strftime("%Y-%m-%d"), "time": began.strftime("%H%M%S"), "job": plan.job, "title": plan.title,
        "article": plan.article, "serial": ", ".join(s.serial for s in plan.sensors.values()),
        "method": plan.step.method, "take": take.name, "verdict": _verdict(finding),
    }  # fmt: skip


def facts_of(take: Take) -> list[Row]:
    """What stands above a table that leaves the lab: where it comes from, by which sensors, and how the run ended."""
    plan = take.plan()
    rows: list[Row] = [("take", take.name), ("began", _began(take).isoformat(timespec="seconds"))]
    for name in ("title", "job", "article", "operator", "customer"):
        if value := getattr(plan, name):
            rows.append((name, value))
    rows += [(f"sensor, {role}", s.serial, s.certificate or "") for role, s in plan.sensors.items()]
    status = take.status()
    return [*rows, ("run", status if status == "done" else f"{status}: {take.reason()}")]


def _began(take: Take) -> datetime.datetime:
    wall = next((e["wall"] for e in take.events() if e["kind"] == "begin"), None)
    return datetime.datetime.fromtimestamp(wall if wall is not None else take.folder.stat().st_mtime)


def _verdict(finding: Finding | None) -> str:
    return finding.verdict if finding is not None else "no finding"


def letter(lab: Lab, take: Take, saved: Path | None = None) -> EmailMessage:
    """The mail of a take: what failed is its first line, and its report comes with it, if there is one: as it was
    `saved` just now, or made for the mail."""
    rule, mail = lab.facts.after, lab.facts.mail
    assert rule is not None and mail is not None
    plan, finding = take.plan(), stated(take)
    made = headed(mail, rule.to, f"{_head(take, finding)}: {plan.article or plan.title}, {_method(take)}")
    lines = [_first(take, finding), "", f"{plan.title} ({take.name}), begun {_began(take):%Y-%m-%d %H:%M}."]
    if finding is not None:
        lines += ["", *(_line(r) for r in finding.readings)]
        lines += ["", *(f"Missing: {m}" for m in finding.missing), *finding.notes]
    lines += ["", f"The take is in {take.folder.resolve()}."]
    if finding is not None:
        try:
            made_of = _report(take) if saved is None else saved.read_bytes()
        except BadInput as problem:
            lines.insert(1, f"The report could not be made: {problem}")
            made_of = None
        made.set_content("\n".join(lines) + "\n")
        if made_of is not None:
            name = file_name(rule.name, fields_of(take, finding))
            made.add_attachment(made_of, maintype="application", subtype="pdf", filename=f"{name}.pdf")
    else:
        made.set_content("\n".join(lines) + "\n")
    return made


def _report(take: Take) -> bytes:
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder) / "report.pdf"
        report(take, place)
        return place.read_bytes()


def headed(mail: Mail, to: list[str], subject: str) -> EmailMessage:
    """A mail with all that belongs above its text."""
    made = EmailMessage()
    made["From"], made["To"], made["Subject"] = mail.sender, ", ".join(to), " ".join(subject.split())
    made["Date"], made["Message-ID"] = formatdate(localtime=True), make_msgid(domain=mail.sender.split("@")[1])
    return made


def _method(take: Take) -> str:
    return registry.get(take.plan().step.method).title.lower()


def _head(take: Take, finding: Finding | None) -> str:
    status = take.status()
    if status != "done":
        return status.upper()
    said = _verdict(finding)
    return said.upper() if said in ("outside", "open", "no finding") else {"none": "read"}.get(said, said)


def _first(take: Take, finding: Finding | None) -> str:
    """The first line: a run that was cut, what failed, what can't be told, or that all is well."""
    parts = []
    if (status := take.status()) != "done":
        parts.append(f"The run was not done but {status}: {take.reason()}")
    if doubt := take.doubt():
        parts.append(f"Doubtful: {doubt}.")
    if finding is None:
        return " ".join([*parts, "It has no finding."])
    failed = [_line(r) for r in finding.readings if r.verdict == "outside"]
    if failed:
        parts.append(f"Outside: {'; '.join(failed)}.")
    if "outside" in finding.curve_verdicts:
        parts.append("A curve is outside its limits.")
    told = [r.label for r in finding.readings if r.verdict == "open"]
    if told:
        parts.append(f"Can't be told: {', '.join(told)}.")
    elif finding.verdict == "open" and not finding.missing:
        parts.append("It can't be told whether it is inside.")
    if finding.missing:
        parts.append(f"Not complete: {'; '.join(finding.missing)}.")
    return " ".join(parts) or {"inside": "All is inside its limits."}.get(
        finding.verdict, "Read; it has no limits to be held to."
    )


def _line(reading: Reading) -> str:
    row = reading_row(reading)
    doubt = f" ± {row['uncertainty']}" if row["uncertainty"] else ""
    limits = f" ({row['limits']})" if row["limits"] and row["limits"] != "–" else ""
    why = f", {row['reason']}" if row["reason"] else ""
    said = f": {row['verdict']}" if row["verdict"] != "none" else ""
    return f"{row['label']} {row['value']}{doubt} {row['unit']}".rstrip() + f"{limits}{said}{why}"


def trial(lab: Lab) -> str:
    """Send a mail that says that mail works; a sentence of what became of it. Raises BadInput."""
    rule, mail = lab.facts.after, lab.facts.mail
    if rule is None or mail is None or not rule.to:
        raise BadInput("The lab has no mail server, or nobody to write to: fill both in under 'After each take'.")
    made = headed(mail, rule.to, f"Trial mail of {lab.facts.name}")
    made.set_content("Mail of this bench arrives here. Nothing was tested.\n")
    send(mail, made, lab.folder)
    return f"A trial mail went to {', '.join(rule.to)}."


def send(mail: Mail, message: EmailMessage, base: Path) -> None:
    """Hand a mail to the server through TLS, its certificate looked at. Raises BadInput with what it said."""
    where = f"{mail.server}:{mail.port}"
    password = password_of(mail) if mail.user else ""
    try:
        context = ssl.create_default_context(cafile=str(base / mail.authority) if mail.authority else None)
    except OSError as problem:
        raise BadInput(f"{mail.authority}: no certificate authority can be read from it ({problem}).") from None
    try:
        if mail.tls == "starttls":
            server = smtplib.SMTP(mail.server, mail.port, timeout=PATIENCE)
        else:
            server = smtplib.SMTP_SSL(mail.server, mail.port, timeout=PATIENCE, context=context)
        with server:
            if mail.tls == "starttls":
                server.starttls(context=context)
            if mail.user:
                server.login(mail.user, password)
            refused = server.send_message(message)
    except smtplib.SMTPAuthenticationError:
        raise BadInput(f"{where} does not take the password of {mail.user}.") from None
    except smtplib.SMTPRecipientsRefused as problem:
        raise BadInput(f"{where} does not take mail for {', '.join(problem.recipients)}.") from None
    except ssl.SSLCertVerificationError as problem:
        why = problem.verify_message
        raise BadInput(f"{where}: its certificate can't be trusted ({why}): nothing was sent.") from None
    except (smtplib.SMTPException, OSError) as problem:
        raise BadInput(f"{where} did not take the mail ({problem}).") from None
    if refused:
        raise BadInput(f"{where} does not take mail for {', '.join(refused)}; the others have it.")
