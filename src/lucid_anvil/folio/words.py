"""The words of papers in other languages: a table from our English to another, which a lab can add to or replace."""

from __future__ import annotations

import re
from collections.abc import Callable
from importlib import resources
from pathlib import Path

from ..core.errors import BadInput
from ..lab.place import Lab
from ..lab.textfiles import load_yaml, parse_yaml

PATTERN = "words.{}.yaml"
NAMED = re.compile(r"(\D+?),? (\d[\d.,]*( \S+)?)")
"""A name, and a number with its unit"""


def languages(lab: Lab | None) -> list[str]:
    """Languages that papers can be in, English first."""
    ours = [p.name for p in resources.files("lucid_anvil.folio").joinpath("templates").iterdir()]
    own = [p.name for p in (lab.folder / "templates").glob(PATTERN.format("*"))] if lab is not None else []
    found = {n.split(".")[1] for n in (*ours, *own) if n.startswith("words.") and n.count(".") == 2}
    return ["en", *sorted(found - {"en"})]


def words(language: str, lab: Lab | None) -> Callable[[str], str]:
    """What says a phrase in a language; what its table does not hold stays English. Raises BadInput."""
    table = _ours(language)
    own = None if lab is None else lab.folder / "templates" / PATTERN.format(language)
    if own is not None and own.exists():
        table = {**table, **_checked(load_yaml(own), own)}
    elif not table and language != "en":
        known = ", ".join(languages(lab))
        raise BadInput(f"There are no words in '{language}': known are {known}; a table templates/words.{language}.yaml"
                       " in the lab's folder adds one.")  # fmt: skip

    def said(phrase: str) -> str:
        whole = str(phrase)
        if whole in table:
            return table[whole]
        # A name with its value, like "Proof strength 0.2 %": the name alone stands in the table.
        parted = NAMED.fullmatch(whole)
        return f"{table[parted[1]]} {parted[2]}" if parted is not None and parted[1] in table else whole

    return said


def _ours(language: str) -> dict[str, str]:
    place = resources.files("lucid_anvil.folio").joinpath("templates", PATTERN.format(language))
    if not place.is_file():
        return {}
    return _checked(parse_yaml(place.read_text(encoding="utf-8"), str(place)), Path(str(place)))


def _checked(held: object, place: Path) -> dict[str, str]:
    if not isinstance(held, dict) or any(not isinstance(v, str) for v in held.values()):
        raise BadInput(f"{place}: a table of words is wanted: English phrase, colon, the same in the other language.")
    return {str(k): v for k, v in held.items()}
