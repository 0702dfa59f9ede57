"""What all certificates and reports share (ISO/IEC 17025:2017, 7.8.2), from templates that a lab can change."""

from __future__ import annotations

import datetime
import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from markupsafe import Markup

from ..contracts import registry
from ..contracts.finding import Finding
from ..core.errors import BadInput
from ..core.quantities import round_to_doubt
from ..engine.settling import close_take
from ..lab.hashes import wrong
from ..lab.ledger import Calibration
from ..lab.place import Lab, lab_of
from ..lab.takes import Take

VERDICT_WORDS = {
    "inside": "inside the tolerance, all of the doubt included",
    "outside": "outside the tolerance, all of the doubt included",
    "open": "open: the doubt straddles the tolerance, or a point could not be used, so it can't be told",
    "none": "not judged: no tolerance was given",
}
RULES = {
    "guarded": "Guarded acceptance: inside only if the value with all of its expanded uncertainty lies inside the"
    " limits, outside only if all of it lies outside; otherwise it can't be told (open).",
    "simple": "Simple acceptance: the value alone decides.",
}


def head_of(take: Take, finding: Finding, lab: Lab | None, accepted: Calibration | None) -> dict[str, Any]:
    """What every certificate says: whose, of what, against what, when, by whom, under which conditions (7.8.2.1).
    Raises BadInput where unit or reference are not named."""
    plan = take.plan()
    unit, reference = plan.sensors.get("unit"), plan.sensors.get("reference")
    if unit is None or reference is None:
        raise BadInput(f"{take.folder}: the plan names no unit or no reference: a certificate needs both.")
    events = take.events()
    begin: dict[str, Any] = next((e for e in events if e["kind"] == "begin"), {})
    when = datetime.datetime.fromtimestamp(begin["wall"]) if "wall" in begin else None
    wants_due = plan.wants_due_date or any(e.get("due_on_certificate") for e in events)
    issued = accepted.date if accepted else datetime.date.today()
    return {
        "lab": lab.facts if lab else None,
        "number": accepted.certificate if accepted else None,
        "issued": issued.isoformat(),
        "calibrated": when.date().isoformat() if when else "",
        "plan": plan,
        "unit": unit,
        "reference": reference,
        "as_state": accepted.as_state if accepted else plan.as_state,
        "operator": (accepted.by if accepted else "") or plan.operator,
        "signatory": lab.facts.signatory if lab else "",
        "temperature": begin.get("temperature"),
        "humidity": begin.get("humidity"),
        "verdict": finding.verdict,
        "verdict_words": VERDICT_WORDS[finding.verdict],
        "missing": list(finding.missing),
        "why_incomplete": next((e.get("reason") for e in reversed(events) if e["kind"] == "accepted"), None),
        "rule": RULES[plan.step.settings.get("decision", "guarded")],
        "rig_name": rig_name(take),
        "take": take.name,
        "due": accepted.due.isoformat() if accepted and accepted.due and wants_due else None,
    }


def reading_words(r: Any) -> dict[str, str]:
    return {
        "label": r.label,
        "value": "–" if r.value is None else round_to_doubt(r.value, r.uncertainty),
        "uncertainty": "–" if r.uncertainty is None else round_to_doubt(r.uncertainty, r.uncertainty),
        "unit": r.unit,
        "verdict": r.verdict,
        "reason": r.reason or "",
        "limits": sides(r.low, r.high, r.unit),
    }


def sides(low: float | None, high: float | None, unit: str) -> str:
    """Limits in words."""
    if low is None and high is None:
        return ""
    if low is not None and high is not None:
        return f"± {high:g} {unit}" if low == -high else f"{low:g} to {high:g} {unit}"
    return f"≥ {low:g} {unit}" if high is None else f"≤ {high:g} {unit}"


def rig_name(take: Take) -> str:
    """The rig that a take was made on."""
    from ..lab.textfiles import load_yaml

    return str(load_yaml(take.folder / "rig.yaml").get("name", ""))


def html_of(values: Mapping[str, Any], lab: Lab | None, template: str, folder: Path | None = None) -> str:
    """The page. A lab's own `templates/` go before those in `folder`, and these before ours."""
    from jinja2 import ChoiceLoader, FileSystemLoader, PackageLoader, TemplateError
    from jinja2.sandbox import ImmutableSandboxedEnvironment

    loaders: list[Any] = [PackageLoader("lucid_anvil.folio", "templates")]
    if folder is not None:
        loaders.insert(0, FileSystemLoader(folder))
    if lab is not None:
        loaders.insert(0, FileSystemLoader(lab.folder / "templates"))
    environment = ImmutableSandboxedEnvironment(loader=ChoiceLoader(loaders), autoescape=True)
    environment.filters["css"] = lambda text: Markup(css_text(text))
    try:
        return environment.get_template(template).render(**values)
    except (TemplateError, TypeError, ValueError, ArithmeticError, RecursionError) as problem:
        said = " ".join(str(problem).split())[:200]
        raise BadInput(f"The template {template} can't be used ({said}): mend it in the templates folder.") from None


