"""App maps: what is resolved by them, and what is wrong with them."""

from __future__ import annotations

import pytest

from mossy_trail.core.model.app_map import AppMap, resolve
from mossy_trail.intake.app_map_file import map_of, parse_map
from mossy_trail.intake.errors import UnusableMap


def test_names_aliases_and_links(app_map: AppMap) -> None:
    uris = ["skerry://pass/buy", "skerry://pass/7", "skerry://pass/7/x", "Skerry://pass/7"]
    places = resolve(app_map, terms(["SailingDetail", "Nowhere"], ["Passes", "web"], uris))
    known = [places.names[s] if s >= 0 else None for s in places.link_target]
    assert known == ["BuyPass", "PassDetail", None, None]
    assert list(places.tab_of_word) == [1, -1]
    assert [places.names[s] for s in places.of_name] == ["SailingDetail", "Nowhere"]
    assert list(places.unknown[places.of_name]) == [False, True]
    aliased = AppMap.from_dict({"screens": [{"name": "A", "aliases": ["a"]}]})
    assert list(resolve(aliased, terms(["a", "A", "b"])).of_name) == [0, 0, 1]


def test_a_name_that_fits_a_route_is_its_screen_with_params() -> None:
    trip, new = {"name": "Trip", "routes": ["/trip/{id}", "/{day}/{id}"]}, {"name": "New"}
    app_map = AppMap.from_dict({"screens": [trip, {**new, "routes": ["/trip/new"]}]})
    logged = ["/trip/7", "/trip/new", "/trip/8/x", "/may/7", "Trip", "/trip/8?x=1"]
    places = resolve(app_map, terms(logged) | {"params": ['{"a": 1}', '{"id": "7"}']})
    assert [places.names[s] for s in places.of_name] == [
        *("Trip", "New", "/trip/8/x", "Trip", "Trip", "/trip/8?x=1"),
    ]
    found = [places.params[p] if p >= 0 else None for p in places.params_of_name]
    assert found == ['{"id": "7"}', None, None, '{"day": "may", "id": "7"}', None, None]
    assert places.params_of_name[0] == 1, "the log has these params already"


def terms(
    screens: list[str], words: list[str] | None = None, uris: list[str] | None = None
) -> dict[str, list[str]]:
    return {"screen": screens, "word": words or [], "uri": uris or [], "params": []}


@pytest.mark.parametrize(
    ("text", "where"),
    [
        ("mossy_map: 1\nscreens: [{name: A}, {name: A}]", "screens.1"),
        ("mossy_map: 1\nscreens: [{name: A, role: hero}]", "screens.0.role"),
        ("mossy_map: 1\nscreens: [{name: A, tab: T}]", "screens.0.tab"),
        ("mossy_map: 1\ntabs: [{name: T, root: A}]", "tabs.0.root"),
        ("mossy_map: 1\ntabs: [{name: T}]", "tabs.0"),
        ("mossy_map: 1\nlinks: [{pattern: 'x', screen: A}]", "links.0.screen"),
        ("mossy_map: 1\nhistory: {tabs: glued}", "history.tabs"),
        ("mossy_map: 2", "mossy_map"),
        ("screens: []", "the top"),
        ("- 1", "the top"),
        ("mossy_map: 1\nscreens: [", "Line 2"),
        ("!!python/object/apply:os.system [id]", "Line 1"),
        ("\0", "neither YAML"),
    ],
)
def test_a_map_that_cannot_be_used_says_where(text: str, where: str) -> None:
    with pytest.raises(UnusableMap, match=where):
        map_of(parse_map(text))
