"""Writing and reading run files (HDF5).

A run file holds the description (as written) and the files that it names, and results by stage with their keys: modes,
what dampers add, damping, and the reduced model. It is written under a temporary name, sealed (see `sealed`) and moved
into place. Opened, its seal must fit and its content must have the layout that is declared here, whole, before any of
it is used.

Opened, each result is taken where its key is still that of the description as it is now; the later stages are made anew
where it is not. Modes of another description are refused, with what changed, or given as saved on request.
"""

from __future__ import annotations

import json
import tempfile
from dataclasses import asdict, dataclass, fields
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

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
from holokine.describe.stages import Basis, Request, StageName, VectorRequest
from holokine.elements.stress import Places as StressPlaces
from holokine.errors import HolokineError, RunFileError
from holokine.findings import Finding
from holokine.gauges.channels import ChannelBlock, Channels
from holokine.gauges.readings import FORMS, Reading
from holokine.later import same
from holokine.modes.damping import DamperShare
from holokine.modes.energy import Energies
from holokine.modes.kinds import ModeKind
from holokine.modes.mode_set import ModeSet
from holokine.respond.reduced import ReducedModel
from holokine.store.chain import Chain, Memory, ModalChain, changes, short
from holokine.store.layout import Array, Group, Layout, Text, checked_json
from holokine.store.sealed import MARK, is_run_file, seal, unsealed
from holokine.system.totals import MassTotals
from holokine.units import DIMENSIONS
from holokine.whole import temporary_folder, whole_hdf5

if TYPE_CHECKING:
    from holokine.arrays import Floats

__all__ = ["RunContents", "is_run_file", "read_run", "refuse_overwriting", "write_run"]

_MODE_ARRAYS = {
    "frequencies_hz": Array("f", ("modes",)), "shapes": Array("f", ("modes", "dofs")),
    "rigid": Array("b", ("modes",)), "residuals": Array("f", ("modes",)),
    "errors_hz": Array("f", ("modes",), known=False), "participation": Array("f", ("modes", 6)),
    "whole_mass": Array("f", (6,)), "free_mass": Array("f", (6,)),
}  # fmt: skip
_REDUCED_ARRAYS = {
    "omega": Array("f", ("modes",)), "participation": Array("f", ("modes", 3)),
    **dict.fromkeys(("modal", "modal_damper"), Array("f", ("modes", "channels"))),
    **dict.fromkeys(("residual", "static", "rigid"), Array("f", (3, "channels"))),
    **dict.fromkeys(("captured", "free_mass", "whole_mass"), Array("f", (3,))),
}  # fmt: skip
_PLACES = Group({
    "numbers": Array("i", ("any",)), "side": Array("i", ("any",)), "at": Array("f", ("any", 3), needed=False),
}, attributes=("words",))  # fmt: skip
_LAYOUT = Group({
    **dict.fromkeys(("keys", "asked", "description", "changes"), Text()),
    "files": Group({}, each=Array("u", ("any",)), named=True),
    "modes": Group({**_MODE_ARRAYS, "totals": Array("f", (13,)), "facts": Text()}),
    "damping": Group({
        "dampers": Array("f", ("modes",)), "ratios": Array("f", ("modes",)), "coupling": Array("f", (2,)),
    }),
    "energies": Group({
        **dict.fromkeys(("strain", "kinetic"), Array("f", ("members", "modes"))), "told": Array("b", ("modes",)),
        **dict.fromkeys(("total", "mesh_error"), Array("f", ("modes",))), "names": Text(), "kinds": Text(),
    }),
    "reduced": Group({
        **_REDUCED_ARRAYS, "channels": Text(), "readings": Text(),
        "places": Group({}, each=_PLACES, needed=False),
    }, needed=False),
}, attributes=("kind", "version", "created", "source", "digest", "folder"))  # fmt: skip
_KEYED: tuple[StageName, ...] = ("mesh", "system", "dampers", "modes", "damping", "gauges", "reduced")


