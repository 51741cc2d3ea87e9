"""Running a plan: each variant through the stages that it changes, here, in processes, or on a cluster.

Variants whose modes have equal keys go together, so that these are extracted once; what an earlier run kept in the
folder under the same key is taken from there. A variant that fails is a result with its reason.
"""

from __future__ import annotations

import io
import json
import os
import sys
import time
import zlib
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from contextlib import ExitStack, contextmanager
from dataclasses import asdict, dataclass, field, replace
from hashlib import sha256
from multiprocessing import get_context
from pathlib import Path
from typing import TYPE_CHECKING, Any
from zipfile import BadZipFile

import numpy as np
from numpy.typing import NDArray

from holokine.describe.document import Document, Origin, Places, validated, variant_of
from holokine.describe.files import Folder
from holokine.errors import DescriptionError, EventError, HolokineError, OutputError, UnknownNameError, nearest_hint
from holokine.progress import tell
from holokine.sizes import available_memory
from holokine.store.chain import Chain, Memory, ModalChain
from holokine.whole import whole_file

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe.stages import Request
    from holokine.modes.mode_set import ModeSet
    from holokine.vary.plan import Plan

__all__ = ["ReadingAsked", "Sample", "VariantResult", "run_plan"]

FORMAT = 1
_MOST, _LEAST = 800, 60  # nodes of a sample
_SHAPES = 400_000_000  # bytes of the shapes of all variants together, about


@dataclass(frozen=True)
class ReadingAsked:
    """A reading of an event: every component of a gauge, or one by its label (``fan z``)."""

    event: str
    gauge: str

    @property
    def text(self) -> str:
        """As it is written: event, a colon, gauge."""
        return f"{self.event}: {self.gauge}"


@dataclass(frozen=True)
class Sample:
    """Nodes at which shapes are compared: the heaviest and others evenly, with the root of the mass at each.

    Attributes
    ----------
    nodes : ndarray of int
    places : ndarray, shape (nodes, 3)
        In the box of the assembly, from 0 to 1.
    root_mass : ndarray, shape (nodes, 6)
        Of translations and rotations.
    total : int
        Nodes of the mesh that they were taken from.
    """

    nodes: NDArray[Any]
    places: Floats
    root_mass: Floats
    total: int

    @classmethod
    def of(cls, modes: ModeSet, variants: int = 1) -> Sample:
        """Of the description as it is written; of fewer nodes where very many variants keep their shapes."""
        most = int(np.clip(_SHAPES / (24.0 * max(modes.count * variants, 1)), _LEAST, _MOST))
        heaviest = 3 * most // 8
        system = modes.system
        moving = np.flatnonzero(system.active.reshape(-1, 6)[:, :3].any(axis=1))
        every = system.weighed.diagonal().reshape(-1, 6)
        mass = every[:, :3].max(axis=1)
        heavy = moving[np.argsort(-mass[moving], kind="stable")[:heaviest]]
        others = np.setdiff1d(moving, heavy)
        if len(others) > most - heaviest:
            others = others[np.linspace(0, len(others) - 1, most - heaviest).astype(int)]
        nodes = np.union1d(heavy, others)
        least = np.repeat([1e-9 * max(float(mass.max(initial=0.0)), 1e-300), 0.0], 3)
        weight = np.sqrt(np.maximum(every[nodes], least))
        return cls(nodes, _in_box(system.mesh.nodes)[nodes], weight, len(system.mesh.nodes))

    @property
    def token(self) -> str:
        """Equal for equal samples."""
        told = [np.ascontiguousarray(a).tobytes() for a in (self.nodes, self.places, self.root_mass)]
        return sha256(b"|".join([*told, str(self.total).encode()])).hexdigest()

    def shapes(self, modes: ModeSet) -> NDArray[np.float32]:
        """Shapes at these nodes (the nearest ones, of another mesh), times the root of the mass, of length 1."""
        places = modes.system.mesh.nodes
        nodes = self.nodes
        if len(places) != self.total:
            from holokine.mesh.tree import nearest_tree

            nodes = nearest_tree(_in_box(places)).query(self.places)[1]
        own = modes.shapes.reshape(modes.count, -1, 6)[:, nodes] * self.root_mass
        flat = own.reshape(modes.count, -1)
        size = np.linalg.norm(flat, axis=1, keepdims=True)
        return (flat / np.where(size > 0, size, 1.0)).astype(np.float32)


