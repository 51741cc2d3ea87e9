"""The crate at rest: what its stays and stops do, and which mode moves most when ice presses the fan on them."""

import holokine as hk

crate = hk.Assembly.read(hk.demo_folder() / "crate.yaml")
plain = crate.modes(12)
for name in crate.states:
    rest = crate.rest(name)
    print(rest)
    print(rest.springs())
    about = rest.assembly.modes(16)  # about the state
    print(*plain.compare(about).lines)

iced = crate.rest("iced up")
buckling = iced.buckling(2)
print(buckling)
print(buckling.table())

bump = iced.assembly.respond("kerb strike")
print(bump.peaks()[["gauge", "component", "peak", "unit", "time_ms"]].tail(8).to_string(index=False))
print(*(f.text for f in bump.findings if "pulls apart" in f.text))
