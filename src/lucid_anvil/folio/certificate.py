"""The calibration certificate: what ISO/IEC 17025:2017, 7.8.2 to 7.8.4 ask for, from a template a lab can change."""

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
from ..engine.evaluating import unfinished
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


def _rows(finding: Finding) -> list[dict[str, str]]:
    """The table: one row a frequency, with the digits that the doubt leaves."""
    sensitivity, deviation, phase = (finding.curve(k) for k in ("sensitivity", "deviation", "phase"))
    made = []
    points = {p["frequency"]: p for p in (finding.detail or {}).get("points", [])}
    for i, f in enumerate(sensitivity.x):
        row = {"frequency": f"{f:g}"}
        for name, curve in (("sensitivity", sensitivity), ("deviation", deviation), ("phase", phase)):
            y = curve.y[i]
            u = curve.uncertainty[i] if curve.uncertainty else None
            row[name] = "–" if y is None else round_to_doubt(y, u or None) if u else f"{y:.2g}" if y else "0"
            row[f"{name}_u"] = "–" if u is None else round_to_doubt(u, u) if u else "–"
        y, u = sensitivity.y[i], (sensitivity.uncertainty or (None,) * (i + 1))[i]
        row["relative_u"] = "–" if y is None or u is None else f"{100 * u / y:.2g}"
        row["fault"] = str(points.get(f, {}).get("fault") or "")
        made.append(row)
    return made


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


def context(take: Take, finding: Finding, lab: Lab | None, accepted: Calibration | None) -> dict[str, Any]:
    """All that the template may use."""
    from .plots import curve_svg

    finding = finding.lacking(unfinished(take))  # also where it was kept before that was looked at
    settings = take.plan().step.settings
    return {
        **head_of(take, finding, lab, accepted),
        "readings": [reading_words(r) for r in finding.readings],
        "rows": _rows(finding),
        "limits": settings.get("limits", {}).get("nominal_deviation", {}),
        "corridor": settings.get("corridor"),
        "coverage": _coverage(finding),
        "plot": curve_svg(finding.curve("deviation"), "deviation, %"),
        "reference_frequency": (finding.detail or {}).get("reference_frequency"),
        "notes": [n for n in finding.notes if "struck" in n or "spread" in n],
    }


def _coverage(finding: Finding) -> str:
    factors = [b["coverage"] for b in (finding.detail or {}).get("budgets", [])]
    if not factors:
        return "k = 2"
    low, high = min(factors), max(factors)
    return f"k = {low:.2f}" if high - low < 0.01 else f"k = {low:.2f} to {high:.2f}"


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


def html_of(values: Mapping[str, Any], lab: Lab | None, template: str = "certificate.html") -> str:
    """The page. A lab's own `templates/` go before ours."""
    from jinja2 import ChoiceLoader, FileSystemLoader, PackageLoader, TemplateError
    from jinja2.sandbox import ImmutableSandboxedEnvironment

    loaders: list[Any] = [PackageLoader("lucid_anvil.folio", "templates")]
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
    """Whether its paper is a certificate: a comparison of two sensors that the plan names."""
    if finding.method == "accelerometer-comparison":
        return True
    return bool(registry.get(finding.method).calibrates) and {"unit", "reference"} <= set(take.plan().sensors)


def report(take: Take, place: Path) -> None:
    """The PDF of a take's counted finding: certificate of a comparison, test report of all else. Raises BadInput."""
    close_take(take)
    finding = take.finding()
    if finding is None:
        raise BadInput(f"{take.folder}: it has no finding yet: 'lucid-anvil settle {take.folder}' reads it.")
    if (changed := wrong(take)) is not None:
        finding = finding.lacking([changed])
    lab = lab_of(take.folder)
    if certified(take, finding) and finding.method != "accelerometer-comparison":
        from . import steps_certificate

        values = steps_certificate.context(take, finding, lab, accepted_of(take, lab))
        write_pdf(html_of(values, lab, "steps-certificate.html"), place, own_templates(lab))
        return
    if finding.method != "accelerometer-comparison":
        from .testreport import report_context

        write_pdf(html_of(report_context(take, finding, lab), lab, "report.html"), place, own_templates(lab))
        return
    values = context(take, finding, lab, accepted_of(take, lab))
    write_pdf(html_of(values, lab), place, own_templates(lab))
