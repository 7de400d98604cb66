"""Who signs in, and what they may do: accounts, visits, tokens, invitations, roles, deeds."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from sqlalchemy import Engine, delete, func, or_, select
from sqlalchemy.orm import Session

from mossy_trail.store.models import App
from mossy_trail.store.team import (
    ROLES,
    Deed,
    Invitation,
    Membership,
    Person,
    Token,
    Visit,
)
from mossy_trail.team import tries
from mossy_trail.team.secrets import SHORTEST, digest, fits, hashed, new_secret

VISIT = timedelta(days=14)
INVITED = timedelta(days=7)
LONGEST_EMAIL, LONGEST_PASSWORD = 254, 1024


class Refused(Exception):
    """What cannot be done, and what to do instead."""

    def __init__(self, what: str, mend: str = "", status: int = 422) -> None:
        super().__init__(what)
        self.what, self.mend, self.status = what, mend, status


@dataclass(frozen=True)
class Visitor:
    """Who asks, and what they may do with which app."""

    id: int
    email: str
    name: str
    manages_all: bool
    roles: dict[int, str]
    """By the app's id; of a token, at most its own."""
    token: str = ""
    """The name of the token they come by; of a person at a page there is none."""

    @property
    def told(self) -> str:
        """As the list of deeds has it."""
        return f"{self.name} ({self.email})" + (f", by “{self.token}”" if self.token else "")

    def may(self, role: str, app_id: int) -> bool:
        own = self.roles.get(app_id)
        return own is not None and ROLES.index(own) >= ROLES.index(role)


class Team:
    """The people of one database."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine

    def empty(self) -> bool:
        """Whether nobody has an account, or an invitation."""
        with Session(self.engine) as session:
            return session.scalar(select(func.count()).select_from(Person)) == 0

    # --- who it is

    def sign_in(self, email: str, password: str, address: str) -> str:
        """A visit's secret. Raises `TooMany`, and `Refused` where they do not fit each other."""
        email = plain(email)
        tries.begin(self.engine, email, address)
        with Session(self.engine) as session, session.begin():
            person = _of_email(session, email)
            if not fits(password[:LONGEST_PASSWORD], person.password if person else None):
                note(session, None, email, "failed to sign in", "", address)
                session.commit()
                raise Refused("E-mail and password do not fit each other.", "Try again.", 401)
            assert person
            secret = visit(session, person, "signed in", address)
        tries.went_well(self.engine, email, address)
        return secret

    def sign_in_as(self, issuer: str, subject: str, email: str, name: str, address: str) -> str:
        """A visit's secret for whom a provider vouches, who knows this e-mail to be theirs."""
        with Session(self.engine) as session, session.begin():
            known = (Person.issuer == issuer) & (Person.subject == subject)
            person = session.scalar(select(Person).where(known))
            if person is None:
                of_email = select(Person).where(Person.email == plain(email))
                person = session.scalar(of_email.where(Person.subject.is_(None)))
            if person is None:
                note(session, None, plain(email), "was not let in", "has no account", address)
                session.commit()
                raise Refused(
                    f"{email} has no account here.", "Ask someone who manages an app.", 403
                )
            person.issuer, person.subject = issuer, subject
            person.name = person.name or name or email
            session.execute(delete(Invitation).where(Invitation.person_id == person.id))
            return visit(session, person, "signed in by the provider", address)

    def visitor(self, visit_secret: str, token_secret: str) -> Visitor | None:
        """Who comes with this secret of a visit, or else of a token."""
        now = datetime.now(UTC)
        with Session(self.engine) as session:
            if token_secret:
                of_token = Token.secret == digest(token_secret)
                token = session.scalar(select(Token).where(of_token, Token.ends_at > now))
                person = session.get_one(Person, token.person_id) if token else None
                return _visitor(session, person, token) if person else None
            of_visit = Visit.secret == digest(visit_secret)
            query = select(Person).join(Visit).where(of_visit, Visit.ends_at > now)
            person = session.scalar(query)
            return _visitor(session, person) if person else None

    def sign_out(self, visit_secret: str) -> None:
        with Session(self.engine) as session, session.begin():
            session.execute(delete(Visit).where(Visit.secret == digest(visit_secret)))

    def change_password(self, person_id: int, old: str, new: str, address: str) -> str:
        """Every visit of theirs ends; a new one's secret."""
        with Session(self.engine) as session, session.begin():
            person = session.get_one(Person, person_id)
            email, kept = person.email, person.password
        tries.begin(self.engine, email, address)
        if kept is not None and not fits(old[:LONGEST_PASSWORD], kept):
            raise Refused("That is not the password until now.", "Try again.")
        tries.went_well(self.engine, email, address)
        with Session(self.engine) as session, session.begin():
            person = session.get_one(Person, person_id)
            person.password = hashed(_long_enough(new))
            session.execute(delete(Visit).where(Visit.person_id == person_id))
            return visit(session, person, "changed the password", address)

    # --- invitations

    def invite_to_all(self, email: str) -> str:
        """The secret of a link by which someone sets their password, and manages all."""
        with Session(self.engine) as session, session.begin():
            person = _of_email(session, email) or _new_person(session, email)
            person.manages_all = True
            return _invited(session, person)

    def invite(self, email: str, app_id: int, role: str) -> str | None:
        """Let someone do so much with an app; the secret of their link, if they are new here.

        Who was invited before has a link. Another one would make whoever asks for it that person,
        in other apps too, so `link_for` is for those alone who manage all.
        """
        with Session(self.engine) as session, session.begin():
            known = _of_email(session, email)
            person = known or _new_person(session, email)
            session.merge(Membership(person_id=person.id, app_id=app_id, role=role))
            return None if known else _invited(session, person)

    def link_for(self, person_id: int) -> str:
        """The secret of a new link by which someone sets their password."""
        with Session(self.engine) as session, session.begin():
            return _invited(session, session.get_one(Person, person_id))

    def invited(self, secret: str) -> str:
        """Whose e-mail an invitation is for."""
        with Session(self.engine) as session:
            return _invitation(session, secret).email

    def accept(self, secret: str, name: str, password: str, address: str) -> str:
        """Set name and password; the secret of the visit that begins. Visits before it end."""
        with Session(self.engine) as session, session.begin():
            person = _invitation(session, secret)  # before the work of hashing, which anyone asks
            person.password = hashed(_long_enough(password))
            person.name = name.strip() or person.email
            session.execute(delete(Invitation).where(Invitation.person_id == person.id))
            session.execute(delete(Visit).where(Visit.person_id == person.id))
            return visit(session, person, "took the invitation", address)