def _in_box(places: Floats) -> Floats:
    low, size = places.min(axis=0), np.ptp(places, axis=0)
    return np.asarray((places - low) / np.where(size > 0, size, 1.0))


@dataclass(frozen=True)
class VariantResult:
    """What came of a variant.

    Attributes
    ----------
    number : int
        From 1; 0 is the description as it is written.
    key : str
        Of everything that it was computed from.
    mass : float
        kg.
    frequencies_hz : tuple of float
    readings : dict
        Peak in SI by the text of the reading asked for and its component, with the dimension.
    failed : str
        Why it has no results; empty where it has.
    made : int
        Extractions of modes that it took: 1, or 0 where equal ones were there.
    seconds : float
    kept : bool
        Whether it was taken from an earlier run.
    shapes : ndarray, shape (modes, 3 nodes)
    """

    number: int
    key: str
    mass: float = float("nan")
    frequencies_hz: tuple[float, ...] = ()
    readings: dict[str, tuple[float, str]] = field(default_factory=dict)
    failed: str = ""
    made: int = 0
    seconds: float = 0.0
    kept: bool = False
    shapes: Any = None

    def as_bytes(self) -> bytes:
        """For a file of its own."""
        told = asdict(replace(self, shapes=None))
        told.pop("shapes")
        data = io.BytesIO()
        shapes = np.zeros((0, 0), dtype=np.float32) if self.shapes is None else self.shapes
        np.savez_compressed(data, result=np.frombuffer(json.dumps(told).encode(), dtype=np.uint8), shapes=shapes)
        return data.getvalue()

    @classmethod
    def of_bytes(cls, data: bytes) -> VariantResult:
        """The result of a file."""
        with np.load(io.BytesIO(data), allow_pickle=False) as arrays:
            told, shapes = json.loads(arrays["result"].tobytes().decode()), arrays["shapes"]
        told["frequencies_hz"] = tuple(told["frequencies_hz"])
        told["readings"] = {k: (float(v), str(d)) for k, (v, d) in told["readings"].items()}
        return cls(**told, shapes=shapes)


@dataclass(frozen=True)
class _Base:
    """What every worker needs."""

    data: dict[str, Any]
    folder: str
    places: Places
    origin: Origin
    asked: Request
    readings: tuple[ReadingAsked, ...]
    sample: Sample | None = None
    variants: int = 1

    def document(self) -> Document:
        return replace(validated(self.data, self.places, Folder(self.folder)), origin=self.origin)

    @property
    def token(self) -> str:
        told = json.dumps([self.data, self.folder, [r.text for r in self.readings]], sort_keys=True, default=str)
        return sha256(f"{told}{self.asked}".encode()).hexdigest()


@dataclass(frozen=True)
class _Job:
    """A variant to be run: its number, what it changes, and the key that it must have."""

    number: int
    change: dict[str, Any]
    key: str
    modes_key: str
    mesh_key: str


_HELD: dict[str, tuple[Document, Memory]] = {}
"""The description and its stages in this process, of the plan that is run."""


def key_of(document: Document, asked: Request, readings: Sequence[ReadingAsked]) -> str:
    """Of everything that a variant's results depend on."""
    d = document.description
    request = asked.again(d)
    parts = [f"variant {FORMAT}", document.keys.of("modes", request)]
    for event in dict.fromkeys(r.event for r in readings):
        parts.append(document.keys.of_answer(d.events[event], request if d.events[event].needs_modes else None))
    parts += [r.text for r in readings]
    return sha256("|".join(parts).encode()).hexdigest()


