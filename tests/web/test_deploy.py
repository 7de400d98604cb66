"""The server as it is run for a team: behind a proxy, backed up, lost, restored and upgraded."""

from __future__ import annotations

import json
import os
import re
import ssl
import subprocess
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import httpx
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from mossy_trail import backups
from mossy_trail.store.cluster import ClusterError, free_port
from tests.conftest import MOSSY, Demo, Server, TeamServer, until

DEPLOY = Path(__file__).parents[2] / "docs" / "deploy"
RELEASE_BEFORE = Path(__file__).parent / "release_before"


def mossy(*args: str | Path, **env: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [*MOSSY, *map(str, args)],
        env={**os.environ, "NO_COLOR": "1", **env},
        capture_output=True,
        text=True,
    )


def test_it_does_not_start_where_anyone_could_come_in(engine: Any, tmp_path: Path) -> None:
    own = engine.url.render_as_string(hide_password=False)
    env = {"DATABASE_URL": own, "MOSSY_DATA": str(tmp_path)}
    nobody = mossy("serve", "--port", "0", **env)
    assert (nobody.returncode, nobody.stderr.splitlines()[-1]) == (
        1,
        "Nobody has an account yet. Say --manager name@example.org for whoever is to manage it.",
    )
    manager = ("--manager", "ada@example.org")
    plain = mossy("serve", "--port", "0", "--host", "0.0.0.0", *manager, **env)
    assert plain.returncode == 1
    assert "clear text" in plain.stderr
    assert "Traceback" not in nobody.stderr + plain.stderr


def test_the_unit_is_sound(tmp_path: Path) -> None:
    """Where systemd is, by its own word; else by what it must say."""
    text = (DEPLOY / "mossy-trail.service").read_text()
    assert "KillSignal=SIGINT" in text, "the database is stopped in order"
    unit = tmp_path / "mossy-trail.service"
    here = str(Path(__file__).parents[2] / "mossy")
    unit.write_text(re.sub(r"/opt/mossy-trail/mossy", here, text).replace("User=mossy\n", ""))
    try:
        done = subprocess.run(
            ["systemd-analyze", "verify", unit], capture_output=True, text=True, check=False
        )
    except FileNotFoundError:
        pytest.skip("systemd is not on this machine")
    assert (done.returncode, done.stderr) == (0, "")


class Proxy:
    """Debian's nginx with the file that the docs offer, on ports of its own."""

    def __init__(self, folder: Path, behind: int) -> None:
        self.port, self.plain_port = free_port(), free_port()
        self.folder = folder
        certificate(folder)
        text = (DEPLOY / "nginx.conf").read_text()
        for old, new in (
            ("listen 443 ssl", f"listen 127.0.0.1:{self.port} ssl"),
            ("listen 80;", f"listen 127.0.0.1:{self.plain_port};"),
            ("trail.example.org", "localhost"),
            ("/etc/ssl/certs/trail.pem", str(folder / "trail.pem")),
            ("/etc/ssl/private/trail.key", str(folder / "trail.key")),
            ("127.0.0.1:8750", f"127.0.0.1:{behind}"),
        ):
            assert old in text, old
            text = text.replace(old, new)
        temporary = "".join(
            f"{kind}_temp_path {folder}/{kind};\n"
            for kind in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
        )
        user = "user root;\n" if os.geteuid() == 0 else ""
        (folder / "nginx.conf").write_text(
            f"{user}daemon off;\npid {folder}/pid;\nerror_log {folder}/error.log;\n"
            f"events {{}}\nhttp {{\naccess_log {folder}/access.log;\n{temporary}{text}}}\n"
        )
        self.process = subprocess.Popen(
            ["/usr/sbin/nginx", "-p", folder, "-c", folder / "nginx.conf"],
            stderr=subprocess.DEVNULL,
        )

    @property
    def url(self) -> str:
        return f"https://localhost:{self.port}"

    def client(self) -> httpx.Client:
        trusted = ssl.create_default_context(cafile=str(self.folder / "trail.pem"))
        transport = httpx.HTTPTransport(verify=trusted, retries=8)
        return httpx.Client(base_url=self.url, transport=transport, headers={"Origin": self.url})


def certificate(folder: Path) -> None:
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "localhost")])
    now = datetime.now(UTC)
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(1)
        .not_valid_before(now - timedelta(days=1))
        .not_valid_after(now + timedelta(days=1))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName("localhost")]), critical=False)
        .sign(key, hashes.SHA256())
    )
    (folder / "trail.pem").write_bytes(made.public_bytes(serialization.Encoding.PEM))
    (folder / "trail.key").write_bytes(
        key.private_bytes(
            serialization.Encoding.PEM,
            serialization.PrivateFormat.PKCS8,
            serialization.NoEncryption(),
        )
    )


@pytest.fixture
def behind(tmp_path: Path) -> Iterator[tuple[TeamServer, Proxy]]:
    port = free_port()
    proxy = Proxy(tmp_path, port)
    server = TeamServer(tmp_path / "data")
    server.command = (
        *("serve", "--port", str(port), "--address", proxy.url),
        *("--manager", "ada@example.org"),
    )
    try:
        Server.start(server)
        yield server, proxy
    finally:
        proxy.process.terminate()
        proxy.process.wait()
        server.remove()


