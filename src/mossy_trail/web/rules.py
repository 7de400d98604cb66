"""Who may ask what: a rule for every route that does more than read an app."""

from __future__ import annotations

from typing import Literal, NamedTuple

OPEN, KEY, SIGNED_IN, BY_HAND, ALL = "open", "key", "signed in", "by hand", "all"
Needs = Literal["open", "key", "signed in", "by hand", "all", "read", "work", "manage"]
"""Nothing; an app's own key; to be someone; to be someone at a page, with no token; to manage all
apps; or a role in the app that the address is of."""


class Rule(NamedTuple):
    needs: Needs
    did: str = ""
    """What it is called in the list of deeds, if it is to be there."""


_APP, _JOB, _LOG = "/api/apps/{app}", "/api/jobs/{job_id}", "/api/logs/{log_id}"
RULES = {
    "POST /v1/logs": Rule("key"),
    f"POST {_APP}/events": Rule("key"),
    "GET /api/me": Rule("open"),
    "POST /api/sign-in": Rule("open"),
    "GET /api/sign-in/provider": Rule("open"),
    "GET /api/sign-in/provider/back": Rule("open"),
    "POST /api/sign-out": Rule("open"),
    "POST /api/invitations/look": Rule("open"),
    "POST /api/invitations/accept": Rule("open"),
    "PUT /api/me/password": Rule("by hand"),
    "GET /api/me/tokens": Rule("by hand"),
    "POST /api/me/tokens": Rule("by hand", "made a token"),
    "DELETE /api/me/tokens/{number}": Rule("by hand", "ended a token"),
    "GET /api/apps": Rule("signed in"),
    "POST /api/apps": Rule("all", "added an app"),
    "GET /api/faults/{number}": Rule("signed in"),
    "GET /api/people": Rule("all"),
    "POST /api/people/{person_id}/link": Rule("all", "gave a new link to set the password"),
    "DELETE /api/people/{person_id}": Rule("all", "ended an account"),
    f"GET {_APP}/members": Rule("manage"),
    f"POST {_APP}/members": Rule("manage", "let someone in"),
    f"PUT {_APP}/members/{{person_id}}": Rule("manage", "changed a role"),
    f"DELETE {_APP}/members/{{person_id}}": Rule("manage", "let someone go"),
    f"GET {_APP}/deeds": Rule("manage"),
    f"POST {_APP}/ingest-key": Rule("manage", "made a key for events"),
    f"DELETE {_APP}/users": Rule("manage", "erased a user"),
    f"POST {_APP}/imports": Rule("work", "began to bring in a log"),
    f"GET {_APP}/{{what}}.{{form}}": Rule("read", "exported"),
    f"GET {_APP}/report": Rule("read", "exported a report"),
    f"PUT {_APP}/map": Rule("work", "changed the map"),
    f"POST {_APP}/map/versions/{{version}}": Rule("work", "took an earlier map"),
    f"POST {_APP}/map/fit/mends": Rule("work", "mended the map"),
    f"PUT {_APP}/kept/{{kind}}": Rule("work", "kept something of their own"),
    f"PUT {_APP}/kept/{{kind}}/{{number}}/name": Rule("work", "renamed something kept"),
    f"DELETE {_APP}/kept/{{kind}}/{{number}}": Rule("work", "forgot something kept"),
    f"PUT {_APP}/kept-findings": Rule("work", "kept or dismissed a finding"),
    f"PATCH {_APP}/kept-findings/{{number}}": Rule("work", "changed a finding"),
    f"DELETE {_APP}/kept-findings/{{number}}": Rule("work", "forgot a finding"),
    f"PUT {_JOB}/files/{{number}}": Rule("work"),
    f"POST {_JOB}/retry": Rule("work", "tried an import again"),
    f"POST {_JOB}/cancel": Rule("work", "stopped an import"),
    f"DELETE {_JOB}": Rule("work", "took an import off the list"),
    f"PUT {_JOB}/mapping": Rule("work", "chose how a file is read"),
    f"POST {_JOB}/mapping/preview": Rule("work"),
    f"POST {_JOB}/mapping/opened": Rule("work"),
    f"GET {_JOB}/mapping": Rule("work"),
    f"DELETE {_LOG}": Rule("manage", "deleted a log"),
    f"POST {_LOG}/files/{{number}}/read-anew": Rule("work", "had a log read anew"),
    f"GET {_LOG}/set-aside.csv": Rule("read", "exported rows set aside"),
}


def rule_of(method: str, path: str) -> Rule | None:
    """The rule of a route, by its path with names for its parts; None: nobody may."""
    of_an_app = path.startswith((f"{_APP}/", f"{_JOB}/", f"{_LOG}/")) or path in (_APP, _JOB, _LOG)
    reads = Rule("read") if method == "GET" and of_an_app else None
    return RULES.get(f"{method} {path}", reads)
