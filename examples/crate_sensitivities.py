"""Which part is responsible for the crate's main vertical mode, and what a change does: predicted and run again."""

import holokine as hk

crate = hk.Assembly.read(hk.demo_folder() / "crate.yaml")
modes = crate.modes(upto="40 Hz")
shares = modes.table("participation").set_index("mode")["ratio_z_of_free"]
mode = int(shares.idxmax())
print(f"mode {mode}: {modes.words[mode - 1]}, {100 * shares[mode]:.0f} % of the free mass along z")

print(modes.table("sensitivities", "group", mode=mode, most=3).to_string(index=False))

best = modes.table("sensitivities", change=0.2, mode=mode).nlargest(1, "by_stiffness_percent").iloc[0]
row = modes.adjust({best["member"]: {"stiffness": 1.2}}).table().set_index("mode").loc[str(mode)]
print(f"20 % more stiffness in {best['member']}: predicted {row['predicted_percent']:+.2f} %, "
      f"run again {row['shift_percent']:+.2f} %")  # fmt: skip

before, thick = (m.table("peak_at_energy", "1 J") for m in (modes, crate.variant("thicker deck").modes(len(modes))))
drop = 1 - thick["peak_displacement_mm"].min() / before["peak_displacement_mm"].min()
print(f"smallest peak displacement at 1 J per mode: {before['peak_displacement_mm'].min():.2f} mm, "
      f"{100 * drop:.0f} % less with the thicker deck")  # fmt: skip