def test_behind_a_proxy_with_tls(behind: tuple[TeamServer, Proxy], demo: Demo) -> None:
    server, proxy = behind
    link = re.search(r"https://localhost:\d+/invited#(\S+)", server.said)
    assert link, server.said
    with proxy.client() as ada:
        page = ada.get("/")
        assert page.status_code == 200
        assert page.headers["Strict-Transport-Security"]
        server.accept(ada, link[1], "Ada")
        (cookie,) = ada.cookies.jar
        assert (cookie.name, cookie.secure) == ("__Host-mossy", True)
        guess = {"email": "ada@example.org", "password": "a guess"}
        pretended = {"X-Forwarded-For": "203.0.113.9"}
        assert ada.post("/api/sign-in", json=guess, headers=pretended).status_code == 401
        server.sign_in(ada)
        app = ada.post("/api/apps", json={"name": "Ferry"}).json()["key"]
        body = {"files": [{"name": "log.csv", "bytes": demo.csv.stat().st_size}]}
        job = ada.post(f"/api/apps/{app}/imports", json=body).json()["id"]
        with demo.csv.open("rb") as file:
            assert ada.put(f"/api/jobs/{job}/files/0", content=file).status_code == 200
        with ada.stream("GET", f"/api/jobs/{job}/events") as events:
            states = [json.loads(line[5:]) for line in events.iter_lines() if line[:5] == "data:"]
        assert states[-1]["state"] == "done", "told as it happens, through the proxy"
        deeds = ada.get(f"/api/apps/{app}/deeds").json()
        assert {"127.0.0.1"} == {one["address"] for one in deeds}, "not what it pretended"
        assert "failed to sign in" in {one["did"] for one in deeds}
    plain = httpx.get(f"http://localhost:{proxy.plain_port}/x", follow_redirects=False)
    assert plain.status_code == 301
    assert plain.headers["Location"].startswith("https://")


def figures(client: httpx.Client, app: str, measures: list[str]) -> dict[str, Any]:
    def ask(path: str) -> Any:
        def once() -> httpx.Response | None:
            answer = client.get(f"/api/apps/{app}/{path}")
            return None if answer.status_code == 503 else answer

        answer = until(once)
        assert answer.status_code == 200, answer.text
        return answer.json()

    return {
        "rows": ask("health")["rows"],
        "kept": ask("kept/segment"),
        "measures": {name: ask(f"measures/{name}") for name in measures},
    }


def told_alike(now: Any, before: Any) -> Any:
    """Of what is told now the part that was told before; numbers to nine places."""
    if isinstance(before, dict):
        return {key: told_alike(now[key], value) for key, value in before.items()}
    if isinstance(before, list):
        assert len(now) == len(before)
        return [told_alike(*both) for both in zip(now, before, strict=True)]
    return before if isinstance(before, float) and now == pytest.approx(before, 1e-9) else now


def brought_in_by_a_token(server: TeamServer, demo: Demo) -> None:
    """By the command line, into an app of its own."""
    app = server.new_app("By a script", with_map=False)
    made = server.client.post("/api/me/tokens", json={"name": "nightly", "role": "work"}).json()
    asked = ("bring-in", demo.csv, "--app", app, "--server", server.url)
    done = mossy(*asked, MOSSY_TOKEN=made["secret"])
    assert done.returncode == 0, done.stderr
    rows = demo.csv.read_bytes().count(b"\n") - 1
    assert server.get(f"/api/apps/{app}/logs")["logs"][0]["rows"] == rows
    assert f"{rows:,} rows, 0 of them set aside" in done.stderr
    nobody = mossy(*asked, MOSSY_TOKEN="mossy_token_of_nobody")
    assert (nobody.returncode, "not signed in" in nobody.stderr) == (1, True)
    assert "Traceback" not in nobody.stderr


def test_what_is_backed_up_is_there_again_after_a_loss(demo: Demo, tmp_path: Path) -> None:
    measures = ["start-up", "sign-in", "loops"]
    server = TeamServer(tmp_path / "data")
    server.start()
    backup = tmp_path / "backup"
    try:
        app = server.new_app("Ferry")
        assert server.follow(server.upload(app, demo.csv)["id"])["state"] == "done"
        kept = {"name": "All", "document": {"all": []}}
        assert server.client.put(f"/api/apps/{app}/kept/segment", json=kept).status_code == 200
        before = figures(server.client, app, measures)
        brought_in_by_a_token(server, demo)
        done = mossy("backup", backup, MOSSY_DATA=str(server.folder))
        assert done.returncode == 0, done.stderr
        with pytest.raises(ClusterError, match="there already"):
            backups.backup(server.folder, backup)
        with pytest.raises(ClusterError, match="Stop it first"):
            backups.restore(server.folder, backup)
    finally:
        server.remove()
    assert {path.stat().st_mode & 0o77 for path in (backup, *backup.iterdir())} == {0}
    restored = TeamServer(tmp_path / "restored")
    restored.command = ("serve", "--port", "0")
    done = mossy("restore", backup, MOSSY_DATA=str(restored.folder))
    assert done.returncode == 0, done.stderr
    with pytest.raises(ClusterError, match="something already"):
        backups.restore(restored.folder, backup)
    assert (restored.folder / "key").read_bytes() == (server.folder / "key").read_bytes()
    restored.start()
    try:
        restored.sign_in(restored.client)
        assert figures(restored.client, app, measures) == before
    finally:
        restored.remove()
    (backup / "database.dump").unlink()
    broken = mossy("restore", backup, MOSSY_DATA=str(tmp_path / "third"))
    assert (broken.returncode, "no backup" in broken.stderr) == (1, True)


def test_what_the_release_before_wrote_is_told_alike(tmp_path: Path) -> None:
    before = json.loads((RELEASE_BEFORE / "figures.json").read_text())
    server = Server(tmp_path / "data")
    done = mossy("restore", RELEASE_BEFORE, MOSSY_DATA=str(server.folder))
    assert done.returncode == 0, done.stderr
    server.start()
    try:
        app = before.pop("app")
        now = figures(server.client, app, list(before["measures"]))
        assert told_alike(now, before) == before
    finally:
        server.remove()
