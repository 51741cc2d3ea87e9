"""The demo crate under its works shock spectrum: peaks, and which modes make them up."""

import holokine as hk

crate = hk.Assembly.read(hk.demo_folder() / "crate.yaml")
modes = crate.modes(upto="250 Hz")
answer = modes.respond("works shock")
print(answer.table("peaks").to_string(index=False))

shares = answer.table("shares", "mount 1 pull")
column = "mount 1 pull z (%)"
print(shares.sort_values(column, ascending=False).head(5).to_string(index=False))

# the same shock by three rules
for rule in ("srss", "cqc", "absolute"):
    event = {"spectrum": {"z": str(hk.demo_folder() / "works.csv")}, "combine": rule}
    peaks = modes.respond(event).table("peaks")
    pull = peaks[(peaks["gauge"] == "mount 1 pull") & (peaks["component"] == "z")]["peak"].iloc[0]
    print(f"{rule:9s} mount 1 pull z {pull:8.1f} N")
