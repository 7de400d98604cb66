"""The command line: the server, and the same figures without one."""

from __future__ import annotations

import json
import os
import shutil
import sys
from collections import Counter
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import asdict
from datetime import UTC, datetime
from enum import StrEnum
from importlib import import_module
from importlib.metadata import version
from pathlib import Path
from tempfile import TemporaryDirectory, gettempdir
from typing import Annotated, Any
from uuid import uuid4
from weakref import finalize

import typer
import yaml
from pydantic import ValidationError
from rich.console import Console
from rich.progress import Progress as Bar

from mossy_trail.core.inference.draft import draft
from mossy_trail.core.model.app_map import AppMap
from mossy_trail.core.model.log import parts_needed, split
from mossy_trail.core.model.pattern import PatternError
from mossy_trail.core.model.people import people
from mossy_trail.core.model.scope import Scope
from mossy_trail.demo.noise import write_noisy
from mossy_trail.demo.simulator import ROWS, simulate, write
from mossy_trail.engine import compare as comparing
from mossy_trail.engine import fit, funnel, patterns, pictures, report
from mossy_trail.engine import history as history_rules
from mossy_trail.engine.export import FORMS, write_steps
from mossy_trail.engine.findings import Findings
from mossy_trail.engine.findings import findings as standing_out
from mossy_trail.engine.health import measure as health_of
from mossy_trail.engine.measures import measured
from mossy_trail.engine.registry import MEASURES
from mossy_trail.engine.scoped import STRETCHES
from mossy_trail.engine.segments import SegmentError
from mossy_trail.engine.shelf import Shelf
from mossy_trail.engine.study import Study
from mossy_trail.engine.workers import client_of, executor_of
from mossy_trail.ingest.spread import Spread
from mossy_trail.ingest.spread import read as read_spread
from mossy_trail.intake.app_map_file import map_of, parse_map
from mossy_trail.intake.errors import UnusableFile, UnusableMap
from mossy_trail.intake.installation import installation_key
from mossy_trail.intake.mapping import Mapping
from mossy_trail.intake.mapping_file import mapping_document, parse_mapping
from mossy_trail.intake.reader import LogFile, Progress, Reading, Watcher, look, preview, read_log
from mossy_trail.remote import Remote, RemoteError
from mossy_trail.store.folder import Folder
from mossy_trail.tables import tables_of

PORT = 8750

STANDARD = Path("-")
"""Standard input, or output."""
cli = typer.Typer(
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    help="Rebuilds what people went through in an app, from its log of screens and moves.",
)
say = Console(stderr=True, highlight=False)


def _there(paths: list[Path]) -> list[Path]:
    """The files, and those in folders."""
    found: list[Path] = []
    for path in paths:
        found += sorted(one for one in path.iterdir() if one.is_file()) if path.is_dir() else [path]
    for path in found:
        if path != STANDARD and not path.is_file():
            raise typer.BadParameter(f"there is no file {str(path)!r}")
    if not found:
        raise typer.BadParameter("there is no file in there")
    return found


LogFiles = Annotated[
    list[Path],
    typer.Argument(
        help="Log files, or folders of some: CSV, JSON, Parquet, XES; - for standard input.",
        callback=_there,
    ),
]
MapFile = Annotated[
    Path | None, typer.Option("--map", help="App map: YAML or JSON.", exists=True, dir_okay=False)
]
MappingFile = Annotated[
    Path | None,
    typer.Option(
        "--mapping", help="How files are read: YAML or JSON.", exists=True, dir_okay=False
    ),
]


Cluster = Annotated[
    str,
    typer.Option(
        envvar="MOSSY_CLUSTER",
        help="Address of a Dask scheduler, whose workers do it; see docs/scale.md.",
        show_default=False,
    ),
]
Shared = Annotated[
    str,
    typer.Option(
        envvar="MOSSY_SHARED",
        help="A folder that all of a cluster's workers reach, or a URL for fsspec.",
        show_default=False,
    ),
]


Memory = Annotated[
    float,
    typer.Option(
        envvar="MOSSY_MEMORY",
        help="GB for replayed logs, which lie in files beyond; else a third of the machine's.",
        show_default=False,
    ),
]


