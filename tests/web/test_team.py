"""Who may do what on a server where people sign in, and how it holds against who may not."""

from __future__ import annotations

import math
import re
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from fastapi.testclient import TestClient
from sqlalchemy import Engine, MetaData, select, update
from sqlalchemy.orm import Session

from mossy_trail.store.models import App, Job, StoredLog
from mossy_trail.store.team import Deed, Invitation, Token, Tries, Visit
from mossy_trail.team import tries
from mossy_trail.team.secrets import digest
from mossy_trail.team.team import Team
from mossy_trail.web.app import create_app
from mossy_trail.web.context import new_context
from mossy_trail.web.rules import RULES, rule_of
from mossy_trail.web.signing import Signing
from tests.conftest import until

HOME = "http://localhost:8750"
PASSWORD = "three plain words"
PEOPLE = ("read", "work", "manage", "stranger", "all")


class House:
    """A server with an app, a log of it, and a person for each role."""

    def __init__(self, engine: Engine, folder: Path) -> None:
        self.engine, self.team = engine, Team(engine)
        self.context = new_context(engine, folder)
        self.api = create_app(self.context, Signing(self.team, HOME, b"key"))
        self.who: dict[str, TestClient] = {}
        self.paths: dict[str, str] = {}

    def client(self, address: str = "10.0.0.1", **headers: str) -> TestClient:
        """A browser at our page, or with other headers a script."""
        headers = headers or {"Origin": HOME}
        return TestClient(self.api, HOME, headers=headers, client=(address, 4000))

    def people(self) -> None:
        with Session(self.engine) as session, session.begin():
            session.add_all([App(key="ferry", name="Ferry"), App(key="other", name="Other")])
        self.who["all"] = self.accepted(self.team.invite_to_all("all@example.org"))
        for role in ("read", "work", "manage"):
            self.who[role] = self.accepted(self.invited(f"{role}@example.org", role))
        self.who["stranger"] = self.accepted(
            self.invited("stranger@example.org", "manage", "other")
        )

    def invited(self, email: str, role: str, app: str = "ferry") -> str:
        body = {"email": email, "role": role}
        answer = self.who["all"].post(f"/api/apps/{app}/members", json=body)
        assert answer.status_code == 201, answer.text
        return str(answer.json()["link"].partition("#")[2])

    def accepted(self, secret: str) -> TestClient:
        client = self.client()
        body = {"secret": secret, "name": "Some One", "password": PASSWORD}
        assert client.post("/api/invitations/accept", json=body).status_code == 204
        return client

    def token(self, who: str, role: str) -> TestClient:
        made = self.who[who].post("/api/me/tokens", json={"name": "script", "role": role}).json()
        return self.client(Authorization=f"Bearer {made['secret']}")

    def bring_in(self) -> None:
        """By who may: two rows, so that there is a job and a log."""
        text = b"time,user,event,screen\n1777888800,u,screen_view,A\n1777888805,u,screen_view,B\n"
        body = {"files": [{"name": "a.csv", "bytes": len(text)}]}
        job = self.who["work"].post("/api/apps/ferry/imports", json=body).json()["id"]
        sent = self.who["work"].put(f"/api/jobs/{job}/files/0", content=text)
        assert sent.status_code == 200, sent.text
        path = f"/api/jobs/{job}"
        until(lambda: self.who["work"].get(path).json()["state"] == "done")
        with Session(self.engine) as session:
            log = session.scalars(select(StoredLog.id)).one()
            assert session.get_one(Job, job).log_id == log
        self.paths = {"app": "ferry", "job_id": str(job), "log_id": str(log)}


@pytest.fixture
def house(engine: Engine, tmp_path: Path) -> Iterator[House]:
    house = House(engine, tmp_path)
    with TestClient(house.api):
        house.people()
        yield house


ROLES = ("read", "work", "manage")


def expected(needs: str, who: str) -> int | None:
    """With what the doors refuse; None where they let in."""
    if needs in ("open", "key"):
        return None
    if who == "nobody":
        return 401
    if needs == "by hand":
        return 403 if who == "script" else None
    if needs == "all":
        return None if who in ("all", "script") else 403
    if needs not in ROLES or who in ("all", "script"):
        return None
    if who == "stranger":
        return 404
    return None if ROLES.index(who) >= ROLES.index(needs) else 403


