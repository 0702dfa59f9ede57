"""Lists the licence of every package that the program needs, with what each of them needs in turn."""

from __future__ import annotations

import re
from importlib.metadata import PackageNotFoundError, distribution


def needed(name: str, seen: dict[str, str]) -> None:
    """Add a package and what it needs to `seen`: name with version, and licence as it states it."""
    key = re.sub(r"[-_.]+", "-", name).lower()
    if key in seen:
        return
    try:
        held = distribution(name)
    except PackageNotFoundError:
        return
    meta = held.metadata
    classified = [c.split(" :: ")[-1] for c in meta.get_all("Classifier") or [] if c.startswith("License ::")]
    stated = meta.get("License-Expression") or "; ".join(classified) or (meta.get("License") or "").split("\n")[0]
    seen[key] = f"{held.metadata['Name']} {held.version}: {stated or 'not stated'}"
    for wanted in held.requires or ():
        if "extra ==" not in wanted:
            needed(re.split(r"[ ;<>=!~\[(]", wanted, maxsplit=1)[0], seen)


def main() -> None:
    seen: dict[str, str] = {}
    needed("lucid-anvil", seen)
    for key in sorted(seen):
        print(seen[key])


if __name__ == "__main__":
    main()
