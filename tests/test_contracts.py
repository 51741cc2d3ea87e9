"""Contracts: every public method of every answer, every kind of element, signatures, short screens, mutated files."""

from __future__ import annotations

import contextlib
import copy
import inspect
import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import every_key as ek
import holokine as hk
from conftest import ALUMINIUM, STEEL, pyramids
from holokine.api.answers import ANSWER_CLASSES
from holokine.describe.events import EVENT_KINDS
from holokine.describe.gauges import GAUGE_KINDS
from holokine.describe.schema import Description
from holokine.elements.kinds import ElementKind
from holokine.errors import HolokineError, UnknownNameError
from holokine.gauges.build import BUILDERS
from holokine.gauges.readings import FORMS
from holokine.mesh.cells import CELLS
from holokine.respond.registry import ANSWERS
from holokine.system.build import MAKERS
from holokine.system.wide import Following

# -- registries ------------------------------------------------------------------------------------------------


def test_registries_are_complete():
    assert set(EVENT_KINDS) == set(ANSWERS) == set(ANSWER_CLASSES)
    assert set(GAUGE_KINDS) == set(BUILDERS)
    assert {kind.family for kind in CELLS.values()} == set(MAKERS)
    told = [key for kind in EVENT_KINDS for key in kind.told_by]
    assert len(told) == len(set(told))


# -- answers ---------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def origins(tmp_path_factory):
    """The same small assembly fresh, from a run file, and as matrices from elsewhere."""
    folder = tmp_path_factory.mktemp("origins")
    ek.write_files(folder)
    small = {**ek.FRAME, "modes": {"count": 6}}
    fresh = hk.Assembly.read(ek.write(small, folder / "frame.yaml")).modes()
    opened = hk.open_run(fresh.save(folder / "frame.run"))
    given_ = copy.deepcopy(ek.GIVEN)
    given_ |= {"loads": {"push": {"at": "4", "force": [3, 0, 0]}}}
    given_["events"] |= {"rest": {"static": "push"}, "shock": given_["events"]["flat"], "jolt": given_["events"]["hit"]}
    matrices = hk.Assembly.read(ek.write(given_, folder / "given.yaml")).modes()
    return {"fresh": fresh, "run file": opened, "matrices": matrices}


EVENTS = {"spectrum": "shock", "time": "jolt", "static": "rest", "sweep": "sine", "random": "noise"}
SWEEP = {"sweep": [1, 400], "base": {"z": "1 g"}}
NOISE = {"random": {"z": {"frequency": [1, 400], "density": ["0.01 g^2/Hz", "0.01 g^2/Hz"]}}, "duration": "1 min",
         "fatigue": {"slope": 5}}  # fmt: skip


def answered(modes, kind):
    return modes.respond({"sweep": SWEEP, "random": NOISE}.get(kind, EVENTS[kind]))


@pytest.mark.parametrize("kind", list(EVENTS))
@pytest.mark.parametrize("origin", ["fresh", "run file", "matrices"])
def test_every_table_figure_and_file_of_every_answer(origins, origin, kind, tmp_path):
    """A result, or an error of ours that says why not; what belongs to another kind is said to."""
    modes = origins[origin]
    if kind in ("sweep", "random") and origin == "matrices":
        pytest.skip("matrices from elsewhere shake along x only")
    answer, refused = answered(modes, kind), set()
    gauge = answer.result.reduced.readings[0].label
    for name, entry in answer._all("table").items():
        needs = [p for p in inspect.signature(entry.make).parameters.values() if p.default is p.empty]
        what = [gauge] if len(needs) > 1 else []
        try:
            table = answer.table(name, *what, **({"to": "z"} if name == "transfer" else {}))
        except HolokineError:
            refused.add(name)
            continue
        assert isinstance(table, pd.DataFrame), name
        assert entry.words, name
    optional = {"limits", "whole_model", "fatigue", "energies", "covariance", "correlation", "transfer"}
    optional |= {"one_way", "changes", "against_linear", "followed_energies"}  # of followed ones
    assert refused <= optional, refused
    assert next(iter(answer.tables)) == "peaks"
    assert all(title and len(table) for title, table in answer.screens())
    for name, draw in answer.figures.items():
        assert hasattr(draw(), "savefig"), name
        assert hasattr(answer.plot(name), "savefig"), name
    for ending, write in answer.files().items():
        path = tmp_path / f"out{ending}"
        write(path)
        assert path.stat().st_size > 50, ending
    for ending in (".csv", ".xlsx", ".html"):
        assert answer.save(tmp_path / f"again{ending}").stat().st_size > 50
    assert np.array_equal(answer.array("peaks"), answer.result.peaks, equal_nan=True)
    own = set(answer._all("table"))
    for other in (c for c in ANSWER_CLASSES.values() if c is not type(answer)):
        for foreign in set(other._all("table")) - own:
            with pytest.raises(UnknownNameError, match=f'have no table "{foreign}"; it belongs to answers to'):
                answer.table(foreign)
        for foreign in (n for n in dir(other) if not n.startswith("_") and not hasattr(type(answer), n)):
            with pytest.raises(AttributeError, match=f'have no "{foreign}"; it belongs to answers to'):
                getattr(answer, foreign)


