"""Writing and reading run files (HDF5).

A run file holds the description (as written) and the files that it names, and results by stage with their keys: modes,
what dampers add, damping, and the reduced model. It is written under a temporary name and moved into place; its last
entry says that it is whole.

Opened, each result is taken where its key is still that of the description as it is now; the later stages are made anew
where it is not. Modes of another description are refused, with what changed, or given as saved on request.
"""

from __future__ import annotations

import json
import tempfile
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from holokine.describe.document import (
    Document,
    Origin,
    Places,
    known_document,
    read_document,
    validated,
    variant_of,
)
from holokine.describe.files import Folder
from holokine.describe.stages import Basis, Request, VectorRequest
from holokine.elements.stress import Places as StressPlaces
from holokine.errors import HolokineError, RunFileError
from holokine.gauges import ChannelBlock, Channels, Reading
from holokine.modes.check import Finding
from holokine.modes.damping import DamperShare
from holokine.modes.extract import ModeSet
from holokine.respond.reduced import ReducedModel
from holokine.store.chain import Chain, Memory, ModalChain, changes, short
from holokine.system.totals import MassTotals
from holokine.whole import whole_file

__all__ = ["RunContents", "is_run_file", "read_run", "refuse_overwriting", "write_run"]

Floats = NDArray[Any]  # float64
FORMAT = 2
_MARK = "holokine run"
_SIGNATURE = b"\x89HDF\r\n\x1a\n"
_MODE_ARRAYS = ("frequencies_hz", "shapes", "rigid", "residuals", "participation", "whole_mass", "free_mass")
_REDUCED_ARRAYS = (
    "omega", "participation", "modal", "modal_damper", "residual", "static", "rigid", "captured", "free_mass",
    "whole_mass",
)  # fmt: skip


@dataclass(frozen=True)
class RunContents:
    """What a run file holds, ready to be asked.

    Attributes
    ----------
    document : Document
        The description as it is now, or as saved.
    chain : ModalChain
        Modes, and what else could be taken over.
    version, created : str
        Of holokine, and when (UTC).
    findings : tuple of Finding
        What opening it noticed.
    """

    document: Document
    chain: ModalChain
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


def write_run(path: Path, chain: ModalChain, *, version: str, created: str) -> None:
    """Write a run file; what was there before is replaced only by a whole one.

    Raises
    ------
    RunFileError
        When another kind of file stands in its place, or it cannot be written.
    """
    import h5py

    refuse_overwriting(path)
    document, basis = chain.document, _packed(chain.basis)
    dampers, damping = chain.dampers, chain.damping
    reduced = chain.reduced if chain.can_respond else None
    keys = {stage: chain.key(stage) for stage in ("mesh", "system", "dampers", "modes", "damping", "gauges", "reduced")}
    with whole_file(path, RunFileError) as part, h5py.File(part, "w") as file:
        file.attrs["kind"] = _MARK
        file.attrs["format"] = FORMAT
        file.attrs["version"] = version
        file.attrs["created"] = created
        file.attrs["source"] = document.origin.source
        file.attrs["digest"] = document.origin.digest
        file.attrs["folder"] = str(document.folder.path.resolve())
        file["keys"] = json.dumps(keys)
        file["asked"] = json.dumps(basis)
        file["description"] = json.dumps(document.data, default=_plain)
        file["changes"] = json.dumps(document.origin.changes, default=_plain)
        named = file.create_group("files")
        for number, name in enumerate(document.keys.file_names()):
            try:
                content = np.frombuffer((document.folder / name).read_bytes(), dtype=np.uint8)
            except OSError:
                continue  # what could not be read was not needed
            held = named.create_dataset(str(number), data=content, compression="gzip" if content.size else None)
            held.attrs["name"] = name
        _write_modes(file.create_group("modes"), chain.modes)
        group = file.create_group("damping")
        group["dampers"], group["ratios"] = dampers.ratios, damping
        group["coupling"] = [dampers.coupling, dampers.neighbours]
        if reduced is not None:
            _write_reduced(file.create_group("reduced"), reduced)
        file.attrs["whole"] = True


