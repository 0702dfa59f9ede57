"""CSV in and out: a first row of `label [unit]`, a `time [s]` column or a `# rate_hz=...` line above it."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np

from ..contracts.recording import Channel, Floats, Recording, channel_of
from ..core.errors import BadInput

SMALL = 8_000_000
"""Bytes up to which a CSV is read without polars."""
_HEADER = re.compile(r"^\s*(.*?)\s*(?:\[([^\]]*)\])?\s*$")


def split_label(cell: str) -> tuple[str, str]:
    """`'reference [mV]'` as ('reference', 'mV')."""
    found = _HEADER.match(cell.strip().strip('"'))
    assert found
    return found[1].strip(), (found[2] or "").strip()


def _text_lines(path: Path) -> tuple[list[str], int, str]:
    """Comment lines, number of lines above the first row, and that row."""
    comments: list[str] = []
    try:
        with path.open(encoding="utf-8-sig") as file:
            for number, line in enumerate(file):
                if line.startswith("#"):
                    comments.append(line[1:].strip())
                elif line.strip():
                    return comments, number, line.rstrip("\r\n")
    except UnicodeDecodeError:
        raise BadInput(f"{path}: this is not a text file: give a CSV in UTF-8.") from None
    raise BadInput(f"{path}: the file is empty: it needs a row of 'label [unit]' and numbers below.")


def _is_number(cell: str) -> bool:
    try:
        float(cell.strip().replace(",", "."))
    except ValueError:
        return False
    return True


def _blame(path: Path, skip: int, delimiter: str, columns: int, decimal_comma: bool) -> BadInput:
    """The first cell that can't be read, named by line and column."""
    with path.open(encoding="utf-8-sig", errors="replace") as file:
        for number, line in enumerate(file, start=1):
            if number <= skip or not line.strip():
                continue
            cells = line.rstrip("\r\n").split(delimiter)
            if len(cells) != columns:
                return BadInput(
                    f"{path}, line {number}: {len(cells)} cells where the first row has {columns}:"
                    " mend or cut that line."
                )
            for place, cell in enumerate(cells, start=1):
                text = cell.strip().replace(",", ".") if decimal_comma else cell.strip()
                try:
                    good = np.isfinite(float(text))
                except ValueError:
                    good = False
                if not good:
                    return BadInput(
                        f"{path}, line {number}, column {place}: '{cell.strip()}' is not a number: mend that cell."
                    )
    return BadInput(f"{path}: the numbers can't be read: check delimiter and decimal sign.")


def _table(path: Path, skip: int, delimiter: str, columns: int, decimal_comma: bool) -> Floats:
    if not decimal_comma and path.stat().st_size < SMALL:
        return _small_table(path, skip, delimiter, columns)
    import polars

    names = [f"c{i}" for i in range(columns)]
    try:
        frame = polars.read_csv(
            path, has_header=False, skip_lines=skip, separator=delimiter, decimal_comma=decimal_comma,
            new_columns=names, schema_overrides=dict.fromkeys(names, polars.Float64),
        )  # fmt: skip
        table = frame.to_numpy()
    except Exception:
        return _slow_table(path, skip, delimiter, columns, decimal_comma)
    if table.shape[1] != columns or not np.all(np.isfinite(table)):
        raise _blame(path, skip, delimiter, columns, decimal_comma)
    return table


def _small_table(path: Path, skip: int, delimiter: str, columns: int) -> Floats:
    """A short file is read before the fast reader for long ones would be imported."""
    rows = path.read_text(encoding="utf-8-sig").splitlines()[skip:]
    if not any(row.strip() for row in rows):
        return np.zeros((0, columns))
    try:
        table = np.loadtxt(rows, delimiter=delimiter, comments=None, ndmin=2)
    except ValueError:
        return _slow_table(path, skip, delimiter, columns, False)
    if table.shape[1] != columns or not np.all(np.isfinite(table)):
        raise _blame(path, skip, delimiter, columns, False)
    return table


def _slow_table(path: Path, skip: int, delimiter: str, columns: int, decimal_comma: bool) -> Floats:
    """For blanks around cells and the like, which the fast reader refuses."""
    rows = []
    with path.open(encoding="utf-8-sig") as file:
        for number, line in enumerate(file):
            if number < skip or not line.strip():
                continue
            cells = line.split(delimiter)
            try:
                rows.append([float(c.strip().replace(",", ".") if decimal_comma else c) for c in cells])
            except ValueError:
                raise _blame(path, skip, delimiter, columns, decimal_comma) from None
    if any(len(row) != columns for row in rows):
        raise _blame(path, skip, delimiter, columns, decimal_comma)
    table = np.array(rows, dtype=float).reshape(len(rows), columns)
    if not np.all(np.isfinite(table)):
        raise _blame(path, skip, delimiter, columns, decimal_comma)
    return table


def read_csv(path: Path) -> Recording:
    """Read a CSV record, also as offices write it: `sep=;` above, cells in quotes, UTF-16. Raises BadInput naming
    file, line and cure."""
    plain = _plain_text(path)
    if plain is None:
        return _noted(_read_csv(path), path)
    import tempfile

    with tempfile.TemporaryDirectory() as work:
        place = Path(work) / "plain.csv"
        place.write_text(plain, encoding="utf-8")
        try:
            made = _read_csv(place)
        except BadInput as problem:
            raise BadInput(str(problem).replace(str(place), str(path))) from None
    return _noted(Recording(str(path), made.channels, made.meta), path)