REFUSALS = {
    401: "You are not signed in.",
    403: (
        "A token cannot do this.",
        "Only who manages all apps can do this.",
        "This takes the role",
    ),
    404: "There is no such app.",
}


def test_every_route_has_a_rule_and_holds_everyone_to_it(house: House) -> None:
    """By the description of the whole API, so that what is added later is in it too."""
    house.bring_in()
    house.who |= {"nobody": house.client(), "script": house.token("all", "manage")}
    described = house.client().get("/api/openapi.json").json()["paths"]
    routes = [(m.upper(), path) for path, each in described.items() for m in each]
    assert {f"{method} {path}" for method, path in routes} >= RULES.keys() - {"POST /v1/logs"}
    tried = 0
    for method, path in routes:
        rule = rule_of(method, path)
        assert rule, f"{method} {path} has no rule"
        url = re.sub(r"\{(\w+)\}", lambda part: house.paths.get(part[1], "0"), path)
        for who, client in house.who.items():
            status = expected(rule.needs, who)
            if status is None and (method != "GET" or path.endswith("/events")):
                continue  # who may is let in by other tests, which see to what it does
            answer = client.request(method, url, follow_redirects=False)
            refused = answer.status_code in REFUSALS and answer.json()["title"].startswith(
                REFUSALS[answer.status_code]  # type: ignore[arg-type]
            )
            where = f"{who}: {method} {path}"
            assert (where, answer.status_code if refused else None) == (where, status), answer.text
            tried += 1
    assert tried > 5 * len(routes) / 2
    unknown = house.who["all"].get("/api/apps/ferry/no-such-thing")
    assert (unknown.status_code, house.client().get("/api/no-such-thing").status_code) == (404, 401)


def test_a_role_is_taken_on_and_lost_at_once(house: House) -> None:
    reader, manager = house.who["read"], house.who["manage"]
    members = {one["email"]: one for one in manager.get("/api/apps/ferry/members").json()}
    assert {email: one["role"] for email, one in members.items()} == {
        "all@example.org": "manage",
        **{f"{role}@example.org": role for role in ROLES},
    }
    own = f"/api/apps/ferry/members/{members['read@example.org']['id']}"
    map_path = "/api/apps/ferry/map"
    assert reader.put(map_path, content="mossy_map: 1").status_code == 403
    assert manager.put(own, json={"role": "work"}).json()["role"] == "work"
    assert reader.put(map_path, content="mossy_map: 1").status_code == 200
    assert [app["role"] for app in reader.get("/api/apps").json()] == ["work"]
    assert manager.delete(own).status_code == 204
    assert reader.get("/api/apps").json() == []
    assert reader.get("/api/apps/ferry/members").status_code == 404
    assert manager.delete(own).status_code == 404
    everyone = house.who["all"]
    number = {one["email"]: one["id"] for one in everyone.get("/api/people").json()}
    assert everyone.delete(f"/api/people/{number['all@example.org']}").status_code == 422
    script = house.token("work", "work")
    assert everyone.delete(f"/api/people/{number['work@example.org']}").status_code == 204
    assert (
        house.who["work"].get("/api/apps").status_code,
        script.get("/api/apps").status_code,
    ) == (
        401,
        401,
    )


def test_a_token_does_no_more_than_its_role_and_ends(house: House) -> None:
    script = house.token("work", "read")
    listed = house.who["work"].get("/api/me/tokens").json()
    assert [(one["name"], one["role"]) for one in listed] == [("script", "read")]
    assert script.get("/api/apps").json()[0]["role"] == "read"
    assert script.put("/api/apps/ferry/map", content="mossy_map: 1").status_code == 403
    more = house.token("read", "manage")
    assert more.get("/api/apps").json()[0]["role"] == "read", "no more than its owner"
    own = f"/api/me/tokens/{listed[0]['id']}"
    assert house.who["manage"].delete(own).status_code == 204
    assert script.get("/api/apps").status_code == 200, "nobody ends another's"
    assert house.who["work"].delete(own).status_code == 204
    assert script.get("/api/apps").status_code == 401
    with Session(house.engine) as session, session.begin():
        session.execute(update(Token).values(ends_at=datetime.now(UTC)))
    assert more.get("/api/apps").status_code == 401


