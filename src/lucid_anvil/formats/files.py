"""Reading and writing by file ending. A file is written beside its place and renamed when whole."""

from __future__ import annotations

import os
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from ..contracts.recording import Channel, Recording, channel_of
from ..core.errors import BadInput
from .beside import facts_in, from_short, short, text_of
from .csvfile import one_rate, read_csv, write_csv
from .whole import check_mat, check_sound, even_rate, finite

LONGEST_WAV = 4_294_000_000
"""bytes that the sizes in a WAV's header can tell"""


def read_wav(path: Path) -> Recording:
    """WAV, RF64, W64. Integer full scale is 1.0; taken as 1 V until a setting says what it means, unless the file is
    one of ours, which says what its samples are."""
    import soundfile

    check_sound(path)
    try:
        with soundfile.SoundFile(str(path)) as file:
            samples, rate = file.read(dtype="float64", always_2d=True), file.samplerate
            known = facts_in(file.comment, samples.shape[1])
    except Exception as problem:
        raise BadInput(f"{path}: this is not a sound file that can be read ({problem}).") from None
    if samples.shape[0] < 2:
        raise BadInput(f"{path}: the sound file holds no samples.")
    finite(samples, path, [f"channel {i + 1}" for i in range(samples.shape[1])])
    if known is not None:
        facts, about = known
        own = tuple(
            channel_of(str(c.pop("label")), str(c.pop("unit", "")), rate, samples[:, i], c) for i, c in enumerate(facts)
        )
        return Recording(str(path), own, {**about, "format": "wav"})
    channels = tuple(
        channel_of(f"ch{i + 1}", "V", rate, samples[:, i], {"full_scale": True}) for i in range(samples.shape[1])
    )
    return Recording(str(path), channels, {"format": "wav"})


def write_wav(path: Path, recording: Recording) -> None:
    """64-bit float samples, in the channels' own units; labels, units and sensors travel in the comment, which W64
    has not."""
    import soundfile

    channels = one_rate(recording, path)
    kind = {".w64": "W64", ".rf64": "RF64"}.get(_ending(path), "WAV")
    table = np.column_stack([c.samples() for c in channels])
    rate = round(channels[0].rate)
    if kind == "WAV" and table.nbytes > LONGEST_WAV:
        raise BadInput(f"{path}: {table.nbytes / 1e9:.1f} GB are more than a WAV holds: use .rf64 or .w64.")
    if abs(channels[0].rate - rate) > 1e-6:
        raise BadInput(f"{path}: a rate of {channels[0].rate} Hz is not whole, which this format needs.")
    with soundfile.SoundFile(str(path), "w", rate, table.shape[1], "DOUBLE", format=kind) as file:
        if kind != "W64":
            file.comment = text_of(recording)
        file.write(table)


def read_uff(path: Path) -> Recording:
    """Universal file, dataset 58, time records (function type 1). Raises BadInput, for a file that is cut too."""
    import tempfile

    import pyuff

    text = path.read_bytes()
    if not text.lstrip().startswith(b"-1"):
        raise BadInput(f"{path}: this is not a universal file: it begins with no dataset.")
    if not text.rstrip().endswith(b"-1"):
        raise BadInput(f"{path}: the file is cut: its last dataset has no end; take it whole.")
    place = str(path)
    with tempfile.TemporaryDirectory() as work:
        mended = _E_EXPONENTS.sub(rb"\1E\2", text) if b"binary" not in text[:400].lower() else text
        if mended != text:  # exponents as FORTRAN writes them
            place = str(Path(work) / "mended.uff")
            Path(place).write_bytes(mended)
        try:
            file = pyuff.UFF(place)
            kinds = file.get_set_types()
            sets = [file.read_sets(i) for i in np.flatnonzero(np.asarray(kinds) == 58)]
        except Exception as problem:
            said = " ".join(str(problem).split())[:160]
            raise BadInput(f"{path}: this is not a universal file that can be read ({said}).") from None
    channels = []
    for i, data in enumerate(sets, start=1):
        if data["func_type"] == 1:
            channels.append(_uff_channel(path, i, data))
    if not channels:
        raise BadInput(f"{path}: there is no time record (dataset 58, function type 1) in it.")
    return Recording(str(path), tuple(channels), {"format": "uff58"})


_E_EXPONENTS = re.compile(rb"(\d)[Dd]([+-]?\d)")


