"""A wrong batch is undone; what was changed since is a conflict; the table is held against its history."""

import pyarrow as pa

import rapid_mender as rm

store = rm.MemoryStore({"trees": pa.table({"tag_no": [1, 2, 3], "height_m": [12.5, 8.0, 4.1]})})
job = rm.Job(store=store, table="trees", key="tag_no")

feet = rm.merge(
    job, [{"tag_no": 1, "height_m": 41.0}, {"tag_no": 2, "height_m": 26.2}, {"tag_no": 3, "height_m": 13.5}]
)
rm.merge(job, [{"tag_no": 2, "height_m": 8.1}])  # somebody has mended one already

try:
    rm.undo(store, feet.batch)
except rm.ConflictError as error:
    print(error)
    print(error.undone.conflicts.to_pylist())

undone = rm.undo(store, feet.batch, rest=True)
print("batch", undone.batch, "put back", undone.counts)
print(store["trees"].to_pylist())

print(rm.as_of(store, "trees", batch=feet.batch)["height_m"].to_pylist(), "was the table after the wrong batch")
print(rm.life(store, "trees", {"tag_no": 1}).select(["height_m", "batch_no"]).to_pylist())
print("the history holds:", rm.verify(store, "trees").holds)