def run_plan(
    document: Document,
    plan: Plan,
    asked: Request,
    readings: Sequence[ReadingAsked] = (),
    *,
    jobs: int | None = None,
    scheduler: str | None = None,
    keep: Path | None = None,
    memory: Memory | None = None,
    told: Callable[[VariantResult], None] | None = None,
) -> tuple[VariantResult, list[VariantResult]]:
    """The description as written, and every variant of the plan.

    Parameters
    ----------
    jobs : int, optional
        Processes; by default as many as there are cores, and as memory holds after the size of this one.
    scheduler : str, optional
        Address of a scheduler of dask.distributed, such as ``tcp://host:8786``; its workers must see the same files.
    keep : Path, optional
        Folder in which finished variants are kept, and from which those of an earlier run with equal keys are taken.
    told : callable, optional
        Called with every result as it comes.

    Raises
    ------
    HolokineError
        The description itself cannot be answered, a reading or event that is not there, parameters that change
        nothing, a scheduler that does not answer.
    """
    for r in readings:
        if r.event not in document.description.events:
            hint = nearest_hint(r.event, document.description.events, "events")
            raise UnknownNameError(f'there is no event "{r.event}". {hint}')
    base = _Base(document.data, str(document.folder.path.absolute()), document.places, document.origin, asked,
                 tuple(readings), variants=len(plan.rows))  # fmt: skip
    memory = memory if memory is not None else Memory()
    tell("the description as it is written")
    first = _solved(document, memory, base, _Job(0, {}, key_of(document, asked, readings), "", ""))
    base = replace(base, sample=first.shapes[1])
    first = replace(first, shapes=first.shapes[0])
    work, results = _jobs(document, plan, base, keep)
    _refuse_idle(document, plan, work, results, first.key)
    groups = _groups(work)
    done = len(results)
    total = len(plan.rows)
    for result in results:
        if told is not None:
            told(result)
    tell("variants", done, total)
    with ExitStack() as stack:
        for result in _carried_out(base, groups, memory, document, jobs, scheduler, stack):
            done += 1
            tell("variants", done, total)
            if keep is not None and not result.failed:
                _keep(keep, result, base.sample)
            results.append(result)
            if told is not None:
                told(result)
    return first, sorted(results, key=lambda r: r.number)


def _jobs(document: Document, plan: Plan, base: _Base, keep: Path | None) -> tuple[list[_Job], list[VariantResult]]:
    """What is to be run, and what is there already or cannot be read."""
    work, results = [], []
    for number, row in enumerate(plan.rows, 1):
        change = plan.change(document.data, row)
        try:
            made = variant_of(document, "", change, f"variant {number}")
            key = key_of(made, base.asked, base.readings)
            modes = made.keys.of("modes", base.asked.again(made.description))
            mesh = made.keys.of("mesh")
        except HolokineError as err:
            results.append(VariantResult(number, "", failed=str(err)))
            continue
        found = _kept(keep, key, base.sample) if keep is not None else None
        if found is not None:
            results.append(replace(found, number=number, kept=True, made=0))
        else:
            work.append(_Job(number, change, key, modes, mesh))
    return work, results


def _refuse_idle(
    document: Document, plan: Plan, work: list[_Job], results: list[VariantResult], own: str
) -> None:  # fmt: skip
    """Raise for a parameter that reaches nothing of what is asked for."""
    keys = {r.number: r.key for r in results if r.key} | {j.number: j.key for j in work}
    for k, parameter in enumerate(plan.parameters):
        by_others: dict[tuple[Any, ...], set[str]] = {}
        values: dict[tuple[Any, ...], set[Any]] = {}
        for number, row in enumerate(plan.rows, 1):
            if number in keys:
                others = row[:k] + row[k + 1 :]
                by_others.setdefault(others, set()).add(keys[number])
                values.setdefault(others, set()).add(row[k])
        several = [o for o in by_others if len(values[o]) > 1]
        if (several and all(len(by_others[o]) == 1 for o in several)) or (
            not several and len(plan.parameters) == 1 and set(keys.values()) == {own}
        ):  # fmt: skip
            raise DescriptionError(
                f'parameter "{parameter.text}" changes neither the modes nor a reading that is asked for; ask for '
                "readings that it reaches"
            )


