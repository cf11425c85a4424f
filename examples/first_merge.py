"""A first merge, in memory: what is new, what changed, what stays, what is refused and why."""

import pyarrow as pa

import rapid_mender as rm

store = rm.MemoryStore(
    {"trees": pa.table({"tag_no": [1, 2, 3], "species": ["Oak", "Elm", "Ash"], "height_m": [12.5, 8.0, 3.1]})}
)
job = rm.Job(store=store, table="trees", key="tag_no")
survey = [
    {"tag_no": 1, "species": "Oak", "height_m": 12.5},  # as it is
    {"tag_no": 2, "species": "Elm", "height_m": 8.4},  # grown
    {"tag_no": 4, "species": "Rowan", "height_m": 1.9},  # new
    {"tag_no": 3, "height_m": "tall"},  # no number; and no species: that is left alone
]

print(rm.preview(job, survey).counts)

result = rm.merge(job, survey)
for row in result.decisions.to_pylist():
    print(row["row"], row["decision"], "-", row["reason"])

for change in rm.history(store, "trees").to_pylist():
    print(change["change_no"], change["action"], change["old_height_m"], "->", change["new_height_m"])
