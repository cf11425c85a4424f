"""Records as they come: an application sends one or a few, and wants to know what became of each."""

import asyncio
from dataclasses import dataclass

import pyarrow as pa

import rapid_mender as rm


@dataclass
class Measured:
    tag_no: int
    height_m: float


trees = pa.table({"tag_no": [1, 2], "species": ["Lime", "Oak"], "height_m": [12.5, 8.0]})
store = rm.MemoryStore({"trees": trees})
job = rm.Job(store=store, table="trees", key="tag_no")

with rm.Merger(job) as merger:
    first = merger.merge([Measured(2, 8.4)]).first
    print(first.decision, first.key, first.changed, "-", first.reason)

    for one in merger.merge([{"tag_no": 2, "height_m": 8.4}, {"tag_no": 3, "height_m": "tall"}]).each():
        print(one.decision, one.key, "-", one.reason)

    async def crews() -> list[rm.Result]:
        """Several crews send at once; nobody's event loop waits."""
        return await asyncio.gather(*(merger.merge_async([Measured(n, n / 2)]) for n in range(4, 7)))

    print([result.first.decision for result in asyncio.run(crews())])

print(rm.batches(store).num_rows, "batches,", store["trees"].num_rows, "trees")
