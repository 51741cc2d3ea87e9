"""Stages and keys: every key of the schema acts, nothing stale is answered, and what a change reaches is made anew."""

from __future__ import annotations

import copy
import json
from importlib import import_module

import numpy as np
import pytest

import every_key as ek
import holokine as hk
from conftest import STEEL, chain
from holokine.describe.document import Places, validated
from holokine.describe.files import Folder
from holokine.errors import DescriptionError, RunFileError, StaleError

# what a changed value is not seen in, and why
QUIET = {
    ("Description", "merge_tolerance"): "no node lies between the two distances",
    ("CylinderRegion", "length"): "the same nodes lie within both",
    ("NormalRegion", "within"): "the same faces look that way",
    ("Tie", "within"): "all nodes lie nearer than both",
    ("PlaneRegion", "within"): "the same nodes lie on the plane",
    ("ModalEvent", "upto"): "no mode lies between the two frequencies",
    ("MeshFile", "up"): "a round section looks the same from all sides",
    ("_Gridded", "size"): "the same whole number of elements",
    ("Point", "apart"): "nothing else lies at that place, whose node would be shared",
    ("SpectrumEvent", "outside"): "no mode lies outside the table",
    ("Axes", "y"): "the same half plane, or none",
    ("SpectrumTable", "floor"): "the spectrum lies above both",
    ("Corners", "range"): "no mode lies outside it",
    ("Spring", "beyond"): "a spring beyond its table is refused",
    ("State", "load_steps"): "the same shape is reached in other steps",
}
OTHER = {  # values for which `changed` knows none, or none that makes sense there
    "frame": {
        ("gauges", "cut f", "plane", "at", 0): 150,
        ("parts", "beam", "beam", "through", 0): "g", ("parts", "post", "beam", "through", 0): "d",
        ("links", "feet", "rigid"): None, ("groups", "bars", 0): None, ("events", "shock", "missing mass"): None,
        ("events", "jolt", "start from"): "sunk", ("events", "jolt", "pulse", "x", "file"): None,
        ("gauges", "skin", "stress"): None, ("points", "eye", 0): None, ("events", "jolt", "upto"): "60 Hz",
        ("events", "shock", "upto"): "60 Hz", ("parts", "post", "beam", "size"): 45, ("modes", "upto"): 100.0,
        ("sections", "hoop", "pipe", "diameter"): None, ("sections", "hoop", "pipe", "wall"): None,
        ("links", "feet", "to", "box", 0, 0): 190, ("parts", "plate", "plate", "refine", 0, "side"): None,
    },
    "blocks": {
        ("parts", "wire", "mesh", "beams", "half=2", "preload"): "40 kN",
        ("joints", "bolt", "kind"): "slider", ("joints", "near", "between", 0, "nearest", 0): 0.4,
        ("supports", "stand", "at", "nearest", 0): 0.9,
        ("events", "apart", "duration"): "0.3 s", ("joints", "steady", "kind"): "rigid",
        ("gauges", "core", "at"): "centre",
        ("joints", "near", "between", 1, "link"): "averaging", ("events", "train", "method"): None,
        ("events", "apart", "over displacement"): "srss", ("events", "apart", "combine"): None,
        ("events", "levels", "spectrum", "x", "envelope", 0, "text"): "f [Hz]; a [g]\n1; 9\n9000; 9\n",
        ("joints", "bolt", "between", 1, "link"): "rigid", ("parts", "bar", "extrusion", "size"): 0.03,
        ("parts", "hoop", "ring", "section"): None, ("supports", "foot", "hold", 0): None,
        ("events", "apart", "support spectra", "foot", "displacement", "z"): 0.1,
    },
    "shapes": {("events", "shaken", "base", "y", "interpolate"): "log-log", ("events", "shaken", "beside"): None,
               ("events", "swept", "sweep", "band"): "rail", ("parts", "b0", "beam", "section"): "s1",
               ("parts", "b0", "beam", "through", 0): "p2",
               ("supports", "z", "at"): "p7", ("supports", "a", "hold"): None,
               ("gauges", "fibre", "stress"): "b6", ("events", "slow", "let go"): None},
    "stated": {("springs", "rubber", "beyond"): "refused", ("springs", "bias", "between", 0): None,
               ("supports", "pad", "pushes"): "-x", ("groups", "sheets", 0): None,
               ("states", "held", "tension", "tie"): 900.0, ("states", "held", "constant"): "push",
               ("springs", "rubber", "mirrored"): False},
    "stepped": {("states", "bent", "load steps"): None, ("state",): None},
    "bounced": {("events", "bounce", "follow"): False},
    "rattled": {("events", "rattle", "follow"): False, ("supports", "wall", "at"): None},
    "plates": {("parts", "skin", "plate", "tension along"): "side 2", ("events", "pushed", "static"): None,
               ("parts", "skin", "plate", "layers", 0, "material"): "soft",
               ("parts", "lid", "plate", "finer", 0, "within"): 0.05},
    "given": {("supports", "wall", "at"): "2", ("gauges", "end", "acceleration"): "3", ("modes", "count"): 2,
              ("events", "flat", "spectrum", "x", "frequency", 0): None},
}  # fmt: skip
ELSEWHERE: dict[str, set[tuple[str, str]]] = {  # seen to act in another of the documents
    "stated": set(),
    "stepped": set(),
    "bounced": set(),
    "rattled": set(),
    "frame": set(),
    "blocks": {("PlaneRegion", "at"), ("MeshFile", "section")},
    "shapes": set(),
    "plates": {("PlaneRegion", "at"), ("Selection", "nearest")},
    "given": set(),
}  # fmt: skip
TEXTS = {("Description", "holokine"), ("Description", "title"), ("Description", "units"), ("Description", "variants"),
         ("Units", "length"), ("Units", "force"), ("Units", "mass"), ("Units", "time")}  # fmt: skip


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    where = tmp_path_factory.mktemp("keys")
    ek.write_files(where)
    return where