@dataclass(frozen=True)
class _Facts:
    """Of a set of modes, besides its arrays."""

    orthogonality: float
    method: str
    exists: int | None
    missing: int
    below: int | None
    searched: str
    total: int | None
    doubt: str
    upto_hz: float | None
    free_words: tuple[str, ...]
    findings: tuple[Finding, ...]
    nodes: int


@dataclass(frozen=True)
class _Reading:
    """A reading as it is kept."""

    gauge: str
    component: str
    dimension: str
    how: str
    channels: tuple[int, int, int]
    width: int
    places: int | None = None
    one_sided: bool = False


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


def refuse_overwriting(path: Path) -> None:
    """Raise where a run file may not be written: over another kind of file, or into no folder.

    Raises
    ------
    RunFileError
    """
    try:
        there = path.exists()
    except OSError as err:
        raise RunFileError(f"{path}: no file can have this name ({err.strerror})") from None
    if there and not is_run_file(path):
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
    refuse_overwriting(path)
    document, basis = chain.document, _packed(chain.basis)
    dampers, damping, energies, kinds = chain.dampers, chain.damping, chain.energies, chain.kinds
    reduced = chain.reduced if chain.can_respond else None
    keys: dict[str, str] = {stage: chain.key(stage) for stage in _KEYED}
    keys["kinds"] = chain.kinds_key
    with document.folder.steady(), whole_hdf5(path, RunFileError, seal) as file:
        file.attrs["kind"] = MARK
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
        for name in document.keys.file_names():
            try:
                content = np.frombuffer((document.folder / name).read_bytes(), dtype=np.uint8)
            except OSError:
                continue  # what could not be read was not needed
            held = named.create_dataset(str(len(named)), data=content, compression="gzip" if content.size else None)
            held.attrs["name"] = name
        _write_modes(file.create_group("modes"), chain.modes)
        group = file.create_group("damping")
        group["dampers"], group["ratios"] = dampers.ratios, damping
        group["coupling"] = np.array([dampers.coupling, dampers.neighbours])
        _write_energies(file.create_group("energies"), energies, kinds)
        if reduced is not None:
            _write_reduced(file.create_group("reduced"), reduced)


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

    with unsealed(path) as raw:
        try:
            with h5py.File(raw, "r") as file:
                held = Layout(file).read(_LAYOUT)
            if held["@kind"] != MARK:
                raise RunFileError("is an HDF5 file, but not a run file")
            data = checked_json(dict[str, Any], held["description"], "description")
            changed = checked_json(list[tuple[str, dict[str, Any]]], held["changes"], "changes")
            keys = checked_json(dict[str, str], held["keys"], "keys")
            if set(keys) != {*_KEYED, "kinds"}:
                raise RunFileError("keys of stages are missing")
            asked = _asked(held["asked"])
            modes, ratios = _read_modes(held["modes"]), held["damping"]["ratios"]
            energies, said = _read_energies(held["energies"], modes)
            dampers = DamperShare(held["damping"]["dampers"], *(float(c) for c in held["damping"]["coupling"]))
            reduced = _read_reduced(held["reduced"], ratios) if "reduced" in held else None
            _refuse_contradictions(modes, ratios, reduced)
        except RunFileError as err:
            raise RunFileError(f"{path}: is damaged or foreign: {err}; extract the modes again") from None
        except (OSError, KeyError, ValueError, TypeError, RuntimeError) as err:
            raise RunFileError(f"{path}: is damaged ({err}); extract the modes again") from None
    files = {name: content.tobytes() for name, content in held["files"].items()}
    source = held["@source"]
    saved = _Saved(path, source, Path(held["@folder"]), data, changed, files, held["@digest"])
    document, findings = saved.document(as_saved)
    basis = _unpacked_basis(asked, document, path)
    memory = Memory()
    memory.put("modes", keys["modes"], modes)
    memory.put("damper shares", keys["modes"] + keys["dampers"], dampers)
    memory.put("damping", keys["damping"], ratios)
    memory.put("energies", keys["modes"], energies)
    memory.put("kinds", keys["kinds"], said)
    if reduced is not None:
        memory.put("reduced", keys["reduced"], reduced)
    if document.keys.of("modes", basis) != keys["modes"]:
        before = saved.description()
        words = "; ".join(changes(before, document, _unpacked_basis(asked, before, path)))
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
    return RunContents(document, chain, held["@version"], held["@created"], tuple(findings))