def test_what_people_did_is_written_down(house: House) -> None:
    house.bring_in()
    who = house.who
    assert who["read"].get("/api/apps/ferry/steps.csv").status_code == 200
    assert who["work"].put("/api/apps/ferry/map", content="mossy_map: 1").status_code == 200
    assert who["work"].put("/api/apps/ferry/map", content="nonsense").status_code == 422
    erased = who["manage"].delete("/api/apps/ferry/users", params={"user": "u"})
    assert erased.status_code == 200
    deeds = who["manage"].get("/api/apps/ferry/deeds").json()
    told = [(one["who"].partition("(")[2].rstrip(")"), one["did"]) for one in deeds]
    assert told[:3] == [
        ("manage@example.org", "erased a user"),
        ("work@example.org", "changed the map"),
        ("read@example.org", "exported"),
    ]
    assert ("work@example.org", "began to bring in a log", "a.csv") in [
        (email, did, one["what"]) for (email, did), one in zip(told, deeds, strict=True)
    ]
    assert {one["address"] for one in deeds} == {"10.0.0.1"}
    assert not any(one["what"] == "u" for one in deeds), "who was erased is not named again"
    assert "signed in" not in str(deeds)
    assert "took the invitation" in str(who["all"].get("/api/apps/ferry/deeds").json())


def test_what_is_made_bears_its_author(house: House) -> None:
    house.bring_in()
    made = house.who["work"].put(
        "/api/apps/ferry/kept/segment", json={"name": "Mine", "document": {"all": []}}
    )
    assert made.json()["author"] == "Some One", made.text
    assert house.who["read"].get("/api/apps/ferry/kept/segment").json() == [made.json()]
    assert house.who["work"].put("/api/apps/ferry/map", content="mossy_map: 1").status_code == 200
    versions = house.who["read"].get("/api/apps/ferry/map/view").json()["versions"]
    assert [one["author"] for one in versions] == ["Some One"]


def sign_in(client: TestClient, password: str, email: str = "read@example.org") -> int:
    body = {"email": email, "password": password}
    return client.post("/api/sign-in", json=body).status_code


def rest(house: House, more: timedelta = timedelta()) -> None:
    """Let the wait be over, as if time had gone by; or in so much more of it."""
    with Session(house.engine) as session, session.begin():
        session.execute(update(Tries).values(wait_until=datetime.now(UTC) + more))


def most(free: int, begun: float) -> float:
    """So many tries are let through since then: each wait is twice the one before."""
    return free + 1 + math.log2(1 + time.monotonic() - begun)


def test_guessing_is_slowed_however_it_is_done(house: House) -> None:
    begun = time.monotonic()
    with ThreadPoolExecutor(16) as pool:
        clients = [house.client(f"10.0.1.{i}") for i in range(30)]
        found = list(pool.map(lambda client: sign_in(client, "a guess"), clients))
    assert found.count(401) <= most(tries.OF_ACCOUNT, begun), "from many addresses at once"
    assert found.count(401) >= tries.OF_ACCOUNT
    rest(house, timedelta(hours=1))
    refused = house.client().post(
        "/api/sign-in", json={"email": "READ@example.org ", "password": PASSWORD}
    )
    assert refused.status_code == 429
    assert 3000 < int(refused.headers["Retry-After"]) <= 3601
    for _ in range(12):
        rest(house)
        assert sign_in(house.client("10.0.2.1"), "a guess") == 401
        with Session(house.engine) as session:
            one = session.get_one(Tries, "account read@example.org")
            wait = round((one.wait_until - one.tried_at).total_seconds())
        assert wait == min(2 ** (one.failed - tries.OF_ACCOUNT), tries.LONGEST)
    assert wait == tries.LONGEST
    rest(house)
    assert sign_in(house.client(), PASSWORD) == 204
    assert sign_in(house.client(), "a guess") == 401, "it starts anew"
    begun = time.monotonic()
    found = [sign_in(house.client("10.0.3.1"), "a guess", f"p{i}@example.org") for i in range(30)]
    assert tries.OF_ADDRESS <= found.count(401) <= most(tries.OF_ADDRESS, begun), "one address"
    with Session(house.engine) as session, session.begin():
        long_ago = datetime.now(UTC) - tries.FORGOTTEN - timedelta(seconds=1)
        session.execute(update(Tries).values(tried_at=long_ago))
    assert sign_in(house.client("10.0.3.1"), PASSWORD) == 204


