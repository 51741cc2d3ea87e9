"""A kerb strike on the demo crate: peaks in time, and how few modes would do with static correction."""

import holokine as hk

crate = hk.Assembly.read(hk.demo_folder() / "crate.yaml")
answer = crate.respond("kerb strike")
columns = ["gauge", "component", "peak", "unit", "time_ms", "ratio_to_static"]
print(answer.table("peaks")[columns].to_string(index=False))

history = answer.table("history", "fan", thin=50)
print(history.head(10).to_string(index=False))

for count in (6, 20):
    peaks = crate.modes(count=count).respond("kerb strike").table("peaks")
    pull = peaks[(peaks["gauge"] == "mount 1 pull") & (peaks["component"] == "z")].iloc[0]
    print(f"{count:3d} modes: mount 1 pull {pull['peak']:7.1f} N, of it {pull['correction_percent']:.1f} % correction")
