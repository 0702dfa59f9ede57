"""Writes the manual's reference pages anew from what the methods say of themselves."""

from __future__ import annotations

from pathlib import Path

from lucid_anvil.contracts.manual import reference

PLACE = Path(__file__).resolve().parent.parent / "src" / "lucid_anvil" / "data" / "manual"


def main() -> None:
    for old in PLACE.glob("method-*.md"):
        old.unlink()
    for name, text in reference().items():
        (PLACE / name).write_text(text, encoding="utf-8")
    print(f"{len(reference())} pages in {PLACE}")


if __name__ == "__main__":
    main()
