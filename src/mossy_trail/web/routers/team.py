"""Signing in and out, invitations, one's password and tokens; who has what role, and did what."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from typing import Annotated, Any

from fastapi import APIRouter, Depends, Query, Request, Response
from fastapi.responses import JSONResponse, RedirectResponse
from pydantic import BaseModel, Field
from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from mossy_trail.store.team import ROLES, Membership, Person, Token
from mossy_trail.team.secrets import digest, new_secret
from mossy_trail.team.team import LONGEST_EMAIL, LONGEST_PASSWORD, Refused, Team, Visitor, deeds
from mossy_trail.team.tries import TooMany
from mossy_trail.web.context import Database, TheApp, TheVisitor, milliseconds
from mossy_trail.web.doors import address_of
from mossy_trail.web.problems import Problem, ProblemError
from mossy_trail.web.schemas import Role
from mossy_trail.web.signing import Signing, Unreachable

router = APIRouter(prefix="/api", tags=["team"])

Email = Annotated[str, Field(min_length=3, max_length=LONGEST_EMAIL)]
Password = Annotated[str, Field(max_length=LONGEST_PASSWORD)]
Secret = Annotated[str, Field(max_length=200)]
LONGEST_NAME = 100
_BACK = "/sign-in/provider/back"


class MyselfView(BaseModel):
    name: str
    email: str
    manages_all: bool
    has_password: bool


class MeView(BaseModel):
    signs_in: bool
    """Whether this server has people sign in."""
    provider: bool
    """Whether they can do so at a provider of OpenID Connect."""
    person: MyselfView | None


class SignInBody(BaseModel):
    email: Email
    password: Password


class InvitationBody(BaseModel):
    secret: Secret


class AcceptBody(InvitationBody):
    name: Annotated[str, Field(max_length=LONGEST_NAME)]
    password: Password


class InvitedView(BaseModel):
    email: str


class PasswordBody(BaseModel):
    old: Password
    new: Password


class TokenView(BaseModel):
    id: int
    name: str
    role: Role
    made_at: int
    ends_at: int


class NewToken(BaseModel):
    name: Annotated[str, Field(min_length=1, max_length=LONGEST_NAME)]
    role: Role = "read"
    days: Annotated[int, Field(ge=1, le=366)] = 90


class MadeToken(TokenView):
    secret: str
    """It is told this once."""


class MemberView(BaseModel):
    id: int
    email: str
    name: str
    role: Role
    manages_all: bool
    invited: bool
    """They have not taken their invitation yet."""


class NewMember(BaseModel):
    email: Email
    role: Role


class NewRole(BaseModel):
    role: Role


class LinkView(BaseModel):
    email: str
    link: str | None
    """By which they set their password, told this once; none where they have an account, or a link
    already."""


class PersonView(BaseModel):
    id: int
    email: str
    name: str
    manages_all: bool
    apps: int


class DeedView(BaseModel):
    at: int
    who: str
    did: str
    what: str
    address: str


def get_signing(request: Request) -> Signing:
    signing: Signing | None = request.app.state.signing
    if signing is None:
        raise ProblemError(404, "Nobody signs in here.", "It is one person's own server.")
    return signing


TheSigning = Annotated[Signing, Depends(get_signing)]


def get_team(signing: TheSigning) -> Team:
    return signing.team


TheTeam = Annotated[Team, Depends(get_team)]


def get_signed(visitor: TheVisitor) -> Visitor:
    if visitor is None:
        raise ProblemError(404, "Nobody signs in here.", "It is one person's own server.")
    return visitor


Signed = Annotated[Visitor, Depends(get_signed)]


@contextmanager
def _told() -> Iterator[None]:
    try:
        yield
    except Refused as error:
        raise ProblemError(error.status, error.what, error.mend) from None


@router.get("/me")
def read_me(request: Request, visitor: TheVisitor) -> MeView:
    """Who asks, and how one signs in here."""
    signing: Signing | None = request.app.state.signing
    if signing is None or visitor is None:
        provider = signing is not None and signing.provider is not None
        return MeView(signs_in=signing is not None, provider=provider, person=None)
    with Session(signing.team.engine) as session:
        has_password = session.get_one(Person, visitor.id).password is not None
    person = MyselfView(
        name=visitor.name,
        email=visitor.email,
        manages_all=visitor.manages_all,
        has_password=has_password,
    )
    return MeView(signs_in=True, provider=signing.provider is not None, person=person)


@router.post("/sign-in", status_code=204)
def sign_in(body: SignInBody, request: Request, signing: TheSigning) -> Response:
    """Begin a visit; its secret comes as a cookie. After a few failures each takes longer."""
    _end_former(request, signing)
    try:
        with _told():
            secret = signing.team.sign_in(body.email, body.password, address_of(request.scope))
    except TooMany as error:
        return _too_many(error)
    return _begun(signing, secret)


def _too_many(error: TooMany) -> Response:
    problem = Problem(
        title="There were too many tries.",
        status=429,
        detail=f"The next is let through in {error.seconds} s.",
    )
    return JSONResponse(
        problem.model_dump(exclude_none=True),
        429,
        {"Retry-After": str(error.seconds)},
        "application/problem+json",
    )


def _end_former(request: Request, signing: Signing) -> None:
    if former := request.cookies.get(signing.cookie):
        signing.team.sign_out(former)


def _begun(signing: Signing, secret: str) -> Response:
    response = Response(status_code=204)
    signing.begin(response, secret)
    return response


@router.post("/sign-out", status_code=204)
def sign_out(request: Request, signing: TheSigning) -> Response:
    _end_former(request, signing)
    response = Response(status_code=204)
    signing.end(response)
    return response


@router.get("/sign-in/provider", response_class=RedirectResponse, status_code=302)
async def go_to_provider(request: Request, signing: TheSigning) -> Response:
    """Sign in where the organisation does, by OpenID Connect."""
    if signing.provider is None:
        raise ProblemError(404, "No provider is set.", "Sign in with e-mail and password.")
    try:
        return await signing.provider.way_to(request, f"{signing.address}{router.prefix}{_BACK}")
    except Unreachable:
        return RedirectResponse("/?sign-in=unreachable", 302)


@router.get(_BACK, response_class=RedirectResponse, status_code=302)
async def come_back(request: Request, signing: TheSigning) -> Response:
    """Where the provider sends people back to. They come in if it knows their e-mail to be theirs,
    and this belongs to someone with an account."""
    if signing.provider is None:
        raise ProblemError(404, "No provider is set.", "Sign in with e-mail and password.")
    try:
        claims = await signing.provider.claims(request)
    except Unreachable:
        return RedirectResponse("/?sign-in=failed", 302)
    if not claims.get("email") or claims.get("email_verified") is not True:
        return RedirectResponse("/?sign-in=not-verified", 302)
    try:
        secret = signing.team.sign_in_as(
            claims["iss"],
            claims["sub"],
            claims["email"],
            str(claims.get("name", ""))[:LONGEST_NAME],
            address_of(request.scope),
        )
    except Refused:
        return RedirectResponse("/?sign-in=no-account", 302)
    _end_former(request, signing)
    response = RedirectResponse("/", 302)
    signing.begin(response, secret)
    return response


@router.post("/invitations/look")
def look_at_invitation(body: InvitationBody, team: TheTeam) -> InvitedView:
    """Whom an invitation is for."""
    with _told():
        return InvitedView(email=team.invited(body.secret))


@router.post("/invitations/accept", status_code=204)
def accept_invitation(body: AcceptBody, request: Request, signing: TheSigning) -> Response:
    """Set name and password, and begin a visit."""
    with _told():
        address = address_of(request.scope)
        secret = signing.team.accept(body.secret, body.name, body.password, address)
    return _begun(signing, secret)


@router.put("/me/password", status_code=204)
def change_password(
    body: PasswordBody, request: Request, me: Signed, signing: TheSigning
) -> Response:
    """Every visit ends but this one, which goes on under a new secret."""
    try:
        with _told():
            address = address_of(request.scope)
            secret = signing.team.change_password(me.id, body.old, body.new, address)
    except TooMany as error:
        return _too_many(error)
    return _begun(signing, secret)


@router.get("/me/tokens")
def list_tokens(me: Signed, session: Database) -> list[TokenView]:
    return [_token_view(one) for one in session.scalars(_tokens(me))]


@router.post("/me/tokens", status_code=201)
def make_token(new: NewToken, me: Signed, request: Request, session: Database) -> MadeToken:
    """A token for scripts. It is told this once; what is kept of it is a hash."""
    secret = new_secret("token")
    ends = datetime.now(UTC) + timedelta(days=new.days)
    token = Token(
        secret=digest(secret), person_id=me.id, name=new.name, role=new.role, ends_at=ends
    )
    session.add(token)
    session.flush()
    request.state.what = f"{new.name}: {new.role}"
    return MadeToken(secret=secret, **_token_view(token).model_dump())


@router.delete("/me/tokens/{number}", status_code=204)
def end_token(number: int, me: Signed, session: Database) -> None:
    session.execute(delete(Token).where(Token.id == number, Token.person_id == me.id))


@router.get("/apps/{app}/members")
def list_members(app: TheApp, session: Database) -> list[MemberView]:
    """Who may do what with an app; those who manage all first."""
    joined = select(Person, Membership.role).outerjoin(
        Membership, (Membership.person_id == Person.id) & (Membership.app_id == app.id)
    )
    query = joined.where(Person.manages_all | Membership.role.is_not(None))
    rows = session.execute(query.order_by(Person.manages_all.desc(), Person.email))
    return [_member_view(person, role) for person, role in rows]


@router.post("/apps/{app}/members", status_code=201)
def add_member(app: TheApp, new: NewMember, request: Request, signing: TheSigning) -> LinkView:
    """Give someone a role; whoever has no account yet gets a link to make one."""
    with _told():
        secret = signing.team.invite(new.email, app.id, new.role)
    request.state.what = f"{new.email}: {new.role}"
    return LinkView(email=new.email, link=signing.link(secret) if secret else None)


@router.put("/apps/{app}/members/{person_id}")
def change_role(
    app: TheApp, person_id: int, new: NewRole, request: Request, session: Database
) -> MemberView:
    person, membership = _member(session, app.id, person_id)
    membership.role = new.role
    request.state.what = f"{person.email}: {new.role}"
    return _member_view(person, new.role)


@router.delete("/apps/{app}/members/{person_id}", status_code=204)
def remove_member(app: TheApp, person_id: int, request: Request, session: Database) -> None:
    """They may do nothing more with this app; what they made stays."""
    person, membership = _member(session, app.id, person_id)
    session.delete(membership)
    request.state.what = person.email


@router.get("/apps/{app}/deeds")
def list_deeds(
    app: TheApp,
    me: Signed,
    session: Database,
    most: Annotated[int, Query(ge=1, le=1000)] = 200,
) -> list[DeedView]:
    """What people did with an app, newest first; for who manages all also who signed in."""
    return [
        DeedView(
            at=milliseconds(one.at),
            who=one.who,
            did=one.did,
            what=one.what,
            address=one.address,
        )
        for one in deeds(session, app.id, me.manages_all, most)
    ]


@router.get("/people")
def list_people(session: Database) -> list[PersonView]:
    """All accounts and invitations."""
    return [
        PersonView(
            id=one.id,
            email=one.email,
            name=one.name,
            manages_all=one.manages_all,
            apps=len(one.memberships),
        )
        for one in session.scalars(select(Person).order_by(Person.email))
    ]


@router.post("/people/{person_id}/link", status_code=201)
def give_link(person_id: int, request: Request, signing: TheSigning, session: Database) -> LinkView:
    """A new link by which someone sets their password, who has lost it or the link before."""
    person = _person(session, person_id)
    request.state.what = person.email
    return LinkView(email=person.email, link=signing.link(signing.team.link_for(person.id)))


@router.delete("/people/{person_id}", status_code=204)
def end_account(person_id: int, me: Signed, request: Request, session: Database) -> None:
    """Sign-ins and tokens end at once; what they made and did stays, under their name."""
    if person_id == me.id:
        raise ProblemError(422, "That is your own account.", "Have someone else end it.")
    person = _person(session, person_id)
    request.state.what = person.email
    session.delete(person)


def _tokens(me: Visitor) -> Any:
    alive = Token.ends_at > datetime.now(UTC)
    return select(Token).where(Token.person_id == me.id, alive).order_by(Token.id)


def _token_view(one: Token) -> TokenView:
    made = one.made_at or datetime.now(UTC)
    return TokenView(
        id=one.id,
        name=one.name,
        role=one.role,
        made_at=milliseconds(made),
        ends_at=milliseconds(one.ends_at),
    )


def _member_view(person: Person, role: str | None) -> MemberView:
    return MemberView(
        id=person.id,
        email=person.email,
        name=person.name,
        role=ROLES[-1] if person.manages_all else role,
        manages_all=person.manages_all,
        invited=not (person.password or person.subject),
    )


def _member(session: Session, app_id: int, person_id: int) -> tuple[Person, Membership]:
    membership = session.get(Membership, (person_id, app_id)) if person_id < 1 << 31 else None
    if membership is None:
        raise ProblemError(404, "They have no role of their own here.", "Look at the list.")
    return session.get_one(Person, person_id), membership


def _person(session: Session, person_id: int) -> Person:
    person = session.get(Person, person_id) if 0 < person_id < 1 << 31 else None
    if person is None:
        raise ProblemError(404, "There is no such account.", "Look at the list.")
    return person