def keys_of(modes: hk.Modes) -> dict[str, str]:
    """Keys of all stages, and of the answers to all events."""
    at, d = modes.now, modes.assembly.document
    stages = ("mesh", "system", "dampers", "modes", "damping", "gauges", "reduced", "reading")
    answers = {f"answer {n}": d.keys.of_answer(e, at.basis) for n, e in d.description.events.items()}
    return {**{s: at.key(s) for s in stages}, **answers}


def test_the_documents_use_every_key_of_the_schema(folder):
    used: set[tuple[str, str]] = set()
    for name, document in ek.DOCUMENTS.items():
        used |= ek.given_fields(hk.Assembly.read(ek.write(document, folder / f"{name}.yaml")).description)
    assert ek.schema_fields() - used <= TEXTS


@pytest.mark.parametrize("whole", [False, pytest.param(True, marks=pytest.mark.long)])
@pytest.mark.parametrize("name", list(ek.DOCUMENTS))
def test_every_key_acts_and_a_run_file_is_never_stale(folder, tmp_path, name, whole):
    """Every value changed once: a key changes, a result does; the run file answers like a fresh run or refuses.

    In short one value of every table that acts, with two modes and two events.
    """
    document = ek.DOCUMENTS[name]
    ek.write_files(tmp_path)
    path = ek.write(document, tmp_path / "a.yaml")
    base = hk.Assembly.read(path)
    count = None if whole or name == "given" else 2
    modes = base.modes(count)
    events = tuple(base.description.events) if whole else tuple(base.description.events)[:2]
    was, before = keys_of(modes), ek.results(modes, events)
    run = modes.save(tmp_path / "a.run")
    seen: dict[tuple[str, str], bool] = {}
    tried: set[str] = set()
    opened: set[tuple[str, frozenset[str]]] = set()  # a run file once per table and stages that a change reaches
    for at, value in ek.leaves(document):
        field = ek.owner(base.description, at)
        new = OTHER[name].get(at, ek.changed(value))
        if field in TEXTS or seen.get(field) or new is None:
            continue
        if not whole and (at[0] in tried or at[0] == "modes" or (at[0] == "events" and at[1] not in events)):
            continue
        ek.write(ek.put(document, at, new), path)
        try:
            now = hk.Assembly._of(validated(json.loads(path.read_text()), Places("a.yaml"), Folder(tmp_path)))
            fresh = now.modes(count)
            asked = (at[1],) if at[0] == "events" else events if at[0] == "loads" else (events[0], events[-1])
            after = ek.results(fresh, asked)
        except hk.HolokineError:
            continue  # another value may do
        keys = keys_of(fresh)
        assert keys != was or at[1] in ("soft", "hoop", "idle"), f"{at}: no key changed"
        known = {k: v for k, v in before.items() if k in after}
        acts = not ek.same(known, after)
        assert keys != was or not acts, at
        seen[field] = seen.get(field, False) or acts
        tried |= {at[0]} if acts else set()
        reach = (str(at[0]), frozenset(k for k in keys if keys[k] != was.get(k)))
        if reach in opened:
            continue
        opened.add(reach)
        if keys["modes"] != was["modes"]:
            with pytest.raises(RunFileError, match="has changed since these modes were extracted"):
                hk.open_run(run)
        else:
            assert ek.same(ek.results(hk.open_run(run), asked), after), f"{at}: stale"
    if not whole:
        assert len(tried) >= min(4, len(document) - 4), tried
        return
    idle = {f for f, acts in seen.items() if not acts} - set(QUIET) - ELSEWHERE[name]
    assert not idle, f"accepted, but without effect: {sorted(idle)}"