@contextmanager
def _plain_errors() -> Iterator[None]:
    try:
        yield
    except BrokenPipeError:
        raise
    except (UnusableFile, UnusableMap, OSError, SegmentError, PatternError) as error:
        say.print(str(error), style="red", markup=False, soft_wrap=True)
        raise typer.Exit(1) from None


def _tell_version(asked: bool) -> None:
    if asked:
        typer.echo(f"mossy {version('mossy-trail')}")
        raise typer.Exit


@cli.callback()
def start(
    told: Annotated[
        bool,
        typer.Option("--version", help="Tell the version.", is_eager=True, callback=_tell_version),
    ] = False,
) -> None: ...


@cli.command()
def up(
    fresh: Annotated[bool, typer.Option(help="Start over with an empty store.")] = False,
    data: Annotated[Path, typer.Option(envvar="MOSSY_DATA", hidden=True)] = Path(".data"),
    port: Annotated[int, typer.Option(help="Another is taken if it is not free.")] = PORT,
    demo_rows: Annotated[int, typer.Option(hidden=True, help="For a quicker start.")] = ROWS,
    memory: Memory = 0,
    cluster: Cluster = "",
) -> None:
    """Start everything, and serve the pages until Ctrl-C. Nobody signs in; it is one person's."""
    serving = _of_server("serving")
    with _plain_errors():
        serving.serve(data, say, port, round(memory * 1e9), cluster, fresh, demo_rows)


def _of_server(module: str) -> Any:
    """A module that needs what the server needs."""
    try:
        return import_module(f"mossy_trail.{module}")
    except ModuleNotFoundError as error:
        missing = f"The server needs {error.name}: pip install 'mossy-trail[server]'"
        say.print(missing, style="red", markup=False)
        raise typer.Exit(1) from None


@cli.command()
def serve(
    host: Annotated[str, typer.Option(help="The address to listen on.")] = "127.0.0.1",
    port: Annotated[int, typer.Option(help="It must be free.")] = PORT,
    address: Annotated[
        str,
        typer.Option(
            envvar="MOSSY_ADDRESS",
            help="Where people find it, as https://trail.example.org; else where it listens.",
        ),
    ] = "",
    manager: Annotated[
        str, typer.Option(help="E-mail of whom to invite, by a link, to manage everything.")
    ] = "",
    proxy: Annotated[
        str, typer.Option(help="A proxy that is believed when it tells for whom it asks.")
    ] = "127.0.0.1",
    issuer: Annotated[
        str, typer.Option(envvar="MOSSY_OIDC_ISSUER", help="A provider of OpenID Connect.")
    ] = "",
    client: Annotated[str, typer.Option(envvar="MOSSY_OIDC_CLIENT", help="Our id there.")] = "",
    client_secret: Annotated[str, typer.Option(envvar="MOSSY_OIDC_SECRET", hidden=True)] = "",
    data: Annotated[Path, typer.Option(envvar="MOSSY_DATA", hidden=True)] = Path(".data"),
    memory: Memory = 0,
    cluster: Cluster = "",
) -> None:
    """Serve a team: people sign in, and have roles by app. See docs/deploy.md."""
    serving = _of_server("serving")
    with _plain_errors():
        provider = serving.Provider(issuer, client, client_secret) if issuer else None
        team = serving.ForTeam(host, address, proxy, manager, provider)
        serving.serve(data, say, port, round(memory * 1e9), cluster, team=team)


@cli.command()
def backup(
    to: Annotated[Path, typer.Argument(help="A folder that is not there yet.", metavar="FOLDER")],
    data: Annotated[Path, typer.Option(envvar="MOSSY_DATA", hidden=True)] = Path(".data"),
) -> None:
    """Write all that the server holds to a folder, also while it runs."""
    _keep("backup", data, to)
    say.print(f"All of it is in {to}.", soft_wrap=True, markup=False)


@cli.command()
def restore(
    source: Annotated[Path, typer.Argument(help="What backup wrote.", metavar="FOLDER")],
    data: Annotated[Path, typer.Option(envvar="MOSSY_DATA", hidden=True)] = Path(".data"),
) -> None:
    """Take a backup in, where nothing is yet, and the server does not run."""
    _keep("restore", data, source)
    say.print("All of it is here again.")