def test_whether_an_account_exists_is_not_told(house: House) -> None:
    known = house.client().post(
        "/api/sign-in", json={"email": "read@example.org", "password": "a guess"}
    )
    unknown = house.client().post(
        "/api/sign-in", json={"email": "none@example.org", "password": "a guess"}
    )
    assert (known.status_code, known.json()) == (unknown.status_code, unknown.json())


def test_a_stolen_database_lets_nobody_in(house: House) -> None:
    secrets = [PASSWORD, house.invited("new@example.org", "manage")]
    secrets += [str(client.cookies["mossy"]) for client in house.who.values()]
    script = house.token("manage", "manage")
    secrets.append(script.headers["Authorization"].split()[1])
    tables = MetaData()
    tables.reflect(house.engine)
    with house.engine.connect() as connection:
        stolen = {
            name: [str(tuple(row)) for row in connection.execute(select(table))]
            for name, table in tables.tables.items()
        }
    assert all(stolen[name] for name in ("people", "visits", "tokens", "invitations"))
    text = "".join(row for rows in stolen.values() for row in rows)
    assert not [secret for secret in secrets if secret in text]
    assert all("$argon2id$" in row for row in stolen["people"] if "new@" not in row)
    with Session(house.engine) as session:
        visit, token = session.scalars(select(Visit.secret)).first(), digest(secrets[-1])
        invitation = session.scalars(select(Invitation.secret)).first()
    thief = house.client()
    thief.cookies.set("mossy", str(visit))
    assert thief.get("/api/apps").status_code == 401
    by_token = house.client(Authorization=f"Bearer {token}")
    assert by_token.get("/api/apps").status_code == 401
    look = thief.post("/api/invitations/look", json={"secret": invitation})
    assert look.status_code == 404


def test_a_visit_is_new_at_each_sign_in_and_ends(house: House) -> None:
    browser = house.client()
    browser.cookies.set("mossy", "mossy_visit_chosen_by_another", domain="localhost.local")
    assert sign_in(browser, PASSWORD) == 204
    first = browser.cookies["mossy"]
    assert "chosen" not in first
    assert sign_in(browser, PASSWORD) == 204
    assert browser.cookies["mossy"] != first
    old = house.client()
    old.cookies.set("mossy", first)
    assert old.get("/api/apps").status_code == 401, "the visit before is ended"
    elsewhere = house.who["read"]
    body = {"old": PASSWORD, "new": "four other plain words"}
    assert browser.put("/api/me/password", json={**body, "old": "a guess"}).status_code == 422
    assert browser.put("/api/me/password", json={**body, "new": "short"}).status_code == 422
    assert elsewhere.get("/api/apps").status_code == 200
    assert browser.put("/api/me/password", json=body).status_code == 204
    assert (browser.get("/api/apps").status_code, elsewhere.get("/api/apps").status_code) == (
        200,
        401,
    )
    kept = house.client()
    kept.cookies.set("mossy", browser.cookies["mossy"])
    assert browser.post("/api/sign-out").status_code == 204
    assert "mossy" not in browser.cookies
    assert kept.get("/api/apps").status_code == 401, "a copy of the cookie is worth nothing"
    assert sign_in(browser, body["new"]) == 204
    with Session(house.engine) as session, session.begin():
        session.execute(update(Visit).values(ends_at=datetime.now(UTC)))
    assert browser.get("/api/apps").status_code == 401


