"""Figures of small logs, counted by hand from what the words on the page say."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from mossy_trail.core.model.log import DAY
from mossy_trail.core.model.scope import Scope
from mossy_trail.engine import dropoffs, gates, journeys, loops, patterns, tabs
from mossy_trail.engine.celled import figure_of
from mossy_trail.engine.measures import behind, measured
from mossy_trail.engine.scoped import scope_mask
from mossy_trail.engine.trend import trend
from tests.engine.written import READ_AT, study


def by_name(found: list[Any]) -> dict[str, Any]:
    return {one.name: one for one in found}


def test_how_long_the_last_visit_of_a_tab_was_is_not_known() -> None:
    """Ten seconds in Home; of the visit of Lists nobody knows when it ended."""
    found = study("ann: 0 view Home; 10 switch_tab tab=Lists screen=List; 10 view List")
    used = by_name(tabs.measure(found, Scope()).tabs)
    assert used["Home"].dwell.median == 10_000
    assert used["Lists"].dwell is None


def test_a_flip_is_quick_by_the_clock() -> None:
    """Nine minutes in the background are no quick look into another tab."""
    walk = (
        "0 view Home; 20 switch_tab tab=Lists screen=List; {}; {} switch_tab tab=Home screen=Home"
    )
    quick = study("ann: " + walk.format("21 view List", 25))
    away = study("ann: " + walk.format("22 app_background; 562 app_foreground", 565))
    assert [way.count.times for way in tabs.measure(quick, Scope()).flips] == [1]
    assert tabs.measure(away, Scope()).flips == []


def test_chosen_again_is_of_the_tab_that_was_selected() -> None:
    """A first choice that a gate answered is none; the second one of Home is."""
    gated = "0 view Home; 5 switch_tab tab=Lists screen=List; 5 redirect from=List screen=SignIn"
    found = study(
        f"ann: {gated}; 6 view SignIn", "bo: 0 view Home; 5 switch_tab tab=Home screen=Home"
    )
    used = by_name(tabs.measure(found, Scope()).tabs)
    assert (used["Lists"].again.times, used["Home"].again.times) == (0, 1)


def test_a_return_that_shows_nothing_is_none_to_the_screen_of_the_session_before() -> None:
    """Ann came back an hour later and saw nothing; Bo came back to Home, and left it in 2 s."""
    found = study(
        "ann: 0 view Home; 5 app_background",
        "ann: 4000 app_foreground; 4001 app_background",
        "bo: 0 view Home; 5 app_background; 60 app_foreground; 62 app_background",
    )
    told = patterns.measure(found, Scope(), "[after_return<3s] $")
    assert (told.in_scope, told.matches.journeys, told.matches.users) == (3, 1, 1)


LATER = "zoe: 90000 view Home"
"""The log does not end with what was asked of."""
GATED = "0 view Home; 5 push screen=Item; 5 redirect from=Item screen=SignIn; 6 view SignIn; "


def test_a_gate_is_passed_by_signing_up_too() -> None:
    up = GATED + "9 push screen=SignUp; 9 view SignUp; 30 sign_up outcome=ok; 31 view Item"
    (cause,) = [one for one in gates.measure(study(f"ann: {up}"), Scope()).causes if one.gates]
    assert {word: share.count for word, share in cause.outcomes.items()} == {
        "lost": 0,
        "in": 0,
        "reached": 1,
    }


def test_tries_needed_are_those_up_to_the_first_that_went_well() -> None:
    tries = "7 sign_in outcome=failed; 8 sign_in outcome=ok; 9 sign_out; 20 sign_in outcome=failed"
    found = gates.measure(study(f"ann: {GATED}{tries}"), Scope())
    assert (found.needed, found.tries, found.failed.count) == ([0, 1, 0, 0, 0], 3, 2)


def test_a_journey_comes_by_a_link_if_a_link_is_how_it_began() -> None:
    found = study(
        "ann: 0 app_start; 1 view Splash; 2 open_link uri=x://item/1; 3 view Item",
        "bo: 0 app_start; 1 view Splash; 2 view Home; 9 open_link uri=x://item/1; 9 view Item",
    )
    by_link = study_users(found, journeys.Wanted(start="link"))
    assert by_link == {"ann"}


def study_users(found: Any, wanted: journeys.Wanted) -> set[str]:
    mask = journeys.matching(found, np.ones(len(found.index.start), bool), wanted)
    return {found.terms["user"][user] for user in found.index.user[mask]}


def test_in_a_loop_is_what_loops_says() -> None:
    """Both end back and forth between two screens; one of them after a last look elsewhere."""
    looks = "; ".join(f"{5 * i} view {'Detail' if i % 2 else 'Home'}" for i in range(6))
    on = "60 switch_tab screen=List tab=Lists; 61 view List"
    found = study(f"ann: {looks}", f"bo: {looks}; {on}", LATER)
    ended = sum(loop.ended.times for loop in loops.measure(found, Scope()).loops)
    in_a_loop = sum(
        one.why["loop"].times
        for one in dropoffs.measure(found, Scope()).screens
        if "loop" in one.why
    )
    assert (ended, in_a_loop) == (1, 1)


@pytest.mark.parametrize("starts_anew", [False, True])
def test_starting_the_app_anew_is_no_way_out_of_a_screen(starts_anew: bool) -> None:
    stuck = "0 view Home; 5 push screen=Detail; 5 view Detail"
    again = "; 90 app_start; 91 view Splash; 92 view Home" if starts_anew else ""
    found = study(*(f"u{i}: {stuck}{again if i % 2 else ''}" for i in range(30)), LATER)
    detail = by_name(loops.measure(found, Scope()).screens)["Detail"]
    assert detail.dead_end.times == (15 if starts_anew else 30)


def test_journeys_of_odd_clocks_are_in_no_dates_but_stand_by_themselves() -> None:
    """The default, a range of all days, and the odd ones add up to what there is."""
    unset = -1_777_888_800 + 60  # a minute into 1970
    found = study("ann: 0 view Home", f"bo: {unset} view Home", f"cy: {40 * 365 * 86400} view Home")
    odd, default = Scope(odd_clocks=True), Scope()
    dated = Scope(since=READ_AT - 60 * DAY, before=READ_AT)
    users = [
        sorted(found.terms["user"][u] for u in found.index.user[scope_mask(found, scope)])
        for scope in (default, dated, odd)
    ]
    assert users == [["ann"], ["ann"], ["bo", "cy"]]


def test_ten_users_who_signed_in_are_ten_by_every_way_of_counting() -> None:
    """Nothing but a row of each that says so."""
    found = study(
        *(f"u{i} platform={'ios' if i % 2 else 'android'}: 0 sign_in outcome=ok" for i in range(10))
    )
    for unit in ("sessions", "users"):
        told = measured(found, Scope(unit=unit), "sign-in", by="platform")  # type: ignore[arg-type]
        groups = {group.value: group.figures.stages[-1].count for group in told.groups}
        assert (told.whole.stages[-1].count, groups) == (10, {"android": 5, "ios": 5})
        assert behind(found, Scope(unit=unit), "sign-in", "in").sum() == 10  # type: ignore[arg-type]


def test_by_property_counts_users_of_users() -> None:
    """Three sessions of one user, one of another: one user of each, not three of four."""
    found = study(
        "ann platform=ios: 0 view Home; 5 push screen=Detail; 5 view Detail",
        "ann platform=ios: 4000 view Home",
        "ann platform=android: 8000 view Home; 8005 push screen=Detail; 8005 view Detail",
        "bo platform=ios: 0 view Home",
    )
    users = Scope(unit="users")
    figure = figure_of(("visits", "Detail"))
    told = trend(found, users, "loops", figure, "platform")
    assert [(p.value, p.figure and (p.figure.count, p.figure.of)) for p in told.points] == [
        ("ios", (1, 2))
    ]
