"""A table keeps versions of its rows; a record that comes late is put in its place; what was believed when."""

from datetime import UTC, date, datetime

import pyarrow as pa

import rapid_mender as rm

types = {"tag_no": pa.int64(), "warden": pa.string(), "height_m": pa.float64()}
types |= {"valid_from": pa.date32(), "valid_to": pa.date32()}
store = rm.MemoryStore({"trees": pa.schema(types.items()).empty_table()})
job = rm.Job(
    store=store,
    table="trees",
    key="tag_no",
    versions=rm.Versions(from_="valid_from", to="valid_to", effective="seen_on", late="insert"),
    columns={"warden": rm.ColumnOptions(version=True)},  # a change opens a version; a height is overwritten
)

rm.merge(
    job,
    [
        {"tag_no": 7, "warden": "Ines", "height_m": 8.0, "seen_on": date(2024, 3, 1)},
        {"tag_no": 7, "warden": "Ines", "height_m": 8.4, "seen_on": date(2025, 3, 1)},
        {"tag_no": 7, "warden": "Odo", "height_m": 8.9, "seen_on": date(2026, 3, 1)},
    ],
)
before = datetime.now(UTC)
late = rm.merge(job, [{"tag_no": 7, "warden": "Maud", "height_m": 8.6, "seen_on": date(2025, 9, 1)}])
print(late.decisions["reason"][0])

for row in rm.life(store, "trees", {"tag_no": 7}).to_pylist():
    print(row["valid_from"], "to", row["valid_to"] or "now", row["warden"], row["height_m"])

print("on 1 January the warden was", rm.at(store, "trees", "2026-01-01")["warden"].to_pylist())
print("and we had believed", rm.at(store, "trees", "2026-01-01", as_of=before)["warden"].to_pylist())
print("the spans fit together:", rm.check_spans(job).sound)