def _uff_channel(path: Path, number: int, data: Any) -> Channel:
    label = str(data.get("id1", "")).strip()
    label = label if label and label.upper() != "NONE" else f"ch{number}"
    unit, axis = (str(data.get(k, "")).strip() for k in ("ordinate_axis_units_lab", "abscissa_axis_units_lab"))
    unit, axis = ("" if u.upper() == "NONE" else u for u in (unit, axis))
    x = np.asarray(data["data"])
    if int(data.get("num_pts", x.size)) != x.size:
        raise BadInput(
            f"{path}: {label} is cut: {int(data['num_pts'])} samples are stated and {x.size} are there; take it whole."
        )
    if np.iscomplexobj(x) and np.any(x.imag != 0):
        raise BadInput(f"{path}: {label} holds complex samples, which are no time record: give real ones.")
    if int(data.get("abscissa_spacing", 1)) == 1:
        step = float(data.get("abscissa_inc") or 0.0)
        if not step > 0:
            raise BadInput(f"{path}: {label} states no step of time: write it with an even abscissa.")
        rate = even_rate(np.array([0.0, step]), axis, path)
        rate = float(round(rate)) if abs(rate / max(round(rate), 1) - 1) < 1e-5 else rate
    else:
        rate = even_rate(np.asarray(data["x"], float), axis, path)
    meta = from_short([str(data.get(f"id{k}", "")) for k in (3, 4, 5)])
    samples = finite(np.asarray(x.real, float)[:, None], path, [label])[:, 0]
    return channel_of(label, unit, rate, samples, meta)


def write_uff(path: Path, recording: Recording) -> None:
    """One dataset 58 a channel, double precision, ASCII."""
    import pyuff

    file = pyuff.UFF(str(path))
    for i, c in enumerate(recording.channels):
        x = c.samples()
        made: dict[str, object] = {
            "type": 58, "binary": 0, "func_type": 1, "rsp_node": i + 1, "rsp_dir": 0, "ref_node": 0, "ref_dir": 0,
            "id1": c.label, "id2": "written by Lucid Anvil",
            **{f"id{k}": line for k, line in enumerate(short(c), start=3)}, "ord_data_type": 4, "num_pts": c.length,
            "abscissa_spacing": 1, "abscissa_min": 0.0, "abscissa_inc": 1.0 / c.rate, "data": x,
            "x": np.arange(c.length) / c.rate, "abscissa_axis_lab": "time", "abscissa_axis_units_lab": "s",
            "ordinate_axis_lab": c.label[:20], "ordinate_axis_units_lab": c.unit[:20],
        }  # fmt: skip
        # The dataset's other axes and exponents are not used; the format wants them stated all the same.
        for axis in ("abscissa", "ordinate", "orddenom", "z_axis"):
            for name in ("spec_data_type", "len_unit_exp", "force_unit_exp", "temp_unit_exp"):
                made.setdefault(f"{axis}_{name}", 0)
            for name in ("axis_lab", "axis_units_lab"):
                made.setdefault(f"{axis}_{name}", "NONE")
        file.write_sets(made, "add" if i else "overwrite")


def read_mat(path: Path) -> Recording:
    """MAT version 5: `data` (n, channels) with `rate_hz`, `labels` and `units`; or plain vectors of one length
    with `rate_hz`, `fs` or a vector `time` [s]."""
    import scipy.io

    try:
        held = {k: v for k, v in scipy.io.loadmat(str(path), squeeze_me=True).items() if not k.startswith("__")}
    except NotImplementedError:
        raise BadInput(f"{path}: this is a MAT 7.3 file: save it as version 5 (or give the data as .h5).") from None
    except Exception as problem:
        raise BadInput(f"{path}: this is not a MAT file that can be read ({problem}).") from None
    check_mat(path)
    if any(np.iscomplexobj(v) and np.any(np.imag(v) != 0) for v in held.values() if np.ndim(v) >= 1):
        raise BadInput(f"{path}: it holds complex samples, which are no time record: give real ones.")
    held = {k: np.real(v) if np.iscomplexobj(v) else v for k, v in held.items()}
    rate = next((float(held[k]) for k in ("rate_hz", "fs", "Fs", "rate") if np.size(held.get(k, [])) == 1), None)
    time = next((np.asarray(held[k], float) for k in ("time", "t") if k in held and np.ndim(held[k]) == 1), None)
    if rate is None and time is not None and time.size > 1:
        rate = even_rate(time, str(held.get("time_unit", "")).strip(), path)
    if rate is None or not np.isfinite(rate) or rate <= 0:
        raise BadInput(f"{path}: no rate: it needs a number 'rate_hz', or a vector 'time' in seconds.")
    labels = [str(v).strip() for v in np.atleast_1d(held.get("labels", []))]
    units = [str(v).strip() for v in np.atleast_1d(held.get("units", []))]
    if "data" in held:
        table = np.atleast_2d(np.asarray(held["data"], float))
        table = table.T if table.shape[0] < table.shape[1] else table
        names = labels or [f"ch{i + 1}" for i in range(table.shape[1])]
        columns = list(table.T)
    else:
        names = [k for k, v in held.items() if np.ndim(v) == 1 and np.issubdtype(np.asarray(v).dtype, np.number)]
        names = [k for k in names if k not in ("time", "t") and np.size(held[k]) > 1]
        columns = [np.asarray(held[k], float) for k in names]
    if not columns:
        raise BadInput(f"{path}: there is no vector of samples in it.")
    if any(not np.all(np.isfinite(c)) for c in columns):
        raise BadInput(f"{path}: a channel holds values that are not numbers.")
    for what, told in (("labels", len(names)), ("units", len(units) or len(columns))):
        if told != len(columns):
            raise BadInput(f"{path}: it has {len(columns)} channels and {told} {what}: give one for each.")
    units = units or [""] * len(columns)
    facts, about = facts_in(str(held.get("about", "")), len(columns)) or ([{} for _ in columns], {})
    channels = tuple(
        channel_of(n, u, rate, c, {k: v for k, v in m.items() if k not in ("label", "unit")})
        for n, u, c, m in zip(names, units, columns, facts, strict=True)
    )
    return Recording(str(path), channels, {**about, "format": "mat"})


