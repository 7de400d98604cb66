"""Putting the demo into an empty store, by the same way in that any log takes."""

from __future__ import annotations

import sys
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from mossy_trail.demo.noise import roughen
from mossy_trail.demo.simulator import ROWS, simulate, write_csv
from mossy_trail.ingest.importing import Importer
from mossy_trail.intake.app_map_file import parse_map
from mossy_trail.store.models import App, AppMapVersion, Job

MAP = Path(__file__).parent / "skerry_crossings.yaml"
SEED = 1


def written(data: Path, rows: int) -> Path:
    """The demo's log as a file, whole or not at all; not anew where it lies already.

    `python -m mossy_trail.demo.load DATA` has a first start write it while it compiles.
    """
    path = data / f"demo-{rows}.csv"
    if not path.exists():
        log, _ = roughen(list(simulate(rows, SEED).rows), SEED)
        begun = path.with_suffix(".begun")
        write_csv(log, begun)
        begun.replace(path)
    return path


def load_if_empty(importer: Importer, data: Path, rows: int) -> bool:
    """Make the demo app, its map and the import of its log, unless there is any app."""
    with Session(importer.engine) as session, session.begin():
        if session.scalar(select(App.id).limit(1)):
            return False
        document = parse_map(MAP.read_text())
        app = App(key="skerry-crossings", name=document["app"])
        app.maps.append(AppMapVersion(version=1, document=document))
        session.add(app)
        session.flush()
        upload = written(data, rows).replace(importer.upload_path("demo"))
        file = {"name": "skerry-may.csv", "bytes": upload.stat().st_size, "upload": "demo"}
        job = Job(app_id=app.id, files=[file], state="waiting")
        session.add(job)
        session.flush()
        job_id = job.id
    importer.submit(job_id)
    return True


if __name__ == "__main__":
    written(Path(sys.argv[1]), ROWS)
