"""Loads beside the base on the demo crate: a push as a check of a joint's force, the fan's start, two vector bases."""

import holokine as hk

crate = hk.Assembly.read(hk.demo_folder() / "crate.yaml")

# a static push: what the transformer's feet carry is the push, to the last digit
push = crate.changed({"loads": {"push": {"at": "transformer", "force": {"z": "-1 kN"}}}}).respond({"static": "push"})
feet = push.table("peaks").set_index(["gauge", "component"])["value"]
print(f"pushed with 1000 N, the transformer's feet carry {feet['transformer feet', 'z']:.6f} N")

rest = crate.respond("winter standstill")
print(rest.deformed.table("stress").nlargest(4, "stress_mpa").to_string(index=False))

modes = crate.modes()
start = modes.respond("fan start")  # from rest under weight and snow, which stay on
columns = ["gauge", "component", "peak", "unit", "time_ms", "static", "ratio_to_static"]
print(start.table("peaks")[columns].iloc[5:10].to_string(index=False))
energy = modes.respond("kerb strike").table("energies").iloc[-1]
print(f"kerb strike: work {energy['work_j']:.2f} J, of it dissipated {energy['dissipated_j']:.2f} J at the end")

few = crate.ritz("rail joint", 20)
for name, basis in (("48 natural modes", modes), ("20 load-dependent vectors", few)):
    held = basis.table("load_shares", "rail joint").iloc[-1]
    static, dynamic = held["x_static_percent"], held["x_dynamic_percent"]
    print(f"{name}: static {static:.1f} %, dynamic {dynamic:.1f} % of the jolt along x")
