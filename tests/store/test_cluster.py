"""The private cluster: it ends with whoever started it, and starts again after any end."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from pathlib import Path

from sqlalchemy import text

from mossy_trail.store.cluster import Cluster, temporary_cluster
from mossy_trail.store.database import connect

STARTER = """
import sys
from pathlib import Path
from mossy_trail.store.cluster import Cluster
cluster = Cluster(Path(sys.argv[1]))
print(cluster.start(), flush=True)
sys.stdin.read()
"""


def is_alive(pid: int) -> bool:
    try:
        state = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[0]
    except OSError:
        return False
    return state != "Z"


def test_a_cluster_does_not_outlive_a_killed_owner_and_starts_again(tmp_path: Path) -> None:
    owner = subprocess.Popen(
        [sys.executable, "-c", STARTER, str(tmp_path / "closed" / "postgres")],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )
    assert owner.stdout
    assert owner.stdout.readline().startswith("postgresql://")
    cluster = Cluster(tmp_path / "closed" / "postgres")
    server = int((cluster.folder / "data" / "postmaster.pid").read_text().split()[0])
    assert is_alive(server)
    os.kill(owner.pid, signal.SIGKILL)
    owner.communicate()
    engine = connect(cluster.start())
    try:
        assert not is_alive(server)
        with engine.connect() as connection:
            assert connection.scalar(text("SELECT 1")) == 1
    finally:
        engine.dispose()
        cluster.remove()


def test_two_clusters_stand_side_by_side() -> None:
    clusters = [temporary_cluster(), temporary_cluster()]
    try:
        urls = {cluster.start() for cluster in clusters}
        assert len(urls) == 2
        assert len({url.rsplit(":", 1)[1] for url in urls}) == 2
    finally:
        for cluster in clusters:
            cluster.remove()
