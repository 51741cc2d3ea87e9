"""A bracket built call by call: check it, extract modes, shake its wall."""

import holokine as hk

bracket = hk.Assembly("sensor bracket", units={"length": "mm", "force": "N"})
bracket.material("steel", E="205 GPa", nu=0.29, density="7840 kg/m^3")
bracket.section("flat", rectangle={"width": 40, "height": 10})
bracket.point("root", [0, 0, 0]).point("tip", [500, 0, 0])
bracket.part("arm", beam={"through": ["root", "tip"], "section": "flat"}, material="steel")
bracket.mass("sensor", at="tip", mass="0.8 kg")
bracket.support("wall", at="root", hold="all")
bracket.gauge("sensor", acceleration="tip", axis="z").gauge("wall", reaction_moment="wall", axis="y")
bracket.event("bump", pulse={"z": {"half sine": {"peak": "3 g", "duration": "11 ms"}}})

print(bracket.check())
modes = bracket.modes(count=6)
print(modes.statement)
print(modes.table().to_string(index=False))
print(modes.respond("bump").table("peaks").to_string(index=False))
