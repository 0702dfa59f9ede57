"""Records as spreadsheets: a sheet with time and one column a channel, and one with what is known of them."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from ..contracts.recording import Recording, channel_of
from ..core.errors import BadInput
from .csvfile import one_rate, split_label
from .whole import even_rate, finite

ROWS = 1_048_575
"""A sheet's rows below its heading"""


def write_xlsx(path: Path, recording: Recording) -> None:
    """Sheets `record` and `about`. Raises BadInput for more samples than a sheet has rows."""
    import openpyxl

    channels = one_rate(recording, path)
    n = channels[0].length
    if n > ROWS:
        raise BadInput(f"{path}: {n} samples are more than a sheet's {ROWS} rows: crop it, or use .h5 or .mat.")
    book = openpyxl.Workbook(write_only=True)
    sheet = book.create_sheet("record")
    sheet.append(["time [s]", *(f"{c.label} [{c.unit}]" for c in channels)])
    table = np.column_stack([np.arange(n) / channels[0].rate, *(c.samples() for c in channels)])
    for row in table.tolist():
        sheet.append(row)
    about = book.create_sheet("about")
    about.append(["source", recording.source])
    about.append(["rate_hz", channels[0].rate])
    for key, value in recording.meta.items():
        if isinstance(value, (str, int, float)):
            about.append([key, value])
    for c in channels:
        for key, value in c.meta.items():
            if isinstance(value, (str, int, float)):
                about.append([f"{c.label}.{key}", value])
    book.save(path)


def _about(book: Any) -> dict[str, Any]:
    if "about" not in book.sheetnames:
        return {}
    return {str(r[0]): r[1] for r in book["about"].iter_rows(values_only=True) if r and r[0] is not None}


def read_xlsx(path: Path) -> Recording:
    """The first sheet (or `record`): a heading row, a first column of time in seconds unless `about` gives `rate_hz`,
    then one column a channel, headed like 'unit [V]'. Raises BadInput."""
    import openpyxl

    try:
        book = openpyxl.load_workbook(path, read_only=True, data_only=True)
    except Exception as problem:
        raise BadInput(f"{path}: this is not a spreadsheet that can be read ({problem}).") from None
    sheet = book["record"] if "record" in book.sheetnames else book.worksheets[0]
    rows = list(sheet.iter_rows(values_only=True))
    about = _about(book)
    book.close()
    if len(rows) < 3 or not any(isinstance(v, str) for v in rows[0]):
        raise BadInput(f"{path}: a heading row and at least two rows of numbers are needed.")
    try:
        table = np.array([[float(v) for v in r] for r in rows[1:] if any(v is not None for v in r)])
    except (TypeError, ValueError):
        raise BadInput(f"{path}: a cell below the heading is empty or no number: mend the sheet.") from None
    if table.ndim != 2:
        raise BadInput(f"{path}: its rows are not of one length: mend the sheet.")
    names = [str(v or f"ch{i}").strip() for i, v in enumerate(rows[0])]
    label, unit = split_label(names[0])
    timed = label.lower().startswith("time") or label.lower() == "t"
    if timed and label.lower() not in ("time", "t"):
        raise BadInput(f"{path}: '{names[0]}' does not say its unit: head the time like 'time [s]'.")
    rate = about.get("rate_hz")
    if rate is None and timed:
        rate = even_rate(table[:, 0], unit, path)
    if not isinstance(rate, (int, float)) or rate <= 0:
        raise BadInput(f"{path}: no rate: a first column 'time [s]' is needed, or rate_hz on a sheet 'about'.")
    finite(table, path, names)
    channels = []
    for i, name in enumerate(names):
        if i == 0 and timed:
            continue
        label, _, unit = name.partition(" [")
        meta = {k.split(".", 1)[1]: v for k, v in about.items() if k.startswith(f"{label}.")}
        channels.append(channel_of(label, unit.rstrip("]"), float(rate), table[:, i], meta))
    return Recording(str(path), tuple(channels), {"format": "xlsx"})
