"""Pages on a Dask cluster of 1, 2 and 4 workers on this machine, beside worker processes of ours."""

from __future__ import annotations

from pathlib import Path

from distributed import LocalCluster

from benchmarks.inputs import DATA, messages
from benchmarks.measure import PROGRAM, fresh, paired, ratio, run, table
from tests.helpers import mbox

ROUNDS, COUNT = 3, 300


def main() -> None:
    source = DATA / "cluster.mbox"
    source.parent.mkdir(parents=True, exist_ok=True)
    source.write_bytes(mbox(*messages("html", COUNT)))
    rows = []
    turn = iter(range(10**6))

    def export(*more: str) -> Path:
        out = fresh(DATA / f"cluster-{next(turn)}")
        run(PROGRAM, "export", str(source), "--into", str(out), *more)
        return out

    for count in (1, 2, 4):
        with LocalCluster(n_workers=count, threads_per_worker=1, processes=True, dashboard_address=None) as cluster:
            address = str(cluster.scheduler_address)
            export("--cluster", address)  # the workers have loaded what they need
            here, there = paired(ROUNDS, lambda: export("--jobs", str(count)), lambda: export("--cluster", address))  # noqa: B023
        rows.append([f"{count}", f"{min(here):.1f} s", f"{min(there):.1f} s", f"{ratio(here, there):.2f}"])
    table(
        f"{COUNT} HTML messages to PDF, on a cluster",
        ["workers", "processes of ours", "Dask workers on this machine", "times our rate"],
        rows,
    )


if __name__ == "__main__":
    main()
