"""Writing and reading run files (HDF5).

A run file holds the description (as written) and the small files that it names, the modes, and the reduced model.
It is written under a temporary name and moved into place; its last entry says that it is whole.
"""

from __future__ import annotations

import json
import tempfile
from collections.abc import Callable
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from holokine.describe.document import Document, Places, read_document, validated
from holokine.errors import HolokineError, RunFileError
from holokine.gauges.channels import Channel, Derived
from holokine.modes.check import Finding
from holokine.modes.extract import ModeSet
from holokine.respond.reduced import ReducedModel
from holokine.system.build import System
from holokine.system.totals import MassTotals
from holokine.whole import whole_file

__all__ = ["RunContents", "is_run_file", "read_run", "refuse_overwriting", "write_run"]

Floats = NDArray[Any]  # float64
FORMAT = 1
_MARK = "holokine run"
_SIGNATURE = b"\x89HDF\r\n\x1a\n"
_MODE_ARRAYS = ("frequencies_hz", "shapes", "rigid", "residuals", "participation", "whole_mass", "free_mass")
_REDUCED_ARRAYS = (
    "omega", "damping", "participation", "modal", "modal_damper", "residual", "static", "rigid", "captured",
    "free_mass", "whole_mass",
)  # fmt: skip
# what may change without touching modes or reduced model
_HARMLESS = frozenset({"events", "title", "modes", "bands", "groups", "limits", "variants", "loads"})


@dataclass(frozen=True)
class RunContents:
    """What a run file holds.

    Attributes
    ----------
    document : Document
        The description: as it is now where only events have changed since, else as saved.
    modes : ModeSet
    reduced : ReducedModel or None
        None with rigid-body modes, or modes that do not start at the lowest.
    dampers : tuple
        Damping ratios that discrete dampers add, and how much they couple the modes.
    version, created : str
        Of holokine, and when (UTC).
    findings : tuple of Finding
        What opening it noticed.
    """

    document: Document
    modes: ModeSet
    reduced: ReducedModel | None
    dampers: tuple[Floats, float]
    version: str
    created: str
    findings: tuple[Finding, ...]


def is_run_file(path: Path) -> bool:
    """Whether a file is HDF5 (it may still be damaged or foreign)."""
    try:
        with path.open("rb") as file:
            return file.read(8) == _SIGNATURE
    except OSError:
        return False


def refuse_overwriting(path: Path) -> None:
    """Raise where a run file may not be written: over another kind of file, or into no folder.

    Raises
    ------
    RunFileError
    """
    if path.exists() and not is_run_file(path):
        raise RunFileError(f"{path}: is another kind of file and is not overwritten; choose another name")
    if not path.resolve().parent.is_dir():
        raise RunFileError(f"{path}: there is no folder {path.resolve().parent}")


def write_run(
    path: Path,
    document: Document,
    modes: ModeSet,
    reduced: ReducedModel | None,
    dampers: tuple[Floats, float],
    *,
    version: str,
    created: str,
) -> None:
    """Write a run file; what was there before is replaced only by a whole one.

    Raises
    ------
    RunFileError
        When another kind of file stands in its place, or it cannot be written.
    """
    import h5py

    refuse_overwriting(path)
    with whole_file(path, RunFileError) as part, h5py.File(part, "w") as file:
        file.attrs["kind"] = _MARK
        file.attrs["format"] = FORMAT
        file.attrs["version"] = version
        file.attrs["created"] = created
        file.attrs["fingerprint"] = document.fingerprint
        file.attrs["source"] = document.places.source
        file.attrs["folder"] = str(document.folder.resolve())
        file["description"] = json.dumps(document.data, default=_plain)
        named = file.create_group("files")
        for name in named_files(document):
            content = np.frombuffer((document.folder / name).read_bytes(), dtype=np.uint8)
            named.create_dataset(name.replace("/", "\\"), data=content, compression="gzip" if content.size else None)
        _write_modes(file.create_group("modes"), modes, dampers)
        if reduced is not None:
            _write_reduced(file.create_group("reduced"), reduced)
        file.attrs["whole"] = True


