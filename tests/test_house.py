"""The house in order: style, types, the direction of imports, and what is written about it."""

from __future__ import annotations

import json
import re
import subprocess
import sys
from fcntl import LOCK_EX, flock
from pathlib import Path
from subprocess import PIPE

import pytest

from mossy_trail.cli import cli

ROOT = Path(__file__).parents[1]
BIN = Path(sys.executable).parent


def run(*command: str | Path, folder: Path = ROOT) -> None:
    done = subprocess.run(list(map(str, command)), cwd=folder, capture_output=True, text=True)
    assert done.returncode == 0, done.stdout + done.stderr


@pytest.mark.parametrize(
    "command",
    [
        ("ruff", "check", "."),
        ("ruff", "format", "--check", "."),
        ("mypy",),
        ("lint-imports",),
    ],
    ids=" ".join,
)
def test_python(command: tuple[str, ...]) -> None:
    run(BIN / command[0], *command[1:])


def test_pages() -> None:
    """Their types are made anew from the API first."""
    run("npm", "run", "--silent", "check", folder=ROOT / "frontend")


def test_links_in_what_is_written_lead_somewhere() -> None:
    for page in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]:
        for target in re.findall(r"\]\(([^)#]+)[^)]*\)", page.read_text()):
            assert (page.parent / target).exists(), f"{page.name}: {target}"


def test_every_command_is_offered_by_the_script(tmp_path: Path) -> None:
    """And reads the paths that it is given from where it is called."""
    script = (ROOT / "mossy").read_text()
    (tmp_path / "log.csv").write_text("time,user,screen\n2026-05-01T10:00:00Z,u,Home\n")
    for command in cli.registered_commands:
        assert command.callback
        name = command.name or command.callback.__name__.replace("_", "-")
        assert re.search(rf"^  .*\b{name}\b.*[)\\\\]$", script, re.MULTILINE), name
    called = [ROOT / "mossy", "health", "log.csv", "--json"]
    done = subprocess.run(called, cwd=tmp_path, capture_output=True, text=True)
    assert json.loads(done.stdout)["rows"] == 1, done.stderr


def test_one_command_at_a_time_prepares_a_checkout() -> None:
    script = ROOT / "mossy"
    with script.open() as held:
        flock(held, LOCK_EX)
        called = [script, "--version"]
        other = subprocess.Popen(called, stdout=PIPE, stderr=PIPE, text=True)
        assert other.stderr
        assert "waiting for it" in other.stderr.readline()
        assert other.poll() is None
    said, _ = other.communicate()
    assert (other.returncode, said.split()[:1]) == (0, ["mossy"])
