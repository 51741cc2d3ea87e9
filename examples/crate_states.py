"""The crate at rest: what its stays and stops do, and which mode moves most when ice presses the fan on them."""

import holokine as hk

crate = hk.Assembly.read(hk.demo_folder() / "crate.yaml")
plain = crate.modes(12)
for name in crate.states:
    state = crate.state(name)
    print(state)
    print(state.table("springs"))
    print(plain.compare(crate.about(name).modes(16)).lines[-1])  # modes about the state

iced = crate.state("iced up")
print(iced.buckling(2))

bump = crate.about("iced up").respond("kerb strike")
print(bump.table("peaks")[["gauge", "component", "peak", "unit", "time_ms"]].tail(8).to_string(index=False))
print(*(f.text for f in bump.findings if "pulls apart" in f.text))
