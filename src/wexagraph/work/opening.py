"""Which workers a run gets."""

from __future__ import annotations

from concurrent.futures import Executor

from wexagraph.work.batches import Borrowed, Workers
from wexagraph.work.pool import ProcessWorkers


def open_workers(jobs: int, timeout: float, cluster: str = "", executor: Executor | None = None) -> Workers:
    """Workers for a run: those of an executor or a cluster where one is given, else `jobs` processes here.

    A call that is submitted may take `timeout` seconds. Raises CallError, TargetError where the cluster can't be used.
    """
    if executor is not None:
        return Borrowed(executor)
    if cluster:
        from wexagraph.work.cluster import ClusterWorkers

        return ClusterWorkers(cluster, timeout)
    return ProcessWorkers(jobs, timeout)