def test_contents_of_every_named_file_are_in_a_key(folder, tmp_path):
    for name, document in ek.DOCUMENTS.items():
        ek.write_files(tmp_path)
        modes = hk.Assembly.read(ek.write(document, tmp_path / "a.yaml")).modes()
        run, was = modes.save(tmp_path / "a.run"), keys_of(modes)
        for file in modes.assembly.document.keys.file_names():
            ek.write_files(tmp_path, change=file)
            now = hk.Assembly.read(tmp_path / "a.yaml")
            assert keys_of(now.modes()) != was, (name, file)
            if now.modes().key != modes.key:
                with pytest.raises(RunFileError, match=f"{file} has other contents"):
                    hk.open_run(run)
                kept = hk.open_run(run, as_saved=True)  # with the files as they were
                event = next(iter(now.description.events))
                assert kept.respond(event).table("peaks").equals(modes.respond(event).table("peaks"))
            else:
                hk.open_run(run)
    named = [hk.Assembly.read(ek.write(d, tmp_path / "a.yaml")).document.keys for d in ek.DOCUMENTS.values()]
    assert {f for keys in named for f in keys.file_names()} == set(ek.FILES)


def test_keys_do_not_depend_on_how_it_is_written(folder, tmp_path):
    path = ek.write(ek.FRAME, folder / "written.yaml")
    first = hk.Assembly.read(path)
    other = copy.deepcopy(ek.FRAME)
    other["materials"]["steel"]["E"] = "205000 MPa"
    other["materials"] = dict(reversed(other["materials"].items()))
    other["springs"]["stay"]["stiffness"] = "60 kN/m"
    other["title"], other["points"]["idle"] = "another", [1, 2, 3]
    other["points"]["more"] = [7000, 0, 0]
    other["parts"]["post"]["beam"]["size"] = "9 cm"
    other["parts"] = {n.replace("_", " "): p for n, p in other["parts"].items()}
    second = hk.Assembly.read(ek.write(other, folder / "otherwise.yaml"))
    one, two = (keys_of(a.modes()) for a in (first, second))
    assert one == two
    moved = tmp_path / "elsewhere"
    moved.mkdir()
    ek.write_files(moved)
    other["events"]["shock"]["spectrum"]["z"] = str(moved / "shock.csv")  # the same contents by another path
    assert keys_of(hk.Assembly.read(ek.write(other, folder / "third.yaml")).modes()) == one
    # the order of parts numbers nodes, so it is a change, and told as one
    turned = {**ek.FRAME, "parts": dict(reversed(ek.FRAME["parts"].items()))}
    run = first.modes().save(folder / "order.run")
    ek.write(turned, path)
    with pytest.raises(RunFileError, match="parts: the order has changed"):
        hk.open_run(run)