@dataclass(frozen=True)
class _Saved:
    """The description as it stands in a run file."""

    path: Path
    source: str
    folder: Path
    data: dict[str, Any]
    changed: list[tuple[str, dict[str, Any]]]
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
        origin = Origin(self.source, tuple(self.changed), self.digest)
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


@dataclass(frozen=True)
class _Vectors:
    """Load-dependent vectors that were asked for."""

    vectors: int
    event: str


def _asked(text: str) -> _Vectors | Request:
    """What was asked for, as it is kept."""
    kind: Any = _Vectors if "vectors" in checked_json(dict[str, Any], text, "asked") else Request
    found: _Vectors | Request = checked_json(kind, text, "asked")
    return found


def _unpacked_basis(asked: _Vectors | Request, document: Document, path: Path) -> Basis:
    if isinstance(asked, _Vectors):
        event = document.description.events.get(asked.event)
        if event is None:
            raise RunFileError(f'{path}: the event "{asked.event}" that these vectors were made for is gone')
        return VectorRequest(event, asked.vectors, asked.event)
    return asked.again(document.description)


def _unpacked(files: dict[str, bytes]) -> dict[str, Path]:
    if not files:
        return {}
    folder = temporary_folder()
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
            "upto_hz": modes.upto_hz,
            "free_words": modes.free_words,
            "findings": [asdict(f) for f in modes.findings],
            "nodes": modes.shapes.shape[1] // 6,
        }
    )


def _read_modes(held: dict[str, Any]) -> ModeSet:
    arrays = {name: held[name] for name in _MODE_ARRAYS}
    packed = held["totals"]
    totals = MassTotals(float(packed[0]), packed[1:4], packed[4:].reshape(3, 3))
    facts = checked_json(_Facts, held["facts"], "modes/facts")

    def unbuilt() -> Any:
        raise RunFileError("the system of these modes is made by the chain that they are in")

    if arrays["shapes"].shape[1] != 6 * facts.nodes:
        raise RunFileError("modes/shapes: are not six degrees of freedom of each node")
    known = {f.name: getattr(facts, f.name) for f in fields(facts) if f.name != "nodes"}
    return ModeSet(build=unbuilt, totals=totals, **arrays, **known)


def _write_energies(group: Any, energies: Energies, kinds: tuple[ModeKind, ...]) -> None:
    told = np.isfinite(energies.mesh_error)
    group["strain"], group["kinetic"], group["total"] = energies.strain, energies.kinetic, energies.total
    group["told"], group["mesh_error"] = told, np.where(told, energies.mesh_error, 0.0)
    group["names"] = json.dumps([energies.members, energies.kinds])
    group["kinds"] = json.dumps([asdict(kind) for kind in kinds])


def _read_energies(held: dict[str, Any], modes: ModeSet) -> tuple[Energies, tuple[ModeKind, ...]]:
    members, kinds = checked_json(tuple[tuple[str, ...], tuple[str, ...]], held["names"], "energies/names")
    what = checked_json(tuple[ModeKind, ...], held["kinds"], "energies/kinds")
    if not len(members) == len(kinds) == len(held["strain"]) or len(what) != modes.count:
        raise RunFileError("energies/names: are of another number than the energies")
    error = np.where(held["told"], held["mesh_error"], np.nan)
    return Energies(members, kinds, held["strain"], held["kinetic"], held["total"], partial(same, error)), what