def _groups(work: list[_Job]) -> list[list[_Job]]:
    """Variants of equal modes together, those of equal meshes one after the other."""
    found: dict[tuple[str, str], list[_Job]] = {}
    for job in work:
        found.setdefault((job.mesh_key, job.modes_key), []).append(job)
    return list(found.values())


def _carried_out(
    base: _Base,
    groups: list[list[_Job]],
    memory: Memory,
    document: Document,
    jobs: int | None,
    scheduler: str | None,
    stack: ExitStack,
) -> Iterator[VariantResult]:
    here = [g for g in groups if memory.has("modes", g[0].modes_key)]  # as the description is written
    groups = [g for g in groups if g not in here]
    for group in here:
        yield from _group_solved(document, memory, base, group)
    if not groups:
        return
    if scheduler is not None:
        yield from _on_a_cluster(base, groups, scheduler, stack)
        return
    count = min(jobs or _affordable_jobs(), len(groups))
    if count <= 1:
        for group in groups:
            yield from _group_solved(document, memory, base, group)
        return
    threads = str(max(1, (os.cpu_count() or 1) // count))
    before = {k: os.environ.get(k) for k in ("MKL_NUM_THREADS", "OMP_NUM_THREADS")}
    os.environ.update(dict.fromkeys(before, threads))
    try:  # new processes see what stands here when they begin
        pool = ProcessPoolExecutor(count, mp_context=get_context("spawn"))
        stack.callback(pool.shutdown, wait=False, cancel_futures=True)
        with _without_main():
            futures = [pool.submit(_worker, base, group) for group in groups]
        yield from _as_they_come(futures)
    finally:
        for k, v in before.items():
            os.environ.pop(k, None) if v is None else os.environ.update({k: v})


@contextmanager
def _without_main() -> Iterator[None]:
    """Processes that begin within do not run the user's script again, which may have no guard of its main part."""
    main = sys.modules["__main__"].__dict__
    before = {name: main[name] for name in ("__file__", "__spec__") if name in main}
    try:
        main.pop("__file__", None)
        main["__spec__"] = None
        yield
    finally:
        main.update(before)  # type: ignore[arg-type]


def _as_they_come(futures: list[Future[list[VariantResult]]]) -> Iterator[VariantResult]:
    left = set(futures)
    while left:
        done, left = wait(left, timeout=1.0, return_when=FIRST_COMPLETED)
        for future in done:
            yield from future.result()


def _affordable_jobs() -> int:
    """As many processes as there are cores, each as large as this one has been."""
    import resource

    largest = 1024 * resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    free = available_memory()
    cores = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    return max(1, cores if free is None else min(cores, int(0.8 * free / max(largest, 1))))


def _on_a_cluster(base: _Base, groups: list[list[_Job]], address: str, stack: ExitStack) -> Iterator[VariantResult]:
    try:
        from distributed import Client, as_completed
    except ImportError:
        raise EventError('a scheduler needs dask.distributed: python -m pip install "holokine[cluster]"') from None
    tell(f"calling the scheduler at {address}")
    try:
        client = Client(address, timeout="20s", set_as_default=False)
    except (OSError, ValueError, TimeoutError) as err:
        raise EventError(f"{address}: no scheduler answers there ({err})") from None
    stack.callback(client.close)
    if not client.scheduler_info()["workers"]:
        tell(f"the scheduler at {address} has no workers yet; waiting for the first")
        try:
            client.wait_for_workers(1, timeout=60)
        except TimeoutError:
            raise EventError(f"{address}: the scheduler has no workers; start some there") from None
    shared = client.scatter(base, broadcast=True)
    futures = [client.submit(_worker, shared, group, pure=False) for group in groups]
    names = dict(zip((f.key for f in futures), groups, strict=True))
    with client.as_current():
        coming = as_completed(futures)
    for future in coming:
        if future.status == "error":  # the worker itself failed, not the variant
            told = f"the worker failed: {future.exception()}"
            yield from (VariantResult(j.number, j.key, failed=told) for j in names[future.key])
        else:
            yield from future.result()


def _worker(base: _Base, group: list[_Job]) -> list[VariantResult]:
    """A group of variants in a process of a pool or of a cluster."""
    os.environ.setdefault("MKL_CBWR", "AVX2,STRICT")
    token = base.token
    if token not in _HELD:
        _HELD.clear()
        try:
            _HELD[token] = base.document(), Memory()
        except HolokineError as err:
            told = f"the worker cannot read the description: {err}"
            return [VariantResult(j.number, j.key, failed=told) for j in group]
    document, memory = _HELD[token]
    return list(_group_solved(document, memory, base, group))


def _group_solved(document: Document, memory: Memory, base: _Base, group: list[_Job]) -> Iterator[VariantResult]:
    """Variants one after the other, each from what the one before left; nothing of them stays in `memory`."""
    own = memory.copy()
    for job in group:
        try:
            made = variant_of(document, "", job.change, f"variant {job.number}")
            yield _solved(made, own, base, job)
        except HolokineError as err:
            yield VariantResult(job.number, job.key, failed=str(err))
    for stage in ("mesh",):  # the next group may share it
        if stage in own.held:
            memory.held[stage] = own.held[stage]


def _solved(document: Document, memory: Memory, base: _Base, job: _Job) -> VariantResult:
    begin = time.monotonic()
    key = key_of(document, base.asked, base.readings)
    if job.key and key != job.key:
        raise DescriptionError(
            "what is read here is not what the run was started with (other files, or another version of Holokine)"
        )
    d = document.description
    request = base.asked.again(d)
    chain = Chain(document, memory)
    new = not memory.has("modes", document.keys.of("modes", request))
    modal = chain.modal(request)
    readings = _readings(modal, d, base.readings)
    if base.sample is None:
        sample = Sample.of(modal.modes, base.variants)
        shapes: Any = sample.shapes(modal.modes), sample
    else:
        shapes = base.sample.shapes(modal.modes)
    mass = float(modal.modes.whole_mass[:3].max())
    found = tuple(float(f) for f in modal.modes.frequencies_hz)
    return VariantResult(job.number, key, mass, found, readings, "", int(new), time.monotonic() - begin, False, shapes)


def _readings(modal: ModalChain, d: Any, asked: Sequence[ReadingAsked]) -> dict[str, tuple[float, str]]:
    """Peaks in SI with their dimension, by the reading asked for; answers are made once per event."""
    answers: dict[str, Any] = {}
    found: dict[str, tuple[float, str]] = {}
    for one in asked:
        if one.event not in answers:
            event = d.events[one.event]
            bench: Any = modal if event.needs_modes else modal.chain
            answers[one.event] = bench.answer(one.event, event)
        answer = answers[one.event]
        readings = answer.reduced.readings
        rows = [n for n, r in enumerate(readings) if one.gauge in (r.gauge, r.label)]
        if not rows:
            names = [x for r in readings for x in (r.gauge, r.label)]
            hint = nearest_hint(one.gauge, list(dict.fromkeys(names)), "gauges and their readings")
            raise UnknownNameError(f'there is no reading "{one.gauge}" of "{one.event}". {hint}')
        for row in rows:
            label = f"{one.event}: {readings[row].label}"
            found[label] = float(abs(answer.peaks[row])), readings[row].dimension
    return found


def _file(folder: Path, key: str, sample: Sample | None) -> Path:
    """Its shapes are those at the sample's nodes."""
    told = key if sample is None else sha256(f"{key}{sample.token}".encode()).hexdigest()
    return folder / "variants" / f"{told[:32]}.npz"


def _kept(folder: Path, key: str, sample: Sample | None) -> VariantResult | None:
    """What an earlier run kept under this key; what cannot be read is made anew."""
    path = _file(folder, key, sample)
    try:
        found = VariantResult.of_bytes(path.read_bytes())
    except (OSError, ValueError, KeyError, TypeError, EOFError, BadZipFile, zlib.error):
        return None
    return found if found.key == key else None


def _keep(folder: Path, result: VariantResult, sample: Sample | None) -> None:
    path = _file(folder, result.key, sample)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as err:
        raise OutputError(f"{path.parent}: cannot be used as a folder ({err.strerror})") from None
    with whole_file(path) as part:
        part.write_bytes(replace(result, kept=False).as_bytes())
