"""Kills, crowds and the model of the past at length, on every store: `python -m tests.long [TIMES]`, with TIMES times as many as in some ten minutes."""

from __future__ import annotations

import subprocess
import sys
import time

KINDS = ("sqlite", "postgresql", "mariadb")


def runs(times: int) -> list[list[str]]:
    """The words of `python -m`, for each run."""
    kills, seconds = str(6 * times), str(20 * times)
    out = []
    for kind in KINDS:
        for captured in ([], ["captured"]):
            out += [["tests.killing", kind, "20000", kills, *captured], ["tests.killing", f"{kind}-undo", "15000", kills, *captured]]
            out += [["tests.killing", f"{kind}-sync", "5000", kills, *captured]]
        out += [["tests.killing", f"{kind}-threads", "40", kills]]
        out += [["tests.captured", kind, str(40 * times), str(int(time.time()))]]
        out += [["tests.past", kind, str(30 * times), str(int(time.time()))]]
        out += [["tests.followed", kind, to, str(20 * times), str(int(time.time()))] for to in KINDS]
        out += [["tests.killing", f"{kind}-fill", "20000", kills, KINDS[KINDS.index(kind) - 1]]]
        if kind != "sqlite":
            out += [["tests.killing", f"{kind}-server", "5000", kills], ["tests.crowd", kind, seconds]]
            out += [["tests.crowd", kind, seconds, to, *captured] for to in KINDS for captured in ([], ["captured"])]
    return out


def main(times: int) -> None:
    failed = []
    for words in runs(times):
        began = time.monotonic()
        if subprocess.run([sys.executable, "-m", *words], check=False).returncode:
            failed.append(words)
        print(f"{'FAILED' if words in failed else 'held'} in {time.monotonic() - began:.0f} s: {' '.join(words)}", flush=True)
    sys.exit(f"{len(failed)} failed" if failed else 0)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 1)
