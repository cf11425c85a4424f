"""A table follows another; a follower in Python prints what changes, each change once."""

import pyarrow as pa

import rapid_mender as rm

register = rm.MemoryStore({"trees": pa.table({"tag_no": [1, 2], "height_m": [12.5, 8.0], "warden": ["Ada", "Ben"]})})
public = rm.MemoryStore({})
job = rm.Job(store=register, table="trees", key="tag_no")
follow = rm.Sync(
    store=register, table="trees", to_store=public, to_table="map", follower="public-map", key="number",
    rename={"tag_no": "number"}, ignore=["warden"],
)  # fmt: skip

print("filled:", rm.sync(follow).filled, public["map"].to_pylist())

with rm.Follower(register, "trees", "printer") as follower:
    wrong = rm.merge(job, [{"tag_no": 1, "height_m": 41.0}, {"tag_no": 3, "height_m": 4.0}])
    rm.merge(job, [{"tag_no": 2, "height_m": 8.4}])
    for changes in follower.changes():
        for change in changes.to_pylist():
            print(change["change_no"], change["action"], change["old_height_m"], "→", change["new_height_m"])
        follower.acknowledge()

    rm.undo(register, wrong.batch)
    for changes in follower.changes():
        print("and then", changes["action"].to_pylist())

done = rm.sync(follow)
print(done.changes, "changes came to", {name: n for name, n in done.counts.items() if n}, public["map"].to_pylist())
print("alike:", rm.compare(follow).alike)