def write_mat(path: Path, recording: Recording) -> None:
    """MAT version 5 as `read_mat` reads it."""
    import scipy.io

    channels = one_rate(recording, path)
    scipy.io.savemat(
        str(path),
        {
            "rate_hz": channels[0].rate,
            "about": text_of(recording),
            "labels": np.array([c.label for c in channels], dtype=object),
            "units": np.array([c.unit for c in channels], dtype=object),
            "data": np.column_stack([c.samples() for c in channels]),
        },
    )


def read_hdf5(path: Path) -> Recording:
    """A take's raw.h5, or the same layout in one file; samples are read when they are asked for."""
    from .hdf5file import read_raw

    return read_raw(path)


def read_xlsx(path: Path) -> Recording:
    """A spreadsheet with a heading row, time first."""
    from .xlsxfile import read_xlsx as reader

    return reader(path)


def write_xlsx(path: Path, recording: Recording) -> None:
    from .xlsxfile import write_xlsx as writer

    writer(path, recording)


def write_hdf5(path: Path, recording: Recording) -> None:
    from .hdf5file import write_raw

    write_raw(path, recording)


_READERS: dict[str, Callable[[Path], Recording]] = {
    ".csv": read_csv, ".txt": read_csv, ".tsv": read_csv, ".wav": read_wav, ".rf64": read_wav, ".w64": read_wav,
    ".uff": read_uff, ".unv": read_uff, ".uf": read_uff, ".mat": read_mat, ".h5": read_hdf5, ".hdf5": read_hdf5,
    ".xlsx": read_xlsx,
}  # fmt: skip
_WRITERS: dict[str, Callable[[Path, Recording], None]] = {
    ".csv": write_csv, ".wav": write_wav, ".rf64": write_wav, ".w64": write_wav, ".uff": write_uff,
    ".unv": write_uff, ".mat": write_mat, ".h5": write_hdf5, ".hdf5": write_hdf5,
    ".xlsx": write_xlsx,
}  # fmt: skip
ENDINGS = tuple(_WRITERS)


def _ending(path: Path) -> str:
    return path.suffix.lower()


def read(path: str | os.PathLike[str], logs: bool = False) -> Recording:
    """Read a record of any known format. With `logs` a text may be a logger's, its rows uneven in time. Raises
    BadInput."""
    place = Path(path)
    if place.is_dir() and (place / "raw.h5").exists():
        return read_hdf5(place / "raw.h5")
    if not place.exists():
        raise BadInput(f"{place}: there is no such file.")
    if place.is_dir():
        raise BadInput(f"{place}: this is a folder, not a record.")
    reader = _READERS.get(_ending(place))
    if logs and reader is read_csv and _is_log(place):
        from .logfile import read_log as reader
    if reader is None:
        raise BadInput(f"{place}: the ending '{place.suffix}' is not known: use one of {', '.join(_READERS)}.")
    try:
        return reader(place)
    except OSError as problem:
        raise BadInput(f"{place}: it can't be read ({problem.strerror or problem}).") from None


def _is_log(path: Path) -> bool:
    """Whether a text's first column is a time; one with a rate above it, or none, is read as any record."""
    if not path.is_file():
        return False
    with path.open("rb") as file:
        head = file.read(4096).replace(b"\0", b"").decode("utf-8", errors="ignore").lstrip("\ufeff\u00ff\u00fe")
    lines = [line for line in head.splitlines() if line.strip()]
    first = next((s for s in lines if not s.startswith("#") and not s.lower().startswith("sep=")), "")
    label = re.split(r"[,;\t\[]", first.strip().strip('"'))[0].strip().strip('"').lower()
    return label in ("time", "t", "date", "datetime", "timestamp")


def write(path: str | os.PathLike[str], recording: Recording) -> None:
    """Write a record in the format of the ending. A file that exists is never written over. Raises BadInput."""
    place = Path(path)
    writer = _WRITERS.get(_ending(place))
    if writer is None:
        raise BadInput(f"{place}: the ending '{place.suffix}' can't be written: use one of {', '.join(_WRITERS)}.")
    if place.exists():
        raise BadInput(f"{place}: it exists already: choose another name.")
    if not place.parent.is_dir():
        raise BadInput(f"{place}: the folder {place.parent} does not exist: make it first.")
    if any(c.length < 2 for c in recording.channels):
        raise BadInput(f"{place}: a record needs two samples at least in each channel: take a longer stretch.")
    part = place.with_name(f".{place.stem}.part{place.suffix}")
    try:
        writer(part, recording)
        os.replace(part, place)
    except (OSError, RuntimeError) as problem:
        said = " ".join(str(getattr(problem, "strerror", None) or problem).split())[:160]
        raise BadInput(f"{place}: it can't be written ({said}).") from None
    finally:
        part.unlink(missing_ok=True)
