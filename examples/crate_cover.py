"""The cover of the converter crate by its outline: ribs that cross, a window, quadratic shells, a laminated lid."""

import numpy as np

import holokine as hk

cover = hk.Assembly("Cover of the converter crate", units={"length": "mm", "force": "N"})
cover.material("steel", E="205 GPa", nu=0.29, density="7840 kg/m^3")
cover.material(
    "ply",
    orthotropic={"E": ["38 GPa", "9 GPa", "9 GPa"], "G": ["3.6 GPa", "3 GPa", "3.6 GPa"], "nu": [0.28, 0.3, 0.07]},
    density="1900 kg/m^3",
)
cover.material("foam", E="90 MPa", nu=0.3, density="110 kg/m^3")

fine = {"size": 45, "quadratic": True}
sheet = [[0, 0], {"corner": [900, 0], "radius": 60}, {"corner": [900, 520], "radius": 60}, [0, 520]]
window = {"outline": [[520, 160], [740, 160], {"through": [800, 260], "to": [740, 360]}, [520, 360]]}
screws = np.array([[50, 50], [850, 60], [850, 460], [50, 470]])
washers = [{"at": place, "size": 10, "within": 12} for place in screws]
cover.part("sheet", plate={"outline": sheet, "holes": [window, {"at": [220, 260], "diameter": 150}],
                           "points": screws, "finer": washers, "thickness": 2.5, **fine}, material="steel")  # fmt: skip

# ribs stand on the sheet and cross one another: no divisions are matched by hand
for name, y in (("front rib", 100), ("rear rib", 420)):
    outline = [[30, 0], [870, 0], [840, 45], [60, 45]]
    cover.part(name, plate={"outline": outline, "origin": [0, y, 0], "plane": {"x": "x", "y": "z"}, "thickness": 2,
                            **fine}, material="steel")  # fmt: skip
cover.part("cross rib", plate={"outline": [[40, 0], [480, 0], [480, 40], [40, 40]], "origin": [420, 0, 0],
                               "plane": {"x": "y", "y": "z"}, "thickness": 2, **fine}, material="steel")  # fmt: skip

# the window is closed by a sandwich that shares its edge: its outline is that of the window
lid = [{"thickness": 0.8, "material": "ply", "angle": "45 deg"}, {"thickness": 0.8, "material": "ply"},
       {"thickness": 6, "material": "foam"}]  # fmt: skip
cover.part("lid", plate={"outline": window["outline"], "layers": lid, "symmetric": True, **fine})

# under a washer, not at a point: a plate clamped at a single node has no end of refinement
for number, (x, y) in enumerate(screws, start=1):
    under = {"part": "sheet", "cylinder": {"base": [x, y, -1], "axis": "z", "radius": 12, "length": 2}}
    cover.support(f"screw {number}", at=under, hold="all")
cover.gauge("lid fibres", stress="lid", layer=1, component="xx").gauge("sheet", stress="sheet")
cover.event("kerb strike", pulse={"z": {"half sine": {"peak": "3 g", "duration": "30 ms"}}})

report = cover.check()
print(f"{report.mass:.2f} kg, {report.report.counts['nodes']} nodes, {len(report.report.pieces)} piece")
modes = cover.modes(count=6)
print(modes.table()[["mode", "frequency_hz", "what", "mesh_error_percent"]].to_string(index=False))
print(modes.respond("kerb strike").table("peaks").to_string(index=False))