def test_a_change_costs_only_what_it_reaches(folder, monkeypatch):
    calls: dict[str, int] = {}

    def counted(home, name):
        real = getattr(import_module(f"holokine.{home}"), name)

        def count(*args, **keys):
            calls[name] = calls.get(name, 0) + 1
            return real(*args, **keys)

        monkeypatch.setattr(f"holokine.{home}.{name}", count)

    made = {"build_mesh": "mesh.build", "build_system": "system.build", "extract_modes": "modes.extract",
            "build_gauges": "gauges.build", "reduce_model": "respond.reduced"}  # fmt: skip
    for name, home in made.items():
        counted(home, name)

    def cost(assembly, event="shock"):
        calls.clear()
        assembly.modes().respond(event)
        return dict(calls)

    a = hk.Assembly.read(ek.write(ek.FRAME, folder / "cost.yaml"))
    every = dict.fromkeys(made, 1)
    assert cost(a) == every
    assert cost(a) == {}
    assert cost(a.changed({"damping": "4 %"})) == {}
    assert cost(a.changed({"gauges": {"more": {"acceleration": "eye"}}})) == {"build_gauges": 1, "reduce_model": 1}
    assert cost(a.changed({"limits": {"unit a": "3 g"}, "events": {"shock": {"combine": "srss"}}})) == {}
    no_mesh = {k: v for k, v in every.items() if k != "build_mesh"}
    assert cost(a.changed({"materials": {"steel": {"E": "200 GPa"}}})) == no_mesh
    assert cost(a.changed({"modes": {"count": 6}})) == {"extract_modes": 1, "reduce_model": 1}
    assert cost(a.changed({"springs": {"stay": {"damping": 0.5}}})) == {
        "build_system": 1, "build_gauges": 1, "reduce_model": 1}  # fmt: skip
    run = a.modes().save(folder / "cost.run")
    calls.clear()
    hk.open_run(run).respond("shock")
    assert calls == {}


def test_python_changes_take_effect_or_are_refused():
    a = chain([2.0, 3.0], [400.0, 300.0]).gauge("end", acceleration="p2", axis="x")
    a.event("hit", pulse={"x": {"half sine": {"peak": 5, "duration": 0.1}}})
    modes = a.modes(count=2)
    answer = modes.respond("hit")
    first = answer.table("peaks")["peak"].iloc[0]
    a.gauge("first", acceleration="p1", axis="x").limit("end", 100)  # beyond the modes: they take effect
    assert list(modes.respond("hit").table("peaks")["gauge"]) == ["end", "first"]
    with pytest.raises(StaleError, match="answer it again"):
        answer.table("limits")  # of a table with other gauges
    assert modes.respond("hit").ok
    a.event("harder", pulse={"x": {"half sine": {"peak": 10, "duration": 0.1}}})
    assert modes.respond("harder").table("peaks")["peak"].iloc[0] == pytest.approx(2 * first)
    a.mass("ballast", at="p2", mass=5)  # below them: refused by name
    for ask in (lambda: modes.respond("hit"), lambda: modes.reduced, lambda: modes.damping, lambda: modes.table(),
                lambda: modes.save("never.run")):  # fmt: skip
        with pytest.raises(StaleError, match="masses, ballast is new"):
            ask()
    assert len(modes.frequencies_hz) == 2  # what was found stays what it was
    again = a.modes(count=2)
    assert again.frequencies_hz[0] < modes.frequencies_hz[0]
    assert modes.compare(again).table()["shift_percent"].iloc[0] < 0