def _keep(what: str, data: Path, folder: Path) -> None:
    backups = _of_server("backups")
    try:
        getattr(backups, what)(data, folder)
    except backups.ClusterError as error:
        say.print(str(error), style="red", markup=False, soft_wrap=True)
        raise typer.Exit(1) from None


@cli.command("bring-in")
def bring_in(
    logs: LogFiles,
    app: Annotated[str, typer.Option(help="Its name in addresses, as after ?app= on the pages.")],
    server: Annotated[
        str, typer.Option(envvar="MOSSY_SERVER", help="As https://trail.example.org.")
    ] = f"http://127.0.0.1:{PORT}",
    token: Annotated[
        str,
        typer.Option(
            envvar="MOSSY_TOKEN",
            help="Where people sign in: one of My account.",
            show_default=False,
        ),
    ] = "",
) -> None:
    """Bring files into an app of a server, as one log."""
    if STANDARD in logs:
        raise typer.BadParameter("standard input cannot be brought in; name a file")
    try:
        with say.status("uploading") as status:

            def tell(job: dict[str, Any]) -> None:
                status.update(f"{job['state']}, {job['rows']:,} rows")

            log = Remote(server, token).bring_in(app, logs, tell)
    except RemoteError as error:
        say.print(str(error), style="red", markup=False, soft_wrap=True)
        raise typer.Exit(1) from None
    say.print(f"{log['rows_read']:,} rows, {log['set_aside']:,} of them set aside")


class Only(StrEnum):
    VIEWS = "views"
    MOVES = "moves"


@cli.command("demo-log")
def demo_log(
    out: Annotated[Path, typer.Option(help="Folder to write to.")],
    rows: Annotated[int, typer.Option(help="Rows at the least.", min=1)] = ROWS,
    seed: Annotated[int, typer.Option(help="The same seed gives the same log.")] = 1,
    only: Annotated[Only | None, typer.Option(help="Rows of views alone, or all but them.")] = None,
) -> None:
    """Write a simulated log of Skerry Crossings, and the truth of every step.

    Beside the clean log stands the same one with noise, and what of which kind there is.
    """
    demo = simulate(rows, seed)
    demo = demo.only(only.value) if only else demo
    for path in [*write(demo, out), *write_noisy(demo, out, seed)]:
        say.print(f"{path}  {path.stat().st_size:,} bytes", soft_wrap=True)


@cli.command()
def replay(
    logs: LogFiles,
    out: Annotated[
        Path,
        typer.Option(
            help="File for the steps: .parquet, .csv, .jsonl or .xes; - for standard output."
        ),
    ],
    map_file: MapFile = None,
    mapping: MappingFile = None,
    cluster: Cluster = "",
    shared: Shared = "",
) -> None:
    """Replay logs, and write every step."""
    if out != STANDARD and out.suffix[1:] not in FORMS:
        endings = ", ".join(f".{form}" for form in FORMS)
        raise typer.BadParameter(f"{out} must end in {endings}", param_hint="--out")
    with _plain_errors():
        study = _study(logs, map_file, mapping, cluster, shared)
        if out == STANDARD:
            _pour(study)
        else:
            say.print(f"{write_steps(study, out):,} steps in {out}", soft_wrap=True)


def _pour(study: Study) -> None:
    """The steps as JSON Lines to standard output."""
    with TemporaryDirectory() as folder:
        path = Path(folder) / "steps.jsonl"
        write_steps(study, path)
        with path.open("rb") as file:
            shutil.copyfileobj(file, sys.stdout.buffer)


class UnitName(StrEnum):
    SESSIONS = "sessions"
    USERS = "users"


Asked = StrEnum("Asked", {name: name.replace("start-up", "startup") for name in MEASURES})  # type: ignore[misc]


