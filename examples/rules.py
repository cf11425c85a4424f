"""Rules decide where the defaults do not: by an SQL expression, or by a function of two Arrow tables."""

import pyarrow as pa
import pyarrow.compute as pc

import rapid_mender as rm

store = rm.MemoryStore(
    {
        "trees": pa.table(
            {"tag_no": [1, 2, 3, 4], "species": ["Oak", "Elm", "Ash", "Yew"], "height_m": [12.5, 8.0, 3.1, 6.0]}
        )
    }
)


def shrunk(incoming: pa.Table, existing: pa.Table) -> pa.ChunkedArray:
    """One boolean a record; the existing side is null where no row has the key."""
    return pc.less(incoming["height_m"], pc.multiply(existing["height_m"], 0.5))


job = rm.Job(
    store=store,
    table="trees",
    key="tag_no",
    columns={"species": rm.ColumnOptions(ignore_case=True), "height_m": rm.ColumnOptions(tolerance=0.1)},
    rules=[
        rm.Rule(
            decide="reject", when="incoming.height_m > 60", because="{incoming.height_m} m is taller than any tree"
        ),
        rm.Rule(decide="reject", when=shrunk, because="{existing.height_m} m was measured before"),
        rm.Rule(decide="delete", when="matched AND incoming.state = 'felled'", because="felled"),
    ],
)
survey = [
    {"tag_no": 1, "species": "OAK", "height_m": 12.55},  # the same, for all that counts
    {"tag_no": 2, "species": "Elm", "height_m": 800.0},
    {"tag_no": 3, "species": "Ash", "height_m": 1.0},
    {"tag_no": 4, "species": "Yew", "height_m": 6.0, "state": "felled"},
]

result = rm.preview(job, survey)
for row in result.decisions.to_pylist():
    print(row["tag_no"], row["decision"], "-", row["reason"])
print("decided by rules:", result.rules)

found = rm.explain(job, survey, key={"tag_no": 1}).records[0]
for cell in found.compared:
    print(cell.column, cell.existing, cell.incoming, cell.verdict)