def test_variants_have_run_files_that_follow_their_file(folder):
    document = {**ek.FRAME, "variants": {"stiffer": {"materials": {"steel": {"E": "300 GPa"}}}}}
    path = ek.write(document, folder / "variants.yaml")
    run = hk.Assembly.read(path).variant("stiffer").modes().save(folder / "stiffer.run")
    hk.open_run(run)
    ek.write(ek.put(document, ("variants", "stiffer", "materials", "steel", "E"), "400 GPa"), path)
    with pytest.raises(RunFileError, match="materials, steel, E: 300 GPa, now 400 GPa"):
        hk.open_run(run)
    ek.write(ek.put(document, ("masses", "unit", "mass"), "4 kg"), path)
    with pytest.raises(RunFileError, match="masses, unit, mass: 3 kg, now 4 kg"):
        hk.open_run(run)


def test_a_group_that_something_rests_on_is_a_change(folder):
    path = ek.write(ek.FRAME, folder / "groups.yaml")
    run = hk.Assembly.read(path).modes().save(folder / "groups.run")
    ek.write(ek.put(ek.FRAME, ("groups", "panels"), ["plate", "beam"]), path)  # a support's selection names it
    with pytest.raises(RunFileError, match="groups, panels"):
        hk.open_run(run)
    ek.write(ek.put(ek.FRAME, ("groups", "spare"), ["post"]), path)  # nothing names this one
    assert "spare" in hk.open_run(run).assembly.description.groups


@pytest.mark.parametrize("name", list(ek.DOCUMENTS))
def test_round_trip_through_write(folder, tmp_path, name):
    a = hk.Assembly.read(ek.write(ek.DOCUMENTS[name], folder / f"{name}.yaml"))
    there = tmp_path / "written"
    there.mkdir()
    for target in (folder / f"{name} again.yaml", there / "b.yaml"):  # beside its files, and elsewhere
        again = hk.Assembly.read(a.save(target))
        assert keys_of(again.modes()) == keys_of(a.modes())
        assert again.title == a.title or not a.description.title
    built = hk.Assembly("built", units={"length": "mm", "force": "N"}).material("m", **STEEL_MM)
    built.point("a", np.zeros(3)).point("b", (500.0, 0, 0)).section("s", rod={"diameter": 20})
    built.part("bar", beam={"through": ("a", "b"), "section": "s"}, material="m").support("w", at="a", hold="all")
    read = hk.Assembly.read(built.save(tmp_path / "built.yaml"))
    assert read.modes(3).key == built.modes(3).key
    assert (tmp_path / "built.yaml").read_text().startswith("holokine: 1")


STEEL_MM = {"E": "206 GPa", "nu": STEEL["nu"], "density": "7830 kg/m^3"}


def test_what_was_assumed_and_loss_factors_act():
    """Two equal springs of material, one of them with a loss factor: half of it in a mode that strains both alike."""

    def rods(**more):
        a = hk.Assembly().section("s", rod={"diameter": 0.02})
        a.material("plain", **STEEL).material("lossy", **STEEL, loss_factor=0.2)
        a.point("a", [0, 0, 0]).point("m", [1, 0, 0]).point("b", [2, 0, 0])
        for part, ends, material in (("one", ["a", "m"], "plain"), ("two", ["m", "b"], "lossy")):
            a.part(part, beam={"through": ends, "section": "s", "divisions": 4}, material=material)
        a.mass("body", at="m", mass=1000.0)
        for end in "ab":
            a.support(end, at=end, hold="all")
        for key, value in more.items():
            getattr(a, key)(value)
        return a.modes(count=3)

    alone = rods()
    assert alone.damping == pytest.approx([0.05] * 3, rel=1e-3)  # η/2 times a half
    assert any("loss factors of members alone" in f.text for f in alone.findings)
    assert rods(damping="1 %").damping == pytest.approx([0.06] * 3, rel=1e-3)
    assert rods(damping={"composite": {"default": "4 %"}}).damping == pytest.approx([0.07] * 3, rel=1e-3)
    none = chain([1.0], [100.0])
    none._data.pop("damping")
    assert any("2 % is assumed" in f.text for f in none.modes(1).findings)
    assert any("2 % is assumed" in f.text for f in none.check().findings)