@cli.command()
def measure(
    name: Annotated[Asked, typer.Argument(help="Which measure.")],
    logs: LogFiles,
    map_file: MapFile = None,
    mapping: MappingFile = None,
    unit: Annotated[UnitName, typer.Option(help="What is counted.")] = UnitName.SESSIONS,
    segment: Annotated[str, typer.Option(help="A segment, as JSON.")] = "",
    by: Annotated[str, typer.Option(help="A property, for each of its values too.")] = "",
    over: Annotated[str, typer.Option(help="day or week: for each of them too.")] = "",
    versus: Annotated[
        str, typer.Option(help="Two of the values, ONE,OTHER: each share's difference.")
    ] = "",
    spec: Annotated[
        Path | None, typer.Option(help="The funnel's file, as JSON.", exists=True, dir_okay=False)
    ] = None,
    goal: Annotated[str, typer.Option(help="A screen to be reached.")] = "",
    slow: Annotated[int, typer.Option(help="Milliseconds from which a start is slow.")] = 0,
    at: Annotated[str, typer.Option(help="Paths: screen, entry, event or exit.")] = "",
    what: Annotated[str, typer.Option(help="Paths: which screen, event, entry or exit.")] = "",
    screen: Annotated[str, typer.Option(help="Paths: only if that is on this screen.")] = "",
    backward: Annotated[bool, typer.Option("--backward", help="Paths: what came before.")] = False,
    deep: Annotated[int, typer.Option(help="Paths: how many nodes further.")] = 0,
    reading: Annotated[str, typer.Option(help="Paths: walked or kept.")] = "",
    nodes: Annotated[str, typer.Option(help="Paths: screen, role or tab.")] = "",
    repeats: Annotated[bool, typer.Option("--repeats", help="Paths: like nodes apart.")] = False,
    whole: Annotated[bool, typer.Option("--whole", help="Paths: ways to their end too.")] = False,
    pattern: Annotated[str, typer.Option(help="Patterns: what is looked for.")] = "",
    as_json: Annotated[bool, typer.Option("--json", help="Figures as JSON.")] = False,
    cluster: Cluster = "",
    shared: Shared = "",
) -> None:
    """Print the figures that the page shows."""
    asked = MEASURES[name.name]
    given: dict[str, Any] = {
        "spec": spec.read_text() if spec else "",
        **{"goal": goal, "slow": slow, "at": at, "what": what, "screen": screen, "deep": deep},
        **{"reading": reading, "nodes": nodes, "repeats": repeats, "whole": whole},
        "pattern": pattern,
        "direction": "backward" if backward else "",
    }
    given = {option: value for option, value in given.items() if value}
    for option in given.keys() - asked.params.model_fields.keys():
        option = option.replace("direction", "backward")
        raise typer.BadParameter(f"{name.value} takes no such option", param_hint=f"--{option}")
    two = versus.split(",", 1) if versus else []
    if versus and (len(two) != 2 or not by):
        raise typer.BadParameter("name two values of a property", param_hint="--versus")
    if over and (by or over not in STRETCHES):
        stretches = " or ".join(STRETCHES)
        raise typer.BadParameter(f"{stretches}, and without --by", param_hint="--over")
    with _plain_errors():
        study = _study(logs, map_file, mapping, cluster, shared)
    if asked.name == "funnel" and not spec:
        document = funnel.onboarding(study.app_map)
        if document is None:
            raise typer.BadParameter("the map names no onboarding funnel", param_hint="--spec")
        given["spec"] = json.dumps(document)
    scope = Scope(unit=unit.value, segment=segment)
    try:
        params = asked.params(**given)
        pair = (two[0], two[1]) if two else None
        figures = measured(study, scope, asked.name, params, by, over, pair).as_dict()
    except (SegmentError, PatternError, ValidationError, KeyError) as error:
        say.print(str(error), style="red", markup=False, soft_wrap=True)
        raise typer.Exit(1) from None
    if as_json or not sys.stdout.isatty():
        typer.echo(json.dumps(figures, indent=2))
        return
    told = [(name.value, figures["whole"])]
    told += [(f"{name.value}, {by or over} {g['value']}", g["figures"]) for g in figures["groups"]]
    for title, own in told:
        for table in tables_of(own, title):
            Console().print(table)


