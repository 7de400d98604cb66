"""The replay on apps that run on real navigation libraries, which share none of its assumptions.

What "back" reveals is asked of the library itself, by going back on a copy of its state.
"""

from __future__ import annotations

from dataclasses import replace
from itertools import chain

import pytest

from mossy_trail.core.inference.history import find_history
from mossy_trail.core.model.app_map import HISTORY
from mossy_trail.core.model.log import split
from mossy_trail.core.model.scope import Scope
from mossy_trail.engine import fit
from mossy_trail.engine.study import Study
from mossy_trail.intake.app_map_file import map_of
from mossy_trail.intake.reader import read_files
from tests.conformance.walked import BROWSER, PHONES, Walked, share_right, walk_all

TOLD = ("moves-and-views", "answered", "moves", "words")
"""The dialects that tell every move: with views, links answered by moves, without views, and in
the words that libraries and browsers have for them."""


@pytest.fixture(scope="session")
def walked(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Walked]:
    return walk_all(tmp_path_factory.mktemp("conformance"))


@pytest.mark.parametrize("dialect", TOLD)
@pytest.mark.parametrize("app", [*PHONES, BROWSER])
def test_every_step_is_the_librarys_own(app: str, dialect: str, walked: dict[str, Walked]) -> None:
    verdicts = walked[app].verdicts(dialect)
    wrong = [(one.wrong, one.true, one.read) for one in verdicts if one.wrong]
    if (app, dialect) == (BROWSER, "words"):
        # A `popstate` does not say whether it went back or forward. Where the same page lies on
        # both sides it is taken for back, and the step is marked unsure; that and what follows
        # in the session may be wrong.
        assert share_right(verdicts) >= 0.97
        return
    assert len(verdicts) >= 1200
    assert wrong == []


@pytest.mark.parametrize("dialect", ["answered", "moves"])
def test_noise_costs_little_beside_the_rows_lost(dialect: str, walked: dict[str, Walked]) -> None:
    verdicts = list(chain.from_iterable(walked[a].roughened(dialect, 3) for a in walked))
    assert share_right(verdicts) >= 0.97


def test_views_alone_are_mostly_right_and_say_where_they_doubt(walked: dict[str, Walked]) -> None:
    """Of the phones' apps. What a browser's views alone cannot tell is in docs/design.md."""
    verdicts = list(chain.from_iterable(walked[app].verdicts("views") for app in PHONES))
    assert share_right(verdicts) >= 0.88
    misread = sum(bool({"step", "below", "below_params"} & set(one.wrong)) for one in verdicts)
    assert 1 - misread / len(verdicts) >= 0.93
    sure = [one for one in verdicts if one.read and not one.read["unsure"]]
    assert share_right(sure) >= 0.97
    assert len(sure) / len(verdicts) >= 0.6
    links = [one for one in verdicts if one.read and one.read["move"] == "link"]
    assert all(one.read and one.read["link"] for one in links), "no link without its row"


def test_what_is_sure_of_a_browsers_views_is_right(walked: dict[str, Walked]) -> None:
    """Most of it is not: nothing empties its history, so that a step once misread moves all later
    depths."""
    verdicts = walked[BROWSER].verdicts("views")
    assert share_right(verdicts) >= 0.5
    sure = [one for one in verdicts if one.read and not one.read["unsure"]]
    assert len(sure) >= 100
    assert share_right(sure) >= 0.97


@pytest.mark.parametrize("app", [*PHONES, BROWSER])
def test_the_rules_of_each_app_are_found(app: str, walked: dict[str, Walked]) -> None:
    own = walked[app]
    blank = map_of({**own.document, "history": {}, "links": _bare(own.document["links"])})
    found = find_history(own.log("moves"), blank)
    told = [rule for rule in HISTORY if found.told[rule]]
    assert {rule: found.history[rule] for rule in told} == {
        rule: own.app_map.history[rule] for rule in told
    }
    true = {link.pattern: link.under for link in own.app_map.links}
    assert all(true[pattern] in (under, "") for pattern, under in found.links.items())


def _bare(links: list[dict[str, str]]) -> list[dict[str, str]]:
    return [{key: value for key, value in link.items() if key != "under"} for link in links]


def test_what_differs_between_the_apps_is_told_by_their_logs(walked: dict[str, Walked]) -> None:
    def found(app: str, rule: str) -> str:
        blank = replace(walked[app].app_map, history={r: s[0] for r, s in HISTORY.items()})
        history = find_history(walked[app].log("moves"), blank)
        return history.history[rule] if history.told[rule] else "untold"

    assert found("ordered", "root_back") == "bar_order"
    assert found("drawer", "root_back") == "first_tab"
    assert found("afresh", "tabs") == "reset"
    assert found("restored", "restart") == "restore"
    assert found("here", "across") == "here"
    assert found("plain", "across") == "there"
    assert found(BROWSER, "tabs") == "shared"


MISTAKES = {
    "across": ("here", fit.Mend("history", "across", "here"), {"across": "there"}),
    "root_back": ("ordered", fit.Mend("history", "root_back", "bar_order"), {"root_back": "exit"}),
    "tabs": (BROWSER, fit.Mend("history", "tabs", "shared"), {"tabs": "keep"}),
}


@pytest.mark.parametrize("mistake", MISTAKES)
def test_a_wrong_rule_shows_in_the_fit_and_is_named(
    mistake: str, walked: dict[str, Walked]
) -> None:
    app, mend, wrong = MISTAKES[mistake]
    document = {**walked[app].document}
    document["history"] = {**document["history"], **wrong}
    log = walked[app].log("moves")
    study = Study(log, map_of(document))
    before = fit.measure(study, Scope())
    assert before["landed"] < 0.98 * before["told"]
    first = fit.mends(study)[0]
    assert (first.kind, first.subject, first.value) == (mend.kind, mend.subject, mend.value)
    after = fit.measure(Study(log, map_of(fit.mended(document, first))), Scope())
    assert after["landed"] >= 0.99 * after["told"]


def test_wrong_links_tabs_and_names_are_named(walked: dict[str, Walked]) -> None:
    own = walked["plain"]

    def best(document: dict[str, object], dialect: str = "moves") -> tuple[str, str, str]:
        read = read_files([own.folder / f"{dialect}.jsonl"]).log
        mend = fit.mends(Study(split(read, 1), map_of(document)))[0]
        assert mend.landed == mend.told
        return mend.kind, mend.subject, mend.value

    links = [{**link, "under": "alone"} for link in own.document["links"]]
    assert best({**own.document, "links": links}) == ("link", "*", "parents")
    screens = own.document["screens"]
    homeless = [{k: v for k, v in s.items() if k != "tab"} for s in screens[1:2]]
    moved = [screens[0], *homeless, *screens[2:]]
    assert best({**own.document, "screens": moved}) == ("tab", screens[1]["name"], "Sailings")
