"""A batch that is a full copy: rows that do not come are marked, within a scope, and not too many of them."""

import pyarrow as pa

import rapid_mender as rm

trees = pa.table(
    {
        "tag_no": [1, 2, 3, 4, 5],
        "district": ["North", "North", "North", "North", "South"],
        "felled": [False, False, True, False, False],
    }
)
store = rm.MemoryStore({"trees": trees})
job = rm.Job(
    store=store,
    table="trees",
    key="tag_no",
    missing="delete",
    scope="district = 'North' AND NOT felled",
    delete="mark",
    mark={"felled": True},
    max_deletes=1,
)

result = rm.merge(job, [{"tag_no": 1, "district": "North"}, {"tag_no": 4, "district": "North"}])
print(result.counts, "of these did not come:", result.missing)
print(store["trees"]["felled"].to_pylist())

try:
    rm.merge(job, [{"tag_no": 9, "district": "North"}])  # a file that was cut off, most likely
except rm.LimitError as error:
    print(error)