def plain(email: str) -> str:
    return email.strip().casefold()


def note(session: Session, app_id: int | None, who: str, did: str, what: str, address: str) -> None:
    """Write down what someone did."""
    session.add(Deed(app_id=app_id, who=who, did=did, what=what, address=address))


def visit(session: Session, person: Person, did: str, address: str) -> str:
    """Begin a visit. Its secret is new each time: what a browser held before is worth nothing."""
    now = datetime.now(UTC)
    session.execute(delete(Visit).where(Visit.ends_at < now))
    secret = new_secret("visit")
    session.add(Visit(secret=digest(secret), person_id=person.id, ends_at=now + VISIT))
    note(session, None, f"{person.name} ({person.email})", did, "", address)
    return secret


def _visitor(session: Session, person: Person, token: Token | None = None) -> Visitor:
    if person.manages_all:
        roles = dict.fromkeys(session.scalars(select(App.id)), ROLES[-1])
    else:
        roles = {one.app_id: one.role for one in person.memberships}
    if token:
        most = ROLES.index(token.role)
        roles = {app: ROLES[min(ROLES.index(role), most)] for app, role in roles.items()}
    all_of_it = person.manages_all and (token is None or token.role == ROLES[-1])
    name = token.name if token else ""
    return Visitor(person.id, person.email, person.name, all_of_it, roles, name)


def _of_email(session: Session, email: str) -> Person | None:
    return session.scalar(select(Person).where(Person.email == plain(email)))


def _new_person(session: Session, email: str) -> Person:
    email = plain(email)
    if "@" not in email[1:-1] or len(email) > LONGEST_EMAIL or any(map(str.isspace, email)):
        raise Refused(f"“{email}” is no e-mail address.", "Write it as name@example.org.")
    person = Person(email=email)
    session.add(person)
    session.flush()
    return person


def _invited(session: Session, person: Person) -> str:
    secret = new_secret("invitation")
    ends = datetime.now(UTC) + INVITED
    session.merge(Invitation(person_id=person.id, secret=digest(secret), ends_at=ends))
    return secret


def _invitation(session: Session, secret: str) -> Person:
    fitting = Invitation.secret == digest(secret), Invitation.ends_at > datetime.now(UTC)
    person = session.scalar(select(Person).join(Invitation).where(*fitting))
    if person is None:
        raise Refused("This invitation holds no more.", "Ask whoever sent it for another one.", 404)
    return person


def _long_enough(password: str) -> str:
    if not SHORTEST <= len(password) <= LONGEST_PASSWORD:
        raise Refused(f"A password has at least {SHORTEST} letters.", "A few words will do.")
    return password


def deeds(session: Session, app_id: int, everywhere: bool, most: int) -> list[Deed]:
    """What was done with an app, newest first; and with none, for who manages all."""
    of_app = Deed.app_id == app_id
    chosen = or_(of_app, Deed.app_id.is_(None)) if everywhere else of_app
    return list(session.scalars(select(Deed).where(chosen).order_by(Deed.id.desc()).limit(most)))