def test_results_have_the_same_few_words(crate, crate_modes):
    """Whatever is held: title, findings, lines, tables, figures, files; each table says what it is."""
    results = [crate.check(), crate.state("parked"), crate.state("parked").buckling(1, modes=0), crate_modes,
               crate_modes.damped(), crate_modes.compare(crate_modes), crate_modes.respond("kerb strike"),
               crate_modes.respond("kerb strike").shock("fan z", high=50), hk.formula(), crate_modes.tune(
                   "transformer", "z", ratio="5 %")]  # fmt: skip
    for result in results:
        assert result.title
        assert isinstance(result.findings, tuple)
        assert all(isinstance(line, str) for line in result.lines)
        for name in list(result.tables)[:3]:
            assert f"{name}: " in repr(result.tables)
        assert all(json.dumps(f.data) for f in result.findings)
        assert result.footer.startswith("holokine ")
        with pytest.raises(UnknownNameError, match="no table"):
            result.table("nothing of the kind")
        with pytest.raises(hk.OutputError, match="saved as"):
            result.save("x.nothing")


def test_answers_are_the_same_from_a_run_file(origins):
    for event in [n for k, n in EVENTS.items() if k not in ("sweep", "random")]:
        left, right = (origins[o].respond(event) for o in ("fresh", "run file"))
        assert left.key == right.key
        for name, table in left.tables.items():
            pd.testing.assert_frame_equal(table, right.tables[name], check_exact=True)


# -- elements --------------------------------------------------------------------------------------------------

BRICK = {"corner": [0, 0, 0], "sides": [[0.3, 0, 0], [0, 0.2, 0], [0, 0, 0.1]], "divisions": [2, 2, 1]}
SHEET = {"corner": [0, 0, 0], "sides": [[0.3, 0, 0], [0, 0.2, 0]], "divisions": [2, 2], "thickness": 0.01}


def element_sets(folder) -> dict[str, hk.Assembly]:
    found = {}
    for quadratic in (False, True):
        for cells in ("bricks", "tetrahedra", "wedges"):
            a = hk.Assembly().material("m", **ALUMINIUM)
            a.part("p", box={**BRICK, "cells": cells, "quadratic": quadratic}, material="m")
            found[a.system.elements[0].kind] = a
        for cells in ("quads", "triangles"):
            shape = {**SHEET, "cells": cells, "quadratic": quadratic}
            a = hk.Assembly().material("m", **STEEL).part("p", plate=shape, material="m")
            found[a.system.elements[0].kind] = a
        a = pyramids(ALUMINIUM, [0.3, 0.2, 0.1], [2, 2, 1], folder, quadratic)
        found[a.system.elements[0].kind] = a
    a = hk.Assembly().material("m", **STEEL).section("s", rectangle={"width": 0.02, "height": 0.03})
    a.point("a", [0, 0, 0]).point("b", [0.4, 0.1, 0])
    found["beam"] = a.part("p", beam={"through": ["a", "b"], "section": "s", "divisions": 3}, material="m")
    return found