def own_templates(lab: Lab | None) -> Path | None:
    return None if lab is None else lab.folder / "templates"


def fetcher(own: Path | None) -> Any:
    """What a page may fetch: files in the lab's own template folder, and what stands in the page itself."""
    from urllib.parse import unquote, urlparse

    from weasyprint.urls import URLFetcher

    root = own.resolve() if own is not None else None

    class OwnFolder(URLFetcher):  # type: ignore[misc]
        def fetch(self, url: str, headers: Any = None) -> Any:
            parts = urlparse(url)
            place = Path(unquote(parts.path)).resolve()
            own_file = parts.scheme == "file" and root is not None and place.is_relative_to(root)
            if parts.scheme != "data" and not own_file:
                raise ValueError(f"{url}: a template may fetch only from its own folder")
            return super().fetch(url, headers)

    return OwnFolder(allowed_protocols=("file", "data"), allow_redirects=False)


def css_text(value: Any) -> str:
    """Text as it stands between quotes in a style sheet (CSS Syntax, 4.3.5): what could end it, escaped."""
    return "".join(c if c.isalnum() or c in " .,-–·/()" else f"\\{ord(c):06x} " for c in str(value))


def write_pdf(html: str, place: Path, own: Path | None = None) -> None:
    """Raises BadInput when the file exists or can't be written."""
    import logging

    if place.exists():
        raise BadInput(f"{place}: it exists already: choose another name.")
    if not place.parent.exists():
        raise BadInput(f"{place}: the folder {place.parent} does not exist: make it first.")
    for name in ("weasyprint", "fontTools"):
        logging.getLogger(name).setLevel(logging.ERROR)
    # Fonts are stamped with the time unless this says another: the same report, the same bytes.
    os.environ.setdefault("SOURCE_DATE_EPOCH", "0")
    from weasyprint import HTML

    part = place.with_name(f".{place.name}.part")
    try:
        HTML(string=html, url_fetcher=fetcher(own)).write_pdf(part)
        os.link(part, place)  # fails where a paper stands already: none is ever written over
    except FileExistsError:
        raise BadInput(f"{place}: it exists already: choose another name.") from None
    except OSError as problem:
        raise BadInput(f"{place}: it can't be written ({problem.strerror or problem}).") from None
    finally:
        part.unlink(missing_ok=True)


def accepted_of(take: Take, lab: Lab | None) -> Calibration | None:
    """The ledger's calibration that rests on this take, if it was accepted."""
    unit = take.plan().sensors.get("unit")
    if lab is None or unit is None:
        return None
    history = lab.history(unit.serial)
    wanted = take.folder.resolve()
    return next((c for c in reversed(history) if c.take and Path(c.take).resolve() == wanted), None)


def certified(take: Take, finding: Finding) -> bool:
    """Whether its paper is a certificate: its domain has one for it, or it calibrates a sensor that the plan names."""
    if registry.paper(finding.method) is not None:
        return True
    return bool(registry.get(finding.method).calibrates) and {"unit", "reference"} <= set(take.plan().sensors)


def report(take: Take, place: Path) -> None:
    """The PDF of a take's counted finding: the paper that its domain has for it, the certificate of a calibration, a
    test report of all else. Raises BadInput."""
    close_take(take)
    finding = take.finding()
    if finding is None:
        raise BadInput(f"{take.folder}: it has no finding yet: 'lucid-anvil settle {take.folder}' reads it.")
    if (changed := wrong(take)) is not None:
        finding = finding.lacking([changed])
    lab = lab_of(take.folder)
    write_pdf(_page(take, finding, lab), place, own_templates(lab))


def _page(take: Take, finding: Finding, lab: Lab | None) -> str:
    own = registry.paper(finding.method)
    if own is not None:
        values = own.values(take, finding, lab, accepted_of(take, lab))
        return html_of(values, lab, own.template.name, own.template.parent)
    if certified(take, finding):
        from . import steps_certificate

        return html_of(
            steps_certificate.context(take, finding, lab, accepted_of(take, lab)), lab, "steps-certificate.html"
        )
    from .testreport import report_context

    return html_of(report_context(take, finding, lab), lab, "report.html")