# -- option by kind ----------------------------------------------------------------------------------------

OPTIONS = {
    "spectrum": {"combine": "srss", "directions": "srss", "interpolate": "linear", "outside": "hold",
                 "rigid between": [10, 30], "missing mass": False, "zero period acceleration": 3.0},
    "time": {"static correction": False, "ring down": 1.0, "step": 0.001, "method": "modes", "start from": "rest",
             "let go": "rest", "model": "reduced"},
    "static": {},
}  # fmt: skip
SHARED = {"damping": 0.03, "upto": 1000.0}
KINDS = {
    "spectrum": {"spectrum": {"x": {"frequency": [0.1, 100], "acceleration": [1, 1]}}},
    "time": {"pulse": {"x": {"half sine": {"peak": 1, "duration": 0.1}}}},
    "static": {"static": "push"},
}


@pytest.mark.parametrize("kind", list(KINDS))
def test_options_of_one_kind_are_refused_by_others(kind):
    a = chain([1.0, 1.0], [100.0, 100.0]).load("push", at="p1", force=[1, 0, 0]).event("rest", static="push")
    for home, options in (*OPTIONS.items(), ("modal", SHARED)):
        for option, value in options.items():
            event = {**KINDS[kind], option: value}
            fits = home == kind or (home == "modal" and kind != "static")
            if fits:
                assert type(a.changed({"events": {"e": event}}).description.events["e"]).kind == kind
                continue
            with pytest.raises(DescriptionError, match=f'"{option}" belongs to .*; this event is one of'):
                a.changed({"events": {"e": event}})


@pytest.mark.parametrize(("keys", "words"), [
    ({"spectrum": {"z": "w.csv"}, "duration": 3}, "duration has no effect but with combine: double sum"),
    ({"spectrum": {"z": "w.csv"}, "over supports": "srss"}, "without support spectra"),
    ({"spectrum": {"z": "w.csv"}, "missing mass": False, "zero period acceleration": 1}, "with missing mass: false"),
    ({"pulse": {"z": "w.csv"}, "high frequency damping": 0.1}, "but with method: generalised alpha"),
    ({"pulse": {"z": "w.csv"}, "model": "full", "method": "average acceleration", "static correction": False},
     "which leaves no mode out"),
    ({"pulse": {"z": "w.csv"}, "spectrum": {"z": "w.csv"}}, r"exactly one of .*\(got spectrum and pulse\)"),
    ({"pluse": {"z": "w.csv"}}, 'Did you mean "pulse"'), ({"static": {}}, "has no load"),
])  # fmt: skip
def test_options_without_effect_are_refused(keys, words):
    with pytest.raises(DescriptionError, match=words):
        chain([1.0], [1.0]).changed({"events": {"e": keys}})


def test_the_published_schema_takes_what_the_reader_takes(folder):
    import jsonschema

    from holokine.data import assembly_schema

    schema = json.loads(assembly_schema().read_text())
    check = jsonschema.Draft202012Validator(schema)
    for document in ek.DOCUMENTS.values():
        errors = [f"{list(e.absolute_path)}: {e.message[:90]}" for e in check.iter_errors(document)]
        assert not errors
    for bad in ({**ek.FRAME, "pionts": {}}, ek.put(ek.FRAME, ("parts", "post", "beam", "sise"), 3)):
        assert not check.is_valid(bad)