def _write_reduced(group: Any, reduced: ReducedModel) -> None:
    for name in _REDUCED_ARRAYS:
        group[name] = getattr(reduced, name)
    group["channels"] = json.dumps([asdict(b) for b in reduced.channels.blocks])
    readings = []
    places: dict[int, int] = {}
    for r in reduced.readings:
        own = r.channels
        entry: dict[str, Any] = {"gauge": r.gauge, "component": r.component, "dimension": r.dimension, "how": r.how,
                                 "channels": [own.start, own.stop, own.step], "width": r.width,
                                 "one_sided": r.one_sided}  # fmt: skip
        if r.places is not None:
            if id(r.places) not in places:
                number = places[id(r.places)] = len(places)
                at = group.create_group(f"places/{number}")
                at.attrs["words"] = json.dumps([r.places.word, r.places.sides])
                at["numbers"], at["side"] = r.places.numbers, r.places.side
                if r.places.at is not None:
                    at["at"] = r.places.at
            entry["places"] = places[id(r.places)]
        readings.append(entry)
    group["readings"] = json.dumps(readings)


def _refuse_contradictions(modes: ModeSet, ratios: Floats, reduced: ReducedModel | None) -> None:
    f = modes.frequencies_hz
    for wrong, words in (
        (len(f) == 0, "modes/frequencies_hz: there are none"),
        ((f < 0).any() or (np.diff(f) < 0).any(), "modes/frequencies_hz: do not rise from zero"),
        ((ratios < 0).any(), "damping/ratios: are negative"),
        (reduced is not None and not np.allclose(reduced.omega, modes.omega, rtol=1e-9, atol=0.0),
         "reduced/omega: are not those of the modes"),
    ):  # fmt: skip
        if wrong:
            raise RunFileError(words)


def _read_reduced(held: dict[str, Any], damping: Floats) -> ReducedModel:
    channels = Channels(checked_json(tuple[ChannelBlock, ...], held["channels"], "reduced/channels"))
    places = {int(number): _read_places(group, number) for number, group in held.get("places", {}).items()}
    readings = []
    for number, r in enumerate(checked_json(list[_Reading], held["readings"], "reduced/readings")):
        at = range(*r.channels)
        many = 1 if r.places is None else len(places.get(r.places, ()))
        fits = r.how in FORMS and r.dimension in DIMENSIONS and many * r.width == len(at)
        if not fits or r.width < 1 or len(at) == 0 or min(at) < 0 or max(at) >= len(channels):
            raise RunFileError(f"reduced/readings, {number}: does not fit the channels")
        own = None if r.places is None else places[r.places]
        readings.append(Reading(r.gauge, r.component, r.dimension, r.how, at, r.width, own, r.one_sided))
    arrays = {name: held[name] for name in _REDUCED_ARRAYS}
    if arrays["static"].shape[1] != len(channels) or any(b.dimension not in DIMENSIONS for b in channels.blocks):
        raise RunFileError("reduced/channels: are of another number than the arrays, or of no dimension")
    return ReducedModel(channels=channels, readings=tuple(readings), damping=damping, **arrays)


def _read_places(held: dict[str, Any], number: str) -> StressPlaces:
    at = f"reduced/places/{number}"
    word, sides = checked_json(tuple[str, tuple[str, ...]], held["@words"], at)
    numbers, side, where = held["numbers"], held["side"], held.get("at")
    if len(side) != len(numbers) or (where is not None and len(where) != len(numbers)):
        raise RunFileError(f"{at}: its arrays are of several lengths")
    if len(side) and not (side.min() >= 0 and side.max() < len(sides)):
        raise RunFileError(f"{at}/side: there is no such side")
    return StressPlaces(word, numbers, where, sides, side)