@pytest.mark.parametrize("kind", list(CELLS))
def test_every_kind_of_element_keeps_its_contract(tmp_path, kind):
    a = element_sets(tmp_path)[kind]
    system = a.system
    (block,) = system.elements
    cell = CELLS[kind]
    assert isinstance(block, ElementKind)
    assert block.nodes.shape[1] == cell.count
    assert max((n for edge in cell.edges for n in edge), default=0) < cell.count
    for corner in cell.corners:  # each corner with its neighbours along edges
        assert all({corner[0], n} in [set(e) for e in cell.edges] for n in corner[1:])
    R = system.rigid_motions(np.zeros(3))
    mass = 0.0
    for dofs, k, m in block.chunks():
        assert np.abs(k - np.swapaxes(k, 1, 2)).max() <= 1e-12 * np.abs(k).max()
        rigid = R[:, dofs]  # (6, elements, motions)
        assert np.abs(np.einsum("eij,rej->rei", k, rigid)).max() < 1e-7 * np.abs(k).max()
        assert np.linalg.eigvalsh(m).min() > -1e-9 * np.abs(m).max()
        mass += np.einsum("ei,eij,ej->", rigid[0], m, rigid[0])
    lumped = sum(np.einsum("ei,eij,ej->", R[0][d], m, R[0][d]) for d, m in block.lumped_chunks())
    assert lumped == pytest.approx(mass, rel=1e-12)
    density = ALUMINIUM["density"] if cell.family == "solid" else STEEL["density"]
    assert mass == pytest.approx(density * block.volumes().sum(), rel=1e-9)
    assert block.wave(100.0) > block.wave(400.0) > 0
    shear = np.zeros(system.size)  # a field that strains
    shear[0::6] = 1e-3 * system.mesh.nodes[:, 0]
    error = block.wave_errors(np.stack([shear, shear]), np.array([10.0, 20.0]))
    assert 0 < error[0] < error[1] if cell.family == "line" else not error.any()
    held = 0.0
    for chunk in block.strain_maps():
        strain = chunk.of(shear[chunk.dofs][None])[..., 0]
        held += np.einsum("epc,cd,epd,ep->", strain, chunk.stiffness, strain, chunk.weights)
        np.testing.assert_allclose(chunk.to_nodes.sum(axis=1), 1.0, atol=1e-12)
        np.testing.assert_allclose(chunk.shape.sum(axis=1), 1.0, atol=1e-12)
    exact = sum(np.einsum("ei,eij,ej->", shear[d], k, shear[d]) for d, k, _ in block.chunks())
    assert (held == 0) == (not block.recovery_worth) == (cell.family == "line")
    assert cell.family == "line" or held == pytest.approx(exact, rel=1e-9)
    fields = block.stress_fields(system.size)
    assert fields
    for field in (*fields, *block.gauge_fields(system.size)):
        assert field.width == len(block.stress_names)
        assert field.spread is not None or field.matrix.shape == (field.width * len(field.places), system.size)
        assert field.places.text(0).startswith(("element 1", "node 1"))
        motions = np.vstack([shear, R])
        own = any(field is f for f in fields)
        stress = field.of(motions).reshape(-1, 7) if own else field.matrix @ motions.T
        assert len(stress) == field.width * len(field.places)
        assert np.abs(stress[:, 0]).max() > 0
        assert np.abs(stress[:, 1:]).max() < 1e-6 * np.abs(stress[:, 0]).max() / 1e-3
    for f in fields:
        assert len(f.size(f.of(shear[None]).ravel())) == len(block.nodes)
    # grown freely by a strain it holds no stress; under one it does, and what that adds is symmetric and moves with it
    grown = np.zeros(system.size)
    grown.reshape(-1, 6)[:, :3] = 1e-4 * system.mesh.nodes
    scale = np.abs(block.resultants(grown, 0.0)).max()
    assert scale > 0
    assert np.abs(block.resultants(grown, 1e-4)).max() < 1e-9 * scale
    for field in block.stress_fields(system.size):
        found = field.of(grown[None]).ravel()
        free = np.tile(block.free_stress(), len(found) // len(block.free_stress()))
        np.testing.assert_allclose(found, 1e-4 * free, rtol=1e-6, atol=1e-9 * np.abs(free).max() * 1e-4)
    tight = block.stressed(block.resultants(grown, 0.0))
    for nodes, added in tight.stress_blocks():
        assert len(nodes) == len(added)
        assert np.abs(added - np.swapaxes(added, 1, 2)).max() <= 1e-12 * np.abs(added).max()
        count = added.shape[1] // block.nodes.shape[1]
        dofs = (6 * nodes[:, :, None] + np.arange(count)).reshape(len(nodes), -1)
        shift = np.einsum("eij,rej->rei", added, R[:3][:, dofs])
        assert np.abs(shift).max() < 1e-9 * np.abs(added).max()  # moved as a whole it is stressed as before
        assert np.einsum("ei,eij,ej->", shear[dofs], added, shear[dofs]) > 0  # in tension all round it is stiffer
    assert next(iter(block.stress_blocks()), None) is None
    rows = type(block).section_map([block], len(shear)).shape[0]
    assert rows == (12 * len(block.nodes) if cell.family == "line" else 0)
    assert (block.run_ends is None) == (cell.family != "line") == (block.end_rows("end") is None)


def test_forms_of_readings_know_their_quadratic_form():
    rng = np.random.default_rng(3)
    for name, form in FORMS.items():
        for width in (1,) if name in ("single", "largest") else (3,) if name == "magnitude" else (3, 6):
            parts = rng.standard_normal((5, width))
            value, Q = form.value(parts), form.quadratic(width)
            if Q is None:
                assert name == "principal"
                continue
            np.testing.assert_allclose(value**2, np.einsum("pi,ij,pj->p", parts, Q, parts), rtol=1e-12)
            assert form.signed == bool((form.value(-parts) == -value).all())


# -- Python as a place to work -----------------------------------------------------------------------------------

BUILDING = {
    "material": "materials", "section": "sections", "part": "parts", "mass": "masses", "spring": "springs",
    "bushing": "bushings", "link": "links", "joint": "joints", "tie": "ties", "support": "supports", "gauge": "gauges",
    "load": "loads", "add_state": "states", "band": "bands", "matrices": "matrices", "event": "events",
}  # fmt: skip


@pytest.mark.parametrize("method", list(BUILDING))
def test_signatures_list_the_words_of_the_schema(method):
    table = Description.model_fields[BUILDING[method]].annotation
    keys: set[str] = set()
    if method == "event":
        for kind in EVENT_KINDS:
            keys |= set(kind.model_fields)
    else:
        model = table.__args__[0 if method == "matrices" else 1]  # Matrices | None, or dict[str, Model]
        keys = set(model.model_fields)
    signature = inspect.signature(getattr(hk.Assembly, method))
    assert set(signature.parameters) - {"self", "name"} == keys
    assert all(p.kind is p.KEYWORD_ONLY for n, p in signature.parameters.items() if n not in ("self", "name"))


def test_public_methods_have_real_signatures():
    """Options are named, but where they are those of a table, a figure or a kind of file."""
    opened = {"table", "plot", "picture", "save", "files"}
    for owner in (hk.Assembly, hk.Modes, hk.Check, hk.State, *ANSWER_CLASSES.values()):
        for name, member in inspect.getmembers(owner, callable):
            if name.startswith("_"):
                continue
            kinds = {p.kind for p in inspect.signature(member).parameters.values()}
            assert name in opened or inspect.Parameter.VAR_KEYWORD not in kinds, f"{owner.__name__}.{name}"
            assert inspect.getdoc(member), f"{owner.__name__}.{name}"
        for kind in ("table", "figure", "writes"):
            for entry in getattr(owner, "_own", {}).get(kind, {}).values():
                assert inspect.getdoc(entry.make), f"{owner.__name__}, {entry.name}"


def test_an_event_shows_the_options_of_its_kind_alone():
    a = hk.Assembly()
    assert sorted(dir(a.event)) == sorted(k.kind for k in EVENT_KINDS)
    for kind in EVENT_KINDS:
        shown = set(inspect.signature(getattr(a.event, kind.kind)).parameters)
        assert shown == {"name", *kind.model_fields}
    a.event.sweep("shake", sweep=[5, 50], base={"z": "1 g"})
    assert type(a.description.events["shake"]).kind == "sweep"
    with pytest.raises(AttributeError, match="there is no wave"):
        a.event.wave("w")


def test_everything_at_a_prompt_is_one_short_screen(crate, crate_modes):
    things = [crate, crate.check(), crate_modes, *(crate_modes.respond(e) for e in ("works shock", "kerb strike",
                                                                                 "winter standstill"))]  # fmt: skip
    many = hk.Assembly("many").material("m", **STEEL).section("s", rod={"diameter": 0.02})
    for i in range(400):
        many.point(f"p{i}", [i, 0, 0])
    for i in range(399):
        many.part(f"b{i}", beam={"through": [f"p{i}", f"p{i + 1}"], "section": "s", "divisions": 1}, material="m")
    for thing in (*things, many, many.check()):
        text = repr(thing)
        assert len(text.splitlines()) <= 24
        assert max(len(line) for line in text.splitlines()) <= 200
        assert "object at 0x" not in text
        html = thing._repr_html_()
        assert html.startswith("<")
        assert "<script" not in html
    assert "33 more of 48 modes" in repr(crate_modes)
    assert "433.7 kg" in repr(crate.check())


def test_shared_arrays_are_read_only(crate_modes):
    system = crate_modes.set.system
    shared = [system.stiffness, system.mass, system.damping]
    for reduced in (system.reduced_stiffness, system.reduced_mass):  # with what follows many nodes kept apart, or not
        shared += [reduced.whole, reduced.rows] if isinstance(reduced, Following) else [reduced]
    for matrix in shared:
        with pytest.raises(ValueError, match="read-only"):
            matrix.data[:] *= 2
    for array in (crate_modes.frequencies_hz, crate_modes.shapes, crate_modes.damping, crate_modes.set.participation,
                  crate_modes.set.residuals, crate_modes.reduced.modal, crate_modes.reduced.residual):  # fmt: skip
        with pytest.raises(ValueError, match="read-only"):
            array[0] = 0.0


@pytest.mark.parametrize("script", ["schema.py", "api_page.py"])
def test_what_is_made_from_the_code_is_up_to_date(script):
    path = Path(__file__).parents[1] / "scripts" / script
    assert subprocess.run([sys.executable, path, "--check"], check=False).returncode == 0


# -- mutated files -----------------------------------------------------------------------------------------------

WORDS = st.sampled_from(
    [
        "",
        "all",
        "z",
        "-3 mm",
        "2 %",
        "1e400",
        "nan",
        "7 kN",
        "steel",
        "nothing",
        "true",
        "[1, 2]",
        "9" * 30,
        "µ",
        "1 GPa",
    ]
)
ODD = st.one_of(
    st.none(), st.booleans(), st.integers(-3, 3), st.floats(-1e3, 1e3), st.just(float("inf")), st.just(float("nan")),
    WORDS, st.lists(st.integers(-2, 2), max_size=3), st.dictionaries(WORDS, st.integers(0, 2), max_size=2),
)  # fmt: skip


@settings(max_examples=300, deadline=None, suppress_health_check=list(HealthCheck))
@given(data=st.data())
def test_mutated_descriptions_give_nothing_but_our_own_errors(data, tmp_path_factory):
    """One to three values, keys or entries of the assemblies replaced by anything."""
    folder = tmp_path_factory.getbasetemp() / "mutated"
    if not folder.exists():
        folder.mkdir()
        ek.write_files(folder)
    name = data.draw(st.sampled_from(list(ek.DOCUMENTS)))
    document = copy.deepcopy(ek.DOCUMENTS[name])
    for _ in range(data.draw(st.integers(1, 3))):
        places = [p for p, _ in ek.leaves(document)]
        path = data.draw(st.sampled_from(places))
        path = path[: data.draw(st.integers(1, len(path)))]
        here = document
        for step in path[:-1]:
            here = here[step]
        what = data.draw(st.sampled_from(["value", "key", "gone"]))
        if what == "value" or not isinstance(here, dict):
            here[path[-1]] = data.draw(ODD)
        elif what == "key":
            here[str(data.draw(WORDS))] = here.pop(path[-1])
        else:
            del here[path[-1]]
        if not list(ek.leaves(document)):
            break
    with contextlib.suppress(HolokineError):
        hk.Assembly.read(ek.write(document, folder / "m.yaml")).document.keys.of("gauges")


def test_a_document_is_json_all_the_way(crate_file):
    """Plain data of a read file holds nothing that a run file could not keep."""
    data = hk.Assembly.read(crate_file).document.data
    assert json.loads(json.dumps(data)) == data