def read_run(path: Path, builder: Callable[[Document], Callable[[], System]], *, as_saved: bool = False) -> RunContents:
    """Open a run file.

    Parameters
    ----------
    builder : callable
        Given a document, says how to build its system when something needs it.
    as_saved : bool
        Take it as it was saved, even where the assembly has changed since.

    Raises
    ------
    RunFileError
        Missing, foreign, damaged, written by a later format, or out of date (with what changed).
    """
    import h5py

    if not path.exists():
        raise RunFileError(f"{path}: there is no such file")
    if not is_run_file(path):
        raise RunFileError(f"{path}: is not a run file")
    try:
        with h5py.File(path, "r") as file:
            attrs = dict(file.attrs)
            if attrs.get("kind") != _MARK:
                raise RunFileError(f"{path}: is an HDF5 file, but not a run file")
            if int(attrs.get("format", 0)) != FORMAT:
                raise RunFileError(
                    f"{path}: has run format {attrs.get('format')}, not {FORMAT}; extract the modes again"
                )
            if not attrs.get("whole", False):
                raise RunFileError(f"{path}: was not written to its end; extract the modes again")
            data = json.loads(file["description"][()])
            files = {name.replace("\\", "/"): bytes(item[()]) for name, item in file["files"].items()}
            arrays, facts, dampers = _read_modes(file["modes"])
            reduced = _read_reduced(file["reduced"]) if "reduced" in file else None
    except (OSError, KeyError, ValueError, TypeError) as err:
        raise RunFileError(f"{path}: is damaged ({err}); extract the modes again") from None
    folder, source = Path(str(attrs["folder"])), str(attrs["source"])
    document, findings = _document(path, data, files, folder, source, as_saved)

    modes = ModeSet(build=builder(document), **arrays, **facts)
    return RunContents(document, modes, reduced, dampers, str(attrs["version"]), str(attrs["created"]), tuple(findings))


def named_files(document: Document) -> list[str]:
    """Files that a description names, relative to its folder."""
    found: list[str] = []

    def look(value: Any) -> None:
        if isinstance(value, dict):
            for item in value.values():
                look(item)
        elif isinstance(value, list | tuple):
            for item in value:
                look(item)
        elif isinstance(value, str) and "." in value and len(value) < 200:
            try:
                if (document.folder / value).is_file() and not Path(value).is_absolute():
                    found.append(value)
            except OSError:
                return

    look(document.data)
    return list(dict.fromkeys(found))


def _document(
    path: Path, data: dict[str, Any], files: dict[str, bytes], folder: Path, source: str, as_saved: bool
) -> tuple[Document, list[Finding]]:
    """The description to work with, and what to say about it."""
    findings: list[Finding] = []
    here = [folder / source, path.resolve().parent / source] if source else []
    present = next((p for p in here if p.is_file()), None)
    if present is None or as_saved:
        if present is None and source:
            findings.append(Finding("note", f"{source} is not where it was; the description in {path.name} is used"))
        elif as_saved:
            findings.append(
                Finding("warning", f"{path.name} is taken as saved, whatever has changed in {source} since")
            )
        return validated(data, Places(f"{source} in {path.name}" if source else ""), _unpacked(files)), findings
    try:
        now = read_document(present)
    except HolokineError as err:
        raise RunFileError(
            f"{path}: {present.name} cannot be read any more ({err}); mend it, or take it as saved"
        ) from None
    changed = _differences(data, now.data)
    for name, content in files.items():
        current = present.parent / name
        if not current.is_file():
            changed.append(f"{name} is gone")
        elif current.read_bytes() != content and not _only_events(now, name):
            changed.append(f"{name} has other contents")
    serious = [c for c in changed if c.split(",")[0] not in _HARMLESS]
    if serious:
        shown = "; ".join(serious[:6]) + (f"; and {len(serious) - 6} more" if len(serious) > 6 else "")
        raise RunFileError(
            f"{path}: {present.name} has changed since these modes were extracted: {shown}. Extract them again, or "
            "take the run as saved (--as-saved, as_saved=True)"
        )
    if changed:
        findings.append(Finding(
            "note", f"{present.name} has changed since the modes were extracted, in what they do not depend on: "
            f"{'; '.join(changed[:4])}",
        ))  # fmt: skip
    return now, findings


