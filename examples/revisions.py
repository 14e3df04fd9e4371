"""What a source has revised between two downloads, and the desk as it was before."""

import ultrum as ul

address = "observatory:PRICES/M.QM.CPI"
with (
    ul.practice.serve() as service,
    ul.Desk("revisions-vault", sources=ul.practice.sources_at(service.places)) as desk,
):
    before = desk.fetch(address)
    service.add_fault("revised", "PRICES", times=-1)
    print(desk.refresh(address).status[["address", "status"]].to_string(index=False))
    changed = desk.revisions(address)
    print(f"{len(changed)} values revised; the last three:")
    print(changed.tail(3).to_string())
    after = desk.fetch(address)
print(f"latest value {before.values.iloc[-1]:.2f}, revised to {after.values.iloc[-1]:.2f}")