@cli.command()
def find(
    pattern: Annotated[str, typer.Argument(help="What is looked for; see docs/patterns.md.")],
    logs: LogFiles,
    map_file: MapFile = None,
    mapping: MappingFile = None,
    segment: Annotated[str, typer.Option(help="A segment, as JSON.")] = "",
    each: Annotated[bool, typer.Option("--each", help="Every match, as JSON Lines.")] = False,
    cluster: Cluster = "",
    shared: Shared = "",
) -> None:
    """Find the journeys with steps that fit a pattern."""
    with _plain_errors():
        study = _study(logs, map_file, mapping, cluster, shared)
        if each:
            for match in patterns.found_in(study, Scope(segment=segment), pattern):
                typer.echo(json.dumps(match))
            return
        figures = patterns.measure(study, Scope(segment=segment), pattern)
    typer.echo(f"{figures.words}.")
    met = figures.met
    typer.echo(f"{met.count:,} of {met.of:,} journeys, {figures.matches.times:,} matches")
    for one in figures.conditions:
        typer.echo(f"{one.reached.journeys:>9,}  came to: {one.words}")


@cli.command()
def compare(
    logs: LogFiles,
    one: Annotated[str, typer.Option(help="A value of --by, or a segment as JSON.")],
    other: Annotated[str, typer.Option(help="The same; all others if left out.")] = "",
    by: Annotated[str, typer.Option(help="The property of both values.")] = "",
    map_file: MapFile = None,
    mapping: MappingFile = None,
    unit: Annotated[UnitName, typer.Option(help="What is counted.")] = UnitName.SESSIONS,
    as_json: Annotated[bool, typer.Option("--json", help="All figures, as JSON.")] = False,
    cluster: Cluster = "",
    shared: Shared = "",
) -> None:
    """Hold two groups against each other in all figures."""
    with _plain_errors():
        study = _study(logs, map_file, mapping, cluster, shared)
    try:
        found = comparing.compare(study, Scope(unit=unit.value), comparing.Sides(one, other, by))
    except (SegmentError, KeyError) as error:
        say.print(f"There is no such group: {error}", style="red", markup=False, soft_wrap=True)
        raise typer.Exit(1) from None
    if as_json:
        typer.echo(json.dumps(asdict(found), indent=2))
        return
    beyond = [row for row in found.figures if row.beyond]
    typer.echo(f"{len(beyond):,} of {found.looked_at:,} figures differ beyond chance.")
    for row in beyond:
        sides = (pictures.value_words(side, row.timed) for side in (row.one, row.other))
        typer.echo(f"  {' : '.join(sides)}  {row.says}, of {row.of}")


@cli.command()
def findings(
    logs: LogFiles,
    map_file: MapFile = None,
    mapping: MappingFile = None,
    unit: Annotated[UnitName, typer.Option(help="What is counted.")] = UnitName.SESSIONS,
    segment: Annotated[str, typer.Option(help="A segment, as JSON.")] = "",
    as_json: Annotated[bool, typer.Option("--json", help="With all figures, as JSON.")] = False,
    cluster: Cluster = "",
    shared: Shared = "",
) -> None:
    """Tell what stands out in a log."""
    found, _, _ = _found(logs, map_file, mapping, unit, segment, cluster, shared)
    if as_json:
        typer.echo(json.dumps(asdict(found), indent=2))
        return
    for number, one in enumerate(found.found, 1):
        typer.echo(f"{number:>3}. {one.sentence} ({max(round(one.touched), 1):,} users touched)")
    if not found.found:
        typer.echo("Nothing stands out beyond chance.")


@cli.command("report")
def write_report(
    logs: LogFiles,
    out: Annotated[
        Path, typer.Option(help="Where to write it: .html or .md; - for standard output.")
    ],
    map_file: MapFile = None,
    mapping: MappingFile = None,
    unit: Annotated[UnitName, typer.Option(help="What is counted.")] = UnitName.SESSIONS,
    segment: Annotated[str, typer.Option(help="A segment, as JSON.")] = "",
    most: Annotated[int, typer.Option(min=1, help="Findings at the most.")] = 10,
) -> None:
    """Write a report of what stands out in a log."""
    if out != STANDARD and out.suffix not in (".html", ".md"):
        raise typer.BadParameter("name a file that ends in .html or .md", param_hint="--out")
    found, study, scope = _found(logs, map_file, mapping, unit, segment)
    told = report.Report(
        study.app_map.app or "The app",
        f"{datetime.now(UTC):%d %B %Y}",
        report.facts(study, scope),
        [report.item_of(scope, one) for one in found.found[:most]],
    )
    if out == STANDARD:
        typer.echo(report.markdown(told), nl=False)
        return
    with _plain_errors():
        out.write_text(report.html(told) if out.suffix == ".html" else report.markdown(told))
    say.print(f"{len(told.items):,} findings in {out}", soft_wrap=True)


