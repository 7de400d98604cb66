"""A client that a common generator makes of the API's description: in, asked, out."""

from __future__ import annotations

import csv
import importlib
import io
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Demo, Server

GENERATOR = Path(sys.executable).parent / "openapi-python-client"
NOT_READ_BY_IT = ("application/jsonl", "application/yaml")
"""Media types that the generator knows nothing of."""


@pytest.fixture
def client(server: Server, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Any]:
    described = tmp_path / "openapi.json"
    described.write_bytes(server.client.get("/api/openapi.json").content)
    settings = tmp_path / "settings.yaml"
    settings.write_text("post_hooks: []\n")
    done = subprocess.run(
        [GENERATOR, "generate", "--path", described, "--config", settings]
        + ["--output-path", tmp_path / "generated_client", "--meta", "none"],
        capture_output=True,
        text=True,
        cwd=tmp_path,
    )
    assert done.returncode == 0, done.stderr
    warned = (done.stdout + done.stderr).split("WARNING parsing ")[1:]
    assert not [one for one in warned if not any(kind in one for kind in NOT_READ_BY_IT)]
    monkeypatch.syspath_prepend(tmp_path)
    made = importlib.import_module("generated_client")
    with made.Client(base_url=server.url, raise_on_unexpected_status=True) as client:
        yield client
    for name in [name for name in sys.modules if name.startswith("generated_client")]:
        del sys.modules[name]


def test_it_brings_in_asks_and_takes_out(client: Any, server: Server, demo: Demo) -> None:
    def api(path: str) -> Any:
        return importlib.import_module(f"generated_client.api.{path}").sync_detailed

    def model(name: str) -> Any:
        return getattr(importlib.import_module("generated_client.models"), name)

    types = importlib.import_module("generated_client.types")
    app = api("apps.create_app")(client=client, body=model("NewApp")(name="Generated")).parsed
    file = model("NewFile")(name="skerry.csv", bytes_=demo.csv.stat().st_size)
    begun = api("imports.begin_import")(
        app=app.key, client=client, body=model("NewImport")(files=[file])
    )
    assert begun.status_code == 201, begun
    with demo.csv.open("rb") as payload:
        sent = api("imports.upload_file")(
            job_id=begun.parsed.id, number=0, client=client, body=types.File(payload=payload)
        )
    assert sent.status_code == 200, sent
    assert server.follow(begun.parsed.id)["state"] == "done"
    assert api("imports.read_job")(job_id=begun.parsed.id, client=client).parsed.state == "done"

    told = api("measures.measure_sign_in")(app=app.key, client=client, by="version").parsed
    assert told.to_dict() == server.get(f"/api/apps/{app.key}/measures/sign-in", by="version")
    assert {group.value for group in told.groups} >= {"3.1", "3.2"}
    steps = api("journeys.export")(app=app.key, what="steps", form="csv", client=client)
    rows = list(csv.DictReader(io.StringIO(steps.parsed)))
    own = server.client.get(f"/api/apps/{app.key}/steps.csv").text
    assert rows == list(csv.DictReader(io.StringIO(own)))
    assert len(rows) >= len(demo.truth)
    parquet = api("journeys.export")(app=app.key, what="steps", form="parquet", client=client)
    assert parquet.content[:4] == b"PAR1"
    none = api("measures.measure_sign_in")(app="no-such", client=client)
    assert (none.status_code, none.parsed.title) == (404, "There is no such app.")