def _noted(made: Recording, path: Path) -> Recording:
    """With a word where the last line does not end: a text says nowhere how long it should be."""
    with path.open("rb") as file:
        file.seek(-min(path.stat().st_size, 2), 2)
        ended = b"\n" in file.read()
    if ended:
        return made
    word = "The last line of the file does not end: if the file was cut, its last row is cut too."
    return Recording(made.source, made.channels, {**made.meta, "notes": (word,)})


def _plain_text(path: Path) -> str | None:
    """The text without quotes, in one delimiter, its lines where they were; None where it is plain already."""
    import csv

    with path.open("rb") as file:
        head = file.read(65536)
    wide = head[:2] in (b"\xff\xfe", b"\xfe\xff")
    named = re.match(rb"(?:\xef\xbb\xbf)?\s*sep=(.)", head, re.IGNORECASE)
    if not wide and not named and b'"' not in head:
        return None
    try:
        text = path.read_bytes().decode("utf-16" if wide else "utf-8-sig")
    except UnicodeDecodeError:
        raise BadInput(f"{path}: this is not a text file: give a CSV in UTF-8.") from None
    lines = text.splitlines()
    found = re.match(r"\s*sep=(.)\s*$", lines[0], re.IGNORECASE) if lines else None
    delimiter = found[1] if found else None
    if found:
        lines[0] = "#"
    first = next((line for line in lines if line.strip() and not line.startswith("#")), "")
    bare = re.sub(r'"[^"]*"', "", first)
    delimiter = delimiter or max(("\t", ";", ","), key=bare.count)
    made = []
    for line in lines:
        if not line.strip() or line.startswith("#"):
            made.append(line)
            continue
        cells = next(csv.reader([line], delimiter=delimiter))
        made.append(";".join(c.strip().replace(";", " ") for c in cells))
    return "\n".join(made) + "\n"


def _read_csv(path: Path) -> Recording:
    comments, above, first = _text_lines(path)
    delimiter = max(("\t", ";", ","), key=first.count)
    if first.count(delimiter) == 0:
        delimiter = ","
    cells = first.split(delimiter)
    if all(_is_number(c) for c in cells):
        raise BadInput(f"{path}, line {above + 1}: the first row must name its columns as 'label [unit]'.")
    named = [split_label(c) for c in cells]
    comma = delimiter != "," and _has_decimal_comma(path, above + 1)
    table = _table(path, above + 1, delimiter, len(cells), comma)
    if table.shape[0] < 2:
        raise BadInput(f"{path}: there are fewer than two rows of numbers below the first row.")
    rate = None
    for line in comments:
        if found := re.match(r"rate_hz\s*=\s*(\S+)", line):
            if not _is_number(found[1]) or float(found[1].replace(",", ".")) <= 0:
                raise BadInput(f"{path}: '# {line}' gives no rate: write '# rate_hz=51200'.")
            rate = float(found[1].replace(",", "."))
    if named[0][0].lower() in ("time", "t"):
        rate = _rate_of(path, table[:, 0], named[0][1], above + 2)
        table, named = table[:, 1:], named[1:]
    if rate is None:
        raise BadInput(f"{path}: no rate: put a 'time [s]' column first, or a line '# rate_hz=...' above.")
    if not named:
        raise BadInput(f"{path}: there is no column beside the time.")
    columns = np.ascontiguousarray(table.T)
    channels = tuple(
        channel_of(label or f"ch{i}", unit, rate, columns[i - 1]) for i, (label, unit) in enumerate(named, start=1)
    )
    return Recording(str(path), channels, {"format": "csv"})


def _has_decimal_comma(path: Path, skip: int) -> bool:
    """Whether any line below the heading has a comma; it may first come late."""
    with path.open("rb") as file:
        for _ in range(skip):
            file.readline()
        while piece := file.read(1 << 20):
            if b"," in piece:
                return True
    return False


def _rate_of(path: Path, time: Floats, unit: str, line: int) -> float:
    from ..core.quantities import factor

    t = time * factor(unit or "s", "s")
    steps = np.diff(t)
    if np.any(steps <= 0):
        raise BadInput(
            f"{path}, line {line + 1 + int(np.argmax(steps <= 0))}: time does not rise: mend the time column."
        )
    step = (t[-1] - t[0]) / (t.size - 1)
    uneven = np.abs(steps - step)
    if uneven.max() > 1e-3 * step:
        worst = int(np.argmax(uneven))
        raise BadInput(
            f"{path}, line {line + 1 + worst}: time steps are uneven by {100 * uneven.max() / step:.2g} %"
            " (0.1 % is allowed): write the time with more decimals, or use '# rate_hz=...' without a time column."
        )
    nominal = round(1 / step)
    return float(nominal) if nominal and abs(1 / step / nominal - 1) < 1e-6 else float(1 / step)


def write_csv(path: Path, recording: Recording) -> None:
    """Write channels of one rate, with time first. Raises BadInput when the rates or lengths differ."""
    import polars

    channels = one_rate(recording, path)
    n = channels[0].length
    columns = {"time [s]": np.arange(n) / channels[0].rate}
    for c in channels:
        name = f"{c.label} [{c.unit}]"
        if name in columns or any(mark in name for mark in ',;\t\n"'):
            raise BadInput(f"{path}: the label '{c.label}' can't stand in a CSV row: rename that channel.")
        columns[name] = c.samples()
    polars.DataFrame(columns).write_csv(path, quote_style="never")


def one_rate(recording: Recording, path: Path) -> tuple[Channel, ...]:
    """The channels, when they share rate and length. Raises BadInput."""
    if not recording.channels:
        raise BadInput(f"{recording.source}: there is no channel to write.")
    first = recording.channels[0]
    if any(c.rate != first.rate or c.length != first.length for c in recording.channels):
        raise BadInput(f"{path}: the channels differ in rate or length, which this format can't hold: use .h5.")
    return recording.channels
