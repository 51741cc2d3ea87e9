"""The demo crate on a shaker: peaks over frequency, transmissibility, rubber bushings, and a tuned damper."""

import holokine as hk

crate = hk.Assembly.read(hk.demo_folder() / "crate.yaml")
modes = crate.modes()
answer = modes.respond("shaker")
columns = ["gauge", "component", "peak", "unit", "frequency_hz", "amplification", "mode_shares", "largest_together"]
print(answer.table("peaks")[columns].to_string(index=False))

ratio = answer.table("transfer", "fan", to="z")
best = ratio.iloc[ratio["fan z amplitude"].idxmax()]
print(f"fan up-down: {best['fan z amplitude']:.1f} times the base at {best['frequency_hz']:.2f} Hz")

# rubber has a loss factor, which couples the modes: what is left of the resonances, and how complex the shapes become
rubber = crate.variant("rubber fan bushings").modes()
for name, one in (("as it is", answer), ("rubber bushings", rubber.respond("shaker"))):
    row = one.table("peaks").set_index(["gauge", "component"]).loc[("fan", "z")]
    print(f"{name:16s} fan z {row['peak']:6.2f} g at {row['frequency_hz']:.2f} Hz")
damped = rubber.damped().table().head(6)
print(damped[["mode", "frequency_hz", "damping_percent", "complexity_percent"]].to_string(index=False))

damper = modes.tune("transformer", "z", mass="12 kg", against="shaker", gauge="transformer z")
print(*damper.lines, sep="\n")