def _only_events(document: Document, name: str) -> bool:
    """Whether a file is named by events alone."""
    rest = Document(document.description, {k: v for k, v in document.data.items() if k != "events"},
                    document.places, document.folder)  # fmt: skip
    return name not in named_files(rest)


def _differences(before: Any, now: Any, at: tuple[str, ...] = ()) -> list[str]:
    """What changed, as ``materials, steel, E: 205 GPa, now 190 GPa``."""
    if isinstance(before, dict) and isinstance(now, dict):
        result = []
        for key in [*before, *(k for k in now if k not in before)]:
            place = (*at, str(key))
            if key not in now:
                result.append(f"{', '.join(place)} is gone")
            elif key not in before:
                result.append(f"{', '.join(place)} is new")
            else:
                result += _differences(before[key], now[key], place)
        return result
    plain_before, plain_now = (json.loads(json.dumps(v, default=_plain)) for v in (before, now))
    if plain_before == plain_now:
        return []
    return [f"{', '.join(at)}: {_short(before)}, now {_short(now)}"]


def _short(value: Any) -> str:
    text = str(value)
    return text if len(text) <= 40 else text[:37] + "..."


def _unpacked(files: dict[str, bytes]) -> Path:
    if not files:
        return Path()
    folder = tempfile.TemporaryDirectory(prefix="holokine-")
    _KEPT.append(folder)
    for name, content in files.items():
        target = (Path(folder.name) / name).resolve()
        if not target.is_relative_to(Path(folder.name).resolve()):
            raise RunFileError(f"the run file holds a file outside its folder: {name}")
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(content)
    return Path(folder.name)


_KEPT: list[tempfile.TemporaryDirectory[str]] = []  # removed when the process ends


def _plain(value: Any) -> Any:
    return value.tolist() if hasattr(value, "tolist") else str(value)


def _write_modes(group: Any, modes: ModeSet, dampers: tuple[Floats, float]) -> None:
    for name in _MODE_ARRAYS:
        group[name] = getattr(modes, name)
    group["damper_ratios"] = dampers[0]
    totals = modes.totals
    group["totals"] = np.concatenate([[totals.mass], totals.centre, totals.inertia.ravel()])
    group["facts"] = json.dumps(
        {
            "orthogonality": modes.orthogonality,
            "method": modes.method,
            "exists": modes.exists,
            "missing": modes.missing,
            "below": modes.below,
            "searched": modes.searched,
            "free_words": modes.free_words,
            "findings": [asdict(f) for f in modes.findings],
            "damper_coupling": dampers[1],
        }
    )


def _read_modes(group: Any) -> tuple[dict[str, Any], dict[str, Any], tuple[Floats, float]]:
    arrays = {name: group[name][()] for name in _MODE_ARRAYS}
    arrays["shapes"].setflags(write=False)
    packed = group["totals"][()]
    arrays["totals"] = MassTotals(float(packed[0]), packed[1:4], packed[4:].reshape(3, 3))
    facts = json.loads(group["facts"][()])
    coupling = float(facts.pop("damper_coupling"))
    facts["findings"] = tuple(Finding(**f) for f in facts["findings"])
    facts["free_words"] = tuple(facts["free_words"])
    return arrays, facts, (group["damper_ratios"][()], coupling)


def _write_reduced(group: Any, reduced: ReducedModel) -> None:
    for name in _REDUCED_ARRAYS:
        group[name] = getattr(reduced, name)
    group["channels"] = json.dumps([asdict(c) for c in reduced.channels])
    group["readings"] = json.dumps([asdict(r) for r in reduced.readings])


def _read_reduced(group: Any) -> ReducedModel:
    channels = tuple(Channel(**c) for c in json.loads(group["channels"][()]))
    readings = tuple(
        Derived(**{**r, "channels": tuple(r["channels"]), "places": tuple(r["places"])})
        for r in json.loads(group["readings"][()])
    )
    arrays = {name: group[name][()] for name in _REDUCED_ARRAYS}
    return ReducedModel(channels=channels, readings=readings, **arrays)