def test_the_cookie_is_out_of_reach(house: House) -> None:
    body = {"email": "read@example.org", "password": PASSWORD}
    set_cookie = house.client().post("/api/sign-in", json=body).headers["Set-Cookie"]
    assert {"HttpOnly", "SameSite=lax", "Path=/"} <= set(re.split("; ?", set_cookie))
    api = create_app(house.context, Signing(house.team, "https://trail.example.org", b"key"))
    behind = TestClient(
        api, "https://trail.example.org", headers={"Origin": "https://trail.example.org"}
    )
    set_cookie = behind.post("/api/sign-in", json=body).headers["Set-Cookie"]
    assert set_cookie.startswith("__Host-mossy=")
    assert {"HttpOnly", "SameSite=lax", "Path=/", "Secure"} <= set(re.split("; ?", set_cookie))
    assert "Domain" not in set_cookie
    assert behind.get("/api/apps", headers={"Host": "elsewhere.example"}).status_code == 403


def test_another_site_can_have_a_browser_do_nothing(house: House) -> None:
    """With the cookie that the browser would send along."""
    cookie = {"Cookie": f"mossy={house.who['manage'].cookies['mossy']}"}
    deeds: list[tuple[str, str, Any]] = [
        ("PUT", "/api/apps/ferry/map", None),
        ("POST", "/api/apps/ferry/members", {"email": "eve@example.org", "role": "manage"}),
        ("POST", "/api/sign-out", None),
        ("POST", "/api/sign-in", {"email": "read@example.org", "password": PASSWORD}),
        ("DELETE", "/api/apps/ferry/users?user=u", None),
    ]
    for sent in (
        {"Origin": "https://elsewhere.example"},
        {"Origin": "null"},
        {"Sec-Fetch-Site": "cross-site"},
        {"Sec-Fetch-Site": "same-site"},
        {"Accept": "*/*"},
    ):
        other = house.client(**cookie, **sent)
        for method, path, body in deeds:
            assert other.request(method, path, json=body).status_code == 403, (sent, path)
    with Session(house.engine) as session:
        assert not list(session.scalars(select(Deed).where(Deed.what.contains("eve"))))
    assert house.who["manage"].get("/api/apps").status_code == 200, "still signed in"


def test_an_invitation_is_for_one_person_once(house: House) -> None:
    secret = house.invited("new@example.org", "read")
    guest = house.client()
    assert guest.post("/api/invitations/look", json={"secret": secret}).json() == {
        "email": "new@example.org"
    }
    again = house.who["manage"].post(
        "/api/apps/ferry/members", json={"email": "New@example.org", "role": "work"}
    )
    assert again.json()["link"] is None, "a second link would make its holder that person"
    short = {"secret": secret, "name": "N", "password": "short"}
    assert guest.post("/api/invitations/accept", json=short).status_code == 422
    client = house.accepted(secret)
    assert client.get("/api/apps").json()[0]["role"] == "work"
    assert guest.post("/api/invitations/look", json={"secret": secret}).status_code == 404
    body = {"secret": secret, "name": "E", "password": "eves own long words"}
    assert guest.post("/api/invitations/accept", json=body).status_code == 404
    for wrong in ("nobody", "a b@example.org", "@example.org"):
        refused = house.who["manage"].post(
            "/api/apps/ferry/members", json={"email": wrong, "role": "read"}
        )
        assert refused.status_code == 422, wrong
    late = house.invited("late@example.org", "read")
    with Session(house.engine) as session, session.begin():
        session.execute(update(Invitation).values(ends_at=datetime.now(UTC)))
    assert guest.post("/api/invitations/look", json={"secret": late}).status_code == 404
    lost = next(
        one["id"]
        for one in house.who["all"].get("/api/people").json()
        if one["email"] == "read@example.org"
    )
    link = house.who["all"].post(f"/api/people/{lost}/link").json()["link"]
    assert house.accepted(link.partition("#")[2]).get("/api/me").json()["person"]["email"] == (
        "read@example.org"
    )
    assert house.who["read"].get("/api/apps").status_code == 401, "visits from before end"


def test_strangers_may_send_little(house: House) -> None:
    large = {"email": "read@example.org", "password": "x" * (1 << 17)}
    assert house.client().post("/api/sign-in", json=large).status_code == 413
    chunks: Callable[[], Iterator[bytes]] = lambda: iter([b"{}"])  # noqa: E731
    assert house.client().post("/api/sign-in", content=chunks()).status_code == 413
