"""The demo crate on hours of rough track: RMS, where it comes from, and what scatter of the inputs does to it."""

import holokine as hk

crate = hk.Assembly.read(hk.demo_folder() / "crate.yaml")
modes = crate.modes()
answer = modes.respond("rough track")
print("\n".join(answer.lines))
peaks = answer.table("peaks")
shown = peaks[peaks["gauge"].isin(["fan", "transformer", "deck stress"])]
print(shown[["gauge", "component", "rms", "peak", "unit", "crossings_hz", "expected_largest"]].to_string(index=False))

shares = answer.table("shares")
fan = shares[(shares["gauge"] == "fan")].sort_values("share_percent", ascending=False)
print(fan.head(3).to_string(index=False))

stress = answer.table("fatigue").set_index("gauge").loc["deck stress"]
print(
    f"deck: damage {stress['wide_band_damage']:.2f} by the wide band, {stress['narrow_band_damage']:.2f} by the narrow"
)

scatter = crate.scatter(
    {"damping": "lognormal 2 % +- 0.5 %", "materials/steel/E": "normal 205 GPa +- 3 %"}, read=["rough track: fan z"]
)
print(scatter.table().iloc[[0, 3, -1]][["what", "at_means", "deviation_percent", "most_by"]].to_string(index=False))