def read_run(path: Path, *, as_saved: bool = False) -> RunContents:
    """Open a run file.

    Parameters
    ----------
    as_saved : bool
        Take it as it was saved, even where the assembly has changed since.

    Raises
    ------
    RunFileError
        Missing, foreign, damaged, written by another format, or out of date (with what changed).
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
            data, changed = (json.loads(file[name][()]) for name in ("description", "changes"))
            asked, keys = (json.loads(file[name][()]) for name in ("asked", "keys"))
            files = {str(item.attrs["name"]): bytes(item[()]) for item in file["files"].values()}
            modes = _read_modes(file["modes"])
            group = file["damping"]
            dampers = DamperShare(group["dampers"][()], *(float(c) for c in group["coupling"][()]))
            ratios = group["ratios"][()]
            reduced = _read_reduced(file["reduced"], ratios) if "reduced" in file else None
    except (OSError, KeyError, ValueError, TypeError) as err:
        raise RunFileError(f"{path}: is damaged ({err}); extract the modes again") from None
    source = str(attrs["source"])
    digest = str(attrs.get("digest", ""))
    saved = _Saved(path, source, Path(str(attrs["folder"])), data, changed, files, digest)
    document, findings = saved.document(as_saved)
    basis = _unpacked_basis(asked, document)
    memory = Memory()
    memory.put("modes", keys["modes"], modes)
    memory.put("damper shares", keys["modes"] + keys["dampers"], dampers)
    memory.put("damping", keys["damping"], ratios)
    if reduced is not None:
        memory.put("reduced", keys["reduced"], reduced)
    if document.keys.of("modes", basis) != keys["modes"]:
        before = saved.description()
        words = "; ".join(changes(before, document, _unpacked_basis(asked, before)))
        raise RunFileError(
            f"{path}: {source or 'the description'} has changed since these modes were extracted: {words}. Extract "
            "them again, or take the run as saved (--as-saved, as_saved=True)"
        )
    chain = Chain(document, memory).modal(basis)
    if document.data != data and not as_saved:
        other = _differences(data, json.loads(json.dumps(document.data, default=_plain)))
        if other:
            shown = "; ".join(other[:4]) + (f"; and {len(other) - 4} more" if len(other) > 4 else "")
            findings.append(Finding(
                "note", f"{source} has changed since the modes were extracted, in what they do not depend on, and is "
                f"taken as it is now: {shown}",
            ))  # fmt: skip
    return RunContents(document, chain, str(attrs["version"]), str(attrs["created"]), tuple(findings))


@dataclass(frozen=True)
class _Saved:
    """The description as it stands in a run file."""

    path: Path
    source: str
    folder: Path
    data: dict[str, Any]
    changed: list[list[Any]]
    files: dict[str, bytes]
    digest: str = ""

    def description(self) -> Document:
        """As saved, with copies of the files that it names."""
        folder = Folder(self.folder, _unpacked(self.files))
        return validated(self.data, Places(f"{self.source} in {self.path.name}" if self.source else ""), folder)

    def document(self, as_saved: bool) -> tuple[Document, list[Finding]]:
        """The description to work with, and what to say about it."""
        findings: list[Finding] = []
        here = [self.folder / self.source, self.path.resolve().parent / self.source] if self.source else []
        present = next((p for p in here if p.is_file()), None)
        if present is None or as_saved:
            if present is None and self.source:
                findings.append(Finding(
                    "note", f"{self.source} is not where it was; the description in {self.path.name} is used"
                ))  # fmt: skip
            elif as_saved:
                findings.append(Finding(
                    "warning", f"{self.path.name} is taken as saved, whatever has changed in "
                    f"{self.source or 'the assembly'} since",
                ))  # fmt: skip
            return self.description(), findings
        origin = Origin(self.source, tuple((str(name), values) for name, values in self.changed), self.digest)
        known = known_document(present, self.data, origin)
        if known is not None:
            return known, findings
        try:
            now = read_document(present)
            for name, override in self.changed:
                if name:
                    override = now.description.variants.get(name, override)
                now = variant_of(now, name, override)
        except HolokineError as err:
            raise RunFileError(
                f"{self.path}: {present.name} cannot be read any more ({err}); mend it, or take it as saved"
            ) from None
        return now, findings


def _differences(before: Any, now: Any, at: tuple[str, ...] = ()) -> list[str]:
    """What is written otherwise, as ``events, kerb strike, ring down: 1 s, now 2 s``."""
    if isinstance(before, dict) and isinstance(now, dict):
        result = []
        for key in dict.fromkeys([*before, *now]):
            place = (*at, str(key))
            if key not in now or key not in before:
                result.append(f"{', '.join(place)} is {'gone' if key not in now else 'new'}")
            else:
                result += _differences(before[key], now[key], place)
        return result
    return [] if before == now else [f"{', '.join(at)}: {short(before)}, now {short(now)}"]


def _packed(basis: Basis) -> dict[str, Any]:
    if isinstance(basis, VectorRequest):
        if not basis.name:
            raise RunFileError(
                "load-dependent vectors of an event that is given in a call cannot be kept: name the event in the "
                "description"
            )
        return {"vectors": basis.count, "event": basis.name}
    return asdict(basis)


def _unpacked_basis(asked: dict[str, Any], document: Document) -> Basis:
    if "vectors" in asked:
        event = document.description.events.get(asked["event"])
        if event is None:
            raise RunFileError(f'the event "{asked["event"]}" that these vectors were made for is gone')
        return VectorRequest(event, int(asked["vectors"]), str(asked["event"]))
    return Request(**asked).again(document.description)


def _unpacked(files: dict[str, bytes]) -> dict[str, Path]:
    if not files:
        return {}
    folder = tempfile.TemporaryDirectory(prefix="holokine-")
    _KEPT.append(folder)
    result = {}
    for number, (name, content) in enumerate(files.items()):
        target = Path(folder.name) / f"{number}{Path(name).suffix}"
        target.write_bytes(content)
        result[name] = target
    return result


_KEPT: list[tempfile.TemporaryDirectory[str]] = []  # removed when the process ends


def _plain(value: Any) -> Any:
    return value.tolist() if hasattr(value, "tolist") else str(value)


def _write_modes(group: Any, modes: ModeSet) -> None:
    for name in _MODE_ARRAYS:
        group[name] = getattr(modes, name)
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
            "total": modes.total,
            "doubt": modes.doubt,
            "free_words": modes.free_words,
            "findings": [asdict(f) for f in modes.findings],
        }
    )


def _read_modes(group: Any) -> ModeSet:
    arrays = {name: group[name][()] for name in _MODE_ARRAYS}
    for array in arrays.values():
        array.setflags(write=False)
    packed = group["totals"][()]
    totals = MassTotals(float(packed[0]), packed[1:4], packed[4:].reshape(3, 3))
    facts = json.loads(group["facts"][()])
    facts["findings"] = tuple(Finding(**f) for f in facts["findings"])
    facts["free_words"] = tuple(facts["free_words"])

    def unbuilt() -> Any:
        raise RunFileError("the system of these modes is made by the chain that they are in")

    return ModeSet(build=unbuilt, totals=totals, **arrays, **facts)


def _write_reduced(group: Any, reduced: ReducedModel) -> None:
    for name in _REDUCED_ARRAYS:
        group[name] = getattr(reduced, name)
    group["channels"] = json.dumps([asdict(b) for b in reduced.channels.blocks])
    readings = []
    places: dict[int, str] = {}
    for r in reduced.readings:
        own = r.channels
        entry: dict[str, Any] = {"gauge": r.gauge, "component": r.component, "dimension": r.dimension, "how": r.how,
                                 "channels": [own.start, own.stop, own.step], "width": r.width}  # fmt: skip
        if r.places is not None:
            if id(r.places) not in places:
                name = places[id(r.places)] = f"places/{len(places)}"
                at = group.create_group(name)
                at.attrs["words"] = json.dumps([r.places.word, r.places.sides])
                at["numbers"], at["side"] = r.places.numbers, r.places.side
                if r.places.at is not None:
                    at["at"] = r.places.at
            entry["places"] = places[id(r.places)]
        readings.append(entry)
    group["readings"] = json.dumps(readings)


def _read_reduced(group: Any, damping: Floats) -> ReducedModel:
    blocks = tuple(
        ChannelBlock(**{**b, "components": tuple(b["components"])}) for b in json.loads(group["channels"][()])
    )
    places: dict[str, StressPlaces] = {}
    readings = []
    for r in json.loads(group["readings"][()]):
        name = r.pop("places", None)
        if name is not None and name not in places:
            at = group[name]
            word, sides = json.loads(at.attrs["words"])
            where = at["at"][()] if "at" in at else None
            places[name] = StressPlaces(word, at["numbers"][()], where, tuple(sides), at["side"][()])
        channels = range(*r.pop("channels"))
        readings.append(Reading(channels=channels, places=None if name is None else places[name], **r))
    arrays = {name: group[name][()] for name in _REDUCED_ARRAYS}
    for array in arrays.values():
        array.setflags(write=False)
    return ReducedModel(channels=Channels(blocks), readings=tuple(readings), damping=damping, **arrays)
