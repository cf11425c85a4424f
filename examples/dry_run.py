"""Before a merge: check the job, preview it, count by group; then merge, and once more: nothing happens."""

import pyarrow as pa

import rapid_mender as rm

trees = pa.table({"tag_no": range(6), "district": ["North", "South"] * 3, "height_m": [float(n) for n in range(6)]})
store = rm.MemoryStore({"trees": trees})
survey = trees.set_column(2, "height_m", pa.array([0.0, 1.5, 2.0, 3.5, None, 5.0]))
job = rm.Job(store=store, table="trees", key="tag_no", columns={"height_m": {"null": "keep"}})

checked = rm.check(job, survey)
print(checked.problems or "nothing is wrong")
print("\n".join(checked.sentences))

told = rm.preview(job, survey, by="district")
print(told.counts, told.changed)
for group in told.groups.to_pylist():
    print(group)
assert store["trees"].equals(trees), "a preview writes nothing"

print(rm.merge(job, survey).counts)
print(rm.merge(job, survey).counts)