def _found(
    logs: list[Path],
    map_file: Path | None,
    mapping: Path | None,
    unit: UnitName,
    segment: str,
    cluster: str = "",
    shared: str = "",
) -> tuple[Findings, Study, Scope]:
    scope = Scope(unit=unit.value, segment=segment)
    with _plain_errors():
        study = _study(logs, map_file, mapping, cluster, shared)
        return standing_out(study, scope), study, scope


@cli.command()
def health(
    logs: LogFiles,
    map_file: MapFile = None,
    mapping: MappingFile = None,
    as_json: Annotated[bool, typer.Option("--json", help="Figures as JSON.")] = False,
) -> None:
    """Print what became of every row, and what about the rows is odd."""
    with _plain_errors():
        app_map, reading = _map(map_file), _read(logs, mapping)
    study = _replayed(reading, app_map)
    found = {**health_of(study), "fit": fit.told(study)}
    found["set_aside"] = Counter(row.reason for row in reading.set_aside)
    if as_json:
        typer.echo(json.dumps(found, indent=2))
        return
    typer.echo(f"{reading.rows_read:>11,}  rows read")
    typer.echo(_fit_line(found["fit"]))
    for group in ("fates", "set_aside", "findings"):
        typer.echo(group.replace("_", " "))
        for name, count in found[group].items():
            typer.echo(f"{count:>11,}  {name.replace('_', ' ')}")


@cli.command()
def history(
    logs: LogFiles,
    map_file: MapFile = None,
    mapping: MappingFile = None,
    by: Annotated[str, typer.Option(help="A property, to find them for each value too.")] = "",
    as_json: Annotated[bool, typer.Option("--json", help="The fits as JSON.")] = False,
) -> None:
    """Find how the app's back stack behaves: the rules that fit its reported moves best.

    Each line has a rule, its setting, and how many moves land elsewhere under it and the others.
    """
    with _plain_errors():
        study = _study(logs, map_file, mapping)
    found = history_rules.rules(study, by)
    if as_json:
        typer.echo(json.dumps(found, indent=2))
        return
    for value, of_value in found.items():
        typer.echo(f"{by} {value}" if value else f"{of_value['moves']:,} moves reported")
        typer.echo("\n".join(_described(study.app_map, of_value)))


@cli.command("propose-mapping")
def propose_mapping(
    log: Annotated[Path, typer.Argument(help="A log file.", exists=True, dir_okay=False)],
) -> None:
    """Propose how a file is read, as YAML for `--mapping`; doubts and reasons are comments."""
    with _plain_errors():
        seen = preview(look(LogFile(log, str(log))))
    for doubt in seen.proposal.doubts:
        typer.echo(f"# to check: {doubt.about.replace('_', ' ')}: {doubt.says}")
    for field, why in seen.proposal.reasons.items():
        typer.echo(f"# {field}: {why}")
    document = mapping_document(seen.mapping)
    typer.echo(yaml.safe_dump(document, sort_keys=False, allow_unicode=True), nl=False)


@cli.command("draft-map")
def draft_map(logs: LogFiles, mapping: MappingFile = None) -> None:
    """Draft an app map from a log alone, as YAML; each guess is a comment with its reason."""
    with _plain_errors():
        reading = _read(logs, mapping)
    made = draft(split(people(reading.log), 1))
    for guess in made.guesses:
        sure = "" if guess.sure else " (unsure)"
        typer.echo(f"# {guess.where}: {guess.value}{sure}, since {guess.why}")
    typer.echo(yaml.safe_dump(made.document, sort_keys=False, allow_unicode=True), nl=False)


def _fit_line(found: dict[str, Any]) -> str:
    """How well the replay fits, and the change of the map that would mend most."""
    if not found["told"]:
        sure = 100 * found["sure"] / max(found["steps"], 1)
        return f"{sure:>10.1f} %  of {found['steps']:,} steps sure; no row tells a move"
    share = 100 * found["landed"] / found["told"]
    line = f"{share:>10.1f} %  of {found['told']:,} moves landed as predicted"
    for mend in found["mends"][:1]:
        change = f"{mend['kind']} {mend['subject']}: {mend['value']}"
        line += f"; {100 * mend['mended']:.0f} % of the others would with {change}"
    return line


def _described(app_map: AppMap, found: dict[str, Any]) -> list[str]:
    """Lines for a person: each rule's setting, and how many moves do not fit it or the others."""
    lines = []
    for rule, setting in found["history"].items():
        fits = {fit["setting"]: fit["misfits"] for fit in found["fits"] if fit["rule"] == rule}
        others = ", ".join(f"{word} {n:,}" for word, n in fits.items() if word != setting)
        notes = [] if found["told"][rule] else ["the log cannot tell"]
        if app_map.history[rule] != setting:
            notes.append(f"the map says {app_map.history[rule]}")
        note = f"  ({', '.join(notes)})" if notes else ""
        lines.append(f"{rule:>10}  {setting:<13}{fits[setting]:>9,}   {others}{note}")
    lines += [f"{'under':>10}  {under:<13}{pattern}" for pattern, under in found["links"].items()]
    return lines


def _study(
    logs: list[Path],
    map_file: Path | None,
    mapping: Path | None,
    cluster: str = "",
    shared: str = "",
) -> Study:
    app_map = _map(map_file)
    if cluster:
        return _spread(logs, app_map, mapping, cluster, shared)
    reading = _read(logs, mapping)
    _tell_set_aside(reading)
    return _replayed(reading, app_map)


def _tell_set_aside(found: Reading | Spread) -> None:
    if found.set_aside:
        say.print(f"{len(found.set_aside):,} of {found.rows_read:,} rows were set aside.")


def _spread(
    logs: list[Path], app_map: AppMap, mapping: Path | None, cluster: str, shared: str
) -> Study:
    """The study of a cluster, whose files go with it."""
    if STANDARD in logs:
        raise typer.BadParameter("a cluster reads files alone", param_hint="LOGS")
    client = client_of(cluster)
    folder = Folder(shared or gettempdir()).under(f"mossy-{uuid4().hex}")
    told, key = _told(mapping)
    try:
        found = read_spread(
            client, [LogFile(path.resolve(), str(path)) for path in logs], folder, told, key
        )
        _tell_set_aside(found)
        shelf = Shelf(folder.under("replay"), executor_of(client))
        study = Study(found.parts, app_map, shelf=shelf)
    except BaseException:
        folder.remove()
        raise
    finalize(study, folder.remove)
    return study


def _told(mapping: Path | None) -> tuple[Mapping | None, bytes]:
    """How files are said to be read, and the key to hash columns with."""
    if mapping is None:
        return None, b""
    key = installation_key(Path(os.environ.get("MOSSY_DATA", ".data")))
    return parse_mapping(mapping.read_bytes()), key


def _map(map_file: Path | None) -> AppMap:
    return map_of(parse_map(map_file.read_bytes())) if map_file else AppMap.from_dict({})


def _replayed(reading: Reading, app_map: AppMap) -> Study:
    return Study(split(people(reading.log), parts_needed(len(reading.log))), app_map)


def _read(logs: list[Path], mapping: Path | None) -> Reading:
    told, key = _told(mapping)
    with Bar(console=say, transient=True) as bar, ExitStack() as open_:
        files = [
            LogFile(_poured(open_), "standard input")
            if path == STANDARD
            else LogFile(path, str(path))
            for path in logs
        ]
        return read_log(files, lambda _: told, _Shown(bar), key)


def _poured(open_: ExitStack) -> Path:
    """A file of what comes from standard input, while it is read."""
    path = Path(open_.enter_context(TemporaryDirectory())) / "log"
    with path.open("wb") as file:
        shutil.copyfileobj(sys.stdin.buffer, file)
    return path


class _Shown(Watcher):
    """Shows how far a reading is."""

    def __init__(self, bar: Bar) -> None:
        self._bar, self._task = bar, bar.add_task("reading")

    def on_progress(self, progress: Progress) -> None:
        self._bar.update(self._task, completed=progress.bytes_read, total=progress.bytes_total)


def main() -> None:
    try:
        cli()
    except BrokenPipeError:  # whoever read the figures has seen enough
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


if __name__ == "__main__":
    main()
